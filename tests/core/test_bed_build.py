"""Building and levelling a bed: the wire to its heater, how far to turn its screws."""

from __future__ import annotations

from itertools import pairwise
from xml.etree import ElementTree

import numpy as np
import pytest

from mandorla.core.failure.rig_checks import check_rig
from mandorla.core.materials.library_data import bed_materials
from mandorla.core.measure.heights import screw_words
from mandorla.core.part.process import Placement
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle
from mandorla.core.report.bed_drawing import SCALES, bed_drawing, drawing_pdf, drawing_svg, scale_of
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.rig.bed import Bed, HoldMagnet, Outline
from mandorla.core.rig.build_list import (
    AMPACITY,
    RESERVE,
    bill_of_materials,
    conductor,
    cost,
    standard_size,
    standard_text,
    touches_what_moves,
)
from mandorla.core.rig.model import Rig
from mandorla.core.rig.prices import Price
from mandorla.core.rig.settings import Criteria
from mandorla.core.rig.works import works
from mandorla.core.thermal.heatup import heat_up
from mandorla.core.tune.operating_point import fits_on_bed
from mandorla.core.warp.condensed_plate import beam_seat
from mandorla.core.warp.fe_case import hold_of
from mandorla.core.warp.loose_plate import Sheet
from tests.core.rigs import make_rig, settings
from tests.core.solids import of_size


@pytest.mark.parametrize(
    ("rise", "pitch", "raises", "words"),
    [
        (0.000175, 0.0007, False, "¼ turn anticlockwise"),  # an M4 thread rises 0.7 mm a turn
        (0.000175, 0.0007, True, "¼ turn clockwise"),
        (-0.00035, 0.0007, False, "½ turn clockwise"),
        (0.00105, 0.0007, False, "1 ½ turns anticlockwise"),
        (0.0007, 0.0007, False, "1 turn anticlockwise"),
        (0.00001, 0.0007, False, ""),
        (0.0005, 0.0, False, ""),
    ],
)
def test_a_screw_is_turned_by_the_rise_over_its_pitch(rise: float, pitch: float, raises: bool, words: str) -> None:
    assert screw_words(rise, pitch, clockwise_raises=raises) == words


def test_a_wire_carries_its_current_with_a_reserve_and_hot_air_asks_for_more() -> None:
    for size, most in AMPACITY:
        assert conductor(0.99 * most / RESERVE, around=303.15) <= 1e-6 * size + 1e-12
        assert conductor(1.01 * most / RESERVE, around=303.15) != pytest.approx(1e-6 * size)
    cool, warm = conductor(12.0, around=303.15), conductor(12.0, around=353.15)
    assert warm > cool > 0.0
    assert conductor(1000.0) == 0.0
    assert conductor(5.0, around=400.0) == 0.0


def test_the_list_to_buy_names_the_wire_and_leaves_it_to_local_code() -> None:
    for name in ("boathouse", "windowsill", "kiln"):
        rig = sample(name).project.rig
        wire = next(i for i in bill_of_materials(rig) if i.what.startswith("Wire to the heater"))
        assert "mm² copper" in wire.size or "ask an electrician" in wire.size
        assert wire.quantity == 2


def changed(rig: Rig, **bed: object) -> Rig:
    """A rig with another bed."""
    return rig.model_copy(update={"bed": Bed.model_validate(rig.bed.model_dump() | bed)})


def test_every_item_has_a_key_of_its_own_and_known_prices_add_up() -> None:
    for name in ("boathouse", "windowsill", "kiln"):
        items = bill_of_materials(sample(name).project.rig)
        assert len({i.key for i in items}) == len(items)
    items = bill_of_materials(sample("boathouse").project.rig)
    brackets = next(i for i in items if i.key == "brackets")
    total, known = cost(
        items, (Price(item="heater", each=40.0), Price(item="brackets", each=2.5), Price(item="gone", each=9.0))
    )
    assert known == 2
    assert total == pytest.approx(40.0 + 2.5 * brackets.quantity)


def test_a_custom_size_is_cut_from_the_next_usual_one() -> None:
    assert standard_size(Outline(width=0.3, depth=0.3)) is None
    assert standard_size(Outline(width=0.34, depth=0.33)) == (0.35, 0.35)
    assert "cut from 350 × 350 mm (9 % more)" in standard_text(Outline(width=0.34, depth=0.33))
    assert "larger than usual" in standard_text(Outline(width=1.2, depth=0.3))


def test_the_order_of_the_work() -> None:
    steps = [w.what for w in works(sample("boathouse").project.rig)]
    text = " | ".join(steps)
    for first, later in (
        ("Dry-fit", "Bond Magnet"), ("Bond Magnet", "bead of silicone"), ("bead of silicone", "Wire heater"),
        ("Wire heater", "First warm-up"), ("First warm-up", "Full warm-up"),
    ):  # fmt: skip
        assert text.index(first) < text.index(later), (first, later)
    assert "Bond Print film to Flex sheet" in steps
    assert any("never cut" in w.care for w in works(sample("boathouse").project.rig))
    still, moving = (changed(make_rig(), moves=m) for m in (False, True))
    assert touches_what_moves(moving.bed)
    assert not touches_what_moves(still.bed)
    assert "Fit standoffs below the insulation" in [w.what for w in works(moving)]
    assert "standoffs" in {i.key for i in bill_of_materials(moving)}


