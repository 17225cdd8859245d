"""A numbered list of things to do, each with what it risks."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QLabel, QWidget

from mandorla.ui.theme.palette import font
from mandorla.ui.widgets.form import soft


class StepList(QWidget):
    """Shows steps; ``texts`` reads them back."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.texts: tuple[tuple[str, str], ...] = ()
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(8)
        self._grid.setVerticalSpacing(2)
        self._grid.setColumnStretch(1, 1)
        self._rows: list[tuple[QLabel, QLabel, QLabel]] = []

    def show_steps(self, steps: Sequence[tuple[str, str]]) -> None:
        """Replace the steps: (what to do, what it risks; empty: nothing)."""
        self.texts = tuple(steps)
        while len(self._rows) < len(steps):
            self._add_row()
        for i, (number, what, risk) in enumerate(self._rows):
            there = i < len(steps)
            number.setVisible(there)
            what.setVisible(there)
            risk.setVisible(there and bool(steps[i][1]))
            if there:
                what.setText(steps[i][0])
                risk.setText(steps[i][1])

    def _add_row(self) -> None:
        at = len(self._rows)
        number, what, risk = QLabel(f"{at + 1}"), QLabel(), soft()
        number.setFont(font(9.5, strong=True))
        what.setFont(font(9.5))
        what.setWordWrap(True)
        risk.setContentsMargins(0, 0, 0, 4)
        self._grid.addWidget(number, 2 * at, 0, Qt.AlignmentFlag.AlignTop)
        self._grid.addWidget(what, 2 * at, 1)
        self._grid.addWidget(risk, 2 * at + 1, 1)
        self._rows.append((number, what, risk))
