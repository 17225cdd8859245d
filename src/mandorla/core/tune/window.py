"""The bed x chamber operating window: where the part holds, does not crack and nothing is over its limit.

The quick models are solved on a coarse grid of set points; smooth figures (logarithms of margin, crack index and lift,
temperatures, energy) are carried to the fine grid by splines, whose error is measured on points that were held back.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Final

import numpy as np
from numpy.typing import NDArray
from scipy.interpolate import RectBivariateSpline
from scipy.special import ndtr

from mandorla.core.failure.ways.soft_feed import FEED_MARGIN
from mandorla.core.failure.ways.soft_foot import SWELL_LIMIT
from mandorla.core.part.mesh import Floats
from mandorla.core.part.process import Placement
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.heatup import heat_up
from mandorla.core.thermal.stack import build_stack
from mandorla.core.thermal.steady import solve_steady
from mandorla.core.tune.operating_point import Evaluation, place_on_bed
from mandorla.core.warp.estimate import PartToPrint, estimate_warp

Mask = NDArray[np.bool_]

COARSE: Final = (13, 11)
FINE: Final = 60
_ENERGY_GRID: Final = (4, 4)
_HELD_BACK: Final = 6
_IMPOSED: Final = (-1e5, 1e5)  # W, a chamber that is simply given
_WARM_SIDE: Final = 15.0
HEATER_OFF: Final = 3.0  # K below what the bed alone makes: the chamber heater stays off


@dataclass(frozen=True, slots=True)
class Point:
    """One operating point: set points (K), hold margin and its probability, lift (m), crack index, energy (J)."""

    bed: float
    chamber: float
    margin: float
    hold_probability: float
    lift: float
    crack: float
    energy: float


@dataclass(frozen=True, slots=True)
class Window:
    """Fields on ``chamber`` (ny,) x ``bed`` (nx,) set points in K, all (ny, nx).

    ``part_level`` is at or above zero where the part has what it needs (it holds, stays flat, does not crack; ln of the
    tightest ratio), ``machine_level`` where machine, plate and polymer stand it (K to the tightest limit); the almond is where
    both are. ``passive`` (nx,) K is the chamber without its heater. ``heated`` tells
    whether the rig can choose its chamber; if not, only points on ``passive`` can be had. ``fit_error`` is the largest
    error of ln(margin) on held-back points, ``status`` ``found``, ``empty`` or ``off-line``.
    """

    bed: Floats
    chamber: Floats
    margin: Floats
    hold_probability: Floats
    lift: Floats
    crack: Floats
    energy: Floats
    part_level: Floats
    machine_level: Floats
    passive: Floats
    heated: bool
    present: Point
    cheapest: Point | None
    nearest: Point | None
    fit_error: float
    status: str
    binding: str

    @property
    def part_ok(self) -> Mask:
        """Where the part has what it needs."""
        return self.part_level >= 0.0

    @property
    def machine_ok(self) -> Mask:
        """Where machine, plate and polymer stand it."""
        return self.machine_level >= 0.0

    @property
    def almond(self) -> Mask:
        """Where the part holds and nothing is over its limit."""
        return self.part_ok & self.machine_ok

    def nearest_point(self, bed: float, chamber: float) -> Point:
        """The computed point closest to a pair of set points."""
        i = int(np.argmin(np.abs(self.chamber - chamber)))
        j = int(np.argmin(np.abs(self.bed - bed)))
        return self._point(i, j)

    def by_the_bed(self, point: Point) -> float:
        """Chamber (K) that the bed alone makes at the point's bed set point."""
        return float(self.passive[int(np.argmin(np.abs(self.bed - point.bed)))])

    def heater_off(self, point: Point) -> bool:
        """Whether the chamber of a point is the one that the bed alone makes."""
        return not self.heated or point.chamber <= self.by_the_bed(point) - HEATER_OFF

    def actual_chamber(self, point: Point) -> float:
        """Chamber (K) that a point really gets: its set point, but never below what the bed alone makes."""
        return self.by_the_bed(point) if not self.heated else max(point.chamber, self.by_the_bed(point))

    def _point(self, i: int, j: int) -> Point:
        return Point(
            float(self.bed[j]), float(self.chamber[i]), float(self.margin[i, j]), float(self.hold_probability[i, j]),
            float(self.lift[i, j]), float(self.crack[i, j]), float(self.energy[i, j]),
        )  # fmt: skip


