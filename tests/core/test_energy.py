"""Energy at the plug: sums by hand, ranges and differences, the heat balance, consumers that warm the chamber, older files."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from pydantic import ValidationError

from mandorla.core.energy.messages import energy_sentence
from mandorla.core.energy.meter_readings import against
from mandorla.core.energy.use import (
    BED,
    CHAMBER,
    HOT_END,
    MELT,
    Heated,
    difference,
    energy_use,
    hourly,
    melt_energy,
    spread_of,
)
from mandorla.core.materials.library_data import polymers
from mandorla.core.measure.energy import BEFORE_HEATING, Bins, EnergyCheck, interruptions
from mandorla.core.measure.models import MeterReading
from mandorla.core.measure.plug_meter import found_by_meter
from mandorla.core.part.process import Placement, Process
from mandorla.core.project.migrations import brought_up
from mandorla.core.rig.consumers import (
    ASSUMED,
    Consumer,
    Doing,
    Plug,
    Spread,
    consumers_of,
    drawn,
    own_heat,
    own_heat_within,
)
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.tune.operating_point import Evaluation, evaluate, prepare_part
from tests.core.asked import evaluated as evaluated_of
from tests.core.bundles import small_bundle
from tests.core.rigs import make_rig, settings
from tests.core.solids import box_sections

HOUR = 3600.0
PRICE = 0.3 / 3.6e6


def with_plug(rig: Rig, **change: object) -> Rig:
    return rig.model_copy(update={"plug": Plug.model_validate(rig.plug.model_dump() | change)})


def lamp(power: float = 20.0, **states: float) -> dict[str, object]:
    return {"key": "lamp", "name": "Lamp", "power_low": 0.5 * power, "power": power, "power_high": 2.0 * power} | states


def printed(rig: Rig, use: Settings, polymer: str = "abs", *, bands: bool = False, size: float = 0.1) -> Evaluation:
    part = prepare_part(box_sections(size, 0.08, 0.03), Process(polymer=polymer, surface="polyetherimide_smooth"))
    return evaluate(rig, use, Criteria(), part, Placement(), with_bands=bands)


PHASES = (
    Heated(Doing.WARM_UP, 0.5 * HOUR, 880e3, 0.0, (600.0, 0.0)),
    Heated(Doing.PRINT, 10.0 * HOUR, 4.4e6, 1.0e6, (150.0, 60.0)),
    Heated(Doing.COOL_DOWN, 1.0 * HOUR, 0.0, 0.0, (0.0, 0.0)),
)


def test_a_job_summed_by_hand() -> None:
    rig = with_plug(
        make_rig(), consumers=[lamp(20.0, warm_up=0.5, printing=1.0)], bed_supply={"low": 0.8, "typical": 0.88, "high": 0.9},
        chamber_supply={"low": 1.0, "typical": 1.0, "high": 1.0}, hot_end={"low": 0.05, "typical": 0.1, "high": 0.2},
    )  # fmt: skip
    pla = replace(polymers()["pla"])
    nozzle = pla.deposition_temperature.typical
    use = energy_use(rig, PHASES, (pla, 0.5), PRICE, nozzle - 180.0, ({}, 140.0))
    warm, rest, cold = use.phases
    assert warm.total == pytest.approx(880e3 / 0.88 + 10.0 * 0.5 * HOUR)
    melt = 0.5 * (1700.0 * (nozzle - rig.room_temperature) + 20e3)
    assert rest.by[MELT] == pytest.approx(melt / 0.88)
    assert rest.by[HOT_END] == pytest.approx(0.1 * 180.0 * 10.0 * HOUR / 0.88)
    assert rest.total == pytest.approx(4.4e6 / 0.88 + 1.0e6 + 20.0 * 10.0 * HOUR + (melt + 18.0 * 10.0 * HOUR) / 0.88)
    assert cold.total == 0.0
    assert use.total == pytest.approx(warm.total + rest.total)
    assert use.cost == pytest.approx(use.total / 3.6e6 * 0.3)
    assert use.heaters == pytest.approx((880e3 + 4.4e6) / 0.88 + 1.0e6)
    assert use.peak == pytest.approx(600.0 / 0.88 + 10.0)
    assert np.isnan(use.within[0])
    assert use.phase(Doing.SOAK) is None


def test_the_range_of_one_unknown_is_its_own_and_independent_ones_add_as_squares() -> None:
    assert spread_of({"a": (-30.0, 40.0)}, {}) == pytest.approx((30.0, 40.0))
    assert spread_of({"a": (-30.0, 30.0), "b": (40.0, -40.0)}, {}) == pytest.approx((50.0, 50.0))
    # a fit that left a tenth of one, and two that a fit has tied to each other
    assert spread_of({"a": (-30.0, 30.0)}, {("a", "a"): 0.01}) == pytest.approx((3.0, 3.0))
    tied = {("a", "a"): 1.0, ("b", "b"): 1.0, ("a", "b"): -1.0, ("b", "a"): -1.0}
    assert spread_of({"a": (-30.0, 30.0), "b": (-30.0, 30.0)}, tied)[0] == pytest.approx(0.0, abs=1e-9)


def test_what_a_consumer_draws_more_inside_spares_the_heaters_as_much() -> None:
    states = {"warm_up": 1.0, "soak": 1.0, "printing": 1.0, "power_low": 40.0, "power_high": 60.0}
    apart, together = (
        printed(with_plug(make_rig(chamber_heater=400.0), consumers=[lamp(50.0) | states | {"inside": share}]),
                settings(95.0, 55.0), bands=True).energy
        for share in (0.0, 1.0)
    )  # fmt: skip
    assert apart is not None
    assert together is not None
    assert "machine" not in together.effects
    more = [u.effects["consumer:lamp"][1] for u in (apart, together)]
    assert more[0] == pytest.approx(10.0 * sum(p.duration for p in apart.phases[:3]))
    assert abs(more[1]) < 0.25 * more[0], "the heater of the chamber gives about a watt less for each of them"


def test_what_two_jobs_share_cancels_in_their_difference() -> None:
    rig = make_rig()
    more = tuple(h._replace(bed=1.1 * h.bed) for h in PHASES)
    changes = ({"convection": (-20.0, 20.0)}, 140.0)
    one, other = (energy_use(rig, phases, (polymers()["abs"], 0.3), PRICE, 300.0, changes) for phases in (more, PHASES))
    gap = difference(one, other)
    assert gap.value == pytest.approx(one.total - other.total)
    both = np.hypot(*(0.5 * (u.within[1] - u.within[0]) for u in (one, other)))
    assert 0.5 * (gap.high - gap.low) < 0.15 * both
    same = difference(one, one)
    assert (same.value, same.low, same.high) == (0.0, 0.0, 0.0)


@pytest.mark.parametrize("enclosed", [True, False])
def test_heaters_energy_is_that_of_the_marches_and_their_balance_closes(enclosed: bool) -> None:
    rig = make_rig(enclosed=enclosed, chamber_heater=300.0 if enclosed else 0.0)
    e = printed(rig, settings(95.0, 50.0, rest=85.0, soak=900.0))
    assert e.energy is not None
    assert e.course is not None
    heat, course, efficiency = e.heat, e.course, 0.99
    assert abs(course.closure) < 1e-3
    assert abs(heat.closure) < 1e-3
    assert e.energy.phases[0].by[BED] * efficiency + e.energy.phases[0].by.get(
        CHAMBER, 0.0
    ) * efficiency == pytest.approx(heat.at(heat.ready_time, heat.energy), rel=1e-6)
    given = sum(course.heat) + sum(course.soaked)
    told = sum(e.energy.phases[k].by.get(key, 0.0) for k in (1, 2) for key in (BED, CHAMBER))
    assert told * efficiency == pytest.approx(given, rel=1e-6)
    assert [p.doing for p in e.energy.phases] == [
        Doing.WARM_UP, Doing.SOAK, Doing.PRINT, Doing.COOL_DOWN, Doing.IDLE
    ]  # fmt: skip
    assert e.energy.phases[2].duration == pytest.approx(float(course.time[-1]))


def test_a_plug_meter_would_read_much_more_than_the_heaters_of_a_small_machine() -> None:
    e = printed(make_rig(width=0.2, depth=0.2, enclosed=False, power=200.0), settings(60.0), "pla", bands=True)
    assert e.energy is not None
    assert 0.3 < e.energy.heaters / e.energy.total < 0.87
    low, high = e.energy.within
    assert low < e.energy.total < high
    assert 0.05 < 0.5 * (high - low) / e.energy.total < 0.4


def test_a_consumer_inside_the_chamber_warms_its_air_and_one_outside_does_not() -> None:
    rig = make_rig()
    none, outside, inside = (
        printed(with_plug(rig, consumers=[lamp(60.0, warm_up=1.0, soak=1.0, printing=1.0, inside=share)] if lit else []),
                settings(95.0))
        for lit, share in ((False, 0.0), (True, 0.0), (True, 1.0))
    )  # fmt: skip
    assert none.course is not None
    assert outside.course is not None
    assert inside.course is not None
    assert outside.course.air[-1] == pytest.approx(none.course.air[-1], abs=1e-9)
    assert inside.course.air[-1] > none.course.air[-1] + 2.0
    assert none.energy is not None
    assert outside.energy is not None
    assert inside.energy is not None
    warm, rest = none.energy.phases[0], none.energy.phases[2]
    lit = 60.0 * (warm.duration + rest.duration + 300.0)
    assert outside.energy.total - none.energy.total == pytest.approx(lit, rel=1e-6)
    # warm air spares the bed some of its heat
    assert inside.energy.of(BED) < outside.energy.of(BED)


def test_the_part_fan_cools_the_plate_and_a_large_foot_covers_it() -> None:
    rig = make_rig(enclosed=False)
    still, blown = (printed(rig, settings(90.0).model_copy(update={"fan": f})) for f in (0.0, 1.0))
    assert blown.rest.power > 1.01 * still.rest.power
    large = printed(rig, settings(90.0), size=0.24)
    assert large.rest.power < still.rest.power


def test_melting_takes_the_crystals_too() -> None:
    pa6, abs_ = polymers()["pa6"], polymers()["abs"]
    assert melt_energy(1.0, pa6, 540.0, 293.0).typical == pytest.approx(
        pa6.specific_heat.typical * 247.0 + pa6.melting_enthalpy.typical
    )
    assert abs_.melting_enthalpy.high == 0.0
    value = melt_energy(0.2, abs_, 520.0, 293.0)
    assert value.low < value.typical < value.high
    assert melt_energy(0.2, abs_, 290.0, 293.0).typical == 0.0


def test_assumed_consumers_grow_with_the_machine_and_say_that_they_are_assumed() -> None:
    small, large = make_rig(width=0.2, depth=0.2, enclosed=False), make_rig(width=0.8, depth=0.8)
    assert all(c.origin == ASSUMED for c in (*consumers_of(small), *consumers_of(large)))
    assert drawn(small, Doing.PRINT) < drawn(large, Doing.PRINT)
    assert 15.0 < drawn(small, Doing.PRINT) < 80.0
    assert drawn(small, Doing.OFF) < drawn(small, Doing.IDLE) < drawn(small, Doing.PRINT)
    assert own_heat(small, Doing.PRINT).lower == own_heat(small, Doing.PRINT).upper == 0.0
    assert own_heat(large, Doing.PRINT).upper > 0.0
    assert 0.1 < own_heat_within(large, Doing.WARM_UP) < 0.6


def test_a_cool_down_ends_when_the_plate_can_be_handled() -> None:
    cold, hot = (printed(make_rig(), settings(bed)) for bed in (70.0, 110.0))
    assert cold.course is not None
    assert hot.course is not None
    assert 300.0 < cold.course.cools < hot.course.cools
    assert cold.energy is not None
    assert cold.energy.phases[3].duration == pytest.approx(cold.course.cools)
    assert not cold.energy.unfinished


def test_a_plate_that_stays_warm_in_a_hot_chamber_is_said() -> None:
    e = printed(make_rig(), settings(110.0))
    assert e.course is not None
    assert e.energy is not None
    warm = replace(e.energy, unfinished=True)
    assert "eight hours" in energy_sentence(warm, "", "€")
    assert "eight hours" not in energy_sentence(e.energy, "", "€")
    assert e.energy.unfinished == (not np.isfinite(e.course.cools))


def test_bins_of_an_hour_add_up_to_the_whole() -> None:
    time, total = np.array([0.0, 1800.0, 9000.0]), np.array([0.0, 900e3, 2340e3])
    ends, energy = hourly((time, total))
    assert ends == pytest.approx([3600.0, 7200.0, 9000.0])
    assert energy == pytest.approx([900e3 + 200.0 * 1800.0, 200.0 * 3600.0, 200.0 * 1800.0])


@pytest.mark.parametrize(("change", "words"), [
    ({"consumers": [lamp() | {"power_low": 30.0}]}, "rising"),
    ({"consumers": [lamp(), lamp()]}, "same key"),
    ({"bed_supply": {"low": 0.1, "typical": 0.8, "high": 0.9}}, "efficiency"),
    ({"hot_end": {"low": 0.2, "typical": 0.1, "high": 0.3}}, "rise"),
])  # fmt: skip
def test_figures_that_contradict_each_other_are_refused_in_words(change: dict[str, object], words: str) -> None:
    with pytest.raises(ValidationError, match=words):
        with_plug(make_rig(), **change)


def test_an_older_file_keeps_the_heat_that_its_machine_was_said_to_give_off() -> None:
    rig = make_rig().model_dump(mode="json")
    rig.pop("plug")
    rig["chamber"] |= {"machine_heat": 44.0, "hot_end_heat": 20.0}
    data = {"schema_version": 7, "rig": rig}
    brought_up(data, 8)
    after = Rig.model_validate(data["rig"])
    heat = own_heat(after, Doing.WARM_UP)
    assert (heat.lower, heat.upper) == pytest.approx((22.0, 22.0))
    assert own_heat_within(after, Doing.WARM_UP) == pytest.approx(0.4)
    assert after.plug.hot_end.times(228.0).typical == pytest.approx(20.0)
    rig["chamber"] |= {"machine_heat": 30.0, "hot_end_heat": 0.0}
    rig.pop("plug")
    data = {"schema_version": 7, "rig": rig}
    brought_up(data, 8)
    assert Rig.model_validate(data["rig"]).plug == Plug(), "nobody stated those: they are assumed by size and kind now"


def checked(base: float, base_from: str, peak: float) -> EnergyCheck:
    none = Bins(np.zeros(1), np.ones(1), np.zeros(1))
    return EnergyCheck("power at moments", base, base_from, peak, peak, 200.0, 190.0, 0.3, (), none, np.zeros(1))


def test_a_plug_meter_scales_the_consumers_and_tells_the_heaters_power() -> None:
    rig = make_rig()
    idle, held = drawn(rig, Doing.IDLE), drawn(rig, Doing.WARM_UP)
    found = found_by_meter(rig, checked(1.5 * idle, BEFORE_HEATING, 650.0), "Tuesday")
    after = rig.model_copy(update={"plug": found.plug})
    assert drawn(after, Doing.IDLE) == pytest.approx(1.5 * idle)
    by_key = {c.key: c for c in consumers_of(after)}
    assert by_key["electronics"].origin == "plug meter, Tuesday"
    assert by_key["electronics"].power_high == pytest.approx(1.1 * by_key["electronics"].power)
    assert by_key["drives"].origin == ASSUMED, "they stood still while the base load was read"
    assert found.power == pytest.approx((650.0 - drawn(after, Doing.WARM_UP)) * 0.99)
    inferred = found_by_meter(rig, checked(0.8 * held, "what the heaters do not explain", 3000.0), "Tuesday")
    assert drawn(rig.model_copy(update={"plug": inferred.plug}), Doing.WARM_UP) == pytest.approx(0.8 * held)
    assert np.isnan(inferred.power)
    assert "does not fit" in inferred.words
    odd = found_by_meter(rig, checked(40.0 * idle, BEFORE_HEATING, 650.0), "Tuesday")
    assert odd.plug.consumers is None
    assert "too far" in odd.words
    both = found_by_meter(make_rig(chamber_heater=300.0), checked(idle, BEFORE_HEATING, 900.0), "Tuesday")
    assert np.isnan(both.power)


def test_a_print_that_was_interrupted_is_told_and_a_thermostat_or_its_end_is_not() -> None:
    start = np.arange(0.0, 6.0 * HOUR, 300.0)

    def bins(power: np.ndarray) -> Bins:
        return Bins(start, start + 300.0, power)

    power = np.where(start < 1200.0, 800.0, 220.0)
    assert interruptions(bins(power), 20.0, 220.0) == ()
    paused = power.copy()
    paused[(start >= 3.0 * HOUR) & (start < 3.5 * HOUR)] = 25.0
    assert interruptions(bins(paused), 20.0, 220.0) == ((3.0 * HOUR, 3.5 * HOUR),)
    ended = power.copy()
    ended[start >= 5.0 * HOUR] = 20.0
    assert interruptions(bins(ended), 20.0, 220.0) == (), "its end is no pause"
    swings = np.where(np.arange(start.size) % 2 == 0, 420.0, 20.0)
    assert interruptions(bins(swings), 20.0, 220.0) == (), "a thermostat that switches"


def test_a_consumer_is_scaled_with_its_source() -> None:
    found = Consumer.model_validate(lamp(20.0)).scaled(1.5, 0.1, "plug meter, Tuesday")
    assert (found.power_low, found.power, found.power_high) == pytest.approx((27.0, 30.0, 33.0))
    assert found.origin == "plug meter, Tuesday"
    assert Spread(low=1.0, typical=2.0, high=4.0).times(0.5).high == 2.0


def reading(**given: object) -> MeterReading:
    return MeterReading.model_validate(given)


def test_a_reading_by_eye_is_held_against_the_mean_of_its_phase() -> None:
    use = evaluated_of(small_bundle()).energy
    assert use is not None
    phase = use.phase(Doing.PRINT)
    assert phase is not None
    near = against(
        reading(kind="power", state="print", power_low=0.95 * phase.power, power_high=1.1 * phase.power), use
    )
    assert near.agrees
    assert near.predicted[0] == pytest.approx(phase.total / phase.duration)
    assert near.predicted[1] < near.predicted[0] < near.predicted[2]
    far = against(reading(kind="power", state="print", power_low=3.0 * phase.power, power_high=3.2 * phase.power), use)
    assert not far.agrees
    assert "3.10 times" in far.words()


def test_a_days_total_counts_its_prints_and_the_idle_hours_between() -> None:
    use = evaluated_of(small_bundle()).energy
    assert use is not None
    idle = use.phase(Doing.IDLE)
    assert idle is not None
    length, day = sum(p.duration for p in use.phases), 86400.0
    by_hand = 2.0 * use.total + (day - 2.0 * length) * idle.total / idle.duration
    found = against(reading(kind="total", prints=2, span=day, energy_low=by_hand, energy_high=by_hand), use)
    assert found.predicted[0] == pytest.approx(by_hand)
    assert found.agrees
    stopped = against(reading(kind="total", prints=2, span=day, interrupted=True), use)
    assert "stopped" in stopped.words()
    crowded = against(reading(kind="total", prints=1000, span=day), use)
    assert "do not fit" in crowded.words()
