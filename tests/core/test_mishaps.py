"""When it goes wrong: release by shear against the law of films, power cuts, lifts that were seen; cheap hours."""

from __future__ import annotations

import math
from datetime import datetime
from zoneinfo import ZoneInfo

import numpy as np
import pytest

from mandorla.core.energy.course import PlugCourse
from mandorla.core.energy.stagger import Stagger
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.rig.consumers import Doing
from mandorla.core.rig.tariff import Tariff, TariffBand
from mandorla.core.run.messages import others_lines
from mandorla.core.run.mishaps import WEAK_JOINT, cut_sentence, go_on, go_on_sentence, power_cut, still_to_do
from mandorla.core.run.model import RunPlan
from mandorla.core.run.schedule import ClockTime, Schedule, cheaper_start, with_others
from mandorla.core.warp.cooling_stress import SHARE, cooling_stress
from mandorla.core.warp.relaxation import cooling_strain
from mandorla.core.warp.release import MIXED, held_thickness, mismatch_energy, plate_expansion, release
from tests.core.bundles import small_bundle

BUNDLE = small_bundle()


def evaluated():  # type: ignore[no-untyped-def]
    return Results(BUNDLE).get(keys.EVALUATION)


def test_the_energy_of_unlike_contraction_is_that_of_a_held_film() -> None:
    """E h e²/(1 - nu) with the strain that is left, by hand; none where plate and polymer shrink alike."""
    e, rig = evaluated(), BUNDLE.project.rig
    part, end = e.part, e.conditions.plate_rest
    p = part.polymer
    T, expansion = np.array([300.0]), plate_expansion(rig.bed)
    h = held_thickness(part, part.sections.height)
    own = float(cooling_strain(np.array([end]), 300.0, p)[0]) * (1.0 - expansion / p.expansion.typical)
    by_hand = p.modulus.typical * p.bead_factor.typical * h * own**2 / (1.0 - p.poisson.typical)
    assert mismatch_energy(part, part.sections.height, end, T, expansion)[0] == pytest.approx(by_hand, rel=1e-12)
    assert mismatch_energy(part, part.sections.height, end, T, p.expansion.typical)[0] == 0.0
    # the toughness at the films' phase angle, Hutchinson & Suo eq. 2.40 with lambda 0.3
    assert pytest.approx(1.0 + math.tan(math.radians(36.4)) ** 2) == MIXED
    # a block pulls with a quarter of its shorter side at most: a taller one with no more
    assert held_thickness(part, 1.0) == held_thickness(part, 0.25 * 0.06)
    assert held_thickness(part, 0.005) == pytest.approx(held_thickness(part, 0.010) / 2.0, rel=0.35)


def test_a_weaker_bond_shears_off_warmer_and_a_warm_plate_does_not_at_all() -> None:
    e, rig = evaluated(), BUNDLE.project.rig
    part, end = e.part, e.conditions.plate_rest
    cold = release(part, part.sections.height, end, 250.0, 0.0)
    known = [v for v in (cold.low, cold.typical, cold.high) if math.isfinite(v)]
    assert known == sorted(known)
    assert known, "cold enough, something gives"
    assert math.isnan(release(part, part.sections.height, 294.0, 293.5, plate_expansion(rig.bed)).typical)


def test_a_thick_parts_core_leads_as_a_slabs_does() -> None:
    """The parabola by hand: core over skin q L/(2 k), mean over skin q L/(3 k); never by more than the mean's lead allows."""
    part = evaluated().part
    p, over, film = part.polymer, 40.0, 8.0
    found = cooling_stress(part, over, film)
    skin = over / (1.0 + film * found.half / (3.0 * p.conductivity.typical))
    flux = film * skin
    assert found.lag == pytest.approx(flux * found.half / (2.0 * p.conductivity.typical))
    assert skin + flux * found.half / (3.0 * p.conductivity.typical) == pytest.approx(over)
    by_hand = p.modulus.typical * p.expansion.typical * found.lag / 1.5 / (1.0 - p.poisson.typical)
    assert found.load == pytest.approx(by_hand / (SHARE * p.strength.typical))
    assert cooling_stress(part, over, 1e9).lag < 1.5 * over + 1e-6
    assert cooling_stress(part, 0.0, film).load == 0.0
    # the rate that is named: heat lost over heat held, with joints loaded in full
    full = cooling_stress(part, over / found.load, film)
    assert full.load == pytest.approx(1.0)
    held = p.density.typical * p.specific_heat.typical * found.half
    lost = film * (over / found.load) / (1.0 + film * found.half / (3.0 * p.conductivity.typical))
    assert found.fastest == pytest.approx(lost / held)


