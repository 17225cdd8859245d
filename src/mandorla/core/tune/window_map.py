"""The map of an operating window as data: its points and fields, and the points on it that a machine can be set to, best first."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Final

import numpy as np
from numpy.typing import NDArray

from mandorla.core.part.mesh import Floats
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Settings

Mask = NDArray[np.bool_]

STEP: Final = 1.0  # K in which a machine can be set
_RESERVE: Final = 2.0  # K to a limit of temperature that a standard deviation of it is about
LOADS: Final = {
    "adhesion": "the grip", "flatness": "the flatness", "cracks": "cracking between layers",
    "loose_plate": "the hold of the loose plate", "tipping": "a foot that is knocked loose",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Point:
    """One operating point: set points (K; the second is the room's temperature where that is the map's axis), the chamber's
    ``air``, hold margin, chance that anything fails, lift (m), crack index, energy (J)."""

    bed: float
    chamber: float
    air: float
    margin: float
    chance: float
    lift: float
    crack: float
    energy: float


@dataclass(frozen=True, slots=True)
class Solved:
    """What the grid was solved for, kept so that what is learned later shifts it without solving anew.

    ``margins`` by failure (ny, nx) on the coarse grid, ``parts`` what one standard deviation of each of the ``unknowns`` (k) does
    to them there (ny, nx, k); ``beds`` and ``chambers`` (n,) K; ``left`` (ny, nx) K to each limit of machine and polymer, with
    ``names`` of them.
    """

    beds: Floats
    chambers: Floats
    margins: Mapping[str, Floats]
    parts: Mapping[str, Floats]
    unknowns: tuple[str, ...]
    left: Mapping[str, Floats]
    figures: Mapping[str, Floats]


@dataclass(frozen=True, slots=True)
class Window:
    """Fields on ``chamber`` (ny,) x ``bed`` (nx,) in K, all (ny, nx).

    ``part_level`` is at or above nought where the chance that the part fails is accepted (in standard deviations),
    ``machine_level``
    where machine, plate and polymer stand it (K to the tightest limit); the almond is where both are. ``chance`` that anything of
    the
    part fails. ``heated`` tells whether the rig can choose its chamber; if not, the second axis is the room's temperature, and only
    points at the room as it is can be had. ``passive`` (nx,) is the chamber without its heater, or the room. ``fit_error`` is the
    largest error of the chance's standard deviations on held-back points, ``status`` ``found`` or ``empty``; ``binding`` what cuts.
    """

    bed: Floats
    chamber: Floats
    margin: Floats
    chance: Floats
    lift: Floats
    crack: Floats
    energy: Floats
    air: Floats
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
    solved: Solved = field(repr=False)

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

    @property
    def reachable(self) -> Mask:
        """Points that this machine can be set to: all of a heated one's, else those at the room as it is."""
        if self.heated:
            return np.ones_like(self.almond)
        row = int(np.argmin(np.abs(self.chamber - self.passive[0])))
        found = np.zeros_like(self.almond)
        found[row] = True
        return found

    def nearest_point(self, bed: float, chamber: float) -> Point:
        """The computed point closest to a pair of set points."""
        i = int(np.argmin(np.abs(self.chamber - chamber)))
        j = int(np.argmin(np.abs(self.bed - bed)))
        return self.point(i, j)

    def by_the_bed(self, point: Point) -> float:
        """Chamber (K) that the bed alone makes at the point's bed set point."""
        return float(np.interp(point.bed, self.bed, self.passive)) if self.heated else point.air

    def shown_at(self, point: Point) -> float:
        """Where a point stands on the second axis (K)."""
        return point.chamber if not self.heated else max(point.chamber, self.by_the_bed(point))

    def point(self, i: int, j: int) -> Point:
        """The point of a row and a column of the map."""
        return Point(
            float(self.bed[j]), float(self.chamber[i]), float(self.air[i, j]), float(self.margin[i, j]), float(self.chance[i, j]),
            float(self.lift[i, j]), float(self.crack[i, j]), float(self.energy[i, j]),
        )  # fmt: skip


def candidates(window: Window, which: str, reserve: float = 0.0) -> list[Point]:
    """Points inside the almond that the machine can be set to, best first: the ``nearest`` to the present ones, the
    ``cheapest`` or the ``safest``, with a ``reserve`` in standard deviations, of which each is ``_RESERVE`` K to the limits of
    machine and polymer."""
    inside = (window.part_level >= reserve) & (window.machine_level >= _RESERVE * max(reserve, 0.0))
    allowed = inside & window.reachable
    if not allowed.any():
        return []
    # a set point below what the bed alone makes gives the chamber that the bed alone makes
    second = np.maximum(window.chamber[:, None], window.passive[None, :]) if window.heated else window.chamber[:, None]
    distance = np.hypot(window.bed[None, :] - window.present.bed, second - window.shown_at(window.present))
    # among points that are practically as near, the cheapest; among those that cost practically the same, the safest
    order = np.round(distance / 1.5) + 1e-9 * window.energy if which == "nearest" else (
        np.round(window.energy / max(0.01 * float(window.energy.min()), 100.0)) - 1e-3 * np.clip(window.part_level, 0.0, 3.0)
    )  # fmt: skip
    if which == "safest":  # farthest from every edge; among those that are practically as far, the cheapest
        order = -np.round(np.minimum(window.part_level, window.machine_level / _RESERVE), 1) + 1e-9 * window.energy
    order = np.where(allowed, order, np.inf)
    flat = np.argsort(order, axis=None)[: int(allowed.sum())]
    rows, columns = np.unravel_index(flat, order.shape)
    return [window.point(int(i), int(j)) for i, j in zip(rows, columns, strict=True)]


def settings_at(point: Point, rig: Rig, settings: Settings) -> Settings:
    """The settings of a point, in steps that a machine can be set to; the first layers keep their distance to the rest."""

    def rounded(kelvin: float) -> float:
        return round(round((kelvin - 273.15) / STEP) * STEP + 273.15, 2)

    bed = rounded(point.bed)
    change = {"bed_rest": bed, "bed_first": round(bed + settings.hotter_first, 2)}
    if rig.heats_chamber:
        change["chamber"] = max(rounded(point.chamber), 288.15)
    return settings.model_copy(update=change)