def window_ranges(rig: Rig, settings: Settings, part: PartToPrint) -> tuple[tuple[float, float], tuple[float, float]]:
    """The set points worth looking at (K): around the present bed up to a little over its limits, chamber from the room."""
    bed_high = min(rig.limits.bed_max, part.polymer.softening_temperature + SWELL_LIMIT + 10.0) + _WARM_SIDE
    bed_high = max(bed_high, settings.bed_rest + 5.0)
    bed_low = max(rig.room_temperature + 2.0, min(bed_high - 70.0, settings.bed_rest - 5.0))
    top = rig.limits.chamber_max if rig.chamber.enclosed else rig.room_temperature + 60.0
    return (bed_low, bed_high), (rig.room_temperature + 1.0, max(top + 10.0, settings.chamber + 5.0))


def _solve_point(
    rig: Rig, evaluation: Evaluation, placement: Placement, first_extra: float, bed: float, chamber: float
) -> tuple[float, ...]:
    """ln margin, ln lift, ln crack, hottest foot, air, steady power, largest layer temperature excess, reachability."""
    part, at = evaluation.part, evaluation.conditions
    assert part is not None
    assert at is not None
    heat = evaluation.heat
    heated = rig.chamber.enclosed and rig.chamber.heater_power > 0.0
    limits = None if heated or not rig.chamber.enclosed else _IMPOSED
    stack = heat.stack
    rest = heat.spread.centred(solve_steady(rig, bed, chamber, stack, chamber_limits=limits))
    first = heat.spread.centred(solve_steady(rig, bed + first_extra, chamber, stack, chamber_limits=limits))
    air = rest.air if rig.chamber.enclosed else chamber
    # the share of its steady rise that the chamber has made half-way through the print, as at the present settings
    rise = (at.chamber - rig.room_temperature) / max(evaluation.rest.air - rig.room_temperature, 1.0)
    air_now = rig.room_temperature + (air - rig.room_temperature) * (rise if rig.chamber.enclosed else 1.0)
    middle = float(heat.spread.at(place_on_bed(np.zeros((1, 2)), placement))[0])
    corners = heat.spread.at(place_on_bed(np.array([[c.x, c.y] for c in part.sections.corners]), placement))
    now = replace(
        at, plate_first=rest.air + (first.surface - rest.air) * middle,
        plate_rest=rest.air + (rest.surface - rest.air) * middle,
        corner_plate=rest.air + (rest.surface - rest.air) * corners, chamber=air_now,
    )  # fmt: skip
    warp = estimate_warp(part, now, with_bands=False)
    lift = max(warp.printed_lift, abs(warp.released_lift))
    foot = max(now.plate_first, now.plate_rest, float(now.corner_plate.max()))
    excess = -np.inf
    hotter = first if first_extra > 0 else rest
    for index, layer in enumerate(rig.bed.layers):
        peak = float(hotter.cells[stack.layer == index].max())
        # what this layer overshoots its steady state by in the warm-up at the present settings
        overshoot = float(heat.peak[index]) - float(heat.steady.cells[stack.layer == index].max())
        excess = max(excess, peak + max(overshoot, 0.0) - layer.properties().rating)
    short = 0.0 if first.reachable and rest.reachable else 50.0
    power = rest.power + max(rest.chamber_power, 0.0)
    return (
        np.log(warp.margin), np.log(max(lift, 1e-7)), np.log(max(warp.crack_index, 1e-4)), foot, air, power, excess, short,
        air_now,
    )  # fmt: skip


