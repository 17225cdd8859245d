"""What the user likes, in one place: theme, units, size of everything, what new projects begin with, what starting does."""

from __future__ import annotations

from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFormLayout,
    QLabel,
    QLineEdit,
    QVBoxLayout,
    QWidget,
)

from mandorla.core.errors import InputError
from mandorla.core.units import KINDS, parse_quantity, show
from mandorla.ui.preferences import SCALES, Preferences
from mandorla.ui.theme.palette import font

LEAST_RISK, MOST_RISK = 0.001, 0.5


class PreferencesDialog(QDialog):
    """Edits preferences; ``taken`` are the new ones once it is accepted."""

    def __init__(self, parent: QWidget, now: Preferences) -> None:
        super().__init__(parent)
        self.setWindowTitle("Preferences")
        self.taken: Preferences | None = None
        self._now = now
        column = QVBoxLayout(self)
        form = QFormLayout()
        self.theme = _choice("Theme", [("Light", False), ("Dark", True)], now.dark)
        self.temperature = _choice("Temperatures", [("°C", False), ("°F", True)], now.fahrenheit)
        self.length = _choice("Lengths", [("mm", False), ("inches", True)], now.inches)
        self.sign = _choice("Decimal sign", [("point", False), ("comma", True)], now.comma)
        self.scale = _choice("Size of everything", [(f"{100 * s:.0f} %", s) for s in SCALES], now.scale)
        self.currency, self.risk = QLineEdit(now.currency), QLineEdit(show(now.risk, "fraction", digits=0))
        for edit, name in (
            (self.currency, "Currency of new projects"),
            (self.risk, "Chance of failing accepted, new projects"),
        ):
            edit.setAccessibleName(name)
        self.restore = QCheckBox("Open the project of the last time")
        self.restore.setChecked(now.restore)
        for name, widget in (
            ("Theme", self.theme), ("Temperatures", self.temperature), ("Lengths", self.length),
            ("Decimal sign", self.sign), ("Size of everything", self.scale), ("Currency of new projects", self.currency),
            ("Chance of failing accepted, new projects", self.risk), ("At the start", self.restore),
        ):  # fmt: skip
            form.addRow(name, widget)
        column.addLayout(form)
        self.told = QLabel("The size changes when Mandorla is started again.")
        self.told.setObjectName("soft")
        self.told.setFont(font(9.0))
        self.told.setWordWrap(True)
        column.addWidget(self.told)
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        self.buttons.accepted.connect(self._take)
        self.buttons.rejected.connect(self.reject)
        column.addWidget(self.buttons)

    def _take(self) -> None:
        currency = self.currency.text().strip()
        try:
            risk = parse_quantity(self.risk.text(), "fraction", KINDS["fraction"][0], "Chance of failing accepted")
            if not LEAST_RISK <= risk <= MOST_RISK:
                raise InputError("The chance of failing that is accepted lies between 0.1 % and 50 %.")
            if not 1 <= len(currency) <= 6:
                raise InputError("A currency has one to six characters.")
        except InputError as error:
            self.told.setText(str(error).splitlines()[0])
            return
        now = self._now
        self.taken = Preferences(
            self.theme.currentData(), self.temperature.currentData(), self.length.currentData(), list(now.recent),
            now.folded_console, now.folded_sides, self.restore.isChecked(), now.session, now.session_stage,
            self.scale.currentData(), currency, risk, self.sign.currentData(),
        )  # fmt: skip
        self.accept()


def _choice(name: str, entries: list[tuple[str, object]], now: object) -> QComboBox:
    box = QComboBox()
    box.setAccessibleName(name)
    for text, data in entries:
        box.addItem(text, data)
    box.setCurrentIndex(max(0, box.findData(now)))
    return box
