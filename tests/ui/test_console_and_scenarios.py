"""The console on every stage, undo of every kind of edit, pinned scenarios, units, theme."""

from __future__ import annotations

import csv
import weakref
from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QPushButton

from mandorla.core.failure.state import State
from mandorla.core.results.keys import SCENARIO
from mandorla.core.units import OFF, celsius
from mandorla.ui.document import Document
from mandorla.ui.preferences import Preferences, load_preferences
from mandorla.ui.stages.registry import STAGES
from mandorla.ui.theme.palette import LIGHT
from mandorla.ui.widgets.console import Verdict
from tests.core.bundles import small_bundle
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui


def verdict(hands: Hands, name: str) -> str:
    return hands.window.console.verdicts[name].value.text()


def test_console_is_on_every_stage_and_its_verdicts_are_filled(hands: Hands) -> None:
    for number in range(1, len(STAGES) + 1):
        hands.stage(number)
        for name, item in hands.window.console.verdicts.items():
            assert item.isVisible()
            assert item.value.text() not in ("", "–"), name
    assert verdict(hands, "Surface, centre").endswith("°C")
    assert "kWh" in verdict(hands, "Energy, cost")


def test_only_a_closed_machine_has_a_chamber(hands: Hands) -> None:
    remark = hands.window.console.verdicts["Ready in"].remark
    assert remark.text().startswith("chamber ")
    hands.document.edit("rig.chamber.enclosed", False, "enclosure")
    hands.bot.waitUntil(lambda: remark.text().startswith("air "), timeout=20000)


def test_rail_shows_eight_stages_and_no_others(hands: Hands) -> None:
    assert [b.text() for b in hands.window.rail.buttons.values()] == [
        "Rig",
        "Heat-up",
        "Verify",
        "Part",
        "Warp",
        "Tune",
        "Run",
        "Logbook",
    ]


def test_an_edit_refreshes_the_verdicts(hands: Hands) -> None:
    before = verdict(hands, "Surface, centre")
    stepper = hands.window.console.steppers["settings.bed_first"]
    with hands.bot.waitSignal(hands.window.console.refreshed, timeout=5000):
        hands.click(stepper.up)
    assert verdict(hands, "Surface, centre") != before
    assert hands.document.project.settings.bed_first == pytest.approx(celsius(101.0))


def test_the_bed_is_switched_off_and_on_again_by_steps_and_by_the_word(hands: Hands) -> None:
    stepper = hands.window.console.steppers["settings.bed_rest"]
    hands.type_into(stepper.editor, "16 °C")
    stepper.editor.setFocus()
    hands.press("Down")
    hands.press("Down")
    assert hands.document.project.settings.bed_rest == OFF
    assert stepper.editor.text() == "off"
    hands.quick()
    hands.press("Up")
    assert hands.document.project.settings.bed_rest == pytest.approx(celsius(15))
    hands.type_into(stepper.editor, "off")
    assert hands.document.project.settings.bed_rest == OFF
    hands.quick()
    assert verdict(hands, "Coldest under part").endswith("°C")


def test_keys_step_and_stop_at_the_limits(hands: Hands) -> None:
    editor = hands.window.console.steppers["settings.fan"].editor
    editor.setFocus()
    for key, expected in (
        (Qt.Key.Key_Up, 0.05),
        (Qt.Key.Key_PageUp, 0.30),
        (Qt.Key.Key_Down, 0.25),
        (Qt.Key.Key_PageDown, 0.0),
    ):
        hands.bot.keyClick(editor, key)
        assert hands.document.project.settings.fan == pytest.approx(expected)
    hands.bot.keyClick(editor, Qt.Key.Key_Down)
    assert hands.document.project.settings.fan == 0.0


@pytest.mark.parametrize(("text", "word"), [
    ("abc", "“abc” is not a number"), ("", "not a number"), ("-300", "outside"), ("nan", "not a number"), ("1e9", "outside"),
    ("60 kg", "does not fit"),
])  # fmt: skip
def test_refused_input_is_explained_and_changes_nothing(hands: Hands, text: str, word: str) -> None:
    editor = hands.window.console.steppers["settings.chamber"].editor
    before = hands.document.project
    editor.setFocus()
    editor.selectAll()
    if text:
        hands.bot.keyClicks(editor, text)
    else:
        hands.bot.keyClick(editor, Qt.Key.Key_Delete)
    hands.bot.keyClick(editor, Qt.Key.Key_Return)
    assert word in hands.message
    assert hands.document.project is before
    assert not hands.document.undo_stack.canUndo()
    assert editor.property("refused") is True
    # Escape puts the stored value back
    hands.bot.keyClick(editor, Qt.Key.Key_Escape)
    assert editor.text() == "50.0 °C"
    assert editor.property("refused") is False


