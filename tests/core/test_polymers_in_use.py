"""Every polymer of the library on the same block: what every practitioner knows must come out by itself."""

from __future__ import annotations

from functools import cache

import pytest

from mandorla.core.materials.library_data import polymers
from mandorla.core.materials.plate_library import coatings, plate_surfaces
from mandorla.core.part.process import Placement
from mandorla.core.project.store import Bundle
from mandorla.core.tune.operating_point import foot_on_even_zone
from mandorla.core.units import celsius
from mandorla.core.warp.estimate import WarpEstimate
from tests.core.asked import evaluated, geometry_of
from tests.core.bundles import small_bundle


@cache
def estimate(polymer: str, chamber: float, surface: str = "polyetherimide_smooth", coating: str = "") -> WarpEstimate:
    """A block of 120 x 60 x 20 mm on a plate at 90 °C."""
    bundle = small_bundle()
    project = bundle.project.model_copy(
        update={
            "process": bundle.project.process.model_copy(
                update={"polymer": polymer, "surface": surface, "coating": coating}
            ),
            "settings": bundle.project.settings.model_copy(
                update={"bed_first": celsius(90.0), "bed_rest": celsius(90.0), "chamber": celsius(chamber)}
            ),
        }
    )
    found = evaluated(Bundle(project, bundle.originals)).warp
    assert found is not None
    return found


def test_the_library_reaches_from_pla_to_peek_with_filled_ones() -> None:
    assert len(polymers()) >= 16
    assert {"pla", "peek"} <= set(polymers())
    assert sum("fibre" in p.name for p in polymers().values()) >= 5
    for surface in plate_surfaces().values():
        known = {"pla", "pla_tough", "pla_wood", "petg", "pctg"} if surface.key == "tacky_pla_petg" else set(polymers())
        assert set(surface.grip) == known, surface.key


@pytest.mark.parametrize("polymer", sorted(polymers()))
def test_every_polymer_gives_an_answer(polymer: str) -> None:
    found = estimate(polymer, 60.0)
    assert found.margin > 0.0
    assert 0.0 <= found.printed_lift < 0.1


def test_pla_needs_little_abs_more_pc_more_and_peek_most() -> None:
    margins = [estimate(p, 30.0).margin for p in ("pla", "petg", "abs", "pc")]
    assert margins[0] > margins[2] > margins[3]
    assert margins[1] > margins[2]
    # the hottest ones, each in air that PLA would not survive
    assert estimate("peek", 60.0).margin < estimate("abs", 60.0).margin


@pytest.mark.parametrize("polymer", ["abs", "asa", "abs_gf", "pc", "pc_abs", "hips", "psu", "pei"])
def test_a_warmer_chamber_holds_amorphous_polymers_better(polymer: str) -> None:
    margins = [estimate(polymer, c).margin for c in (30.0, 60.0, 90.0)]
    assert margins == sorted(margins)


@pytest.mark.parametrize(
    ("plain", "filled"),
    [("abs", "abs_gf"), ("pc", "pc_cf"), ("pa12", "pa12_cf"), ("pa6", "pa6_gf"), ("peek", "peek_cf")],
)
def test_fibres_lift_less(plain: str, filled: str) -> None:
    assert estimate(filled, 60.0).printed_lift < estimate(plain, 60.0).printed_lift


def test_glue_helps_what_sticks_badly_and_tames_what_sticks_too_well() -> None:
    assert estimate("pp", 60.0, "bare_glass", coating="glue").margin > estimate("pp", 60.0).margin
    assert (
        coatings()["glue"].grip["pei"].strength.typical
        < plate_surfaces()["polyetherimide_smooth"].grip["pei"].strength.typical
    )


def test_the_even_zone_ends_before_the_edge_of_the_bed() -> None:
    """In the middle the foot lies on it; moved to the edge, less of it does; a wider tolerance takes more in."""
    bundle = small_bundle()
    geometry = geometry_of(bundle)
    assert geometry is not None
    heat = evaluated(bundle).heat
    bed = bundle.project.rig.bed
    middle = foot_on_even_zone(heat, geometry.sections, Placement())
    edge = foot_on_even_zone(heat, geometry.sections, Placement(x=bed.width / 2 - 0.06, y=bed.depth / 2 - 0.03))
    assert middle == 1.0
    assert edge < 0.9
    assert (
        foot_on_even_zone(heat, geometry.sections, Placement(x=bed.width / 2 - 0.06, y=bed.depth / 2 - 0.03), 30.0)
        == 1.0
    )
    shares = [foot_on_even_zone(heat, geometry.sections, Placement(x=x)) for x in (0.0, 0.04, 0.08)]
    assert shares == sorted(shares, reverse=True)
