"""The operating window over two axes: every point that it rests on is a whole evaluation, every way to fail counts.

The quick models are evaluated at a grid of nodes, the present point one of them. Margins of every way to fail, their spreads
(at fewer nodes) and figures are carried to the fine grid by monotone cubics; common samples of what is not known give the chance
that anything fails. The error is measured at points that were held back.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Final, NamedTuple

import numpy as np
from scipy.interpolate import PchipInterpolator, RegularGridInterpolator
from scipy.special import ndtr, ndtri

from mandorla.core.energy.money import good_part
from mandorla.core.failure.parts import ADDING, secant
from mandorla.core.failure.registry import Assessment, Judgement, common_normals
from mandorla.core.failure.state import State
from mandorla.core.failure.ways.soft_feed import FEED_GOOD, FEED_MARGIN
from mandorla.core.part.mesh import Floats
from mandorla.core.part.process import Placement, Process
from mandorla.core.rig.settings import Criteria
from mandorla.core.runtime import RunContext
from mandorla.core.second_core import on_two_cores
from mandorla.core.thermal.heatup import HeatUp, heat_up
from mandorla.core.thermal.stack import build_stack
from mandorla.core.thermal.steady import Band, solve_printing
from mandorla.core.tune.axes import Axis, Ends, Setup, with_grip
from mandorla.core.tune.operating_point import Evaluation, evaluate, over_plate
from mandorla.core.tune.window_map import LOADS, STANDS, Mask, Point, Solved, Window, candidates
from mandorla.core.warp.estimate import FAR, FLOORS, PartToPrint, WarpEstimate
from mandorla.core.warp.unknowns import MODEL

NODES: Final = (9, 9)
AT_ONCE: Final = (4, 3)  # nodes of the first, coarse map
FINE: Final = 100
FINE_AT_ONCE: Final = 40
_CHANCES: Final = 2  # as many points between nodes for chances, which no cubic carries
_UNDECIDED: Final = 2.5  # standard deviations about the limit in which spreads decide
_MOST_SPREADS: Final = 8  # nodes of these at which they are computed
_HELD_BACK: Final = 2
_LEFT_OF_ERROR: Final = 0.6  # of the quick models' own error near a state that was simulated in full
_BEYOND: Final = 100.0  # standard deviations, further than which nothing is told apart
_FAR_LEFT: Final = 30.0  # K to a limit that is nowhere near
_LN_KELVIN: Final = (
    0.25  # ln of a margin that a kelvin is worth, so that limits of unlike units can be compared on the map
)
_IN_LN: Final = ("soft_foot", "supply")  # of the limits those whose margins are ln
_SAYS: Final = 2.2  # ln of a margin up to which spreads of a load are carried to other nodes
_MOST: Final = 3.0  # ln of a margin that is as good as none


@dataclass(slots=True)
class Ground:
    """What a window is computed on: the present ``setup`` with its ``evaluation``, and how a part is made for another process.

    What two points have in common is computed once: parts by process, heat-ups by what changes them.
    """

    setup: Setup
    criteria: Criteria
    evaluation: Evaluation
    placement: Placement
    prepared: Callable[[Process], PartToPrint]
    _parts: dict[str, PartToPrint] = field(default_factory=dict)
    _heats: dict[tuple[Any, ...], HeatUp] = field(default_factory=dict)

    def part(self, setup: Setup) -> PartToPrint:
        """The part for a setup."""
        own = self.evaluation.part
        assert own is not None
        if setup.process != self.setup.process:
            key = setup.process.model_dump_json()
            if key not in self._parts:
                self._parts[key] = self.prepared(setup.process)
            own = self._parts[key]
        return with_grip(own, setup.grip)

    def evaluated(self, setup: Setup) -> Evaluation:
        """A whole evaluation at a setup, with all that belongs to it."""
        heat = self.evaluation.heat if setup == self.setup else heat_up(setup.rig, setup.settings, self.criteria)
        return evaluate(setup.rig, setup.settings, self.criteria, self.part(setup), self.placement, heat=heat)

    def near(self, setup: Setup, *, spreads: bool) -> Evaluation:
        """The same for a node of a map: the shape of the plate's surface is the present point's, which hardly changes with the
        temperatures, and so are the ranges of temperatures, in proportion to their rise; without ``spreads`` none are computed."""
        rig, present = setup.rig, self.evaluation.heat  # of a machine no axis moves anything but these
        key = (rig.room_temperature, rig.chamber.exhaust_fraction, setup.settings.bed_first, setup.settings.chamber)
        if key not in self._heats:
            heat = heat_up(rig, setup.settings, self.criteria, with_bands=False, spread=present.spread)
            room, before = rig.room_temperature, self.setup.rig.room_temperature
            bands = {}
            for name, now in (("surface", heat.steady.surface), ("air", heat.steady.air)):
                if name in present.bands:
                    band = present.bands[name]
                    rise = float(np.clip((now - room) / max(band.value - before, 5.0), 0.3, 3.0))
                    rise = 1.0 if name == "air" and rig.heats_chamber else rise  # what a heater holds
                    bands[name] = Band(now, now - rise * (band.value - band.low), now + rise * (band.high - band.value))
            self._heats[key] = replace(heat, bands=bands)
        return evaluate(
            rig, setup.settings, self.criteria, self.part(setup), self.placement, with_bands=spreads, heat=self._heats[key]
        )  # fmt: skip

    @property
    def figures(self) -> Ground:
        """The same with what is judged in figures only: nodes need no words, and words cannot go to another process."""
        return replace(self, evaluation=replace(self.evaluation, judgement=self.evaluation.judgement.figures))

    def span(self, axis: Axis) -> Ends:
        """The ends of an axis here."""
        assert self.evaluation.part is not None
        return axis.ends(self.setup, self.evaluation.part)


class Node(NamedTuple):
    """One point as it was evaluated: every way's assessment, and figures by name."""

    assessed: Mapping[str, Assessment]
    figures: Mapping[str, float]


