"""``mandorla energy``: what a print takes at the plug, by phase and consumer, hour by hour, with its range."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

from mandorla.cli.command import Band, Call, Command, Output, Quantity, check_arguments
from mandorla.cli.output import as_json, as_text, band, finite, quantity
from mandorla.core.energy.messages import (
    backup_sentence,
    difference_text,
    energy_sentence,
    money_sentence,
    overloaded,
    pays_text,
    stagger_sentence,
)
from mandorla.core.errors import InputError
from mandorla.core.results.keys import (
    BACKUP_IN_FULL,
    BUILD_ENERGY,
    EVALUATION,
    GEOMETRY,
    MONEY,
    ON_BACKUP,
    PLUG_COURSE,
    STAGGER,
)
from mandorla.core.rig.consumers import consumers_of
from mandorla.core.units import show, show_duration

if TYPE_CHECKING:
    from mandorla.core.results.types import Difference, EnergyUse


class PhaseOutput(Output):
    """A phase: how long, J at the plug, W in the mean and at most, J by consumer."""

    phase: str
    duration: Quantity
    energy: Quantity
    power_mean: Quantity
    power_peak: Quantity
    by: dict[str, Quantity]


class ConsumerOutput(Output):
    """A consumer: W that it draws while it works, J of the job, and where the figure comes from."""

    name: str
    power: Band
    energy: Quantity
    origin: str


class EffectOutput(Output):
    """By how much (J) the total moves at the low and the high end of an unknown."""

    unknown: str
    low: Quantity
    high: Quantity


class BuildOutput(Output):
    """The job on one of the builds to compare."""

    name: str
    energy: Band | Quantity
    more: Band | Quantity
    saved_a_year: float | None
    paid_in_years: float | None


class MoneyOutput(Output):
    """A job's electricity as it is started and at the cheapest time of day (s), a good part's cost, carbon dioxide, the highest
    quarter of an hour."""

    sentence: str
    job: float
    best: float
    best_start: Quantity
    jobs_for_a_good_part: float | None
    good_part: float | None
    good_part_electricity: float | None
    carbon: Quantity
    quarter_peak: Quantity
    demand_charge: float


class BackupWayOutput(Output):
    """A way to run the job on the backup."""

    name: str
    set: list[str]
    asked: Quantity
    lasts: bool
    stops: Quantity
    overloaded: bool
    probability_of_any: Quantity
    simulated: bool


class BackupOutput(Output):
    """The job on a battery or a generator."""

    sentence: str
    holds: Quantity
    ways: list[BackupWayOutput]


class StaggerOutput(Output):
    """Starts of machines alike on one breaker."""

    sentence: str
    starts: list[Quantity]
    together: Quantity
    staggered: Quantity
    limit: Quantity


class EnergyOutput(Output):
    """What ``mandorla energy --json`` prints."""

    sentence: str
    energy: Band | Quantity
    heaters: Quantity
    cost: float
    currency: str
    peak: Quantity
    phases: list[PhaseOutput]
    consumers: list[ConsumerOutput]
    unknowns: list[EffectOutput]
    hours: list[Quantity]
    builds: list[BuildOutput]
    money: MoneyOutput
    backup: BackupOutput | None
    stagger: StaggerOutput | None


def energy_band(use: EnergyUse) -> dict[str, Any]:
    """A job's energy with its range where there is one."""
    low, high = use.within
    return band(use.total, low, high, "J") if math.isfinite(low) else quantity(use.total, "J")


def _difference(more: Difference) -> dict[str, Any]:
    return band(*more, "J") if math.isfinite(more.low) else quantity(more.value, "J")


def _money(call: Call) -> dict[str, Any]:
    call.judgement()  # by a full run at draft, unless it is told not to check
    money, criteria = call.get(MONEY.of(**dict(call.results.judgement_key().parameters))), call.project.criteria
    assert money is not None
    job, good = money.job, money.good
    return {
        "sentence": money_sentence(job, good, criteria.tariff.starts_at, criteria.currency), "job": job.energy, "best": job.best,
        "best_start": quantity(job.best_start, "s"), "jobs_for_a_good_part": finite(good.jobs), "good_part": finite(good.total),
        "good_part_electricity": finite(good.energy), "carbon": quantity(job.carbon, "kg"),
        "quarter_peak": quantity(job.quarter, "W"), "demand_charge": job.demand,
    }  # fmt: skip


