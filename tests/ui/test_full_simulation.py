"""The full simulation driven through the window: time told, run, shown by moment, stopped, stale after an edit; console."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from mandorla.cli import run
from mandorla.core.failure.messages import margin_text, probability_text
from mandorla.core.failure.words import headline
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle, read_bundle, write_bundle
from mandorla.core.results.keys import CAUSES_AND_LEVERS, LEVERS_IN_FULL, SETTINGS_CHECK
from mandorla.core.tune.messages import chance_in_table
from mandorla.ui.stages.warp.full_picture import skin
from tests.ui.conftest import Hands

FULL = 1


def small() -> Bundle:
    """The demo with its part at a quarter of its size, on a bed that holds it all over."""
    bundle = sample("boathouse")
    project = bundle.project
    assert project.part is not None
    layers = tuple(layer.model_copy(update={"bonded": True}) for layer in project.rig.bed.layers)
    rig = project.rig.model_copy(update={"bed": project.rig.bed.model_copy(update={"layers": layers})})
    part = project.part.model_copy(update={"scale": 0.25})
    return Bundle(project.model_copy(update={"part": part, "rig": rig}), bundle.originals)


def opened(open_window: Callable[..., Hands], bundle: Bundle) -> Hands:
    hands = open_window(bundle)
    hands.stage(5)
    hands.quick()
    hands.view(FULL)
    return hands


def test_a_run_from_the_window(open_window: Callable[..., Hands]) -> None:
    hands = opened(open_window, small())
    view = hands.page.full_view
    hands.bot.waitUntil(lambda: "to a factor of two" in view.expectation.text(), timeout=30000)
    assert all(f"{word} " in view.expectation.text() for word in ("draft", "standard", "fine"))
    assert "same state" in view.sentence.text()
    hands.click(view.run_button)
    assert not view.run_button.isEnabled()
    assert hands.sentence == "The full simulation is running …"
    hands.bot.waitUntil(lambda: not view.running, timeout=120000)
    found = view.result
    assert found is not None
    judged = hands.judgement
    assert judged.assessed["adhesion"].source == "full"
    assert hands.sentence.startswith(headline(judged))
    assert [f.caption for f in view.corners.figures] == [found.corners[k].name for k in np.argsort(found.margin[-1])]
    assert view.corners.figures[0].value == margin_text(found.hold_margin), (
        "the weakest corner has the hold margin of the console"
    )
    assert view.figures.figures[0].caption == "A corner comes off the plate"
    picture = view.picture
    before = picture.view.tallest
    picture.slider.setValue(60)
    picture.which.setCurrentIndex(1)
    assert picture.factor.text() == "60 times"
    assert picture.view.tallest != before
    hands.view("estimate")
    corners = hands.page.corners.figures
    assert (
        corners[0].value == margin_text(found.hold_margin) == hands.window.console.verdicts["Hold margin"].value.text()
    )
    assert all("estimate: " in f.remark for f in corners)
    assert "full simulation" in hands.page.corners_by.text()
    hands.view(FULL)
    hands.document.edit_many({"settings.chamber": 333.15}, "Warmer chamber")
    hands.quick()
    hands.bot.waitUntil(lambda: "Results are out of date" in hands.sentence, timeout=20000)


def test_a_stopped_run_keeps_what_is_there(open_window: Callable[..., Hands]) -> None:
    hands = opened(open_window, small())
    view = hands.page.full_view
    view.resolution.setCurrentIndex(view.resolution.findData("fine"))  # long enough to be stopped on a busy machine
    hands.click(view.run_button)
    hands.bot.waitUntil(lambda: view.result is not None, timeout=60000)
    assert view.running
    hands.click(view.stop_button)
    assert not view.running
    assert hands.sentence.startswith("Stopped at ")
    assert view.result is not None
    assert len(view.corners.figures) == len(view.result.corners)
    assert view.run_button.isEnabled()


def test_the_skin_of_boxes_is_closed_and_looks_outwards() -> None:
    solid = np.zeros((2, 3, 3), dtype=bool)
    solid[0] = True
    solid[1, 1, 1] = True
    faces = skin(solid)
    z, y, x = np.meshgrid(np.arange(3.0), np.arange(4.0), np.arange(4.0), indexing="ij")
    p = np.column_stack([x.ravel(), y.ravel(), z.ravel()])[faces]
    volume = float(np.einsum("ij,ij->i", p[:, 0], np.cross(p[:, 1], p[:, 2])).sum()) / 6.0
    assert volume == pytest.approx(10.0)


def test_the_command_line_runs_it(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    path = tmp_path / "small.mandorla"
    write_bundle(path, small())
    assert run(["warp", str(path), "--full", "--resolution", "draft", "--json"]) in (0, 1)
    answer = json.loads(capsys.readouterr().out)
    assert answer["status"] == answer["judgement"]["status"]
    assert answer["resolution"] == "draft"
    assert answer["boxes"] > 1000
    assert len(answer["corners"]) >= 3
    assert answer["plate_lift"]["value"] == 0.0
    assert len(answer["by_height"]["lift"]) == len(answer["by_height"]["height"])
    assert run(["warp", str(path), "--full", "--resolution", "draft"]) == 0
    text = capsys.readouterr().out
    assert "flex of the plate" in text
    write_bundle(path, sample("windowsill"))
    assert run(["warp", str(path), "--full"]) == 2
    assert "no part" in capsys.readouterr().err


def test_why_and_what_to_do(
    open_window: Callable[..., Hands], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    hands = open_window(sample("boathouse"))
    hands.stage(5)
    hands.quick()
    hands.view(2)
    view = hands.page.why_view
    quick = hands.wait_for(CAUSES_AND_LEVERS)
    hands.wait_for(SETTINGS_CHECK, 120000)
    found = hands.wait_for(CAUSES_AND_LEVERS.of(full="draft"))
    assert found.judgement.anything == hands.document.results.judgement().anything, "what everybody shows"
    assert [v.chance for v in found.levers] != [v.chance for v in quick.levers]
    hands.bot.waitUntil(
        lambda: view.lever_table.rows[0][1] == probability_text(found.judgement.anything), timeout=20000
    )
    found = hands.wait_for(LEVERS_IN_FULL.of(full="draft"), 120000)
    assert any(v.simulated for v in found.levers)
    hands.bot.waitUntil(lambda: view.lever_table.rows[1][1] == chance_in_table(found.levers[0]), timeout=20000)
    assert "does most to the grip: without it the hold margin would be" in hands.sentence
    told = hands.window.console.verdicts
    now = [told[name].value.text() for name in ("Hold margin", "Lift", "Crack index")]
    assert view.lever_table.rows[0][0] == view.cause_table.rows[0][0] == "as it is"
    assert view.lever_table.rows[0][2:5] == now, "one figure on one page"
    assert view.cause_table.rows[0][1:] == now[:2]
    assert [r[0].partition(" (barred")[0] for r in view.lever_table.rows[1:]] == [v.name for v in found.levers]
    assert len(view.cause_table.rows) == len(found.causes) + 1
    hands.document.edit_many({"process.brim": 0.008}, "Brim")
    hands.quick()
    now = hands.wait_for(CAUSES_AND_LEVERS)
    assert not any(v.name.startswith("Brim") for v in now.levers)
    assert now.levers[0] != quick.levers[0]
    path = tmp_path / "demo.mandorla"
    write_bundle(path, sample("boathouse"))
    assert run(["warp", str(path), "--why", "--json"]) == 1
    assert [v["name"] for v in json.loads(capsys.readouterr().out)["levers"]] == [v.name for v in found.levers]
    assert run(["warp", str(path), "--why"]) == 1
    assert "helps most" in capsys.readouterr().out


def test_a_run_belongs_to_its_state_and_undo_brings_it_back(open_window: Callable[..., Hands]) -> None:
    hands = opened(open_window, small())
    view = hands.page.full_view
    assert view.present is None
    hands.click(view.run_button)
    hands.bot.waitUntil(lambda: not view.running, timeout=120000)
    assert view.present is view.result
    asked = view.chosen
    # what was measured on a printed part is not part of the state
    hands.click(view.measured.enter)
    hands.quick()
    assert hands.document.project.part.measured is not None
    assert hands.document.results.known(asked)
    assert view.present is view.result
    hands.document.edit_many({"process.brim": 0.006}, "Brim")
    hands.quick()
    hands.bot.waitUntil(lambda: "Results are out of date" in hands.sentence, timeout=20000)
    assert view.present is None
    hands.press("Ctrl+Z")
    hands.quick()
    hands.bot.waitUntil(lambda: "Results are out of date" not in hands.sentence, timeout=20000)
    assert hands.document.results.known(asked)
    assert view.present is view.result


def test_a_run_is_kept_with_the_project_and_told_to_be_stale(
    open_window: Callable[..., Hands], tmp_path: Path, runs_kept: None
) -> None:
    bundle = small()
    own = bundle.project.settings.model_copy(
        update={"chamber": 331.4}
    )  # no other test has simulated it: nothing is shared
    hands = opened(open_window, Bundle(bundle.project.model_copy(update={"settings": own}), bundle.originals))
    view = hands.page.full_view
    assert not view.kept.keep.isEnabled(), "there is nothing to keep yet"
    assert view.kept.none.text().startswith("None yet")
    hands.click(view.run_button)
    hands.bot.waitUntil(lambda: not view.running, timeout=120000)
    sentence, lift = hands.sentence, view.result.printed_lift
    hands.click(view.kept.keep)
    hands.bot.waitUntil(lambda: len(hands.document.project.runs) == 1, timeout=20000)
    assert not view.kept.keep.isEnabled(), "it is kept already"
    assert view.kept.list.item(0).text().endswith("as the project is")
    path = tmp_path / "kept.mandorla"
    assert hands.window.save_to(path)

    again = opened(open_window, read_bundle(path))
    view = again.page.full_view
    again.bot.waitUntil(lambda: view.result is not None, timeout=20000)
    again.bot.waitUntil(lambda: again.sentence == sentence, timeout=20000)
    assert view.result.printed_lift == lift
    again.document.edit_many({"settings.chamber": 333.15}, "Warmer chamber")
    again.quick()
    again.bot.waitUntil(lambda: view.kept.list.item(0).text().endswith("out of date"), timeout=20000)
    assert view.result is None, "what is out of date is shown only when it is asked for"
    view.kept.list.setCurrentRow(0)
    again.click(view.kept.show_button)
    stale = "Results are out of date: this run was kept on "
    again.bot.waitUntil(lambda: again.sentence.startswith(stale), timeout=20000)
    assert again.sentence.endswith(sentence)
    again.press("Ctrl+Z")
    again.quick()
    again.bot.waitUntil(lambda: again.sentence == sentence, timeout=20000)
    view.kept.list.setCurrentRow(0)
    again.click(view.kept.remove)
    assert again.document.project.runs == ()
    assert not any(name.endswith(".npz") for name in again.document.bundle.originals)
