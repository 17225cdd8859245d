"""Readings of one instrument share its error, settled ones count first, differences of builds have ranges of their own."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from mandorla.core.failure.messages import difference_sentence
from mandorla.core.failure.power_limits import asked_power, mains_checks
from mandorla.core.failure.rig_checks import check_rig
from mandorla.core.failure.state import State
from mandorla.core.measure.compare import compare
from mandorla.core.measure.fit import fit_rig
from mandorla.core.measure.models import Instrument, Measurements, Reading, Session
from mandorla.core.measure.observe import observe_spots, sharing, spots_of
from mandorla.core.part.process import Placement
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria
from mandorla.core.thermal.build_differences import build_difference
from mandorla.core.thermal.heatup import heat_up
from mandorla.core.thermal.parameter_samples import SENSOR
from mandorla.core.thermal.steady import solve_steady
from mandorla.core.thermal.uncertainty_bands import curve_bands
from mandorla.core.tune.operating_point import evaluate
from mandorla.core.units import celsius
from tests.core.rigs import make_rig, settings

CRITERIA = Criteria()
PROBE = Instrument(name="Thermocouple", kind="thermocouple", accuracy=2.0, accuracy_of_reading=0.0, resolution=0.1)
USE = settings(95.0, 40.0)


def read_at(times: list[float], value: float, name: str = "Thermocouple") -> Session:
    """Readings of the plate's middle, spread over a few millimetres and one by one in time."""
    readings = tuple(
        Reading(
            instrument=name, place="surface", x=0.001 * i, y=0.0, time=t, raw=(celsius(value), celsius(value) + 0.1)
        )
        for i, t in enumerate(times)
    )
    return Session(
        name="S",
        date="2026-05-04",
        bed=USE.bed_first,
        chamber=USE.chamber,
        room=make_rig().room_temperature,
        readings=readings,
    )


def left_of_sensor(rig: Rig, session: Session, instrument: Instrument) -> float:
    measured = Measurements(instruments=(instrument,), sessions=(session,))
    fit = fit_rig(rig, USE, CRITERIA, [session], measured, {}, "2026-05-05", [SENSOR])
    return fit.learned_of(SENSOR).share


def test_ten_readings_of_one_thermometer_are_not_ten_thermometers() -> None:
    rig = make_rig()
    one = left_of_sensor(rig, read_at([7200.0], 92.0), PROBE)
    ten = left_of_sensor(rig, read_at([7200.0 + 900.0 * i for i in range(10)], 92.0), PROBE)
    assert ten < one + 1e-6
    # what the instrument has in common stays: standard 1.15 K of 2 K rectangular, beside 1.2 K of the sensor's range
    least = 1.0 / np.sqrt(1.0 + (2.0 / 1.645) ** 2 / (2.0 / np.sqrt(3.0)) ** 2)
    assert ten > 0.85 * least
    assert one - ten < 0.2


def test_the_common_part_is_that_of_type_b_and_groups_go_by_instrument() -> None:
    rig, session = make_rig(), read_at([7200.0 + 900.0 * i for i in range(4)], 92.0)
    found = observe_spots(spots_of(session, Measurements(instruments=(PROBE,), sessions=(session,)), rig))
    assert len(found) == 4
    assert all(o.source == "Thermocouple" for o in found)
    assert sharing(found) == ((0, 1, 2, 3),)
    assert all(o.common > 3.0 * o.noise / 4.0 for o in found)


def test_a_settled_reading_is_preferred_to_a_better_one_on_the_way() -> None:
    rig = make_rig()
    fine = PROBE.model_copy(update={"name": "Fine", "accuracy": 0.2})
    early, late = read_at([300.0], 70.0, "Fine"), read_at([9000.0], 92.0)
    both = late.model_copy(update={"readings": early.readings + late.readings})
    c = compare(rig, USE, CRITERIA, both, Measurements(instruments=(PROBE, fine), sessions=(both,)), {})
    row = next(r for r in c.rows if r.what == "Surface, middle")
    assert row.measured > celsius(88.0), "not the 70 °C of the warm-up"


