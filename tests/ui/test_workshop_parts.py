"""The workshop's four parts, from STL, 3MF and G-code, through the window with mouse and keyboard and through the command line."""

from __future__ import annotations

import json
from collections.abc import Callable
from importlib import resources
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt

from mandorla.cli import run
from mandorla.core.failure.state import State
from mandorla.core.failure.words import headline
from mandorla.core.part.solid_file import read_solid_file
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle, read_bundle, write_bundle
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui
FULL, CHANCES = 1, 3
FOLDER = resources.files("mandorla.data").joinpath("demo/parts")
# file, its G-code, size (mm), bodies, whether the loose sheet holds it down
PARTS = {
    "housing": ("oar-rack.stl", "", (252, 42, 38), 1, False),
    "frame": ("hatch-frame.3mf", "", (174, 226, 11), 1, False),
    "box": ("lamp-box.stl", "lamp-box.gcode", (78, 58, 132), 1, True),
    "batch": ("sail-clips.3mf", "", (138, 107, 15), 16, True),
}


def empty_boathouse() -> Bundle:
    project = sample("boathouse").project
    return Bundle(project.model_copy(update={"part": None}), {
        name: data for name, data in sample("boathouse").originals.items() if name != "winch-cradle.stl"
    })  # fmt: skip


def file(name: str) -> Path:
    return Path(str(FOLDER.joinpath(name)))


@pytest.mark.parametrize("kind", PARTS)
def test_a_part_goes_from_its_file_through_the_full_simulation(
    kind: str, open_window: Callable[..., Hands], tmp_path: Path, capsys: pytest.CaptureFixture[str], runs_kept: None
) -> None:
    name, gcode, size, bodies, held = PARTS[kind]
    hands = open_window(empty_boathouse())
    hands.stage(4)
    page = hands.page
    hands.in_file_dialog(file(name), lambda: hands.click(page.open_button))
    hands.bot.waitUntil(lambda: f"{name} opened" in hands.message, timeout=20000)
    hands.quick()
    assert " × ".join(str(v) for v in size) in hands.sentence
    geometry = hands.geometry
    assert geometry.sections.bodies == bodies
    if gcode:
        by_process = hands.evaluation.part.plan.duration
        hands.in_file_dialog(file(gcode), lambda: hands.click(page.gcode_button))
        hands.bot.waitUntil(lambda: page.commanded.isVisible(), timeout=20000)
        hands.bot.waitUntil(lambda: hands.evaluation.part.plan.duration != by_process, timeout=20000)
        assert "times and volumes are those of the G-code" in hands.sentence
    if kind == "housing":
        assert page.features.figures[0].caption.endswith("long edge")
    if kind == "batch":
        assert any(f.caption == "Bodies" and f.value == "16" for f in page.figures.figures)
        assert any("small piece" in f.caption for f in page.features.figures)
    hands.stage(5)
    assert hands.page.corners.figures
    hands.view(FULL)
    view = hands.page.full_view
    hands.bot.waitUntil(lambda: "to a factor of two" in view.expectation.text(), timeout=120000)
    hands.click(view.run_button)
    hands.bot.waitUntil(lambda: not view.running, timeout=120000)
    found = view.result
    assert found is not None
    if held:
        assert found.hold_margin > 1.0
        assert not found.plate_off
    else:
        assert found.plate_lift.max() > 3e-4
    judged = hands.judgement
    assert judged.assessed["flatness"].source == "full" if "flatness" in judged.assessed else found.stopped
    assert hands.sentence.startswith(headline(judged))
    assert len(found.growth) == found.height.size
    if found.stopped:
        assert not view.deform.make.isEnabled()
        assert view.picture.which.currentData() == "growing"
        assert not view.picture.which.model().item(3).isEnabled(), "taken off the plate is not known"
        assert not view.cracks.isVisible()
    # the same from the command line
    path = tmp_path / f"{kind}.mandorla"
    hands.in_file_dialog(path, lambda: hands.press("Ctrl+S"))
    status = run(["warp", str(path), "--full", "--resolution", "draft", "--json"])
    answer = json.loads(capsys.readouterr().out)
    assert status == (1 if judged.whole is State.FAILS else 0 if judged.determined else 3)
    assert answer["status"] == judged.whole.value
    assert answer["boxes"] == found.voxels.count
    assert answer["printed_lift"]["value"] == pytest.approx(found.printed_lift, rel=1e-3)
    assert run(["warp", str(path), "--json"]) in (0, 1, 3)
    assert json.loads(capsys.readouterr().out)["hold_margin"]["value"] == pytest.approx(
        hands.evaluation.warp.margin, rel=1e-3
    )


@pytest.fixture
def clips(open_window: Callable[..., Hands], runs_kept: None) -> Hands:
    """The batch after a draft run of its hardest body in the window."""
    hands = batch(open_window)
    view = hands.page.full_view
    choose(hands, view.which_bodies, "one")
    hands.click(view.run_button)
    hands.bot.waitUntil(lambda: not view.running, timeout=120000)
    return hands


