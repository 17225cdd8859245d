"""The state a march begins with: a cold machine, or one that the job before has left warm."""

from __future__ import annotations

from typing import Final, NamedTuple

import numpy as np

from mandorla.core.rig.model import Rig
from mandorla.core.rig.start import COLD, FRAME_COLD, SWAPPED, WARM
from mandorla.core.thermal import control
from mandorla.core.thermal.network import FRAME, NODES, WALLS, Surroundings
from mandorla.core.thermal.network_solver import Course, nothing_broken, transient
from mandorla.core.thermal.stack import Floats, Stack
from mandorla.core.thermal.steady import SteadyState, cells_of, regulator_of, solve_steady
from mandorla.core.units import OFF

_STEP: Final = 5.0  # s, of the time between two jobs


class StartState(NamedTuple):
    """Temperatures ``cells`` (n,) of the stack in K, and the ``state`` of chamber and regulation (control.cold_state)."""

    cells: Floats
    state: Floats


def settled(rig: Rig, stack: Stack, steady: SteadyState) -> StartState:
    """The state of a machine that has come to rest at a steady state, its regulators included."""
    state = control.cold_state(rig.start_temperature, len(rig.bed.fuses))
    r, rise = regulator_of(rig), steady.plate - steady.air
    state[:NODES] = steady.nodes
    lateral = stack.lateral
    state[control.S_READING] = (
        steady.plate + float(lateral.per_watt.sum()) * steady.power + float(lateral.per_kelvin.sum()) * rise
    )
    state[control.S_INTEGRAL] = min(1.0, max(0.0, steady.power / max(r.power_max, 1e-9)))
    state[control.S_CHAMBER] = steady.sensed_air - r.chamber_bias
    state[control.S_CHAMBER_INTEGRAL] = min(1.0, max(0.0, steady.chamber_power / max(r.chamber_max, 1e-9)))
    state[control.S_LATE : control.S_RISE] = steady.power
    state[control.S_RISE : control.STATE] = rise
    state[control.STATE :] = float(np.max(steady.cells))
    return StartState(np.array(steady.cells), state)


def start_of(rig: Rig, stack: Stack, s: Surroundings) -> StartState:
    """The state in which a job begins (:class:`mandorla.core.rig.start.Start`).

    Between two jobs the door may stand open and the heaters be off.
    Raises :class:`SolverError` when the job before has no steady state.
    """
    start, room = rig.start, rig.start_temperature
    if start.kind == COLD:
        return StartState(np.full(stack.dx.size, room), control.cold_state(room, len(rig.bed.fuses)))
    was = settled(rig, stack, solve_steady(rig, start.bed, start.chamber, stack, s))
    if start.kind == FRAME_COLD:
        was.state[FRAME] = room
        was.state[WALLS:NODES] = room
        return was
    assert start.kind in (WARM, SWAPPED)
    count = max(1, round(start.since / _STEP))
    steps, ends = np.full(count, _STEP), _STEP * np.arange(1, count + 1)
    course = Course(
        steps, np.full(count, start.bed if start.held else OFF),
        np.full(count, start.chamber if start.held else OFF), np.full(count, room),
        (ends <= start.door_open + 1e-6).astype(np.float64), np.full(count, rig.draft),
    )  # fmt: skip
    transient(course, cells_of(stack, s), s, regulator_of(rig), was.cells, was.state, nothing_broken(stack.dx.size))
    lowest = rig.bed.loose_plate
    if start.kind == SWAPPED and lowest is not None:
        was.cells[stack.layer <= lowest] = room
    return was
