"""The gap of the first layer: lines by hand calculation, maps recovered by construction, both failures, the best height."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mandorla.core.errors import InputError
from mandorla.core.failure.chances import deciding_unknowns
from mandorla.core.failure.registry import THERMAL
from mandorla.core.failure.state import State
from mandorla.core.measure.heights import HeightMap
from mandorla.core.part.first_layer import FirstLayer, ProbedMap
from mandorla.core.part.process import Placement, Process
from mandorla.core.part.sections import grid_inside
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.tune.messages import tune_sentence
from mandorla.core.tune.worth import Openers
from mandorla.core.warp.bead import (
    MELTS,
    OVERFILL,
    contact_share,
    contact_width,
    grip_factor,
    line_area,
    line_width,
    parts_at,
    piles_at,
    spacing,
    squeeze_pressure,
)
from mandorla.core.warp.first_layer import factors_at, first_layer_state, gap_map
from tests.core.bundles import small_bundle

WIDTH, HEIGHT = 0.00045, 0.0002
SIZE = (0.3, 0.3)
FLAT = np.zeros((21, 21))
SQUARE = np.array([[-0.1, -0.1], [0.1, -0.1], [0.1, 0.1], [-0.1, 0.1]])


def probed(of) -> HeightMap:  # type: ignore[no-untyped-def]
    x = np.linspace(-0.15, 0.15, 11)
    xx, yy = np.meshgrid(x, x)
    return HeightMap(x, x, of(xx, yy))


def state(first: FirstLayer, probe: HeightMap | None = None, now: np.ndarray = FLAT, texture: float = 0.0):  # type: ignore[no-untyped-def]
    process = Process(layer_height=HEIGHT, line_width=WIDTH, first=first)
    return first_layer_state(process, texture, gap_map(first, SIZE, probe, FLAT, now), SQUARE, Placement())


@given(st.floats(0.0003, 0.001), st.floats(0.2, 0.6))
def test_a_lines_section_keeps_its_area_in_every_gap(width: float, flat: float) -> None:
    """An oblong of width w and height g with round ends has the area (w - g) g + pi g²/4 (hand calculation)."""
    height = flat * width
    area = line_area(width, height)
    gap = np.linspace(0.4, 1.1, 8) * height
    w = line_width(area, gap)
    assert (w - gap) * gap + math.pi * gap**2 / 4.0 == pytest.approx(area)
    assert contact_width(area, gap) == pytest.approx(w - gap)
    assert line_width(area, np.array([height]))[0] == pytest.approx(width)


def test_the_pressure_under_the_nozzle_is_that_of_squeeze_flow() -> None:
    """Against Reynolds' equation on a grid, solved step by step while a strip of constant section spreads under the force."""
    area, end, viscosity, time = line_area(WIDTH, HEIGHT), 0.6 * HEIGHT, 800.0, 0.015
    pressure = squeeze_pressure(area, end, viscosity, time)
    force = pressure * area / end
    steps, inner = 4000, 199
    # p'' = -1 on a grid, nought at both edges: the shape of the pressure, summed once
    laplacian = 2.0 * np.eye(inner) - np.eye(inner, k=1) - np.eye(inner, k=-1)
    summed = float(np.linalg.solve(laplacian, np.ones(inner)).sum())
    gap = math.sqrt(4.0 * area / math.pi)
    for _ in range(steps):
        dx = area / gap / (inner + 1)
        resisted = 12.0 * viscosity / gap**3 * summed * dx**3  # N/m at a closing speed of one
        gap -= force / resisted * time / steps
    assert gap == pytest.approx(end, rel=0.01)
    assert squeeze_pressure(area, 1.01 * math.sqrt(4.0 * area / math.pi), viscosity, time) == 0.0


def test_where_lines_do_not_pile_up_the_extruder_is_not_held_back() -> None:
    """A melt as thick as they come is pressed to the narrowest allowed gap by less than a MPa: the commanded volume lies there."""
    area = line_area(WIDTH, HEIGHT)
    thick = squeeze_pressure(area, piles_at(HEIGHT, 0.0), MELTS[1], WIDTH / 0.03)
    assert squeeze_pressure(area, HEIGHT, MELTS[1], WIDTH / 0.03) < thick < 1e6


