"""Where a machine stands that is found at work: somewhere on its own way from cold, at the moment that shows what it shows.

How long it has been warm nobody tells; bed, air and duty say it roughly, and the rest has to be found by watching it.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Final

import numpy as np

from mandorla.core.part.mesh import Floats
from mandorla.core.rig.consumers import Doing
from mandorla.core.run.plant import Plant, Watched, inputs_of, march
from mandorla.core.run.trace_point import TracePoint
from mandorla.core.thermal.control import S_READING
from mandorla.core.thermal.network_run import NetworkRun
from mandorla.core.units import OFF

WARM: Final = 10.0  # K from its start's temperature, from which a machine is taken as warm already
_SHORT, _LONG = 5.0, 30.0  # s, steps of the way while it heats and after
_WARMS: Final = 8 * 3600.0  # s of heating that are looked through
_PRINTS: Final = 8 * 3600.0
_COOLS: Final = 4 * 3600.0
_ALIKE: Final = (0.5, 1.0, 0.05)  # K, K and duty, differences of bed, air and duty that weigh alike


def warm_already(w: Watched, r: TracePoint) -> bool:
    """Whether a machine is far from cold when its first reading is taken; not where the bed tells nothing."""
    return abs(r.bed - w.rig.start_temperature) >= WARM


def stand_as_found(plants: Sequence[Plant], w: Watched, r: TracePoint) -> None:
    """Put possible machines (``cells`` and ``state``) where the first of them shows what was read, all after the same time; each
    bed reads what was read then. They go from where they stand: as they were made, cold or as the job before has left them."""
    steps = np.concatenate([np.full(round(3600.0 / _SHORT), _SHORT), np.full(round((_WARMS - 3600.0) / _LONG), _LONG)])
    off = r.bed_set <= OFF + 1.0
    bed = w.settings.bed_rest if off or math.isnan(r.bed_set) else r.bed_set
    chamber = w.settings.chamber if off or math.isnan(r.chamber_set) else r.chamber_set
    ways: list[tuple[Doing, Floats, float, float]] = [(Doing.WARM_UP, steps, bed, chamber)]
    if r.prints:
        ways.append((Doing.PRINT, np.full(round(_PRINTS / _LONG), _LONG), bed, chamber))
    elif off:
        ways.append((Doing.COOL_DOWN, np.full(round(_COOLS / _SHORT), _SHORT), OFF, OFF))
    at: int | None = None
    for plant in plants:
        run = _gone(plant, w, ways)
        at = _moment(run, r, w, plant.regulator.on_off) if at is None else at
        plant.cells[:], plant.state[:] = run.cells[at], run.states[at]
        more = r.bed - float(run.reading[at])
        plant.cells += more
        plant.state[S_READING] += more


def _gone(plant: Plant, w: Watched, ways: Sequence[tuple[Doing, Floats, float, float]]) -> NetworkRun:
    """The last part of a machine's way from its start; a print begins, and a machine cools, where the part before has ended."""
    run: NetworkRun | None = None
    now = 0.0
    for doing, steps, bed, chamber in ways:
        given = inputs_of(w.rig, steps, now, np.full(steps.size, bed), np.full(steps.size, chamber))
        run = march(plant, given, doing)
        now += float(steps.sum())
    assert run is not None
    return run


def _moment(run: NetworkRun, r: TracePoint, w: Watched, on_off: bool) -> int:
    """The step after which a machine shows what was read, as nearly as it ever does."""
    cost = np.square((run.reading - r.bed) / _ALIKE[0])
    if math.isfinite(r.chamber):
        cost = cost + np.square((run.chamber_reading - r.chamber) / _ALIKE[1])
    if math.isfinite(r.bed_duty) and not on_off:
        cost = cost + np.square((run.power / max(w.rig.bed.heater.power, 1e-9) - r.bed_duty) / _ALIKE[2])
    return int(np.argmin(cost))
