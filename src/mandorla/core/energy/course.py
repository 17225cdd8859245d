"""Power at the plug over a whole job, from the marches of heat-up and print: curve, running total, energy hour by hour."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from mandorla.core.energy.use import BED, CHAMBER, EnergyUse, hourly
from mandorla.core.rig.consumers import Doing, bed_supply, chamber_supply
from mandorla.core.rig.model import Rig
from mandorla.core.thermal.heatup import HeatUp
from mandorla.core.thermal.print_course import PrintCourse
from mandorla.core.thermal.stack import Floats


@dataclass(frozen=True, slots=True)
class PlugCourse:
    """Power at the plug: means (n,) W of steps that end at ``ends`` (n,) s after switching on, of the ``bed``, the ``chamber``
    heater and the ``rest``; ``phases`` are the moments (s) at which phases end, by what was done."""

    ends: Floats
    bed: Floats
    chamber: Floats
    rest: Floats
    phases: tuple[tuple[Doing, float], ...]

    @property
    def steps(self) -> Floats:
        """Lengths (n,) of the steps in s."""
        return np.diff(self.ends, prepend=0.0)

    @property
    def power(self) -> Floats:
        """All of it (n,) in W."""
        return np.asarray(self.bed + self.chamber + self.rest)

    @property
    def running(self) -> tuple[Floats, Floats]:
        """Times (n+1,) s and the energy (n+1,) J that was taken until then."""
        total = np.concatenate([[0.0], np.cumsum(self.power * self.steps)])
        return np.concatenate([[0.0], self.ends]), total

    @property
    def hours(self) -> Floats:
        """Energy (J) of each hour after switching on; the last one may be shorter."""
        return hourly(self.running)[1]

    def between(self, first: float, last: float) -> float:
        """Energy (J) between two moments (s)."""
        time, total = self.running
        a, b = np.interp([first, last], time, total)
        return float(b - a)


def plug_course(rig: Rig, heat: HeatUp, course: PrintCourse, use: EnergyUse) -> PlugCourse:
    """The course of a job whose energy by phase is known: soak, cool-down and idle as their means, the rest step by step."""
    supplies = {BED: bed_supply(rig).typical, CHAMBER: chamber_supply(rig).typical}
    ends: list[Floats] = []
    parts: dict[str, list[Floats]] = {BED: [], CHAMBER: [], "rest": []}
    phases: list[tuple[Doing, float]] = []
    now = 0.0
    for phase in use.phases:
        if phase.duration <= 0.0:
            continue
        rest = phase.total - phase.by.get(BED, 0.0) - phase.by.get(CHAMBER, 0.0)
        if phase.doing in (Doing.WARM_UP, Doing.PRINT):
            warming = phase.doing is Doing.WARM_UP
            inside = heat.time <= phase.duration + 1e-6
            time, bed, chamber = (
                (heat.time[inside], heat.power[inside], heat.chamber_power[inside])
                if warming
                else (course.time, course.power, course.chamber_power)
            )
            ends.append(now + time[1:])
            parts[BED].append(bed[1:] / supplies[BED])
            parts[CHAMBER].append(chamber[1:] / supplies[CHAMBER])
        else:
            ends.append(np.array([now + phase.duration]))
            for key in (BED, CHAMBER):
                parts[key].append(np.array([phase.by.get(key, 0.0) / phase.duration]))
        parts["rest"].append(np.full(ends[-1].size, rest / phase.duration))
        now += phase.duration
        phases.append((phase.doing, now))
    joined = {key: np.concatenate(pieces) for key, pieces in parts.items()}
    return PlugCourse(np.concatenate(ends), joined[BED], joined[CHAMBER], joined["rest"], tuple(phases))
