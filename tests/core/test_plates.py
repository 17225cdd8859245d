"""Plates of one's own: sides, wear, coatings, bodies, and how a part comes off them."""

from __future__ import annotations

import math
from dataclasses import replace

import pytest
from pydantic import ValidationError

from mandorla.core.errors import InputError
from mandorla.core.materials.library_data import polymers
from mandorla.core.materials.plate_library import coatings, finishes, plate_bodies, plate_surfaces, side_states
from mandorla.core.materials.values import Value
from mandorla.core.part.plates import OwnGrip, Plate, PlateSide, UseRange, bed_layers_with
from mandorla.core.part.process import Process
from mandorla.core.part.removal import Handling, removal_steps
from mandorla.core.project.migrations import brought_up
from mandorla.core.project.models import SCHEMA_VERSION
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.units import celsius
from tests.core.bundles import small_bundle

TWO_SIDED = Plate(
    key="one", name="Sheet one", body="sheet_with_film", front=PlateSide(surface="polyetherimide_textured", prints=500),
    back=PlateSide(surface="polyetherimide_smooth"),
)  # fmt: skip
TILE = Plate(key="tile", name="Tile", body="mirror_tile", front=PlateSide(surface="mirror_back"))


def process(**change: object) -> Process:
    return Process(polymer="pla", plates=(TWO_SIDED, TILE), plate="one", **change)  # type: ignore[arg-type]


def grip(p: Process) -> float:
    return p.plate_surface().grip[p.polymer].strength.typical


@pytest.mark.parametrize("table", [plate_surfaces, coatings, finishes, side_states, plate_bodies])
def test_every_figure_of_a_plate_has_its_range_and_source(table) -> None:  # type: ignore[no-untyped-def]
    for row in table().values():
        values = [v for name in row.__slots__ if isinstance(v := getattr(row, name), Value)]
        assert all(v.low <= v.typical <= v.high and len(v.source) > 20 for v in values)
        assert row.name


def test_a_clean_plate_holds_better_than_finger_marks_and_those_better_than_a_worn_one() -> None:
    new = replace_side(prints=0)
    clean, marks = grip(new), grip(new.model_copy(update={"plate_state": "finger_marks"}))
    worn = grip(replace_side(worn=1.0))
    assert clean > marks > worn > 0.1 * clean


def replace_side(**change: object) -> Process:
    side = PlateSide.model_validate(TWO_SIDED.front.model_dump() | {"prints": 0} | change)
    return process().model_copy(update={"plates": (TWO_SIDED.model_copy(update={"front": side}), TILE)})


def test_half_of_the_grip_is_gone_at_the_end_of_a_sides_life() -> None:
    life = plate_surfaces()["polyetherimide_textured"].life.typical
    new, old = grip(replace_side()), grip(replace_side(prints=round(life)))
    assert old / new == pytest.approx(0.5, abs=1e-6)
    stated = replace_side(prints=round(life), worn=0.0)
    assert grip(stated) == pytest.approx(new), "what is stated counts, not what is estimated"


def test_what_is_not_known_of_a_side_widens_its_grip() -> None:
    clean = process().plate_surface().grip["pla"].strength
    marks = process(plate_state="finger_marks").plate_surface().grip["pla"].strength
    assert marks.high / marks.low > clean.high / clean.low > 4.0


def test_a_product_of_independent_figures_adds_the_squares_of_its_spreads() -> None:
    a, b = Value(1.0, 2.0, 4.0, "a book"), Value(0.5, 1.0, 2.0, "another")
    p = a.times(b)
    assert p.typical == pytest.approx(2.0)
    assert math.log(p.high / p.typical) == pytest.approx(math.sqrt(2.0) * math.log(2.0))
    assert math.log(p.typical / p.low) == pytest.approx(math.sqrt(2.0) * math.log(2.0))


def test_a_finish_of_its_own_counts_over_the_usual_one_of_the_surface() -> None:
    rough = replace_side(finish="coarse_texture")
    expected = finishes()["coarse_texture"].factor.typical / finishes()["fine_texture"].factor.typical
    assert grip(rough) / grip(replace_side()) == pytest.approx(expected)
    assert rough.plate_surface().texture_depth.typical == finishes()["coarse_texture"].depth.typical


def test_glue_takes_the_surfaces_place_and_lets_no_bond_tear_it() -> None:
    bare = Process(polymer="petg", surface="polyetherimide_smooth")
    glued = Process(polymer="petg", surface="polyetherimide_smooth", coating="glue")
    assert "petg" in bare.plate_surface().too_strong
    assert glued.plate_surface().too_strong == ()
    assert grip(glued) == pytest.approx(coatings()["glue"].grip["petg"].strength.typical)
    weak = Process(polymer="pp", surface="bare_glass")
    assert grip(Process(polymer="pp", surface="bare_glass", coating="glue")) > grip(weak)
    released = Process(polymer="petg", surface="polyetherimide_smooth", coating="mould_release")
    assert grip(released) < 0.5 * grip(bare)