def test_spread_ready_time_and_energy_have_ranges() -> None:
    rig = make_rig()
    heat = heat_up(rig, USE, CRITERIA)
    bands = curve_bands(rig, USE, CRITERIA, heat)
    now = (1.0 - float(heat.spread.theta.min())) * (heat.steady.surface - heat.steady.air)
    assert bands.spread.value == pytest.approx(now)
    assert bands.spread.low < now < bands.spread.high
    assert 0.02 * now < bands.spread.high - bands.spread.low < 1.5 * now
    assert bands.ready[0] < heat.ready_time < bands.ready[2]
    at_ready = heat.at(heat.ready_time, heat.energy)
    assert bands.energy[0] < at_ready < bands.energy[2]
    assert bands.energy[2] - bands.energy[0] > 0.02 * at_ready


def test_a_difference_of_builds_is_known_better_than_either() -> None:
    present, foamed = make_rig(foam=0.003), make_rig(foam=0.015)
    now, heat = (heat_up(r, USE, CRITERIA) for r in (present, foamed))
    d = build_difference(foamed, present, USE, CRITERIA, heat, now)
    assert d.power.high < 0.0, "more foam holds with less"
    assert d.power.value == pytest.approx(heat.steady.power - now.steady.power, rel=0.25)
    alone = now.bands["power"].high - now.bands["power"].low
    assert d.power.high - d.power.low < 0.6 * alone
    text = difference_sentence("foamed", d)
    assert "to hold" in text
    assert "less" in text
    same = build_difference(present, present, USE, CRITERIA, now, now)
    assert same.power.low == same.power.high == 0.0


def limited(**limits: float) -> Rig:
    rig = make_rig(power=900.0, chamber_heater=600.0)
    return rig.model_copy(update={"limits": rig.limits.model_copy(update=limits)})


@pytest.mark.parametrize(("limits", "state"), [
    ({"supply_power": 1600.0}, State.HOLDS), ({"supply_power": 1400.0}, State.FAILS),
    ({"breaker": 10.0}, State.HOLDS), ({"breaker": 6.0}, State.FAILS),
])  # fmt: skip
def test_supply_and_breaker_fail_when_more_is_asked_and_check_and_judgement_agree(
    limits: dict[str, float], state: State
) -> None:
    rig = limited(**limits)
    use = settings(95.0, 60.0)
    assert sum(asked_power(rig, use)) == pytest.approx(1500.0)
    e = evaluate(rig, use, CRITERIA, None, Placement(), with_bands=False)
    assert e.judgement.state("supply") is state
    check = next(c for c in check_rig(rig, use, CRITERIA, e.heat) if c.key == "supply")
    assert check.state is state
    # nothing gives less than it is asked for, unless the controller is said to keep within the supply's limit
    assert (e.heat.power + e.heat.chamber_power).max() > 1400.0


def test_a_controller_that_keeps_within_the_supply_gives_less_and_does_not_fail() -> None:
    rig, use = limited(supply_power=1400.0, shares=True), settings(95.0, 60.0)
    e = evaluate(rig, use, CRITERIA, None, Placement(), with_bands=False)
    assert e.judgement.state("supply") is State.HOLDS
    assert (e.heat.power + e.heat.chamber_power).max() == pytest.approx(1400.0, abs=1.0)


def test_a_breaker_that_carries_much_for_hours_is_exceeded_before_its_rating() -> None:
    rig, use = limited(breaker=6.8), settings(95.0, 60.0)
    steady = solve_steady(rig, use.bed_first, use.chamber)

    def breaker(power: float) -> State:
        return next(c for c in mains_checks(rig, use, replace(steady, power=power)) if c.kind == "current").state

    assert breaker(200.0) is State.HOLDS
    assert breaker(1400.0) is State.FAILS
