"""Watching a machine: the filter on sound machines, every disturbance seen and named, forecasts, causes that end."""

from __future__ import annotations

import math
from dataclasses import replace
from functools import lru_cache

import numpy as np
import pytest

from mandorla.core.rig.consumers import Doing
from mandorla.core.rig.model import Rig
from mandorla.core.run.alarm_words import alarm_sentence, dangerous, gate_text, watch_sentence
from mandorla.core.run.detector import Detector
from mandorla.core.run.disturbances import DISTURBANCES, SOUND, Condition, both, disturbance, of_rig
from mandorla.core.run.forecast import ready_forecast
from mandorla.core.run.learned import learned_rig, lessons, moved, notes_of
from mandorla.core.run.live import GateTime, LiveRun
from mandorla.core.run.planned_band import PlannedBand
from mandorla.core.run.plant import PartBody, Watched, asked_duty, inputs_of, march, plant_of
from mandorla.core.run.simulated_machine import Break, SimulatedMachine
from mandorla.core.run.sources import SimulatedSource
from mandorla.core.run.state_filter import BED, POWER
from mandorla.core.run.trace_point import TracePoint
from mandorla.core.run.tracker import Predicted, Tracker
from mandorla.core.run.watch import SLOWER, Watch
from mandorla.core.thermal.heatup import heat_up
from mandorla.core.thermal.network import OnPlate
from mandorla.core.thermal.parameter_samples import typical_sample
from tests.core.rigs import make_rig, settings
from tests.core.test_heatup import CRITERIA

CLOSED, OPEN, SWITCHES = "closed", "open", "switches"
PRINT = 1200.0


def rig_of(name: str, plate: float = 0.008) -> Rig:
    if name == CLOSED:
        return make_rig(chamber_heater=500.0, plate=plate)
    kind = "on-off" if name == SWITCHES else "steady"
    return make_rig(enclosed=False, plate=0.004, width=0.2, depth=0.2, power=250.0, kind=kind)


@lru_cache
def watched(name: str = CLOSED, duration: float = PRINT, plate: float = 0.008) -> Watched:
    rig = rig_of(name, plate)
    put = settings(90.0, 50.0, 85.0) if name == CLOSED else settings(60.0, 25.0)
    heat = heat_up(rig, put, CRITERIA, with_bands=False)
    over = OnPlate(0.15, 8.0, 0.1, 20.0 if name == CLOSED else 0.0)
    return Watched(rig, put, CRITERIA, heat, over, 300.0, duration, 520.0)


def followed(w: Watched, machine: SimulatedMachine, until: float) -> Watch:
    watch = Watch(w)
    while machine.now < until:
        watch.take(machine.advance(10.0), machine.now)
    return watch


# ---- the machine and its filter
def test_a_march_that_is_driven_by_its_own_duty_is_the_regulated_one() -> None:
    """What a regulator asked for, given back step by step, is the same march to rounding."""
    w = watched()
    regulated, driven = plant_of(w), plant_of(w)
    dt = np.full(900, 1.0)
    given = inputs_of(w.rig, dt, 0.0, np.full(900, w.settings.bed_first), np.full(900, w.settings.chamber))
    run = march(regulated, given, Doing.WARM_UP)
    duty = asked_duty(run, given.bed, regulated.regulator)
    np.testing.assert_allclose(duty * w.rig.bed.heater.power, run.power[1:], rtol=1e-9, atol=1e-6)
    again = march(driven, given._replace(duty=duty, chamber_power=run.chamber_power[1:]), Doing.WARM_UP)
    np.testing.assert_allclose(again.reading, run.reading, atol=1e-6)
    np.testing.assert_allclose(again.chamber_reading, run.chamber_reading, atol=1e-6)


@pytest.mark.parametrize("name", [CLOSED, OPEN, SWITCHES])
def test_sound_machines_surprise_the_filter_like_noise_and_raise_nothing(name: str) -> None:
    """The surprises have about the spread that they should and no memory; a rig that is off by its ranges alarms nobody."""
    w, found = watched(name), []
    for seed in (11, 12):
        machine, watch = SimulatedMachine(w, seed), Watch(w)
        while machine.now < 3000.0:
            watch.take(machine.advance(60.0), machine.now)
            found.append(watch.met_all.surprise)
        assert watch.alarms == []
    z = np.concatenate(found)[:, BED]
    assert 0.6 < float(np.std(z)) < 1.25
    assert abs(float(np.corrcoef(z[:-10], z[10:])[0, 1])) < 0.15


