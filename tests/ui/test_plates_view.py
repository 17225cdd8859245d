"""Plates: choosing, adding, turning over and putting one on the machine, with mouse and keyboard."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from mandorla.core.part.plates import Plate
from mandorla.core.project.samples import sample
from mandorla.core.results import keys
from mandorla.core.units import celsius
from tests.ui.conftest import Hands


@pytest.fixture
def hands(open_window: Callable[..., Hands]) -> Hands:
    """The demo at its plates."""
    found = open_window(sample("boathouse"))
    found.stage("part")
    found.view("plates")
    found.wait_for(keys.PLATE_USE.of(units=found.document.units))
    return found


def plates(hands: Hands) -> tuple[Plate, ...]:
    return hands.document.project.process.plates


def test_the_plate_in_use_is_said_with_its_best_temperature(hands: Hands) -> None:
    assert "Slipway sheet, front: holds best at" in hands.sentence
    assert len(hands.page.view.plot.series) >= 4
    assert hands.page.view.steps.texts[0][0].startswith("Wait until")


def test_the_worn_side_holds_less_and_the_sentence_says_why(hands: Hands) -> None:
    before = hands.evaluation.warp.margin
    hands.choose("process.plate", "old-sheet")
    hands.wait_for(keys.PLATE_USE.of(units=hands.document.units))
    assert hands.evaluation.warp.margin < 0.75 * before
    assert "Wear has left" in hands.sentence
    hands.choose("process.side", "back")
    hands.wait_for(keys.PLATE_USE.of(units=hands.document.units))
    assert "Old sheet, back" in hands.sentence
    assert hands.evaluation.warp.margin > before
    hands.press("Ctrl+Z")
    hands.press("Ctrl+Z")
    hands.quick()
    assert hands.document.project.process.plate == "slipway"
    assert hands.evaluation.warp.margin == pytest.approx(before)


def test_a_coating_that_spoils_the_surface_is_refused_in_words(hands: Hands) -> None:
    hands.choose("process.plate", "green-sheet")
    hands.bot.waitUntil(lambda: "No grip is known" in hands.sentence, timeout=5000)
    hands.choose("process.coating", "spray")
    hands.press("Down")
    assert "dissolves or spoils" in hands.message
    assert hands.document.project.process.coating == "spray"


def test_a_plate_is_added_described_and_removed(hands: Hands) -> None:
    editor = hands.page.view.editor
    count = len(plates(hands))
    editor.body.setCurrentIndex(editor.body.findData("tempered_glass"))
    hands.click(editor.add_button)
    assert len(plates(hands)) == count + 1
    new = plates(hands)[-1]
    assert new.body == "tempered_glass"
    assert new.back is not None
    base = f"process.plates.{count}"
    hands.type_into(hands.field(f"{base}.name"), "Ferry glass")
    hands.type_into(hands.field(f"{base}.front.prints"), "12")
    hands.type_into(hands.field(f"{base}.front.worn"), "30 %")
    assert plates(hands)[-1].front.worn == pytest.approx(0.3)
    worn = hands.field(f"{base}.front.worn")
    worn.setFocus()
    worn.selectAll()
    hands.press("Delete")
    hands.press("Return")
    assert plates(hands)[-1].front.worn is None
    assert (plates(hands)[-1].name, plates(hands)[-1].front.prints) == ("Ferry glass", 12)
    hands.click(hands.button("Add range of use", editor))
    hands.type_into(hands.field(f"{base}.front.ranges.0.highest"), "90 °C")
    assert plates(hands)[-1].front.ranges[0].highest == pytest.approx(celsius(90))
    hands.click(editor.sides["back"])
    hands.type_into(hands.field(f"{base}.back.prints"), "3")
    assert plates(hands)[-1].back.prints == 3
    hands.click(editor.remove_button)
    assert len(plates(hands)) == count


def test_the_plate_in_use_can_be_removed_and_the_surface_of_the_library_counts_then(hands: Hands) -> None:
    editor = hands.page.view.editor
    hands.click(editor.remove_button)
    process = hands.document.project.process
    assert process.plate == ""
    assert "slipway" not in {p.key for p in process.plates}
    assert process.plate_name == "PEI coat, textured"


def test_a_plate_is_put_on_the_machine(hands: Hands) -> None:
    hands.choose("process.plate", "chart-glass")
    hands.click(hands.page.view.put_on)
    layers = hands.document.project.rig.bed.layers
    assert layers[0].material == "soda_lime_glass"
    assert layers[0].thickness == pytest.approx(0.005)
    hands.quick()
    assert hands.evaluation.heat.steady.surface < celsius(100.0)
    hands.press("Ctrl+Z")
    assert hands.document.project.rig.bed.layers[0].material == "polyetherimide_film"
