"""Faults: known figures of a bench bed, order of events, fuses, what cannot happen; names that follow."""

from __future__ import annotations

import numpy as np
import pytest

from mandorla.core.errors import InputError, SolverError
from mandorla.core.failure.messages import event_text, fault_sentence, fault_state
from mandorla.core.failure.state import State
from mandorla.core.project.paths import set_value
from mandorla.core.rig.bed import Bed, BedLayer, Fuse, Heater, Sensor
from mandorla.core.rig.chamber import Chamber
from mandorla.core.rig.model import Limits, Rig
from mandorla.core.rig.settings import Criteria
from mandorla.core.thermal.faults import FAULTS, FaultRun, run_fault
from mandorla.core.units import celsius, show_moment
from tests.core.bundles import small_bundle
from tests.core.rigs import make_rig, settings

CRITERIA = Criteria()


def bench_rig(density: float = 0.8, fuses: tuple[Fuse, ...] = ()) -> Rig:
    """An open 250 x 250 mm bed with 8 mm plate, glass on top and 5 mm of foam below."""
    layers = (
        BedLayer(name="glass", material="borosilicate_glass", thickness=0.003, contact_resistance=5e-4),
        BedLayer(name="plate", material="cast_aluminium", thickness=0.008, contact_resistance=1e-4),
        BedLayer(name="mat", material="silicone_mat", thickness=0.0015, contact_resistance=2e-4),
        BedLayer(name="foam", material="silicone_foam", thickness=0.005),
    )
    bed = Bed(
        width=0.25, depth=0.25, layers=layers, heater=Heater(layer="mat", width=0.25, depth=0.25, power=625.0 * density),
        sensor=Sensor(layer="plate"), fuses=fuses,
    )  # fmt: skip
    return Rig(
        name="Bench", room_temperature=celsius(22.0), bed=bed, chamber=Chamber(enclosed=False),
        limits=Limits(bed_max=celsius(130.0), supply_power=5000.0),
    )  # fmt: skip


def first(run: FaultRun, layer: str, degrees: float) -> float:
    return float(run.time[np.argmax(run.layers[:, run.names.index(layer)] > celsius(degrees))])


@pytest.mark.parametrize(("density", "seconds"), [(0.5, 622.0), (0.8, 354.0)])
def test_full_power_reaches_109_degrees_in_the_known_time(density: float, seconds: float) -> None:
    run = run_fault(bench_rig(density), settings(110.0, 40.0), CRITERIA, "relay-on", "cold", 3600.0)
    assert float(run.time[np.argmax(run.reading > celsius(109.0))]) == pytest.approx(seconds, rel=0.05)


def test_a_stuck_relay_ends_at_the_known_temperatures() -> None:
    run = run_fault(bench_rig(), settings(110.0, 40.0), CRITERIA, "relay-on", "cold", 14400.0)
    assert first(run, "mat", 125.0) == pytest.approx(345.0, rel=0.08)
    assert first(run, "plate", 125.0) == pytest.approx(411.0, rel=0.08)
    ends = [float(run.layers[-1, run.names.index(n)]) - 273.15 for n in ("mat", "plate")]
    assert ends == pytest.approx([273.0, 260.0], rel=0.04)
    assert float(run.surface[-1]) - 273.15 == pytest.approx(247.0, rel=0.05)


def test_a_loose_mat_runs_away_while_the_plate_stays_cool() -> None:
    on_plate = (Fuse(layer="plate", rating=celsius(125.0)),)
    run = run_fault(bench_rig(fuses=on_plate), settings(110.0, 40.0), CRITERIA, "mat-loose", "cold", 600.0)
    k = int(np.argmax(run.layers[:, run.names.index("mat")] > celsius(200.0)))
    assert 60.0 < run.time[k] < 250.0
    assert run.layers[k, run.names.index("plate")] < celsius(90.0)
    fuse = run.first_fuse
    assert fuse is None or fuse.time > run.time[k], "a fuse on the plate does not protect the mat"
    on_mat = (Fuse(layer="mat", rating=celsius(152.0)),)
    saved = run_fault(bench_rig(fuses=on_mat), settings(110.0, 40.0), CRITERIA, "mat-loose", "cold", 600.0)
    assert saved.first_fuse is not None
    assert saved.peak[saved.names.index("mat")] < celsius(175.0)


def test_an_open_fuse_takes_the_power_for_good() -> None:
    run = run_fault(
        bench_rig(fuses=(Fuse(layer="plate", rating=celsius(140.0)),)),
        settings(110.0, 40.0),
        CRITERIA,
        "relay-on",
        "holding",
    )
    fuse = run.first_fuse
    assert fuse is not None
    after = run.time > fuse.time + 2.0
    assert np.all(run.power[after] == 0.0)
    assert run.power[1] > 0.0
    assert run.layers[-1].max() < celsius(80.0)


