"""A set-point program: steps of bed and chamber that are held for a time, or until the bed is there; two-stage targets, soaks.

The quick network marches on through all steps; a step that waits for readiness ends when the reading is within the band of its
set point and the surface calm, or after its longest wait.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, ProgramStep, Settings
from mandorla.core.thermal.fuses import Trip, closed_fuses, trips_of
from mandorla.core.thermal.heatup import SWING, HeatUp, blown, door_open, ready_since, run_network
from mandorla.core.thermal.network import surroundings
from mandorla.core.thermal.network_run import NetworkRun, joined
from mandorla.core.thermal.network_solver import Course
from mandorla.core.thermal.stack import Floats
from mandorla.core.thermal.start import start_of
from mandorla.core.units import OFF

_PIECE: Final = 60.0  # s marched before the rule is looked at
_DT: Final = 2.0
_LOOKED_AT: Final = 10  # pieces of a step, the last ones, by which it is judged
LONGEST_WAIT: Final = 4 * 3600.0  # s


@dataclass(frozen=True, slots=True)
class ProgramRun:
    """A program's curves (m,): ``time`` s, ``bed_set``, ``chamber_set``, ``reading``, ``surface``, ``air``, ``frame`` K,
    ``power`` W of bed and chamber together. ``ends`` (q,) s of the steps, ``reached`` (q,) whether each came there, ``energy`` J;
    ``trips`` the thermal fuses that opened.
    """

    time: Floats
    bed_set: Floats
    chamber_set: Floats
    reading: Floats
    surface: Floats
    air: Floats
    frame: Floats
    power: Floats
    ends: tuple[float, ...]
    reached: tuple[bool, ...]
    energy: float
    trips: tuple[Trip, ...] = ()


def two_stage(settings: Settings, below: float = 5.0, hold: float = 600.0) -> tuple[ProgramStep, ...]:
    """Warm up to ``below`` K under the first-layer set point, hold (s), then go on.

    What lags behind catches up before the last step. A bed that is off stays off.
    """
    return (
        ProgramStep(bed=max(settings.bed_first - below, OFF), chamber=settings.chamber, wait="time", hold=hold),
        ProgramStep(bed=settings.bed_first, chamber=settings.chamber, wait="ready", hold=settings.soak_time),
        ProgramStep(bed=settings.bed_rest, chamber=settings.chamber, wait="time", hold=1800.0),
    )


def soak(settings: Settings) -> tuple[ProgramStep, ...]:
    """Warm up, wait until ready, soak; then the set points of the rest of the print."""
    return (
        ProgramStep(bed=settings.bed_first, chamber=settings.chamber, wait="ready", hold=settings.soak_time),
        ProgramStep(bed=settings.bed_rest, chamber=settings.chamber, wait="time", hold=1800.0),
    )


def run_program(
    rig: Rig, settings: Settings, criteria: Criteria, heat: HeatUp, program: tuple[ProgramStep, ...]
) -> ProgramRun:
    """Run a program on a cold rig; ``heat`` is its plain heat-up, whose stack and spread are used."""
    stack = heat.stack
    s = surroundings(rig, stack.emissivity_top, stack.emissivity_bottom)
    T, state = start_of(rig, stack, s)
    fuses = closed_fuses(rig.bed, stack)
    on_off = rig.bed.control.kind == "on-off"
    pieces: list[NetworkRun] = []
    sets: list[Floats] = []
    now = 0.0
    ends: list[float] = []
    reached: list[bool] = []
    count = round(_PIECE / _DT)
    steps = np.full(count, _DT)
    times = [np.zeros(1)]
    for step in program:
        begun, there, own = now, step.wait == "time", 0
        ready_at = now
        while True:
            course = Course(
                steps, np.full(count, step.bed), np.full(count, step.chamber),
                rig.room.course(rig.room_temperature, now + np.cumsum(steps), steps), door_open(rig, steps, now),
                blown(rig, now + np.cumsum(steps), steps),
            )  # fmt: skip
            closed = fuses.opened < 0.0
            piece = run_network(rig, course, stack, s, T, state, fuses)
            fuses.opened[closed & (fuses.opened >= 0.0)] += now
            sets.append(np.tile([step.bed, step.chamber], (count if pieces else count + 1, 1)))
            pieces.append(piece)
            times.append(now + np.cumsum(steps))
            now += _PIECE
            own += 1
            if not there:
                late = joined(pieces[-min(own, _LOOKED_AT) :])
                local = np.asarray(_DT * np.arange(late.reading.size), dtype=np.float64)
                surface, _ = heat.spread.moved(stack, local, late)
                near = late.reading if step.bed > OFF else np.full(local.size, step.bed)
                since = ready_since(local, near, surface, step.bed, criteria, on_off=on_off)
                there, ready_at = math.isfinite(since), now - float(local[-1]) + since
            if (there and now - ready_at >= step.hold) or now - begun >= LONGEST_WAIT + step.hold:
                break
        ends.append(now)
        seen = joined(pieces[-min(own, _LOOKED_AT) :]).reading[-round(SWING / _DT) if on_off else -1 :]
        level = float(seen.mean())
        reached.append(bool(there and (step.bed <= OFF or abs(level - step.bed) <= 3 * criteria.ready_band)))
    run, given, time = joined(pieces), np.concatenate(sets), np.concatenate(times)
    surface, _ = heat.spread.moved(stack, time, run)
    power = run.power + run.chamber_power
    for array in (time, given, surface, power, run.reading, run.air, run.frame):
        array.setflags(write=False)
    return ProgramRun(
        time, given[:, 0], given[:, 1], run.reading, surface, run.air, run.frame, power, tuple(ends), tuple(reached),
        float(np.sum(power[1:]) * _DT), trips_of(rig.bed, fuses),
    )  # fmt: skip