def node_of(e: Evaluation, criteria: Criteria) -> Node:
    """What a map keeps of an evaluation: logarithms of loads, temperatures in K, energy in J, s until done, money."""
    w, energy, part = e.warp, e.energy, e.part
    assert w is not None
    assert energy is not None
    assert part is not None
    done = sum(p.duration for p in energy.phases[:3])
    occupied = sum(p.duration for p in energy.phases)  # as the view Cost counts it
    good = good_part(energy.cost, part.plan.mass, occupied, 0.0, criteria.costs)
    figures = {
        "margin": math.log(min(max(w.margin, 1e-3), FAR)), "lift": math.log(max(w.largest_lift, FLOORS[1])),
        "crack": math.log(max(w.crack_index, FLOORS[3])), "energy": energy.total, "duration": done, "cost": good.total,
        "air": e.rest.air,
    }  # fmt: skip
    return Node({key: _unbent(a, key, w) for key, a in e.judgement.figures.counted.items()}, figures)


def _unbent(a: Assessment, key: str, w: WarpEstimate) -> Assessment:
    """A way with what adds to its load as it is, not as slope to the limit, which is another at every point; where its load is next
    to nothing, and the logarithm of it says nothing of loads near the limit, as slope."""
    if not a.margin < _SAYS:
        return a
    flat = "lift" if w.printed_lift >= abs(w.released_lift) else "released"
    figure, sign = {
        "adhesion": ("margin", 1.0), "flatness": (flat, -1.0), "cracks": ("crack", -1.0), "loose_plate": ("pull", -1.0)
    }.get(key, ("", 0.0))  # fmt: skip
    raw = w.spreads.get(figure, {})
    return replace(a, parts={n: sign * raw[n] if n in ADDING and n in raw else v for n, v in a.parts.items()})


def spaced(ends: Ends, count: int, *pins: float) -> Floats:
    """Values (n,) from end to end, those nearest to the ``pins`` (the most important first) moved onto them."""
    values = np.linspace(ends.low, ends.high, count)
    free = list(range(1, count - 1))
    for pin in pins:
        if ends.low < pin < ends.high and free and np.abs(values - pin).min() > 0.05 * (values[1] - values[0]):
            nearest = min(free, key=lambda k: abs(values[k] - pin))
            values[nearest] = pin
            free.remove(nearest)
            if not (np.diff(values) > 0.0).all():  # two pins between the same two values
                values = np.sort(values)
    return values