def batch(open_window: Callable[..., Hands]) -> Hands:
    """The batch opened in the window, ready to be simulated in full."""
    hands = open_window(empty_boathouse())
    hands.stage(4)
    hands.in_file_dialog(file("sail-clips.3mf"), lambda: hands.click(hands.page.open_button))
    hands.bot.waitUntil(lambda: "sail-clips.3mf opened" in hands.message, timeout=20000)
    hands.quick()
    hands.stage(5)
    hands.view(FULL)
    return hands


def test_all_bodies_pull_on_the_plate_together(open_window: Callable[..., Hands], tmp_path: Path) -> None:
    hands = batch(open_window)
    view = hands.page.full_view
    assert view.which_bodies.isVisible()
    assert view.which_bodies.currentData() == "all"
    hands.click(view.run_button)
    hands.bot.waitUntil(lambda: not view.running, timeout=180000)
    found = view.result
    assert found.bodies == 16
    assert any(f.caption == "Bodies in one run" and f.value == "16" for f in view.figures.figures)
    assert len(view.corners.figures) == 8
    assert ", body " in view.corners.figures[0].caption
    assert ", at " in view.corners.figures[0].remark
    assert not view.deform.isVisible()
    assert "simulate the hardest to hold, alone" in view.note.text()
    choose(hands, view.picture.sight, "plate")
    assert hands.document.project.part.measured is None
    choose(hands, view.which_bodies, "one")
    hands.click(view.run_button)
    hands.bot.waitUntil(lambda: not view.running, timeout=120000)
    assert view.result.bodies == 1
    assert found.plate_lift.max() > 1.5 * view.result.plate_lift.max(), "what one leaves alone, sixteen pull up"
    assert view.deform.isVisible()


def choose(hands: Hands, box, key: object) -> None:
    """Choose an entry of a free list with the keyboard."""
    box.setFocus()
    for _ in range(box.count()):
        if box.currentData() == key:
            return
        hands.bot.keyClick(box, Qt.Key.Key_Down)
    hands.bot.keyClick(box, Qt.Key.Key_Home)
    for _ in range(box.count()):
        if box.currentData() == key:
            return
        hands.bot.keyClick(box, Qt.Key.Key_Down)
    raise AssertionError(key)


def test_a_run_is_looked_at_from_all_sides(clips: Hands) -> None:
    picture, found = clips.page.full_view.picture, clips.page.full_view.result
    choose(clips, picture.which, "growing")
    assert picture.place.isVisible()
    heights = []
    for value in (20, 60, 100):
        picture.place.setValue(value)
        heights.append(picture.view.tallest)
    assert heights[0] < heights[1] < heights[2]
    assert "printed, corner" in picture.place_text.text()
    choose(clips, picture.which, "released")
    whole = picture.view.triangles
    choose(clips, picture.sight, "cut x")
    assert picture.cut.isVisible()
    assert not picture.place.isVisible()
    picture.cut.setFocus()
    clips.bot.keyClick(picture.cut, Qt.Key.Key_Left)
    assert picture.cut_text.text().startswith("at x = ")
    assert picture.view.triangles < whole
    choose(clips, picture.sight, "peel")
    assert picture.stack.currentWidget() is picture.map
    assert np.nanmax(picture.map.values) == pytest.approx(float(found.utilisation[found.foot > 0].max()))
    choose(clips, picture.sight, "loose")
    assert "is detached" in picture.reading.text()
    choose(clips, picture.sight, "plate")
    assert picture.map.values.shape == found.plate[2].shape
    assert "up to" in picture.reading.text()
    choose(clips, picture.sight, "whole")
    assert picture.stack.currentWidget() is picture.view


def test_a_click_on_the_part_reads_how_far_it_moved(clips: Hands) -> None:
    picture = clips.page.full_view.picture
    clips.bot.waitUntil(lambda: picture.view.image is not None, timeout=10000)
    shown = picture.shown_points
    top = int(np.argmax(shown[:, 2]))
    clips.click(picture.view, picture.view.place_of(tuple(shown[top])))
    assert picture.reading.text().startswith("At x, y, z = ")
    assert " up " in picture.reading.text()
    assert len(picture.view.marks) == 1
    clips.click(picture.view, picture.view.rect().topLeft())
    assert len(picture.view.marks) == 1, "a click beside the part reads nothing"


