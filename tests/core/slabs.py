"""Plain slabs for the production kernels: given coefficients on both faces instead of correlations."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from mandorla.core.thermal import control, network_elimination, network_solver
from mandorla.core.thermal.network import Surroundings
from mandorla.core.thermal.radiation import BED_TOP
from mandorla.core.thermal.stack import EVEN, Floats


class Layer(NamedTuple):
    """A layer for a reference case: m, W/m·K, kg/m³, J/kg·K, cells, joint to the next layer in m²K/W."""

    thickness: float
    k: float
    rho: float
    cp: float
    cells: int
    joint: float = 0.0


class Slab(NamedTuple):
    """The arrays that the kernels take for a stack of one square metre."""

    dx: Floats
    k: Floats
    capacity: Floats
    conductance: Floats


def slab(layers: Sequence[Layer]) -> Slab:
    """Cut layers into equal cells."""
    dx = np.concatenate([np.full(a.cells, a.thickness / a.cells) for a in layers])
    k = np.concatenate([np.full(a.cells, a.k) for a in layers])
    capacity = np.concatenate([np.full(a.cells, a.rho * a.cp * a.thickness / a.cells) for a in layers])
    joint = np.concatenate([np.r_[np.zeros(a.cells - 1), a.joint] for a in layers])[:-1]
    half = 0.5 * dx / k
    return Slab(dx, k, capacity, 1.0 / (half[:-1] + half[1:] + joint))


def surroundings(*, room: float, h_top: float, h_bottom: float = 0.0, emissivity_top: float = 0.0) -> Surroundings:
    """An open room around one square metre without edges."""
    six, exchange = np.ones(6), np.zeros((8, 8))
    exchange[BED_TOP, 0] = emissivity_top
    return Surroundings(
        enclosed=False, room=room, draft_cooler=0.0, area=1.0, length=0.25, perimeter=0.0, height=1.0, air_speed=0.0,
        flow_length=1.0, exchange=exchange, edge_exchange=np.zeros(6), panel_area=six, panel_length=six, tilt=six, upper=six,
        mid=six, cap_in=six, cap_out=six, outside_emissivity=six, air_heat=1.0, cold=room, leak_flow=0.0, vent_area=0.0,
        exhaust_flow=0.0, exhaust_above=0.0,
        door_width=0.0, door_height=0.0, chamber_height=1.0, opening=0.0, mixing_flow=0.0, lower_capacity=1.0, upper_capacity=1.0,
        frame_capacity=1.0, frame_area=0.0, heat_lower=0.0, heat_upper=0.0, heater_upper=False, sensor_upper=True, convection=1.0,
        films=1.0, mixing=1.0, covered=0.0, through_part=0.0, fan_speed=0.0,
        h_top=h_top, h_bottom=h_bottom,
    )  # fmt: skip


def _cells(body: Slab, source: Floats, sensor: Floats) -> network_elimination.StackCells:
    """One square metre of slab, bare above and below."""
    n = body.dx.size
    first, last = np.r_[1.0, np.zeros(n - 1)], np.r_[np.zeros(n - 1), 1.0]
    half, whole = 2.0 * body.k / body.dx, np.full(n, np.inf)
    weight = np.stack([first, last, body.dx, np.zeros(n)])
    return network_elimination.StackCells(
        body.capacity, body.conductance, source, sensor, body.dx, EVEN, weight, np.stack([half, half, whole, whole])
    )  # fmt: skip


def _regulator(power_max: float) -> control.Regulator:
    return control.Regulator(power_max, 0.0, 0.0, 0.0, 1.0, 1e9, 0.0, 1.0, False, 5.0, 100.0, 0.0, 1.0, 3.0, 240.0)


def march(body: Slab, around: Surroundings, start: float, steps: Floats, room: Floats | None = None) -> Floats:
    """Cell temperatures (m+1, n) of an unheated slab."""
    n = body.dx.size
    outside = np.full(steps.size, around.room) if room is None else room
    return network_solver.transient(
        network_solver.Course(steps, outside, outside, outside, *np.zeros((2, steps.size))),
        _cells(body, np.zeros(n), np.r_[1.0, np.zeros(n - 1)]), around, _regulator(1.0), np.full(n, start),
        control.cold_state(start), network_solver.nothing_broken(n),
    ).cells  # fmt: skip


def steady(body: Slab, around: Surroundings, bottom: float, power_max: float = 1e9) -> network_solver.SteadyNetwork:
    """Steady state with the lowest cell held at ``bottom`` by its heater."""
    n = body.dx.size
    last = np.r_[np.zeros(n - 1), 1.0]
    found = network_solver.steady(
        bottom, around.room, _cells(body, last, last), around, _regulator(power_max), network_solver.HeaterLimits(0.0, 0.0),
        1e-9, 200,
    )  # fmt: skip
    assert found.iterations > 0
    return found
