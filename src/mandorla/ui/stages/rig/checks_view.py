"""Checks of the rig with their reasons, the worst first."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QVBoxLayout

from mandorla.core.failure.cautions import CHECK_CAUTION
from mandorla.core.failure.messages import checks_sentence
from mandorla.core.results.key import Key
from mandorla.core.results.keys import RIG_CHECKS
from mandorla.ui.document import Document
from mandorla.ui.stages.page import scrolling
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.check_list import CheckList
from mandorla.ui.widgets.form import answer, panel, soft


class ChecksView(View):
    """Verdict, finding and reason of every check that applies."""

    key = "checks"
    title = "Checks"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        column = QVBoxLayout(self.content)
        column.setContentsMargins(0, 0, 0, 0)
        frame, inner = panel(10)
        self.sentence = answer()
        inner.addWidget(self.sentence)
        self.list = CheckList("Checks of the rig")
        inner.addWidget(scrolling(self.list), 1)
        inner.addWidget(soft(CHECK_CAUTION))
        column.addWidget(frame, 1)

    def uses(self) -> tuple[Key[Any], ...]:
        """What is shown."""
        return (RIG_CHECKS.of(units=self.units),)

    def draw(self) -> None:
        """Show the newest checks."""
        checks = self.get(RIG_CHECKS.of(units=self.units))
        self.sentence.setText(checks_sentence(checks))
        self.list.show_checks(checks, self.theme)
