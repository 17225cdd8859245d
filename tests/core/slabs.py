"""Plain slabs for the production kernels: given coefficients on both faces instead of correlations."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from mandorla.core.thermal import kernels
from mandorla.core.thermal.network import Surroundings
from mandorla.core.thermal.stack import Floats


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
    return Surroundings(
        enclosed=False, room=room, area=1.0, length=0.25, perimeter=0.0, height=1.0, exchange_top=emissivity_top,
        exchange_bottom=0.0, exchange_edge=0.0, air_speed=0.0, flow_length=1.0, wall_area=1.0, wall_height=1.0,
        wall_conductance=1.0, wall_capacity=1.0, wall_emissivity=0.9, leakage=0.0, air_capacity=1.0, frame_capacity=1.0,
        frame_area=0.0, machine_heat=0.0, convection=1.0, h_top=h_top, h_bottom=h_bottom,
    )  # fmt: skip


def march(
    body: Slab, around: Surroundings, start: float, steps: Floats, room: Floats | None = None
) -> tuple[Floats, Floats]:
    """Record and cell temperatures of an unheated slab."""
    n = body.dx.size
    outside = np.full(steps.size, around.room) if room is None else room
    nothing, first = np.zeros(n), np.r_[1.0, np.zeros(n - 1)]
    record, cells, _ = kernels.transient(
        steps, outside, outside, outside, body.dx, body.k, body.capacity, body.conductance, nothing, first, around,
        1.0, 0.0, 1e9, 0.0, 1.0, False, 5.0, 100.0, 1.0, np.full(n, start), kernels.cold_state(start), kernels.nothing_broken(n),
    )  # fmt: skip
    return record, cells


def steady(body: Slab, around: Surroundings, bottom: float, power_max: float = 1e9) -> tuple[Floats, float, float]:
    """Steady cell temperatures, surface temperature and power with the lowest cell held at ``bottom`` by its heater."""
    n = body.dx.size
    last = np.r_[np.zeros(n - 1), 1.0]
    T, top, _, power, _, count = kernels.steady(
        bottom, around.room, body.dx, body.k, body.conductance, last, last, around, power_max, 0.0, 0.0, 1e-9, 200
    )
    assert count > 0
    return T[:n], top, power
