"""What can be read and reached by everybody: contrast of both themes, names of all controls, nothing that only colour says."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from itertools import product
from pathlib import Path

import pytest
from PySide6.QtGui import QColor
from PySide6.QtWidgets import (
    QAbstractButton,
    QComboBox,
    QLineEdit,
    QListWidget,
    QSlider,
    QTableWidget,
    QTextBrowser,
    QWidget,
)

from mandorla import ui
from mandorla.core.failure.state import State
from mandorla.ui.decimal_sign import use_comma
from mandorla.ui.preferences import Preferences
from mandorla.ui.stages.registry import STAGES
from mandorla.ui.theme.palette import DARK, LIGHT, Theme, style_sheet
from mandorla.ui.widgets.state_mark import WORDS
from tests.core.bundles import small_bundle
from tests.ui.conftest import Hands
from tests.ui.seen import with_commas, with_points

pytestmark = pytest.mark.gui
BEHIND = ("paper", "panel", "raised")
TEXT = ("ink", "soft", "accent", "holds", "marginal", "fails", "need", "stand")  # what words are written in
ON_ACCENT = (("accent_ink", "accent"), ("ink", "accent_soft"), ("soft", "line"))
SHAPES = ("unknown", "almond")  # marks and areas, no words


def luminance(color: str) -> float:
    """Relative luminance of WCAG 2.2, 1.4.3."""
    parts = QColor(color).getRgbF()[:3]
    linear = [v / 12.92 if v <= 0.04045 else ((v + 0.055) / 1.055) ** 2.4 for v in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def contrast(one: str, other: str) -> float:
    bright, dark = sorted((luminance(one), luminance(other)), reverse=True)
    return (bright + 0.05) / (dark + 0.05)


def test_the_measure_itself() -> None:
    assert contrast("#000000", "#ffffff") == pytest.approx(21.0)
    assert contrast("#767676", "#ffffff") == pytest.approx(4.54, abs=0.01)


@pytest.mark.parametrize("theme", [LIGHT, DARK], ids=lambda t: t.name)
def test_every_pair_of_colours_can_be_read(theme: Theme) -> None:
    pairs = [*product(TEXT, BEHIND), *ON_ACCENT]
    poor = {
        (a, b): round(contrast(getattr(theme, a), getattr(theme, b)), 2)
        for a, b in pairs
        if contrast(getattr(theme, a), getattr(theme, b)) < 4.5
    }
    assert poor == {}
    # what is drawn, not written: 3 to 1 (1.4.11)
    drawn = [theme.unknown, *theme.curves]
    assert [c for c in drawn if min(contrast(c, theme.paper), contrast(c, theme.panel)) < 3.0] == []


@pytest.mark.parametrize("theme", [LIGHT, DARK], ids=lambda t: t.name)
def test_the_style_sheet_uses_the_themes_colours_only(theme: Theme) -> None:
    used = set(re.findall(r"#[0-9a-fA-F]{6}\b", style_sheet(theme)))
    own = {v for v in (getattr(theme, n) for n in Theme.__dataclass_fields__) if isinstance(v, str)} | set(theme.curves)
    assert used <= own


def test_states_have_a_word_each() -> None:
    assert len({WORDS[s] for s in State}) == len(State)


def controls(window: QWidget) -> list[QWidget]:
    kinds = (QAbstractButton, QComboBox, QLineEdit, QListWidget, QSlider, QTableWidget, QTextBrowser)
    return [w for kind in kinds for w in window.findChildren(kind) if w.isVisible()]


@pytest.fixture
def points_afterwards() -> Iterator[None]:
    yield
    use_comma(False)


@pytest.mark.usefixtures("points_afterwards")
def test_every_control_has_a_name_and_every_figure_the_sign_that_is_liked(open_window: Callable[..., Hands]) -> None:
    """A screen reader says it: the text of a button, or the name that was given. No view shows a point where commas are liked."""
    hands = open_window(small_bundle(), preferences=Preferences(comma=True))
    nameless = set()
    read: set[str] = set()
    for key in STAGES:
        hands.stage(key)
        page = hands.page.stage_page
        for index in range(len(page.views)):
            page.open(index)
            for control in controls(hands.window):
                named = control.accessibleName() or (control.text() if isinstance(control, QAbstractButton) else "")
                inside = control.parent()
                if not named and not isinstance(inside, QComboBox) and control.objectName() != "qt_spinbox_lineedit":
                    nameless.add((page.view.topic, type(control).__name__, control.objectName()))
            assert with_points(hands.window) == set(), page.view.topic
            read |= with_commas(hands.window)
    assert nameless == set()
    assert len(read) > 100


def test_nothing_moves_by_itself() -> None:
    """Reduced motion for everybody: no animation, no picture that plays, no bar that runs to and fro."""
    moving = re.compile(
        r"QPropertyAnimation|QVariantAnimation|QTimeLine|QMovie|setRange\(0, 0\)|QParallelAnimationGroup"
    )
    sources = [p for p in (Path(ui.__file__).parent).rglob("*.py") if moving.search(p.read_text(encoding="utf-8"))]
    assert sources == []
