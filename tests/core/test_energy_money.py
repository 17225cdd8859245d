"""Tariffs, good parts, payback, batteries and staggered starts: examples worked by hand, and what bad terms get."""

from __future__ import annotations

import math

import numpy as np
import pytest
from pydantic import ValidationError

from mandorla.core.energy.course import PlugCourse
from mandorla.core.energy.money import cost_from, good_part, job_cost, payback, quarter_peak
from mandorla.core.energy.reserve import held_by, on_backup
from mandorla.core.energy.stagger import SLOT, profile_of, staggered
from mandorla.core.energy.use import Difference
from mandorla.core.rig.backup import Backup
from mandorla.core.rig.consumers import Doing
from mandorla.core.rig.tariff import Costs, Tariff, TariffBand

HOUR = 3600.0
KWH = 3.6e6
DEAR, CHEAP = 0.40 / KWH, 0.10 / KWH
NIGHT = Tariff(
    bands=(TariffBand(starts=22 * HOUR, ends=6 * HOUR, price=CHEAP), TariffBand(starts=6 * HOUR, ends=22 * HOUR, price=DEAR)),
    starts_at=20 * HOUR, demand=0.01, carbon=0.5 / KWH,
)  # fmt: skip


def job(warm: float = 1000.0, held: float = 200.0, hours: float = 10.0) -> PlugCourse:
    """Half an hour of warm-up, then a print at a constant power (W), then an hour at 10 W."""
    ends = np.array([0.25, 0.5, *np.arange(1.0, hours + 0.01) + 0.5, hours + 1.5]) * HOUR
    bed = np.array([warm, warm, *np.full(round(hours), held), 0.0])
    rest = np.zeros(ends.size)
    rest[-1] = 10.0
    phases = ((Doing.WARM_UP, 0.5 * HOUR), (Doing.PRINT, (hours + 0.5) * HOUR), (Doing.COOL_DOWN, (hours + 1.5) * HOUR))
    return PlugCourse(ends, bed, np.zeros(ends.size), rest, phases)


def test_a_job_over_night_costs_each_hour_at_its_price() -> None:
    course = job()
    # from 20:00: half an hour of 1 kW and an hour and a half of 200 W are dear, 8 h of 200 W cheap, then half an hour of it and
    # the cool-down dear again
    by_hand = 0.5 * 0.40 + 0.3 * 0.40 + 1.6 * 0.10 + 0.1 * 0.40 + 0.01 * 0.40
    assert cost_from(course, NIGHT, 0.0, 20 * HOUR) == pytest.approx(by_hand)
    assert cost_from(course, Tariff(), 0.25 / KWH, 20 * HOUR) == pytest.approx((0.5 + 2.0 + 0.01) * 0.25)
    cost = job_cost(course, NIGHT, 0.0)
    assert cost.energy == pytest.approx(by_hand)
    assert cost.best_start == 22 * HOUR
    assert cost.best == pytest.approx(0.5 * 0.10 + 1.5 * 0.10 + 0.5 * 0.40 + 0.01 * 0.40)
    assert cost.worst == pytest.approx(2.51 * 0.40)
    assert cost.carbon == pytest.approx(2.51 * 0.5)
    assert cost.quarter == pytest.approx(1000.0)
    assert cost.demand == pytest.approx(10.0)


def test_a_job_longer_than_a_day_meets_the_same_price_again() -> None:
    course = job(hours=47.5 + 0.5)
    total = float(course.running[1][-1])
    share = (cost_from(course, NIGHT, 0.0, 0.0) - CHEAP * total) / (DEAR - CHEAP) / 200.0
    assert share == pytest.approx(32 * HOUR, rel=0.02), "sixteen dear hours a day, twice"


def test_the_quarter_of_an_hour_that_counts_is_the_highest_mean() -> None:
    ends = np.array([300.0, 600.0, 3600.0])
    course = PlugCourse(ends, np.array([900.0, 0.0, 90.0]), np.zeros(3), np.zeros(3), ((Doing.PRINT, 3600.0),))
    assert quarter_peak(course) == pytest.approx((900.0 * 300.0 + 90.0 * 300.0) / 900.0)


def test_a_good_part_pays_for_those_that_failed() -> None:
    costs = Costs(filament=30.0, hour=2.0 / HOUR)
    found = good_part(0.5, 0.2, 5 * HOUR, 0.2, costs)
    assert found.jobs == pytest.approx(1.25)
    assert found.total == pytest.approx(1.25 * (0.5 + 6.0 + 10.0))
    assert math.isinf(good_part(0.5, 0.2, HOUR, 1.0, costs).total)