def test_a_coat_that_fills_a_texture_leaves_little_of_its_depth() -> None:
    bare, glued = replace_side(), replace_side().model_copy(update={"coating": "glue"})
    assert glued.plate_surface().texture_depth.typical < 0.5 * bare.plate_surface().texture_depth.typical


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"side": "back", "plate": "tile"}, "has no back"),
        ({"plate": "gone"}, "no plate “gone”"),
        ({"coating": "paint"}, "no coating"),
        ({"plate_state": "wet"}, "no state"),
        ({"polymer": "abs", "plate": "tile", "coating": "dissolved_polymer"}, "dissolves or spoils"),
        ({"coating": "dissolved_polymer"}, "made of the polymer"),
    ],
)  # fmt: skip
def test_what_does_not_go_together_is_refused_in_words(change: dict[str, object], words: str) -> None:
    with pytest.raises(ValidationError, match=words):
        Process.model_validate(process().model_dump() | change)


def test_ranges_that_contradict_and_plates_without_a_side_are_refused() -> None:
    with pytest.raises(ValidationError, match="ends below"):
        UseRange(polymer="pla", lowest=celsius(60), highest=celsius(50))
    row = UseRange(polymer="pla", lowest=celsius(40), highest=celsius(60))
    with pytest.raises(ValidationError, match="two ranges"):
        PlateSide(ranges=(row, row))
    with pytest.raises(ValidationError, match="front"):
        Plate.model_validate({"key": "x", "name": "X"})
    with pytest.raises(ValidationError, match="one side"):
        Plate(key="x", name="X", body="film_on_magnet", front=PlateSide(), back=PlateSide())
    with pytest.raises(ValidationError, match="two plates"):
        Process(plates=(TILE, TILE))


def test_own_figures_of_a_side_replace_the_librarys_with_their_range() -> None:
    own = OwnGrip(polymer="pla", grip=1.5, within=1.2, peak=celsius(62))
    held = replace_side(grips=(own.model_dump(),)).plate_surface().grip["pla"]
    base = replace_side().plate_surface().grip["pla"]
    assert held.strength.typical == pytest.approx(1.5 * base.strength.typical)
    assert held.strength.high / held.strength.low == pytest.approx(1.2**2)
    assert held.peak_temperature.typical == celsius(62)


def test_the_makers_range_of_use_is_what_the_plate_is_judged_by() -> None:
    use = UseRange(polymer="asa", lowest=celsius(60), highest=celsius(85))
    side = PlateSide(surface="polyetherimide_textured", ranges=(use,))
    plate = Plate(key="short", name="Short of heat", front=side)
    base = sample("boathouse")
    data = base.project.process.model_dump() | {"plates": (plate.model_dump(),), "plate": "short"}
    hot = Bundle(base.project.model_copy(update={"process": Process.model_validate(data)}), base.originals)
    rated = Results(hot).get(keys.EVALUATION).judgement.assessed["surface_rating"]
    before = Results(base).get(keys.EVALUATION).judgement.assessed["surface_rating"]
    assert before.state.value == "holds"
    assert rated.state.value == "fails"
    assert rated.checks[0].name == "Short of heat, front"


def test_a_plate_laid_on_the_bed_takes_the_loose_layers_place() -> None:
    bed = sample("boathouse").project.rig.bed
    layers = bed_layers_with(bed, TILE)
    assert [v.material for v in layers][:1] == ["soda_lime_glass"]
    assert layers[0].bonded is False
    loose = next(n + 1 for n, v in enumerate(bed.layers) if not v.bonded)
    assert layers[1:] == bed.layers[loose:]
    changed = bed.model_copy(update={"layers": layers})
    assert type(bed).model_validate(changed.model_dump()) == changed


def test_a_plate_cannot_take_the_place_of_heater_or_sensor() -> None:
    bed = sample("boathouse").project.rig.bed
    top = bed.layers[0].name
    with pytest.raises(InputError, match="Heater or sensor"):
        bed_layers_with(bed.model_copy(update={"sensor": bed.sensor.model_copy(update={"layer": top})}), TILE)
    fixed = tuple(v.model_copy(update={"bonded": True}) for v in bed.layers)
    with pytest.raises(InputError, match="Nothing lies loose"):
        bed_layers_with(bed.model_copy(update={"layers": fixed}), TILE)


