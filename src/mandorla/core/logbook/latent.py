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
from scipy.special import log_ndtr, ndtr, ndtri

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
_COPY: Final = 0.15  # ln between copies of one print
_NODES: Final = np.polynomial.hermite_e.hermegauss(16)
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

    print_key: str
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
                p.key, way, "held", predicted.margin, math.inf, loads, grip, place, surfaces.of(p.surface),
                used[p.key], own, (0.0, 0.0),
            )  # fmt: skip
            told = _told(row, predicted, seen.get(way), o, ended)
            if told is not None:
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


def log_likelihood(rows: Sequence[Row], x: Floats, layout: Layout) -> Floats:
    """ln likelihood (n,) of all rows for draws x (n, d) of the latent unknowns (standard normal before)."""
    found = np.zeros(x.shape[0])
    for row in rows:
        found += row_log(row, x, layout)
    return found


def shift_of(row: Row, x: Floats, layout: Layout) -> Floats:
    """What the latent unknowns do to a row's margin, (n,)."""
    found = np.zeros(x.shape[0])
    for k, load in row.loads:
        found += load * x[:, k]
    if row.grip:
        if row.specimen >= 0:
            found += row.grip * layout.specimen(x, row.specimen)
        found -= row.grip * layout.used(x, row.surface, row.use)
    return found


def row_log(row: Row, x: Floats, layout: Layout) -> Floats:
    """ln likelihood (n,) of one row."""
    shift = shift_of(row, x, layout)
    m = row.margin + shift
    if row.kind == "held":
        return np.asarray(log_ndtr(m / row.own))
    if row.kind == "happened":
        return np.asarray(log_ndtr(-m / row.own))
    if row.kind == "lift":
        s = math.hypot(row.own, LIFT_READ)
        return np.asarray(-0.5 * ((row.read[0] - m) / s) ** 2 - math.log(s))
    if row.kind == "between":
        before = (row.before + shift) / row.own
        p = ndtr(-m / row.own) - ndtr(-before)
        return np.asarray(np.log(np.maximum(p, math.exp(_LEAST_LOG))))
    failed, copies = row.read
    u, w = _NODES
    p = np.clip(ndtr(-(m[:, None] + row.own * u) / _COPY), 1e-12, 1.0 - 1e-12)
    logs = failed * np.log(p) + (copies - failed) * np.log1p(-p)
    top = logs.max(axis=1, keepdims=True)
    return np.asarray(top[:, 0] + np.log((np.exp(logs - top) * w).sum(axis=1) / w.sum()))
