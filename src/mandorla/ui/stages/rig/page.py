"""Rig: what the machine is."""

from __future__ import annotations

from typing import Any

from mandorla.core.failure.messages import checks_sentence, limit_sentence
from mandorla.core.failure.state import State
from mandorla.core.results.key import Key
from mandorla.core.results.keys import EVALUATION, RIG_CHECKS
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.live_results import in_words
from mandorla.ui.stages.page import StagePage
from mandorla.ui.stages.rig.build_view import BuildView
from mandorla.ui.stages.rig.chamber_view import ChamberView
from mandorla.ui.stages.rig.checks_view import ChecksView
from mandorla.ui.stages.rig.plan_view import PlanView
from mandorla.ui.stages.rig.power_view import PowerView
from mandorla.ui.stages.rig.stack_view import StackView
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme


class RigPage(StagePage):
    """The bed's section and plan, the chamber and its room, what it draws, checks with reasons, what to buy and when to build."""

    views = (StackView, PlanView, ChamberView, PowerView, ChecksView, BuildView)

    def __init__(self, document: Document, theme: Theme, title: str) -> None:
        super().__init__(document, theme, title)
        self._layer = 0

    def make(self, view: type[View]) -> View:
        """The layer that is picked in the section is drawn in the plan."""
        made = super().make(view)
        if isinstance(made, StackView):
            made.section.selected.connect(self._pick)
        elif isinstance(made, PlanView):
            made.plan.set_layer(self._layer)
        return made

    def _pick(self, layer: int) -> None:
        self._layer = layer
        if "plan" in self._built:
            plan = self.view_of("plan")
            assert isinstance(plan, PlanView)
            plan.plan.set_layer(layer)

    def uses(self) -> tuple[Key[Any], ...]:
        """The evaluation and the checks, for the answer."""
        return EVALUATION, RIG_CHECKS.of(units=self.document.units)

    def answer(self) -> str:
        """Where the surface settles, the tightest rating, the checks that do not hold."""
        results, units, layers = self.document.results, self.document.units, self.document.project.rig.bed.layers
        error = results.error(EVALUATION)
        if error is not None:
            return in_words(error)
        e = results.last(EVALUATION)
        if e is None or len(e.heat.peak) != len(layers):
            return ""
        hottest = int(e.heat.peak.argmax())
        heat = (
            f"Set to {show(e.heat.set_point, 'temperature', units, digits=0)}, the surface settles at "
            f"{show(e.heat.steady.surface, 'temperature', units)}; the hottest layer is {layers[hottest].name.lower()} with "
            f"{show(float(e.heat.peak[hottest]), 'temperature', units, digits=0)} while warming."
        )
        said = [limit_sentence(e.limits, units)]
        checks = results.last(RIG_CHECKS.of(units=units)) or ()
        if any(c.state in (State.FAILS, State.MARGINAL) for c in checks):
            said.append(checks_sentence(checks))
        return " ".join([heat, *said])


PAGE = RigPage
