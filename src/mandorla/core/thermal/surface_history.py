"""The surface map over time: the three-dimensional transient of the stack in its chamber, from a cold rig on."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.runtime import RunContext
from mandorla.core.thermal import kernels
from mandorla.core.thermal import volume_march as march
from mandorla.core.thermal.heatup import drift, since_when
from mandorla.core.thermal.network import surroundings
from mandorla.core.thermal.stack import Floats, build_stack
from mandorla.core.thermal.volume_kernels import Faces, Grid

CELLS: Final = 24  # along each half side of the bed
_FINE_UNTIL: Final = 30.0  # s
_FINE: Final = 0.5  # s, step until then


@dataclass(frozen=True, slots=True)
class SurfaceHistory:
    """Surface of the whole bed over time; temperatures in K, all arrays read-only.

    ``map_time`` (p,) s and ``maps`` (p, ny, nx) with the centres ``x`` (nx,), ``y`` (ny,) m from the bed's middle. Curves
    (m,): ``time`` s, ``centre``, ``mean`` and ``lowest`` of the surface, ``reading`` of the sensor, ``air``, ``power`` and
    ``chamber_power`` W. ``ledger`` J by destination, ``closure`` the unbalanced share of the energy put in.
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
    closure: float

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


def _quarter_grid(rig: Rig, cells: int, refine: int) -> tuple[Grid, Floats, Floats, Floats]:
    """Grid of one quarter of the bed, the sensor's weights, and the shares of natural convection (ny, nx) with mean one."""
    bed = rig.bed
    stack = build_stack(bed, refine)
    ex, ey = np.linspace(0.0, bed.width / 2, cells + 1), np.linspace(0.0, bed.depth / 2, cells + 1)

    def covered(edges: Floats, half: float) -> Floats:
        return np.clip((half - edges[:-1]) / np.diff(edges), 0.0, 1.0)

    cover = covered(ey, bed.heater.depth / 2)[:, None] * covered(ex, bed.heater.width / 2)[None, :]
    cx, cy = 0.5 * (ex[1:] + ex[:-1]), 0.5 * (ey[1:] + ey[:-1])
    away = np.minimum(bed.width / 2 - cx[None, :], bed.depth / 2 - cy[:, None])
    shape = away**-0.25
    grid = Grid(
        np.array(stack.dx), np.array(stack.k), np.array(stack.capacity), np.array(stack.conductance), float(ex[1]), float(ey[1]),
        np.array(stack.source), np.ascontiguousarray(cover / cover.sum()),
    )  # fmt: skip
    return grid, np.array(stack.sensor), shape / shape.mean(), np.stack([cx, cy])


