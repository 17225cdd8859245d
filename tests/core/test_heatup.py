"""The heat-up: energy balance, limits, monotony, refinement, readiness, bands."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import HealthCheck, given
from hypothesis import settings as run_with
from hypothesis import strategies as st

from mandorla.core.failure.messages import heat_up_sentence
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria
from mandorla.core.thermal.heatup import drift, heat_up, march, settling_march, time_steps
from mandorla.core.thermal.ledger import from_chamber
from mandorla.core.thermal.network import surroundings
from mandorla.core.thermal.parameter_samples import rig_unknowns, sampled_rig, typical_sample
from mandorla.core.thermal.stack import build_stack
from mandorla.core.thermal.steady import solve_steady, steady_bands
from mandorla.core.units import celsius
from tests.core.rigs import make_rig, random_rigs, settings

CRITERIA = Criteria()


def test_steady_state_on_the_step_of_a_correlation() -> None:
    """A bed below its chamber whose Rayleigh number lies where two published branches meet with a step of 6 %."""
    rig = make_rig(
        width=0.5, depth=0.484375, power=1961.71875, chamber_heater=900.0, room=16.0, plate=0.0078125, foam=0.015625,
        air_changes=1.0,
    )  # fmt: skip
    state = solve_steady(rig, celsius(45.0), celsius(68.0))
    assert state.sensed_air == pytest.approx(celsius(68.0), abs=0.3)
    assert celsius(45.0) < state.surface < celsius(68.0)


@run_with(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(rig=random_rigs(), bed=st.floats(45.0, 140.0), chamber=st.floats(25.0, 85.0))
def test_energy_balance_closes_for_every_rig(rig: Rig, bed: float, chamber: float) -> None:
    result = heat_up(rig, settings(bed, chamber), CRITERIA, with_bands=False)
    assert abs(result.closure) < 1e-3 * 1e-3  # 0.1 % is asked for; the scheme conserves to the solver's own accuracy
    assert result.energy[-1] >= 0.0
    assert np.all(np.diff(result.energy) >= -1e-9)


@run_with(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(rig=random_rigs(), bed=st.floats(45.0, 140.0))
def test_temperatures_stay_between_room_and_the_hottest_layer(rig: Rig, bed: float) -> None:
    result = heat_up(rig, settings(bed, 40.0), CRITERIA, with_bands=False)
    assert result.cells.min() >= rig.room_temperature - 1e-6
    assert result.surface.max() <= result.cells.max() + 1e-6
    assert np.all(result.power >= 0.0)
    assert result.power.max() <= rig.bed.heater.power + 1e-9


@pytest.mark.parametrize("enclosed", [True, False])
@pytest.mark.parametrize("kind", ["steady", "on-off"])
def test_transient_ends_in_the_steady_state(enclosed: bool, kind: str) -> None:
    rig = make_rig(enclosed=enclosed, kind=kind, bias=1.5)
    state = solve_steady(rig, celsius(90.0), celsius(40.0))
    run, last = march(rig, settings(90.0, 40.0), np.full(14400, 4.0)).run, slice(-400, None)
    if kind == "steady":
        assert run.top[last].mean() == pytest.approx(state.surface, abs=0.05)
        assert run.air[last].mean() == pytest.approx(state.air, abs=0.05)
        assert run.power[last].mean() == pytest.approx(state.power, rel=0.005)
    else:  # swings about it, warming faster than it cools
        assert run.top[last].min() < state.surface < run.top[last].max()
        assert np.ptp(run.sensor[last]) < 6.0
        assert run.power[last].mean() == pytest.approx(state.power, rel=0.04)


def test_steady_state_balances_power_and_losses() -> None:
    rig = make_rig()
    state = solve_steady(rig, celsius(100.0), celsius(40.0))
    run = march(rig, settings(100.0, 40.0), np.full(40000, 4.0)).run
    hours = 40000 * 4.0
    # after 44 h the mean of the last steps is the steady power, and all of it left through leakage and panels
    assert run.power[-1] == pytest.approx(state.power, rel=1e-3)
    assert sum(from_chamber(run.ledger).values()) == pytest.approx(
        (state.power + state.flows.machine) * hours, rel=0.05
    )


def test_sensor_bias_shifts_the_plate_kelvin_for_kelvin() -> None:
    honest, high = make_rig(), make_rig(bias=3.0)
    a = solve_steady(honest, celsius(95.0), celsius(40.0))
    b = solve_steady(high, celsius(95.0), celsius(40.0))
    same = solve_steady(honest, celsius(92.0), celsius(40.0))
    assert b.surface == pytest.approx(same.surface, abs=1e-6)
    assert 2.0 < a.surface - b.surface < 3.0


def test_step_and_grid_refinement_change_little() -> None:
    rig = make_rig()
    use = settings(100.0, 40.0)
    coarse = march(rig, use, time_steps(3600.0)).run
    steps = time_steps(3600.0, 0.25)
    fine = march(rig, use, steps, build_stack(rig.bed, refine=3)).run
    t_coarse, t_fine = np.cumsum(np.r_[0.0, time_steps(3600.0)]), np.cumsum(np.r_[0.0, steps])
    difference = np.abs(np.interp(t_coarse, t_fine, fine.top) - coarse.top)
    assert difference.max() < 0.1  # while the heater is regulated down; the worst of step and grid together
    assert difference[t_coarse > 1200.0].max() < 0.05


@run_with(max_examples=15, deadline=None)
@given(bed=st.floats(60.0, 110.0), more=st.floats(2.0, 25.0))
def test_a_hotter_set_point_gives_a_hotter_surface_and_draws_more(bed: float, more: float) -> None:
    rig = make_rig()
    low, high = (solve_steady(rig, celsius(t), celsius(40.0)) for t in (bed, bed + more))
    assert high.surface > low.surface
    assert high.power > low.power
    assert high.air > low.air


def test_what_engineers_expect_of_changes() -> None:
    base = solve_steady(make_rig(), celsius(95.0), celsius(40.0))
    bare = solve_steady(make_rig(foam=0.001), celsius(95.0), celsius(40.0))
    leaky = solve_steady(make_rig(air_changes=60.0), celsius(95.0), celsius(40.0))
    open_rig = solve_steady(make_rig(enclosed=False), celsius(95.0), celsius(40.0))
    assert bare.power > base.power
    assert leaky.air < base.air
    assert open_rig.surface < base.surface
    assert open_rig.power > base.power
    slow = heat_up(make_rig(plate=0.012), settings(), CRITERIA, with_bands=False)
    quick = heat_up(make_rig(plate=0.004), settings(), CRITERIA, with_bands=False)
    assert slow.ready_time > quick.ready_time


def test_offset_of_the_surface_is_its_flux_through_what_lies_above_the_sensor() -> None:
    """By hand: the flux that leaves on top passes every layer's t/k and every joint between the sensor's layer and the surface."""
    rig = make_rig()
    state = solve_steady(rig, celsius(95.0), celsius(40.0))
    bed = rig.bed
    above = bed.layers[: bed.layer_index(bed.sensor.layer)]
    resistance = sum(x.thickness / x.properties().conductivity + x.contact_resistance for x in above)
    own = bed.layer(bed.sensor.layer)
    resistance += 0.5 * own.thickness / own.properties().conductivity
    flux = float(state.flows.top_air + state.flows.top_radiated) / (bed.width * bed.depth)
    assert celsius(95.0) - state.surface == pytest.approx(flux * resistance, rel=0.05)


def test_ready_time_is_the_first_moment_from_which_both_conditions_hold() -> None:
    result = heat_up(make_rig(), settings(95.0, 40.0), CRITERIA)
    i = int(np.searchsorted(result.time, result.ready_time))
    near = np.abs(result.reading - result.set_point) <= CRITERIA.ready_band
    calm = np.abs(drift(result.time, result.surface)) <= CRITERIA.ready_drift
    assert np.all((near & calm)[i:])
    assert not (near & calm)[i - 1]
    assert result.status == "ready"
    assert "Ready in" in heat_up_sentence(result)


def test_a_weak_heater_is_called_unreachable() -> None:
    result = heat_up(make_rig(power=60.0), settings(120.0, 40.0), CRITERIA)
    assert result.status == "unreachable"
    assert np.isnan(result.ready_time)
    assert "cannot hold" in heat_up_sentence(result)


def test_a_set_point_below_what_the_room_allows_draws_nothing() -> None:
    state = solve_steady(make_rig(room=30.0), celsius(20.0), celsius(25.0))
    assert state.power == 0.0
    assert not state.reachable


def test_chamber_heater_holds_its_air_and_stops_at_its_power() -> None:
    held = solve_steady(make_rig(chamber_heater=900.0), celsius(95.0), celsius(60.0))
    assert held.chamber_held
    assert held.air == pytest.approx(celsius(60.0), abs=0.01)
    weak = solve_steady(make_rig(chamber_heater=30.0, air_changes=60.0), celsius(95.0), celsius(85.0))
    assert not weak.chamber_held
    assert weak.chamber_power == pytest.approx(30.0)


def test_supply_limit_is_shared_bed_first() -> None:
    rig = make_rig(power=800.0, chamber_heater=600.0)
    rig = rig.model_copy(update={"limits": rig.limits.model_copy(update={"supply_power": 1000.0, "shares": True})})
    result = heat_up(rig, settings(110.0, 70.0), CRITERIA, with_bands=False)
    total = result.power + result.chamber_power
    assert total.max() == pytest.approx(1000.0)
    assert result.power.max() == pytest.approx(800.0)


def test_on_off_control_swings_about_the_set_point() -> None:
    result = heat_up(make_rig(kind="on-off"), settings(95.0, 40.0), CRITERIA, with_bands=False)
    late = result.power[result.time > 2400.0]
    assert set(np.unique(late)) == {0.0, 550.0}
    reading = result.reading[result.time > 2400.0]
    assert abs(reading.mean() - celsius(95.0)) < 1.0
    assert np.ptp(reading) < 6.0


def test_bands_contain_the_figure_and_grow_with_what_is_unknown() -> None:
    rig = make_rig()
    base = solve_steady(rig, celsius(95.0), celsius(40.0))
    bands, _ = steady_bands(rig, celsius(95.0), celsius(40.0), base)
    for name in ("surface", "air", "power"):
        assert bands[name].low < bands[name].value < bands[name].high
    # ±2 K of the sensor alone moves the surface by nearly 2 K; joints and layers add
    assert 1.5 < bands["surface"].high - bands["surface"].value < 5.0


def test_results_are_read_only() -> None:
    result = heat_up(make_rig(), settings(), CRITERIA, with_bands=False)
    with pytest.raises(ValueError, match="read-only"):
        result.surface[0] = 0.0


@pytest.mark.parametrize(("bed", "chamber", "heater"), [(90.0, 40.0, 0.0), (100.0, 60.0, 350.0), (60.0, 25.0, 0.0)])
def test_long_steps_once_it_is_calm_change_nothing_that_is_shown(bed: float, chamber: float, heater: float) -> None:
    rig, use = make_rig(chamber_heater=heater), settings(bed, chamber)
    stack = build_stack(rig.bed)
    around = surroundings(rig, stack.emissivity_top, stack.emissivity_bottom)
    steps, found = settling_march(rig, use, CRITERIA, 5400.0, stack, around)
    all_along = time_steps(5400.0)
    short = march(rig, use, all_along, stack, around)
    assert steps.size < 0.8 * all_along.size
    assert steps.sum() == pytest.approx(5400.0)
    at, other = np.cumsum(all_along), np.cumsum(steps)
    for name, most in (("top", 0.01), ("reading", 0.01), ("air", 0.1), ("frame", 0.1)):
        one, two = getattr(found.run, name)[1:], getattr(short.run, name)[1:]
        assert np.abs(np.interp(at, other, one) - two).max() < most, name
    energy, before = (
        (m.run.power[1:] @ s + m.run.chamber_power[1:] @ s) for m, s in ((found, steps), (short, all_along))
    )
    assert energy == pytest.approx(before, rel=3e-4)


def test_short_steps_stay_where_something_is_switched() -> None:
    """A thermostat that switches, and a door that will open."""
    use, whole = settings(90.0, 40.0), time_steps(5400.0)
    rig = make_rig()
    door = rig.chamber.door.model_copy(update={"opens_at": 4000.0, "open_for": 120.0})
    opens = rig.model_copy(update={"chamber": rig.chamber.model_copy(update={"door": door})})
    control = rig.bed.control.model_copy(update={"kind": "on-off"})
    swings = rig.model_copy(update={"bed": rig.bed.model_copy(update={"control": control})})
    for other, until in ((opens, 4120.0), (swings, 5400.0)):
        stack = build_stack(other.bed)
        steps, _ = settling_march(
            other, use, CRITERIA, 5400.0, stack, surroundings(other, stack.emissivity_top, stack.emissivity_bottom)
        )
        assert steps[np.cumsum(steps) <= until].max() <= whole.max()
        assert steps[np.cumsum(steps) <= until].max() <= 2.0


def test_bands_are_those_of_a_machine_drawn_anew_for_every_end() -> None:
    """What is kept of a machine between two set points is what would be drawn for each of them."""
    rig = make_rig()
    for bed in (80.0, 110.0):
        base = solve_steady(rig, celsius(bed), celsius(40.0))
        found = steady_bands(rig, celsius(bed), celsius(40.0), base)
        for unknown in rig_unknowns(rig):
            for z, change in zip((-1.0, 1.0), found.power_changes[unknown.key], strict=True):
                draw = typical_sample(rig)
                unknown.apply(draw, z)
                other, stack, s = sampled_rig(rig, draw)
                end = solve_steady(other, celsius(bed), celsius(40.0), stack, s)
                assert change == pytest.approx(
                    end.power + end.chamber_power - base.power - base.chamber_power, abs=1e-9
                )
