"""Full simulations on a map: where they were run, what they found, and the map moved so that it passes through them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final

import numpy as np

from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import CONSOLE, Settings
from mandorla.core.tune.simulated_point import SimulatedPoint
from mandorla.core.tune.window import Ground, relearned
from mandorla.core.tune.window_map import LOADS, Window

# what changes a print about as much as a kelvin of bed or chamber does
_LIKE_A_KELVIN: Final = {"bed_first": 4.0, "bed_rest": 1.0, "chamber": 1.0, "soak_time": 300.0, "fan": 0.02}
_NEAR: Final = 0.01  # K², below which a run is where the map's point is


def through_runs(window: Window, runs: Sequence[SimulatedPoint], ground: Ground) -> Window:
    """A map moved so that it passes through every full simulation: what they are off by is weighted by the square of the distance
    (Shepard 1968) in all settings."""
    if not runs:
        return window
    x_axis, y_axis = window.axes
    nodes = [
        [y_axis.put(x_axis.put(ground.setup, float(x)), float(y)) for x in window.solved.x] for y in window.solved.y
    ]
    weight = np.array(
        [[[1.0 / (_away(s.settings, s.rig, run.settings) + _NEAR) for run in runs] for s in line] for line in nodes]
    )
    shifts = {}
    for key in LOADS:
        known = np.array([key in run.off for run in runs])
        if known.any():
            off = np.array([run.off[key] for run in runs if key in run.off])
            shifts[key] = (weight[:, :, known] * off).sum(axis=2) / weight[:, :, known].sum(axis=2)
    return relearned(window, shifts, ground)


def off_at(settings: Settings, rig: Rig, runs: Sequence[SimulatedPoint]) -> dict[str, float]:
    """By how much full simulations are off the quick margins (ln, by key) at some settings, weighted as on the map; empty without
    any."""
    found = {}
    for key in LOADS:
        known = [(1.0 / (_away(settings, rig, run.settings) + _NEAR), run.off[key]) for run in runs if key in run.off]
        if known:
            found[key] = sum(w * off for w, off in known) / sum(w for w, _ in known)
    return found


def _away(settings: Settings, rig: Rig, other: Settings) -> float:
    """Square of the distance (K²) between two points in the settings of the console."""
    names = [n for n in CONSOLE if n != "chamber" or rig.heats_chamber]
    return float(sum(((getattr(settings, n) - getattr(other, n)) / _LIKE_A_KELVIN[n]) ** 2 for n in names))
