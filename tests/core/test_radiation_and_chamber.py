"""Radiation in the box, the two airs, panels, fresh air, the door and the room's course."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import settings as run_with
from hypothesis import strategies as st

from mandorla.core.rig.chamber import SIDES, Panel, PanelLayer, Panels, panel_of, panels_of
from mandorla.core.rig.model import Rig
from mandorla.core.rig.room import Room
from mandorla.core.rig.settings import Criteria
from mandorla.core.thermal.heatup import heat_up, march, time_steps
from mandorla.core.thermal.ledger import from_bed, from_chamber, given_in
from mandorla.core.thermal.network import EXHAUST, FRAME, LEAK, VENTS, Outside, conductances, surroundings
from mandorla.core.thermal.radiation import (
    box_exchange_areas,
    grey_exchange,
    parallel_view_factor,
    perpendicular_view_factor,
)
from mandorla.core.thermal.steady import solve_steady
from mandorla.core.units import celsius
from tests.core.rigs import make_rig, settings

UNIT = (0.0, 1.0)


def changed(rig: Rig, **updates: object) -> Rig:
    return rig.model_copy(update={"chamber": rig.chamber.model_copy(update=updates)})


def test_unit_cube_view_factors() -> None:
    assert parallel_view_factor((UNIT, UNIT), (UNIT, UNIT), 1.0) == pytest.approx(0.19982, abs=5e-6)
    assert perpendicular_view_factor((UNIT, UNIT), (UNIT, UNIT)) == pytest.approx(0.20004, abs=5e-6)


def test_displaced_rectangles_agree_with_numerical_integration() -> None:
    """The closed forms against a midpoint sum of cos cos / (pi r^2) over both areas."""
    n = 40
    m = (np.arange(n) + 0.5) / n
    x, y = np.meshgrid(0.3 * m, 0.1 + 0.2 * m, indexing="ij")
    u, v = np.meshgrid(0.5 + 0.4 * m, -0.2 + 0.3 * m, indexing="ij")
    X, Y, U, V = (a.ravel() for a in (x, y, u, v))
    z = 0.35
    r2 = (X[:, None] - U) ** 2 + (Y[:, None] - V) ** 2 + z * z
    total = (z * z / (np.pi * r2**2)).mean(axis=1).mean() * 0.4 * 0.3
    found = parallel_view_factor(((0.0, 0.3), (0.1, 0.3)), ((0.5, 0.9), (-0.2, 0.1)), z)
    assert found == pytest.approx(total, rel=2e-3)
    # perpendicular: x from the common line on the first plane, U from it on the second
    r2 = X[:, None] ** 2 + U**2 + (Y[:, None] - V) ** 2
    total = (X[:, None] * U / (np.pi * r2**2)).mean(axis=1).mean() * 0.4 * 0.3
    found = perpendicular_view_factor(((0.0, 0.3), (0.1, 0.3)), ((0.5, 0.9), (-0.2, 0.1)))
    assert found == pytest.approx(total, rel=2e-3)


@given(st.floats(0.3, 1.2), st.floats(0.3, 1.2), st.floats(0.3, 1.5), st.floats(0.2, 0.9), st.floats(0.1, 0.8))
def test_box_closes_and_is_reciprocal(width: float, depth: float, height: float, part: float, level: float) -> None:
    bed = (part * width, part * depth)
    direct = box_exchange_areas(width, depth, height, bed, level * height)
    np.testing.assert_allclose(direct, direct.T, atol=1e-12)
    areas = [width * height] * 2 + [depth * height] * 2 + [width * depth] * 2 + [bed[0] * bed[1]] * 2
    np.testing.assert_allclose(direct.sum(axis=1), areas, rtol=1e-6)
    assert direct.min() >= -1e-12


def test_grey_exchange_of_two_plates_and_of_a_small_body() -> None:
    """Large parallel plates 1/(1/e1 + 1/e2 - 1); a small convex body in an enclosure (Incropera eq. 13.24, 13.26)."""
    plates = grey_exchange(np.array([[0.0, 1.0], [1.0, 0.0]]), np.ones(2), np.array([0.8, 0.3]))
    assert plates[0, 1] == pytest.approx(1.0 / (1 / 0.8 + 1 / 0.3 - 1.0), rel=1e-7)
    body = grey_exchange(np.array([[0.0, 0.2], [0.2, 4.8]]), np.array([0.2, 5.0]), np.array([0.7, 0.4]))
    assert body[0, 1] == pytest.approx(0.2 / (1 / 0.7 + 0.2 / 5.0 * (1 / 0.4 - 1.0)), rel=1e-7)


def test_bed_in_a_large_black_box_radiates_as_into_the_open() -> None:
    rig = changed(make_rig(), width=4.0, depth=4.0, height=4.0)
    s = surroundings(rig, 0.9, 0.9)
    assert s.exchange[6].sum() == pytest.approx(0.9 * rig.bed.area, rel=0.01)
    assert s.exchange[6, 7] < 1e-4 * rig.bed.area, "the faces see each other by reflections only"


def test_foil_inside_keeps_the_radiation_in() -> None:
    rig = make_rig()
    bright = {side: getattr(rig.chamber.panels, side).model_copy(update={"foil": True}) for side in SIDES}
    a = surroundings(rig, 0.9, 0.9).exchange[6].sum()
    b = surroundings(changed(rig, panels=Panels(**bright)), 0.9, 0.9).exchange[6].sum()
    assert b < 0.75 * a


def test_panel_builds_and_their_resistance() -> None:
    assert panel_of("single").resistance == pytest.approx(0.004 / 0.19)
    double = panel_of("double")
    # ISO 6946: 12 mm of closed air between dull sheets is worth about 0.15 m²K/W
    assert double.resistance == pytest.approx(0.006 / 0.19 + 0.126, abs=0.012)
    lined = Panel(
        layers=(PanelLayer(material="rigid_foam", thickness=0.02), PanelLayer(material="sheet_steel", thickness=0.001))
    )
    assert lined.resistance == pytest.approx(0.8, rel=0.001)
    assert lined.emissivity_inside == pytest.approx(0.9)


def test_six_panels_each_count_for_themselves() -> None:
    """Insulating the roof raises its inner face and cuts what it lets through; the floor stays."""
    rig = make_rig()
    panels = rig.chamber.panels.model_copy(update={"roof": panel_of("foam_lined")})
    plain = solve_steady(rig, celsius(100.0), celsius(40.0))
    lined = solve_steady(changed(rig, panels=panels), celsius(100.0), celsius(40.0))
    assert lined.flows.panels[-1] < 0.35 * plain.flows.panels[-1]
    assert lined.nodes[3 + 5] > plain.nodes[3 + 5] + 5.0
    assert lined.air > plain.air + 1.0


def test_warm_air_gathers_above_and_a_fan_mixes_it() -> None:
    rig = changed(make_rig(chamber_heater=400.0), heater_air="upper", bed_height=0.3)
    still = solve_steady(rig, celsius(60.0), celsius(55.0))
    stirred = solve_steady(changed(rig, circulation_flow=0.03), celsius(60.0), celsius(55.0))
    assert still.air > still.lower_air + 3.0
    assert abs(stirred.air - stirred.lower_air) < 0.5 * (still.air - still.lower_air)


def test_fresh_air_by_leak_vent_exhaust_and_door() -> None:
    rig = changed(make_rig(), vent_area=0.004, exhaust_flow=0.01, exhaust_fraction=0.5)
    s = surroundings(rig, 0.9, 0.9)
    x = np.full(15, celsius(50.0))
    closed = conductances(celsius(90.0), celsius(60.0), celsius(80.0), x, Outside(celsius(20.0), 0.0, 0.0), s).fresh
    opened = conductances(celsius(90.0), celsius(60.0), celsius(80.0), x, Outside(celsius(20.0), 1.0, 0.0), s).fresh
    warm = s.air_heat * rig.room_temperature / celsius(50.0)  # of the air that leaves
    assert closed[LEAK] == pytest.approx(warm * rig.chamber.air_changes * rig.chamber.volume)
    assert closed[EXHAUST] == pytest.approx(warm * 0.005)
    # two openings of 20 cm² in series, 0.5 m apart, 30 K: 0.6 A/sqrt(2) sqrt(2 g H dT/T)
    assert closed[VENTS] == pytest.approx(
        s.air_heat * 0.6 * 0.002 / np.sqrt(2) * np.sqrt(2 * 9.80665 * 0.5 * 30 / 293.15), rel=1e-6
    )
    # a door of 0.45 x 0.40 m, 30 K: Cd/3 W sqrt(g dT/T H^3)
    wanted = 0.6 / 3 * 0.45 * np.sqrt(9.80665 * 30 / 293.15 * 0.4**3)
    assert opened[3] == pytest.approx(s.air_heat * wanted, rel=1e-6)
    assert closed[3] == 0.0


def test_door_open_for_a_while_cools_the_chamber_and_it_recovers() -> None:
    rig = make_rig(chamber_heater=400.0)
    door = rig.chamber.door.model_copy(update={"opens_at": 3000.0, "open_for": 120.0})
    steps = time_steps(5400.0)
    time = np.r_[0.0, np.cumsum(steps)]
    marched = march(changed(rig, door=door), settings(80.0, 50.0), steps)
    air, ledger = marched.run.air, marched.run.ledger
    before, during, after = (float(np.interp(t, time, air)) for t in (2990.0, 3115.0, 5390.0))
    assert during < before - 8.0
    assert after == pytest.approx(before, abs=0.6)
    assert ledger.door > 5e3
    put_in = given_in(ledger)
    assert put_in - sum(from_chamber(ledger).values()) - marched.stored == pytest.approx(0.0, abs=1e-6 * put_in)


def test_room_that_swings_and_room_from_a_log() -> None:
    swing = Room(kind="daily", swing=4.0, warmest=15 * 3600.0, start=3 * 3600.0)
    np.testing.assert_allclose(swing.course(290.0, np.array([0.0, 12 * 3600.0])), [286.0, 294.0])
    log = Room(kind="log", log=((0.0, 277.15), (600.0, 283.15)))
    np.testing.assert_allclose(log.course(290.0, np.array([-5.0, 300.0, 900.0])), [277.15, 280.15, 283.15])
    rig = make_rig().model_copy(update={"room": log})
    assert rig.start_temperature == pytest.approx(277.15)
    heat = heat_up(rig, settings(80.0, 40.0), Criteria(), with_bands=False)
    assert heat.surface[0] == pytest.approx(277.15)
    assert abs(heat.closure) < 1e-6
    for bad in (((0.0, 280.0), (0.0, 281.0)), ((0.0, 280.0), (5.0, 900.0)), ((0.0, 280.0),)):
        with pytest.raises(ValueError, match="log"):
            Room(kind="log", log=bad)


def test_cold_draft_from_one_side() -> None:
    """An air conditioner that blows on an open bed: more power, a lower surface."""
    rig = make_rig(enclosed=False)
    blown = rig.model_copy(update={"draft": 1.0, "room": Room(draft_cooler=8.0, draft_from="left")})
    calm_state, state = (solve_steady(r, celsius(80.0), celsius(20.0)) for r in (rig, blown))
    assert state.power > 1.2 * calm_state.power
    assert state.surface < calm_state.surface - 0.5
    assert state.air == pytest.approx(rig.room_temperature - 8.0)
    heat = heat_up(blown, settings(80.0), Criteria(), with_bands=False)
    left, right = heat.spread.at(np.array([[-0.13, 0.0], [0.13, 0.0]]))
    assert left < right - 0.01


@run_with(max_examples=25, deadline=None)
@given(
    builds=st.lists(st.sampled_from(["single", "double", "pane", "steel", "foam_lined", "wool_lined", "blanket", "tent"]),
                    min_size=6, max_size=6),
    vent=st.floats(0.0, 0.02), exhaust=st.floats(0.0, 0.02), mixing=st.floats(0.0, 0.05), level=st.floats(0.1, 0.7),
    heater=st.sampled_from([0.0, 500.0, 2000.0]), above=st.booleans(),
)  # fmt: skip
def test_balance_closes_for_any_chamber(builds: list[str], vent: float, exhaust: float, mixing: float, level: float,
                                        heater: float, above: bool) -> None:  # fmt: skip
    panels = Panels(**{side: panel_of(b) for side, b in zip(SIDES, builds, strict=True)})
    rig = changed(
        make_rig(), panels=panels, vent_area=vent, exhaust_flow=exhaust, exhaust_fraction=0.7, circulation_flow=mixing,
        bed_height=level, heater_power=heater, heater_air="upper" if above else "lower",
    )  # fmt: skip
    marched = march(rig, settings(110.0, 70.0), time_steps(3600.0))
    put_in = given_in(marched.run.ledger)
    assert abs(put_in - sum(from_chamber(marched.run.ledger).values()) - marched.stored) < 1e-6 * put_in
    state = solve_steady(rig, celsius(110.0), celsius(70.0))
    flows = state.flows
    assert given_in(flows) == pytest.approx(sum(from_chamber(flows).values()), rel=1e-4)
    assert flows.bed == pytest.approx(sum(from_bed(flows).values()), rel=1e-6)


def test_panels_of_one_build() -> None:
    assert panels_of("tent").each() == (panel_of("tent"),) * 6


def test_a_frame_without_a_surface_changes_nothing_and_is_as_warm_as_the_air() -> None:
    """The steady state has a solution, and it is the limit of ever smaller surfaces."""
    rig = make_rig()
    none, small = (
        rig.model_copy(update={"chamber": rig.chamber.model_copy(update={"internal_area": area})})
        for area in (0.0, 1e-4)
    )
    found, near = (solve_steady(r, celsius(90.0), celsius(40.0)) for r in (none, small))
    assert found.surface == pytest.approx(near.surface, abs=0.01)
    assert found.air == pytest.approx(near.air, abs=0.01)
    assert found.power == pytest.approx(near.power, rel=1e-3)
    assert found.lower_air - 1.0 < found.nodes[FRAME] < found.air + 1.0
    heat = heat_up(none, settings(90.0, 40.0), Criteria(), with_bands=False)
    assert np.isfinite(heat.frame).all()
