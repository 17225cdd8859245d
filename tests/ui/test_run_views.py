"""The run sheet and the cool-down, driven as a person drives them."""

from __future__ import annotations

import math
from collections.abc import Callable
from pathlib import Path

import pytest

import mandorla.core.results.run as results_of_run
from mandorla.core.results.keys import COOL_DOWN
from mandorla.core.run.model import StepEdit
from mandorla.core.run.noticed import Noticed
from mandorla.core.run.plant import Watched
from mandorla.core.runtime import RunContext
from tests.core.bundles import small_bundle
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui


@pytest.fixture
def sheet(open_window: Callable[..., Hands]) -> Hands:
    """A project with a part, at the run sheet."""
    hands = open_window(small_bundle())
    hands.stage("run")
    hands.settled()
    return hands


def test_steps_have_clock_times_that_follow_the_start_and_edits_are_kept(sheet: Hands, tmp_path: Path) -> None:
    view = sheet.page.stage_page.view_of("sheet")
    titles = [row[0] for row in view.table.rows]
    assert any("Level and map hot" in t for t in titles)
    sheet.type_into(view.at, "2026-11-27 16:30")
    sheet.settled()
    assert "Fri 16:30" in sheet.sentence
    row = next(k for k, t in enumerate(titles) if "Seat the plate" in t)
    view.table.selectRow(row)
    assert "Until:" in view.words.text()
    sheet.click(view.done)
    sheet.settled()
    assert view.table.rows[row][0].startswith("☑")
    sheet.type_into(view.who, "Ada")
    sheet.settled()
    assert sheet.document.project.run_plan.edit("seat") == StepEdit(key="seat", done=True, who="Ada")
    sheet.click(sheet.window.undo_button)
    sheet.click(sheet.window.undo_button)
    sheet.settled()
    assert sheet.document.project.run_plan.edit("seat") == StepEdit(key="seat")
    view.save(tmp_path / "sheet.md")
    assert "16:30" in (tmp_path / "sheet.md").read_text(encoding="utf-8")
    view.save(tmp_path / "sheet.odt")
    assert "not written as" in sheet.message


def test_a_time_that_is_none_is_refused_in_words_and_nothing_is_lost(sheet: Hands) -> None:
    view = sheet.page.stage_page.view_of("sheet")
    sheet.type_into(view.at, "next Tuesday")
    assert sheet.document.project.run_plan.at == ""
    assert "date and time" in (sheet.message + view.at.toolTip())


def test_spools_tell_when_they_run_out_and_what_is_missing(sheet: Hands) -> None:
    view = sheet.page.stage_page.view_of("sheet")
    sheet.click(view.spools.add_button)
    sheet.type_into(sheet.field("run_plan.spools.0.left"), "20 g")
    sheet.settled()
    assert "runs out" in view.spool_note.text()
    assert "missing" in sheet.sentence
    sheet.click(view.spools.remove_button)
    sheet.settled()
    assert "missing" not in sheet.sentence


def test_the_cool_down_says_when_it_may_be_held_and_a_ramp_makes_it_later(sheet: Hands) -> None:
    sheet.view("cool")
    sheet.settled()
    view = sheet.page.stage_page.view_of("cool")
    off = sheet.document.results.value(COOL_DOWN)
    assert off is not None
    assert "may be held after" in sheet.sentence
    assert {name for name, *_ in view.curves.series} == {"plate", "part, mean", "chamber"}
    before = view.moments.figures[0].value
    sheet.type_into(sheet.field("run_plan.ramp"), "0.5 K/min")
    sheet.settled()
    ramped = sheet.document.results.value(COOL_DOWN)
    assert ramped is not None
    assert ramped.fastest < off.fastest
    assert view.moments.figures[0].value != before


def test_a_sliced_file_is_held_against_the_plan_and_a_corrected_copy_is_as_planned(
    sheet: Hands, tmp_path: Path
) -> None:
    p = sheet.document.project
    wrong, copy = tmp_path / "tray.gcode", tmp_path / "tray-planned.gcode"
    wrong.write_text(
        "M141 S50\nM140 S60\nM190 S60\nM191 S50\nM109 S250\nM83\nG1 Z0.3 F600\nG1 X10 E0.5 F1800\nG1 Z0.6\nG1 X0 E0.5\n",
        encoding="utf-8",
    )
    sheet.view("file")
    sheet.settled()
    view = sheet.page.stage_page.view_of("file")
    assert "Open the file" in sheet.sentence
    view.open(wrong)
    sheet.bot.waitUntil(lambda: "Not to be printed" in sheet.sentence, timeout=10000)
    assert [row[1] for row in view.table.rows][:2] == ["2", "3"]
    assert all(row[0].startswith("Bed") for row in view.table.rows[:2])
    view.save_corrected(wrong)
    assert "beside the file" in sheet.message
    view.save_corrected(copy)
    view.open(copy)
    sheet.bot.waitUntil(lambda: copy.name in sheet.sentence and "read" not in sheet.sentence, timeout=10000)
    assert not any(row[1] in ("2", "3") for row in view.table.rows)
    view.save_block("preamble", tmp_path / "start.gcode")
    assert f"M190 S{p.settings.bed_first - 273.15:.0f}" in (tmp_path / "start.gcode").read_text(encoding="utf-8")
    empty = tmp_path / "empty.gcode"
    empty.write_text("; nothing\n", encoding="utf-8")
    view.open(empty)
    sheet.bot.waitUntil(lambda: "lays nothing" in sheet.sentence, timeout=10000)
    view.open(tmp_path / "gone.gcode")
    assert "cannot be read" in sheet.message


def test_what_a_watch_notices_is_worked_out_when_asked_for(
    open_window: Callable[..., Hands], monkeypatch: pytest.MonkeyPatch
) -> None:
    asked = []

    def stand_in(watched: Watched, run: RunContext) -> tuple[Noticed, ...]:
        asked.append(watched)
        return Noticed("relay-on", "heat", math.inf, False), Noticed("draught", "rest", 1.5, False)

    monkeypatch.setattr(results_of_run, "noticed", stand_in)
    hands = open_window(small_bundle())
    hands.stage("run")
    hands.view("noticed")
    hands.settled()
    view = hands.page.stage_page.view_of("noticed")
    assert not asked
    assert not view.drawn
    assert "not there yet" in view.notice.text.text()
    hands.click(view.notice.button)
    hands.settled()
    assert len(asked) == 1
    assert view.drawn
    rows = {row[0]: row[1:] for row in view.table.rows}
    assert rows["Relay stuck on"][:2] == ["60 s", "no"]
    assert rows["Draught on the bed"][-1] == "1.5 m/s"
    assert "relay stuck on while it warms up" in hands.sentence
    hands.document.edit("settings.bed_rest", hands.document.project.settings.bed_rest + 5.0, "Warmer")
    hands.settled()
    assert view.drawn
    assert not view.stale_note.isHidden(), "what was asked for once is kept, and said to be out of date"
