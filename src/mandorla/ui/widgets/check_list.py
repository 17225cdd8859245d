"""A list of checks over the whole width: mark and word, title, finding, and the reason below it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QLabel, QWidget

from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.widgets.state_mark import WORDS, StateMark

if TYPE_CHECKING:
    from mandorla.core.results.types import RigCheck


class CheckList(QWidget):
    """Rows of checks; their texts can be read back by tests and screen readers."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(12)
        self._grid.setVerticalSpacing(3)
        self._grid.setColumnStretch(2, 1)
        self._rows: list[tuple[StateMark, QLabel, QLabel, QLabel]] = []
        self._checks: tuple[RigCheck, ...] = ()

    @property
    def checks(self) -> tuple[RigCheck, ...]:
        """What is shown."""
        return self._checks

    def show_checks(self, checks: Sequence[RigCheck], theme: Theme) -> None:
        """Replace the rows."""
        self._checks = tuple(checks)
        while len(self._rows) < len(checks):
            self._add_row()
        for i, (mark, title, finding, reason) in enumerate(self._rows):
            there = i < len(checks)
            for widget in (mark, title, finding, reason):
                widget.setVisible(there)
            if not there:
                continue
            check = checks[i]
            mark.set_state(check.state, theme.state_color(check.state))
            title.setText(f"{check.title}\n{WORDS[check.state]}")
            finding.setText(check.finding)
            reason.setText(check.reason)
            finding.setAccessibleName(f"{check.title}, {WORDS[check.state]}: {check.finding}")

    def _add_row(self) -> None:
        row = 2 * len(self._rows)
        mark, title, finding, reason = StateMark(size=20), QLabel(), QLabel(), QLabel()
        title.setFont(font(9.5, strong=True))
        title.setWordWrap(True)
        title.setFixedWidth(170)
        finding.setFont(font(10.0))
        finding.setWordWrap(True)
        finding.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        reason.setFont(font(8.8))
        reason.setObjectName("soft")
        reason.setWordWrap(True)
        reason.setContentsMargins(0, 0, 0, 8)
        top = Qt.AlignmentFlag.AlignTop
        self._grid.addWidget(mark, row, 0, top)
        self._grid.addWidget(title, row, 1, 2, 1, top)
        self._grid.addWidget(finding, row, 2)
        self._grid.addWidget(reason, row + 1, 2)
        self._rows.append((mark, title, finding, reason))
