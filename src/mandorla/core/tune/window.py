"""The operating window: bed against chamber, or against the room where the machine cannot choose its chamber; every failure counts.

The quick models are solved on a coarse grid of set points. At each point every way to fail has a margin; with the spreads of the
present state, common samples of what is not known give the chance that anything fails. Smooth figures are carried to the fine
grid by splines, whose error is measured on points that were held back.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, replace
from typing import Final

import numpy as np
from scipy.interpolate import RectBivariateSpline
from scipy.special import ndtr, ndtri

from mandorla.core.energy.use import BED, CHAMBER
from mandorla.core.failure.parts import ADDING, secant
from mandorla.core.failure.registry import Assessment, Judgement, chance_of_any, common_normals
from mandorla.core.failure.ways.soft_feed import FEED_GOOD, FEED_MARGIN
from mandorla.core.failure.ways.soft_foot import foot_margin
from mandorla.core.part.mesh import Floats
from mandorla.core.part.process import Placement
from mandorla.core.rig.consumers import Doing, at_plug, drawn
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.heatup import heat_up
from mandorla.core.thermal.stack import build_stack
from mandorla.core.thermal.steady import SteadyState, solve_printing, solve_steady
from mandorla.core.tune.operating_point import Evaluation, loose_plate_of, over_plate, place_on_bed
from mandorla.core.tune.window_map import LOADS, Mask, Point, Solved, Window, candidates
from mandorla.core.warp.estimate import FAR, FLOORS, Conditions, PartToPrint, WarpEstimate, estimate_warp
from mandorla.core.warp.on_plate import BY_MOMENT, lifted_with_plate
from mandorla.core.warp.unknowns import MAGNET, MODEL

COARSE: Final = (11, 8)
FINE: Final = 60
_ENERGY_GRID: Final = (4, 3)
_HELD_BACK: Final = 4
_WARM_SIDE: Final = 15.0
_LEFT_OF_ERROR: Final = 0.6  # of the quick models' own error near a state that was simulated in full
_OVER_FEED: Final = 15.0  # K over what the filament in the feed stands that a heated chamber's axis goes on
_LEAST_ROWS: Final = 20.0  # K, length of that axis at least
_ROOMS: Final = (-15.0, 20.0)  # K about the present room, where the room is the second axis
_KELVIN: Final = (
    0.25  # ln of a foot's margin that a kelvin is worth, so that limits of unlike units can be compared on the map
)
_NEAR_PLATE: Final = 1.2  # ln margin of a loose plate within which the exact model corrects the map
# limits in kelvin whose temperature is known to some kelvins only, by the failure that knows to how many
_UNCERTAIN: Final = {
    "a layer's rating": "layer_rating", "the chamber's limit": "chamber_rating", "the surface's range of use": "surface_rating",
    "the filament in the feed": "soft_feed",
}  # fmt: skip


def window_ranges(rig: Rig, settings: Settings, part: PartToPrint) -> tuple[tuple[float, float], tuple[float, float]]:
    """The set points worth looking at (K): around the present bed up to a little over its limits; chamber from the room up, or the
    rooms about the present one."""
    bed_high = min(rig.limits.bed_max, part.polymer.flow_temperature + 25.0) + _WARM_SIDE
    bed_high = max(bed_high, settings.bed_rest + 5.0)
    bed_low = max(rig.room_temperature + 2.0, min(bed_high - 70.0, settings.bed_rest - 5.0))
    if rig.heats_chamber:
        # a little over what the machine or the filament in the feed stands, and no farther: the rows are few
        feed = part.polymer.softening_temperature - FEED_MARGIN
        most = min(rig.limits.chamber_max + 10.0, feed + _OVER_FEED)
        rows = (rig.room_temperature + 1.0, max(most, settings.chamber + 5.0, rig.room_temperature + _LEAST_ROWS))
    else:
        rows = tuple(float(np.clip(rig.room_temperature + d, 225.0, 332.0)) for d in _ROOMS)  # type: ignore[assignment]
    return (bed_low, bed_high), rows


@dataclass(frozen=True, slots=True)
class _Heat:
    """The thermal side of one point: steady states at the rest's and the first layers' set points, air, hottest place (K); what
    the part is printed ``at``."""

    rest: SteadyState
    first: SteadyState
    air_now: float
    hot: float
    at: Conditions


def _estimate_at(
    rig: Rig, evaluation: Evaluation, placement: Placement, settings: Settings, bed: float, second: float, *, bands: bool = True
) -> tuple[WarpEstimate, _Heat]:  # fmt: skip
    """The quick estimate at one point of the map, and its heat."""
    part, at = evaluation.part, evaluation.conditions
    assert part is not None
    assert at is not None
    heat, course = evaluation.heat, evaluation.course
    assert course is not None
    # what the print's rooms have over that of the start, the last hours' where the part cools down
    started, warmer = rig.start_temperature, at.room - rig.room_temperature
    now_room = course.mean(course.room)
    if not rig.heats_chamber:
        rig = rig.model_copy(update={"room_temperature": second})
    stack = heat.stack
    over = over_plate(rig, part, settings)
    rest = heat.spread.centred(solve_printing(rig, bed, second, stack, over))
    # the first layers stand on a plate that is still bare
    first = heat.spread.centred(solve_steady(rig, bed + settings.hotter_first, second, stack))
    air = rest.air
    # the share of its steady rise that the chamber has made half-way through the print, as at the present settings
    rise = (at.chamber - now_room) / max(evaluation.rest.air - started, 1.0) if rig.chamber.enclosed else 1.0
    room = rig.start_temperature + now_room - started
    # what a heater holds is there when the print begins
    air_now = air if rest.chamber_power > 1.0 else room + (air - rig.start_temperature) * min(rise, 1.0)
    middle = float(heat.spread.at(place_on_bed(np.zeros((1, 2)), placement))[0])
    corners = heat.spread.at(place_on_bed(np.array([[c.x, c.y] for c in part.sections.corners]), placement))
    along = at.along
    if along is not None and rig.chamber.enclosed and rest.chamber_power <= 1.0:
        # the drift of a chamber that nothing regulates goes with its rise
        share = min(3.0, max(0.0, (air_now - room) / max(at.chamber - now_room, 1.0)))
        along = replace(along, air=along.air * share)
    # what the marched print's mean has over the steady state, as at the present settings
    base = evaluation.rest
    over_steady = at.plate_rest - (base.air + (base.surface - base.air) * middle)
    now = replace(
        at, along=along, plate_first=air + (first.surface - air) * middle,
        plate_rest=air + (rest.surface - air) * middle + over_steady,
        corner_plate=air + (rest.surface - air) * corners + over_steady, chamber=air_now, room=rig.room_temperature + warmer,
    )  # fmt: skip
    hot = max(now.plate_first, now.plate_rest, float(now.corner_plate.max()))
    return estimate_warp(part, now, with_bands=bands), _Heat(rest, first, air_now, hot, now)


def _solve_point(
    rig: Rig, evaluation: Evaluation, placement: Placement, settings: Settings, bed: float, second: float
) -> dict[str, float]:
    """Figures at one point, by name: logarithms of loads, temperatures in K, power in W."""
    return _figures_at(
        rig, evaluation, settings, *_estimate_at(rig, evaluation, placement, settings, bed, second, bands=False)
    )


def _figures_at(
    rig: Rig, evaluation: Evaluation, settings: Settings, w: WarpEstimate, there: _Heat
) -> dict[str, float]:
    heat, stack, rest, first = evaluation.heat, evaluation.heat.stack, there.rest, there.first
    excess = -np.inf
    hotter = first if settings.hotter_first > 0.0 else rest
    for index, layer in enumerate(rig.bed.layers):
        peak = float(hotter.cells[stack.layer == index].max())
        # what this layer overshoots its steady state by in the warm-up at the present settings
        overshoot = float(heat.peak[index]) - float(heat.steady.cells[stack.layer == index].max())
        excess = max(excess, peak + max(overshoot, 0.0) - layer.properties().rating)
    return {
        "margin": math.log(min(max(w.margin, 1e-3), FAR)), "printed": math.log(max(w.printed_lift, FLOORS[1])),
        "released": math.log(max(abs(w.released_lift), FLOORS[1])),
        "crack": math.log(max(w.crack_index, FLOORS[3])), "pull": math.log(max(w.pull, 1e-6)), "tips": math.log(w.tips_margin),
        "foot": foot_margin(w.foot_strain, w.soft_base), "hot": there.hot, "air": rest.air,
        "air_now": there.air_now, "power": at_plug(rig, rest.power, max(rest.chamber_power, 0.0)), "excess": excess,
        "short": 0.0 if first.reachable and rest.reachable else 1.0,
    }  # fmt: skip


def _loads(figures: Mapping[str, Floats], e: Evaluation, criteria: Criteria) -> dict[str, Floats]:
    """Margins (ny, nx) of what the part needs."""
    found = {"adhesion": figures["margin"], "cracks": -figures["crack"], "tipping": np.minimum(figures["tips"], 3.0)}
    if e.plate is not None and e.warp is not None:
        # what a plate stands is a ratio of moments: the present one's, less what the films pull more
        found["loose_plate"] = math.log(e.plate.stands) + math.log(max(e.warp.pull, 1e-6)) - figures["pull"]
    found["flatness"] = math.log(criteria.lift_limit) - _lift(figures, found.get("loose_plate"), e, criteria)
    return found


def _lift(figures: Mapping[str, Floats], stands: Floats | None, e: Evaluation, criteria: Criteria) -> Floats:
    """ln of the larger lift (ny, nx), what a held plate rises by included: its gap goes with the square of the moment that is left
    to it, ``stands`` (ln), from what it is at the present settings."""
    printed, released = np.exp(figures["printed"]), np.exp(figures["released"])
    if stands is not None and e.plate is not None:
        now = criteria.lift_limit * e.plate.stands**-BY_MOMENT
        share = 1.0 if e.plate.off else min(1.0, e.plate.gap / max(now, 1e-9))
        printed = printed + share * criteria.lift_limit * np.exp(-BY_MOMENT * np.clip(stands, -1.5, 10.0))
    return np.asarray(np.log(np.maximum(printed, released)))


def _chance(
    margins: Mapping[str, Floats], parts: Mapping[str, Floats], unknowns: tuple[str, ...], keys: Collection[str]
) -> Floats:
    """Share of the common samples in which any of some failures happens (ny, nx)."""
    first = next(iter(parts.values()))
    z, found = common_normals(len(unknowns)), np.zeros(first.shape[:-1])
    adds = np.array([name in ADDING for name in unknowns])
    slopes = {
        key: np.where(adds, secant(parts[key], margins[key][..., None]), parts[key]).astype(np.float32) for key in keys
    }
    for i, j in np.ndindex(*found.shape):
        fails = np.zeros(z.shape[1], dtype=bool)
        for key in keys:
            fails |= slopes[key][i, j] @ z < -margins[key][i, j]
        found[i, j] = fails.mean()
    return found


def _between(known: Mapping[tuple[int, int], float], rows: Floats, beds: Floats) -> Floats:
    """A correction (ny, nx) that is known at a few points of the grid, linear between them."""
    at_rows, at_beds = (sorted({c[n] for c in known}) for n in (0, 1))
    table = np.array([[known[a, b] for b in at_beds] for a in at_rows])
    return np.asarray(RectBivariateSpline(rows[at_rows], beds[at_beds], table, kx=1, ky=1)(rows, beds))


def _parts_at(w: WarpEstimate, known: Mapping[str, Assessment]) -> dict[str, dict[str, float]]:
    """What unknowns do to the margins at an estimate with bands; what no estimate moves (a magnet's pull) stays as it is known."""
    lift = "lift" if w.printed_lift >= abs(w.released_lift) else "released"
    figures = {
        "adhesion": ("margin", 1.0),
        "flatness": (lift, -1.0),
        "cracks": ("crack", -1.0),
        "loose_plate": ("pull", -1.0),
    }
    found = {}
    for key, a in known.items():
        if key not in figures:
            found[key] = dict(a.parts)
            continue
        figure, sign = figures[key]
        moved = {name: sign * v for name, v in w.spreads[figure].items()}
        own = {name: v for name, v in a.parts.items() if name == MAGNET}
        found[key] = own | moved
    return found


def _spread_parts(
    corners: Mapping[tuple[int, int], dict[str, dict[str, float]]],
    rows: Floats,
    beds: Floats,
    at: tuple[Floats, Floats],
) -> tuple[dict[str, Floats], tuple[str, ...]]:
    """Parts on the grid (ny, nx, k) from a few of its points, linear between them."""
    names = tuple(sorted({n for found in corners.values() for parts in found.values() for n in parts}))
    keys = next(iter(corners.values()))
    i, j = (sorted({c[n] for c in corners}) for n in (0, 1))
    grown = {}
    for key in keys:
        table = np.array([[[corners[a, b][key].get(n, 0.0) for n in names] for b in j] for a in i])
        grown[key] = np.stack(
            [RectBivariateSpline(rows[i], beds[j], table[:, :, n], kx=1, ky=1)(*at) for n in range(len(names))], axis=-1
        )
    return grown, names


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
    (bed_low, bed_high), (row_low, row_high) = window_ranges(rig, settings, part)
    extra = settings.hotter_first
    beds, rows = np.linspace(bed_low, bed_high, coarse[0]), np.linspace(row_low, row_high, coarse[1])
    if not rig.heats_chamber:  # a row of its own for the room as it is
        rows[int(np.argmin(np.abs(rows - rig.room_temperature)))] = rig.room_temperature
    grid: list[list[dict[str, float]]] = []
    for i, row in enumerate(rows):
        grid.append([])
        for j, bed in enumerate(beds):
            run.checkpoint((i * coarse[0] + j) / (coarse[0] * coarse[1]) * 0.8, "operating window")
            grid[-1].append(_solve_point(rig, evaluation, placement, settings, float(bed), float(row)))
    figures = {name: np.array([[p[name] for p in line] for line in grid]) for name in grid[0][0]}
    run.checkpoint(0.85, "energy")
    figures["warm_up"] = _warm_up_energy(rig, settings, criteria, beds, rows, extra)(rows, beds)
    limits, polymer, surface = rig.limits, part.polymer, part.surface
    left = {
        "the bed's set point limit": limits.bed_max - (beds[None, :] + max(extra, 0.0)) + np.zeros_like(figures["air"]),
        "a layer's rating": -figures["excess"],
        "the heater's power": 10.0 - 20.0 * figures["short"],
        "the softness of the foot": figures["foot"] / _KELVIN,
        "the surface's range of use": surface.highest.high - figures["hot"],
        "the filament in the feed": polymer.softening_temperature - FEED_MARGIN - figures["air_now"],
    }  # fmt: skip
    if rig.chamber.enclosed:
        left["the chamber's limit"] = limits.chamber_max + 0.5 - figures["air"]
    margins = _loads(figures, evaluation, criteria)
    known = evaluation.judgement.assessed
    # what is kept in reserve before a judgement speaks of doubt, or the spread at the accepted chance where that is more
    reserve = {"a layer's rating": limits.layer_margin, "the filament in the feed": FEED_GOOD - FEED_MARGIN}
    for name, way in _UNCERTAIN.items():
        if name in left:
            uncertain = way in known and bool(known[way].parts)
            spread = float(-ndtri(criteria.risk)) * known[way].spread if uncertain else 0.0
            left[name] = left[name] - max(spread, reserve.get(name, 0.0))
    named = {key: known[key] for key in margins if key in known}
    margins = {key: margins[key] for key in named}
    corners: dict[tuple[int, int], dict[str, dict[str, float]]] = {}
    plates: dict[tuple[int, int], float] = {}
    lifts: dict[tuple[int, int], float] = {}
    some = [tuple(sorted({0, n // 2, n - 1})) for n in (coarse[1], coarse[0])]
    more = [
        tuple(sorted({*few, (n - 1) // 4, (3 * n) // 4})) for few, n in zip(some, (coarse[1], coarse[0]), strict=True)
    ]
    for i in more[0]:
        for j in more[1]:
            spread = i in some[0] and j in some[1]
            if not spread and evaluation.plate is None:
                continue
            w, there = _estimate_at(rig, evaluation, placement, settings, float(beds[j]), float(rows[i]), bands=spread)
            plate = loose_plate_of(rig, part, there.at, placement, criteria)
            lifted = lifted_with_plate(w, plate, part.learned)
            if spread:
                corners[i, j] = _parts_at(lifted, named)
            lifts[i, j] = math.log(max(lifted.largest_lift, FLOORS[1]))
            if plate is not None and "loose_plate" in margins:
                exact = math.log(plate.stands)
                # far from the limit either way the difference says nothing about what lies near it
                near = abs(exact) < _NEAR_PLATE
                plates[i, j] = float(np.clip(exact - margins["loose_plate"][i, j], -0.6, 0.6)) if near else 0.0
    if plates:  # what the ratio of moments alone does not tell
        margins["loose_plate"] = margins["loose_plate"] + _between(plates, rows, beds)
    figures["lift"] = _lift(figures, margins.get("loose_plate"), evaluation, criteria)
    off = {at: float(np.clip(exact - figures["lift"][at], -1.0, 1.0)) for at, exact in lifts.items()}
    figures["lift"] = figures["lift"] + _between(off, rows, beds)
    if "flatness" in margins:
        margins["flatness"] = math.log(criteria.lift_limit) - figures["lift"]
    parts, unknowns = _spread_parts(corners, rows, beds, (rows, beds))
    solved = Solved(beds, rows, margins, parts, unknowns, left, figures)
    window = _painted(solved, rig, settings, criteria, evaluation, fine)
    error = _held_back_error(rig, evaluation, placement, settings, criteria, window)
    run.checkpoint(0.98, "operating window")
    return replace(window, fit_error=error)


def _with_beside(chance: Floats, evaluation: Evaluation) -> Floats:
    """A chance that anything on the map fails, with what fails wherever one stands on it; both have no unknown in common."""
    return np.asarray(1.0 - (1.0 - chance) * (1.0 - evaluation.judgement.beside_temperature[0]))


def _energy_on_map(
    rig: Rig, settings: Settings, evaluation: Evaluation, axes: tuple[Floats, Floats], figures: Mapping[str, Floats],
    spread_out: Callable[..., Floats],
) -> Floats:  # fmt: skip
    """Energy (ny, nx) in J at the plug: warm-up and steady power of the map, and what does not go with them as at the present
    settings.

    What the marched print takes more than its steady state, to warm walls and frame on, goes with the rise of the chamber's air.
    """
    use, part, (bed, row) = evaluation.energy, evaluation.part, axes
    assert use is not None
    assert part is not None
    span = part.plan.duration + settings.soak_time
    warm, held = (
        np.maximum(spread_out(figures["warm_up"]), 0.0),
        np.maximum(spread_out(figures["power"], 3), 0.0) * span,
    )
    second = settings.chamber if rig.heats_chamber else rig.room_temperature

    def now(field: Floats) -> float:
        at = np.array([second]), np.array([settings.bed_rest])
        return float(RectBivariateSpline(row, bed, field, kx=1, ky=1).ev(*at)[0])

    marched = sum(p.by.get(k, 0.0) for p in use.phases if p.doing in (Doing.SOAK, Doing.PRINT) for k in (BED, CHAMBER))
    rise = np.ones_like(held)
    if rig.chamber.enclosed:
        air, start = spread_out(figures["air"]), rig.start_temperature
        rise = np.clip((air - start) / max(now(air) - start, 5.0), 0.0, 4.0)
    steady = evaluation.rest
    more = (marched - at_plug(rig, steady.power, max(steady.chamber_power, 0.0)) * span) * rise
    warm_up = use.phase(Doing.WARM_UP)
    warmed = warm_up.total if warm_up is not None else 0.0
    found = warm + held + more + use.total - marched - warmed
    # what is left between the grid's lines is taken out where the settings are
    cells = (row[-1] - row[0]) / (COARSE[1] - 1), (bed[-1] - bed[0]) / (COARSE[0] - 1)
    away = ((row[:, None] - second) / cells[0]) ** 2 + ((bed[None, :] - settings.bed_rest) / cells[1]) ** 2
    return np.asarray(np.maximum(found + (use.total - now(found)) * np.exp(-0.5 * away), 0.0))


def _painted(
    solved: Solved, rig: Rig, settings: Settings, criteria: Criteria, evaluation: Evaluation, fine: int = FINE
) -> Window:
    """The fields on the fine grid, and the points that are offered."""
    part = evaluation.part
    assert part is not None
    f, beds, rows = solved.figures, solved.beds, solved.chambers
    bed, row = np.linspace(beds[0], beds[-1], fine), np.linspace(rows[0], rows[-1], fine)
    if not rig.heats_chamber:
        row[int(np.argmin(np.abs(row - rig.room_temperature)))] = rig.room_temperature

    def spread_out(values: Floats, degree: int = 1) -> Floats:
        return np.asarray(RectBivariateSpline(rows, beds, values, kx=degree, ky=degree)(row, bed))

    chance = _chance(solved.margins, solved.parts, solved.unknowns, tuple(solved.margins))
    chance = _with_beside(chance, evaluation)
    level = spread_out(_deviations(chance))
    part_level = level - float(-ndtri(criteria.risk))
    machine_level = np.min(np.stack([spread_out(v) for v in solved.left.values()]), axis=0)
    energy = _energy_on_map(rig, settings, evaluation, (bed, row), f, spread_out)
    conditions = {name: spread_out(v) >= 0.0 for name, v in solved.left.items()}
    heated = rig.heats_chamber
    passive = _passive_chamber(rig, evaluation, settings, bed) if heated else np.full_like(bed, rig.room_temperature)
    window = Window(
        bed, row, np.exp(spread_out(f["margin"])), ndtr(-level), np.exp(spread_out(f["lift"])),
        np.exp(spread_out(f["crack"])), energy, spread_out(f["air"]), part_level, machine_level, passive, heated,
        _present(rig, settings, evaluation), None, None, 0.0, "empty", "", solved,
    )  # fmt: skip
    return _choose(window, conditions, evaluation.judgement)


def _deviations(chance: Floats) -> Floats:
    """A chance in standard deviations of safety, inside what samples can tell."""
    return np.asarray(-ndtri(np.clip(chance, 2e-4, 1.0 - 2e-4)))


def relearned(
    window: Window,
    shifts: Mapping[str, float],
    rig: Rig,
    settings: Settings,
    criteria: Criteria,
    evaluation: Evaluation,
) -> Window:
    """The window after the margins of some failures were found to be off by ``shifts`` (ln), painted and chosen anew."""
    solved = window.solved
    margins = {key: m + shifts.get(key, 0.0) for key, m in solved.margins.items()}
    # where full runs have shown how far a quick margin is off, that much less of its own error is left
    parts = {key: p.copy() for key, p in solved.parts.items()}
    for n, name in enumerate(solved.unknowns):
        if name.startswith(MODEL):
            for key in shifts:
                if key in parts:
                    parts[key][:, :, n] *= _LEFT_OF_ERROR
    moved = _painted(
        replace(solved, margins=margins, parts=parts), rig, settings, criteria, evaluation, window.bed.size
    )
    return replace(moved, fit_error=window.fit_error)


def _held_back_error(
    rig: Rig, evaluation: Evaluation, placement: Placement, settings: Settings, criteria: Criteria, window: Window
) -> float:
    """Largest error, in standard deviations, of the chance on points that were not used, where it is near its limit."""
    rng, solved, errors, part = np.random.default_rng(7), window.solved, [0.0], evaluation.part
    assert part is not None
    for _ in range(_HELD_BACK):
        bed, row = rng.uniform(window.bed[0], window.bed[-1]), rng.uniform(window.chamber[0], window.chamber[-1])
        w, at = _estimate_at(rig, evaluation, placement, settings, bed, row, bands=False)
        exact = {k: np.array([[v]]) for k, v in _figures_at(rig, evaluation, settings, w, at).items()}
        margins = {k: v for k, v in _loads(exact, evaluation, criteria).items() if k in solved.parts}
        plate = loose_plate_of(rig, part, at.at, placement, criteria)
        if plate is not None:
            lift = max(lifted_with_plate(w, plate, part.learned).largest_lift, FLOORS[1])
            true = {"loose_plate": math.log(plate.stands), "flatness": math.log(criteria.lift_limit / lift)}
            margins |= {k: np.array([[v]]) for k, v in true.items() if k in margins}
        there = {
            key: np.stack(
                [
                    RectBivariateSpline(solved.chambers, solved.beds, p[:, :, n], kx=1, ky=1)(row, bed)
                    for n in range(p.shape[-1])
                ],
                axis=-1,
            )
            for key, p in solved.parts.items()
        }
        chance = _with_beside(_chance(margins, there, solved.unknowns, tuple(margins)), evaluation)
        deviations = float(_deviations(chance)[0, 0])
        if abs(deviations) < 3.0:
            shown = RectBivariateSpline(window.chamber, window.bed, window.part_level, kx=1, ky=1)(row, bed)[0, 0]
            errors.append(abs(float(shown) + float(-ndtri(criteria.risk)) - deviations))
    return max(errors)


def _warm_up_energy(
    rig: Rig, settings: Settings, criteria: Criteria, beds: Floats, rows: Floats, extra: float
) -> RectBivariateSpline:
    """Energy (J) at the plug until ready on a very coarse grid, smooth in the set points."""
    b = np.linspace(beds[0], beds[-1], _ENERGY_GRID[0])
    c = np.linspace(rows[0], rows[-1], _ENERGY_GRID[1])
    values = np.empty((c.size, b.size))
    for i, row in enumerate(c):
        for j, bed in enumerate(b):
            where = rig if rig.heats_chamber else rig.model_copy(update={"room_temperature": float(row)})
            change = {"bed_first": float(bed + extra), "bed_rest": float(bed)}
            if rig.heats_chamber:
                change["chamber"] = float(row)
            heat = heat_up(where, settings.model_copy(update=change), criteria, with_bands=False)
            until = heat.ready_time if np.isfinite(heat.ready_time) else float(heat.time[-1])
            warming = heat.time <= until + 1e-6
            steps = np.diff(heat.time[warming])
            bed_heat, air_heat = (float(p[warming][1:] @ steps) for p in (heat.power, heat.chamber_power))
            values[i, j] = at_plug(rig, bed_heat, air_heat) + drawn(rig, Doing.WARM_UP) * until
    return RectBivariateSpline(c, b, values, kx=1, ky=1)


def _passive_chamber(rig: Rig, evaluation: Evaluation, settings: Settings, beds: Floats) -> Floats:
    """Chamber air (n,) K that the bed alone makes while it prints, at each bed set point."""
    assert evaluation.part is not None
    few = np.linspace(beds[0], beds[-1], 7)
    stack = build_stack(rig.bed)
    over = over_plate(rig, evaluation.part, settings)
    air = [solve_printing(rig, float(b), rig.room_temperature, stack, over, (0.0, 0.0)).air for b in few]
    return np.asarray(np.interp(beds, few, air))


def _present(rig: Rig, settings: Settings, evaluation: Evaluation) -> Point:
    warp, energy = evaluation.warp, evaluation.energy
    assert warp is not None
    assert energy is not None
    second = settings.chamber if rig.heats_chamber else rig.room_temperature
    loads = {k: a for k, a in evaluation.judgement.assessed.items() if k in LOADS}
    chance = float(_with_beside(np.array(chance_of_any(loads)), evaluation))
    return Point(
        settings.bed_rest,
        second,
        evaluation.rest.air,
        warp.margin,
        chance,
        warp.largest_lift,
        warp.crack_index,
        energy.total,
    )


def _choose(window: Window, conditions: dict[str, Mask], judgement: Judgement) -> Window:
    """Mark the cheapest and the nearest point that hold, or say what stands in the way."""
    beside, way = judgement.beside_temperature
    hindered = beside > judgement.risk and not (window.part_ok & window.reachable).any()
    title = judgement.titles[way] if hindered else ""
    binding = f"{title[0].lower()}{title[1:]}" if hindered else _binding(window, conditions)
    near, cheap = candidates(window, "nearest"), candidates(window, "cheapest")
    if not near:
        return replace(window, status="empty", binding=binding)
    return replace(window, status="found", cheapest=cheap[0], nearest=near[0], binding=binding)


def _binding(window: Window, conditions: dict[str, Mask]) -> str:
    """What cuts most off the region the part needs; without such a region, the need that is met least."""
    if not (window.part_ok & window.reachable).any():
        solved = window.solved
        alone = {
            key: float(_chance(solved.margins, solved.parts, solved.unknowns, (key,)).min()) for key in solved.margins
        }
        return LOADS[max(alone, key=lambda k: alone[k])]
    there = window.part_ok & window.reachable
    cuts = {name: float((there & ~ok).sum()) for name, ok in conditions.items()}
    name = max(cuts, key=lambda k: cuts[k])
    return name if cuts[name] > 0 else "nothing"