def test_events_come_in_their_order_and_are_true() -> None:
    run = run_fault(bench_rig(), settings(110.0, 40.0), CRITERIA, "relay-on", "holding")
    times = [e.time for e in run.events]
    assert times == sorted(times)
    for e in run.events:
        if e.kind == "rating":
            i, k = run.names.index(e.layer), int(np.searchsorted(run.time, e.time))
            assert run.layers[k, i] > run.ratings[i] >= run.layers[k - 1, i]
    assert run.damaged
    assert set(run.damaged) == {n for n, peak, r in zip(run.names, run.peak, run.ratings, strict=True) if peak > r}


@pytest.mark.parametrize("start", ["holding", "cold"])
@pytest.mark.parametrize("key", sorted(FAULTS))
def test_every_fault_runs_and_says_what_happens(key: str, start: str) -> None:
    rig = make_rig(chamber_heater=300.0, circulation=0.5)
    run = run_fault(rig, settings(100.0, 50.0), CRITERIA, key, start, 900.0)
    assert np.isfinite(run.layers).all()
    assert run.layers.min() > rig.room_temperature - 1.0
    text = fault_sentence(run)
    assert FAULTS[key].name in text
    assert fault_state(run) in (State.HOLDS, State.MARGINAL, State.FAILS)
    assert all(event_text(e) for e in run.events)
    assert FAULTS[key].advice


def test_faults_do_what_their_names_say() -> None:
    rig, use = make_rig(chamber_heater=300.0, circulation=0.5), settings(100.0, 50.0)
    runs = {k: run_fault(rig, use, CRITERIA, k, "holding", 1200.0) for k in FAULTS}
    assert runs["sensor-short"].reading[-1] < celsius(95.0)
    assert runs["sensor-loose"].layers[-1].max() > celsius(130.0)
    assert runs["sensor-loose"].reading[-1] < celsius(115.0), "the display looks harmless"
    unheated = run_fault(make_rig(), use, CRITERIA, "door-open", "holding", 1200.0)
    assert unheated.air[60] < unheated.air[0] - 5.0
    assert np.all(runs["power-cut"].power[1:] == 0.0)
    assert runs["relay-on"].power[1:].min() == pytest.approx(550.0)


def test_what_cannot_happen_is_refused() -> None:
    open_rig = make_rig(enclosed=False)
    for key in ("door-open", "fan-dead"):
        with pytest.raises(InputError, match="cannot happen"):
            run_fault(open_rig, settings(), CRITERIA, key)
    with pytest.raises(InputError, match="no fault"):
        run_fault(open_rig, settings(), CRITERIA, "lightning")


def test_a_power_cut_in_a_cold_rig_changes_nothing() -> None:
    run = run_fault(make_rig(), settings(), CRITERIA, "power-cut", "cold", 600.0)
    np.testing.assert_allclose(run.layers, make_rig().room_temperature, atol=1e-9)


def test_heater_sensor_and_fuses_stay_on_a_renamed_layer() -> None:
    project = small_bundle().project
    project = set_value(project, "rig.bed.fuses", ({"layer": "mat", "rating": celsius(150.0)},))
    other = set_value(project, "rig.bed.layers.4.name", "warm mat")
    for place in (other.rig.bed.heater.layer, other.rig.bed.fuses[0].layer):
        assert other.rig.bed.layer(place).name == "warm mat"
    assert set_value(other, "rig.bed.layers.4.name", "mat") == project


def test_moments_are_told_to_the_second() -> None:
    assert [show_moment(v) for v in (42.0, 260.0, 1500.0)] == ["42 s", "4 min 20 s", "25 min"]


def test_a_heater_that_draws_the_more_the_hotter_it_is_is_refused_with_its_fields() -> None:
    """Full power on a resistance that falls to nothing ends nowhere: no figures, but the fields that cannot be together."""
    project = small_bundle().project
    for path, value in (
        ("rig.bed.heater.resistance_coefficient", -0.001),
        ("rig.bed.heater.power", 5000.0),
        ("rig.limits.supply_power", 5e4),
    ):
        project = set_value(project, path, value)
    with pytest.raises(SolverError, match=r"cannot be together") as caught:
        run_fault(project.rig, settings(60.0), Criteria(), "relay-on", "holding")
    assert [p.where for p in caught.value.problems] == ["rig.bed.heater.power", "rig.bed.heater.resistance_coefficient"]
