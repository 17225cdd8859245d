"""The quick warp estimate: what must hold whatever the figures, and what engineers see on their machines."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mandorla.core.failure.ways.soft_foot import foot_margin
from mandorla.core.materials.library_data import polymers
from mandorla.core.part.mesh import turned
from mandorla.core.part.print_time import plan_print
from mandorla.core.part.process import Placement, Process
from mandorla.core.part.sections import slice_solid
from mandorla.core.project.samples import sample
from mandorla.core.tune.operating_point import prepare_part
from mandorla.core.units import celsius
from mandorla.core.warp.adhesion import OPENS
from mandorla.core.warp.estimate import FAR, FLOORS, Conditions, PartToPrint, WarpEstimate, estimate_warp, prepare
from mandorla.core.warp.estimate import history_of as history_of_part
from mandorla.core.warp.fe_case import PrintedPart, full_run
from mandorla.core.warp.fe_model import Boxes
from mandorla.core.warp.unknowns import CHAMBER, EXPANSION, GRIP, MOVED, PLATE, STIFFNESS, moved
from tests.core.bodies import block as standing_block
from tests.core.solids import block, box_sections, mesh_of


def part_of(
    size: tuple[float, float, float] = (0.12, 0.06, 0.02), blocks: int | None = None, **process: object
) -> PartToPrint:
    p = Process(**{"polymer": "abs", "surface": "polyetherimide_smooth", "infill": 0.4, **process})
    sections = box_sections(*size)
    plan = plan_print(sections, p)
    return prepare(sections, plan, p) if blocks is None else prepare(sections, plan, p, blocks)


def at(plate: float = 100.0, chamber: float = 60.0, fan: float = 0.0, corner: float | None = None) -> Conditions:
    corner = plate - 2.0 if corner is None else corner
    return Conditions(
        plate_first=celsius(plate), plate_rest=celsius(plate), corner_plate=np.full(4, celsius(corner)),
        chamber=celsius(chamber), fan=fan, room=celsius(22.0),
    )  # fmt: skip


def run(part: PartToPrint | None = None, where: Conditions | None = None, *, bands: bool = False) -> WarpEstimate:
    return estimate_warp(part or part_of(), where or at(), with_bands=bands)


def test_no_expansion_no_warp() -> None:
    part = part_of()
    dead = replace(part, polymer=replace(part.polymer, expansion=replace(part.polymer.expansion, typical=0.0)))
    w = run(dead)
    assert w.printed_lift == pytest.approx(0.0, abs=1e-12)
    assert w.released_lift == pytest.approx(0.0, abs=1e-9)
    assert w.crack_index == 0.0
    assert np.isnan(w.let_go_height)


def test_a_warmer_chamber_helps_hold_lift_and_crack() -> None:
    cold, warm = run(where=at(chamber=30.0)), run(where=at(chamber=85.0))
    assert warm.margin > cold.margin
    assert warm.printed_lift < cold.printed_lift
    assert warm.crack_index < cold.crack_index


def test_grip_falls_away_from_its_peak_on_both_sides() -> None:
    best = run(where=at(plate=108.0, corner=108.0)).margin
    assert run(where=at(plate=108.0, corner=85.0)).margin < best
    assert run(where=at(plate=108.0, corner=140.0)).margin < best


def test_longer_parts_lift_more_and_taller_ones_pull_harder() -> None:
    short, long = run(part_of((0.06, 0.04, 0.02))), run(part_of((0.24, 0.04, 0.02)))
    assert long.released_lift > short.released_lift
    low, tall = run(part_of((0.12, 0.06, 0.006))), run(part_of((0.12, 0.06, 0.04)))
    assert tall.margin < low.margin


def test_less_infill_pulls_less() -> None:
    assert run(part_of(infill=0.15)).margin > run(part_of(infill=1.0)).margin


def test_the_fan_makes_it_worse() -> None:
    assert run(where=at(fan=1.0)).margin < run(where=at(fan=0.0)).margin


def test_a_brim_holds_the_corner_down() -> None:
    bare, brim = run(part_of()), run(part_of(brim=0.01))
    assert brim.margin > bare.margin
    assert brim.printed_lift < bare.printed_lift


def test_demand_grows_while_the_part_grows_and_names_the_layer() -> None:
    part = part_of((0.2, 0.1, 0.05), infill=1.0, polymer="pc")
    w = run(part, at(plate=90.0, corner=90.0, chamber=25.0))
    assert w.margin < 1.0
    assert np.isfinite(w.let_go_height)
    before = w.height < w.let_go_height
    assert np.all(w.demand[before] <= w.capacity[before])
    assert w.let_go_layer == part.plan.layer_at(w.let_go_height + 1e-9, part.process.layer_height)


def test_a_part_turned_by_a_quarter_gives_the_same() -> None:
    p = Process(polymer="abs", surface="polyetherimide_smooth", infill=0.4)
    mesh = mesh_of(block(120.0, 60.0, 20.0))
    results = []
    for degrees in (0, 90, 180, 270):
        sections = slice_solid(turned(mesh, degrees))
        results.append(run(prepare(sections, plan_print(sections, p), p)))
    for other in results[1:]:
        assert other.margin == pytest.approx(results[0].margin, rel=1e-9)
        assert other.released_lift == pytest.approx(results[0].released_lift, rel=1e-9)


def test_equal_corners_get_equal_verdicts_and_the_coldest_is_weakest() -> None:
    w = run()
    assert len({round(c.margin, 12) for c in w.corners}) == 1
    uneven = at()
    uneven = replace(uneven, corner_plate=np.array([celsius(98.0), celsius(90.0), celsius(97.0), celsius(96.0)]))
    w = run(where=uneven)
    assert w.weakest == 1
    assert w.corners[1].lift == pytest.approx(w.printed_lift)


@pytest.mark.parametrize("unknown", [n for n in MOVED if n not in (PLATE, CHAMBER)])
def test_what_is_not_known_of_a_polymer_does_not_change_how_it_cools(unknown: str) -> None:
    """Bands take the temperatures of the print from the estimate that they belong to."""
    part = part_of()
    there, where = moved(part, at(), {unknown: 1.0})
    known, own = history_of_part(part, at()), history_of_part(there, where)
    for name in ("landing", "end", "age"):
        assert np.array_equal(getattr(known, name), getattr(own, name))


@pytest.mark.parametrize(
    "size", [(0.16, 0.02, 0.02), (0.2, 0.15, 0.012), (0.08, 0.08, 0.06)], ids=["bar", "plate", "cube"]
)
def test_more_lumps_change_little(size: tuple[float, float, float]) -> None:
    standard, fine = run(part_of(size)), run(part_of(size, blocks=112))
    assert standard.margin == pytest.approx(fine.margin, rel=0.05)
    assert standard.released_lift == pytest.approx(fine.released_lift, rel=0.05)


@settings(max_examples=25, deadline=None)
@given(
    st.floats(0.03, 0.3), st.floats(0.02, 0.2), st.floats(0.004, 0.08), st.floats(50.0, 120.0), st.floats(20.0, 90.0),
    st.sampled_from(["pla", "petg", "abs", "asa", "pc", "pa6_gf"]),
)  # fmt: skip
def test_bands_and_probabilities_are_ordered(
    length: float, width: float, height: float, plate: float, chamber: float, polymer: str
) -> None:
    size = (round(length, 3), round(width, 3), round(height, 3))
    w = run(part_of(size, polymer=polymer), at(plate, chamber), bands=True)
    assert 0.0 <= w.hold_probability <= 1.0
    assert (w.hold_probability >= 0.5) == (w.margin >= 1.0)
    for figure, value in (("lift", w.printed_lift), ("released", w.released_lift), ("crack", w.crack_index)):
        low, high = w.band(figure, value)
        assert low <= value <= high
    assert w.margin > 0.0
    if w.margin < FAR:
        assert w.spread("margin") > 0.3  # grip alone is known to a factor of two only
    assert np.all(np.isfinite(w.demand))
    assert np.all(w.healed <= 1.0)


def test_shares_add_up_to_the_spread_and_grip_dominates() -> None:
    w = run(where=at(chamber=25.0), bands=True)
    shares = w.spreads["margin"]
    assert np.sqrt(sum(v * v for v in shares.values())) == pytest.approx(w.spread("margin"))
    known = {k: v for k, v in shares.items() if "model" not in k}
    assert max(known, key=lambda k: abs(known[k])) == "grip on the plate"
    # hotter air and a better grip help, a stiffer and a more shrinking polymer do not
    assert shares["chamber temperature"] > 0.0 > shares["thermal expansion"]


@pytest.mark.parametrize(
    ("size", "chamber"), [((0.12, 0.06, 0.02), 35.0), ((0.18, 0.04, 0.025), 50.0), ((0.07, 0.06, 0.04), 60.0)]
)
def test_the_quick_estimate_follows_the_full_simulation(size: tuple[float, float, float], chamber: float) -> None:
    """Shapes that the calibration has not seen: lift and flatness within a factor of 1.6 of the full simulation on a rigid plate,
    and whether the grip fails."""
    part, where = part_of(size), at(chamber=chamber)
    bed = sample("boathouse").project.rig.bed
    rigid = bed.model_copy(update={"layers": tuple(x.model_copy(update={"bonded": True}) for x in bed.layers)})
    hot = float(where.corner_plate[0])
    full = full_run(
        PrintedPart(part, where, standing_block(*size), rigid, Placement(), lambda p: np.full(len(p), hot)),
        Boxes("draft"),
    )
    quick = run(part, where)
    assert 1 / 1.6 < quick.printed_lift / full.printed_lift < 1.6
    assert 1 / 1.6 < abs(quick.released_lift) / full.released_lift < 1.6
    assert (quick.margin > 1.0) is (full.hold_margin > 1.0)
    assert 1 / 2.0 < quick.crack_index / float(full.crack.max()) < 2.0


def test_thin_and_tall_parts_carry_their_warning() -> None:
    assert any("thin flat" in n for n in run(part_of((0.2, 0.15, 0.005))).notes)
    assert any("tips it late" in n for n in run(part_of((0.006, 0.006, 0.15))).notes)


# ---- what the print history flags
def history_of(polymer: str, plate: float, side: float = 0.06, height: float = 0.03, least: float = 8.0):
    process = Process(polymer=polymer, minimum_layer_time=least, speed=0.2, flow_limit=8e-8)
    part = prepare_part(box_sections(side, side, height), process)
    hot = celsius(plate)
    return estimate_warp(
        part, Conditions(hot, hot, np.full(4, hot), celsius(30.0), 0.0, celsius(22.0)), with_bands=False
    )


def test_a_plate_above_softening_leaves_the_foot_soft_and_says_so() -> None:
    warm, hot = history_of("pla", 52.0, least=120.0), history_of("pla", 75.0, least=120.0)
    assert warm.soft_base == 0.0
    assert 0.0 < hot.soft_base < 0.03
    assert any("stays above its softening" in n for n in hot.notes)
    assert not any("stays above its softening" in n for n in warm.notes)


def test_short_layers_land_on_soft_polymer_and_long_ones_do_not() -> None:
    short, long = history_of("pla", 52.0, side=0.012, least=1.0), history_of("pla", 52.0, side=0.012, least=240.0)
    assert np.isfinite(short.soft_landing)
    assert any("sag" in n for n in short.notes)
    assert np.isnan(long.soft_landing)


def test_layers_meet_half_way_between_fresh_and_laid() -> None:
    w = history_of("asa", 95.0)
    deposition = polymers()["asa"].deposition_temperature.typical
    np.testing.assert_allclose(w.contact, 0.5 * (w.landing + deposition))


def test_a_grip_that_opens_without_failing_is_noted() -> None:
    found = {side: history_of("asa", 92.0, side=side, height=0.03) for side in (0.01, 0.02, 0.04, 0.08, 0.15, 0.3)}
    opening = {s: w for s, w in found.items() if 1.0 < w.margin < OPENS}
    assert 0 < len(opening) < len(found), {s: w.margin for s, w in found.items()}
    for side, w in found.items():
        assert any("opens at the corners" in n for n in w.notes) is (side in opening)


def test_a_foot_far_above_softening_flows_and_one_a_little_above_does_not() -> None:
    """WLF from the viscosity at the softening temperature: 46 K above PLA flows in an hour, 12 K above ABS does not in ten."""
    pla, school = history_of("pla", 105.0, least=60.0), history_of("abs", 117.0, least=60.0)
    assert foot_margin(pla.foot_strain, pla.soft_base) < 0.0
    assert 0.0 < school.soft_base < 0.006
    assert foot_margin(school.foot_strain, school.soft_base) > 0.0
    assert history_of("abs", 95.0).foot_strain == 0.0


@pytest.mark.parametrize("chamber", [30.0, 70.0])
def test_what_is_scaled_is_what_would_be_computed(chamber: float) -> None:
    """Grip, expansion and stiffness take their changes from what is known: the same as a whole estimate of the moved part."""
    part, where = part_of(), at(chamber=chamber)
    base = run(part, where, bands=True)
    for unknown in (GRIP, EXPANSION, STIFFNESS):
        other = estimate_warp(*moved(part, where, {unknown: 1.0}), with_bands=False)
        for n, (name, now, before) in enumerate((
            ("margin", min(other.margin, FAR), min(base.margin, FAR)), ("lift", other.printed_lift, base.printed_lift),
            ("released", abs(other.released_lift), abs(base.released_lift)), ("crack", other.crack_index, base.crack_index),
        )):  # fmt: skip
            ratio = max(now, FLOORS[n]) / max(before, FLOORS[n])
            assert base.spreads[name][unknown] == pytest.approx(math.log(ratio), abs=1e-9)