def steps(polymer: str, surface: str, body: str, coating: str = "", lets_go: float = math.nan) -> list[str]:
    p = Process(polymer=polymer, surface=surface, coating=coating)
    found = removal_steps(
        Handling.of_body(plate_bodies()[body]), p.plate_surface(), p.on_top.coating, polymers()[polymer], lets_go
    )
    return [f"{s.what} {s.risk}" for s in found]


def test_how_a_part_comes_off_depends_on_plate_polymer_and_coating() -> None:
    tacky = steps("pla", "tacky_pla_petg", "bare_sheet")
    assert any("Warm the plate again" in s for s in tacky)
    assert any("No blade" in s for s in tacky)
    glass = steps("petg", "bare_glass", "ordinary_glass")
    assert not any("freezer" in s for s in glass)
    assert any("never under water or on cold metal" in s for s in glass)
    assert "Next time" in glass[-1]
    assert "pieces of it" in glass[0]
    glued = steps("petg", "bare_glass", "ordinary_glass", "glue")
    assert "lukewarm water" in glued[1]
    assert not any("Next time" in s for s in glued)
    steel = steps("abs", "polyetherimide_textured", "sheet_with_film", lets_go=celsius(48))
    assert "48 °C" in steel[0]
    assert any("freezer" in s for s in steel)
    assert "last resort" in steel[-1]


def test_the_beds_own_top_is_handled_as_what_it_is() -> None:
    bed = sample("boathouse").project.rig.bed
    own = Handling.of_bed(bed)
    assert own.comes_out
    assert own.bends
    fixed = bed.model_copy(update={"layers": tuple(v.model_copy(update={"bonded": True}) for v in bed.layers)})
    assert not Handling.of_bed(fixed).comes_out


def test_what_is_at_hand_is_compared_and_the_present_one_comes_first() -> None:
    base = small_bundle()
    data = base.project.process.model_dump() | {"plates": (TWO_SIDED.model_dump(), TILE.model_dump()), "plate": "one"}
    bundle = Bundle(base.project.model_copy(update={"process": Process.model_validate(data)}), base.originals)
    use = Results(bundle).get(keys.PLATE_USE)
    assert use.curves[0].in_use
    assert use.curves[0].name == "Sheet one, front"
    names = {c.name for c in use.curves}
    assert {"Sheet one, back", "Tile, front", "Sheet one, front, glue film, water-soluble"} <= names
    best = use.curves[0].temperature[use.curves[0].grip[1].argmax()]
    peak = bundle.project.process.plate_surface().grip[bundle.project.process.polymer].peak_temperature.typical
    assert best == pytest.approx(min(peak, use.curves[0].temperature[-1]), abs=2.0)
    e = Results(bundle).get(keys.EVALUATION)
    assert e.conditions is not None
    assert use.rest == pytest.approx(e.conditions.plate_rest)


def test_the_other_side_a_clean_plate_and_coatings_are_levers() -> None:
    base = small_bundle()
    data = base.project.process.model_dump() | {
        "plates": (TWO_SIDED.model_dump(),), "plate": "one", "plate_state": "finger_marks",
    }  # fmt: skip
    bundle = Bundle(base.project.model_copy(update={"process": Process.model_validate(data)}), base.originals)
    found = {v.name for v in Results(bundle).get(keys.CAUSES_AND_LEVERS).levers}
    assert {"Sheet one turned over", "The plate cleaned", "Glue film, water-soluble on the plate"} <= found


def test_glue_as_a_surface_of_an_older_project_becomes_a_coating() -> None:
    data = {
        "schema_version": 5,
        "process": {"surface": "glue_layer"},
        "scenarios": [{"process": {"surface": "glue_layer"}}],
    }
    brought_up(data, SCHEMA_VERSION)
    for found in (data["process"], data["scenarios"][0]["process"]):  # type: ignore[index]
        assert (found["surface"], found["coating"]) == ("bare_glass", "glue")  # type: ignore[index]


def test_a_part_comes_loose_by_itself_below_the_temperature_that_is_told() -> None:
    from mandorla.core.results.plates import lets_go_at
    from mandorla.core.warp.estimate import estimate_warp

    base = small_bundle()
    for polymer, surface in (("abs", "bare_spring_steel"), ("pp", "bare_glass"), ("abs", "bare_glass")):
        p = base.project.process.model_copy(update={"polymer": polymer, "surface": surface})
        e = Results(Bundle(base.project.model_copy(update={"process": p}), base.originals)).get(keys.EVALUATION)
        at = lets_go_at(e)
        if e.warp is None or not e.warp.comes_off:
            assert math.isnan(at)
            continue
        assert e.part is not None
        assert e.conditions is not None
        assert estimate_warp(e.part, replace(e.conditions, room=at - 3.0), with_bands=False).comes_off
        assert not estimate_warp(e.part, replace(e.conditions, room=at + 6.0), with_bands=False).comes_off
