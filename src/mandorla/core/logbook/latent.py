"""The unknowns that prints of a workshop share, and how each print's margins hang on them.

A margin of a print is what was predicted plus what one standard deviation of each unknown does to it, times the unknown. Film
unknowns and joints belong to a polymer; grip to the class of a surface, to the pair of surface and polymer, to the side of a
specimen; the magnet to a machine; the quick model's scale to everybody. What else moves a margin is taken anew in each print.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Final, NamedTuple

import numpy as np
from scipy.special import gammaln, log_ndtr, ndtr, ndtri

from mandorla.core.logbook.evidence import FLAT, margin_by
from mandorla.core.logbook.records import Effect, Outcome, PlateEvent, Predicted, Print
from mandorla.core.part.mesh import Floats
from mandorla.core.warp.unknowns import (
    CREEP,
    CRYSTALS,
    EXPANSION,
    GRIP,
    JOINTS,
    MAGNET,
    MODEL,
    STIFFNESS,
    STRESS_FREE,
)

OF_POLYMER: Final = (EXPANSION, STIFFNESS, STRESS_FREE, CREEP, CRYSTALS, JOINTS)
CLASS_SHARE: Final = 0.4  # of grip's variance that all polymers on a class of surface share
MODEL_SHARE: Final = 0.5  # of the quick model's variance that is the same in every print
COMMON_FIGURES: Final = ("margin", "crack")  # of the model's errors, those that have a common part
SPECIMENS: Final = 0.3  # ln; scale of the half-normal prior of the standard deviation between specimens
WEAR: Final = 0.03  # ln a print since the last wash; scale of a half-normal
AGE: Final = 0.005  # ln a print ever; scale of a half-normal
SCATTER: Final = 0.3  # of a margin's spread, that is taken anew in each print at least (estimate, unchecked)
LIFT_READ: Final = 0.15  # ln to which a lift is read off
KINDS: Final = ("held", "happened", "between", "lift", "copies")  # of what a row tells
UPSET: Final = (
    0.04  # of prints end as they do for a reason of their own: a fingerprint, a draught, a clog (estimate, unchecked)
)
_COPY: Final = 0.15  # ln between copies of one print
_NODES: Final = np.polynomial.hermite_e.hermegauss(16)
_CERTAIN: Final = 5.0  # standard deviations
_LEAST_LOG: Final = -300.0


class Use(NamedTuple):
    """How a side was used before a print: prints since it was last washed, prints ever."""

    since_wash: int
    ever: int


def uses(prints: Sequence[Print], events: Sequence[PlateEvent]) -> dict[str, Use]:
    """How the side of each print (by its key) had been used, from all prints in their order and what was done to the sides."""
    found: dict[str, Use] = {}
    ever: dict[tuple[str, str], int] = {}
    since: dict[tuple[str, str], int] = {}
    happened = sorted(
        [(p.at, 1, p) for p in prints] + [(e.at, 0, e) for e in events], key=lambda row: (row[0], row[1])
    )  # fmt: skip
    for _, _, what in happened:
        side = (what.plate, what.side)
        if isinstance(what, PlateEvent):
            if what.what in ("washed", "scuffed", "renewed"):
                since[side] = 0
            if what.what == "renewed":
                ever[side] = 0
            continue
        if what.prepared == "washed":
            since[side] = 0
        found[what.key] = Use(since.get(side, 0), ever.get(side, 0))
        since[side], ever[side] = since.get(side, 0) + 1, ever.get(side, 0) + 1
    return found


def use_now(prints: Sequence[Print], events: Sequence[PlateEvent]) -> dict[tuple[str, str], Use]:
    """How each side (plate, side) has been used by now."""
    last = Print(name="now").model_copy
    sides = {(p.plate, p.side) for p in prints if p.plate}
    found: dict[tuple[str, str], Use] = {}
    for plate, side in sides:
        probe = last(update={"plate": plate, "side": side, "key": "probe", "at": "9999-12-31"})
        found[plate, side] = uses([*prints, probe], events)["probe"]
    return found


@dataclass(frozen=True, slots=True)
class Row:
    """One observation of one way of one print: ``kind`` (held, happened, between, lift, copies), margins (``margin``; up to a
    height ``before`` for between), loads on latent unknowns, on the specimen, on wear and age, the own standard deviation, what
    was read (ln for lifts; failed and all copies)."""

    way: str
    kind: str
    margin: float
    before: float
    loads: tuple[tuple[int, float], ...]
    grip: float
    specimen: int
    surface: int
    use: Use
    own: float
    read: tuple[float, float]


def figure_of(name: str) -> str:
    """The figure whose model error an unknown is; empty where it is none."""
    return name.removeprefix(f"{MODEL}, ") if name.startswith(f"{MODEL}, ") else ""


class Names:
    """Names of latent unknowns, numbered as they come."""

    def __init__(self) -> None:
        self.index: dict[str, int] = {}

    def of(self, name: str) -> int:
        """The number of a name."""
        return self.index.setdefault(name, len(self.index))


def latent_of(unknown: str, polymer: str, machine: str) -> str:
    """The latent that an unknown of a print is; empty where it is taken anew in each print, or is grip."""
    if unknown in OF_POLYMER:
        return f"{polymer}|{unknown}"
    if unknown == MAGNET:
        return f"{machine}|{MAGNET}"
    figure = figure_of(unknown)
    return f"model|{figure}" if figure in COMMON_FIGURES else ""


def loads_of(p: Print, predicted: Predicted, names: Names) -> tuple[tuple[tuple[int, float], ...], float, float]:
    """How a margin hangs on latent unknowns, what one unit of ln grip does to it, and the standard deviation taken anew."""
    found: dict[int, float] = {}
    own2, total2, grip = 0.0, 0.0, 0.0
    for unknown, part in predicted.parts.items():
        total2 += part * part
        name = latent_of(unknown, p.polymer, p.machine)
        if unknown == GRIP:
            grip = part / p.grip_spread
            found[names.of(f"grip|class|{p.surface}")] = math.sqrt(CLASS_SHARE) * part
            found[names.of(f"grip|pair|{p.surface}|{p.polymer}")] = math.sqrt(1.0 - CLASS_SHARE) * part
        elif figure_of(unknown) and name:
            found[names.of(name)] = math.sqrt(MODEL_SHARE) * part
            own2 += (1.0 - MODEL_SHARE) * part * part
        elif name:
            found[names.of(name)] = found.get(names.of(name), 0.0) + part
        else:
            own2 += part * part
    return tuple(found.items()), grip, math.sqrt(own2 + SCATTER**2 * total2)


def ends_at(o: Outcome) -> float:
    """The height (m) up to which a print tells anything but its first failure; infinite where it went to its end."""
    ends = [e.high for e in o.effects if e.high is not None and e.way != FLAT]
    if o.accident and o.accident_at is not None:
        ends.append(o.accident_at)
    elif o.accident:
        ends.append(0.0)
    return min(ends, default=math.inf)


def rows_of(
    prints: Sequence[Print], events: Sequence[PlateEvent], names: Names
) -> tuple[list[Row], list[str], list[str]]:
    """What all prints whose end is known tell, the specimens (plate|side) and the surfaces that they number."""
    used, specimens, surfaces = uses(prints, events), Names(), Names()
    found: list[Row] = []
    for p in prints:
        o = p.outcome
        if o is None:
            continue
        ended = ends_at(o)
        seen = {e.way: e for e in o.effects}
        for way, predicted in p.evidence.items():
            loads, grip, own = loads_of(p, predicted, names)
            if not own:
                continue
            place = specimens.of(f"{p.plate}|{p.side}") if p.plate else -1
            row = Row(
                way, "held", predicted.margin, math.inf, loads, grip, place, surfaces.of(p.surface),
                used[p.key], own, (0.0, 0.0),
            )  # fmt: skip
            told = _told(row, predicted, seen.get(way), o, ended)
            # what was certain, and came so, teaches nothing
            certain = told is not None and told.margin > _CERTAIN * math.hypot(own, *predicted.parts.values())
            if told is not None and not (certain and told.kind in ("held", "copies") and told.read[0] == 0.0):
                found.append(told)
    return found, list(specimens.index), list(surfaces.index)


def _told(row: Row, p: Predicted, effect: Effect | None, o: Outcome, ended: float) -> Row | None:
    """What an outcome tells of one way; None where it tells nothing."""
    if effect is not None:
        if effect.lift is not None and p.limit and row.way == FLAT:
            return replace(row, kind="lift", read=(math.log(p.limit / max(effect.lift, 1e-5)), 0.0))
        if o.copies > 1:
            return replace(row, kind="copies", read=(float(min(effect.count, o.copies)), float(o.copies)))
        if effect.high is not None and p.heights:
            low, high = margin_by(p, effect.low), margin_by(p, effect.high)
            if math.isfinite(high) and high < low - 1e-9:
                return replace(row, kind="between", margin=high, before=low)
        return replace(row, kind="happened")
    if math.isinf(ended):
        return replace(row, kind="copies", read=(0.0, float(o.copies))) if o.copies > 1 else row
    reached = margin_by(p, ended)
    if math.isfinite(reached):
        return replace(row, margin=reached)
    return None  # nobody knows what it would have done later


def half_normal(x: Floats) -> Floats:
    """A standard half-normal figure from a standard normal one, in the same order."""
    return np.asarray(-ndtri(0.5 * ndtr(-np.asarray(x, dtype=float))))


class Layout(NamedTuple):
    """Where the latent unknowns stand in a draw: those with ``names`` first, then the specimens' scale, the specimens, wear and age
    of each surface."""

    names: tuple[str, ...]
    specimens: tuple[str, ...]
    surfaces: tuple[str, ...]

    @property
    def size(self) -> int:
        """How many there are."""
        return len(self.names) + 1 + len(self.specimens) + 2 * len(self.surfaces)

    def specimen(self, x: Floats, number: int) -> Floats:
        """ln by which a specimen grips more than its class, (n,)."""
        k = len(self.names)
        return np.asarray(SPECIMENS * half_normal(x[:, k]) * x[:, k + 1 + number])

    def used(self, x: Floats, number: int, use: Use) -> Floats:
        """ln by which a side grips less for its use, (n,)."""
        k = len(self.names) + 1 + len(self.specimens) + 2 * number
        return np.asarray(WEAR * use.since_wash * half_normal(x[:, k]) + AGE * use.ever * half_normal(x[:, k + 1]))


class Stack:
    """All rows as arrays, for many draws at once.

    Parameters
    ----------
    rows
        What all prints tell.
    layout
        Where the latent unknowns stand in a draw.
    """

    def __init__(self, rows: Sequence[Row], layout: Layout) -> None:
        self.layout, n = layout, len(rows)
        self.loads = np.zeros((n, len(layout.names)))
        for r, row in enumerate(rows):
            for k, load in row.loads:
                self.loads[r, k] += load
        self.grip = np.array([row.grip for row in rows])
        self.specimen = np.array([row.specimen for row in rows], dtype=int)
        self.surface = np.array([row.surface for row in rows], dtype=int)
        self.since = np.array([float(row.use.since_wash) for row in rows])
        self.ever = np.array([float(row.use.ever) for row in rows])
        self.margin = np.array([row.margin for row in rows])
        self.before = np.array([row.before for row in rows])
        self.own = np.array([row.own for row in rows])
        self.read = np.array([row.read for row in rows]).reshape(n, 2)
        self.of = {kind: np.flatnonzero([row.kind == kind for row in rows]) for kind in KINDS}

    def shift(self, x: Floats) -> Floats:
        """What draws x (n, d) of the latent unknowns do to the rows' margins, (n, rows)."""
        x, layout, k = np.asarray(x, dtype=float), self.layout, len(self.layout.names)
        found = x[:, :k] @ self.loads.T
        ln = np.zeros_like(found)
        if layout.specimens:
            own = SPECIMENS * half_normal(x[:, k])[:, None] * x[:, k + 1 : k + 1 + len(layout.specimens)]
            stated = self.specimen >= 0
            ln[:, stated] += own[:, self.specimen[stated]]
        if layout.surfaces:
            first = k + 1 + len(layout.specimens)
            worn = half_normal(x[:, first : first + 2 * len(layout.surfaces)])
            ln -= WEAR * self.since * worn[:, 2 * self.surface] + AGE * self.ever * worn[:, 2 * self.surface + 1]
        return np.asarray(found + self.grip * ln)

    def logs(self, x: Floats, *, upsets: bool = True) -> Floats:
        """ln likelihood (n,) of all rows for draws x (n, d); with ``upsets`` a small share of prints end as they do for a reason of
        their own, whatever is predicted."""
        shift = self.shift(x)
        found = np.zeros(shift.shape[0])
        for kind, at in self.of.items():
            if not at.size:
                continue
            logs = self._by_model(kind, at, shift[:, at])
            if upsets:
                logs = np.logaddexp(math.log1p(-UPSET) + logs, math.log(UPSET) + self._upset(kind, at))
            found += logs.sum(axis=1)
        return found

    def _upset(self, kind: str, at: np.ndarray) -> Floats:
        """ln probability (k,) of what rows tell where the model has no say in it: even odds; a lift anywhere within a factor of
        five; any number of copies."""
        if kind == "lift":
            return np.asarray(-0.5 * (self.read[at, 0] / 1.6) ** 2 - math.log(1.6))
        if kind == "copies":
            return np.asarray(-np.log(self.read[at, 1] + 1.0))
        return np.full(at.size, math.log(0.15) if kind == "between" else math.log(0.5))

    def _by_model(self, kind: str, at: np.ndarray, shift: Floats) -> Floats:
        """ln likelihood (n, k) of rows of a kind."""
        m, own = self.margin[at] + shift, self.own[at]
        if kind == "held":
            return np.asarray(log_ndtr(m / own))
        if kind == "happened":
            return np.asarray(log_ndtr(-m / own))
        if kind == "lift":
            s = np.hypot(own, LIFT_READ)
            return np.asarray(-0.5 * ((self.read[at, 0] - m) / s) ** 2 - np.log(s))
        if kind == "between":
            p = ndtr(-m / own) - ndtr(-(self.before[at] + shift) / own)
            return np.asarray(np.log(np.maximum(p, math.exp(_LEAST_LOG))))
        failed, copies = self.read[at, 0][:, None], self.read[at, 1][:, None]
        u, w = _NODES
        p = np.clip(ndtr(-(m[:, :, None] + own[:, None] * u) / _COPY), 1e-12, 1.0 - 1e-12)
        logs = failed * np.log(p) + (copies - failed) * np.log1p(-p)
        top = logs.max(axis=2, keepdims=True)
        ways = (gammaln(copies + 1) - gammaln(failed + 1) - gammaln(copies - failed + 1))[:, 0]
        return np.asarray(ways + top[:, :, 0] + np.log((np.exp(logs - top) * w).sum(axis=2) / w.sum()))
