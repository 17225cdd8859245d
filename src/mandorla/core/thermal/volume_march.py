"""Compiled march of the three-dimensional stack with its chamber and regulation.

The bed's faces see the chamber's air and panels as they are at the start of a step; the heat that left the bed is then given to
the lumps, which are solved together with their own exchanges. The bed's share of the air's heat capacity over a step is a per
cent, so this order costs less than 0.05 K (docs/theory.md) and conserves heat exactly.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from mandorla.core.compiled import compiled
from mandorla.core.thermal.kernels import (
    CHAMBER_BAND,
    CHAMBER_INTEGRAL,
    S_AIR,
    S_CHAMBER_INTEGRAL,
    S_FRAME,
    S_INTEGRAL,
    S_ON,
    S_READING,
    S_WALL_IN,
    S_WALL_OUT,
    regulated,
    solve_small,
    switched,
)
from mandorla.core.thermal.network import Coefficients, Floats, Surroundings, conductances
from mandorla.core.thermal.volume_kernels import Faces, Grid, factors, side_losses, step

# Columns of the record.
CENTRE, MEAN, LOWEST, SENSOR, SHOWN, AIR_T, FRAME_T, WALL_T, POWER, CHAMBER_POWER = range(10)
COLUMNS = 10
# Rows of the ledger, J.
E_BED, E_CHAMBER, E_MACHINE, E_TOP, E_BOTTOM, E_SIDES, E_LEAK, E_PANELS = range(8)
LEDGER = 8


class Regulation(NamedTuple):
    """Regulator and limits as plain numbers (SI); ``symmetry`` is how many times the modelled piece stands for (4: a quarter)."""

    power_max: float
    chamber_max: float
    supply: float
    bias: float
    tau: float
    on_off: bool
    band: float
    integral_time: float
    hysteresis: float
    symmetry: float


@compiled
def surface_of(T: Floats, g: Grid, faces: Faces) -> Floats:
    """Surface temperatures (ny, nx) from the uppermost cells and what the face sees."""
    _, ny, nx = T.shape
    half = 2.0 * g.k[0] / g.dz[0]
    found = np.empty((ny, nx))
    for j in range(ny):
        for i in range(nx):
            found[j, i] = (half * T[0, j, i] + faces.top[j, i] * faces.top_to[j, i]) / (half + faces.top[j, i])
    return found


@compiled
def look_around(faces: Faces, g: Coefficients, s: Surroundings, air: float, wall: float, shape: Floats) -> None:
    """Set coefficients and temperatures of all faces; ``shape`` (ny, nx) distributes the convection of the top."""
    ny, nx = shape.shape
    h_wall = g.top_wall / s.area
    under_air, under_wall = g.bottom_air / s.area, g.bottom_wall / s.area
    for j in range(ny):
        for i in range(nx):
            h_air = g.top_air / s.area * shape[j, i]
            faces.top[j, i] = h_air + h_wall
            faces.top_to[j, i] = (h_air * air + h_wall * wall) / (h_air + h_wall)
            faces.bottom[j, i] = under_air + under_wall
            faces.bottom_to[j, i] = (under_air * air + under_wall * wall) / (under_air + under_wall)
    h_edge = (g.edge_air + g.edge_wall) / s.perimeter
    for k in range(4):
        if faces.side[k] > 0.0:
            faces.side[k] = h_edge
            faces.side_to[k] = (g.edge_air * air + g.edge_wall * wall) / (g.edge_air + g.edge_wall)


@compiled
def chamber_lumps(
    state: Floats, g: Coefficients, s: Surroundings, room: float, h: float, to_air: float, to_wall: float, heater: float
) -> None:
    """Advance the chamber's lumps by ``h`` (s) with the heat (W) that the bed and the heater give."""
    A, b = np.zeros((4, 4)), np.empty(4)
    A[0, 0] = s.air_capacity / h + g.air_frame + g.air_wall + g.leakage
    A[0, 1] = -g.air_frame
    A[0, 2] = -g.air_wall
    b[0] = s.air_capacity / h * state[S_AIR] + to_air + heater + s.machine_heat + g.leakage * room
    A[1, 0] = -g.air_frame
    A[1, 1] = s.frame_capacity / h + g.air_frame
    b[1] = s.frame_capacity / h * state[S_FRAME]
    A[2, 0] = -g.air_wall
    A[2, 2] = 0.5 * s.wall_capacity / h + g.air_wall + g.wall_wall
    A[2, 3] = -g.wall_wall
    b[2] = 0.5 * s.wall_capacity / h * state[S_WALL_IN] + to_wall
    A[3, 2] = -g.wall_wall
    A[3, 3] = 0.5 * s.wall_capacity / h + g.wall_wall + g.wall_room
    b[3] = 0.5 * s.wall_capacity / h * state[S_WALL_OUT] + g.wall_room * room
    solve_small(A, b)
    state[S_AIR], state[S_FRAME], state[S_WALL_IN], state[S_WALL_OUT] = b[0], b[1], b[2], b[3]


