"""The views of the Heat-up stage: sections drawn, layers shown, terms taken, programs run; clicks during a solve."""

from __future__ import annotations

import threading
from collections.abc import Callable

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QPushButton

from mandorla.core.measure.models import StoredHeights
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle
from mandorla.core.results.keys import REGULATION, SURFACE_HISTORY
from mandorla.core.units import celsius
from mandorla.ui.live_results import Standing
from tests.ui.conftest import Hands
from tests.ui.test_rig_views import drag

pytestmark = pytest.mark.gui


def solved(hands: Hands) -> None:
    hands.bot.waitUntil(lambda: hands.surface is not None and hands.bands is not None, timeout=40000)


def test_a_section_is_drawn_with_the_mouse_and_scrubbed(hands: Hands) -> None:
    hands.stage(2)
    solved(hands)
    hands.view("across")
    view = hands.page.across
    assert view.map.line == ((-0.15, 0.0), (0.15, 0.0))
    soaked = view.sentence.text()
    drag(hands, view.map, view.map.point_of(-0.1, -0.1), view.map.point_of(0.1, 0.12))
    (x0, y0), (x1, y1) = view.map.line
    assert (x0, y0) == pytest.approx((-0.1, -0.1), abs=0.004)
    assert (x1, y1) == pytest.approx((0.1, 0.12), abs=0.004)
    assert view.sentence.text() != soaked
    name, way, T, unit = view.profile.series[0]
    assert name == "surface"
    assert unit == "°C"
    assert way[-1] == pytest.approx(1e3 * np.hypot(x1 - x0, y1 - y0), rel=1e-6)
    assert T.max() == T[len(T) // 4 : -len(T) // 4].max(), "the middle is warmest"
    view.slider.setFocus()
    for _ in range(3):
        hands.bot.keyClick(view.slider, Qt.Key.Key_PageDown)
    assert "Surface after" in view.map_title.text()
    hands.click(hands.button("Corner to corner", view))
    assert view.map.line == ((-0.15, -0.14), (0.15, 0.14))
    line = view.map.line
    hands.click(view.map, QPointF(3, 3))  # a click is no line
    assert view.map.line == line


def test_every_layer_can_be_shown_and_bands_stand_on_the_curves(hands: Hands) -> None:
    hands.stage(2)
    solved(hands)
    page = hands.page
    names = {name for name, *_ in page.curves.series}
    assert "plate" not in names
    hands.click(page.layers, QPointF(10, page.layers.height() / 2))
    names = {name for name, *_ in page.curves.series}
    assert {layer.name for layer in hands.document.project.rig.bed.layers} <= names
    captions = {f.caption: f for f in page.figures.figures}
    assert "90 % of sampled rigs" in captions["Ready in"].remark
    assert "sensor" in captions["Least known"].remark
    assert "Plate calm after" in captions
    assert "Frame calm after" in captions


def test_terms_are_taken_and_the_rig_is_ready_sooner(hands: Hands) -> None:
    hands.stage(2)
    hands.view("regulation")
    view = hands.page.regulation
    tuning = hands.wait_for(REGULATION).tuning
    before = hands.evaluation.heat.ready_time
    hands.click(view.use_button)
    hands.quick()
    control = hands.document.project.rig.bed.control
    assert control.proportional_band == pytest.approx(tuning.proportional_band)
    assert hands.evaluation.heat.ready_time <= before
    hands.press("Ctrl+Z")
    assert hands.document.project.rig.bed.control.proportional_band != control.proportional_band


def test_a_program_is_taken_edited_and_run(hands: Hands) -> None:
    hands.stage(2)
    hands.view("regulation")
    hands.settled()
    view = hands.page.regulation
    hands.click(hands.button("Two stages", view))
    assert len(hands.document.project.program) == 3
    hands.quick()
    assert len(hands.wait_for(REGULATION).program.ends) == 3
    hands.type_into(hands.field("program.0.bed"), "70")
    hands.choose("program.0.wait", "ready")
    hands.type_into(hands.field("program.0.hold"), "20 min")
    hands.click(hands.button("Add step", view))
    hands.quick()
    program = hands.wait_for(REGULATION).program
    assert len(program.ends) == 4
    first = program.time <= program.ends[0]
    assert program.reading[first][-1] == pytest.approx(celsius(70.0), abs=1.0)
    assert program.ends[0] > 1200.0
    assert "4 steps" in view.sentence.text()
    hands.click(hands.button("None", view))
    assert hands.document.project.program == ()


def test_heights_follow_the_mounts_and_the_moment(hands: Hands) -> None:
    hands.stage(2)
    hands.view("flatness")
    hands.settled()
    view = hands.page.flatness
    loose = view.mounts_note.text()
    hands.choose("rig.bed.mounts", "rim")
    hands.bot.waitUntil(lambda: "held along its rim" in view.mounts_note.text(), timeout=5000)
    assert view.mounts_note.text() != loose
    view.slider.setValue(0)
    assert "after 0" in view.map_title.text() or "after less" in view.map_title.text()
    assert "Peak to valley 0" in view.mounts_note.text()


def test_the_balance_names_the_ways_and_what_would_save(hands: Hands) -> None:
    hands.stage(2)
    hands.view("balance")
    hands.settled()
    view = hands.page.balances
    steady = hands.evaluation.heat.steady
    into = steady.power + steady.chamber_power + steady.flows.machine
    assert sum(v for _, v, _ in view.room_now.rows) == pytest.approx(into, rel=1e-3)
    names = [name for name, _, _ in view.room_now.rows]
    assert "Panel roof" in names
    assert "Leakage" in names
    assert any("foil inside" in name for name, _, _ in view.savings.rows)
    assert "Holding takes" in view.sentence.text()


def test_clicks_are_taken_during_a_solve_and_it_stops_at_once(hands: Hands) -> None:
    """An edit makes the three-dimensional solve of the old rig stop; meanwhile the window answers to clicks."""
    hands.stage(2)
    solved(hands)
    document = hands.document
    # no symmetry any more and a long soak: the longest solve there is
    document.edit_many({"rig.bed.sensor.x": 0.03, "settings.soak_time": 20000.0}, "a long solve")
    solving = lambda: [j for j in document.jobs.running if j.title == SURFACE_HISTORY.title and j.fraction > 0.0]  # noqa: E731
    hands.bot.waitUntil(lambda: bool(solving()), timeout=20000)
    hands.view("warming")  # the click is answered while it works
    assert solving(), "it is still solving"
    hands.bot.waitUntil(lambda: any("Surface map" in t for t in hands.window.jobs_list.titles), timeout=20000)
    stop = next(b for b in hands.window.jobs_list.findChildren(QPushButton) if "Surface map" in b.accessibleName())
    hands.click(stop)  # how soon it stops is measured in benchmarks/run.py
    assert not solving()
    assert hands.surface is None
    assert hands.document.results.standing(SURFACE_HISTORY) is Standing.FAILED


@pytest.mark.usefixtures("whole_rail")
def test_a_window_that_is_closed_during_a_job_of_a_view_goes(open_window: Callable[..., Hands]) -> None:
    hands = open_window()
    hands.stage(2)
    hands.view("regulation")
    hands.bot.waitUntil(lambda: bool(hands.document.jobs.running), timeout=10000)
    hands.document.undo_stack.setClean()
    assert hands.window.close()
    assert hands.document.jobs.running == ()
    assert not [t for t in threading.enumerate() if t.name.startswith("mandorla")]


def test_the_print_is_marched_and_a_lowered_bed_is_told_in_words_and_on_the_curves(hands: Hands) -> None:
    hands.stage("heat")
    hands.view("print")
    view = hands.page.printing
    hands.quick()
    before = view.curves.series
    assert "surface" in {name for name, *_ in before}
    hands.type_into(hands.window.console.steppers["settings.bed_rest"].editor, "70 °C")
    hands.quick()
    hands.bot.waitUntil(lambda: "The bed is lowered by" in hands.sentence, timeout=30000)
    course, part = hands.evaluation.course, hands.evaluation.part
    surface = next(y for name, _, y, _ in view.curves.series if name == "surface")
    assert surface[0] - surface[-1] == pytest.approx(course.surface[0] - course.surface[-1])
    captions = [f.caption for f in view.moments.figures]
    assert captions == ["First layer", "First layers done", "Surface has followed", "Last layer"]
    assert f"{1e3 * part.height_at(course.lowered):.2f} mm" in view.moments.figures[1].remark


def test_a_job_that_follows_another_is_ready_sooner_and_says_so(hands: Hands) -> None:
    hands.stage("heat")
    hands.view("print")
    hands.quick()
    view, cold = hands.page.printing, hands.evaluation.heat.ready_time
    assert not view.between.isVisible()
    hands.choose("rig.start.kind", "warm")
    hands.quick()
    hands.bot.waitUntil(view.between.isVisible)
    hands.type_into(hands.field("rig.start.since"), "5 min")
    hands.quick()
    assert hands.evaluation.heat.ready_time < cold
    hands.view("warming")
    assert hands.page.start.text() == "The machine starts warm from the last job"
    hands.stage("rig")
    hands.view("chamber")
    hands.tab(hands.page.chamber_view.tabs, 3)
    hands.switch("rig.room.cooler", True)
    hands.type_into(hands.field("rig.room.cooler_for"), "45 min")
    hands.press("Tab")
    assert "cannot blow for longer" in hands.message


def test_air_below_the_plate_is_taken_from_two_maps_and_a_remedy_is_chosen(open_window: Callable[..., Hands]) -> None:
    bundle = sample("boathouse")
    y, x = np.meshgrid(np.linspace(-1, 1, 9), np.linspace(-1, 1, 9), indexing="ij")
    bed, air = 0.1 * (x**2 + y**2), 0.4 * np.exp(-(((x - 0.4) / 0.4) ** 2) - (y / 0.5) ** 2)

    def csv(z: np.ndarray) -> bytes:
        return "\n".join(";".join(f"{v:.4f}" for v in row) for row in z[::-1]).encode()

    heights = [StoredHeights(name=n, file=f, width=0.3, depth=0.28) for n, f in (("Bare", "a.csv"), ("Sheet", "b.csv"))]
    measured = bundle.project.measurements
    first = measured.sessions[0].model_copy(update={"heights": tuple(heights)})
    kept = measured.model_copy(update={"sessions": (first,)})
    project = bundle.project.model_copy(update={"measurements": kept})
    hands = open_window(Bundle(project, {**bundle.originals, "a.csv": csv(bed), "b.csv": csv(bed + air)}))
    hands.stage("heat")
    hands.view("air")
    hands.quick()
    view = hands.page.view
    hands.bot.waitUntil(lambda: hands.sentence == "The plate is taken to lie flat on the bed.", timeout=20000)
    before = hands.evaluation.coldest
    hands.click(view.take)
    assert "two different ones" in hands.message
    view.plate.setFocus()
    hands.press("Down")
    hands.click(view.take)
    hands.quick()
    hands.bot.waitUntil(lambda: hands.sentence.startswith("Up to "), timeout=20000)
    assert hands.evaluation.coldest < before - 1.0
    captions = [f.caption for f in view.figures.figures]
    assert captions[:4] == ["As it lies (now)", "Shims in the hollows", "Rigid pane instead", "A plate that lies flat"]
    assert captions[4:] == ["Mesh that the nozzle follows"]
    assert view.figures.figures[4].value == view.figures.figures[0].value
    hands.choose("rig.bed.air_gap.remedy", "flat")
    hands.quick()
    assert hands.evaluation.coldest == pytest.approx(before, abs=0.3)
    hands.click(view.forget)
    hands.quick()
    assert hands.document.project.rig.bed.air_gap is None
    assert hands.evaluation.coldest == pytest.approx(before)