def test_the_filter_learns_the_rig_that_it_watches() -> None:
    """A heater that gives 8 % less than rated is found within what the filter says it knows."""
    w = watched()
    draw = typical_sample(w.rig)
    draw.power = 0.92
    machine = SimulatedMachine(w, 5, sound=True)
    machine.plant = plant_of(w, draw)
    watch = followed(w, machine, 2400.0)
    told = {v.key: v for v in lessons(watch.tracker)}
    assert "power" in told
    power = told["power"]
    assert power.share < 0.7
    # -8 % of a range of ±5 % is z = -1.63; a constant bias does not alarm, and is learned
    assert power.z == pytest.approx(-math.log(0.92) / math.log(0.95), abs=3.0 * power.share / 1.645)
    assert watch.alarms == []
    rig = learned_rig(watch.tracker, "run", "2026-11-28")
    assert rig is not None
    assert rig.bed.heater.power < 0.97 * w.rig.bed.heater.power
    assert rig.fitted is not None


def test_what_moves_from_run_to_run_is_told() -> None:
    w = watched()
    sound = followed(w, SimulatedMachine(w, 5, sound=True), 1500.0)
    weak = SimulatedMachine(w, 5, sound=True)
    draw = typical_sample(w.rig)
    draw.power = 0.9
    weak.plant = plant_of(w, draw)
    later = followed(w, weak, 1500.0)
    before, now = (notes_of(lessons(x.tracker)) for x in (sound, later))
    names = {"power": "heater power"}
    assert any("heater power has moved" in text for text in moved(now, before, names))
    assert not moved(before, before, names)


# ---- disturbances
CASES = [(CLOSED, d.key) for d in of_rig(rig_of(CLOSED))] + [(OPEN, "draught"), (SWITCHES, "sensor-loose")]


@pytest.mark.parametrize(("name", "key"), CASES)
def test_a_disturbance_is_seen_in_time_and_named(name: str, key: str) -> None:
    """A fair sample of benchmarks/detection.py: a clear size of each, while it holds or prints."""
    w, d = watched(name), DISTURBANCES[key]
    begins = 1600.0
    size = {"sensor-drift": 2.0 / 60, "supply-low": 0.75, "draught": 2.2, "power-cut": 300.0}.get(key, d.drawn[1])
    if key in ("sensor-loose", "heater-broken", "chamber-heater"):
        size = d.drawn[0]
    until = begins + size if key == "power-cut" else math.inf
    if key == "chamber-heater":
        begins = 400.0  # while it works
    machine = SimulatedMachine(w, 21, [Break(key, begins, size, until)])
    watch = followed(w, machine, begins + d.within + 60.0)
    assert watch.alarms, "seen"
    first = watch.alarms[0]
    assert first.cause == key
    assert 0.0 < first.time - begins <= d.within
    assert dangerous(first) is d.dangerous
    sentence = alarm_sentence(first)
    assert sentence.startswith(d.name)
    assert d.advice in sentence
    if d.dangerous:
        assert "Do not rely on software" in sentence
    assert len(watch.alarms) == 1, "told once"


def test_a_door_that_is_shut_again_ends_its_alarm_and_starts_no_other() -> None:
    w = watched()
    machine = SimulatedMachine(w, 4, [Break("door-open", 1600.0, 1.0, 1900.0)])
    watch = followed(w, machine, 2400.0)
    assert [a.cause for a in watch.alarms] == ["door-open"]
    assert [key for _, key in watch.ended] == ["door-open"]
    assert 1900.0 < watch.ended[0][0] < 2000.0
    assert watch.teaches


def test_what_cannot_be_followed_rests_until_it_is_mended() -> None:
    w = watched()
    machine = SimulatedMachine(w, 4, [Break("sensor-jump", 1600.0, 9.0, 1800.0)])
    watch = followed(w, machine, 1790.0)
    assert watch.standing == "sensor-jump"
    assert not watch.teaches
    while machine.now < 1900.0:
        watch.take(machine.advance(10.0), machine.now)
    watch.mended()
    while machine.now < 2300.0:
        watch.take(machine.advance(10.0), machine.now)
    assert [a.cause for a in watch.alarms] == ["sensor-jump"]
    assert watch.teaches


def test_a_single_wrong_reading_raises_nothing() -> None:
    w = watched()
    machine, watch = SimulatedMachine(w, 4), Watch(w)
    while machine.now < 2000.0:
        points = machine.advance(10.0)
        if abs(machine.now - 1500.0) < 1.0:
            points[2] = TracePoint(
                points[2].time, points[2].bed + 30.0, points[2].bed_set, points[2].bed_duty, points[2].chamber,
                points[2].chamber_set, points[2].chamber_duty, points[2].nozzle, points[2].nozzle_set, points[2].power,
            )  # fmt: skip
        watch.take(points, machine.now)
    assert watch.alarms == []


