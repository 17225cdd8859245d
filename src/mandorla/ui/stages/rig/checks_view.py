"""Checks of the rig with their reasons, the worst first."""

from __future__ import annotations

from PySide6.QtWidgets import QVBoxLayout, QWidget

from mandorla.core.project.cautions import CHECK_CAUTION
from mandorla.core.runtime import RunContext
from mandorla.core.tune.verdict import State
from mandorla.ui.document import Document
from mandorla.ui.stages.page import scrolling
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.check_list import CheckList
from mandorla.ui.widgets.form import answer, panel, soft
from mandorla.ui.workers.jobs import Channel


class ChecksView(QWidget):
    """Verdict, finding and reason of every check that applies."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self._theme: Theme | None = None
        self._channel = Channel(self)
        self._channel.finished.connect(self._show)
        self._channel.failed.connect(lambda e: self.sentence.setText(str(e).splitlines()[0]))
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
        """Check the present rig beside the interface."""
        self._theme = theme
        project, e, units = self.document.project, self.document.evaluation, self.document.units
        if e is None:
            return

        def work(_: RunContext) -> object:
            from mandorla.ui.workers import computing  # see its docstring

            return computing.checks_of(project, e, units)

        self._channel.start(work)

    def _show(self, checks: tuple) -> None:  # type: ignore[type-arg]
        assert self._theme is not None
        bad = [c for c in checks if c.state is State.FAILS]
        near = [c for c in checks if c.state is State.MARGINAL]
        names = ", ".join(c.title.lower() for c in (bad or near)[:3])
        if bad:
            text = f"{len(bad)} of {len(checks)} checks fail: {names}."
        elif near:
            text = f"No check fails; {len(near)} of {len(checks)} are marginal: {names}."
        else:
            text = f"All {len(checks)} checks hold."
        self.sentence.setText(text)
        self.list.show_checks(checks, self._theme)
