"""Set points for a wanted surface, and savings that are what a fresh solution says."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import settings as run_with
from hypothesis import strategies as st

from mandorla.core.rig.settings import Criteria
from mandorla.core.thermal.advice import savings, set_points_for
from mandorla.core.thermal.heatup import heat_up
from mandorla.core.thermal.steady import solve_steady
from mandorla.core.units import celsius
from tests.core.rigs import make_rig, settings

CRITERIA = Criteria()


@run_with(max_examples=12, deadline=None)
@given(wanted=st.floats(60.0, 110.0), bias=st.floats(-4.0, 4.0))
def test_the_recommended_set_point_gives_the_wanted_surface(wanted: float, bias: float) -> None:
    rig, use = make_rig(bias=bias), settings(95.0, 40.0)
    heat = heat_up(rig, use, CRITERIA, with_bands=False)
    points = set_points_for(rig, use, heat, celsius(wanted))
    assert points.within
    # a heat-up at that set point, with a shape of its own, ends at the wanted surface
    again = heat_up(rig, settings(points.rest - 273.15, 40.0), CRITERIA, with_bands=False)
    assert again.steady.surface == pytest.approx(celsius(wanted), abs=0.1)
    assert points.first >= points.rest


def test_what_the_machine_cannot_do_is_said() -> None:
    rig, use = make_rig(power=120.0), settings(80.0, 40.0)
    heat = heat_up(rig, use, CRITERIA, with_bands=False)
    assert not set_points_for(rig, use, heat, celsius(160.0)).within


@pytest.mark.parametrize("enclosed", [True, False])
def test_savings_are_sorted_and_real(enclosed: bool) -> None:
    rig, use = make_rig(enclosed=enclosed, foam=0.002, air_changes=30.0), settings(100.0, 40.0)
    found = savings(rig, use)
    assert [s.saved for s in found] == sorted((s.saved for s in found), reverse=True)
    names = [s.what for s in found]
    assert any("foam added below" in n for n in names)
    assert any("closed chamber" in n for n in names) != enclosed
    base = solve_steady(rig, use.bed_rest, use.chamber)
    thick = make_rig(enclosed=enclosed, foam=0.012, air_changes=30.0)
    direct = base.power - solve_steady(thick, use.bed_rest, use.chamber).power
    foam = next(s for s in found if "foam added below" in s.what)
    assert foam.saved == pytest.approx(direct, rel=0.02)
    assert foam.saved > 5.0


def test_frame_is_calm_last() -> None:
    heat = heat_up(make_rig(chamber_heater=500.0), settings(100.0, 50.0), CRITERIA, with_bands=False)
    assert heat.ready_time > 0.0
    assert not heat.frame_ready_time < heat.chamber_ready_time
