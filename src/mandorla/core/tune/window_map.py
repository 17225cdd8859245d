"""The map of an operating window as data: its points and fields, and the points on it that a machine can be set to, best first."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Final, NamedTuple

import numpy as np
from numpy.typing import NDArray

from mandorla.core.failure.state import State
from mandorla.core.part.mesh import Floats
from mandorla.core.part.process import Process
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Settings
from mandorla.core.tune.axes import AXES, Axis, Setup
from mandorla.core.tune.simulated_point import SimulatedPoint
from mandorla.core.units import KINDS

Mask = NDArray[np.bool_]

SURE_OF_FULL: Final = (0.10, 0.90)  # chances that a full simulation says it fails between which a map is not sure
STEP: Final = 1.0  # K in which a machine can be set
RESERVE: Final = 2.0  # K to a limit of temperature that a standard deviation of it is about
LOADS: Final = {
    "adhesion": "the grip", "flatness": "the flatness", "cracks": "cracking between layers",
    "loose_plate": "the hold of the loose plate", "tipping": "a foot that is knocked loose",
}  # fmt: skip
# limits of machine, plate and polymer, as they are named on a map
STANDS: Final = {
    "placement": "the place on the bed", "set_point_limit": "the bed's set point limit", "layer_rating": "a layer's rating",
    "fuse_trip": "a fuse", "bed_set_point": "the heater's power", "supply": "supply or breaker",
    "chamber_rating": "the chamber's limit", "chamber_set_point": "the chamber heater's power",
    "soft_foot": "the softness of the foot", "thermal_shock": "the glass",
    "surface_rating": "the surface's range of use", "soft_feed": "the filament in the feed",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Point:
    """One operating point: its place ``x``, ``y`` on the axes (SI), the chamber's ``air`` (K), hold margin, chance that anything
    fails, lift (m), crack index, energy at the plug (J), time until the print ends (s), cost of a good part."""

    x: float
    y: float
    air: float
    margin: float
    chance: float
    lift: float
    crack: float
    energy: float
    duration: float = float("nan")
    cost: float = float("nan")


@dataclass(frozen=True, slots=True)
class Solved:
    """What the nodes were solved for, kept so that what is learned later shifts it without solving anew.

    ``x`` (n,) and ``y`` (m,) SI; ``margins`` (m, n) by way to fail, ``parts`` what one standard deviation of each of the
    ``unknowns`` (k) does to them there (m, n, k); ``stated`` those margins whose sign alone decides (no spread);
    ``figures`` (m, n).
    """

    x: Floats
    y: Floats
    margins: Mapping[str, Floats]
    parts: Mapping[str, Floats]
    unknowns: tuple[str, ...]
    stated: Mapping[str, Floats]
    figures: Mapping[str, Floats]


class InHand(NamedTuple):
    """How far (SI, of an axis) the present point can move down and up before something is likelier to fail than is accepted, and
    what gives out there; nought where it is outside already, infinite (with an empty name) where the map's end comes first."""

    down: float
    up: float
    below: str
    above: str


