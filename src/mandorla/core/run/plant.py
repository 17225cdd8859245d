"""One possible machine in the forms that the compiled march reads: bare, printing, cooling; sound or under a condition."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.part.mesh import Floats
from mandorla.core.rig.consumers import Doing, at_plug, drawn
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.run.disturbances import SOUND, Condition
from mandorla.core.thermal.control import S_INTEGRAL, S_ON, S_RATE, S_READING, Regulator
from mandorla.core.thermal.cool_down import FILM
from mandorla.core.thermal.heatup import HeatUp, door_open
from mandorla.core.thermal.network import OnPlate, Surroundings, while_printing
from mandorla.core.thermal.network_elimination import StackCells
from mandorla.core.thermal.network_run import NetworkRun
from mandorla.core.thermal.network_solver import Course, Event, transient
from mandorla.core.thermal.parameter_samples import ParameterSample, sampled_rig, typical_sample
from mandorla.core.thermal.stack import Stack
from mandorla.core.thermal.start import start_of
from mandorla.core.thermal.steady import cells_of, regulator_of

STILL: Final = 1e15  # s, the time constant of a sensor that follows nothing


class PartBody(NamedTuple):
    """A printed part as one body: heat capacity over its surface (J/m²K; 0: no part), the share of what it feels that is the plate
    (the rest is air), its mean temperature (K) at the end of the print as planned."""

    capacity: float = 0.0
    share: float = 0.0
    planned: float = 0.0

    def felt(self, surface: float, air: float) -> float:
        """What surrounds it (K), from the plate's surface and the air."""
        return self.share * surface + (1.0 - self.share) * air

    def after(self, seconds: float, before: float, felt: float) -> float:
        """Its mean (K) some seconds later, in still air at what it felt meanwhile."""
        return felt + (before - felt) * math.exp(-seconds * FILM[1] / self.capacity)


NO_BODY: Final = PartBody()


@dataclass(frozen=True, slots=True)
class Watched:
    """What is watched: machine, settings, what is ready; the heat-up that was computed; what the part does to its plate (``over``),
    seconds of the ``first`` layers and of the whole print, the nozzle's target (K), the part as a body."""

    rig: Rig
    settings: Settings
    criteria: Criteria
    heat: HeatUp
    over: OnPlate
    first: float
    duration: float
    nozzle: float
    body: PartBody = NO_BODY


class Inputs(NamedTuple):
    """What drives a march in each step (m,): its length ``dt`` (s), targets (K), duty of the bed's heater and W of the chamber's
    (negative: the regulator's own), ``room`` K, share of the ``door`` that is open, what ``blows`` (m/s)."""

    dt: Floats
    bed: Floats
    chamber: Floats
    duty: Floats
    chamber_power: Floats
    room: Floats
    door: Floats
    blows: Floats


class PlugLoad(NamedTuple):
    """What a machine draws at its plug: W for a W of bed and chamber heater, other consumers, W/K of the nozzle over the room
    (K)."""

    bed: float
    chamber: float
    other: float
    nozzle: float
    room: float

    def power(self, bed: Floats, chamber: Floats, nozzle: Floats) -> Floats:
        """W (m,) with heaters at some powers (m,) and the nozzle at temperatures (m,) K, NaN where they are not told."""
        over = np.fmax(nozzle - self.room, 0.0)
        return np.asarray(self.bed * bed + self.chamber * chamber + self.other + self.nozzle * over)


@dataclass(slots=True)
class Plant:
    """A possible machine: rig, stack, regulation, surroundings by what it does, and where it stands: ``cells`` (n,) K,
    ``state``."""

    rig: Rig
    stack: Stack
    regulator: Regulator
    around: dict[Doing, Surroundings]
    links: dict[Doing, StackCells]
    plugs: dict[Doing, PlugLoad]
    cells: Floats
    state: Floats

    def copy(self) -> Plant:
        """The same machine at the same moment, to march another way."""
        return replace(self, cells=self.cells.copy(), state=self.state.copy())


def plant_of(w: Watched, draw: ParameterSample | None = None, room_shift: float = 0.0) -> Plant:
    """A possible machine, cold or as the job before has left it; ``room_shift`` K is added to its room."""
    rig = w.rig
    if room_shift:
        rig = rig.model_copy(update={"room_temperature": rig.room_temperature + room_shift})
    draw = draw or typical_sample(rig)
    lateral = w.heat.spread.at_sensor
    around: dict[Doing, Surroundings] = {}
    for doing in (Doing.WARM_UP, Doing.PRINT, Doing.COOL_DOWN):
        other, stack, s = sampled_rig(rig, draw, lateral, doing)
        if doing == Doing.PRINT:
            s = while_printing(s, w.over)
        elif doing == Doing.COOL_DOWN:
            s = while_printing(s, w.over._replace(heat=0.0, fan_speed=0.0))
        around[doing] = s
    T, state = start_of(other, stack, around[Doing.WARM_UP])
    links = {doing: cells_of(stack, s) for doing, s in around.items()}
    plugs = {doing: plug_load(other, doing) for doing in around}
    return Plant(other, stack, regulator_of(other), around, links, plugs, T, state)


