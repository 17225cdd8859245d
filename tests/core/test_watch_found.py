"""A machine that was at work before anybody watched it; and what comes loose while the machine begins something else."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest

from mandorla.core.rig.consumers import Doing
from mandorla.core.run.alarm_words import gate_text, watch_sentence
from mandorla.core.run.detector import FAR, Detector
from mandorla.core.run.found_warm import stand_as_found
from mandorla.core.run.live import LiveRun
from mandorla.core.run.plant import inputs_of, march, plant_of
from mandorla.core.run.possible_machines import possible_plants
from mandorla.core.run.simulated_machine import Break, SimulatedMachine
from mandorla.core.run.sources import SimulatedSource
from mandorla.core.run.trace_point import TracePoint
from mandorla.core.run.tracker import FINDS
from mandorla.core.run.watch import Watch
from mandorla.core.thermal.control import S_READING
from mandorla.core.units import OFF
from tests.core.test_watch import CLOSED, OPEN, SWITCHES, watched


def found(
    name: str, at: float, seed: int = 3, breaks: tuple[Break, ...] = (), duration: float = 5400.0
) -> tuple[SimulatedMachine, Watch]:
    """A simulated machine that has been on for ``at`` s, and a watch that knows nothing of it."""
    machine = SimulatedMachine(watched(name, 5400.0), seed, list(breaks))
    machine.advance(at)
    return machine, Watch(watched(name, 5400.0))


@pytest.mark.parametrize("at", [300.0, 1500.0, 3600.0])
@pytest.mark.parametrize("name", [CLOSED, OPEN, SWITCHES])
def test_a_sound_machine_that_is_found_at_work_raises_nothing(name: str, at: float) -> None:
    machine, watch = found(name, at)
    while machine.now < at + 2400.0:
        watch.take(machine.advance(10.0), machine.now)
    assert watch.alarms == []
    assert watch.tracker.finding == 0.0


@pytest.mark.parametrize("key", ["relay-on", "sensor-loose", "mat-loose"])
def test_what_breaks_ten_minutes_later_is_seen(key: str) -> None:
    at, begins = 1800.0, 2400.0
    size = {"relay-on": 1.0, "sensor-loose": 0.4, "mat-loose": 0.03}[key]
    machine, watch = found(CLOSED, at, breaks=(Break(key, begins, size),))
    while machine.now < begins + 120.0 and not watch.alarms:
        watch.take(machine.advance(10.0), machine.now)
    assert [a.cause for a in watch.alarms] == [key]
    assert watch.alarms[0].time - begins <= 60.0


def test_a_reading_that_jumps_is_told_even_while_it_is_only_found() -> None:
    machine, watch = found(CLOSED, 1800.0, breaks=(Break("sensor-jump", 1900.0, 15.0),))
    while machine.now < 1800.0 + FINDS - 20.0:
        watch.take(machine.advance(10.0), machine.now)
    assert [a.cause for a in watch.alarms] == ["sensor-jump"]


def test_possible_machines_stand_where_the_found_one_reads() -> None:
    """All read what it read, after the same time; the planned one is found again where it was."""
    w = watched(CLOSED, 5400.0)
    machine = SimulatedMachine(w, 3)
    last = machine.advance(900.0)[-1]
    plants = possible_plants(w)
    stand_as_found(plants, w, last)
    assert [p.state[S_READING] + p.regulator.bias for p in plants] == pytest.approx([last.bed] * len(plants), abs=1e-9)
    was, steps = plant_of(w), np.full(180, 5.0)
    sets = np.full(180, w.settings.bed_first), np.full(180, w.settings.chamber)
    run = march(was, inputs_of(w.rig, steps, 0.0, *sets), Doing.WARM_UP)
    own = TracePoint(
        900.0, bed=float(run.reading[-1]), bed_set=w.settings.bed_first, bed_duty=float(run.power[-1]) / w.rig.bed.heater.power,
        chamber=float(run.chamber_reading[-1]), chamber_set=w.settings.chamber, nozzle=300.0, nozzle_set=273.15,
    )  # fmt: skip
    again = plant_of(w)
    stand_as_found([again], w, own)
    assert np.abs(again.cells - was.cells).max() < 1e-6


def test_gates_that_were_passed_before_say_so_and_nobody_guesses_the_prints_end() -> None:
    w = watched(OPEN, 5400.0)
    machine = SimulatedMachine(w, 5)
    while not machine.printing:
        machine.advance(60.0)
    machine.advance(1200.0)
    live = LiveRun(w, SimulatedSource(machine, math.inf, machine.now + 2.0 * 5400.0))
    live.step()
    gates = {g.gate: g for g in live.gates()}
    assert gate_text(gates["first"], live.source.now) == "before the watch"
    assert math.isnan(gates["printed"].median)
    said = watch_sentence([], live.gates(), live.source.now, finding=240.0)
    assert said.startswith("It was warm already")
    while not live.source.ended and "printed" not in live.passed:
        live.step()
    left = live.passed["printed"] - live.passed["first"]
    assert 0.0 < left < 0.8 * w.duration, "its end is told however soon it comes"


def test_a_mat_that_comes_loose_while_the_nozzle_heats_is_seen_in_time() -> None:
    """Where the machine begins something else its heat is open; more than any print leaves open is told nevertheless."""
    w = watched(CLOSED, 5400.0)
    sound = SimulatedMachine(w, 11)
    while sound.phase != "nozzle":
        sound.advance(10.0)
    begins = sound.now + 60.0
    machine, watch = SimulatedMachine(w, 11, [Break("mat-loose", begins, 0.035)]), Watch(w)
    while machine.now < begins + 120.0 and not watch.alarms:
        watch.take(machine.advance(10.0), machine.now)
    assert watch.alarms[0].cause == "mat-loose"
    assert watch.alarms[0].time - begins <= 60.0


def test_heat_far_off_its_balance_is_suspected_once_it_has_been_in_balance() -> None:
    """What an alarm has left open is no news; two looks in a row are asked for."""
    d, off = Detector(), np.array([FAR + 1.0, 0.0])
    assert all(d.drifts(t, off, 0.0) is None for t in np.arange(0.0, 400.0, 10.0)), "it never was in balance"
    d.clear()
    for t in np.arange(400.0, 480.0, 10.0):
        assert d.drifts(t, np.zeros(2), 0.0) is None
    assert d.drifts(480.0, off, 0.0) is None
    found = d.drifts(490.0, off, 0.0)
    assert found is not None
    assert found == (480.0, "heat")


def unnozzled(points: list[TracePoint]) -> list[TracePoint]:
    """The readings of a logger that knows nothing of the nozzle."""
    return [replace(p, nozzle=math.nan, nozzle_set=math.nan) for p in points]


@pytest.mark.parametrize("at", [0.0, 1500.0, 4000.0])
@pytest.mark.parametrize("name", [CLOSED, OPEN])
def test_a_log_without_the_nozzle_raises_nothing_when_a_print_begins_or_ends(name: str, at: float) -> None:
    machine, watch = SimulatedMachine(watched(name, 5400.0), 7), Watch(watched(name, 5400.0))
    if at:
        machine.advance(at)
    while machine.phase != "cool" and machine.now < at + 4 * 3600.0:
        watch.take(unnozzled(machine.advance(30.0)), machine.now)
    ends = machine.now + 900.0
    while machine.now < ends:
        watch.take(unnozzled(machine.advance(30.0)), machine.now)
    assert watch.alarms == [], "a print's heat is no fault, and its end lowers no target"


@pytest.mark.parametrize(("key", "size"), [("relay-on", 1.0), ("sensor-loose", 0.4), ("mat-loose", 0.03)])
def test_dangers_are_seen_in_time_without_the_nozzle_as_well(key: str, size: float) -> None:
    w, begins = watched(CLOSED, 5400.0), 5000.0
    machine, watch = SimulatedMachine(w, 7, [Break(key, begins, size)]), Watch(w)
    while machine.now < begins + 120.0 and not watch.alarms:
        watch.take(unnozzled(machine.advance(10.0)), machine.now)
    assert [a.cause for a in watch.alarms] == [key]
    assert watch.alarms[0].time - begins <= 60.0


def test_what_a_log_without_the_nozzle_cannot_tell_is_said() -> None:
    """Nobody waits for a first layer that it would not show; who lowers the bed alone is taken for the print's end."""
    w = watched(OPEN, 1800.0)
    machine = SimulatedMachine(w, 5)
    live = LiveRun(w, SimulatedSource(machine, math.inf, math.inf))
    while live.watch.tracker.now < w.heat.ready_time + w.settings.soak_time + 600.0:
        live._take(unnozzled(machine.advance(30.0)), machine.now)
    gates = {g.gate: g for g in live.gates()}
    assert (gates["first"].told, gates["printed"].told, gates["touch"].told) == (False, False, True)
    assert gate_text(gates["first"], machine.now) == "not told"
    assert watch_sentence([], live.gates(), machine.now).startswith("As predicted so far. No target of the nozzle")
    while "touch" not in live.passed and machine.now < 6 * 3600.0:
        live._take(unnozzled(machine.advance(60.0)), machine.now)
    assert watch_sentence([], live.gates(), machine.now).startswith("The bed has cooled")
    assert live.alarms == []


def test_a_moment_tells_whether_anybody_can_know_that_it_prints() -> None:
    bed = TracePoint(0.0, bed=370.0, bed_set=373.15)
    assert not bed.untold, "it heats"
    at = replace(bed, bed=373.0)
    assert at.untold
    assert not replace(at, nozzle=300.0).untold, "no cold nozzle prints"
    assert replace(at, nozzle=500.0).untold
    assert not replace(at, nozzle=500.0, nozzle_set=513.15).untold
    assert replace(at, bed_set=OFF).off
    assert not replace(at, bed_set=OFF, nozzle_set=513.15).off