def carried(values: Floats, y: Floats, x: Floats, to: tuple[Floats, Floats]) -> Floats:
    """Node values (..., m, n) carried to a finer grid by monotone piecewise cubics (Fritsch & Butland 1984) along one axis after
    the other: no overshoot where a limit sets in."""
    along = PchipInterpolator(x, values, axis=-1)(to[1])
    return np.asarray(PchipInterpolator(y, along, axis=-2)(to[0]))


def _each_carried(fields: Mapping[str, Floats], y: Floats, x: Floats, to: tuple[Floats, Floats]) -> dict[str, Floats]:
    """The same for fields of one grid by name, all at once."""
    if not fields:
        return {}
    return dict(zip(fields, carried(np.stack(list(fields.values())), y, x, to), strict=True))


def _each_along(fields: Mapping[str, Floats], y: Floats, x: Floats, to: tuple[Floats, Floats]) -> dict[str, Floats]:
    """The same, linear, for parts (m, n, k)."""
    if not fields:
        return {}
    rows, columns = np.meshgrid(*to, indexing="ij")
    together = RegularGridInterpolator((y, x), np.stack(list(fields.values()), axis=2))
    found = together(np.stack([rows, columns], axis=-1))
    return {name: np.ascontiguousarray(found[:, :, n]) for n, name in enumerate(fields)}


def _chance(
    margins: Mapping[str, Floats], parts: Mapping[str, Floats], unknowns: tuple[str, ...], keys: Collection[str]
) -> Floats:
    """Share of the common samples in which any of some failures happens (ny, nx)."""
    first = next(iter(margins.values()))
    z, alone = common_normals(len(unknowns)), np.zeros(first.shape)
    adds = np.array([name in ADDING for name in unknowns])
    fails = np.zeros((first.size, z.shape[1]), dtype=bool)
    for key in keys:
        margin, slopes = margins[key], parts[key]
        if key in LOADS:
            slopes = np.where(adds, secant(slopes, margin[..., None]), slopes)
        moved = slopes.reshape(first.size, -1).astype(np.float32) @ z
        fails |= moved < -margin.reshape(-1, 1).astype(np.float32)
        # never less than the likeliest by itself, which is known without samples
        spread = np.sqrt((parts[key] ** 2).sum(axis=-1))
        by_itself = ndtr(-margin / np.where(spread > 0.0, spread, 1.0))
        alone = np.maximum(alone, np.where(spread > 0.0, by_itself, margin < 0.0))
    return np.asarray(np.maximum(fails.mean(axis=1).reshape(first.shape), alone))


def _told_otherwise(
    margins: Mapping[str, Floats], parts: Mapping[str, Floats], unknowns: tuple[str, ...], chance: Floats
) -> Floats:
    """Share of the common samples of the quick models' own errors in which a full simulation, which is without them, would say
    that it fails (ny, nx): it does where its chance of failing is a half and more. ``chance`` (ny, nx) is the one that anything
    fails without these errors: what several ways together have over the likeliest one is taken to stay."""
    own = np.array([name.startswith(MODEL) for name in unknowns])
    z = common_normals(len(unknowns))[own]
    safe = np.full((chance.size, z.shape[1]), np.inf, dtype=np.float32)
    first = np.full(chance.size, np.inf)
    for key, margin in margins.items():
        spread = np.maximum(np.sqrt((parts[key][..., ~own] ** 2).sum(axis=-1)), 1e-6).reshape(-1)
        at = np.clip(margin.reshape(-1) / spread, -9.0, 9.0)
        moved = (parts[key][..., own].reshape(chance.size, -1) / spread[:, None]).astype(np.float32) @ z
        safe = np.minimum(safe, at[:, None].astype(np.float32) + moved)
        first = np.minimum(first, at)
    most = float(_deviations(np.array(0.0)))  # that samples can tell
    together = np.maximum(np.clip(first, -most, most) - _deviations(chance).reshape(-1), 0.0)
    return np.asarray((safe < together[:, None]).mean(axis=1).reshape(chance.shape))


def _deviations(chance: Floats) -> Floats:
    """A chance in standard deviations of safety, inside what samples can tell."""
    return np.asarray(-ndtri(np.clip(chance, 2e-4, 1.0 - 2e-4)))


