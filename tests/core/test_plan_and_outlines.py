"""Outlines of layers, round beds, zones, power maps, holes and brackets: areas, agreement of both models, symmetry."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import settings as run_with
from hypothesis import strategies as st

from mandorla.core.rig.bed import Bed, ContactSpot, Outline, Zone
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria
from mandorla.core.thermal.bed_raster import covered, is_symmetric, plan_of
from mandorla.core.thermal.heatup import heat_up
from mandorla.core.thermal.stack import build_stack
from mandorla.core.thermal.steady import solve_steady
from mandorla.core.thermal.surface_history import surface_history
from mandorla.core.units import celsius
from tests.core.rigs import make_rig, settings


def with_bed(rig: Rig, **updates: object) -> Rig:
    return rig.model_copy(update={"bed": Bed.model_validate({**rig.bed.model_dump(), **updates})})


def with_outline(rig: Rig, name: str, **outline: object) -> Rig:
    layers = [layer.model_dump() for layer in rig.bed.layers]
    layers[rig.bed.layer_index(name)]["outline"] = outline
    return with_bed(rig, layers=layers)


@given(st.floats(0.05, 0.3), st.floats(0.05, 0.3), st.floats(-0.02, 0.02), st.sampled_from(["rectangle", "round"]))
def test_cover_adds_up_to_the_area(width: float, depth: float, x: float, shape: str) -> None:
    outline = Outline(shape=shape, width=width, depth=depth, x=x)
    edges = np.linspace(-0.2, 0.2, 41)
    area = covered(outline, edges, edges).sum() * 0.01**2
    assert area == pytest.approx(outline.area, rel=1e-9 if shape == "rectangle" else 0.02)


@pytest.mark.parametrize("shape", ["rectangle", "round"])
def test_quarter_and_whole_plan_agree(shape: str) -> None:
    rig = with_bed(make_rig(), shape=shape, width=0.3, depth=0.3)
    quarter, whole = plan_of(rig.bed, 20, quarter=True), plan_of(rig.bed, 40, quarter=False)
    for name in ("cover", "up", "down", "rim", "heat"):
        a, b = getattr(quarter, name).sum() * 4.0, getattr(whole, name).sum()
        assert a == pytest.approx(b, rel=1e-9)
    assert whole.heat.sum() == pytest.approx(1.0)
    assert whole.rim.sum() == pytest.approx(rig.bed.perimeter)


def test_bare_faces_of_unlike_outlines() -> None:
    """A mat smaller than the plate under a full foam leaves a closed gap; a smaller sheet leaves the layer below bare."""
    rig = with_bed(make_rig(), heater={**make_rig().bed.heater.model_dump(), "width": 0.18, "depth": 0.18})
    rig = with_outline(with_outline(rig, "mat", width=0.2, depth=0.2), "sheet", width=0.25, depth=0.28)
    plan = plan_of(rig.bed, 40, quarter=True)
    area = rig.bed.area
    up = plan.up.sum(axis=(1, 2)) * plan.cell_area * 4
    gap = plan.gap.sum(axis=(1, 2)) * plan.cell_area * 4
    assert up[0] == pytest.approx(area)  # the film covers everything: the sheet's missing rim is a closed gap
    assert gap[1] == pytest.approx(area - 0.25 * 0.28)
    assert gap[rig.bed.layer_index("mat")] == pytest.approx(area - 0.04)
    stack = build_stack(rig.bed)
    mat = stack.layer == rig.bed.layer_index("mat")
    assert stack.share[mat][0] == pytest.approx(0.04 / area)


def test_full_outlines_change_nothing() -> None:
    rig = make_rig()
    same = with_outline(rig, "mat", width=rig.bed.width, depth=rig.bed.depth)
    a, b = (solve_steady(r, celsius(90.0), celsius(40.0)) for r in (rig, same))
    assert b.surface == pytest.approx(a.surface, abs=1e-6)
    assert b.power == pytest.approx(a.power, rel=1e-6)


def test_round_bed_of_equal_area_is_much_alike() -> None:
    square = with_bed(make_rig(enclosed=False), width=0.3, depth=0.3, heater={**make_rig().bed.heater.model_dump(),
                      "width": 0.25, "depth": 0.25})  # fmt: skip
    size = 0.3 * 2 / np.sqrt(np.pi)
    disc = with_bed(square, shape="round", width=size, depth=size)
    a, b = (solve_steady(r, celsius(90.0), celsius(20.0)) for r in (square, disc))
    assert b.power == pytest.approx(a.power, rel=0.05)
    assert b.surface == pytest.approx(a.surface, abs=0.3)
    solid = surface_history(disc, settings(90.0), 3000.0, cells=16)
    assert abs(solid.closure) < 1e-6
    assert np.isnan(solid.maps[-1][0, 0]), "there is no bed in the corner of a round one"
    assert solid.centre[-1] == pytest.approx(
        heat_up(disc, settings(90.0), Criteria(), with_bands=False).steady.surface, abs=0.5
    )


def test_small_glass_on_a_large_plate_agrees_in_both_models() -> None:
    rig = make_rig(enclosed=False)
    for name in ("film", "sheet", "magnet"):
        rig = with_outline(rig, name, width=0.24, depth=0.24)
    quick = heat_up(rig, settings(90.0), Criteria(), with_bands=False)
    solid = surface_history(rig, settings(90.0), 4000.0, cells=20)
    assert solid.centre[-1] == pytest.approx(quick.at(4000.0, quick.surface), abs=0.5)
    assert solid.power[-1] == pytest.approx(quick.at(4000.0, quick.power), rel=0.05)


def test_zones_move_the_warm_place() -> None:
    left = Zone(outline=Outline(width=0.12, depth=0.25, x=-0.07), share=2.0)
    right = Zone(outline=Outline(width=0.12, depth=0.25, x=0.07), share=1.0)
    rig = make_rig()
    rig = with_bed(rig, heater={**rig.bed.heater.model_dump(), "zones": [left.model_dump(), right.model_dump()]})
    assert not is_symmetric(rig.bed)
    assert rig.bed.heater.area == pytest.approx(0.06)
    solid = surface_history(rig, settings(90.0), 1500.0, cells=12)
    j, i = np.unravel_index(int(solid.maps[-1].argmax()), solid.maps[-1].shape)
    assert solid.x[i] < -0.02
    assert abs(solid.y[j]) < 0.05
    quick = heat_up(rig, settings(90.0), Criteria(), with_bands=False)
    sides = quick.spread.at(np.array([[-0.1, 0.0], [0.1, 0.0]]))
    assert sides[0] > sides[1] + 0.01


def test_even_power_map_is_the_plain_heater_and_an_uneven_one_is_not() -> None:
    rig = make_rig()
    heater = rig.bed.heater.model_dump()
    even = with_bed(rig, heater={**heater, "power_map": ((1.0, 1.0), (1.0, 1.0))})
    np.testing.assert_allclose(
        plan_of(even.bed, 30, quarter=False).heat, plan_of(rig.bed, 30, quarter=False).heat, atol=1e-12
    )
    back = with_bed(rig, heater={**heater, "power_map": ((3.0, 3.0), (1.0, 1.0))})
    plan = plan_of(back.bed, 30, quarter=False)
    assert plan.heat[15:].sum() == pytest.approx(0.75, abs=1e-9), "the first row lies at the back"


def test_bracket_draws_its_watts_and_makes_a_cold_place() -> None:
    rig = make_rig(enclosed=False)
    spot = ContactSpot(kind="bracket", layer="plate", x=0.1, y=-0.1, diameter=0.03, conductance=0.3)
    held = with_bed(rig, spots=[spot.model_dump()])
    a, b = (solve_steady(r, celsius(90.0), celsius(20.0)) for r in (rig, held))
    assert b.power - a.power == pytest.approx(0.3 * (celsius(90.0) - rig.room_temperature), rel=0.02)
    assert b.flows.brackets == pytest.approx(0.3 * (celsius(90.0) - rig.room_temperature), rel=0.02)
    solid = surface_history(held, settings(90.0), 2400.0, cells=14)
    last = solid.maps[-1]
    x, y = np.abs(solid.x - 0.1).argmin(), np.abs(solid.y + 0.1).argmin()
    assert last[y, x] < last[-1 - y, -1 - x] - 1.0
    assert abs(solid.closure) < 1e-6


def test_hole_takes_its_capacity_away() -> None:
    rig = make_rig()
    spot = ContactSpot(kind="hole", layer="plate", x=0.0, y=0.05, diameter=0.06)
    holed = with_bed(rig, spots=[spot.model_dump()])
    a, b = build_stack(rig.bed), build_stack(holed.bed)
    plate = a.layer == rig.bed.layer_index("plate")
    lost = 1.0 - b.capacity[plate].sum() / a.capacity[plate].sum()
    assert lost == pytest.approx(np.pi * 0.03**2 / rig.bed.area, rel=0.03)


def test_resistance_that_rises_costs_power() -> None:
    """A copper trace at 100 °C gives 1/(1 + 0.0039 x 80) of its cold power."""
    rig = make_rig(power=300.0)
    trace = with_bed(rig, heater={**rig.bed.heater.model_dump(), "resistance_coefficient": 0.0039, "kind": "trace"})
    hot = solve_steady(trace, celsius(190.0), celsius(40.0))
    cold = solve_steady(rig, celsius(190.0), celsius(40.0))
    mat = float(hot.cells[build_stack(trace.bed).source > 0.0].mean())
    assert hot.power == pytest.approx(300.0 / (1.0 + 0.0039 * (mat - 293.15)), rel=0.005)
    assert not hot.reachable
    assert cold.power > hot.power + 30.0


@run_with(max_examples=10, deadline=None)
@given(
    scale=st.floats(0.4, 0.98), x=st.floats(-0.02, 0.02), shape=st.sampled_from(["rectangle", "round"]),
    conductance=st.floats(0.0, 0.5), enclosed=st.booleans(),
)  # fmt: skip
def test_any_outlines_conserve_heat_in_both_models(
    scale: float, x: float, shape: str, conductance: float, enclosed: bool
) -> None:
    rig = make_rig(enclosed=enclosed)
    rig = with_bed(rig, heater={**rig.bed.heater.model_dump(), "width": 0.1, "depth": 0.1})
    size = scale * 0.24
    rig = with_outline(rig, "mat", shape=shape, width=size + 0.011, depth=size + 0.011, x=0.0)
    rig = with_outline(rig, "film", shape=shape, width=size, depth=size, x=x)
    rig = with_bed(rig, spots=[ContactSpot(layer="plate", x=0.1, y=0.1, conductance=conductance).model_dump()])
    quick = heat_up(rig, settings(80.0), Criteria(), with_bands=False)
    assert abs(quick.closure) < 1e-6
    assert abs(surface_history(rig, settings(80.0), 300.0, cells=8).closure) < 1e-6


def test_a_layer_over_the_edge_is_refused() -> None:
    with pytest.raises(ValueError, match="larger than"):
        with_outline(make_rig(), "mat", width=0.5, depth=0.2)
    with pytest.raises(ValueError, match="outside the bed"):
        with_bed(make_rig(), spots=[ContactSpot(layer="plate", x=1.0).model_dump()])
