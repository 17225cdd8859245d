"""What a bed has cooled by when a lid or a door is opened to read it."""

from __future__ import annotations

from functools import lru_cache
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.rig.model import Rig
from mandorla.core.thermal.network import surroundings
from mandorla.core.thermal.network_solver import Course, nothing_broken, transient
from mandorla.core.thermal.stack import build_stack
from mandorla.core.thermal.start import settled
from mandorla.core.thermal.steady import cells_of, regulator_of, solve_steady

UNKNOWN: Final = 0.5  # of what it cools by, standard: how wide the opening is, what draught there is
_STEPS: Final = 40


class Cooled(NamedTuple):
    """By how much (K) surface and upper air are colder than they were with the lid shut."""

    surface: float
    air: float


@lru_cache(maxsize=64)
def cooled_by(rig: Rig, bed: float, chamber: float, open_for: float) -> Cooled:
    """What a soaked machine at set points (K) loses while its lid stands open for a time (s); nought in the open."""
    if open_for <= 0.0 or not rig.chamber.enclosed:
        return Cooled(0.0, 0.0)
    stack = build_stack(rig.bed)
    s = surroundings(rig, stack.emissivity_top, stack.emissivity_bottom)
    T, state = settled(rig, stack, solve_steady(rig, bed, chamber, stack, s))
    steps, one = np.full(_STEPS, open_for / _STEPS), np.ones(_STEPS)
    course = Course(steps, bed * one, chamber * one, s.room * one, one, 0.0 * one)
    run = transient(course, cells_of(stack, s), s, regulator_of(rig), T, state, nothing_broken(stack.dx.size))
    return Cooled(max(0.0, float(run.top[0] - run.top[-1])), max(0.0, float(run.air[0] - run.air[-1])))