@dataclass(frozen=True, slots=True)
class Window:
    """Fields on ``y`` (ny,) x ``x`` (nx,) in SI of the ``axes``, all (ny, nx).

    ``part_level`` is at or above nought where the chance that the part fails is accepted (in standard deviations), ``all_level``
    where the chance that anything fails is, ``machine_level`` where machine, plate and polymer stand it (K to the tightest limit);
    the almond is where all are. ``chance`` that anything fails. ``in_full`` is the chance that a full simulation of the same inputs
    would say that it fails: between ``SURE_OF_FULL`` the map is not sure what it would say. ``worst`` is the load that is furthest
    from holding, in standard deviations (negative: it fails). ``tightest`` (ny, nx) is the index in
    ``ways`` of what is nearest to giving out. ``passive`` (nx,) is the chamber without its heater where the axes are bed and
    chamber, or the room where the second axis is the room, else None. ``fit_error`` is the largest error of the chance's standard
    deviations on held-back points, ``status`` ``found`` or ``empty``; ``binding`` what cuts. ``best`` names the settings that are
    the best at each point, none are held, where they are not (by path; SI). ``held`` are the settings that it was computed around;
    ``coarse`` tells that it is the first one, of few nodes.
    """

    axes: tuple[Axis, Axis]
    x: Floats
    y: Floats
    margin: Floats
    chance: Floats
    lift: Floats
    crack: Floats
    energy: Floats
    duration: Floats
    cost: Floats
    air: Floats
    part_level: Floats
    machine_level: Floats
    all_level: Floats
    in_full: Floats
    worst: Floats
    ways: tuple[str, ...]
    tightest: NDArray[np.int8]
    passive: Floats | None
    present: Point
    cheapest: Point | None
    nearest: Point | None
    fit_error: float
    status: str
    binding: str
    solved: Solved = field(repr=False)
    best: Mapping[str, Floats] = field(default_factory=dict)
    held: Settings | None = None
    coarse: bool = False

    @property
    def heated(self) -> bool:
        """Whether the second axis is the chamber that a heater holds."""
        return self.axes[1].key == "chamber"

    @property
    def unlikely(self) -> Floats:
        """What orders places from the likeliest to hold on: the chance that anything fails, and, where it says no more (less than a
        thousandth), how far the worst load is from holding."""
        return np.asarray(np.round(self.chance, 3) - 4e-4 * np.arctan(0.2 * self.worst) / np.pi)

    @property
    def part_ok(self) -> Mask:
        """Where the part has what it needs."""
        return self.part_level >= 0.0

    @property
    def machine_ok(self) -> Mask:
        """Where machine, plate and polymer stand it."""
        return self.machine_level >= 0.0

    @property
    def level(self) -> Floats:
        """At or above nought inside the almond, in standard deviations (of limits some kelvins)."""
        return np.minimum(np.minimum(self.part_level, self.all_level), self.machine_level / RESERVE)

    @property
    def almond(self) -> Mask:
        """Where the chance that anything fails is accepted and nothing is over its limit."""
        return self.level >= 0.0

    @property
    def doubt_level(self) -> Floats:
        """Above nought where the map is not sure what a full simulation would say, for the quick models' own errors decide."""
        low, high = SURE_OF_FULL
        return np.minimum(self.in_full - low, high - self.in_full)

    @property
    def not_sure(self) -> Mask:
        """Where a full simulation may say otherwise than the map."""
        return self.doubt_level > 0.0

    @property
    def reachable(self) -> Mask:
        """Points that can be set: all where both axes are settings, else those at what is found as it is."""
        found = np.ones_like(self.almond)
        for n, (axis, values, now) in enumerate(
            zip(self.axes, (self.x, self.y), (self.present.x, self.present.y), strict=True)
        ):
            if axis.given:
                only = np.arange(values.size) == int(np.argmin(np.abs(values - now)))
                found &= only[None, :] if n == 0 else only[:, None]
        return found

    def index_of(self, x: float, y: float) -> tuple[int, int]:
        """Row and column of the computed point closest to a place."""
        return int(np.argmin(np.abs(self.y - y))), int(np.argmin(np.abs(self.x - x)))

    def nearest_point(self, x: float, y: float) -> Point:
        """The computed point closest to a place."""
        return self.point(*self.index_of(x, y))

    def by_the_bed(self, point: Point) -> float:
        """What the second axis has by itself at a point: the chamber that the bed alone makes, else where the point is."""
        if self.passive is None or not self.heated:
            return point.y
        return float(np.interp(point.x, self.x, self.passive))

    def shown_at(self, point: Point) -> float:
        """Where a point stands on the second axis (SI)."""
        return max(point.y, self.by_the_bed(point))

    def point(self, i: int, j: int) -> Point:
        """The point of a row and a column of the map."""
        each = (
            self.air, self.margin, self.chance, self.lift, self.crack, self.energy, self.duration, self.cost,
        )  # fmt: skip
        return Point(float(self.x[j]), float(self.y[i]), *(float(f[i, j]) for f in each))

    def set_at(self, x: float, y: float, rig: Rig, settings: Settings, process: Process) -> dict[str, Any]:
        """What is to be set, by path, to go to a place, in steps that can be set; an axis that is found, not set, stays."""
        before = Setup(rig, settings, process)
        after = before
        for axis, value in zip(self.axes, (x, y), strict=True):
            if axis.given:
                continue
            unit = KINDS[axis.kind][0]  # whole steps as they are read
            shown = round(unit.from_si(value) / (axis.step * unit.scale)) * axis.step * unit.scale
            after = axis.put(after, float(unit.to_si(shown)))
        if self.best:  # what is best there goes with it
            i, j = self.index_of(x, y)
            for axis in (a for a in AXES.values() if a.paths and a.paths[0] in self.best):
                after = axis.put(after, float(self.best[axis.paths[0]][i, j]))
        found = {}
        for path in (p for axis in (*self.axes, *AXES.values()) for p in axis.paths):
            old, new = (_at(setup, path) for setup in (before, after))
            if old != new:
                found[path] = new
        return found

    def place_of(self, rig: Rig, settings: Settings, process: Process) -> tuple[float, float]:
        """Where a state lies on the axes (SI), as the map shows it."""
        x, y = (axis.value(Setup(rig, settings, process)) for axis in self.axes)
        if self.heated and self.passive is not None:
            y = max(y, float(np.interp(x, self.x, self.passive)))
        return x, y

    def places_of(self, runs: Sequence[SimulatedPoint]) -> tuple[tuple[float, float, State], ...]:
        """Where full simulations lie on this map: those that differ from the present in nothing but what its axes set."""
        found = []
        for run in runs:
            place = [self.present.x, self.present.y]
            others = dict(run.settings.moves(self.held)) if self.held is not None else {}
            for n, axis in enumerate(self.axes):
                for path in axis.paths:
                    others.pop(path.removeprefix("settings."), None)
                if not axis.given and axis.paths[0].startswith("settings."):
                    place[n] = float(getattr(run.settings, axis.paths[0].removeprefix("settings.")))
            if not others:
                found.append((place[0], place[1], run.state))
        return tuple(found)

    def gives_out(self, x: float, y: float) -> str:
        """The way to fail that is nearest to giving out at a place; empty where there is none."""
        return self.ways[int(self.tightest[self.index_of(x, y)])] if self.ways else ""

    def in_hand(self, which: int) -> InHand:
        """How far the present point can move along an axis (0: x, 1: y) before the map leaves the almond."""
        i, j = self.index_of(self.present.x, self.shown_at(self.present))
        values = self.x if which == 0 else self.y
        level = self.level[i, :] if which == 0 else self.level[:, j]
        names = self.tightest[i, :] if which == 0 else self.tightest[:, j]
        at, now = (j, self.present.x) if which == 0 else (i, self.shown_at(self.present))
        if level[at] < 0.0:
            return InHand(0.0, 0.0, self.ways[int(names[at])], self.ways[int(names[at])])
        found = []
        for step in (-1, 1):
            k = at
            while 0 <= k + step < level.size and level[k + step] >= 0.0:
                k += step
            out = k + step
            if not 0 <= out < level.size:
                found.append((np.inf, ""))
                continue
            share = level[k] / (level[k] - level[out])
            edge = values[k] + share * (values[out] - values[k])
            found.append((max(0.0, step * (edge - now)), self.ways[int(names[out])]))
        (down, below), (up, above) = found
        return InHand(float(down), float(up), below, above)