def test_another_machine_than_the_projects_is_slower_than_predicted() -> None:
    """A plate of three times the thickness: no sudden change, but below every band."""
    w, other = watched(), watched(plate=0.024)
    live = LiveRun(w, SimulatedSource(SimulatedMachine(other, 3, hold=True), math.inf, 1500.0))
    while not live.source.ended:
        live.step()
    assert SLOWER in [a.cause for a in live.alarms]
    assert "Cold room" in alarm_sentence(next(a for a in live.alarms if a.cause == SLOWER))


def test_a_new_disturbance_is_looked_for_by_itself() -> None:
    """Registered here and nowhere else, it stands among the causes of what it explains."""

    @disturbance(
        "lid-open",
        "Lid open",
        "The lid stands open.",
        "Shut it.",
        sizes=(0.5, 1.0),
        drawn=(0.3, 1.0),
        kind="fraction",
        often=6.0,
    )
    def lid(size: float) -> Condition:
        return Condition(door=size)

    try:
        assert lid(0.5).door == 0.5
        w = watched()
        watch = followed(w, SimulatedMachine(w, 4, [Break("lid-open", 1600.0, 0.8)]), 1700.0)
        assert [a.cause for a in watch.alarms] == ["lid-open"]
        assert alarm_sentence(watch.alarms[0]).startswith("Lid open")
    finally:
        del DISTURBANCES["lid-open"]


def test_two_conditions_at_once() -> None:
    door, weak = DISTURBANCES["door-open"].condition(0.5), DISTURBANCES["supply-low"].condition(0.8)
    found = both(door, weak)
    assert (found.door, found.power) == (0.5, 0.8)
    assert both(SOUND, door) == door


def test_a_detector_sums_up_what_keeps_to_one_side_only() -> None:
    """By hand: 0.6 is forgiven each time; surprises of +2 pass 15 after eleven readings, ±2 in turn never do."""

    def met(z: float) -> Predicted:
        own = np.full((1, 3), np.nan)
        own[0, BED] = z
        return Predicted(np.zeros(1), own, own, own)

    detector, n = Detector(), 0
    while detector.see([TracePoint(float(n))], met(2.0)) is None:
        n += 1
    assert n == 10
    turning = Detector()
    assert all(turning.see([TracePoint(float(k))], met(2.0 if k % 2 else -2.0)) is None for k in range(400))


# ---- forecasts
@pytest.mark.parametrize("name", [CLOSED, OPEN])
def test_half_way_through_its_warm_up_a_machine_knows_when_it_is_ready(name: str) -> None:
    """Within 10 % of the whole warm-up, in each of three drawn machines; the band holds most of them."""
    w, inside = watched(name), 0
    for seed in range(31, 34):
        true = SimulatedMachine(w, seed, hold=True).ready_time()
        machine, tracker = SimulatedMachine(w, seed, hold=True), Tracker(w)
        tracker.feed(machine.advance(0.5 * true))
        found = ready_forecast(tracker, w.settings.bed_first, w.settings.chamber)
        assert found.median == pytest.approx(true, rel=0.1)
        inside += found.low - 15.0 <= true <= found.high + 15.0
    assert inside >= 2


def test_a_live_run_passes_its_gates_and_says_what_comes_next() -> None:
    w = watched()
    live = LiveRun(w, SimulatedSource(SimulatedMachine(w, 8), math.inf, 6000.0))
    said = []
    while not live.source.ended:
        live.step()
        said.append(watch_sentence(live.alarms, live.gates(), live.source.now))
    assert live.alarms == []
    passed = {g.gate: g.passed for g in live.gates()}
    order = [passed[g] for g in ("bed", "ready", "soaked", "printed", "touch")]
    assert all(np.isfinite(order))
    assert order == sorted(order)
    machine = live.source.machine  # type: ignore[attr-defined]
    first = next(t for t, phase in machine.phases if phase == "first")
    assert passed["first"] == pytest.approx(first, abs=60.0)
    assert any("Next: surface calm" in s for s in said)
    assert said[-1].startswith("The run is over")
    # the surface that nobody reads, against the machine's own
    run = machine._run
    surface, _ = w.heat.spread.moved(machine.plant.stack, np.arange(run.top.size, dtype=float), run)
    assert live.watch.tracker.surface == pytest.approx(float(surface[-1]), abs=2.5)


