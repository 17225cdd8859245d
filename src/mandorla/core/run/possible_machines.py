"""The machines that a project may stand for, marched side by side: as planned, once for each unknown, in a warmer room."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.part.mesh import Floats
from mandorla.core.rig.consumers import Doing
from mandorla.core.rig.model import Rig
from mandorla.core.run.disturbances import SOUND, Condition
from mandorla.core.run.plant import Inputs, Plant, Watched, driven, go, inputs_of, march, plant_of
from mandorla.core.run.trace_point import TracePoint
from mandorla.core.thermal.network_run import NetworkRun
from mandorla.core.thermal.parameter_samples import AT_NINETY, covariance_of, rig_unknowns, typical_sample

TRIED: Final = 0.6  # of its 90 % range, at which an unknown's effect is taken
ROOM: Final = "room"  # key of the unknown that no rig has
ROOM_UNKNOWN: Final = 4.0  # K, 90 %, of a room that nobody measured


def possible_plants(watched: Watched) -> list[Plant]:
    """The machine as it is planned, once more for each of its unknowns, and in a warmer room."""
    plants = [plant_of(watched)]
    for unknown in rig_unknowns(watched.rig):
        draw = typical_sample(watched.rig)
        unknown.apply(draw, TRIED)
        plants.append(plant_of(watched, draw))
    return [*plants, plant_of(watched, room_shift=TRIED * ROOM_UNKNOWN)]


def prior_of(rig: Rig) -> Floats:
    """Covariance (n, n) of a rig's unknowns and of the room, in units of their 90 % ranges, before anything was read."""
    unknowns = rig_unknowns(rig)
    n = len(unknowns) + 1
    found = np.eye(n)
    found[: n - 1, : n - 1] = covariance_of(rig, unknowns)
    return found / AT_NINETY**2


def advanced(plants: Sequence[Plant], given: Inputs, doing: Doing, condition: Condition = SOUND) -> list[NetworkRun]:
    """March all possible plants along the same inputs, the last one in its warmer room."""
    own = driven(given, plants[0].stack.dx.size, condition)
    warmer = own._replace(course=own.course._replace(room=given.room + TRIED * ROOM_UNKNOWN))
    return [*(go(plant, own, doing) for plant in plants[:-1]), go(plants[-1], warmer, doing)]


class Levels(NamedTuple):
    """What the planned machine shows (m, 3) in a stretch, and by how much more (m, 3, n) for each unknown at its 90 % end."""

    base: Floats
    slopes: Floats


def levels_of(plants: Sequence[Plant], runs: Sequence[NetworkRun], doing: Doing, nozzle: Floats) -> Levels:
    """What possible machines show in their marches; ``nozzle`` (m,) K."""
    level = np.stack([shown(plant, run, doing, nozzle) for plant, run in zip(plants, runs, strict=True)])
    return Levels(level[0], np.ascontiguousarray(((level[1:] - level[0]) / TRIED).transpose(1, 2, 0)))


def shown(plant: Plant, run: NetworkRun, doing: Doing, nozzle: Floats) -> Floats:
    """What a machine would show (m, 3) in a march, its plug included; ``nozzle`` (m,) K."""
    power = plant.plugs[doing].power(run.power[1:], run.chamber_power[1:], nozzle)
    return np.stack([run.reading[1:], run.chamber_reading[1:], power], axis=1)


def _doing(before: float, r: TracePoint) -> Doing:
    return Doing.PRINT if r.prints else Doing.COOL_DOWN if r.off and before > 60.0 else Doing.WARM_UP


def parts_of(before: float, readings: Sequence[TracePoint]) -> list[list[TracePoint]]:
    """Readings in stretches during each of which the machine does one thing."""
    found: list[list[TracePoint]] = []
    was: Doing | None = None
    for r in readings:
        doing = _doing(before, r)
        if doing != was:
            found.append([])
        found[-1].append(r)
        was, before = doing, r.time
    return found


def drive(w: Watched, now: float, last: TracePoint | None, readings: Sequence[TracePoint]) -> tuple[Inputs, Doing]:
    """The steps from reading to reading, driven by what the machine told at their ends; where no duty is told, regulated."""
    before = now if last is None else last.time
    times = np.array([r.time for r in readings])
    dt = np.diff(times, prepend=before)
    settings = w.settings
    bed = np.array([settings.bed_first if math.isnan(r.bed_set) else r.bed_set for r in readings])
    chamber = np.array([settings.chamber if math.isnan(r.chamber_set) else r.chamber_set for r in readings])
    given = inputs_of(w.rig, dt, before, bed, chamber)
    duty = np.array([-1.0 if math.isnan(r.bed_duty) else r.bed_duty for r in readings])
    if last is not None and not math.isnan(last.bed_duty):
        # what is told at an end of a step says nothing of its other end
        duty = np.where(duty >= 0.0, 0.5 * (duty + np.concatenate([[last.bed_duty], np.maximum(duty[:-1], 0.0)])), duty)
    full = w.rig.chamber.heater_power if w.rig.chamber.enclosed else 0.0
    air = np.array([-1.0 if math.isnan(r.chamber_duty) else full * r.chamber_duty for r in readings])
    given = given._replace(duty=duty, chamber_power=air)
    return given, _doing(before, readings[-1])


class Response(NamedTuple):
    """How bed and air answer to heat: K a J at once, and the time (s) in which it is forgotten."""

    per_joule: float
    keeps: float


def responses(w: Watched) -> tuple[Response, Response]:
    """How the sensors of bed and chamber answer to some more heat, from two marches of the settled machine."""
    rig = w.rig
    short, long = 90.0, 2 * 3600.0
    settled = plant_of(w)
    dt = np.full(round(long / 10.0), 10.0)
    bed, air = np.full(dt.size, w.settings.bed_rest), np.full(dt.size, w.settings.chamber)
    given = inputs_of(rig, dt, 0.0, bed, air)
    warm = march(settled, given, Doing.WARM_UP)
    level, chamber = float(warm.power[-60:].mean()), float(warm.chamber_power[-60:].mean())
    duty = np.full(dt.size, level / max(rig.bed.heater.power, 1e-9))
    held = given._replace(duty=duty, chamber_power=np.full(dt.size, chamber))
    sound = march(settled.copy(), held, Doing.WARM_UP)
    found = []
    more = 0.05 * rig.bed.heater.power
    tries = (
        (held._replace(duty=duty + 0.05), more, "reading"),
        (held._replace(chamber_power=held.chamber_power + more), more, "chamber_reading"),
    )
    for changed, watts, name in tries:
        run = march(settled.copy(), changed, Doing.WARM_UP)
        rise = getattr(run, name) - getattr(sound, name)
        early = float(np.interp(short, np.concatenate([[0.0], np.cumsum(dt)]), rise))
        late = float(rise[-1])
        per_joule = (
            max(early, 1e-9) / (watts * 0.6 * short) if name == "reading" else max(early, 1e-9) / (watts * short)
        )
        found.append(Response(per_joule, max(late / watts / per_joule, 60.0) if late > 0.0 else 600.0))
    return found[0], found[1]