def _stated(a: Assessment | None) -> float:
    """K (or ln) that a limit without a spread has left at a node; its state decides the sign."""
    if a is None:
        return _FAR_LEFT
    left = a.margin if math.isfinite(a.margin) else _FAR_LEFT
    if a.state is State.FAILS:
        return min(left, -0.5) if math.isfinite(a.margin) else -5.0
    return left if left >= 0.0 else 0.5  # it is said, and nothing is lost by it


def _node_at(ground: Ground, asked: tuple[Setup, bool]) -> Node:
    """One node: a whole evaluation at a setup, with spreads or without."""
    setup, spreads = asked
    return node_of(ground.near(setup, spreads=spreads), ground.criteria)


def compute_window(
    ground: Ground, axes: tuple[Axis, Axis], run: RunContext | None = None, *, at_once: bool = False
) -> Window:
    """Compute the window around the present point of an evaluation that has a part; what is no axis is held. ``at_once`` it is
    coarse: of few nodes, with the spreads of the present point everywhere.

    Raises :class:`Cancelled` when asked to stop.
    """
    run = run or RunContext()
    nodes, fine = (AT_ONCE, FINE_AT_ONCE) if at_once else (NODES, FINE)
    x_axis, y_axis = axes
    now = [a.value(ground.setup) for a in axes]
    x = spaced(ground.span(x_axis), nodes[0], now[0])
    # where a heater sets in, figures have a corner: it lies on a row
    corner = _passive(ground, axes, np.array([now[0]]))
    y = spaced(ground.span(y_axis), nodes[1], now[1], *(() if corner is None or at_once else (float(corner[0]),)))
    grid: dict[tuple[int, int], Node] = {}
    figures = ground.figures

    def solve(
        places: Sequence[tuple[int, int]], spreads: Collection[tuple[int, int]], begin: float, share: float
    ) -> None:
        def told(done: int) -> None:
            run.checkpoint(begin + share * done / len(places), "operating window")

        asked = [(y_axis.put(x_axis.put(ground.setup, float(x[j])), float(y[i])), (i, j) in spreads) for i, j in places]
        grid.update(zip(places, on_two_cores(_node_at, figures, asked, told), strict=True))

    # spreads are computed at a few nodes, then where they decide
    known = node_of(ground.evaluation, ground.criteria).assessed
    spread_at = [] if at_once else sorted({(i, j) for i in (0, y.size // 2, y.size - 1) for j in (0, x.size - 1)})
    places = list(np.ndindex(y.size, x.size))
    here = int(np.argmin(np.abs(y - now[1]))), int(np.argmin(np.abs(x - now[0])))
    if np.isclose(y[here[0]], now[1]) and np.isclose(x[here[1]], now[0]):  # what is known of the present point is exact
        grid[here] = node_of(ground.evaluation, ground.criteria)
        places.remove(here)
        spread_at = spread_at if here in spread_at else [*spread_at, here]
    solve(places, spread_at, 0.0, 0.7)
    if not at_once:
        more = _undecided(grid, known, spread_at)
        solve(more, more, 0.7, 0.2)
        spread_at += more
    solved = _solved(grid, x, y, spread_at, known)
    window = painted(solved, axes, ground, fine, run.silent())
    error = math.nan if at_once else _held_back_error(ground, axes, window, run.silent())
    run.checkpoint(0.98, "operating window")
    return replace(window, fit_error=error, coarse=at_once)


def _undecided(
    grid: Mapping[tuple[int, int], Node], known: Mapping[str, Assessment], taken: Collection[tuple[int, int]]
) -> list[tuple[int, int]]:
    """Nodes at which, with the spreads of the present point, something may fail and may not; the most even ones first."""
    found = []
    for at, node in grid.items():
        least = min(
            (a.margin / known[k].spread for k, a in node.assessed.items()
             if k in known and known[k].parts and known[k].spread > 0.0 and math.isfinite(a.margin)), default=math.inf,
        )  # fmt: skip
        if at not in taken and abs(least - 1.0) < _UNDECIDED:
            found.append((abs(least - 1.0), at))
    found.sort()
    chosen: list[tuple[int, int]] = []
    for apart in (1.5, 0.0):  # spread over the map before close together
        for _, at in found:
            if len(chosen) < _MOST_SPREADS and all(math.dist(at, other) > apart for other in chosen):
                chosen.append(at)
    return chosen


def _solved(
    grid: Mapping[tuple[int, int], Node], x: Floats, y: Floats, spread_at: Sequence[tuple[int, int]],
    known: Mapping[str, Assessment],
) -> Solved:  # fmt: skip
    """What was found at the nodes, by way to fail; spreads between those that have them by inverse distance (Shepard 1968), those
    of the present point where none has."""
    ways = sorted({key for n in grid.values() for key in n.assessed})
    few = [grid[at].assessed for at in spread_at] or [known]
    uncertain = {key for found in few for key, a in found.items() if a.parts}
    names = tuple(sorted({name for found in few for a in found.values() for name in a.parts}))
    places = np.array(spread_at, dtype=float) if spread_at else np.zeros((1, 2))
    rows, columns = np.meshgrid(np.arange(y.size), np.arange(x.size), indexing="ij")
    away = (rows[..., None] - places[:, 0]) ** 2 + (columns[..., None] - places[:, 1]) ** 2
    weight = 1.0 / (away**3 + 1e-6)
    margins, parts, stated = {}, {}, {}
    for key in ways:
        found = [[grid[i, j].assessed.get(key) for j in range(x.size)] for i in range(y.size)]
        if key not in uncertain:
            stated[key] = np.array([[_stated(a) for a in line] for line in found])
            continue
        far = _MOST if key in LOADS else _FAR_LEFT
        margins[key] = np.array([
            [far if a is None or not math.isfinite(a.margin) else min(a.margin, far) for a in line] for line in found
        ])  # fmt: skip
        there = [n for n, at in enumerate(few) if key in at]
        there = [n for n in there if not few[n][key].spread > 0.5 * few[n][key].margin > 0.5 * _SAYS] or there
        table = np.array([[few[n][key].parts.get(name, 0.0) for name in names] for n in there])
        share = weight[:, :, there] / weight[:, :, there].sum(axis=2, keepdims=True)
        parts[key] = share @ table
    figures = {
        name: np.array([[grid[i, j].figures[name] for j in range(x.size)] for i in range(y.size)])
        for name in next(iter(grid.values())).figures
    }
    return Solved(x, y, margins, parts, names, stated, figures)


def painted(
    solved: Solved, axes: tuple[Axis, Axis], ground: Ground, fine: int = FINE, run: RunContext | None = None
) -> Window:
    """The fields on the fine grid, and the points that are offered. Raises :class:`Cancelled` when asked to stop."""
    run = run or RunContext()
    risk, e = ground.criteria.risk, ground.evaluation
    need = float(-ndtri(risk))
    now = [a.value(ground.setup) for a in axes]
    x, y = (spaced(Ends(float(v[0]), float(v[-1])), fine, n) for v, n in zip((solved.x, solved.y), now, strict=True))
    # chances on a grid between nodes and the fine one
    mid_x, mid_y = (_between(v) for v in (solved.x, solved.y))
    margins = _each_carried(solved.margins, solved.y, solved.x, (mid_y, mid_x))
    parts = _each_along(solved.parts, solved.y, solved.x, (mid_y, mid_x))
    loads = tuple(k for k in margins if k not in STANDS)

    def level_of(keys: tuple[str, ...]) -> Floats:
        run.checkpoint(0.0, "painting the map")
        return _deviations(
            _chance(margins, parts, solved.unknowns, keys) if keys else np.zeros((mid_y.size, mid_x.size))
        )

    sized = [
        np.clip(margins[k] / np.maximum(np.sqrt((parts[k] ** 2).sum(axis=-1)), 1e-3), -_BEYOND, _BEYOND) for k in loads
    ]
    between = {
        "loads": level_of(loads), "anything": level_of(tuple(margins)),
        "worst": np.min(np.stack([*sized, np.full((mid_y.size, mid_x.size), _BEYOND)]), axis=0),
    }  # fmt: skip
    # how sure it is of what a full simulation would say, which is without the quick models' own errors
    own = np.array([name.startswith(MODEL) for name in solved.unknowns])
    without = {k: np.where(own, 0.0, v) for k, v in parts.items()}
    run.checkpoint(0.0, "painting the map")
    by_inputs = (
        _chance(margins, without, solved.unknowns, tuple(margins)) if margins else np.zeros((mid_y.size, mid_x.size))
    )
    in_full = _told_otherwise(margins, parts, solved.unknowns, by_inputs) if margins else by_inputs
    between["in full"] = _deviations(in_full)
    between = _each_carried(between, mid_y, mid_x, (y, x))
    part_level, anything, in_full = between["loads"] - need, between["anything"], np.asarray(ndtr(-between["in full"]))
    at_nodes: dict[str, Floats] = {}
    reserve = {"layer_rating": ground.setup.rig.limits.layer_margin, "soft_feed": FEED_GOOD - FEED_MARGIN}
    for key, values in solved.stated.items():
        held = np.where(values >= 0.0, values - reserve.get(key, 0.0), values) if key in reserve else values
        at_nodes[key] = held / (_LN_KELVIN if key in _IN_LN else 1.0)
    for key in margins:
        if key in STANDS:
            spread = np.sqrt((solved.parts[key] ** 2).sum(axis=-1))
            kept = solved.margins[key] - np.maximum(need * spread, reserve.get(key, 0.0))
            at_nodes[key] = kept / (_LN_KELVIN if key in _IN_LN else 1.0)
    left = _each_carried(at_nodes, solved.y, solved.x, (y, x))
    machine_level = np.min(np.stack([*left.values(), np.full((y.size, x.size), _FAR_LEFT)]), axis=0)
    hard = list(_each_carried(solved.stated, solved.y, solved.x, (y, x)).values())
    chance = np.asarray(ndtr(-anything))
    if hard:
        over = np.min(np.stack(hard), axis=0) < 0.0
        chance, in_full = np.where(over, 1.0, chance), np.where(over, 1.0, in_full)
    run.checkpoint(0.0, "painting the map")
    ways, tightest = _tightest(solved, left, loads, (y, x), need)
    worst = between["worst"]
    f = _each_carried(solved.figures, solved.y, solved.x, (y, x))
    window = Window(
        axes, x, y, np.exp(f["margin"]), chance, np.exp(f["lift"]), np.exp(f["crack"]), f["energy"], f["duration"],
        _per_good(f["cost"], chance), f["air"], part_level, machine_level, anything - need, in_full, worst, ways, tightest,
        _passive(ground, axes, x), _present(ground, axes), None, None, 0.0, "empty", "", solved, held=ground.setup.settings,
    )  # fmt: skip
    return _choose(window, left, e.judgement)


def _between(nodes: Floats) -> Floats:
    """The nodes with ``_CHANCES - 1`` values evenly between each two."""
    steps = np.arange(_CHANCES) / _CHANCES
    return np.append((nodes[:-1, None] + np.diff(nodes)[:, None] * steps).ravel(), nodes[-1])


def _per_good(cost: Floats, chance: Floats) -> Floats:
    """Cost of a good part: what a job costs over the share of jobs that are good."""
    return np.asarray(cost / np.maximum(1.0 - chance, 1e-3))


def _tightest(
    solved: Solved, left: Mapping[str, Floats], loads: tuple[str, ...], to: tuple[Floats, Floats], need: float
) -> tuple[tuple[str, ...], np.ndarray[Any, np.dtype[np.int8]]]:
    """Ways to fail, and the index (ny, nx) of the one that is nearest to giving out, in standard deviations."""
    sized = {
        key: solved.margins[key] / np.maximum(np.sqrt((solved.parts[key] ** 2).sum(axis=-1)), 1e-6) for key in loads
    }
    levels = [level - need for level in _each_carried(sized, solved.y, solved.x, to).values()]
    levels += [values / 2.0 for values in left.values()]
    return (*sized, *left), np.argmin(np.stack(levels), axis=0).astype(np.int8)


def relearned(window: Window, shifts: Mapping[str, Floats | float], ground: Ground) -> Window:
    """The window after the margins of some failures were found to be off by ``shifts`` (ln; at the nodes), painted and chosen
    anew."""
    solved = window.solved
    margins = {key: m + shifts.get(key, 0.0) for key, m in solved.margins.items()}
    # where full runs have shown how far a quick margin is off, that much less of its own error is left
    parts = {key: p.copy() for key, p in solved.parts.items()}
    for n, name in enumerate(solved.unknowns):
        if name.startswith(MODEL):
            for key in shifts:
                if key in parts:
                    parts[key][:, :, n] *= _LEFT_OF_ERROR
    moved = painted(replace(solved, margins=margins, parts=parts), window.axes, ground, window.x.size)
    return replace(moved, fit_error=window.fit_error)


def _held_back_error(ground: Ground, axes: tuple[Axis, Axis], window: Window, run: RunContext) -> float:
    """Largest error, in standard deviations, of the chance at unused points near its limit; NaN where there is none."""
    rng = np.random.default_rng(7)
    need = float(-ndtri(ground.criteria.risk))
    near = np.argwhere(np.abs(window.all_level) < _UNDECIDED)
    if not near.size:
        return math.nan
    at = near[rng.choice(len(near), size=min(_HELD_BACK, len(near)), replace=False)]
    setups = [axes[1].put(axes[0].put(ground.setup, float(window.x[j])), float(window.y[i])) for i, j in at]

    def told(_: int) -> None:
        run.checkpoint(0.0, "operating window")

    found = _deviations(np.array(on_two_cores(_chance_at, ground.figures, setups, told)))
    return max(
        abs(float(window.all_level[i, j]) + need - float(exact)) for (i, j), exact in zip(at, found, strict=True)
    )


def _chance_at(ground: Ground, setup: Setup) -> float:
    """The chance that anything fails, by a whole evaluation."""
    return float(ground.evaluated(setup).judgement.anything)


def _passive(ground: Ground, axes: tuple[Axis, Axis], x: Floats) -> Floats | None:
    """Chamber air (n,) K that the bed alone makes while it prints, at each bed set point; the room where it is the second axis."""
    if axes[1].key == "room":
        return np.full_like(x, ground.setup.rig.room_temperature)
    if axes[1].key != "chamber" or axes[0].key not in ("bed", "bed_rest"):
        return None
    assert ground.evaluation.part is not None
    few = np.linspace(x[0], x[-1], 7) if x.size > 1 else x
    rig = ground.setup.rig
    stack, over = build_stack(rig.bed), over_plate(rig, ground.evaluation.part, ground.setup.settings)
    air = [solve_printing(rig, float(b), rig.room_temperature, stack, over, (0.0, 0.0)).air for b in few]
    return np.asarray(np.interp(x, few, air))


def _present(ground: Ground, axes: tuple[Axis, Axis]) -> Point:
    e = ground.evaluation
    assert e.warp is not None
    f = node_of(e, ground.criteria).figures
    x, y = (a.value(ground.setup) for a in axes)
    chance = e.judgement.anything
    cost = float(_per_good(np.array(f["cost"]), np.array(chance)))
    return Point(
        x,
        y,
        e.rest.air,
        e.warp.margin,
        chance,
        e.warp.largest_lift,
        e.warp.crack_index,
        f["energy"],
        f["duration"],
        cost,
    )


def _choose(window: Window, left: Mapping[str, Floats], judgement: Judgement) -> Window:
    """Mark the cheapest and the nearest point that hold, or say what stands in the way."""
    beside, way = judgement.beside_temperature
    hindered = beside > judgement.risk and not (window.part_ok & window.reachable).any()
    title = judgement.titles[way] if hindered else ""
    conditions = {STANDS.get(key, key): values >= 0.0 for key, values in left.items()}
    binding = f"{title[0].lower()}{title[1:]}" if hindered else _binding(window, conditions)
    near, cheap = candidates(window, "nearest"), candidates(window, "cheapest")
    if not near:
        return replace(window, status="empty", binding=binding)
    return replace(window, status="found", cheapest=cheap[0], nearest=near[0], binding=binding)


def _binding(window: Window, conditions: Mapping[str, Mask]) -> str:
    """What cuts most off the region the part needs; without such a region, the need that is met least."""
    there = window.part_ok & window.reachable
    if not there.any():
        solved = window.solved
        alone = {
            key: float(_chance(solved.margins, solved.parts, solved.unknowns, (key,)).min())
            for key in solved.margins if key in LOADS
        }  # fmt: skip
        return LOADS[max(alone, key=lambda k: alone[k])]
    cuts = {name: float((there & ~ok).sum()) for name, ok in conditions.items()}
    name = max(cuts, key=lambda k: cuts[k])
    return name if cuts[name] > 0 else "nothing"