def test_after_a_power_cut_a_joint_gets_worse_by_the_hour() -> None:
    results = Results(BUNDLE)
    found = results.get(keys.POWER_CUT)
    assert [v.height for v in found.at] == sorted(v.height for v in found.at)
    for v in found.at:
        assert list(v.joint) == sorted(v.joint, reverse=True)
        assert 0.0 <= v.joint[-1] < 1.0
        assert v.good_for > 0.0
        if math.isfinite(v.off) and math.isfinite(v.off_weak):
            assert v.off_weak <= v.off
    assert found.heated
    assert found.holds == pytest.approx(results.get(keys.EVALUATION).rest.power)
    assert "power cut" in cut_sentence(found)
    assert 0.0 < WEAK_JOINT < 1.0
    bare = Results(small_bundle()).get(keys.EVALUATION)
    with pytest.raises(ValueError, match="for a part"):
        power_cut(BUNDLE.project.rig, BUNDLE.project.settings, _without_part(bare), results.get(keys.COOL_DOWN))


def _without_part(e):  # type: ignore[no-untyped-def]
    from dataclasses import replace

    return replace(e, part=None, conditions=None)


def test_the_later_a_lift_is_seen_the_better_its_end() -> None:
    e = evaluated()
    early, late = go_on(e, 0.0002, 0.004), go_on(e, 0.0002, 0.018)
    assert early.chance < late.chance
    assert early.ends[1] > late.ends[1] >= 0.0002
    assert early.left[0] > late.left[0]
    assert early.spent[1] + early.left[1] == pytest.approx(e.part.plan.mass)
    assert early.spent[0] + early.left[0] == pytest.approx(e.part.plan.duration, rel=0.02)
    lost = go_on(e, 0.01, 0.01)
    assert lost.chance == 0.0
    assert go_on_sentence(lost).startswith("Stop")
    assert go_on_sentence(go_on(e, 2e-5, 0.0199)).startswith("Go on")
    assert any("Never press a corner" in line for line in still_to_do(chamber_heated=True))
    assert len(still_to_do(chamber_heated=False)) < len(still_to_do(chamber_heated=True))


def test_the_cheapest_hour_by_hand() -> None:
    """An hour at 1 kW: 30 ct by day, 10 ct from 22 to 6; somebody is there from 7 to 23, so that 22:00 is taken: 20 ct saved."""
    course = PlugCourse(np.array([3600.0]), np.array([1000.0]), np.zeros(1), np.zeros(1), ((Doing.PRINT, 3600.0),))
    bands = (
        TariffBand(starts=6 * 3600.0, ends=22 * 3600.0, price=0.30 / 3.6e6),
        TariffBand(starts=22 * 3600.0, ends=6 * 3600.0, price=0.10 / 3.6e6),
    )
    plan = RunPlan(zone="Europe/Berlin", there_from=7 * 3600.0, there_to=23 * 3600.0)
    on = datetime(2026, 11, 28, 15, 0, tzinfo=ZoneInfo("Europe/Berlin"))
    found = cheaper_start(course, Tariff(bands=bands), 0.30 / 3.6e6, on, plan)
    assert found is not None
    assert f"{found.at:%a %H:%M}" == "Sat 22:00"
    assert found.saves == pytest.approx(0.20)
    assert cheaper_start(course, Tariff(), 0.30 / 3.6e6, on, plan) is None
    already = datetime(2026, 11, 28, 22, 0, tzinfo=ZoneInfo("Europe/Berlin"))
    assert cheaper_start(course, Tariff(bands=bands), 0.30 / 3.6e6, already, plan) is None


def test_machines_on_one_breaker_are_told_with_the_sheet() -> None:
    """Clock times, across a change of the clocks: two hours later is two hours later."""
    plan = RunPlan(zone="Europe/Berlin")
    on = datetime(2026, 10, 25, 1, 30, tzinfo=ZoneInfo("Europe/Berlin"))
    clock = ClockTime(on, on, on)
    bare = Schedule((), on, clock, clock, (), 0.0, 0.0)
    found = with_others(bare, Stagger((0.0, 7200.0), 3000.0, 1800.0, 2000.0, 4), None, Tariff(), 0.0, plan)
    assert others_lines(found) == [("Machines on one breaker", "01:30, 02:30", "below 2000 W together")]
    none = with_others(bare, Stagger((), 3000.0, 3000.0, 2000.0, 1), None, Tariff(), 0.0, plan)
    assert others_lines(none) == [("Machines on one breaker", "no order", "it stands 1 of them")]
    assert others_lines(with_others(bare, None, None, Tariff(), 0.0, plan)) == []
