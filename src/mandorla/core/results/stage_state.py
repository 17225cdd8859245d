"""The state of every stage of the work, from the results that are there; the rail shows it, nobody else decides it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from mandorla.core.failure.state import State, worst_of
from mandorla.core.project.models import Project
from mandorla.core.rig.fitted import mark_of

if TYPE_CHECKING:
    from mandorla.core.logbook.shown import BookShown
    from mandorla.core.results.types import Comparison, Evaluation, Judgement, RigCheck, Window


def rig_state(e: Evaluation | None, checks: tuple[RigCheck, ...] | None) -> State:
    """The worst of ratings and checks."""
    if e is None:
        return State.NOT_COMPUTED
    return worst_of(e.judgement.limit_state, *(c.state for c in checks or ()))


def heat_state(e: Evaluation | None) -> State:
    """Whether the rig gets ready; that nothing needs heating is no failure."""
    if e is None:
        return State.NOT_COMPUTED
    if e.heat.status == "tripped":
        return State.FAILS
    if e.heat.status == "unreachable":
        return State.FAILS if e.heat.short_of_power else State.MARGINAL
    return State.HOLDS if e.heat.status == "ready" else State.MARGINAL


def verify_state(project: Project, comparison: Comparison | None) -> State:
    """What a session says of the present rig, else the newest record; marginal when the rig has changed since."""
    if comparison is not None:
        return State(comparison.state)
    if not project.measurements.records:
        return State.NOT_COMPUTED
    last = project.measurements.records[-1]
    return State(last.state) if last.rig_mark == mark_of(project.rig) else State.MARGINAL


def logbook_state(shown: BookShown | None) -> State:
    """Whether everything that was begun is entered, nothing is due, and no plate has changed."""
    if shown is None or not shown.prints:
        return State.NOT_COMPUTED
    open_ends = [p for p in shown.prints if not p.entered]
    return State.MARGINAL if shown.weaker or shown.due or len(open_ends) > 1 else State.HOLDS


def part_state(e: Evaluation | None) -> State:
    """Whether the part fits."""
    if e is None or e.part is None:
        return State.NOT_COMPUTED
    return e.judgement.state("placement")


def warp_state(e: Evaluation | None, judgement: Judgement | None) -> State:
    """The state of the whole: what the page's sentence says."""
    if e is None or e.warp is None or judgement is None:
        return State.NOT_COMPUTED
    return judgement.whole


def tune_state(e: Evaluation | None, window: Window | None, judgement: Judgement | None) -> State:
    """The state of the whole, once the window is there."""
    ready = e is not None and e.part is not None and window is not None and judgement is not None
    return judgement.whole if ready and judgement is not None else State.NOT_COMPUTED
