"""The stages in their order, with the state each shows on the rail and the page that belongs to it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from importlib import import_module
from typing import Final

from mandorla.core.rig.fitted import mark_of
from mandorla.core.tune.verdict import State, worst, worst_of
from mandorla.ui.document import Document
from mandorla.ui.stages.page import StagePage
from mandorla.ui.theme.palette import Theme


def _rig(document: Document) -> State:
    e = document.evaluation
    return worst_of(worst(e.limits), *(c.state for c in document.checks)) if e else State.NOT_COMPUTED


def _heat(document: Document) -> State:
    e = document.evaluation
    if e is None:
        return State.NOT_COMPUTED
    return {"ready": State.HOLDS, "slow": State.MARGINAL, "unreachable": State.FAILS}[e.heat.status]


def _verify(document: Document) -> State:
    """What the session on the desk says, else the newest record; marginal when the rig has changed since."""
    project = document.project
    if document.verdict is not None and document.verdict[0] == mark_of(project.rig):
        return document.verdict[1]
    if not project.measurements.records:
        return State.NOT_COMPUTED
    last = project.measurements.records[-1]
    return State(last.state) if last.rig_mark == mark_of(project.rig) else State.MARGINAL


def _part(document: Document) -> State:
    e = document.evaluation
    if e is None or e.part is None:
        return State.NOT_COMPUTED
    return State.FAILS if e.fit_problem else State.HOLDS


def _warp(document: Document) -> State:
    """The estimate's verdicts, and the plate's where it was looked at."""
    e, look = document.evaluation, document.plate
    if e is None:
        return State.NOT_COMPUTED
    plate = () if look is None or e.warp is None else (look.state(document.project.criteria.lift_limit),)
    return worst_of(e.hold_state, e.lift_state, e.crack_state, *plate)


def _tune(document: Document) -> State:
    e = document.evaluation
    return e.state if e is not None and e.part is not None and document.window is not None else State.NOT_COMPUTED


@dataclass(frozen=True, slots=True)
class Stage:
    """One stage: its title, the module and class of its page, the state it shows."""

    title: str
    module: str
    page: str
    state: Callable[[Document], State]

    def load(self) -> None:
        """Load what the page draws with; plots and numerics take a second, so only the first page's come before the window."""
        import_module(f"mandorla.ui.stages.{self.module}")

    def make(self, document: Document, theme: Theme) -> StagePage:
        """Build the page."""
        made = getattr(import_module(f"mandorla.ui.stages.{self.module}"), self.page)(document, theme, self.title)
        assert isinstance(made, StagePage)
        return made


STAGES: Final = (
    Stage("Rig", "rig.page", "RigPage", _rig),
    Stage("Heat-up", "heat.page", "HeatPage", _heat),
    Stage("Verify", "verify.page", "VerifyPage", _verify),
    Stage("Part", "part_page", "PartPage", _part),
    Stage("Warp", "warp_page", "WarpPage", _warp),
    Stage("Tune", "tune_page", "TunePage", _tune),
)
