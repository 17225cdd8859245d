"""When the machine will be ready, from what drove it and what the filter has learned: possible machines marched on.

Each of them is a draw about what was learned, driven as the machine was until now, and regulated by itself from there.
"""

from __future__ import annotations

import math
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.part.mesh import Floats
from mandorla.core.rig.consumers import Doing
from mandorla.core.run.found_warm import stand_as_found
from mandorla.core.run.plant import Plant, inputs_of, march, plant_of
from mandorla.core.run.possible_machines import ROOM_UNKNOWN
from mandorla.core.run.tracker import Tracker
from mandorla.core.thermal.control import S_READING
from mandorla.core.thermal.heatup import ready_since
from mandorla.core.thermal.network_run import joined
from mandorla.core.thermal.parameter_samples import root_of, typical_sample

DRAWS: Final = 12
_SEED: Final = 3
_STEP: Final = 2.0  # s
_HORIZON: Final = 3 * 3600.0
_EARLIEST: Final = 5.0  # s of a trace from which a forecast is made


class Ready(NamedTuple):
    """Seconds from the beginning of the watch until the machine is ready: 5 %, median, 95 %; NaN where it never is, or nobody
    knows."""

    low: float
    median: float
    high: float


UNKNOWN: Final = Ready(math.nan, math.nan, math.nan)


def ready_forecast(tracker: Tracker, bed_set: float, chamber_set: float) -> Ready:
    """When the machine is ready, counted from the beginning of the watch.

    Parameters
    ----------
    tracker
        The filter, with all that drove the machine since the beginning.
    bed_set, chamber_set
        Targets (K) from now on.
    """
    w, now = tracker.watched, tracker.now
    if now < _EARLIEST or not tracker.history:
        return UNKNOWN
    steps = np.full(round(_HORIZON / _STEP), _STEP)
    ahead = inputs_of(w.rig, steps, now, np.full(steps.size, bed_set), np.full(steps.size, chamber_set))
    past = tracker.past
    times = np.concatenate([[0.0], np.cumsum(np.concatenate([*(given.dt for given, _ in past), steps]))])
    shown = np.concatenate([tracker.shown_bed[:1], tracker.shown_bed])
    on_off, moments = w.rig.bed.control.kind == "on-off", []
    for z in _draws(tracker):
        plant, warmer = _possible(tracker, z), float(z[-1]) * ROOM_UNKNOWN
        runs = [march(plant, given._replace(room=given.room + warmer), doing) for given, doing in past]
        # what it read until now is known: where it was seen, it goes on
        off = tracker.level - float(runs[-1].reading[-1])
        plant.cells += off
        plant.state[S_READING] += off
        runs.append(march(plant, ahead._replace(room=ahead.room + warmer), Doing.WARM_UP))
        run = joined(runs)
        surface, _ = w.heat.spread.moved(plant.stack, times, run)
        reading = np.concatenate([shown, run.reading[shown.size :]])
        at = ready_since(times, reading, surface, bed_set, w.criteria, on_off=on_off)
        moments.append(tracker.began + at)
    known = np.array(moments)[np.isfinite(moments)]
    return Ready(*(float(v) for v in np.quantile(known, [0.05, 0.5, 0.95]))) if known.size >= DRAWS // 2 else UNKNOWN


def _draws(tracker: Tracker) -> Floats:
    """Draws (DRAWS, n) of the unknowns about what was learned, pairs on both sides of it."""
    n = tracker.count
    root = root_of(tracker.covariance[:n, :n])
    half = np.random.default_rng(_SEED).normal(size=(DRAWS // 2, n))
    return np.asarray(tracker.learned + np.concatenate([half, -half]) @ root.T)


def _possible(tracker: Tracker, z: Floats) -> Plant:
    """A possible machine as it stood when the watch began; its heaters give what the filter sees them give."""
    w = tracker.watched
    draw = typical_sample(w.rig)
    for unknown, value in zip(tracker.unknowns, z, strict=False):
        unknown.apply(draw, float(np.clip(value, -3.0, 3.0)))
    plant = plant_of(w, draw, float(z[-1]) * ROOM_UNKNOWN)
    if tracker.found is not None:
        stand_as_found([plant], w, tracker.found)
    more = 1.0 + tracker.gain
    plant.regulator = plant.regulator._replace(power_max=plant.regulator.power_max * more)
    return plant