def compute_window(
    rig: Rig,
    settings: Settings,
    criteria: Criteria,
    evaluation: Evaluation,
    placement: Placement,
    run: RunContext | None = None,
    fine: int = FINE,
    coarse: tuple[int, int] = COARSE,
) -> Window:
    """Compute the window around the present settings of an evaluation that has a part.

    The first-layer set point keeps its present distance to the rest. Raises :class:`Cancelled` when asked to stop.
    """
    run = run or RunContext()
    part = evaluation.part
    assert part is not None
    assert evaluation.warp is not None
    (bed_low, bed_high), (chamber_low, chamber_high) = window_ranges(rig, settings, part)
    extra = settings.bed_first - settings.bed_rest
    beds, chambers = np.linspace(bed_low, bed_high, coarse[0]), np.linspace(chamber_low, chamber_high, coarse[1])
    solved = np.empty((coarse[1], coarse[0], 9))
    for i, chamber in enumerate(chambers):
        for j, bed in enumerate(beds):
            run.checkpoint((i * coarse[0] + j) / (coarse[0] * coarse[1]) * 0.8, "operating window")
            solved[i, j] = _solve_point(rig, evaluation, placement, extra, float(bed), float(chamber))
    bed_fine, chamber_fine = np.linspace(bed_low, bed_high, fine), np.linspace(chamber_low, chamber_high, fine)

    def spline(index: int, degree: int = 3) -> RectBivariateSpline:
        return RectBivariateSpline(chambers, beds, solved[:, :, index], kx=degree, ky=degree)

    def field(index: int, degree: int = 3) -> Floats:
        return np.asarray(spline(index, degree)(chamber_fine, bed_fine))

    # lift kinks where the grip opens and reachability is a step: straight interpolation there
    fields = [field(i, 1 if i in (0, 1, 6, 7) else 3) for i in range(9)]
    error = _held_back_error(
        rig, evaluation, placement, extra, spline(0, 1), (bed_low, bed_high), (chamber_low, chamber_high)
    )
    run.checkpoint(0.85, "energy")
    warm_up = _warm_up_energy(rig, settings, criteria, beds, chambers, extra)(chamber_fine, bed_fine)
    run.checkpoint(0.98, "operating window")
    margin, lift, crack = np.exp(fields[0]), np.exp(fields[1]), np.exp(fields[2])
    foot, air, power, excess, short, air_now = fields[3:]
    energy = np.maximum(warm_up, 0.0) + np.maximum(power, 0.0) * (part.plan.duration + settings.soak_time)
    probability = ndtr(np.log(margin) / max(evaluation.warp.margin_spread, 1e-6))
    part_level = np.minimum(
        np.minimum(fields[0] - np.log(criteria.margin_wanted), np.log(criteria.lift_limit) - fields[1]), -fields[2]
    )
    hottest_set = bed_fine[None, :] + max(extra, 0.0)
    softening = part.polymer.softening_temperature
    inside = np.full_like(air, np.inf)
    # each in K to its limit (the power in K of shortfall), so that the tightest one cuts
    left = {
        "the bed's set point limit": rig.limits.bed_max - hottest_set + np.zeros_like(air),
        "a layer's rating": -excess,
        "the heater's power": 25.0 - short,
        "the chamber's limit": rig.limits.chamber_max + 0.5 - air if rig.chamber.enclosed else inside,
        "the softening of the foot": softening + SWELL_LIMIT - foot,
        "the filament in the feed": softening - FEED_MARGIN - air_now,
    }
    machine_level = np.min(np.stack(list(left.values())), axis=0)
    conditions = {name: value >= 0.0 for name, value in left.items()}
    heated = rig.chamber.enclosed and rig.chamber.heater_power > 0.0
    passive = _passive_chamber(rig, evaluation, bed_fine)
    window = Window(
        bed_fine, chamber_fine, margin, probability, lift, crack, energy, part_level, machine_level, passive, heated,
        _present(settings, evaluation), None, None, error, "empty", "",
    )  # fmt: skip
    return _choose(window, conditions, criteria)


def _held_back_error(
    rig: Rig, evaluation: Evaluation, placement: Placement, extra: float, fit: RectBivariateSpline,
    bed_range: tuple[float, float], chamber_range: tuple[float, float],
) -> float:  # fmt: skip
    """Largest error of ln(margin) on points that were not used, where the margin is near its limit (0.3-5)."""
    rng = np.random.default_rng(7)
    errors = [0.0]
    for _ in range(_HELD_BACK):
        bed, chamber = rng.uniform(*bed_range), rng.uniform(*chamber_range)
        exact = _solve_point(rig, evaluation, placement, extra, bed, chamber)[0]
        if abs(exact) < np.log(5.0):
            errors.append(abs(float(fit(np.array([chamber]), np.array([bed]))[0, 0]) - exact))
    return max(errors)