@compiled
def march_rig(
    T: Floats, state: Floats, g: Grid, s: Surroundings, faces: Faces, shape: Floats, sensor: Floats, r: Regulation, h: float,
    bed_set: Floats, chamber_set: Floats, room: Floats, record: Floats, ledger: Floats,
) -> None:  # fmt: skip
    """Take one step of ``h`` (s) for each entry of ``bed_set`` (m,).

    Changes in place: T (nz, ny, nx), ``state``, ``record`` (m, COLUMNS), ``ledger``. The sensor stands over the first cell in x
    and y; set points and the room's temperature hold during a step.
    """
    nz, ny, nx = T.shape
    m = bed_set.size
    D = np.empty_like(T)
    rx, ry = h * g.k * g.dz / (g.dx * g.dx * g.c), h * g.k * g.dz / (g.dy * g.dy * g.c)
    area = g.dx * g.dy
    at = -1.0
    top = surface_of(T, g, faces)
    loss = side_losses(g, faces, h)
    fx, ix = factors(rx, loss[0], loss[1], nx)
    fy, iy = factors(ry, loss[2], loss[3], ny)
    now = conductances(300.0, 300.0, 300.0, 300.0, 300.0, 300.0, 300.0, 300.0, s)
    for n in range(m):
        error = bed_set[n] - (state[S_READING] + r.bias)
        if r.on_off:
            on = switched(error, state[S_ON] > 0.5, r.hysteresis)
            state[S_ON] = 1.0 if on else 0.0
            power = r.power_max * state[S_ON]
        else:
            duty, state[S_INTEGRAL] = regulated(error, state[S_INTEGRAL], h, r.band, r.integral_time)
            power = r.power_max * duty
        heater = 0.0
        if r.chamber_max > 0.0:
            duty, integral = regulated(
                chamber_set[n] - state[S_AIR], state[S_CHAMBER_INTEGRAL], h, CHAMBER_BAND, CHAMBER_INTEGRAL
            )
            state[S_CHAMBER_INTEGRAL] = integral
            heater = r.chamber_max * duty
        power = min(power, r.supply)
        heater = min(heater, max(0.0, r.supply - power))

        mean_top, mean_bottom, mean_all = 0.0, 0.0, 0.0
        for j in range(ny):
            for i in range(nx):
                mean_top += top[j, i]
                mean_bottom += T[nz - 1, j, i]
        mean_top /= nx * ny
        mean_bottom /= nx * ny
        for z in range(nz):
            mean_all += T[z, ny // 2, nx - 1] * g.dz[z]
        moved = mean_top + 0.5 * (mean_bottom + state[S_AIR] + state[S_WALL_IN])
        now_air, now_wall = state[S_AIR], state[S_WALL_IN]
        if n == 0 or abs(moved - at) > 0.05:
            at = moved
            now = conductances(
                mean_top,
                mean_bottom,
                mean_all / s.height,
                state[S_AIR],
                state[S_FRAME],
                state[S_WALL_IN],
                state[S_WALL_OUT],
                room[n],
                s,
            )
            look_around(faces, now, s, now_air, now_wall, shape)
            loss = side_losses(g, faces, h)
            fx, ix = factors(rx, loss[0], loss[1], nx)
            fy, iy = factors(ry, loss[2], loss[3], ny)
        else:
            look_around(faces, now, s, now_air, now_wall, shape)
        out_top, out_bottom, out_side = step(T, D, g, faces, power / r.symmetry, h, loss, fx, ix, fy, iy)
        top = surface_of(T, g, faces)
        # how much of it went to the air, the rest to the panels
        air_top = 0.0
        for j in range(ny):
            for i in range(nx):
                air_top += now.top_air / s.area * shape[j, i] * (top[j, i] - now_air)
        air_top *= area * r.symmetry
        all_top = out_top * r.symmetry / h
        all_bottom, all_side = out_bottom * r.symmetry / h, out_side * r.symmetry / h
        under = now.bottom_air + now.bottom_wall
        T_under = (now.bottom_air * now_air + now.bottom_wall * now_wall) / under + all_bottom / under
        air_bottom = now.bottom_air * (T_under - now_air)
        edge = (now.edge_air + now.edge_wall) * s.height
        T_edge = faces.side_to[1] + all_side / edge
        air_side = now.edge_air * s.height * (T_edge - now_air)
        to_air = air_top + air_bottom + air_side
        if s.enclosed:
            chamber_lumps(state, now, s, room[n], h, to_air, all_top + all_bottom + all_side - to_air, heater)
            ledger[E_CHAMBER] += heater * h
            ledger[E_MACHINE] += s.machine_heat * h
            ledger[E_LEAK] += now.leakage * (state[S_AIR] - room[n]) * h
            ledger[E_PANELS] += now.wall_room * (state[S_WALL_OUT] - room[n]) * h
        else:
            state[S_AIR], state[S_FRAME], state[S_WALL_IN], state[S_WALL_OUT] = room[n], room[n], room[n], room[n]
        ledger[E_BED] += power * h
        ledger[E_TOP] += all_top * h
        ledger[E_BOTTOM] += all_bottom * h
        ledger[E_SIDES] += all_side * h

        truth, lowest, total = 0.0, 1e9, 0.0
        for z in range(nz):
            truth += sensor[z] * T[z, 0, 0]
        for j in range(ny):
            for i in range(nx):
                lowest = min(lowest, top[j, i])
                total += top[j, i]
        state[S_READING] += (truth - state[S_READING]) * h / (r.tau + h)
        record[n, CENTRE] = top[0, 0]
        record[n, MEAN] = total / (nx * ny)
        record[n, LOWEST] = lowest
        record[n, SENSOR] = truth
        record[n, SHOWN] = state[S_READING] + r.bias
        record[n, AIR_T] = state[S_AIR]
        record[n, FRAME_T] = state[S_FRAME]
        record[n, WALL_T] = state[S_WALL_IN]
        record[n, POWER] = power
        record[n, CHAMBER_POWER] = heater