def test_lines_part_where_their_width_falls_to_their_spacing() -> None:
    gap = parts_at(WIDTH, HEIGHT)
    assert gap > HEIGHT
    assert float(line_width(line_area(WIDTH, HEIGHT), np.array(gap))) == pytest.approx(spacing(WIDTH, HEIGHT))
    # by hand: s = 0.45 - 0.2146 * 0.2 = 0.40708 mm, A = 0.081416 mm², 0.2146 g² - 0.40708 g + 0.081416 = 0, g = 0.2272 mm
    assert gap == pytest.approx(0.2272e-3, abs=2e-7)


def test_a_line_that_never_parts_is_lost_where_it_turns_round() -> None:
    width, height = 0.00022, 0.0002
    gap = parts_at(width, height)
    assert gap <= math.sqrt(4.0 * line_area(width, height) / math.pi) + 1e-12
    assert contact_width(line_area(width, height), np.array(gap)) >= 0.0


def test_grip_is_nominal_in_the_nominal_gap_and_falls_with_it() -> None:
    gap = np.array([0.15, 0.2, 0.21, 0.22, 0.25]) * 1e-3
    factor = grip_factor(WIDTH, HEIGHT, 0.0, gap)
    assert factor[1] == pytest.approx(1.0)
    assert (np.diff(factor) < 0.0).all()
    share = float(contact_share(WIDTH, HEIGHT, 0.0, np.array(HEIGHT)))
    by_hand = (line_area(WIDTH, HEIGHT) / HEIGHT - math.pi / 4.0 * HEIGHT) / spacing(WIDTH, HEIGHT)
    assert share == pytest.approx(by_hand)


def test_a_textured_side_forgives_gaps_that_a_smooth_one_does_not() -> None:
    first = FirstLayer(offset=0.000045)
    smooth, textured = state(first), state(first, texture=0.00014)
    assert smooth.too_far < 0.0 < textured.too_far
    near = FirstLayer(offset=-0.00006)
    assert state(near).too_near < 0.0 < state(near, texture=0.00014).too_near
    assert piles_at(HEIGHT, 0.0) == pytest.approx((1.0 - OVERFILL) * HEIGHT)


def test_a_made_up_map_is_recovered_in_the_gap() -> None:
    hill = probed(lambda x, y: 2e-4 * x / 0.15 + 1e-4 * (y / 0.15) ** 2)
    made = gap_map(FirstLayer(), SIZE, hill, FLAT, FLAT)
    places = np.array([[0.15, 0.0], [-0.15, 0.0], [0.0, 0.15], [0.0, 0.0], [0.06, -0.09]])
    expected = -(2e-4 * places[:, 0] / 0.15 + 1e-4 * (places[:, 1] / 0.15) ** 2)
    assert made.at(places) == pytest.approx(expected, abs=3e-6)


def test_what_the_machine_follows_is_not_in_the_gap() -> None:
    hill = probed(lambda x, y: 3e-4 * x / 0.15)
    half = gap_map(FirstLayer(compensated=0.5), SIZE, hill, FLAT, FLAT)
    full = gap_map(FirstLayer(compensated=1.0), SIZE, hill, FLAT, FLAT)
    place = np.array([[0.15, 0.0]])
    assert half.at(place)[0] == pytest.approx(-1.5e-4)
    assert full.at(place)[0] == pytest.approx(0.0, abs=1e-12)


def test_bow_since_the_map_counts_even_where_the_machine_follows_it() -> None:
    n = np.linspace(-1.0, 1.0, 21)
    dome = 2e-4 * (2.0 - n[:, None] ** 2 - n[None, :] ** 2) / 2.0
    made = gap_map(FirstLayer(compensated=1.0), SIZE, probed(lambda x, y: 0.0 * x), FLAT, dome)
    assert made.at(np.array([[0.15, 0.15]]))[0] == pytest.approx(2e-4, rel=1e-6)
    assert made.within > gap_map(FirstLayer(), SIZE, None, FLAT, FLAT).within


def test_a_plate_on_a_stop_is_near_there_and_far_across() -> None:
    s = state(FirstLayer(seat="rear left", seat_height=0.0003))
    assert s.narrowest_at == "rear-left"
    assert s.widest_at == "front-right"
    # 0.3 mm along the diagonal of the bed, of which the part covers two thirds
    assert s.widest - s.narrowest == pytest.approx(0.0003 * 2.0 / 3.0, rel=1e-6)


