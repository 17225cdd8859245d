"""The machine after the last layer: plate, chamber and part against time, switched off or lowered by a ramp."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.rig.consumers import Doing
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Settings
from mandorla.core.thermal.fuses import closed_fuses
from mandorla.core.thermal.heatup import HeatUp, blown, door_open
from mandorla.core.thermal.network import OnPlate, surroundings, while_printing
from mandorla.core.thermal.network_run import NetworkRun, joined
from mandorla.core.thermal.network_solver import Course, transient
from mandorla.core.thermal.print_course import PrintCourse
from mandorla.core.thermal.stack import Floats
from mandorla.core.thermal.steady import cells_of, regulator_of
from mandorla.core.units import OFF

LONGEST: Final = 12 * 3600.0  # s that a cool-down is marched
_STEP: Final = 20.0  # s
_PIECE: Final = 3600.0
FILM: Final = (5.0, 8.0, 14.0)  # W/m²K of still air with radiation about a part: low, typical, high


@dataclass(frozen=True, slots=True)
class CoolDown:
    """Curves (m,) from the last layer on: ``time`` s, the bed's ``set_point`` (OFF where it is off), plate ``surface``, upper
    chamber ``air`` and the mean of the ``part`` with its slowest and fastest (2, m), all K; ``room`` K."""

    time: Floats
    set_point: Floats
    surface: Floats
    air: Floats
    part: Floats
    part_ends: Floats
    room: Floats

    def below(self, curve: Floats, temperature: float) -> float:
        """When (s) a curve is below a temperature (K) for good; NaN where it is not within what is marched."""
        above = np.flatnonzero(curve > temperature)
        if above.size == 0:
            return 0.0
        k = int(above[-1])
        if k + 1 >= curve.size:
            return float("nan")
        share = (curve[k] - temperature) / max(curve[k] - curve[k + 1], 1e-12)
        return float(self.time[k] + share * (self.time[k + 1] - self.time[k]))

    @property
    def fastest(self) -> float:
        """The greatest fall of the part's mean temperature (K/s) over ten minutes."""
        span = min(600.0, float(self.time[-1]))
        later = np.interp(self.time + span, self.time, self.part)
        inside = self.time <= self.time[-1] - span
        return float(((self.part - later)[inside] / span).max()) if inside.any() else 0.0


def lagged(time: Floats, around: Floats, start: float, constant: float) -> Floats:
    """A lumped body (m,) K that follows what is around it with a time ``constant`` (s); exact for piecewise linear courses."""
    found = np.empty_like(around)
    found[0] = start
    for k in range(1, time.size):
        h = time[k] - time[k - 1]
        share = np.exp(-h / constant)
        slope = (around[k] - around[k - 1]) / h
        # the solution of T' = (around - T)/constant with around linear over the step
        lag = constant * slope
        found[k] = around[k] - lag + (found[k - 1] - around[k - 1] + lag) * share
    return found


def cool_down(
    rig: Rig, settings: Settings, heat: HeatUp, course: PrintCourse, over: OnPlate, body: tuple[float, float, float],
    ramp: float = 0.0,
) -> CoolDown:  # fmt: skip
    """March the machine after its print.

    Parameters
    ----------
    rig, settings, heat, course, over
        The machine, its set points, what was marched before, and what the part does to its plate.
    body
        Of the part: heat capacity over its surface (J/m²K), mean temperature (K) when the last layer is laid, share of its
        surface that the plate keeps warm (foot over all).
    ramp
        K/s by which the set points fall; 0: both heaters are switched off.

    Raises
    ------
    ValueError
        Where the course knows nothing of its end.
    """
    if course.ends is None:
        raise ValueError("the print's course has no end to go on from")
    stack = heat.stack
    around = while_printing(
        surroundings(rig, stack.emissivity_top, stack.emissivity_bottom, Doing.COOL_DOWN),
        over._replace(heat=0.0, fan_speed=0.0),
    )
    T, state = course.ends.cells.copy(), course.ends.state.copy()
    own = regulator_of(rig)
    off = own._replace(chamber_max=0.0)
    steps = np.full(round(_PIECE / _STEP), _STEP)
    pieces: list[NetworkRun] = []
    targets, rooms, now = [np.array([settings.bed_rest])], [], 0.0
    while now < LONGEST:
        ends = now + np.cumsum(steps)
        bed, chamber = np.full(steps.size, OFF), np.full(steps.size, settings.chamber)
        if ramp > 0.0:
            bed = np.maximum(settings.bed_rest - ramp * ends, OFF)
            chamber = np.maximum(settings.chamber - ramp * ends, OFF)
        given = Course(
            steps, bed, chamber, rig.room.course(rig.room_temperature, course.ends.time + ends, steps),
            door_open(rig, steps, course.ends.time + now), blown(rig, course.ends.time + ends, steps),
        )  # fmt: skip
        regulator = own if ramp > 0.0 else off
        pieces.append(
            transient(given, cells_of(stack, around), around, regulator, T, state, closed_fuses(rig.bed, stack))
        )
        targets.append(bed)
        rooms.append(given.room)
        now = float(ends[-1])
        if float(pieces[-1].top[-1]) < float(given.room[-1]) + 1.0:
            break
    run = joined(pieces)
    time = np.concatenate([[0.0], np.cumsum(np.full(run.top.size - 1, _STEP))])
    surface, _ = heat.spread.moved(stack, time, run)
    room = np.concatenate(rooms)
    capacity, start, share = body
    felt = share * surface + (1.0 - share) * run.air
    part, slow, fast = (lagged(time, felt, start, capacity / film) for film in (FILM[1], FILM[0], FILM[2]))
    return CoolDown(
        time, np.concatenate(targets)[: time.size], surface, run.air, part, np.stack([slow, fast]),
        np.concatenate([room[:1], room])[: time.size],
    )  # fmt: skip