def test_insulation_is_paid_by_what_it_saves_with_the_range_of_the_difference() -> None:
    more = Difference(-0.5 * KWH, -0.8 * KWH, -0.2 * KWH)
    found = payback(more, 0.30 / KWH, 60.0, 200.0)
    assert found.saved.value == pytest.approx(30.0)
    assert found.years == pytest.approx((2.0, 60.0 / 48.0, 60.0 / 12.0))
    unsure = payback(Difference(-0.1 * KWH, -0.3 * KWH, 0.1 * KWH), 0.30 / KWH, 60.0, 200.0)
    assert math.isinf(unsure.years.high)
    assert unsure.years.low == pytest.approx(60.0 / 18.0)


def battery(**change: object) -> Backup:
    plain = {
        "kind": "battery",
        "capacity": 2.0 * KWH,
        "usable": 1.0,
        "efficiency": 0.8,
        "own": 10.0,
        "temperature": 298.15,
    }
    return Backup.model_validate(plain | change)


def test_a_battery_runs_a_print_until_it_is_empty() -> None:
    # 200 W through a converter of 80 % and its own 10 W are 260 W: 10 h take 2.6 kWh, 2 kWh last 7.69 h
    run = on_backup(job(), battery())
    assert run.asked == pytest.approx(2.6 * KWH)
    assert not run.lasts
    assert run.stops == pytest.approx(0.5 * HOUR + 2.0 / 0.26 * HOUR)
    assert run.doing is Doing.PRINT
    assert run.left == pytest.approx(-0.6 * KWH)
    larger = on_backup(job(), battery(capacity=3.0 * KWH))
    assert larger.lasts
    assert larger.left == pytest.approx(0.4 * KWH)
    whole = on_backup(job(), battery(capacity=4.0 * KWH, takes_over="start"))
    assert whole.asked == pytest.approx(2.6 * KWH + (1000.0 / 0.8 + 10.0) * 0.5 * HOUR)
    assert on_backup(job(), battery(capacity=9.0 * KWH, takes_over="start", most=900.0)).overloaded


def test_cold_takes_capacity_and_a_generator_minds_it_not() -> None:
    warm, cold = held_by(battery()), held_by(battery(temperature=273.15))
    assert cold == pytest.approx(0.86 * warm)
    assert held_by(battery(temperature=273.15, chemistry="lead")) == pytest.approx(0.75 * warm)
    assert held_by(battery(temperature=253.15, kind="generator")) == pytest.approx(warm)


def test_machines_on_one_breaker_begin_one_after_the_other() -> None:
    profile = profile_of(job())
    assert profile[:6] == pytest.approx(np.full(6, 1000.0))
    assert profile[-1] == pytest.approx(200.0)
    # three machines below 1.5 kW: one warms (1000 W) while the others hold (200 W each): a start each half hour
    found = staggered(profile, 3, 1500.0, 4 * HOUR)
    assert found.starts == pytest.approx((0.0, 6 * SLOT, 12 * SLOT))
    assert found.together == pytest.approx(3000.0)
    assert found.staggered == pytest.approx(1400.0)
    assert staggered(profile, 3, 3000.0, 4 * HOUR).starts == (0.0, 0.0, 0.0)
    late = staggered(profile, 3, 1500.0, 1800.0)
    assert not late.possible
    many = staggered(profile, 9, 1500.0, 4 * HOUR)
    assert not many.possible
    assert many.at_most == 7


def test_an_order_is_as_early_as_that_of_every_other_order() -> None:
    profile, limit = np.array([900.0, 700.0, 400.0, 250.0]), 1700.0
    found = staggered(profile, 4, limit, 8 * SLOT)

    def fits(starts: tuple[int, ...]) -> bool:
        load = np.zeros(40)
        for s in starts:
            load[s : s + 4] += profile
            load[s + 4 :] += profile[-1]
        return bool(load.max() <= limit + 1e-9)

    orders = [(0, b, c, d) for b in range(9) for c in range(b, 9) for d in range(c, 9)]
    assert sum(found.starts) / SLOT == pytest.approx(min(sum(o) for o in orders if fits(o)))


@pytest.mark.parametrize(("bands", "words"), [
    ([(0, 6, CHEAP), (7, 24, DEAR)], "no price from 06:00 to 07:00"),
    ([(0, 12, CHEAP), (10, 24, DEAR)], "two prices from 10:00 to 12:00"),
    ([(22, 6, CHEAP)], "no price from 06:00 to 22:00"),
    ([(0, 20, CHEAP)], "no price from 20:00 to 24:00"),
])  # fmt: skip
def test_a_tariff_with_gaps_or_two_prices_is_refused_with_the_hours(
    bands: list[tuple[float, float, float]], words: str
) -> None:
    made = tuple(TariffBand(starts=a * HOUR, ends=b * HOUR, price=p) for a, b, p in bands)
    with pytest.raises(ValidationError, match=words):
        Tariff(bands=made)


def test_a_battery_of_no_capacity_is_refused() -> None:
    with pytest.raises(ValidationError, match="no capacity"):
        Backup(kind="battery", capacity=0.0)
    assert Backup(kind="none", capacity=0.0).capacity == 0.0