def test_the_best_height_puts_both_margins_at_the_same_distance() -> None:
    first = FirstLayer(offset=0.00004, seat="front left", seat_height=0.00003)
    before = state(first)
    after = state(first.model_copy(update={"offset": first.offset + before.best}))
    assert after.too_far == pytest.approx(after.too_near, abs=0.06), "but for the step of a hundredth"
    low, high = before.allowed
    assert low < before.best < high
    for end, margin in ((low, "too_near"), (high, "too_far")):
        at = state(first.model_copy(update={"offset": first.offset + end}))
        assert getattr(at, margin) == pytest.approx(0.0, abs=1e-6)


def test_a_slope_beyond_what_lines_forgive_leaves_no_height() -> None:
    s = state(FirstLayer(seat="front left", seat_height=0.0004))
    assert s.allowed[0] > s.allowed[1]
    assert min(s.too_far, s.too_near) < 0.0


def test_a_worn_tip_and_heat_bring_the_nozzle_nearer() -> None:
    plain = state(FirstLayer())
    assert state(FirstLayer(tip_lower=0.00002)).narrowest == pytest.approx(plain.narrowest - 0.00002)
    grown = state(FirstLayer(growth=0.00003))
    assert grown.widest == pytest.approx(plain.widest - 0.00003)


def test_a_map_of_another_bed_is_refused() -> None:
    far = HeightMap(np.linspace(-0.3, 0.3, 5), np.linspace(-0.3, 0.3, 5), np.zeros((5, 5)))
    with pytest.raises(InputError, match="another bed"):
        gap_map(FirstLayer(), SIZE, far, FLAT, FLAT)
    small = HeightMap(np.linspace(-0.03, 0.03, 5), np.linspace(-0.03, 0.03, 5), np.zeros((5, 5)))
    with pytest.raises(InputError, match="another bed"):
        gap_map(FirstLayer(), SIZE, small, FLAT, FLAT)


def test_the_outlines_points_lie_inside_with_its_corners() -> None:
    points = grid_inside(SQUARE)
    assert (np.abs(points) <= 0.1 + 1e-12).all()
    assert all((np.abs(points - corner).sum(axis=1) < 1e-12).any() for corner in SQUARE)
    leaning = grid_inside(SQUARE @ np.array([[0.8, 0.6], [-0.6, 0.8]]))
    assert 0.4 < len(leaning) / len(points) < 0.6, "a square on its corner fills half of its box, and a little more"


def with_first(base: Bundle, first: FirstLayer | None, **files: bytes) -> Bundle:
    process = base.project.process.model_copy(update={"first": first})
    return Bundle(base.project.model_copy(update={"process": process}), {**base.originals, **files})


def test_nothing_is_judged_where_nothing_is_known() -> None:
    j = Results(small_bundle()).get(keys.EVALUATION).judgement
    assert "first_too_far" not in j.counted
    assert Results(small_bundle()).get(keys.FIRST_LAYER_SHOWN) is None


def test_both_failures_are_part_of_the_one_judgement() -> None:
    base = small_bundle()
    plain = Results(base).get(keys.EVALUATION)
    far = Results(with_first(base, FirstLayer(offset=0.0003))).get(keys.EVALUATION)
    near = Results(with_first(base, FirstLayer(offset=-0.0002))).get(keys.EVALUATION)
    right = Results(with_first(base, FirstLayer(offset_within=1e-6))).get(keys.EVALUATION)
    assert far.judgement.assessed["first_too_far"].state is State.FAILS
    assert far.judgement.assessed["first_too_near"].state is State.HOLDS
    assert near.judgement.assessed["first_too_near"].state is State.FAILS
    assert right.judgement.assessed["first_too_far"].state is State.HOLDS
    assert far.judgement.whole is State.FAILS
    assert far.judgement.assessed["first_too_far"].begins.layer == 1
    assert plain.warp is not None
    assert far.warp is not None
    assert right.warp is not None
    assert far.warp.margin < 0.7 * plain.warp.margin, "a corner hardly touched holds less"
    assert right.warp.margin == pytest.approx(plain.warp.margin)