def inputs_of(rig: Rig, dt: Floats, start: float, bed: Floats, chamber: Floats) -> Inputs:
    """Steps (m,) from ``start`` s on with given targets (m,), regulated by the machine itself, in the room as it is planned."""
    ends = start + np.cumsum(dt)
    own = np.full(dt.size, -1.0)
    return Inputs(
        dt, bed, chamber, own, own, rig.room.course(rig.room_temperature, ends, dt), door_open(rig, dt, start),
        np.maximum(rig.draft, rig.room.cooler_speed * rig.room.blowing(ends, dt)),
    )  # fmt: skip


class Driven(NamedTuple):
    """Inputs in the forms that the compiled march reads: what is given, and what of it is broken."""

    course: Course
    event: Event


def driven(given: Inputs, cells: int, condition: Condition = SOUND) -> Driven:
    """Inputs under a condition, for stacks of so many cells."""
    chamber = given.chamber_power
    if condition.chamber_power != 1.0:
        chamber = np.where(chamber >= 0.0, chamber * condition.chamber_power, chamber)
    duty = (
        given.duty if condition.power == 1.0 else np.where(given.duty >= 0.0, given.duty * condition.power, given.duty)
    )
    event = Event(
        np.full(1, condition.duty) if condition.duty >= 0.0 else duty, chamber, condition.dark, condition.seen,
        np.zeros((0, cells)), np.zeros(0), np.zeros(0),
    )  # fmt: skip
    door, blows = np.maximum(given.door, condition.door), np.maximum(given.blows, condition.blows)
    return Driven(Course(given.dt, given.bed, given.chamber, given.room, door, blows), event)


def go(plant: Plant, given: Driven, doing: Doing) -> NetworkRun:
    """Advance a sound plant; ``cells`` and ``state`` of the plant are updated."""
    return transient(
        given.course, plant.links[doing], plant.around[doing], plant.regulator, plant.cells, plant.state, given.event
    )


def march(
    plant: Plant, given: Inputs, doing: Doing, condition: Condition = SOUND, fuses: Event | None = None
) -> NetworkRun:
    """Advance a plant along its inputs under a condition; of what is wrong with a reading, only that it stands still acts here.

    ``fuses`` are thermal fuses that act (see fuses.closed_fuses).

    A heater that is driven by a given duty gives the condition's share of it; one that is regulated has that much less.
    """
    stack, r, cells = plant.stack, plant.regulator, plant.links[doing]
    if condition.gap > 0.0:
        first = int(np.flatnonzero(stack.layer == plant.rig.bed.layer_index(plant.rig.bed.heater.layer))[0])
        link = cells.link.copy()
        link[first - 1] = 1.0 / (1.0 / link[first - 1] + condition.gap / plant.around[doing].area)
        cells = cells._replace(link=link)
    if condition != SOUND:
        own = bool(given.duty[0] < 0.0)  # regulated by itself: a weaker heater gives less of all that is asked for
        r = r._replace(
            power_max=r.power_max * condition.power if own else r.power_max, chamber_max=r.chamber_max * condition.chamber_power,
            bias=r.bias + condition.shift, tau=STILL if condition.frozen else r.tau,
        )  # fmt: skip
    course, event = driven(given, stack.dx.size, condition)
    if fuses is not None:
        event = event._replace(fuse=fuses.fuse, fuse_limit=fuses.fuse_limit, opened=fuses.opened)
    return transient(course, cells, plant.around[doing], r, plant.cells, plant.state, event)


def asked_duty(run: NetworkRun, bed: Floats, r: Regulator) -> Floats:
    """The duty (m,) that the regulator asked for in each step of a march, whatever its heater gave."""
    before = run.states[:-1]
    if r.on_off:
        return np.asarray(run.states[1:, S_ON])
    error = bed - (before[:, S_READING] + r.bias)
    duty = error / r.band + before[:, S_INTEGRAL] - before[:, S_RATE] * r.derivative_time / r.band
    return np.asarray(np.clip(duty, 0.0, 1.0))


def plug_load(rig: Rig, doing: Doing) -> PlugLoad:
    """What a rig draws while it is doing something."""
    return PlugLoad(
        float(at_plug(rig, 1.0, 0.0)), float(at_plug(rig, 0.0, 1.0)), drawn(rig, doing), rig.plug.hot_end.typical,
        rig.room_temperature,
    )  # fmt: skip
