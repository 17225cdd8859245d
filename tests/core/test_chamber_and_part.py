"""The chamber's unknowns and its bands, air that leaves warm, the part and its fan on the plate, rigs of every size."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy.integrate import solve_bvp

from mandorla.core.part.process import Placement
from mandorla.core.rig.chamber import Chamber
from mandorla.core.rig.consumers import Consumer
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria
from mandorla.core.thermal.correlations import h_forced, h_horizontal, h_mixed
from mandorla.core.thermal.heatup import heat_up
from mandorla.core.thermal.network import (
    EXHAUST,
    LEAK,
    TO_TOP,
    UPPER,
    WALLS,
    OnPlate,
    Outside,
    conductances,
    surroundings,
    while_printing,
)
from mandorla.core.thermal.parameter_samples import rig_unknowns, sampled_rig, typical_sample
from mandorla.core.thermal.stack import build_stack
from mandorla.core.thermal.steady import solve_printing, solve_steady
from mandorla.core.thermal.uncertainty_bands import curve_bands
from mandorla.core.tune.operating_point import evaluate, over_plate
from mandorla.core.units import celsius
from mandorla.core.warp.part_on_plate import fin_conductance, part_on_plate
from tests.core.rigs import make_rig, settings
from tests.core.solids import of_size

CRITERIA = Criteria()


def with_chamber(rig: Rig, **change: object) -> Rig:
    return rig.model_copy(update={"chamber": rig.chamber.model_copy(update=change)})


def with_heat(rig: Rig, watts: float) -> Rig:
    """A rig whose motors and electronics give off ``watts`` inside, known to 40 %, whatever it does."""
    on = dict.fromkeys(("idle", "warm_up", "soak", "printing", "cool_down"), 1.0)
    own = Consumer(
        key="machine", name="machine", power_low=0.6 * watts, power=watts, power_high=1.4 * watts, inside=1.0, **on
    )
    return rig.model_copy(update={"plug": rig.plug.model_copy(update={"consumers": (own,)})})


@pytest.mark.parametrize("air", [20.0, 60.0, 110.0])
def test_leakage_and_exhaust_are_volumes_of_the_warm_air_that_leaves(air: float) -> None:
    rig = with_chamber(make_rig(), exhaust_flow=0.01, exhaust_fraction=1.0)
    s = surroundings(rig, 0.9, 0.9)
    x = np.full(15, celsius(air))
    fresh = conductances(
        celsius(90.0), celsius(60.0), celsius(80.0), x, Outside(rig.room_temperature, 0.0, 0.0), s
    ).fresh
    rho, cp = 101325.0 / (287.05 * celsius(air)), 1006.5
    assert fresh[EXHAUST] == pytest.approx(0.01 * rho * cp, rel=0.01)
    assert fresh[LEAK] == pytest.approx(rig.chamber.air_changes * rig.chamber.volume * rho * cp, rel=0.01)


def test_a_passive_chamber_is_known_to_some_kelvins_and_a_heated_one_to_about_three() -> None:
    passive = heat_up(with_heat(make_rig(), 30.0), settings(105.0, 20.0), CRITERIA)
    heated = heat_up(make_rig(chamber_heater=500.0), settings(105.0, 60.0), CRITERIA)
    half = [0.5 * (h.bands["air"].high - h.bands["air"].low) for h in (passive, heated)]
    assert 4.0 < half[0] < 8.0, "wall films, leakage, machine heat, mixing and the place in the chamber"
    assert 2.5 < half[1] < 4.0, "its sensor, and the place in the chamber"
    assert heat_up(make_rig(enclosed=False), settings(105.0, 20.0), CRITERIA).bands["air"].high == pytest.approx(
        make_rig().room_temperature
    )
    at = curve_bands(with_heat(make_rig(), 30.0), settings(105.0, 20.0), CRITERIA, passive)
    last = at.curves["air"][:, -1]
    assert 0.5 * (last[1] - last[0]) == pytest.approx(half[0], rel=0.5)
    assert at.curves["air"][1, 0] - at.curves["air"][0, 0] < 0.5, "at the start all of it is at the room's temperature"


def test_every_unknown_of_the_chamber_moves_it_the_known_way() -> None:
    rig = with_heat(with_chamber(make_rig(), exhaust_flow=0.003, exhaust_fraction=1.0), 60.0)
    known = {u.key: u for u in rig_unknowns(rig)}
    base = solve_steady(rig, celsius(105.0), celsius(20.0)).air
    for key, sign in {"panels": -1, "films": -1, "leakage": -1, "exhaust": -1, "machine": 1}.items():
        draw = typical_sample(rig)
        known[key].apply(draw, 1.0)
        other, stack, s = sampled_rig(rig, draw)
        assert sign * (solve_steady(other, celsius(105.0), celsius(20.0), stack, s).air - base) > 0.1, key
    heated = make_rig(chamber_heater=500.0)
    draw = typical_sample(heated)
    next(u for u in rig_unknowns(heated) if u.key == "chamber_sensor").apply(draw, 1.0)
    other, stack, s = sampled_rig(heated, draw)
    # a sensor that reads high holds the air low
    assert solve_steady(other, celsius(90.0), celsius(60.0), stack, s).air == pytest.approx(celsius(58.0), abs=0.3)
    assert "chamber_sensor" not in known


def test_a_fin_lets_through_what_the_differential_equation_says() -> None:
    height, k, area, perimeter, h_side, h_top = 0.04, 0.2, 4e-4, 0.08, 9.0, 14.0
    m2 = h_side * perimeter / (k * area)
    x = np.linspace(0.0, height, 40)
    found = solve_bvp(
        lambda _, y: np.vstack([y[1], m2 * y[0]]),
        lambda a, b: np.array([a[0] - 1.0, k * b[1] + h_top * b[0]]),
        x,
        np.vstack([np.exp(-math.sqrt(m2) * x), -math.sqrt(m2) * np.exp(-math.sqrt(m2) * x)]),
        tol=1e-8,
    )
    assert fin_conductance(height, k, area, perimeter, h_side, h_top) == pytest.approx(-k * found.sol(0.0)[1], rel=1e-5)
    # a film of polymer is its resistance and the loss of its top in series
    assert fin_conductance(1e-4, k, area, perimeter, 1e-6, h_top) == pytest.approx(1 / (1e-4 / k + 1 / h_top), rel=1e-3)


def test_the_growing_part_covers_the_plate_and_the_fan_cools_what_is_bare() -> None:
    rig = make_rig(enclosed=False)
    s = surroundings(rig, 0.9, 0.9)
    x = np.full(15, celsius(21.0))

    def over_top(covered: float, through: float, fan: float) -> tuple[float, float]:
        g = conductances(
            celsius(90.0),
            celsius(60.0),
            celsius(80.0),
            x,
            Outside(celsius(21.0), 0.0, 0.0),
            while_printing(s, OnPlate(covered, through, fan)),
        )
        return float(g.bed[TO_TOP, UPPER]), float(g.bed[TO_TOP, WALLS])

    bare, half = over_top(0.0, 0.0, 0.0), over_top(0.5, 0.0, 0.0)
    assert half == pytest.approx((0.5 * bare[0], 0.5 * bare[1]))
    assert over_top(0.5, 8.0, 0.0)[0] == pytest.approx(half[0] + 4.0 * rig.bed.area)
    hot, air = celsius(90.0), celsius(21.0)
    along = h_mixed(h_horizontal(hot, air, s.length, True), h_forced(hot, air, 0.3, s.flow_length))
    assert over_top(0.0, 0.0, 0.3)[0] == pytest.approx(along * rig.bed.area)
    assert over_top(0.0, 0.0, 0.3)[0] > 1.02 * bare[0]
    stack, use = build_stack(rig.bed), settings(90.0, 30.0)
    alone = solve_steady(rig, use.bed_rest, use.chamber, stack)
    plate = of_size(0.25, 0.22, 0.02)
    covered = solve_printing(rig, use.bed_rest, use.chamber, stack, over_plate(rig, plate, use))
    assert covered.power < 0.85 * alone.power, "the plate under a large part loses less"
    assert covered.surface > alone.surface
    blown = solve_printing(rig, use.bed_rest, use.chamber, stack, OnPlate(0.0, 0.0, 0.6))
    assert blown.power > alone.power
    assert blown.surface < alone.surface
    tall = part_on_plate(of_size(0.05, 0.05, 0.2), celsius(21.0), 0.0)
    flat = part_on_plate(plate, celsius(21.0), 0.0)
    assert tall.through != pytest.approx(flat.through, rel=0.05)
    assert tall.foot == pytest.approx(0.05**2, rel=0.05)


def test_circulation_in_a_closed_chamber_blows_over_the_part() -> None:
    part, use = of_size(0.2, 0.15, 0.05), settings(100.0, 60.0)
    still, stirred = (make_rig(chamber_heater=500.0, circulation=v) for v in (0.0, 1.5))
    e = [evaluate(r, use, CRITERIA, part, Placement(), with_bands=False) for r in (still, stirred)]
    drafts = [x.conditions.draft for x in e if x.conditions is not None]
    assert drafts == pytest.approx([0.0, 1.5])
    assert e[0].warp is not None
    assert e[1].warp is not None
    assert e[1].warp.history.end.mean() < e[0].warp.history.end.mean()


@pytest.mark.parametrize("bed", [0.35, 0.4, 0.46])
@pytest.mark.parametrize("gap", [0.005, 0.05, 0.1])
@pytest.mark.parametrize("degrees", [45.0, 128.0])
def test_the_steady_state_is_found_in_square_boxes_close_around_the_bed(bed: float, gap: float, degrees: float) -> None:
    base = make_rig(width=bed, depth=bed, power=8000.0 * bed * bed)
    box = {"width": bed + gap, "depth": bed + gap, "height": 0.5}
    for chamber in (base.chamber.model_copy(update=box), base.chamber.model_copy(update=box | {"heater_power": 400.0})):
        rig = base.model_copy(update={"chamber": Chamber.model_validate(chamber.model_dump())})
        for air in (22.0, 60.0):
            state = solve_steady(rig, celsius(degrees), celsius(air))
            flows = state.flows
            assert rig.room_temperature - 1.0 < state.air < celsius(max(degrees, air)) + 1.0
            given = flows.bed + flows.chamber + flows.machine
            gone = flows.leakage + flows.vents + flows.exhaust + flows.door + float(flows.panels.sum())
            assert given == pytest.approx(gone, rel=2e-3, abs=0.1)
