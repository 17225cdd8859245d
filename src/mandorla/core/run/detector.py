"""Sees that something changed: cumulated sums of the filter's surprises, heat that moves away, and what needs no model: readings
that stand still or jump.

References
----------
E. S. Page, Biometrika 41 (1954) 100: cumulated sums. Thresholds are set on fault-free simulated runs (``benchmarks/detection.py``,
seeds of its own), and judged on others.
"""

from __future__ import annotations

import math
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.part.mesh import Floats
from mandorla.core.run.diagnosis import Stillness
from mandorla.core.run.state_filter import BED, CHANNELS
from mandorla.core.run.trace_point import TracePoint
from mandorla.core.run.tracker import Predicted

SLACK: Final = 0.6  # standard deviations that a surprise may have without being summed
THRESHOLDS: Final = (15.0, 15.0, 10.0)  # of the sums of bed, chamber, power; set by benchmarks/detection.py --set
# standard deviations by which the heat that no rig explains moves within _MINUTES, from which it is told
MOVED: Final = 1.4
_MINUTES: Final = 300.0  # s
# standard deviations of heat that no rig explains at all, not even a print that begins, and looks in a row; set like the sums
FAR: Final = 6.0
_LOOKS: Final = 2
_OPEN: Final = 60.0  # s after the watch began anew, in which it finds its balance
_BALANCED: Final = 3.0  # standard deviations below which it has found it: what an alarm has left open is no news
_FIRST: Final = 60.0  # s more after the machine began to do something else
_PERSISTS: Final = 3  # looks in a row
_MOST: Final = 8.0  # standard deviations that one reading adds at most
_IMPROBABLE: Final = 1e-9  # of a reading that stands still by chance
_FEW, _RARE = 3, 1e-3  # readings that stand still from which it may be that, and the chance of it
_STILL: Final = 8  # readings that stand still at least before it is told
_WORKS: Final = 0.03  # duty from which a heater works
JUMPS: Final = (12.0, 2.0)  # standard deviations and K by which a reading jumps


class Suspicion(NamedTuple):
    """That something changed: when (s), and what says so (``sum``, ``still``, ``jump``, ``drift``, ``heat``)."""

    time: float
    by: str


class Detector:
    """Sums of surprises and plain rules; one suspicion at a time, then it begins anew."""

    def __init__(self) -> None:
        self.sums = np.zeros((CHANNELS, 2))
        self.highest = np.zeros(CHANNELS)
        self._heat: list[tuple[float, Floats]] = []
        self._away, self._far = 0, 0
        self._far_since = math.nan
        self.furthest, self._balanced = 0.0, False
        self._same, self._repeats, self._seen = 0, 1.0, 20.0
        self._last, self._jumped, self._duty = math.nan, 0, 0.0

    def clear(self) -> None:
        """Forget the sums."""
        self.sums[:] = 0.0
        self._heat.clear()
        self._jumped, self._far, self._balanced = 0, 0, False

    @property
    def standing(self) -> Stillness:
        """How often the bed's reading has stood still until now."""
        return Stillness(self._same, self._repeats / self._seen)

    def see(self, readings: list[TracePoint], met: Predicted, sums: bool = True) -> Suspicion | None:
        """Take readings in with what the filter met; the first suspicion among them. Without ``sums`` only what needs no model, or
        hardly one, counts."""
        stands = [self._still(r) for r in readings]
        for k, r in enumerate(readings):
            found = (
                stands[k]
                or self._jump(r, met.surprise[k, BED], met.expected[k, BED])
                or (self._sum(r, met.surprise[k]) if sums else None)
            )
            if found is not None:
                return found
        return None

    def drifts(self, time: float, imbalance: Floats, settled: float) -> Suspicion | None:
        """Whether the heat (2,) that no rig explains is more than the beginning of anything leaves open, or has moved away within
        minutes while the machine did one thing."""
        self._heat = [h for h in self._heat if h[0] >= time - _MINUTES - 1.0] + [(time, imbalance.copy())]
        if time - self._heat[0][0] >= _OPEN:
            far = abs(float(imbalance[0]))
            self._balanced = self._balanced or far < _BALANCED
            self.furthest = max(self.furthest, far) if self._balanced else self.furthest
            self._far = self._far + 1 if far > FAR and self._balanced else 0
            self._far_since = time if self._far == 1 else self._far_since
            if self._far >= _LOOKS:
                return Suspicion(self._far_since, "heat")
        if settled < _MINUTES + _FIRST or time - self._heat[0][0] < _MINUTES - 20.0:
            self._away = 0
            return None
        moved = float(np.abs(imbalance - self._heat[0][1]).max())
        self._away = self._away + 1 if moved > MOVED else 0
        return Suspicion(time, "drift") if self._away >= _PERSISTS else None

    def look(self, readings: list[TracePoint]) -> bool:
        """Take readings in while a suspicion is followed up; whether one of them stands still for sure."""
        return any([self._still(r) is not None for r in readings])

    @property
    def stands_still(self) -> bool:
        """Whether the bed's reading has stood still for longer than it does by chance."""
        times, chance = self.standing
        return times >= _FEW and times * math.log(chance) < math.log(_RARE)

    def _sum(self, r: TracePoint, surprise: Floats) -> Suspicion | None:
        for c in range(CHANNELS):
            z = surprise[c]
            if math.isnan(z):
                continue
            z = min(max(z, -_MOST), _MOST)
            self.sums[c, 0] = max(0.0, self.sums[c, 0] + z - SLACK)
            self.sums[c, 1] = max(0.0, self.sums[c, 1] - z - SLACK)
            top = float(self.sums[c].max())
            self.highest[c] = max(self.highest[c], top)
            if top > THRESHOLDS[c]:
                return Suspicion(r.time, "sum")
        return None

    def _jump(self, r: TracePoint, surprise: float, expected: float) -> Suspicion | None:
        far = abs(surprise) > JUMPS[0] and abs(r.bed - expected) > JUMPS[1]
        self._jumped = self._jumped + 1 if far else 0
        return Suspicion(r.time, "jump") if self._jumped >= 2 else None

    def _still(self, r: TracePoint) -> Suspicion | None:
        """A reading that is the same again and again, more often than this one ever was, while its heater works."""
        if math.isnan(r.bed):
            return None
        same = r.bed == self._last
        self._last = r.bed
        self._duty = r.bed_duty if math.isfinite(r.bed_duty) else 0.0
        if not same:
            self._repeats, self._seen = self._repeats + self._same, self._seen + self._same + 1
            self._same = 0
            return None
        self._same += 1
        chance = self._repeats / self._seen
        if self._same >= _STILL and self._same * math.log(chance) < math.log(_IMPROBABLE) and self._duty > _WORKS:
            return Suspicion(r.time, "still")
        return None
