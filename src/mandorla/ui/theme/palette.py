"""Colours, fonts and the style sheet of both themes."""

from __future__ import annotations

from dataclasses import dataclass
from importlib import resources

from PySide6.QtGui import QColor, QFont, QFontDatabase

from mandorla.core.failure.state import State

FAMILY = "Inter"


@dataclass(frozen=True, slots=True)
class Theme:
    """One complete theme; all colours as #rrggbb."""

    name: str
    paper: str
    panel: str
    raised: str
    ink: str
    soft: str
    line: str
    accent: str
    accent_ink: str
    accent_soft: str
    holds: str
    marginal: str
    fails: str
    unknown: str
    need: str
    stand: str
    almond: str
    curves: tuple[str, ...]

    def color(self, name: str, alpha: float = 1.0) -> QColor:
        """A named colour with an opacity."""
        color = QColor(getattr(self, name))
        color.setAlphaF(alpha)
        return color

    def state_color(self, state: State) -> QColor:
        """The colour of a verdict."""
        names = {State.HOLDS: "holds", State.MARGINAL: "marginal", State.FAILS: "fails", State.NOT_COMPUTED: "unknown"}
        return QColor(getattr(self, names[state]))


LIGHT = Theme(
    name="light", paper="#efeae0", panel="#faf7f1", raised="#ffffff", ink="#1f2629", soft="#4b5558", line="#cfc7b8",
    accent="#1d5a58", accent_ink="#ffffff", accent_soft="#d5e4e0", holds="#1b734f", marginal="#8f5a08", fails="#b0302a",
    unknown="#7a8286", need="#7b3f86", stand="#1f6f96", almond="#d79a3d",
    curves=("#b0402a", "#1d5a58", "#6a4c93", "#8a6a1f", "#3d6fa5", "#5a6266"),
)  # fmt: skip
DARK = Theme(
    name="dark", paper="#14191b", panel="#1c2326", raised="#263034", ink="#ece8df", soft="#acb6b9", line="#3b474b",
    accent="#7fcdbf", accent_ink="#10201f", accent_soft="#24403d", holds="#5fcf9c", marginal="#e5b156", fails="#f0857b",
    unknown="#8e999d", need="#c792d3", stand="#6cb8dd", almond="#e8b765",
    curves=("#f08a6c", "#7fcdbf", "#b79be0", "#dcbf6a", "#86b5e6", "#aab3b6"),
)  # fmt: skip


def load_fonts() -> None:
    """Register the shipped font, so that text shows on machines without any."""
    folder = resources.files("mandorla.data").joinpath("fonts")
    for name in ("Inter-Regular.ttf", "Inter-SemiBold.ttf"):
        QFontDatabase.addApplicationFontFromData(folder.joinpath(name).read_bytes())


def font(size: float = 10.0, *, strong: bool = False) -> QFont:
    """The shipped font with tabular figures."""
    f = QFont(FAMILY)
    f.setPointSizeF(size)
    f.setWeight(QFont.Weight.DemiBold if strong else QFont.Weight.Normal)
    f.setFeature(QFont.Tag("tnum"), 1)
    return f


