"""Machines alike on one breaker: when each is switched on so that all of them stay below it, and the last as early as can be.

A small integer program over slots of time (y_s machines begin in slot s; every slot's sum stays below the limit; the sum of all
starts is the least), solved by HiGHS.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
from scipy.optimize import Bounds, LinearConstraint, milp

from mandorla.core.energy.course import PlugCourse
from mandorla.core.rig.consumers import Doing
from mandorla.core.thermal.stack import Floats

SLOT: Final = 300.0  # s
_MOST_SLOTS: Final = 288
CONTINUOUS: Final = 0.8  # of a breaker that may be taken for hours


@dataclass(frozen=True, slots=True)
class Stagger:
    """``starts`` (n,) s of the machines, the highest power (W) ``together`` if all began at once and ``staggered``, the
    ``limit`` (W); ``at_most`` machines that the limit stands at all while they print. Without starts there is no such order."""

    starts: tuple[float, ...]
    together: float
    staggered: float
    limit: float
    at_most: int

    @property
    def possible(self) -> bool:
        """Whether there is an order."""
        return bool(self.starts)


def profile_of(course: PlugCourse) -> Floats:
    """Highest mean power (k,) W of a job in each slot from switching on, the last one as long as it prints."""
    ends = dict(course.phases)
    settled = max(ends.get(Doing.SOAK, 0.0), ends.get(Doing.WARM_UP, 0.0)) + 1800.0
    until = min(settled, ends[Doing.PRINT])
    edges = np.arange(0.0, until + SLOT, SLOT)
    time, total = course.running
    slots = np.diff(np.interp(edges, time, total)) / SLOT
    rest = course.between(float(edges[-1]), ends[Doing.PRINT]) / max(ends[Doing.PRINT] - float(edges[-1]), 1.0)
    return np.append(slots, max(rest, float(slots[-1])) if ends[Doing.PRINT] > edges[-1] else slots[-1])


def staggered(profile: Floats, machines: int, limit: float, latest: float) -> Stagger:
    """Order the starts of machines alike.

    Parameters
    ----------
    profile
        W of one machine in each slot (k,), as in :func:`profile_of`.
    machines
        How many.
    limit
        W that all of them may take together.
    latest
        s within which the last one is to be switched on.
    """
    count = min(int(latest // SLOT) + 1, _MOST_SLOTS)
    length = count + profile.size
    together, at_most = float(machines * profile.max()), int(limit // max(float(profile[-1]), 1e-9))
    load = np.zeros((length, count))
    for s in range(count):
        load[s : s + profile.size, s] = profile
        load[s + profile.size :, s] = profile[-1]
    found = milp(
        np.arange(count, dtype=float),
        constraints=[LinearConstraint(load, ub=limit), LinearConstraint(np.ones((1, count)), machines, machines)],
        integrality=np.ones(count, dtype=np.int64), bounds=Bounds(0, machines),
    )  # fmt: skip
    if found.x is None:
        return Stagger((), together, float("nan"), limit, at_most)
    begun = np.round(found.x).astype(int)
    starts = tuple(float(s * SLOT) for s in range(count) for _ in range(begun[s]))
    return Stagger(starts, together, float((load @ begun).max()), limit, at_most)