def surface_history(
    rig: Rig, settings: Settings, horizon: float, run: RunContext | None = None, *, cells: int = CELLS, dt: float = 2.0,
    every: float = 30.0, refine: int = 1,
) -> SurfaceHistory:  # fmt: skip
    """Heat the rig from room temperature at the first-layer set points for ``horizon`` s.

    The bed is symmetric about its middle in both directions, so a quarter is solved; ``cells`` along each half side, steps of
    ``dt`` s, a map kept ``every`` s. Raises :class:`Cancelled` when asked to stop.
    """
    run = run or RunContext()
    stack = build_stack(rig.bed)
    s = surroundings(rig, stack.emissivity_top, stack.emissivity_bottom)
    grid, sensor, shape, centres = _quarter_grid(rig, cells, refine)
    nz = grid.dz.size
    start = rig.room_temperature
    T = np.full((nz, cells, cells), start)
    plane = np.full((cells, cells), start)
    faces = Faces(
        np.full((cells, cells), 5.0), plane.copy(), np.full((cells, cells), 5.0), plane.copy(),
        np.array([0.0, 5.0, 0.0, 5.0]), np.full(4, start),
    )  # fmt: skip
    state = kernels.cold_state(start)
    control, bed = rig.bed.control, rig.bed
    regulation = march.Regulation(
        bed.heater.power, rig.chamber.heater_power if rig.chamber.enclosed else 0.0, rig.limits.supply_power, bed.sensor.bias,
        bed.sensor.time_constant, control.kind == "on-off", control.proportional_band, control.integral_time, control.hysteresis,
        4.0,
    )  # fmt: skip
    ledger = np.zeros(march.LEDGER)
    records, times, maps, map_time = [], [0.0], [plane.copy()], [0.0]
    now = 0.0
    while now < horizon - 1e-6:
        h = _FINE if now < _FINE_UNTIL - 1e-6 else dt
        count = max(1, round(min(every, horizon - now) / h))
        record = np.empty((count, march.COLUMNS))
        march.march_rig(
            T, state, grid, s, faces, shape, sensor, regulation, h, np.full(count, settings.bed_first),
            np.full(count, settings.chamber), np.full(count, start), record, ledger,
        )  # fmt: skip
        records.append(record)
        times.extend(now + h * np.arange(1, count + 1))
        now += h * count
        maps.append(march.surface_of(T, grid, faces))
        map_time.append(now)
        run.checkpoint(min(1.0, now / horizon), "surface map over time")
    first = np.array([[start] * 8 + [0.0, 0.0]])
    first[0, march.SHOWN] += bed.sensor.bias
    record = np.concatenate([first, *records])
    stored = float((grid.c * (T - start).sum(axis=(1, 2))).sum() * grid.dx * grid.dy * 4.0)
    where = {"stored": stored}
    if s.enclosed:
        where["stored"] += s.air_capacity * (state[kernels.S_AIR] - start) + s.frame_capacity * (
            state[kernels.S_FRAME] - start
        )
        where["stored"] += 0.5 * s.wall_capacity * (state[kernels.S_WALL_IN] + state[kernels.S_WALL_OUT] - 2 * start)
        where |= {"leakage": float(ledger[march.E_LEAK]), "panels": float(ledger[march.E_PANELS])}
    else:
        where |= {
            k: float(ledger[i])
            for k, i in (("top", march.E_TOP), ("underside", march.E_BOTTOM), ("edges", march.E_SIDES))
        }
    put_in = float(ledger[march.E_BED] + ledger[march.E_CHAMBER] + ledger[march.E_MACHINE])
    x, y = (np.concatenate([-c[::-1], c]) for c in centres)
    whole = np.stack([np.block([[m[::-1, ::-1], m[::-1, :]], [m[:, ::-1], m]]) for m in maps])
    columns = [np.ascontiguousarray(record[:, i]) for i in range(march.COLUMNS)]
    time, kept = np.array(times), np.array(map_time)
    for array in (x, y, whole, time, kept, *columns):
        array.setflags(write=False)
    return SurfaceHistory(
        x=x, y=y, map_time=kept, maps=whole, time=time, centre=columns[march.CENTRE], mean=columns[march.MEAN],
        lowest=columns[march.LOWEST], reading=columns[march.SHOWN], air=columns[march.AIR_T], power=columns[march.POWER],
        chamber_power=columns[march.CHAMBER_POWER], ledger=where, closure=(put_in - sum(where.values())) / max(put_in, 1e-9),
    )  # fmt: skip


def under_part(history: SurfaceHistory, surface: Floats, outline: Floats) -> UnderPart | None:
    """Coldest and hottest point of a surface map (ny, nx) inside a convex footprint (k, 2) m; None when none of the map is."""
    points = np.stack(np.meshgrid(history.x, history.y), axis=-1)
    inside = np.ones(surface.shape, dtype=bool)
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


def ready_time(history: SurfaceHistory, set_point: float, criteria: Criteria) -> float:
    """The moment (s) from which the sensor is near its set point (K) and the centre calm, as in the quick model; NaN when later."""
    near = np.abs(history.reading - set_point) <= criteria.ready_band
    calm = np.abs(drift(history.time, history.centre)) <= criteria.ready_drift
    return since_when(history.time, near & calm)