def test_every_kind_of_edit_is_undone_exactly(hands: Hands) -> None:
    d = hands.document
    start = d.project
    hands.click(hands.window.console.steppers["settings.soak_time"].up)
    hands.stage(1)
    hands.type_into(hands.page.stack_view.section.editor(3), "6")
    hands.click(hands.page.stack_view.add_button)
    hands.click(hands.page.stack_view.up_button)
    hands.stage(4)
    hands.type_into(hands.field("process.walls"), "5")
    hands.type_into(hands.field("part.placement.x"), "20")
    hands.stage(6)
    hands.click(hands.page.pin_button)
    end = d.project
    assert end != start
    count = d.undo_stack.count()
    assert count == 7
    hands.stage(4)
    hands.field("process.walls").setFocus()  # undo works wherever the focus is
    for _ in range(count):
        hands.press("Ctrl+Z")
    assert d.project == start
    for _ in range(count):
        d.undo_stack.redo()
    assert d.project == end


def test_project_name_and_currency_are_edited_in_place(hands: Hands) -> None:
    hands.type_into(hands.window.title, "Cradle, second try")
    assert hands.document.project.name == "Cradle, second try"
    assert "Cradle, second try" in hands.window.windowTitle()
    hands.window.title.selectAll()
    hands.bot.keyClick(hands.window.title, Qt.Key.Key_Delete)
    hands.bot.keyClick(hands.window.title, Qt.Key.Key_Return)
    assert hands.document.project.name == "Cradle, second try"
    assert "at least 1 character" in hands.message
    hands.bot.keyClick(hands.window.title, Qt.Key.Key_Escape)
    hands.stage(1)
    tabs = hands.page.stack_view.tabs.tabBar()
    hands.click(tabs, tabs.tabRect(2).center())
    hands.type_into(hands.field("criteria.currency"), "kr")
    hands.quick()
    assert verdict(hands, "Energy, cost").endswith("kr")


