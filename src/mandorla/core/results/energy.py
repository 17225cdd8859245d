"""Results about energy: power at the plug, what scenarios and builds take more or less, money, backup, many machines."""

from __future__ import annotations

from typing import NamedTuple

from mandorla.core.energy.course import PlugCourse, plug_course
from mandorla.core.energy.meter_readings import ReadAgainst, against
from mandorla.core.energy.money import GoodPart, JobCost, Payback, good_part, job_cost, payback
from mandorla.core.energy.reserve import OnBackup, on_backup
from mandorla.core.energy.stagger import CONTINUOUS, Stagger, profile_of, staggered
from mandorla.core.energy.use import Difference, EnergyUse, difference
from mandorla.core.errors import InputError
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.judged import judged
from mandorla.core.results.key import Key
from mandorla.core.results.registry import Have, computes
from mandorla.core.runtime import RunContext
from mandorla.core.units import OFF


class ComparedEnergy(NamedTuple):
    """The energy of a job on another machine, what it takes more than on the present one, and when that has paid what was invested
    (None: nothing was)."""

    use: EnergyUse
    more: Difference
    pays: Payback | None


class Money(NamedTuple):
    """What a job costs by the hours in which it runs, and what a good part does."""

    job: JobCost
    good: GoodPart


@computes(keys.PLUG_COURSE)
def course(_: Key[PlugCourse], bundle: Bundle, have: Have, run: RunContext) -> PlugCourse:
    """Power at the plug over the job at the project's settings. Raises InputError without a part."""
    e = have(keys.EVALUATION)
    if e.energy is None or e.course is None:
        raise InputError("There is no part: open one first.")
    return plug_course(bundle.project.rig, e.heat, e.course, e.energy)


@computes(keys.ENERGY_DIFFERENCE)
def against_scenario(key: Key[Difference | None], bundle: Bundle, have: Have, run: RunContext) -> Difference | None:
    """What the project as it is takes more than a pinned scenario; None without a part."""
    now, other = have(keys.EVALUATION).energy, have(keys.SCENARIO.of(scenario=key["scenario"])).energy
    return None if now is None or other is None else difference(now, other)


@computes(keys.BUILD_ENERGY)
def of_builds(
    _: Key[dict[str, ComparedEnergy]], bundle: Bundle, have: Have, run: RunContext
) -> dict[str, ComparedEnergy]:
    """The same print at the same settings on each of the builds to compare, by its name. Raises Cancelled."""
    p, now, found = bundle.project, have(keys.EVALUATION).energy, {}
    for k, build in enumerate(p.builds):
        run.checkpoint(k / max(1, len(p.builds)), build.name)
        other = Bundle(p.model_copy(update={"rig": build.rig}), bundle.originals)
        energy = have.beside(other).get(keys.EVALUATION).energy
        if now is not None and energy is not None:
            more = difference(energy, now)
            pays = payback(more, now.price, build.invested, p.criteria.costs.jobs) if build.invested > 0.0 else None
            found[build.name] = ComparedEnergy(energy, more, pays)
    return found


@computes(keys.MONEY)
def money(key: Key[Money | None], bundle: Bundle, have: Have, run: RunContext) -> Money | None:
    """The cost of a job at its hours, and of a good part by the judgement that is named; None without a part."""
    e, criteria = have(keys.EVALUATION), bundle.project.criteria
    if e.energy is None or e.part is None:
        return None
    course = have(keys.PLUG_COURSE)
    chance = have(keys.JUDGEMENT.of(full=key["full"], bodies=key["bodies"])).anything
    occupied = course.phases[-1][1]
    good = good_part(e.energy.cost, e.part.plan.mass, occupied, chance, criteria.costs)
    return Money(job_cost(course, criteria.tariff, criteria.price), good)


@computes(keys.METER_READINGS)
def meter_readings(
    _: Key[tuple[ReadAgainst, ...]], bundle: Bundle, have: Have, run: RunContext
) -> tuple[ReadAgainst, ...]:
    """What was read off a meter beside the prediction; empty without a part."""
    use = have(keys.EVALUATION).energy
    return () if use is None else tuple(against(r, use) for r in bundle.project.measurements.meter)


@computes(keys.ON_BACKUP)
def backup(_: Key[tuple[OnBackup, ...]], bundle: Bundle, have: Have, run: RunContext) -> tuple[OnBackup, ...]:
    """The job on the backup as it is set, and with what need not be heated switched off; empty without a part or a backup.

    Raises
    ------
    Cancelled
        When asked to stop.
    """
    p = bundle.project
    if p.rig.backup.kind == "none" or have(keys.EVALUATION).energy is None:
        return ()
    ways: list[tuple[str, dict[str, float]]] = [("as it is set", {})]
    cold = {"chamber": max(p.rig.room_temperature, 288.15)}
    if p.rig.heats_chamber:
        ways.append(("chamber not heated", cold))
    if p.settings.bed_rest > OFF:
        ways.append(("bed off after the first layers", {"bed_rest": OFF}))
        if p.rig.heats_chamber:
            ways.append(("chamber not heated, bed off after the first layers", {"bed_rest": OFF} | cold))
    if p.settings.bed_first > OFF:
        ways.append(("nothing heated but the nozzle", {"bed_first": OFF, "bed_rest": OFF} | cold))
    found = []
    for k, (name, change) in enumerate(ways):
        run.checkpoint(k / len(ways), name)
        settings = p.settings.model_copy(update=change)
        other = Bundle(p.model_copy(update={"settings": settings}), bundle.originals)
        asked = have.beside(other)
        course, e = asked.get(keys.PLUG_COURSE), asked.get(keys.EVALUATION)
        found.append(OnBackup(name, settings, on_backup(course, p.rig.backup), e.judgement.anything))
    return tuple(found)


@computes(keys.BACKUP_IN_FULL)
def backup_in_full(_: Key[tuple[OnBackup, ...]], bundle: Bundle, have: Have, run: RunContext) -> tuple[OnBackup, ...]:
    """The same ways, each judged by a full simulation. Raises Cancelled when asked to stop."""
    p, found = bundle.project, []
    ways = have(keys.ON_BACKUP)
    for k, w in enumerate(ways):
        run.checkpoint(k / len(ways), w.name)
        other = Bundle(p.model_copy(update={"settings": w.settings}), bundle.originals)
        judgement, simulated = judged(have.beside(other), run.silent(), check=True)
        found.append(w._replace(chance=judgement.anything, simulated=simulated))
    return tuple(found)


@computes(keys.STAGGER)
def stagger(_: Key[Stagger | None], bundle: Bundle, have: Have, run: RunContext) -> Stagger | None:
    """When machines alike are switched on so that they stay below one breaker; None without a part, or for one machine."""
    p = bundle.project
    if have(keys.EVALUATION).energy is None or p.criteria.farm.machines < 2:
        return None
    farm = p.criteria.farm
    limit = CONTINUOUS * farm.breaker * p.rig.limits.mains_voltage
    return staggered(profile_of(have(keys.PLUG_COURSE)), farm.machines, limit, farm.latest)
