"""Which measurement would widen the almond most: the map with what is not known of one thing at a time made small."""

from __future__ import annotations

from dataclasses import replace
from typing import Final, NamedTuple

from mandorla.core.failure.chances import MORE_TESTS
from mandorla.core.runtime import RunContext
from mandorla.core.tune.window import Ground, painted
from mandorla.core.tune.window_map import Window
from mandorla.core.warp.unknowns import MODEL, TESTS

LEFT: Final = 0.3  # of an unknown's standard deviation that a careful measurement leaves
_FINE: Final = 50  # points along an axis of the maps that are compared


class Widened(NamedTuple):
    """An unknown, the ``test`` that tells of it, the almond's share of the map ``before`` and ``after``, the chance that anything
    fails at the present point (``now``) and with it known (``then``) where it lies as is assumed."""

    name: str
    test: str
    before: float
    after: float
    now: float
    then: float


def widened_by(window: Window, ground: Ground, run: RunContext | None = None) -> tuple[Widened, ...]:
    """Every unknown that can be measured, that first which widens the almond most, then that which lowers the present chance most.

    The measurement is taken to find what is assumed now: it may find less. Raises :class:`Cancelled` when asked to stop.
    """
    run, solved = run or RunContext(), window.solved
    names = sorted({MODEL if name.startswith(MODEL) else name for name in solved.unknowns})

    def shares(known: str) -> tuple[float, float]:
        parts = {key: p.copy() for key, p in solved.parts.items()}
        for n, name in enumerate(solved.unknowns):
            if known and name.startswith(known):
                for p in parts.values():
                    p[:, :, n] *= LEFT
        drawn = painted(replace(solved, parts=parts), window.axes, ground, _FINE, run.silent())
        at = drawn.nearest_point(drawn.present.x, drawn.shown_at(drawn.present))
        return float(drawn.almond.mean()), at.chance

    before, now = shares("")
    found = []
    for k, name in enumerate(names):
        run.checkpoint(k / len(names), name)
        after, then = shares(name)
        found.append(Widened(name, TESTS.get(name) or MORE_TESTS[name], before, after, now, then))
    return tuple(sorted(found, key=lambda w: (round(w.before - w.after, 4), w.then)))
