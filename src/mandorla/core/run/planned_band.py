"""What a sound machine of this project would show while it obeys the targets that were seen: a trace is held against this band."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from mandorla.core.part.mesh import Floats
from mandorla.core.run.found_warm import stand_as_found, warm_already
from mandorla.core.run.plant import Watched
from mandorla.core.run.possible_machines import TRIED, advanced, drive, parts_of, possible_plants, prior_of, shown
from mandorla.core.run.trace_point import TracePoint
from mandorla.core.run.tracker import FIRST_STEP
from mandorla.core.thermal.parameter_samples import AT_NINETY


class TraceBand(NamedTuple):
    """At ``time`` (m,) s: 5 %, typical and 95 % (m, 3) of bed, chamber (K) and power at the plug (W)."""

    time: Floats
    low: Floats
    typical: Floats
    high: Floats


class PlannedBand:
    """Marches possible machines beside the real one, each regulated by itself; nothing that is read moves them."""

    def __init__(self, watched: Watched) -> None:
        self.watched = watched
        self._on_off = watched.rig.bed.control.kind == "on-off"
        self._plants = possible_plants(watched)
        self._root = np.linalg.cholesky(prior_of(watched.rig) + 1e-12 * np.eye(len(self._plants) - 1))
        self._now = 0.0
        self._last: TracePoint | None = None

    def _begin(self, r: TracePoint) -> None:
        """Begin where the readings do, at whatever moment and however warm the machine is then, as the filter does."""
        self._now = r.time - FIRST_STEP
        if warm_already(self.watched, r):
            stand_as_found(self._plants, self.watched, r)

    def feed(self, readings: Sequence[TracePoint]) -> TraceBand:
        """The band at some readings, by their targets alone."""
        found = []
        if self._last is None:
            self._begin(readings[0])
        for part in parts_of(self._now, readings):
            given, doing = drive(self.watched, self._now, self._last, part)
            own = np.full(given.dt.size, -1.0)
            runs = advanced(self._plants, given._replace(duty=own, chamber_power=own), doing)
            nozzle = np.array([r.nozzle for r in part])
            level = np.stack([shown(p, run, doing, nozzle) for p, run in zip(self._plants, runs, strict=True)])
            time = np.array([r.time for r in part])
            if self._on_off:
                # two thermostats never switch at one moment: all that the possible machines show
                found.append((time, level.min(axis=0), level[0], level.max(axis=0)))
            else:
                slopes = (level[1:] - level[0]) / TRIED
                spread = AT_NINETY * np.sqrt((np.einsum("kmc,kj->jmc", slopes, self._root) ** 2).sum(axis=0))
                found.append((time, level[0] - spread, level[0], level[0] + spread))
            self._now, self._last = part[-1].time, part[-1]
        return TraceBand(*(np.concatenate(arrays) for arrays in zip(*found, strict=True)))


def outside(r: TracePoint, band: TraceBand, k: int, times: float) -> float:
    """By how much (K) a bed's reading is beyond ``times`` its band's half width; 0 within, NaN where nothing is read."""
    if math.isnan(r.bed):
        return math.nan
    half = times * max(float(band.high[k, 0] - band.low[k, 0]) / 2.0, 0.5)
    over = r.bed - float(band.typical[k, 0])
    return math.copysign(max(abs(over) - half, 0.0), over)
