"""The surface map over time: the three-dimensional transient of the stack in its chamber, from a cold rig on."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

import numpy as np
from numpy.typing import NDArray
from scipy.interpolate import RegularGridInterpolator

from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.runtime import RunContext
from mandorla.core.thermal import control
from mandorla.core.thermal import volume_march as march
from mandorla.core.thermal.bed_raster import Plan, edge_shape, is_symmetric, plan_of
from mandorla.core.thermal.fuses import Trip, closed_fuses, trips_of
from mandorla.core.thermal.heatup import course_of, ready_since, stored_heat
from mandorla.core.thermal.lateral_conduction import directed_draft, local_convection, unfolded
from mandorla.core.thermal.ledger import LINES, from_bed, given_in, ledger_of, where_it_went
from mandorla.core.thermal.network import (
    FRAME,
    TO_BOTTOM,
    TO_EDGE,
    TO_FRAME,
    TO_TOP,
    UPPER,
    Surroundings,
    surroundings,
)
from mandorla.core.thermal.network_elimination import mean_wall
from mandorla.core.thermal.stack import Floats, Stack, build_stack, cut_layers, links
from mandorla.core.thermal.start import start_of
from mandorla.core.thermal.steady import regulator_of
from mandorla.core.thermal.volume_kernels import Grid, Patches, room_for

CELLS: Final = 24  # along each half side of the bed
_FINE_UNTIL: Final = 30.0  # s
_FINE: Final = 0.5  # s, step until then


@dataclass(frozen=True, slots=True)
class SurfaceHistory:
    """Surface of the whole bed over time; temperatures in K, all arrays read-only.

    ``map_time`` (p,) s and ``maps`` (p, ny, nx) with the centres ``x`` (nx,), ``y`` (ny,) m from the bed's middle. Curves
    (m,): ``time`` s, ``centre``, ``mean`` and ``lowest`` of the surface, ``reading`` of the sensor, ``air``, ``power`` and
    ``chamber_power`` W. ``ledger`` J by destination, ``from_bed`` J by the way it left the bed,
    ``closure`` the unbalanced share of the energy put in, ``trips`` the thermal fuses that opened.
    """

    x: Floats
    y: Floats
    map_time: Floats
    maps: Floats
    time: Floats
    centre: Floats
    mean: Floats
    lowest: Floats
    reading: Floats
    air: Floats
    power: Floats
    chamber_power: Floats
    ledger: Mapping[str, float]
    from_bed: Mapping[str, float]
    closure: float
    trips: tuple[Trip, ...] = ()

    def map_at(self, time: float) -> Floats:
        """The surface map (ny, nx) at a time, between the kept ones in proportion."""
        i = int(np.clip(np.searchsorted(self.map_time, time), 1, self.map_time.size - 1))
        share = float(np.clip((time - self.map_time[i - 1]) / (self.map_time[i] - self.map_time[i - 1]), 0.0, 1.0))
        return np.asarray((1.0 - share) * self.maps[i - 1] + share * self.maps[i])


@dataclass(frozen=True, slots=True)
class UnderPart:
    """Surface under a footprint: coldest and hottest point (m, from the bed's middle) with their temperatures and the mean (K)."""

    coldest: float
    coldest_at: tuple[float, float]
    hottest: float
    hottest_at: tuple[float, float]
    mean: float


@dataclass(frozen=True, slots=True)
class Volume:
    """A bed cut into boxes, ready to march; ``shown`` (ny, nx) is the patch that the surface map shows in each column, -1 none."""

    plan: Plan
    grid: Grid
    patches: Patches
    scene: march.VolumeCase
    shown: NDArray[np.int64]

    def surface(self) -> Floats:
        """The present surface map (ny, nx) of the piece in K; NaN where there is no bed."""
        return np.where(self.shown >= 0, self.patches.face[np.maximum(self.shown, 0)], np.nan)


def cut_volume(rig: Rig, cells: int, refine: int = 1) -> Volume:
    """Cut a rig's bed into boxes: a quarter with ``cells`` along each half side where it is symmetric, else all of it."""
    bed = rig.bed
    directed = directed_draft(rig)
    quarter = is_symmetric(bed, directed)
    plan = plan_of(bed, cells if quarter else 2 * cells, quarter=quarter)
    cut = cut_layers(bed, refine, thrifty=True)
    stack = build_stack(bed, refine, thrifty=True)
    dx, dy = float(plan.ex[1] - plan.ex[0]), float(plan.ey[1] - plan.ey[0])
    cover, present = plan.cover[cut.layer], (plan.cover + plan.gap)[cut.layer]
    k, dz = cut.k[:, None, None], cut.dx[:, None, None]
    capacity = cover * cut.rho_c[:, None, None] * dz * plan.cell_area
    # cells that hold nothing but air, or nothing, get the capacity of air: they follow what they touch
    capacity = np.maximum(capacity, 1200.0 * dz * plan.cell_area)
    sheet = k * dz * cover
    with np.errstate(divide="ignore", invalid="ignore"):
        east = np.where(both(sheet, 2), 2.0 * dy / dx / (1.0 / sheet[:, :, 1:] + 1.0 / sheet[:, :, :-1]), 0.0)
        north = np.where(both(sheet, 1), 2.0 * dx / dy / (1.0 / sheet[:, 1:] + 1.0 / sheet[:, :-1]), 0.0)
    below = links(cut, plan.cover, plan.gap, plan.lifted) * plan.cell_area
    grid = Grid(capacity, east, north, below, np.array(stack.source), plan.heat)

    firsts = np.flatnonzero(np.diff(cut.layer, prepend=-1) > 0)
    lasts = np.flatnonzero(np.diff(cut.layer, append=cut.layer[-1] + 1) > 0)
    shape = np.asarray(edge_shape(bed, plan))
    if directed:
        s = surroundings(rig, stack.emissivity_top, stack.emissivity_bottom)
        warm = rig.start_temperature + 70.0
        shape = local_convection(rig, plan, shape, warm, rig.start_temperature, s)
    nz, ny, nx = capacity.shape
    index = np.arange(nz * ny * nx).reshape(nz, ny, nx)
    face = 2.0 * cut.k / cut.dx
    parts = []
    for way, at, bare in ((TO_TOP, firsts, plan.up), (TO_BOTTOM, lasts, plan.down)):
        for layer, z in enumerate(at.tolist()):
            some = bare[layer] > 1e-6
            area = bare[layer][some] * plan.cell_area
            local = shape[some] if way == TO_TOP else np.ones(area.size)
            parts.append((index[z][some], np.full(area.size, way), area, face[z] * area, local))
    for z in range(nz):
        some = (plan.rim > 0.0) & (present[z] > 1e-6)
        area = plan.rim[some] * cut.dx[z]
        parts.append(
            (index[z][some], np.full(area.size, TO_EDGE), area, 2.0 * cut.k[z] / min(dx, dy) * area, np.ones(area.size))
        )
    for layer, z in enumerate(firsts.tolist()):
        some = plan.bracket[layer] > 0.0
        held = plan.bracket[layer][some]
        parts.append((index[z][some], np.full(held.size, TO_FRAME), held, np.full(held.size, 1e9), np.ones(held.size)))
    cell, way_of, areas, halves, local = (np.concatenate([part[i] for part in parts]) for i in range(5))
    start = rig.start_temperature
    nothing, cold = np.zeros(cell.size), np.full(cell.size, start)
    patches = Patches(
        cell, areas, halves, np.full(cell.size, 5.0), nothing, nothing.copy(), cold, cold.copy()
    )  # fmt: skip
    shown = np.full((ny, nx), -1)
    largest = np.zeros((ny, nx))
    for p in np.flatnonzero(way_of == TO_TOP):
        j, i = divmod(int(cell[p]) % (ny * nx), nx)
        if areas[p] > largest[j, i]:
            largest[j, i], shown[j, i] = areas[p], p
    middle = shown[:1, :1] if quarter else shown[(ny - 1) // 2 : ny // 2 + 1, (nx - 1) // 2 : nx // 2 + 1]
    x, y = plan.centres
    column = (int(np.abs(y - bed.sensor.y).argmin()), int(np.abs(x - bed.sensor.x).argmin()))
    scene = march.VolumeCase(
        way_of.astype(np.int64), local, np.zeros(cell.size), np.zeros(cell.size), np.sort(shown[shown >= 0]),
        np.ravel(middle[middle >= 0]),
        np.array(stack.sensor), column, float(plan.times),
    )  # fmt: skip
    return Volume(plan, grid, patches, scene, shown)


def both(values: Floats, axis: int) -> NDArray[np.bool_]:
    """Where two neighbours along an axis are both positive."""
    n = values.shape[axis]
    there = values > 0.0
    return np.asarray(there.take(range(1, n), axis) & there.take(range(n - 1), axis))


def _by_depth(even: Stack, cut: Stack, cells: Floats) -> Floats:
    """Temperatures (n,) of a stack's cells from those (m,) of one that is cut otherwise, layer by layer."""
    found = np.empty(cut.depth.size)
    for layer in np.unique(cut.layer):
        here, there = cut.layer == layer, even.layer == layer
        found[here] = np.interp(cut.depth[here], even.depth[there], cells[there])
    return found


def _first_moment(surface: float, state: Floats, s: Surroundings, bias: float) -> march.VolumeRun:
    """What a march begins with, as a run of one row; ``surface`` K everywhere."""
    reading = float(state[control.S_READING])
    values = (
        surface, surface, surface, reading, reading + bias, float(state[UPPER]), float(state[FRAME]),
        float(mean_wall(state, s)), 0.0, 0.0,
    )  # fmt: skip
    return march.VolumeRun(*(np.array([v]) for v in values))


def surface_history(
    rig: Rig, settings: Settings, horizon: float, run: RunContext | None = None, *, cells: int = CELLS, dt: float = 2.0,
    every: float = 30.0, refine: int = 1, lowered: float = math.inf,
) -> SurfaceHistory:  # fmt: skip
    """Heat the rig from the start of the job at the first-layer set points for ``horizon`` s.

    From ``lowered`` (s) on the set point is that of the rest. Where the bed is symmetric about its middle a quarter is solved;
    ``cells`` along each half side, steps of ``dt`` s, a map kept ``every`` s. Raises :class:`Cancelled` when asked to stop."""
    run = run or RunContext()
    bed = rig.bed
    volume = cut_volume(rig, cells, refine)
    stack = build_stack(bed, refine, thrifty=True)
    s = surroundings(rig, stack.emissivity_top, stack.emissivity_bottom)
    even = build_stack(bed)
    begins = start_of(rig, even, surroundings(rig, even.emissivity_top, even.emissivity_bottom))
    T = np.array(np.broadcast_to(_by_depth(even, stack, begins.cells)[:, None, None], volume.grid.capacity.shape))
    before = T.copy()
    volume.patches.face[:] = T[0, 0, 0]
    marching = march.VolumeBed(T, volume.grid, room_for(volume.grid), volume.patches, volume.scene)
    state, fuses = begins.state, closed_fuses(bed, stack)
    nothing = np.full(stack.dx.size, rig.start_temperature)
    held = stored_heat(stack, s, nothing, state, rig.start_temperature) if s.enclosed else 0.0
    begun = _first_moment(float(T[0, 0, 0]), state, s, bed.sensor.bias)
    book = np.zeros(LINES)
    runs, times, maps, map_time = [], [0.0], [volume.surface()], [0.0]
    now = 0.0
    while now < horizon - 1e-6:
        h = _FINE if now < _FINE_UNTIL - 1e-6 else dt
        until = min(horizon, lowered) if now < lowered - 0.5 * h else horizon
        count = max(1, round(min(every, until - now) / h))
        steps = np.full(count, h)
        given = course_of(rig, settings, steps, now)
        if now >= lowered - 0.5 * h:
            given.bed[:] = settings.bed_rest
        runs.append(march.march_rig(marching, state, given, s, regulator_of(rig), book, fuses, now))
        times.extend(now + h * np.arange(1, count + 1))
        now += h * count
        maps.append(volume.surface())
        map_time.append(now)
        run.checkpoint(min(1.0, now / horizon), "surface map over time")
    curves = march.VolumeRun(*(np.concatenate(pieces) for pieces in zip(begun, *runs, strict=True)))
    plan = volume.plan
    stored = float((volume.grid.capacity * (T - before)).sum()) * plan.times
    if s.enclosed:
        stored += stored_heat(stack, s, nothing, state, rig.start_temperature) - held
    ledger = ledger_of(book)
    where = where_it_went(s.enclosed, ledger, stored)
    put_in = given_in(ledger)
    x, y = plan.centres
    if plan.times == 4:
        x, y = np.concatenate([-x[::-1], x]), np.concatenate([-y[::-1], y])
    whole = np.stack([unfolded(m, plan.times) for m in maps])
    time, kept = np.array(times), np.array(map_time)
    for array in (x, y, whole, time, kept, *curves):
        array.setflags(write=False)
    return SurfaceHistory(
        x=x, y=y, map_time=kept, maps=whole, time=time, centre=curves.centre, mean=curves.mean, lowest=curves.lowest,
        reading=curves.shown, air=curves.air, power=curves.power, chamber_power=curves.chamber_power,
        ledger=where, from_bed=from_bed(ledger),
        closure=(put_in - sum(where.values())) / max(put_in, 1e-9), trips=trips_of(bed, fuses),
    )  # fmt: skip


def section_along(
    history: SurfaceHistory, surface: Floats, start: tuple[float, float], end: tuple[float, float], points: int = 121
) -> tuple[Floats, Floats]:
    """Temperatures (k,) in K of a surface map (ny, nx) along a line between two places (m), with the way (k,) in m from its start.

    Bilinear between the cells' middles and straight on beyond the outermost; NaN where there is no bed.
    """
    share = np.linspace(0.0, 1.0, points)
    x, y = start[0] + share * (end[0] - start[0]), start[1] + share * (end[1] - start[1])
    lookup = RegularGridInterpolator((history.y, history.x), surface, bounds_error=False, fill_value=None)
    return share * float(np.hypot(end[0] - start[0], end[1] - start[1])), np.asarray(lookup(np.stack([y, x], axis=-1)))


def under_part(history: SurfaceHistory, surface: Floats, outline: Floats) -> UnderPart | None:
    """Coldest and hottest point of a surface map (ny, nx) inside a convex footprint (k, 2) m; None when none of the map is."""
    points = np.stack(np.meshgrid(history.x, history.y), axis=-1)
    inside = np.isfinite(surface)
    for a, b in zip(outline, np.roll(outline, -1, axis=0), strict=True):
        inside &= (b[0] - a[0]) * (points[..., 1] - a[1]) - (b[1] - a[1]) * (points[..., 0] - a[0]) >= -1e-9
    if not inside.any():
        return None
    masked = np.where(inside, surface, np.nan)
    low = np.unravel_index(int(np.nanargmin(masked)), surface.shape)
    high = np.unravel_index(int(np.nanargmax(masked)), surface.shape)
    return UnderPart(
        float(surface[low]), (float(points[low][0]), float(points[low][1])), float(surface[high]),
        (float(points[high][0]), float(points[high][1])), float(np.nanmean(masked)),
    )  # fmt: skip


def ready_time(history: SurfaceHistory, set_point: float, criteria: Criteria, *, on_off: bool = False) -> float:
    """The moment (s) from which the sensor is near its set point (K) and the centre calm, as in the quick model; NaN when later."""
    return ready_since(history.time, history.reading, history.centre, set_point, criteria, on_off=on_off)
