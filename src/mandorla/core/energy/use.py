"""Energy of one print at the plug: every consumer in every phase, with the range that its unknowns leave, and what it costs.

Both heaters' energy comes from the marches of the heat-up, the soak and the print; supplies, hot end, melt and the other consumers
are added to it. Each unknown's effect is kept by itself, so that a difference of two cases has a range in which what both share
cancels.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.materials.library_data import Polymer
from mandorla.core.materials.values import Value
from mandorla.core.rig.consumers import (
    DOING_NAMES,
    LOW_VOLTAGE,
    Doing,
    Spread,
    bed_supply,
    chamber_supply,
    consumers_of,
    own_heat,
    own_heat_within,
)
from mandorla.core.rig.model import Rig
from mandorla.core.thermal.stack import Floats

BED: Final = "bed"
CHAMBER: Final = "chamber"
HOT_END: Final = "hot_end"
MELT: Final = "melt"
MACHINE: Final = "machine"  # the thermal model's unknown: what motors and electronics give off inside
HEATERS: Final = {BED: "Bed", CHAMBER: "Chamber heater", HOT_END: "Hot end", MELT: "Melting the polymer"}


class Heated(NamedTuple):
    """What the marches say of a phase: how long it takes (s), J of heat that bed and chamber heater give in it, and the most that
    both take at once (W of heat)."""

    doing: Doing
    duration: float
    bed: float
    chamber: float
    peak: tuple[float, float]


@dataclass(frozen=True, slots=True)
class PhaseUse:
    """A phase of a job: its ``duration`` (s), J at the plug by consumer, and the ``peak`` (W)."""

    doing: Doing
    duration: float
    by: Mapping[str, float]
    peak: float

    @property
    def name(self) -> str:
        """In words."""
        return DOING_NAMES[self.doing] if self.doing is not Doing.IDLE else "idle until taken off"

    @property
    def total(self) -> float:
        """J at the plug."""
        return sum(self.by.values())

    @property
    def power(self) -> float:
        """Mean power (W) at the plug."""
        return self.total / self.duration if self.duration > 0.0 else 0.0


@dataclass(frozen=True, slots=True)
class EnergyUse:
    """Energy of a job by ``phases``; ``names`` of the consumers by key; ``effects`` J by which the total moves at the low and
    the high end of each unknown, by key (empty where no ranges were asked for), in units of whose 90 % ranges ``correlated``
    holds what a fit has left of some of them; ``price`` per J, of the hours in which it runs. ``unfinished`` tells that the
    plate is still warm when the cool-down ends."""

    phases: tuple[PhaseUse, ...]
    names: Mapping[str, str]
    price: float
    effects: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    correlated: Mapping[tuple[str, str], float] = field(default_factory=dict)
    unfinished: bool = False

    @property
    def total(self) -> float:
        """J at the plug from switching on until the part is taken off."""
        return sum(p.total for p in self.phases)

    @property
    def within(self) -> tuple[float, float]:
        """The ends (J) of the total's 90 % range; NaN where no ranges were asked for."""
        if not self.effects:
            return float("nan"), float("nan")
        down, up = spread_of(self.effects, self.correlated)
        return self.total - down, self.total + up

    @property
    def cost(self) -> float:
        """What it costs, in the currency of the price."""
        return self.total * self.price

    @property
    def peak(self) -> float:
        """Highest power (W) at the plug."""
        return max(p.peak for p in self.phases)

    @property
    def heaters(self) -> float:
        """J at the plug of bed and chamber heater alone."""
        return sum(p.by.get(BED, 0.0) + p.by.get(CHAMBER, 0.0) for p in self.phases)

    def of(self, key: str) -> float:
        """J of a consumer in all phases."""
        return sum(p.by.get(key, 0.0) for p in self.phases)

    def phase(self, doing: Doing) -> PhaseUse | None:
        """A phase; None where the job has none of it."""
        return next((p for p in self.phases if p.doing is doing), None)