def test_the_chance_follows_what_is_known_of_the_nozzles_height() -> None:
    base = small_bundle()
    chances = [
        Results(with_first(base, FirstLayer(offset_within=w))).get(keys.EVALUATION).judgement.assessed["first_too_far"].probability
        for w in (1e-5, 3e-5, 1e-4)
    ]  # fmt: skip
    assert chances == sorted(chances)
    assert chances[0] < 1e-4 < 0.1 < chances[2]


def test_the_full_simulation_feels_the_gap_place_by_place() -> None:
    base = small_bundle()
    full = keys.FULL_RUN.of(resolution="draft", bodies="all")
    plain = Results(base).get(full)
    tilted = Results(with_first(base, FirstLayer(seat="rear left", seat_height=0.0004))).get(full)
    assert tilted.hold_margin < plain.hold_margin


def test_a_height_map_of_a_session_is_what_the_gap_is_made_from() -> None:
    base = sample("boathouse")
    session = next(s for s in base.project.measurements.sessions if s.heights)
    stored = session.heights[0]
    first = FirstLayer(probed=ProbedMap(
        name="map", map=stored.file, state=stored.state, unit=stored.unit, width=stored.width, depth=stored.depth,
        rear_first=stored.rear_first,
    ))  # fmt: skip
    bundle = with_first(base, first)
    assert stored.file in bundle.project.originals()
    gaps = Results(bundle).get(keys.GAP_MAP)
    assert gaps is not None
    assert set(gaps.parts) == {"plate", "bow"}
    shown = Results(bundle).get(keys.FIRST_LAYER_SHOWN)
    assert shown is not None
    assert [look.where.split(",")[0] for look in shown.looks] == ["widest", "as meant", "narrowest"]
    assert shown.looks[0].gap >= shown.looks[2].gap
    smooth, this, coarse = (v for _, v in shown.forgives)
    assert this == pytest.approx(shown.state.parts - max(shown.state.piles, 0.0))
    assert smooth < coarse
    # a texture moves both limits by half its depth, until there is always room below
    assert coarse - smooth == pytest.approx(min(1e-4, 0.5e-4 + (1.0 - 0.2) * shown.state.nominal))


def test_the_nozzles_best_height_is_a_lever() -> None:
    base = with_first(small_bundle(), FirstLayer(offset=0.00006))
    found = Results(base).get(keys.CAUSES_AND_LEVERS).levers
    nudge = next(v for v in found if v.name.startswith("Nozzle 0.0") and "nearer" in v.name)
    e = Results(base).get(keys.EVALUATION)
    assert nudge.chance < e.judgement.anything


def test_nothing_known_is_a_factor_of_one() -> None:
    assert factors_at(Process(), 0.0, None, np.zeros((3, 2))).tolist() == [1.0, 1.0, 1.0]


def test_what_decides_the_gap_and_the_test_that_tells_are_named() -> None:
    j = Results(with_first(small_bundle(), FirstLayer(offset=0.00005))).get(keys.EVALUATION).judgement
    unknown = deciding_unknowns(j.assessed["first_too_far"])[0]
    assert unknown.name == "gap of the first layer"
    assert "one layer of squares" in unknown.test


def test_a_map_of_temperatures_counts_what_no_temperature_changes() -> None:
    base = small_bundle()
    wrong = with_first(base, FirstLayer(offset=0.0004))
    e = Results(wrong).get(keys.EVALUATION)
    chance, way = e.judgement.beside_temperature
    assert way == "first_too_far"
    assert chance > 0.9
    window = Results(wrong).get(keys.WINDOW)
    assert not window.almond.any()
    assert window.chance.min() > 0.9
    assert window.binding == "first layer too far"
    plain = Results(base).get(keys.EVALUATION)
    assert plain.judgement.beside_temperature == (0.0, "")
    thermal = set(e.judgement.counted) - {"first_too_far", "first_too_near", "placement"}
    assert all(THERMAL & set(e.judgement.counted[k].levers) for k in thermal), "each other way names a lever of the map"
    said = tune_sentence(
        window, e.judgement, (), Openers(base.project.settings, 1.0, ()), base.project.rig, base.project.settings
    )
    assert said.startswith("No temperature helps while the gap at the")
