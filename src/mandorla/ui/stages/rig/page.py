"""Rig: what the machine is."""

from __future__ import annotations

from PySide6.QtWidgets import QStackedWidget, QTabBar, QVBoxLayout

from mandorla.core.tune.sentences import checks_sentence, limit_sentence
from mandorla.core.tune.verdict import State
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.stages.page import StagePage
from mandorla.ui.stages.rig.build_view import BuildView
from mandorla.ui.stages.rig.chamber_view import ChamberView
from mandorla.ui.stages.rig.checks_view import ChecksView
from mandorla.ui.stages.rig.plan_view import PlanView
from mandorla.ui.stages.rig.stack_view import StackView
from mandorla.ui.theme.palette import Theme


class RigPage(StagePage):
    """The bed's section and plan, the chamber and its room, checks with reasons, what to buy and when to build."""

    def __init__(self, document: Document, theme: Theme, title: str) -> None:
        super().__init__(document, theme, title)
        whole = QVBoxLayout()
        whole.setSpacing(6)
        self.views = QTabBar()
        self.views.setDrawBase(False)
        self.views.setAccessibleName("View of the stage Rig")
        self.stack = QStackedWidget()
        self.stack_view = StackView(document, theme)
        self.plan_view = PlanView(document)
        self.chamber_view = ChamberView(document)
        self.checks_view = ChecksView(document)
        self.build_view = BuildView(document)
        for text, view in (
            ("Bed stack", self.stack_view), ("Bed from above", self.plan_view), ("Chamber and room", self.chamber_view),
            ("Checks", self.checks_view), ("To buy and build", self.build_view),
        ):  # fmt: skip
            self.views.addTab(text)
            self.stack.addWidget(view)
        self.views.currentChanged.connect(self._show_view)
        whole.addWidget(self.views)
        whole.addWidget(self.stack, 1)
        self.body.addLayout(whole, 1)
        self.stack_view.section.selected.connect(self.plan_view.plan.set_layer)

    def _show_view(self, index: int) -> None:
        self.stack.setCurrentIndex(index)
        self.refresh()

    def refresh(self) -> None:
        """Show the newest results in the view that is seen."""
        view = self.stack.currentWidget()
        assert isinstance(view, StackView | PlanView | ChamberView | ChecksView | BuildView)
        view.refresh(self.theme)
        e = self.document.evaluation
        if e is None:
            return
        units, layers = self.document.units, self.document.project.rig.bed.layers
        hottest = int(e.heat.peak.argmax())
        heat = (
            f"Set to {show(e.heat.set_point, 'temperature', units, digits=0)}, the surface settles at "
            f"{show(e.heat.steady.surface, 'temperature', units)}; the hottest layer is {layers[hottest].name.lower()} with "
            f"{show(float(e.heat.peak[hottest]), 'temperature', units, digits=0)} while warming."
        )
        said = [limit_sentence(e.limits, units)]
        checks = self.document.checks
        if any(c.state in (State.FAILS, State.MARGINAL) for c in checks):
            said.append(checks_sentence(checks))
        self.say(" ".join([heat, *said]))