def spread_of(
    effects: Mapping[str, tuple[float, float]], correlated: Mapping[tuple[str, str], float]
) -> tuple[float, float]:
    """How far down and up a sum may lie: its unknowns' effects at both ends as squares, in proportion to what a fit has left of
    them."""
    keys = list(effects)
    pairs = np.array([effects[k] for k in keys]).reshape(-1, 2)
    down = float(np.sqrt(np.sum(np.minimum(pairs, 0.0).min(axis=1, initial=0.0) ** 2)))
    up = float(np.sqrt(np.sum(np.maximum(pairs, 0.0).max(axis=1, initial=0.0) ** 2)))
    slope = 0.5 * (pairs[:, 1] - pairs[:, 0])
    plain = float(np.sum(slope**2))
    if plain <= 0.0 or not correlated:
        return down, up
    place = {k: n for n, k in enumerate(keys)}
    left = np.eye(len(keys))
    for (a, b), value in correlated.items():
        if a in place and b in place:
            left[place[a], place[b]] = value
    share = math.sqrt(max(0.0, float(slope @ left @ slope)) / plain)
    return down * share, up * share


class Difference(NamedTuple):
    """One job's energy (J) minus another's, with its 90 % range."""

    value: float
    low: float
    high: float


def difference(one: EnergyUse, other: EnergyUse) -> Difference:
    """What a job takes more than another: unknowns that both share act on both at once."""
    keys = {**one.effects, **other.effects}
    none = (0.0, 0.0)
    effects = {
        k: tuple(a - b for a, b in zip(one.effects.get(k, none), other.effects.get(k, none), strict=True)) for k in keys
    }
    value = one.total - other.total
    if not effects:
        return Difference(value, float("nan"), float("nan"))
    down, up = spread_of(effects, {**other.correlated, **one.correlated})  # type: ignore[arg-type]
    return Difference(value, value - down, value + up)


def energy_use(
    rig: Rig,
    phases: tuple[Heated, ...],
    printed: tuple[Polymer, float],
    price: float,
    air: float,
    held: tuple[Mapping[str, tuple[float, float]], float],
) -> EnergyUse:
    """The energy of a job at the plug.

    Parameters
    ----------
    rig
        The machine with its consumers.
    phases
        What the marches say, in their order.
    printed
        Polymer (its deposition temperature is the nozzle's) and mass in kg.
    price
        Of a J at the plug.
    air
        K around the hot end while it prints.
    held
        W by which both heaters' steady power moves at the ends of the rig's unknowns (empty: no ranges), and that power.
    """
    polymer, mass = printed
    nozzle = polymer.deposition_temperature.typical
    bed, chamber, consumers = bed_supply(rig), chamber_supply(rig), consumers_of(rig)
    loss, melt = hot_end_loss(rig, nozzle, air), melt_energy(mass, polymer, nozzle, rig.room_temperature)
    tools = LOW_VOLTAGE.typical  # of plug power that the hot end's supply gives it
    names = HEATERS | {f"consumer:{c.key}": c.name for c in consumers}
    found = []
    for p in phases:
        span = p.duration
        by = {f"consumer:{c.key}": c.power * c.share(p.doing) * span for c in consumers}
        by |= {BED: p.bed / bed.typical, CHAMBER: p.chamber / chamber.typical}
        peak = (
            sum(c.power * c.share(p.doing) for c in consumers) + p.peak[0] / bed.typical + p.peak[1] / chamber.typical
        )
        if p.doing is Doing.PRINT:
            by |= {HOT_END: loss.typical * span / tools, MELT: melt.typical / tools}
            peak += loss.typical / tools + melt.typical / max(span, 1.0) / tools
        found.append(PhaseUse(p.doing, span, {k: v for k, v in by.items() if v != 0.0}, peak))
    use = EnergyUse(tuple(found), names, price)
    if not held[0]:
        return use
    changes, steady = held
    lasts, share = _lasts(use, steady)
    effects = {key: (low * lasts * share, high * lasts * share) for key, (low, high) in changes.items()}
    for key, supply in ((BED, bed), (CHAMBER, chamber)):
        taken = use.of(key)
        effects[f"supply:{key}"] = (
            taken * (supply.typical / supply.low - 1.0),
            taken * (supply.typical / supply.high - 1.0),
        )
    for c in consumers:
        taken = use.of(f"consumer:{c.key}")
        ratio = (c.power_low / c.power - 1.0, c.power_high / c.power - 1.0) if c.power > 0.0 else (0.0, 0.0)
        effects[f"consumer:{c.key}"] = (taken * ratio[0], taken * ratio[1])
    _own_heat_told(rig, effects, changes, lasts)
    for key, spread in ((HOT_END, loss), (MELT, melt)):
        taken = use.of(key)
        if spread.typical > 0.0:
            effects[key] = (taken * (spread.low / spread.typical - 1.0), taken * (spread.high / spread.typical - 1.0))
    kept = {k: v for k, v in effects.items() if v != (0.0, 0.0)}
    return EnergyUse(use.phases, names, price, kept, _left_by_fit(rig))