def _warm_up_energy(
    rig: Rig, settings: Settings, criteria: Criteria, beds: Floats, chambers: Floats, extra: float
) -> RectBivariateSpline:
    """Energy until ready (J) on a very coarse grid, smooth in the set points."""
    b = np.linspace(beds[0], beds[-1], _ENERGY_GRID[0])
    c = np.linspace(chambers[0], chambers[-1], _ENERGY_GRID[1])
    values = np.empty((c.size, b.size))
    for i, chamber in enumerate(c):
        for j, bed in enumerate(b):
            s = settings.model_copy(
                update={"bed_first": float(bed + extra), "bed_rest": float(bed), "chamber": float(chamber)}
            )
            heat = heat_up(rig, s, criteria, with_bands=False)
            until = heat.ready_time if np.isfinite(heat.ready_time) else float(heat.time[-1])
            values[i, j] = heat.at(until, heat.energy)
    return RectBivariateSpline(c, b, values, kx=1, ky=1)


def _passive_chamber(rig: Rig, evaluation: Evaluation, beds: Floats) -> Floats:
    """Chamber air (n,) K that the bed alone makes, at each bed set point."""
    if not rig.chamber.enclosed:
        return np.full_like(beds, rig.room_temperature)
    few = np.linspace(beds[0], beds[-1], 7)
    stack = build_stack(rig.bed)
    air = [solve_steady(rig, float(b), rig.room_temperature, stack, chamber_limits=(0.0, 0.0)).air for b in few]
    return np.asarray(np.interp(beds, few, air))


def _present(settings: Settings, evaluation: Evaluation) -> Point:
    warp, energy = evaluation.warp, evaluation.energy
    assert warp is not None
    assert energy is not None
    return Point(
        settings.bed_rest, evaluation.rest.air if evaluation.heat.chamber_power.max() == 0 else settings.chamber,
        warp.margin, warp.hold_probability, max(warp.printed_lift, abs(warp.released_lift)), warp.crack_index, energy.total,
    )  # fmt: skip


def _choose(window: Window, conditions: dict[str, Mask], criteria: Criteria) -> Window:
    """Mark the cheapest and the nearest safe point, or say what stands in the way."""
    allowed = window.almond
    # a set point below what the bed alone makes gives the chamber that the bed alone makes
    actual = np.maximum(window.chamber[:, None], window.passive[None, :])
    if not window.heated:
        spacing = window.chamber[1] - window.chamber[0]
        allowed = allowed & (np.abs(window.chamber[:, None] - window.passive[None, :]) <= 0.6 * spacing)
    if not allowed.any():
        status = "off-line" if window.almond.any() else "empty"
        return replace(window, status=status, binding=_binding(window, conditions, criteria))
    cost = np.where(allowed, window.energy, np.inf)
    i, j = np.unravel_index(int(np.argmin(cost)), cost.shape)
    distance = np.hypot(window.bed[None, :] - window.present.bed, actual - window.present.chamber)
    distance = np.where(allowed, distance, np.inf)
    # among points that are practically as near, the cheapest
    cost_near = np.where(distance <= distance.min() + 1.0, window.energy, np.inf)
    p, q = np.unravel_index(int(np.argmin(cost_near)), cost.shape)
    return replace(
        window, status="found", cheapest=window._point(int(i), int(j)), nearest=window._point(int(p), int(q)),
        binding=_binding(window, conditions, criteria),
    )  # fmt: skip


def _binding(window: Window, conditions: dict[str, Mask], criteria: Criteria) -> str:
    """What cuts most off the region the part needs; without such a region, the need that is met least."""
    if not window.part_ok.any():
        met = {
            "the grip": (window.margin >= criteria.margin_wanted).mean(),
            "the lift": (window.lift <= criteria.lift_limit).mean(),
            "cracking": (window.crack <= 1.0).mean(),
        }
        return min(met, key=lambda k: float(met[k]))
    cuts = {name: float((window.part_ok & ~ok).sum()) for name, ok in conditions.items()}
    name = max(cuts, key=lambda k: cuts[k])
    return name if cuts[name] > 0 else "nothing"
