"""The best settings over what is set free, proved by the full simulation."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Final, NamedTuple

import numpy as np
from scipy.special import ndtri

from mandorla.core.errors import InputError
from mandorla.core.failure.registry import Judgement
from mandorla.core.failure.state import State
from mandorla.core.part.process import Process
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.key import Key
from mandorla.core.results.registry import Have, computes
from mandorla.core.results.tune import ground_of
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Settings
from mandorla.core.runtime import RunContext
from mandorla.core.tune.axes import Setup
from mandorla.core.tune.optimum import Found, OnFront, changes_of, mapped, options_of, search
from mandorla.core.tune.suggestion import CHECKED, FAILED, NOT_PROVED, NOT_YET
from mandorla.core.tune.window import Ground

_TURNS: Final = 5  # full simulations of a best that may fail
_LEAST: Final = 0.2  # standard deviations that are kept more after one that failed


class Optimum(NamedTuple):
    """The ``best`` that was found (None: nothing holds), all that it ``changes`` by path, its judgement and what proves it.

    ``others`` are the best of other combinations; the front between energy and chance, how many combinations and whole evaluations,
    the least ``chance`` that anything fails that was seen."""

    best: Found | None
    changes: Mapping[str, Any]
    judgement: Judgement | None
    proof: str
    others: tuple[Found, ...]
    front: tuple[OnFront, ...]
    combinations: int
    evaluations: int
    chance: float

    def changes_from(self, rig: Rig, settings: Settings, process: Process, point: OnFront | Found) -> dict[str, Any]:
        """What is to be set, by path, to go from a state to a point of the front or another combination's best."""
        return changes_of(Setup(rig, settings, process), point.setup)


class Reserve:
    """What is kept to every limit (standard deviations), from turn to turn: more after a best that failed in full, less after one
    that held with more in hand than was asked for, half-way to what failed."""

    def __init__(self) -> None:
        self.now = 0.0
        self._failed, self._held = -math.inf, math.inf

    def failed(self, by: float) -> None:
        """The best with this reserve failed, ``by`` so many standard deviations."""
        self._failed = max(self._failed, self.now)
        self.now = self.now + by if math.isinf(self._held) else 0.5 * (self._failed + self._held)

    def held(self, in_hand: float) -> bool:
        """The best with this reserve held, with so much ``in_hand``; whether less may be worth a turn."""
        self._held = min(self._held, self.now)
        if math.isinf(self._failed) or min(in_hand, self._held - self._failed) < _LEAST:
            return False
        self.now = 0.5 * (self._failed + self._held)
        return True


def with_setup(bundle: Bundle, setup: Setup) -> Bundle:
    """The project at a setup."""
    change = {"rig": setup.rig, "settings": setup.settings, "process": setup.process}
    return Bundle(bundle.project.model_copy(update=change), bundle.originals)


@computes(keys.OPTIMUM)
def optimum(key: Key[Optimum], bundle: Bundle, have: Have, run: RunContext) -> Optimum:
    """Search over everything that is ``free`` for the best by an ``objective``, then run it in full; where that fails, search again
    with more in reserve, and with less of it again where that leaves more in hand than is asked for.

    Raises
    ------
    InputError
        Without a part, for too many combinations, or for names that are unknown.
    Cancelled
        When asked to stop.
    """
    p, geometry = bundle.project, have(keys.GEOMETRY)
    ground = ground_of(bundle, have(keys.EVALUATION), geometry)
    if geometry is None:
        raise InputError("There is no part: open one first.")
    rigs = {b.name: b.rig for b in p.builds}
    options = options_of(key["free"], ground.setup, rigs, from_file=geometry.file is not None)

    def grounds(setup: Setup) -> Ground:
        other = with_setup(bundle, setup)
        asked = have.beside(other)
        return ground_of(other, asked.get(keys.EVALUATION, run.silent()), asked.get(keys.GEOMETRY, run.silent()))

    kept, held, tried = Reserve(), None, set()
    combinations = mapped(ground, grounds, options, run)
    count = math.prod(len(each) for each in options)
    for n in range(_TURNS):
        found = search(combinations, key["objective"], run, kept.now)
        best = found.found[0] if found.found else None
        told = (found.found[1:], found.front, count, found.evaluations, found.chance)
        if best is None:
            # nothing is left that the full simulations of before have not shown to be too hopeful
            return held or Optimum(None, {}, None, FAILED if n else NOT_PROVED, *told)
        changes, asked = changes_of(ground.setup, best.setup), have.beside(with_setup(bundle, best.setup))
        if not key["check"]:
            return Optimum(best, changes, asked.get(keys.EVALUATION).judgement, NOT_YET, *told)
        if held is not None and str(changes) in tried:
            return held
        tried.add(str(changes))
        run.checkpoint(0.99, "full simulation of the best")
        check = asked.get(keys.SETTINGS_CHECK, run)
        judgement = asked.get(asked.judgement_key())
        holds = judgement.whole is not State.FAILS and judgement.anything <= p.criteria.risk
        if check.run is not None:  # what is offered is told as the full simulation has it
            cost = best.cost * max(1.0 - best.chance, 1e-3) / max(1.0 - judgement.anything, 1e-3)
            best, quick = replace(best, chance=judgement.anything, cost=cost), best.chance
        else:
            quick = best.chance
        if check.run is None:
            return held or Optimum(best, changes, judgement, NOT_PROVED, *told)
        chances = (p.criteria.risk, quick, judgement.anything)
        before, after = (float(-ndtri(np.clip(c, 1e-3, 0.999))) for c in chances[1:])
        if not holds:  # by so many standard deviations the full simulation is worse: as much more is kept
            kept.failed(max(_LEAST, before - after))
            continue
        if held is None or (held.best is not None and best.value < held.best.value):
            held = Optimum(best, changes, judgement, CHECKED, *told)
        if not kept.held(after + float(ndtri(p.criteria.risk))):
            return held
    return held or Optimum(None, {}, None, FAILED, *told)