def _lasts(use: EnergyUse, steady: float) -> tuple[float, float]:
    """For how long (s) a change of what holds the machine counts, and the share of the ``steady`` power (W) at the first
    layers' set points that the print takes.

    All of soak and print count; of the warm-up half, for losses grow while it warms and the rest of its heat is stored.
    """
    spans = {p.doing: p.duration for p in use.phases}
    held = [p for p in use.phases if p.doing in (Doing.SOAK, Doing.PRINT) and p.duration > 0.0]
    span = sum(p.duration for p in held)
    given = sum(p.by.get(BED, 0.0) + p.by.get(CHAMBER, 0.0) for p in held)
    share = min(1.0, given / span / steady) if span > 0.0 and steady > 0.0 else 1.0
    return span + 0.5 * spans.get(Doing.WARM_UP, 0.0), share


def _own_heat_told(
    rig: Rig, effects: dict[str, tuple[float, float]], changes: Mapping[str, tuple[float, float]], lasts: float
) -> None:
    """Consumers that draw more warm the chamber more, which spares the heaters some: both are one unknown, each consumer's own.

    A fitted rig keeps its own heat as the unknown that the fit has narrowed.
    """
    own, within = own_heat(rig, Doing.WARM_UP), own_heat_within(rig, Doing.WARM_UP)
    inside = own.lower + own.upper
    if MACHINE not in changes or rig.fitted is not None or within * inside <= 0.0:
        return
    low, high = changes[MACHINE]
    spared = 0.5 * (high - low) * lasts / (within * inside)  # J more at a watt more inside
    del effects[MACHINE]
    for c in consumers_of(rig):
        share = c.inside * c.share(Doing.PRINT)
        down, up = effects[f"consumer:{c.key}"]
        effects[f"consumer:{c.key}"] = (
            down + spared * share * (c.power_low - c.power), up + spared * share * (c.power_high - c.power)
        )  # fmt: skip


def _left_by_fit(rig: Rig) -> dict[tuple[str, str], float]:
    """Covariance of a fitted rig's unknowns in units of the 90 % ranges before it, by their keys."""
    if rig.fitted is None:
        return {}
    keys = [v.key for v in rig.fitted.values]
    return {(a, b): rig.fitted.covariance[i][j] for i, a in enumerate(keys) for j, b in enumerate(keys)}


def melt_energy(mass: float, polymer: Polymer, nozzle: float, room: float) -> Value:
    """Heat (J) that takes a mass (kg) of filament from the room to the nozzle's temperature (K) and melts its crystals."""
    rise = max(0.0, nozzle - room)
    c, h = polymer.specific_heat, polymer.melting_enthalpy
    typical = c.typical * rise + h.typical
    down = math.hypot((c.typical - c.low) * rise, h.typical - h.low)
    up = math.hypot((c.high - c.typical) * rise, h.high - h.typical)
    return Value(mass * (typical - down), mass * typical, mass * (typical + up), c.source)


def hot_end_loss(rig: Rig, nozzle: float, around: float) -> Spread:
    """What the hot end loses (W) at a nozzle temperature in air (K)."""
    return rig.plug.hot_end.times(max(0.0, nozzle - around))


def hourly(curve: tuple[Floats, Floats], step: float = 3600.0) -> tuple[Floats, Floats]:
    """Ends of intervals (n,) s and the energy (n,) J in each, from a running total: ``curve`` is time (m,) s and J (m,)."""
    time, total = curve
    ends = np.append(np.arange(step, float(time[-1]), step), time[-1])
    return ends, np.diff(np.interp(np.concatenate([[time[0]], ends]), time, total))