def test_the_part_follows_what_is_read() -> None:
    """T' = (felt - T) h/C by hand, and within a run between the plate and the air."""
    body = PartBody(4000.0, 0.25, 340.0)
    assert body.felt(360.0, 320.0) == pytest.approx(330.0)
    assert body.after(500.0, 360.0, 330.0) == pytest.approx(330.0 + 30.0 * math.exp(-1.0))
    assert body.after(200.0, body.after(300.0, 360.0, 330.0), 330.0) == pytest.approx(body.after(500.0, 360.0, 330.0))
    w = replace(watched(), body=body)
    live = LiveRun(w, SimulatedSource(SimulatedMachine(w, 5), math.inf, 6000.0))
    while "first" not in live.passed:
        assert math.isnan(live.part)
        live.step()
    while "printed" not in live.passed:
        live.step()
        assert live.newest is not None
        assert live.newest.chamber - 5.0 < live.part < live.newest.bed
    hot = live.part
    while not live.source.ended:
        live.step()
    assert live.part < hot - 10.0


def test_words_of_gates() -> None:
    assert gate_text(GateTime("ready", math.nan, 700.0, 900.0, 1000.0), 180.0) == "in 12 min (9–14)"
    assert gate_text(GateTime("ready", 610.0, math.nan, math.nan, math.nan), 900.0) == "passed after 10 min"
    assert gate_text(GateTime("printed", math.nan, 9e4, 1e5, 1.1e5), 0.0) == "in 27.8 h (25.0–30.6)"
    assert gate_text(GateTime("printed", math.nan, math.nan, math.nan, math.nan), 0.0) == "not known yet"


def test_without_duty_and_meter_a_loose_sensor_is_still_seen() -> None:
    """A logger that knows temperatures and targets only: the machine is followed as if regulated by itself."""
    w = watched()
    machine, watch = SimulatedMachine(w, 4, [Break("sensor-loose", 1600.0, 0.3)]), Watch(w)
    while machine.now < 1900.0:
        points = [TracePoint(p.time, bed=p.bed, bed_set=p.bed_set, chamber=p.chamber, chamber_set=p.chamber_set,
                             nozzle=p.nozzle, nozzle_set=p.nozzle_set) for p in machine.advance(10.0)]  # fmt: skip
        watch.take(points, machine.now)
    alarms = [a for a in watch.alarms if a.time > 1600.0]
    assert alarms
    assert alarms[0].time < 1720.0
    assert not [a for a in watch.alarms if a.time <= 1600.0]


def test_power_is_a_channel_where_a_meter_stands_beside() -> None:
    w = watched()
    machine, tracker = SimulatedMachine(w, 4), Tracker(w)
    met = tracker.feed(machine.advance(600.0))
    assert np.isfinite(met.surprise[:, POWER]).all()
    shown = np.array([v for v in met.expected[-30:, POWER]])
    assert float(shown.mean()) == pytest.approx(float(np.mean([p.power for p in machine.advance(60.0)])), rel=0.25)


@pytest.mark.parametrize("told", [True, False])
def test_a_computer_that_slept_suspects_nothing_of_the_gap(told: bool) -> None:
    """A quarter of an hour unwatched: where the sleep is known nothing is said of it, else it is a machine that was away. What
    fails afterwards is found all the same."""
    w = watched(OPEN)
    machine, watch = SimulatedMachine(w, 8, (Break("sensor-loose", 2600.0, 0.3),)), Watch(w)
    slept = False
    while machine.now < 2500.0:
        readings = machine.advance(10.0)
        if 400.0 < machine.now <= 1300.0:
            slept = True
            continue
        if slept and told:
            watch.slept()
        slept = False
        watch.take(readings, machine.now)
    assert [a.cause for a in watch.alarms] == ([] if told else ["power-cut"])
    while machine.now < 2900.0:
        watch.take(machine.advance(10.0), machine.now)
    assert watch.alarms[-1].cause in ("sensor-loose", "sensor-jump")


@pytest.mark.parametrize("first", [0.0, 0.5, 400.0])
def test_a_log_that_begins_at_any_moment_has_a_planned_band(first: float) -> None:
    """Steps of no length have no duty and no open door: a log that begins at nought is judged like any other."""
    w = watched(OPEN, 0.0)
    times = first + np.arange(0.0, 400.0, 10.0)
    band = PlannedBand(w).feed([TracePoint(float(t), bed=300.0) for t in times])
    assert np.isfinite(np.stack([band.low, band.typical, band.high])).all()
    assert (band.low[:, 0] <= band.typical[:, 0]).all()
    other = PlannedBand(w).feed([TracePoint(float(t), bed=300.0) for t in times - first + 10.0])
    assert np.allclose(band.typical, other.typical, atol=1e-6), "the plan begins with the readings"


def test_a_watch_of_a_warm_machine_begins_its_planned_band_warm() -> None:
    w = watched(OPEN, 0.0)
    band = PlannedBand(w).feed([TracePoint(float(t), bed=330.0) for t in np.arange(0.0, 60.0, 5.0)])
    assert band.typical[0, 0] == pytest.approx(330.0, abs=3.0)
