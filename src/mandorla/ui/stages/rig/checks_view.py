"""Checks of the rig with their reasons, the worst first."""

from __future__ import annotations

from PySide6.QtWidgets import QVBoxLayout, QWidget

from mandorla.core.project.cautions import CHECK_CAUTION
from mandorla.core.tune.sentences import checks_sentence
from mandorla.ui.document import Document
from mandorla.ui.stages.page import scrolling
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.check_list import CheckList
from mandorla.ui.widgets.form import answer, panel, soft


class ChecksView(QWidget):
    """Verdict, finding and reason of every check that applies."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        frame, inner = panel(10)
        self.sentence = answer()
        inner.addWidget(self.sentence)
        self.list = CheckList("Checks of the rig")
        inner.addWidget(scrolling(self.list), 1)
        inner.addWidget(soft(CHECK_CAUTION))
        column.addWidget(frame, 1)

    def refresh(self, theme: Theme) -> None:
        """Show the newest checks."""
        checks = self.document.checks
        self.sentence.setText(checks_sentence(checks) if checks else "Checking …")
        self.list.show_checks(checks, theme)