def test_quick_steps_of_one_field_undo_together(hands: Hands, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("mandorla.ui.document._MERGE_SECONDS", 60.0)  # a slow machine's clicks are quick ones, too
    up = hands.window.console.steppers["settings.bed_rest"].up
    for _ in range(4):
        hands.click(up)
    assert hands.document.project.settings.bed_rest == pytest.approx(celsius(104.0))
    hands.press("Ctrl+Z")
    assert hands.document.project.settings.bed_rest == pytest.approx(celsius(100.0))


def test_two_scenarios_are_pinned_and_compared_difference_first(hands: Hands, tmp_path: Path) -> None:
    hands.stage(6)
    hands.settled()
    hands.click(hands.page.pin_button)
    hands.type_into(hands.window.console.steppers["settings.chamber"].editor, "70")
    hands.quick()
    hands.click(hands.page.pin_button)
    hands.quick()
    hands.bot.waitUntil(lambda: all(hands.result(SCENARIO.of(scenario=n)) is not None for n in "AB"), timeout=60000)
    hands.settled()
    rows = hands.page.comparison_texts
    assert rows[0][0] != rows[-1][0]
    differs = [len(set(texts[1:])) > 1 for texts in rows]
    assert differs == sorted(differs, reverse=True), "rows that differ come first"
    chamber = next(r for r in rows if r[0] == "Chamber")
    assert chamber[1:] == ["50 °C", "70 °C", "70 °C"]
    # the pinned figures are those of a fresh evaluation at those settings
    margin = next(r for r in rows if r[0] == "Hold margin")
    assert margin[2] == margin[3]
    assert margin[1] != margin[2]
    hands.page.save(tmp_path / "scenarios.csv")
    with (tmp_path / "scenarios.csv").open(encoding="utf-8", newline="") as file:
        saved = list(csv.reader(file))
    assert saved[0] == ["", "A", "B", "Now"]
    assert saved[1:] == rows
    third = next(b for b in hands.page.findChildren(QPushButton) if b.accessibleName() == "Forget scenario A")
    hands.click(third)
    assert [s.name for s in hands.document.project.scenarios] == ["B"]


def test_scenarios_of_a_passive_machine_have_no_chamber_set_point(hands: Hands) -> None:
    hands.document.edit("rig.chamber.heater_power", 0.0, "chamber heater")
    hands.stage("tune")
    hands.bot.waitUntil(lambda: hands.page.pin_button.isVisible(), timeout=20000)
    hands.click(hands.page.pin_button)
    hands.bot.waitUntil(lambda: len(hands.page.comparison_texts) > 0, timeout=20000)
    chamber = next(r for r in hands.page.comparison_texts if r[0] == "Chamber")
    assert chamber[1:] == ["not heated", "not heated"]


def test_a_complaint_goes_once_its_fault_is_mended(hands: Hands) -> None:
    editor = hands.window.console.steppers["settings.chamber"].editor
    hands.type_into(editor, "1e9")
    assert "outside" in hands.message
    hands.stage("warp")
    assert "outside" in hands.message, "looking elsewhere does not mend it"
    hands.type_into(editor, "55")
    assert hands.message == ""


def test_a_fifth_pin_is_refused_and_drops_none(hands: Hands) -> None:
    hands.stage("tune")
    hands.settled()
    for _ in range(5):
        hands.click(hands.page.pin_button)
    assert [s.name for s in hands.document.project.scenarios] == ["A", "B", "C", "D"]
    assert "remove one of them first" in hands.message


def test_units_change_what_is_shown_and_not_what_is_stored(hands: Hands) -> None:
    before = hands.document.project
    hands.window.appearance.switches["fahrenheit"].trigger()
    hands.window.appearance.switches["inches"].trigger()
    assert verdict(hands, "Surface, centre").endswith("°F")
    assert hands.window.console.steppers["settings.chamber"].editor.text() == "122.0 °F"
    hands.stage(4)
    hands.settled()
    assert " in" in hands.sentence
    assert hands.document.project is before
    hands.type_into(hands.window.console.steppers["settings.chamber"].editor, "140")
    assert hands.document.project.settings.chamber == pytest.approx(celsius(60.0))
    again = load_preferences()
    assert again.fahrenheit
    assert again.inches


def test_dark_theme_reaches_every_stage(open_window: Callable[..., Hands]) -> None:
    hands = open_window(preferences=Preferences(dark=True))
    for number in range(1, len(STAGES) + 1):
        hands.stage(number)
        picture = hands.window.grab().toImage()
        light = sum(picture.pixelColor(x, y).lightness() for x in range(5, 1200, 40) for y in range(5, 700, 40))
        assert light / (30 * 18) < 110, f"stage {number} is not dark"
    hands.press("Ctrl+D")
    assert hands.window.grab().toImage().pixelColor(640, 20).lightness() > 180


def test_figures_have_names_for_screen_readers(hands: Hands) -> None:
    console = hands.window.console
    assert console.verdicts["Hold margin"].accessibleName().startswith("Hold margin: ")
    assert console.steppers["settings.fan"].up.accessibleName() == "raise Part fan"
    for button in hands.window.rail.buttons.values():
        assert button.accessibleName()


def test_a_rig_without_chamber_heater_says_so_on_the_console(hands: Hands) -> None:
    hands.document.edit("rig.chamber.heater_power", 0.0, "chamber heater")
    hands.quick()
    stepper = hands.window.console.steppers["settings.chamber"]
    assert not stepper.isEnabled()
    assert stepper.caption.text() == "Chamber"
    assert stepper.editor.text() == "not heated"


def test_states_that_no_step_needs_are_let_go(qapp: QApplication) -> None:
    """Two hundred steps can be taken back; what a dropped or merged step held does not stay in memory."""
    document = Document(small_bundle(), None, Preferences().units)
    first = document.project
    for n in range(230):
        document.edit("settings.soak_time", 60.0 + n, "soak")
        document.edit("settings.fan", 0.001 * n, "fan")
    assert document.undo_stack.count() == 200
    assert len(document._history._states) == 200
    for _ in range(200):
        document.undo_stack.undo()
    assert not document.undo_stack.canUndo()
    assert document.project != first, "what lies further back is gone"
    for _ in range(150):
        document.undo_stack.redo()
    document.edit("settings.fan", 0.9, "fan")
    assert document.undo_stack.count() == 151
    assert len(document._history._states) == 151
    between = weakref.ref(document.project)
    document.edit("settings.fan", 0.8, "fan")  # merges: the state between is nobody's
    document.edit("settings.fan", 0.7, "fan")
    assert document.undo_stack.count() == 151
    document.undo_stack.undo()
    document.undo_stack.redo()
    assert document.project.settings.fan == 0.7
    assert all(between() is not after.project for _, after in document._history._states.values())


def test_a_remark_that_is_too_long_leaves_its_state_to_the_mark(qapp: QApplication) -> None:
    verdict = Verdict("Fails first")
    verdict.resize(178, 62)
    verdict.show_verdict("Nothing", "4 % anything fails", State.HOLDS, LIGHT)
    assert verdict.remark.text() == "holds · 4 % anything fails"
    verdict.show_verdict("Nothing", "under 1 % anything fails", State.HOLDS, LIGHT)
    assert verdict.remark.text() == "under 1 % anything fails"
    assert "holds" in verdict.accessibleName()
    verdict.resize(90, 62)
    verdict.show_verdict("Nothing", "under 1 % anything fails", State.HOLDS, LIGHT)
    assert verdict.remark.text().endswith("…")