def style_sheet(t: Theme) -> str:
    """The application's style sheet for a theme."""
    return f"""
    QWidget {{ background: {t.paper}; color: {t.ink}; }}
    QLabel, QCheckBox {{ background: transparent; }}
    QToolTip {{ background: {t.raised}; color: {t.ink}; border: 1px solid {t.line}; padding: 4px; }}
    QFrame#panel {{ background: {t.panel}; border: 1px solid {t.line}; border-radius: 10px; }}
    QFrame#panel QWidget {{ background: transparent; }}
    QLabel#soft {{ color: {t.soft}; }}
    QLabel#heading {{ color: {t.soft}; }}
    QPushButton, QToolButton {{ background: {t.raised}; border: 1px solid {t.line}; border-radius: 7px;
        padding: 5px 11px; color: {t.ink}; }}
    QFrame#panel QPushButton, QFrame#panel QToolButton {{ background: {t.raised}; }}
    QPushButton:hover, QToolButton:hover {{ border-color: {t.accent}; }}
    QPushButton:pressed, QToolButton:pressed {{ background: {t.accent_soft}; }}
    QPushButton:checked, QFrame#panel QPushButton:checked {{ background: {t.accent_soft}; border-color: {t.accent}; }}
    QPushButton:disabled, QToolButton:disabled {{ color: {t.unknown}; }}
    QPushButton:focus, QToolButton:focus {{ border: 2px solid {t.accent}; padding: 4px 10px; }}
    QPushButton#primary, QFrame#panel QPushButton#primary {{ background: {t.accent}; color: {t.accent_ink};
        border-color: {t.accent}; }}
    QPushButton#primary:disabled, QFrame#panel QPushButton#primary:disabled {{ background: {t.line}; color: {t.soft};
        border-color: {t.line}; }}
    QToolButton::menu-indicator {{ image: none; }}
    QLineEdit, QComboBox, QDateEdit, QSpinBox, QFrame#panel QLineEdit, QFrame#panel QComboBox, QFrame#panel QDateEdit,
    QFrame#panel QSpinBox {{
        background: {t.raised}; border: 1px solid {t.line}; border-radius: 6px; padding: 3px 7px; color: {t.ink};
        selection-background-color: {t.accent}; selection-color: {t.accent_ink}; }}
    QLineEdit[plain="true"] {{ background: transparent; border-color: transparent; padding: 3px 4px; }}
    QLineEdit[plain="true"]:hover {{ border-color: {t.line}; }}
    QLineEdit:focus, QComboBox:focus {{ border: 1px solid {t.accent}; }}
    QLineEdit[refused="true"], QFrame#panel QLineEdit[refused="true"] {{ border: 2px solid {t.fails}; }}
    QLineEdit:disabled, QComboBox:disabled {{ color: {t.unknown}; }}
    QSpinBox::up-button, QSpinBox::down-button {{ width: 0; border: none; }}
    QComboBox::drop-down, QDateEdit::drop-down {{ border: none; width: 20px; }}
    QComboBox::down-arrow, QDateEdit::down-arrow {{ image: none; width: 0; height: 0; border-left: 4px solid {t.raised};
        border-right: 4px solid {t.raised}; border-top: 5px solid {t.soft}; margin-right: 6px; }}
    QComboBox QAbstractItemView, QMenu {{ background: {t.raised}; color: {t.ink}; border: 1px solid {t.line};
        selection-background-color: {t.accent_soft}; selection-color: {t.ink}; }}
    QMenu::item {{ padding: 5px 22px; }}
    QMenu::item:selected {{ background: {t.accent_soft}; }}
    QMenu::item:disabled {{ color: {t.unknown}; }}
    QTabBar::tab {{ background: transparent; color: {t.soft}; padding: 5px 10px; border-bottom: 2px solid transparent; }}
    QTabBar::tab:selected {{ color: {t.ink}; border-bottom: 2px solid {t.accent}; }}
    QTabBar::tab:focus {{ color: {t.accent}; }}
    QTabBar QToolButton {{ padding: 0; border-radius: 4px; }}
    QTabBar QToolButton::left-arrow, QTabBar QToolButton::right-arrow {{ image: none; width: 0; height: 0;
        border-top: 4px solid {t.raised}; border-bottom: 4px solid {t.raised}; }}
    QTabBar QToolButton::left-arrow {{ border-right: 6px solid {t.ink}; }}
    QTabBar QToolButton::right-arrow {{ border-left: 6px solid {t.ink}; }}
    QTabBar QToolButton::left-arrow:disabled {{ border-right-color: {t.unknown}; }}
    QTabBar QToolButton::right-arrow:disabled {{ border-left-color: {t.unknown}; }}
    QTabWidget::pane {{ border: none; }}
    QScrollArea {{ border: none; background: transparent; }}
    QScrollBar:vertical {{ background: transparent; width: 9px; margin: 0; }}
    QScrollBar::handle:vertical {{ background: {t.line}; border-radius: 4px; min-height: 24px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; width: 0; }}
    QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
    QListWidget, QTableWidget, QFrame#panel QListWidget, QFrame#panel QTableWidget {{ background: {t.raised}; color: {t.ink};
        border: 1px solid {t.line}; border-radius: 6px; gridline-color: {t.line}; }}
    QListWidget::item {{ padding: 4px 8px; }}
    QListWidget::item:selected, QTableWidget::item:selected {{ background: {t.accent_soft}; color: {t.ink}; }}
    QHeaderView::section, QFrame#panel QHeaderView::section {{ background: {t.panel}; color: {t.soft}; border: none;
        border-bottom: 1px solid {t.line}; padding: 3px 6px; }}
    QTableWidget QTableCornerButton::section {{ background: {t.panel}; border: none; }}
    QScrollBar:horizontal {{ background: transparent; height: 9px; margin: 0; }}
    QScrollBar::handle:horizontal {{ background: {t.line}; border-radius: 4px; min-width: 24px; }}
    QSlider::groove:horizontal {{ height: 4px; background: {t.line}; border-radius: 2px; }}
    QSlider::handle:horizontal {{ background: {t.accent}; width: 16px; margin: -6px 0; border-radius: 8px; }}
    QProgressBar {{ background: {t.line}; border: none; border-radius: 3px; max-height: 6px; }}
    QProgressBar::chunk {{ background: {t.accent}; border-radius: 3px; }}
    QCheckBox::indicator {{ width: 15px; height: 15px; border: 1px solid {t.soft}; border-radius: 4px;
        background: {t.raised}; }}
    QCheckBox::indicator:checked {{ background: {t.accent}; border-color: {t.accent}; }}
    """