def test_the_drawing_holds_every_dimension_and_is_true_to_scale() -> None:
    rig = changed(sample("boathouse").project.rig, magnets=(HoldMagnet(x=0.1, y=0.05, force=12.0),))
    scale = scale_of(rig.bed)
    assert scale in SCALES
    svg = drawing_svg(rig)
    root = ElementTree.fromstring(svg)
    words = " ".join("".join(node.itertext()) for node in root.iter() if node.tag.endswith("text"))
    for size in (rig.bed.width, rig.bed.depth, rig.bed.heater.width, rig.bed.heater.depth):
        assert f"{1e3 * size:.4g}" in words
    for layer in rig.bed.layers:
        assert layer.name in words
    assert "never cut" in words
    assert "at 100, 50: 12.0 N" in words
    plate = next(s for s in bed_drawing(rig).contents[2].contents if type(s).__name__ == "Rect")
    assert plate.width * 25.4 / 72.0 * scale == pytest.approx(1e3 * rig.bed.width, rel=1e-6)
    assert drawing_pdf(rig).startswith(b"%PDF")
    round_bed = changed(make_rig(enclosed=False), shape="round", heater=make_rig().bed.heater.model_copy(
        update={"width": 0.15, "depth": 0.15}))  # fmt: skip
    assert b"ellipse" in drawing_svg(round_bed)


def test_single_magnets_pull_with_their_force_and_only_where_they_are() -> None:
    magnets = tuple(HoldMagnet(x=x, y=y, diameter=0.012, force=8.0) for x in (-0.1, 0.1) for y in (-0.1, 0.1))
    hold = hold_of(changed(make_rig(), magnets=magnets).bed)
    assert hold is not None
    line = np.linspace(-0.05, 0.05, 11)
    sheet = Sheet.below(hold, line, line, (0.0, 0.0))
    sheet.w[:] = 1e-5  # just off its seat everywhere: what is left is the pull
    lifted = sheet.seat() * sheet.w
    faint = 50.0 * 1e-5 * 0.3 * 0.28
    assert lifted.sum() == pytest.approx(4 * 8.0 * np.exp(-1e-5 / hold.reach), rel=0.01, abs=2 * faint)
    there = lifted.reshape(sheet.y.size, sheet.x.size)
    assert there[sheet.y.size // 2, sheet.x.size // 2] < 1e-3 * there.max()
    assert sheet.kept == pytest.approx(np.exp(-1e-5 / hold.reach), rel=1e-3)
    seat = beam_seat(hold, 0, 0.06, 0.28, (0.0, 0.0))
    assert float((seat.pull * seat.area).sum()) == pytest.approx(16.0, rel=0.02), "half of them on each side"
    even = hold_of(make_rig().bed)
    assert even is not None
    assert np.ptp(beam_seat(even, 0, 0.06, 0.28, (0.0, 0.0)).pull) == 0.0
    with pytest.raises(ValueError, match="lies outside the bed"):
        changed(make_rig(), magnets=(HoldMagnet(x=0.2, y=0.0),))


def test_a_plate_may_be_larger_than_what_the_nozzle_reaches() -> None:
    rig = make_rig()
    small = rig.model_copy(update={"limits": rig.limits.model_copy(update={"print_width": 0.25, "print_depth": 0.25})})
    part = of_size(0.26, 0.1, 0.02)
    assert fits_on_bed(rig, part.whole, Placement()) == ""
    assert "beyond what the nozzle reaches" in fits_on_bed(small, part.whole, Placement())
    assert "over the edge" in fits_on_bed(small, of_size(0.4, 0.1, 0.02).whole, Placement())


def test_rolled_plate_keeps_a_bow_and_cast_plate_is_milled() -> None:
    rig, use = make_rig(), settings(95.0)
    found = {}
    for material in ("cast_aluminium", "rolled_aluminium"):
        layers = [v.model_dump() | ({"material": material} if v.name == "plate" else {}) for v in rig.bed.layers]
        other = changed(rig, layers=layers)
        heat = heat_up(other, use, Criteria(), with_bands=False)
        found[material] = next(c for c in check_rig(other, use, Criteria(), heat) if c.key == "own-bow")
    assert found["cast_aluminium"].state.value == "holds"
    assert found["rolled_aluminium"].state.value == "marginal"
    flat = bed_materials()["rolled_aluminium"].flatness
    assert flat is not None
    assert (
        f"{1e6 * 0.3 * flat.typical:.0f} µm" in found["rolled_aluminium"].finding
        or "mm" in found["rolled_aluminium"].finding
    )


def test_a_heavier_plate_takes_longer_where_the_drive_is_weak() -> None:
    bundle = sample("boathouse")
    p = bundle.project
    limits = p.rig.limits.model_copy(update={"drive_force": 4.0})
    rig = changed(p.rig.model_copy(update={"limits": limits}), moves=True)
    rows = Results(Bundle(p.model_copy(update={"rig": rig}), bundle.originals)).get(keys.MOVED_MASS)
    assert len(rows) == 4
    for light, heavy in pairwise(rows):
        assert heavy.mass > light.mass
        assert heavy.acceleration * heavy.mass == pytest.approx(4.0)
        assert heavy.duration > light.duration
    assert Results(bundle).get(keys.MOVED_MASS) == ()


def test_a_sheet_wider_than_its_guides_strikes_them() -> None:
    rig, use = make_rig(), settings(95.0)
    heat = heat_up(rig, use, Criteria(), with_bands=False)
    states = []
    for room in (0.0, 0.299, 0.304, 0.33):
        other = rig.model_copy(update={"limits": rig.limits.model_copy(update={"guide_width": room})})
        found = {c.key: c.state.value for c in check_rig(other, use, Criteria(), heat)}
        states.append(found.get("guides"))
    assert states == [None, "fails", "marginal", "holds"]
