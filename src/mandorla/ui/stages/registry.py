"""The stages in their order: one line each, and a folder of its own with its page and its views."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from importlib import import_module
from typing import Any

from mandorla.core.failure.state import State
from mandorla.core.results import stage_state
from mandorla.core.results.key import Key
from mandorla.core.results.keys import COMPARISON, EVALUATION, RIG_CHECKS, WINDOW
from mandorla.ui.document import Document
from mandorla.ui.stages.page import StagePage
from mandorla.ui.theme.palette import Theme

Wants = Callable[[Document], tuple[Key[Any], ...]]


@dataclass(frozen=True, slots=True)
class Stage:
    """One stage: key (the folder in ``ui/stages``), title, the state it shows, and the results that the state is made from."""

    key: str
    title: str
    state: Callable[[Document], State]
    uses: Wants = lambda _: (EVALUATION,)

    def load(self) -> None:
        """Load what the page draws with; plots and numerics take a second, so only the first page's come before the window."""
        import_module(f"mandorla.ui.stages.{self.key}.page")

    def make(self, document: Document, theme: Theme) -> StagePage:
        """Build the page."""
        made = import_module(f"mandorla.ui.stages.{self.key}.page").PAGE(document, theme, self.title)
        assert isinstance(made, StagePage)
        return made


def _checks(d: Document) -> tuple[Key[Any], ...]:
    return EVALUATION, RIG_CHECKS.of(units=d.units)


def _rig(d: Document) -> State:
    return stage_state.rig_state(d.results.value(EVALUATION), d.results.last(RIG_CHECKS.of(units=d.units)))


def _newest(d: Document) -> tuple[Key[Any], ...]:
    """The comparison of the newest session."""
    return tuple(COMPARISON.of(session=s.key, units=d.units) for s in d.project.measurements.sessions[-1:])


def _verify(d: Document) -> State:
    return stage_state.verify_state(d.project, next((d.results.value(key) for key in _newest(d)), None))


def _with_part(*keys: Key[Any]) -> Wants:
    return lambda d: keys if d.project.part is not None else (EVALUATION,)


STAGES: dict[str, Stage] = {
    s.key: s
    for s in (
        Stage("rig", "Rig", _rig, _checks),
        Stage("heat", "Heat-up", lambda d: stage_state.heat_state(d.results.value(EVALUATION))),
        Stage("verify", "Verify", _verify, lambda d: (EVALUATION, *_newest(d))),
        Stage("part", "Part", lambda d: stage_state.part_state(d.results.value(EVALUATION))),
        Stage(
            "warp", "Warp", lambda d: stage_state.warp_state(d.results.value(EVALUATION), d.results.judgement()),
            _with_part(EVALUATION),
        ),
        Stage(
            "tune", "Tune",
            lambda d: stage_state.tune_state(d.results.value(EVALUATION), d.results.value(WINDOW), d.results.judgement()),
            _with_part(EVALUATION, WINDOW),
        ),
        Stage(
            "run", "Run", lambda d: stage_state.warp_state(d.results.value(EVALUATION), d.results.judgement()),
            _with_part(EVALUATION),
        ),
        Stage("logbook", "Logbook", lambda d: stage_state.logbook_state(d.logbook.shown)),
    )
}  # fmt: skip