def _backup(call: Call) -> dict[str, Any] | None:
    ways, project = call.get(BACKUP_IN_FULL if call.check else ON_BACKUP), call.project
    if not ways:
        return None
    return {
        "sentence": backup_sentence(ways, project.rig.backup, project.criteria.risk, call.units),
        "holds": quantity(ways[0].run.holds, "J"),
        "ways": [
            {
                "name": w.name, "set": list(w.settings.arguments(project.settings)), "asked": quantity(w.run.asked, "J"),
                "lasts": w.run.lasts, "stops": quantity(w.run.stops, "s"), "overloaded": w.run.overloaded,
                "probability_of_any": quantity(w.chance, "1"), "simulated": w.simulated,
            }
            for w in ways
        ],
    }  # fmt: skip


def _stagger(call: Call) -> dict[str, Any] | None:
    found = call.get(STAGGER)
    if found is None:
        return None
    return {
        "sentence": stagger_sentence(found, call.project.criteria.farm.machines, call.units),
        "starts": [quantity(s, "s") for s in found.starts], "together": quantity(found.together, "W"),
        "staggered": quantity(found.staggered, "W"), "limit": quantity(found.limit, "W"),
    }  # fmt: skip


def answer(call: Call) -> dict[str, Any]:
    """A job's energy as one object. Raises InputError without a part."""
    e = call.get(EVALUATION)
    use = e.energy if call.get(GEOMETRY) is not None else None
    if use is None:
        raise InputError(f"“{call.options.project.name}” has no part to print.")
    criteria, rig = call.project.criteria, call.project.rig
    builds = call.get(BUILD_ENERGY)
    effects = sorted(use.effects.items(), key=lambda kv: -max(abs(v) for v in kv[1]))
    return {
        "sentence": energy_sentence(use, overloaded(e.judgement), criteria.currency, call.units),
        "energy": energy_band(use),
        "heaters": quantity(use.heaters, "J"),
        "cost": use.cost,
        "currency": criteria.currency,
        "peak": quantity(use.peak, "W"),
        "phases": [
            {
                "phase": p.name, "duration": quantity(p.duration, "s"), "energy": quantity(p.total, "J"),
                "power_mean": quantity(p.power, "W"), "power_peak": quantity(p.peak, "W"),
                "by": {use.names[k]: quantity(v, "J") for k, v in p.by.items()},
            }
            for p in use.phases
        ],
        "consumers": [
            {"name": c.name, "power": band(c.power, c.power_low, c.power_high, "W"),
             "energy": quantity(use.of(f"consumer:{c.key}"), "J"), "origin": c.origin}
            for c in consumers_of(rig)
        ],
        "unknowns": [{"unknown": k, "low": quantity(a, "J"), "high": quantity(b, "J")} for k, (a, b) in effects],
        "hours": [quantity(float(v), "J") for v in call.get(PLUG_COURSE).hours],
        "builds": [
            {"name": name, "energy": energy_band(found.use), "more": _difference(found.more),
             "saved_a_year": None if found.pays is None else found.pays.saved.value,
             "paid_in_years": None if found.pays is None else finite(found.pays.years.value)}
            for name, found in builds.items()
        ],
        "money": _money(call), "backup": _backup(call), "stagger": _stagger(call),
    }  # fmt: skip


def run(call: Call) -> int:
    """Print the energy of the job, phase by phase."""
    found = answer(call)
    if call.json:
        as_json(found)
    else:
        as_text(found, call.units)
        for p in found["phases"]:
            energy, mean, peak = (
                show(p[k]["value"], kind, call.units)
                for k, kind in (("energy", "energy"), ("power_mean", "power"), ("power_peak", "power"))
            )
            length = show_duration(p["duration"]["value"])
            print(f"  {p['phase']:24s} {length:>10s}  {energy:>10s}  {mean} in the mean, {peak} at most")
        for name, compared in call.get(BUILD_ENERGY).items():
            pays = f"; {pays_text(compared.pays, found['currency'])}" if compared.pays is not None else ""
            print(f"  {difference_text(compared.more, call.units)} on {name}{pays}")
        for key in ("money", "backup", "stagger"):
            if found[key] is not None:
                print(f"  {found[key]['sentence']}")
    return 0


COMMAND = Command(
    "energy",
    "what a print takes at the plug, by phase and consumer, and what it costs",
    run,
    check_arguments,
    EnergyOutput,
)
