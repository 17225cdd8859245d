"""Compiled march of the three-dimensional bed with its chamber and regulation.

The bed's faces see the chamber's air and panels as they are at the start of a step; the heat that left the bed is then given to
the nodes, which are solved together with their own exchanges. The bed's share of the air's heat capacity over a step is a per
cent, so this order costs less than 0.05 K (docs/theory.md) and conserves heat exactly.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from mandorla.core.compiled import compiled
from mandorla.core.thermal.control import S_READING, Regulator, duties, feel
from mandorla.core.thermal.network import (
    FRAME,
    INNER,
    LOWER,
    OUTER,
    TO_BOTTOM,
    TO_EDGE,
    TO_FRAME,
    TO_TOP,
    UPPER,
    WALLS,
    WAYS,
    Surroundings,
    conductances,
)
from mandorla.core.thermal.network_elimination import (
    chamber_known,
    chamber_matrix,
    invert,
    mean_wall,
    open_room,
    outer_faces,
)
from mandorla.core.thermal.network_solver import (
    E_BED,
    E_BOTTOM_AIR,
    E_BOTTOM_WALL,
    E_BRACKETS,
    E_CHAMBER,
    E_EDGES,
    E_MACHINE,
    E_TOP_AIR,
    E_TOP_WALL,
    leave,
)
from mandorla.core.thermal.stack import Floats
from mandorla.core.thermal.volume_kernels import (
    Grid,
    Indices,
    Lines,
    Patches,
    advance,
    factor_depth,
    factor_plane,
)

# Columns of the record.
CENTRE, MEAN, LOWEST, SENSOR, SHOWN, AIR_T, FRAME_T, WALL_T, POWER, CHAMBER_POWER = range(10)
COLUMNS = 10
_REFRESH = 0.2  # K, as in kernels
_LOOK = 0.01  # K, by which an air or a panel may move before the patches look again


class VolumeCase(NamedTuple):
    """What the march knows of the bed beside its grid.

    Patches (p,): ``way`` they face, ``shape`` local convection relative to the mean, ``h_air`` W/m²K and
    ``air_share`` of the convection in all (both set by the march). ``shown``
    (q,) patches of the surface map, ``middle`` (c,) those at its middle; ``sensor`` (nz,) weights over the column ``column``
    (j, i); ``times`` is how many such pieces make the bed.
    """

    way: Indices
    shape: Floats
    h_air: Floats
    air_share: Floats
    shown: Indices
    middle: Indices
    sensor: Floats
    column: tuple[int, int]
    times: float


@compiled
def look_around(patches: Patches, scene: VolumeCase, bed: Floats, s: Surroundings) -> None:
    """Set the coefficients of all patches from the conductances ``bed`` (4, 9)."""
    for p in range(patches.cell.size):
        way = scene.way[p]
        air, wall = bed[way, LOWER] + bed[way, UPPER], 0.0
        for i in range(6):
            wall += bed[way, WALLS + i]
        if way == TO_FRAME:
            scene.h_air[p], patches.h[p] = 0.0, 1.0
            scene.air_share[p] = 0.0
        else:
            whole = s.perimeter if way == TO_EDGE else s.area
            scene.h_air[p] = air / whole * scene.shape[p]
            patches.h[p] = scene.h_air[p] + wall / whole
            scene.air_share[p] = scene.h_air[p] / patches.h[p]


@compiled
def surroundings_of(patches: Patches, scene: VolumeCase, bed: Floats, x: Floats) -> None:
    """Set the temperatures that all patches lose to, from the nodes ``x``."""
    wall = np.zeros(WAYS)
    for e in range(WAYS):
        total = 0.0
        for i in range(6):
            total += bed[e, WALLS + i]
            wall[e] += bed[e, WALLS + i] * x[WALLS + i]
        if total > 0.0:
            wall[e] /= total
    wall[TO_FRAME] = x[FRAME]
    for p in range(patches.cell.size):
        way = scene.way[p]
        air = x[UPPER] if way == TO_TOP else x[LOWER]
        patches.to[p] = scene.air_share[p] * air + (1.0 - scene.air_share[p]) * wall[way]


@compiled
def give(
    b: Floats,
    T: Floats,
    patches: Patches,
    scene: VolumeCase,
    bed: Floats,
    s: Surroundings,
    x: Floats,
    ledger: Floats,
    h: float,
    means: Floats,
) -> None:
    """Settle the patches' faces and give the heat (W) that they lose to the nodes' right-hand side ``b`` (9,) and the ledger (J).

    ``x`` are the nodes as the patches see them. Sets the mean temperature of each way's patches in ``means`` (4,).
    """
    warm, area = np.zeros(WAYS), np.zeros(WAYS)
    to_air = np.zeros(WAYS)
    flat = T.reshape(-1)
    for p in range(patches.cell.size):
        way = scene.way[p]
        at = flat[patches.cell[p]]
        face = at - patches.fall[p] * (at - patches.to[p])
        patches.face[p] = face
        part = patches.area[p]
        warm[way] += part * face
        area[way] += part
        to_air[way] += scene.h_air[p] * part * (face - (x[UPPER] if way == TO_TOP else x[LOWER]))
    for e in range(WAYS):
        radiated = 0.0
        if area[e] > 0.0:
            means[e] = warm[e] / area[e]
        if e == TO_FRAME:
            q = (warm[e] - area[e] * x[FRAME]) * scene.times
            b[FRAME] += q
            ledger[E_BRACKETS] += q * h
            continue
        whole = s.perimeter if e == TO_EDGE else s.area
        for i in range(6):
            q = bed[e, WALLS + i] / whole * (warm[e] - area[e] * x[WALLS + i]) * scene.times
            b[WALLS + i] += q
            radiated += q
        q = to_air[e] * scene.times
        b[UPPER if e == TO_TOP else LOWER] += q
        if e == TO_TOP:
            ledger[E_TOP_AIR] += q * h
            ledger[E_TOP_WALL] += radiated * h
        elif e == TO_BOTTOM:
            ledger[E_BOTTOM_AIR] += q * h
            ledger[E_BOTTOM_WALL] += radiated * h
        else:
            ledger[E_EDGES] += (q + radiated) * h


@compiled
def march_rig(
    T: Floats, state: Floats, grid: Grid, lines: Lines, patches: Patches, scene: VolumeCase, s: Surroundings, r: Regulator,
    h: float, bed_set: Floats, chamber_set: Floats, room: Floats, door: Floats, record: Floats, ledger: Floats,
) -> None:  # fmt: skip
    """Take one step of ``h`` (s) for each entry of ``bed_set`` (m,).

    Changes in place: T (nz, ny, nx), ``state``, the patches, ``record`` (m, COLUMNS) and ``ledger``. Set points, the room's
    temperature and the door (1 open) hold during a step.
    """
    nz = T.shape[0]
    j, i = scene.column
    A, inverse, b, x = np.empty((INNER, INNER)), np.zeros((INNER, INNER)), np.empty(INNER), np.empty(INNER)
    was, was_open = np.full(6, -1.0), -1.0
    now, means = np.empty(6), np.full(WAYS, state[LOWER])
    give(b, T, patches, scene, np.zeros((WAYS, INNER)), s, state, np.zeros(ledger.size), h, means)
    seen = state[:INNER].copy()  # the nodes as the patches see them
    g = conductances(300.0, 300.0, 300.0, state, room[0], 0.0, s)
    factor_plane(grid, h, lines)
    heater_mass = grid.source.sum() * grid.heat.sum()
    for n in range(bed_set.size):
        now[0], now[1], now[2], now[3] = means[TO_TOP], means[TO_BOTTOM], state[LOWER], state[UPPER]
        now[4], now[5] = state[WALLS + 5], state[OUTER + 5]
        fresh = np.abs(now - was).max() > _REFRESH or door[n] != was_open
        if fresh:
            was[:], was_open = now, door[n]
            g = conductances(means[TO_TOP], means[TO_BOTTOM], means[TO_EDGE], state, room[n], door[n], s)
            look_around(patches, scene, g.bed, s)
            factor_depth(grid, patches, h, lines)
            if s.enclosed:
                chamber_matrix(A, g, s, 1.0 / h)
                invert(A, inverse)
        # renewed when an air or a panel has moved by a little; what leaves the bed and what the chamber gets stay the same heat
        drifted = fresh
        for row in range(INNER):
            drifted = drifted or abs(state[row] - seen[row]) > _LOOK
        if drifted:
            for row in range(INNER):
                seen[row] = state[row]
            surroundings_of(patches, scene, g.bed, seen)
        heater_T = 0.0
        for z in range(nz):
            if grid.source[z] > 0.0:
                warm = 0.0
                for q in range(T.shape[1]):
                    for w in range(T.shape[2]):
                        warm += T[z, q, w] * grid.heat[q, w]
                heater_T += grid.source[z] * warm / heater_mass
        power, heater = duties(bed_set[n], chamber_set[n], state, h, heater_T, r)
        advance(T, grid, patches, power, h, lines)
        chamber_known(b, state, g, s, room[n], 1.0 / h)
        give(b, T, patches, scene, g.bed, s, seen, ledger, h, means)
        if s.enclosed:
            b[UPPER if s.heater_upper else LOWER] += heater
            for row in range(INNER):
                x[row] = 0.0
                for column in range(INNER):
                    x[row] += inverse[row, column] * b[column]
            ledger[E_CHAMBER] += heater * h
            ledger[E_MACHINE] += (s.heat_lower + s.heat_upper) * h
        else:
            open_room(x, s, room[n])
        outer_faces(x, state, g, s, room[n], 1.0 / h)
        if s.enclosed:
            leave(ledger, g, state, room[n], h)
        ledger[E_BED] += power * h
        truth = 0.0
        for z in range(nz):
            truth += scene.sensor[z] * T[z, j, i]
        feel(state, truth, h, s, r)
        total, lowest, centre = 0.0, 1e9, 0.0
        for p in scene.shown:
            total += patches.face[p]
            lowest = min(lowest, patches.face[p])
        for p in scene.middle:
            centre += patches.face[p]
        row = record[n]
        row[CENTRE], row[MEAN], row[LOWEST] = centre / scene.middle.size, total / scene.shown.size, lowest
        row[SENSOR], row[SHOWN] = truth, state[S_READING] + r.bias
        row[AIR_T], row[FRAME_T], row[WALL_T] = state[UPPER], state[FRAME], mean_wall(state, s)
        row[POWER], row[CHAMBER_POWER] = power, heater
