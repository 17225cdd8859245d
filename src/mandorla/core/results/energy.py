"""Results about energy: the course of power at the plug, and what scenarios and builds take more or less."""

from __future__ import annotations

from typing import NamedTuple

from mandorla.core.energy.course import PlugCourse, plug_course
from mandorla.core.energy.use import Difference, EnergyUse, difference
from mandorla.core.errors import InputError
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.key import Key
from mandorla.core.results.registry import Have, computes
from mandorla.core.runtime import RunContext


class ComparedEnergy(NamedTuple):
    """The energy of a job on another machine, and what it takes more than on the present one."""

    use: EnergyUse
    more: Difference


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
            found[build.name] = ComparedEnergy(energy, difference(energy, now))
    return found
