"""The judgement that a state would have on its page: by the full simulation, where it can be run."""

from __future__ import annotations

from mandorla.core.errors import SolverError
from mandorla.core.failure.registry import Judgement
from mandorla.core.results import keys
from mandorla.core.results.registry import Asked
from mandorla.core.runtime import RunContext


def judged(asked: Asked, run: RunContext, *, check: bool) -> tuple[Judgement, bool]:
    """The judgement of a state, and whether a full simulation says it: with ``check`` it is run in full, as the page does once the
    state is set; by the quick models where that is not asked for, or finds no answer. Raises :class:`Cancelled`."""
    if check:
        try:
            done = asked.get(keys.SETTINGS_CHECK, run)
        except SolverError:
            done = None
        if done is not None and done.run is not None:
            return asked.get(asked.judgement_key()), True
    return asked.get(keys.EVALUATION, run).judgement, False
