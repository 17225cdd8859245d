"""Compiled march of the three-dimensional bed with its chamber and regulation.

The bed's faces see the chamber's air and panels as they are at the start of a step; the heat that left the bed is then given to
the nodes, which are solved together with their own exchanges. The bed's share of the air's heat capacity over a step is a per
cent, so this order costs less than 0.05 K (docs/theory.md) and conserves heat exactly.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from mandorla.core.compiled import compiled
from mandorla.core.thermal.control import S_READING, STATE, Regulator, duties, feel
from mandorla.core.thermal.ledger import (
    BED,
    BRACKETS,
    CHAMBER,
    EDGES,
    LINES,
    MACHINE,
    TOP_AIR,
    TOP_RADIATED,
    UNDERSIDE_AIR,
    UNDERSIDE_RADIATED,
)
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
    Outside,
    Surroundings,
    conductances,
)
from mandorla.core.thermal.network_elimination import (
    chamber_known,
    chamber_matrix,
    factor_nodes,
    mean_wall,
    open_room,
    outer_faces,
    solve_nodes,
)
from mandorla.core.thermal.network_solver import FUSE_LAG, Course, Event, leave
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

_REFRESH = 0.2  # K, as in network_solver
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


class VolumeBed(NamedTuple):
    """The bed as it marches: temperatures ``T`` (nz, ny, nx) in K, its grid with working space, its faces."""

    T: Floats
    grid: Grid
    lines: Lines
    patches: Patches
    scene: VolumeCase


class VolumeRun(NamedTuple):
    """Curves (m,) of a march: ``centre``, ``mean`` and ``lowest`` of the surface, the ``sensor`` and what is ``shown``, ``air``,
    ``frame`` and mean ``wall`` in K; ``power`` and ``chamber_power`` in W."""

    centre: Floats
    mean: Floats
    lowest: Floats
    sensor: Floats
    shown: Floats
    air: Floats
    frame: Floats
    wall: Floats
    power: Floats
    chamber_power: Floats


@compiled
def _empty_volume_run(steps: int) -> VolumeRun:
    return VolumeRun(
        np.empty(steps), np.empty(steps), np.empty(steps), np.empty(steps), np.empty(steps), np.empty(steps), np.empty(steps),
        np.empty(steps), np.empty(steps), np.empty(steps),
    )  # fmt: skip


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
    b: Floats, bed: VolumeBed, exchange: Floats, s: Surroundings, x: Floats, book: Floats, h: float, means: Floats
) -> None:
    """Settle the patches' faces and give the heat (W) that they lose to the nodes' right-hand side ``b`` (9,) and the book (J).

    ``x`` are the nodes as the patches see them, ``exchange`` (4, 9) the conductances to them. Sets the mean temperature of each
    way's patches in ``means`` (4,).
    """
    patches, scene = bed.patches, bed.scene
    warm, area = np.zeros(WAYS), np.zeros(WAYS)
    to_air = np.zeros(WAYS)
    flat = bed.T.reshape(-1)
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
            book[BRACKETS] += q * h
            continue
        whole = s.perimeter if e == TO_EDGE else s.area
        for i in range(6):
            q = exchange[e, WALLS + i] / whole * (warm[e] - area[e] * x[WALLS + i]) * scene.times
            b[WALLS + i] += q
            radiated += q
        q = to_air[e] * scene.times
        b[UPPER if e == TO_TOP else LOWER] += q
        if e == TO_TOP:
            book[TOP_AIR] += q * h
            book[TOP_RADIATED] += radiated * h
        elif e == TO_BOTTOM:
            book[UNDERSIDE_AIR] += q * h
            book[UNDERSIDE_RADIATED] += radiated * h
        else:
            book[EDGES] += (q + radiated) * h


@compiled
def _heater_temperature(T: Floats, grid: Grid) -> float:
    """Temperature (K) of the heater, weighed as it heats."""
    total = 0.0
    for z in range(T.shape[0]):
        if grid.source[z] > 0.0:
            warm = 0.0
            for q in range(T.shape[1]):
                for w in range(T.shape[2]):
                    warm += T[z, q, w] * grid.heat[q, w]
            total += grid.source[z] * warm
    return float(total / (grid.source.sum() * grid.heat.sum()))


@compiled
def _note_surface(run: VolumeRun, n: int, patches: Patches, scene: VolumeCase) -> None:
    total, lowest, centre = 0.0, 1e9, 0.0
    for p in scene.shown:
        total += patches.face[p]
        lowest = min(lowest, patches.face[p])
    for p in scene.middle:
        centre += patches.face[p]
    run.centre[n], run.mean[n], run.lowest[n] = centre / scene.middle.size, total / scene.shown.size, lowest


@compiled
def _blow_in_volume(event: Event, fuse_T: Floats, T: Floats, h: float, clock: float) -> None:
    """Fuses follow the hottest cells of their layers; one that reaches its limit opens for good."""
    for f in range(event.opened.size):
        hottest = 0.0
        for z in range(T.shape[0]):
            if event.fuse[f, z] > 0.0:
                hottest = max(hottest, T[z].max())
        fuse_T[f] += (hottest - fuse_T[f]) * h / (FUSE_LAG + h)
        if event.opened[f] < 0.0 and fuse_T[f] >= event.fuse_limit[f]:
            event.opened[f] = clock


@compiled
def march_rig(
    bed: VolumeBed, state: Floats, course: Course, s: Surroundings, r: Regulator, book: Floats, event: Event, clock: float
) -> VolumeRun:  # fmt: skip
    """Take the steps of a course, all of one length.

    Parameters
    ----------
    bed, state
        The bed, and the state of chamber and regulation; both are changed in place.
    course
        Steps (m,) and what is given during each of them.
    s, r
        What surrounds the bed, and the regulation.
    book
        Where the heat goes (LINES,) in J; added to.
    event, clock
        The thermal fuses, whose opening is written into it, and the time (s) at the course's beginning.

    Returns
    -------
    VolumeRun
        One row a step, at its end.
    """
    T, grid, lines, patches, scene = bed
    h = course.dt[0]
    run = _empty_volume_run(course.dt.size)
    nz = T.shape[0]
    j, i = scene.column
    A, x = np.empty((INNER, INNER)), np.empty(INNER)
    was, was_open, was_blown = np.full(6, -1.0), -1.0, -1.0
    now, means = np.empty(6), np.full(WAYS, state[LOWER])
    give(x, bed, np.zeros((WAYS, INNER)), s, state, np.zeros(LINES), h, means)
    seen = state[:INNER].copy()  # the nodes as the patches see them
    g = conductances(300.0, 300.0, 300.0, state, Outside(course.room[0], 0.0, 0.0), s)
    factor_plane(grid, h, lines)
    for n in range(course.dt.size):
        room, door, blows = course.room[n], course.door[n], course.blows[n]
        now[0], now[1], now[2], now[3] = means[TO_TOP], means[TO_BOTTOM], state[LOWER], state[UPPER]
        now[4], now[5] = state[WALLS + 5], state[OUTER + 5]
        fresh = np.abs(now - was).max() > _REFRESH or door != was_open or blows != was_blown
        if fresh:
            was[:], was_open, was_blown = now, door, blows
            g = conductances(means[TO_TOP], means[TO_BOTTOM], means[TO_EDGE], state, Outside(room, door, blows), s)
            look_around(patches, scene, g.bed, s)
            factor_depth(grid, patches, h, lines)
            if s.enclosed:
                chamber_matrix(A, g, s, 1.0 / h)
                factor_nodes(A)
        # renewed when an air or a panel has moved by a little; what leaves the bed and what the chamber gets stay the same heat
        drifted = fresh
        for row in range(INNER):
            drifted = drifted or abs(state[row] - seen[row]) > _LOOK
        if drifted:
            for row in range(INNER):
                seen[row] = state[row]
            surroundings_of(patches, scene, g.bed, seen)
        heater_T = _heater_temperature(T, grid)
        power, heater = duties(course.bed[n], course.chamber[n], state, h, heater_T, r)
        for f in range(event.opened.size):
            if event.opened[f] >= 0.0:
                power = 0.0
        advance(T, grid, patches, power, h, lines)
        chamber_known(x, state, g, s, room, 1.0 / h)
        give(x, bed, g.bed, s, seen, book, h, means)
        if s.enclosed:
            x[UPPER if s.heater_upper else LOWER] += heater
            solve_nodes(A, x)
            book[CHAMBER] += heater * h
            book[MACHINE] += (s.heat_lower + s.heat_upper) * h
        else:
            open_room(x, s, room)
        outer_faces(x, state, g, s, room, 1.0 / h)
        if s.enclosed:
            leave(book, g, state, room, h)
        book[BED] += power * h
        truth = 0.0
        for z in range(nz):
            truth += scene.sensor[z] * T[z, j, i]
        feel(state, truth, h, s, r)
        clock += h
        _blow_in_volume(event, state[STATE:], T, h, clock)
        _note_surface(run, n, patches, scene)
        run.sensor[n], run.shown[n] = truth, state[S_READING] + r.bias
        run.air[n], run.frame[n], run.wall[n] = state[UPPER], state[FRAME], mean_wall(state, s)
        run.power[n], run.chamber_power[n] = power, heater
    return run