def test_faces_are_read_and_a_measured_part_stands_beside(clips: Hands, tmp_path: Path) -> None:
    view = clips.page.full_view
    choose(clips, view.face_panel.face, "top")
    assert [f.caption for f in view.face_panel.figures.figures] == ["On the plate, cold", "Taken off"]
    assert view.face_panel.figures.figures[1].value.endswith("mm")
    measured = view.measured
    clips.click(measured.enter)
    assert not measured.enter.isVisible()
    corners = clips.document.project.part.measured.corners
    assert [c.name for c in corners] == [c.name for c in view.result.corners]
    clips.type_into(clips.field("part.measured.corners.0.lift"), "0.3 mm")
    clips.settled()
    assert "times as far as simulated" in measured.sentence.text()
    assert not clips.sentence.startswith("Results are out of date"), (
        "entering a measurement does not make the run an old one"
    )
    heights = tmp_path / "under.csv"
    heights.write_text("\n".join(",".join(f"{0.01 * (i * i + j * j):.3f}" for i in range(-3, 4)) for j in range(-3, 4)))
    clips.in_file_dialog(heights, lambda: clips.click(measured.map))
    clips.bot.waitUntil(lambda: any(f.caption == "Height map" for f in measured.figures.figures), timeout=5000)
    assert len(measured.figures.figures) == 1 + len(view.result.corners)
    clips.type_into(clips.field("part.measured.corners.0.lift"), "0 mm")
    # corners that all read zero were not entered
    clips.bot.waitUntil(lambda: [f.caption for f in measured.figures.figures] == ["Height map"], timeout=10000)
    broken = tmp_path / "broken.csv"
    broken.write_text("words only")
    clips.in_file_dialog(broken, lambda: clips.click(measured.map))
    clips.bot.waitUntil(lambda: "no matrix" in clips.message, timeout=5000)
    path = tmp_path / "measured.mandorla"
    clips.stage(5)
    clips.in_file_dialog(path, lambda: clips.press("Ctrl+S"))
    again = read_bundle(path)
    assert again.project.part.measured.map == "under.csv"
    assert "under.csv" in again.originals
    clips.click(measured.forget)
    assert clips.document.project.part.measured is None
    assert "under.csv" not in clips.document.bundle.originals


def test_the_part_is_exported_pre_deformed_and_warped(clips: Hands, tmp_path: Path) -> None:
    deform = clips.page.full_view.deform
    made, warped = tmp_path / "made.stl", tmp_path / "warped.stl"
    clips.in_file_dialog(made, lambda: clips.click(deform.make))
    clips.bot.waitUntil(made.exists, timeout=120000)
    clips.bot.waitUntil(lambda: "Written to made.stl" in deform.sentence.text(), timeout=10000)
    assert "off the drawing (rms) instead of" in deform.sentence.text()
    clips.in_file_dialog(warped, lambda: clips.click(deform.shape))
    assert "warped.stl" in deform.sentence.text()
    drawn = clips.geometry.body
    for path in (made, warped):
        mesh = read_solid_file(path.read_bytes(), path.name, 0.001)
        np.testing.assert_allclose(mesh.size, drawn.size, rtol=0.03)
        assert mesh.notes == ()


def test_chances_stand_on_the_run_and_name_a_test(clips: Hands) -> None:
    clips.view(CHANCES)
    view = clips.page.chances_view
    clips.settled(60000)
    assert "those of the full simulation" in view.how.text()
    names = [row[0] for row in view.failures.rows]
    assert names[-1] == "Anything fails"
    assert {"The plate comes off its seat", "A corner comes off the plate"} <= set(names)
    assert view.tests.rows
    assert view.which.count() == len(names) - 1
    clips.document.edit_many({"settings.chamber": 313.15}, "Cooler chamber")
    clips.quick()
    clips.settled(60000)
    assert "run the full simulation" in view.how.text()


def test_other_shapes_are_tried_in_full(clips: Hands, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    clips.view(2)
    view = clips.page.why_view
    clips.settled(60000)
    clips.click(view.shape_button)
    clips.bot.waitUntil(lambda: len(view.shape_table.rows) == 3, timeout=120000)
    assert view.shape_table.rows[0][0] == "As drawn"
    assert view.shape_table.rows[1][0].startswith("Corners rounded")
    path = tmp_path / "clips.mandorla"
    clips.in_file_dialog(path, lambda: clips.press("Ctrl+S"))
    assert run(["warp", str(path), "--shapes", "--chances"]) in (0, 1, 3)
    text = capsys.readouterr().out
    assert "relief slots" in text
    assert "that something fails" in text
    stl = tmp_path / "bent.stl"
    assert run(["warp", str(path), "--resolution", "draft", "--compensate", str(stl), "--json"]) in (0, 1, 3)
    answer = json.loads(capsys.readouterr().out)
    assert answer["compensated"]["off_compensated_rms"]["value"] < answer["compensated"]["off_as_drawn_rms"]["value"]
    assert read_solid_file(stl.read_bytes(), "bent.stl", 0.001).volume > 0.0


def test_shapes_that_stop_say_so_instead_of_a_release(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    path = tmp_path / "cradle.mandorla"
    write_bundle(path, sample("boathouse"))
    cold = ["--set", "settings.chamber=20degC", "--set", "process.infill=1"]
    assert run(["warp", str(path), "--shapes", *cold]) == 1
    text = capsys.readouterr().out
    assert "Flattest off the plate" in text or "No shape was completed" in text