def _at(setup: Setup, path: str) -> float:
    value: Any = setup
    for name in path.split("."):
        value = getattr(value, name)
    return float(value)


def candidates(window: Window, which: str, reserve: float = 0.0) -> list[Point]:
    """Points inside the almond that can be set, best first: the ``nearest`` to the present ones, the ``cheapest`` or the
    ``safest``, with a ``reserve`` in standard deviations, of which each is ``RESERVE`` K to the limits of machine and polymer."""
    inside = (window.part_level >= reserve) & (window.all_level >= reserve)
    inside &= window.machine_level >= RESERVE * max(reserve, 0.0)
    allowed = inside & window.reachable
    if not allowed.any():
        return []
    # a set point below what the bed alone makes gives the chamber that the bed alone makes
    second = np.broadcast_to(window.y[:, None], allowed.shape)
    if window.heated and window.passive is not None:
        second = np.maximum(second, window.passive[None, :])
    distance = np.hypot(window.x[None, :] - window.present.x, second - window.shown_at(window.present))
    # among points that are practically as near, the cheapest; among those that cost practically the same, the safest
    order = np.round(distance / 1.5) + 1e-9 * window.energy if which == "nearest" else (
        np.round(window.energy / max(0.01 * float(window.energy.min()), 100.0)) - 1e-3 * np.clip(window.part_level, 0.0, 3.0)
    )  # fmt: skip
    if which == "safest":  # farthest from every edge; among those that are practically as far, the cheapest
        order = -np.round(window.level, 1) + 1e-9 * window.energy
    order = np.where(allowed, order, np.inf)
    flat = np.argsort(order, axis=None)[: int(allowed.sum())]
    rows, columns = np.unravel_index(flat, order.shape)
    return [window.point(int(i), int(j)) for i, j in zip(rows, columns, strict=True)]


def settings_at(point: Point, rig: Rig, settings: Settings) -> Settings:
    """The settings of a point of bed against chamber or room, in steps that a machine can be set to; the first layers keep their
    distance to the rest."""

    def rounded(kelvin: float) -> float:
        return round(round((kelvin - 273.15) / STEP) * STEP + 273.15, 2)

    bed = rounded(point.x)
    change = {"bed_rest": bed, "bed_first": round(bed + settings.hotter_first, 2)}
    if rig.heats_chamber:
        change["chamber"] = max(rounded(point.y), 288.15)
    return settings.model_copy(update=change)
