"""What each stage shows, follows the figures behind it; the window stays alive while it computes."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable
from itertools import pairwise

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtWidgets import QCheckBox, QPushButton

from mandorla.core.errors import InputError
from mandorla.core.failure.state import State
from mandorla.core.project.samples import sample
from mandorla.core.results.keys import (
    BUILD_HEAT_UPS,
    FAULT,
    HEAT_BALANCE,
    PLATE_FLATNESS,
    SET_POINTS,
    SUGGESTIONS,
    WINDOW,
)
from mandorla.core.rig.model import Rig
from mandorla.core.units import celsius
from mandorla.ui.stages.registry import STAGES
from mandorla.ui.widgets.console import EDIT_PADDING
from mandorla.ui.widgets.state_mark import WORDS
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui


def test_the_window_is_there_before_the_numerics_load() -> None:
    heavy = "('scipy', 'numba', 'pyqtgraph', 'vtkmodules', 'reportlab')"
    code = f"import sys, mandorla.ui.application, mandorla.ui.stages.rig.page; print([m for m in {heavy} if m in sys.modules])"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"


@pytest.mark.usefixtures("whole_rail")
def test_demo_opens_with_a_question_to_answer(open_window: Callable[..., Hands]) -> None:
    hands = open_window(sample("boathouse"))
    hands.settled()
    e, w = hands.evaluation, hands.operating_window
    assert e is not None
    assert w is not None
    assert e.state is State.FAILS, "the demo's part fails at its first settings"
    assert w.status == "found", "and there is a way to make it hold"
    assert e.judgement.limit_state is State.HOLDS


def test_using_the_gentlest_change_makes_the_demo_hold(open_window: Callable[..., Hands]) -> None:
    hands = open_window(sample("boathouse"))
    hands.stage(6)
    hands.wait_for(SUGGESTIONS.of(check=False), 60000)
    hands.click(hands.page.cards["nearest"][1])
    hands.quick()
    e = hands.evaluation
    assert e is not None
    assert e.state is State.HOLDS
    hands.settled()
    assert hands.sentence.startswith("These settings hold")


def test_rig_section_selects_by_mouse_and_keyboard(hands: Hands) -> None:
    hands.stage(1)
    section = hands.page.stack_view.section
    boxes = section.boxes()
    hands.click(section, QPointF(boxes[4].right() - 200, boxes[4].center().y()))
    assert section.index == 4
    assert hands.field("rig.bed.layers.4.name", hands.page.stack_view.tabs).text() == "mat"
    section.setFocus()
    hands.bot.keyClick(section, Qt.Key.Key_Up)
    assert section.index == 3


def test_layers_are_drawn_in_order_and_thicker_when_they_are(hands: Hands) -> None:
    hands.stage(1)
    boxes = hands.page.stack_view.section.boxes()
    assert all(a.bottom() == pytest.approx(b.top()) for a, b in pairwise(boxes))
    layers = hands.document.project.rig.bed.layers
    order = np.argsort([layer.thickness for layer in layers])
    assert np.all(np.diff([boxes[i].height() for i in order]) >= -1e-9)


def test_layers_that_carry_heater_or_sensor_stay(hands: Hands) -> None:
    hands.stage(1)
    hands.page.stack_view.section.select(4)
    hands.click(hands.page.stack_view.remove_button)
    assert "carries the heater" in hands.message
    hands.page.stack_view.section.select(3)
    hands.click(hands.page.stack_view.remove_button)
    assert "carries the sensor" in hands.message
    hands.page.stack_view.section.select(5)
    hands.click(hands.page.stack_view.remove_button)
    assert [layer.name for layer in hands.document.project.rig.bed.layers] == [
        "film",
        "sheet",
        "magnet",
        "plate",
        "mat",
    ]


def test_own_properties_replace_the_library_and_come_back(hands: Hands) -> None:
    hands.stage(1)
    hands.page.stack_view.section.select(2)
    hands.field("rig.bed.layers.2.name", hands.page.stack_view.tabs)
    hands.click(hands.button("Enter own properties", hands.page.stack_view.tabs))
    hands.type_into(hands.field("rig.bed.layers.2.own.conductivity"), "0.9")
    assert hands.document.project.rig.bed.layers[2].properties().conductivity == pytest.approx(0.9)
    hands.click(hands.button("Use library figures", hands.page.stack_view.tabs))
    assert hands.document.project.rig.bed.layers[2].own is None


def test_ratings_are_listed_with_their_states(hands: Hands) -> None:
    hands.type_into(hands.window.console.steppers["settings.bed_first"].editor, "145")
    hands.quick()
    hands.stage(1)
    states = {f.caption: f.state for f in hands.page.stack_view.checks.figures}
    assert states["magnet"] is State.FAILS
    assert hands.window.rail.buttons["rig"].accessibleName().endswith(WORDS[State.FAILS])
    assert "over its limit" in hands.sentence


def test_cautions_stand_where_the_decision_is_made(hands: Hands) -> None:
    hands.stage(1)
    tabs = hands.page.stack_view.tabs.tabBar()
    hands.click(tabs, tabs.tabRect(1).center())
    assert hands.page.stack_view.mains_note.isVisible()
    assert "qualified electrician" in hands.page.stack_view.mains_note.text()
    hands.document.edit("rig.bed.heater.mains", False, "mains")
    hands.quick()
    assert not hands.page.stack_view.mains_note.isVisible()


def test_heat_page_shows_the_curves_and_figures_of_the_run(hands: Hands) -> None:
    hands.stage(2)
    heat = hands.evaluation.heat
    series = {name: (x, y) for name, x, y, _ in hands.page.curves.series}
    x, y = series["surface"]
    assert y[-1] == pytest.approx(float(np.interp(60 * x[-1], heat.time, heat.surface)) - 273.15)
    assert {"sensor reading", "surface", "chamber air", "frame"} <= set(series)
    figures = {f.caption: f.value for f in hands.page.figures.figures}
    assert figures["Peak power"] == f"{(heat.power + heat.chamber_power).max():.0f} W"
    hands.view("balance")
    hands.settled()
    shares = [value for _, value, _ in hands.page.balances.room_sum.rows]
    heat, chamber = hands.evaluation.heat, hands.document.project.rig.chamber
    given = heat.energy[-1] + heat.steady.flows.machine * heat.time[-1] * chamber.enclosed
    assert sum(shares) == pytest.approx(given, rel=1e-6)


def test_the_surface_map_is_scrubbed_through_time(hands: Hands) -> None:
    hands.stage(2)
    page = hands.page
    hands.bot.waitUntil(lambda: hands.surface is not None, timeout=20000)
    history = hands.surface
    assert page.slider.isEnabled()
    assert "three-dimensional" in page.map_title.text()
    soaked = hands.evaluation.heat.ready_time + hands.document.project.settings.soak_time
    assert page.moment.value() == pytest.approx(soaked / 60)
    before = page.map.grab().toImage()
    page.slider.setFocus()
    hands.bot.keyClick(page.slider, Qt.Key.Key_Home)
    assert page.map.accessibleDescription().startswith("from 21.0 °C")
    for _ in range(12):
        hands.bot.keyClick(page.slider, Qt.Key.Key_PageUp)
    at = page.slider.value() / page.slider.maximum() * history.time[-1]
    shown = {f.caption: f.value for f in page.under.figures}
    surface = history.map_at(at)
    assert float(shown["Hottest under the part"].split()[0]) == pytest.approx(surface.max() - 273.15, abs=0.06)
    assert page.map.grab().toImage() != before
    # the moment stays where it was put while the rig is edited
    hands.click(hands.window.console.steppers["settings.bed_first"].up)
    hands.bot.waitUntil(lambda: hands.surface is None, timeout=5000)
    hands.bot.waitUntil(lambda: hands.surface is not None, timeout=20000)
    assert page.moment.value() == pytest.approx(at / 60, rel=0.01)


def test_reading_a_curve_with_the_mouse(hands: Hands) -> None:
    hands.stage(2)
    plot = hands.page.curves
    box = plot.getPlotItem().getViewBox()
    plot.hover(box.mapViewToScene(QPointF(5.0, 60.0)))
    assert "surface" in plot.readout
    assert "°C" in plot.readout


def test_part_page_follows_process_and_place(hands: Hands) -> None:
    hands.stage(4)
    before = hands.evaluation.part.plan.duration
    hands.type_into(hands.field("process.speed"), "30")
    hands.quick()
    assert hands.evaluation.part.plan.duration > before
    hands.type_into(hands.field("part.placement.x"), "140")
    hands.quick()
    assert "over the edge" in hands.sentence
    assert STAGES["part"].state(hands.document) is State.FAILS


def test_the_part_is_turned_with_mouse_and_keys(hands: Hands) -> None:
    hands.stage(4)
    view = hands.page.view.view
    hands.bot.waitUntil(lambda: view.image is not None, timeout=10000)
    first = view.image.copy()
    assert (
        len({first.pixelColor(x, y).rgb() for x in range(0, first.width(), 9) for y in range(0, first.height(), 9)}) > 8
    )
    hands.bot.mousePress(view, Qt.MouseButton.LeftButton, pos=QPoint(200, 120))
    hands.bot.mouseMove(view, QPoint(280, 140))
    hands.bot.mouseRelease(view, Qt.MouseButton.LeftButton, pos=QPoint(280, 140))
    hands.bot.waitUntil(lambda: view.image != first, timeout=5000)
    second = view.image.copy()
    view.setFocus()
    hands.bot.keyClick(view, Qt.Key.Key_Left)
    hands.bot.waitUntil(lambda: view.image != second, timeout=5000)


def test_warp_page_draws_peel_grip_and_shape(hands: Hands) -> None:
    hands.stage(5)
    w = hands.evaluation.warp
    hands.bot.waitUntil(lambda: bool(hands.page.peel.series), timeout=20000)  # the page is drawn after its results
    series = {name: (x, y) for name, x, y, _ in hands.page.peel.series}
    np.testing.assert_allclose(series["peel"][0], 1e-6 * w.demand)
    np.testing.assert_allclose(series["grip"][1], 1e3 * w.height)
    assert hands.page.corners.figures[0].caption == w.corners[w.weakest].corner.name
    hands.page.slider.setValue(60)
    assert hands.page.factor.text() == "60 times"
    shares = [float(f.value.split()[0]) for f in hands.page.shares.figures]
    assert sum(shares) == pytest.approx(100.0, abs=3.0)


def test_map_shows_settings_under_the_pointer(hands: Hands) -> None:
    hands.stage(6)
    hands.settled()
    plot = hands.page.map
    box = plot.getPlotItem().getViewBox()
    plot.hover(box.mapViewToScene(QPointF(95.0, 55.0)))
    text = plot.readout
    assert "that anything fails" in text
    assert "kWh" in text


def test_clicks_are_answered_while_the_window_is_computed(hands: Hands) -> None:
    """The map is being solved; a step on the console is taken, refreshes the verdicts and cancels the old map."""
    hands.settled()
    hands.stage("tune")
    hands.settled()
    old = hands.operating_window
    hands.click(hands.window.console.steppers["settings.bed_rest"].down)
    running = hands.document.results
    hands.bot.waitUntil(
        lambda: any(j.title == WINDOW.title and j.fraction > 0.0 for j in hands.document.jobs.running), timeout=9000
    )
    assert not running.known(WINDOW)
    hands.click(hands.window.console.steppers["settings.bed_rest"].up)
    assert hands.document.project.settings.bed_rest == pytest.approx(celsius(100.0))
    assert not any(j.title == WINDOW.title for j in hands.document.jobs.running), (
        "the map of the other state is not wanted any more"
    )
    hands.settled()
    assert hands.operating_window is old, "the settings are what they were: so is the map"
    assert hands.operating_window.present.x == pytest.approx(celsius(100.0))


def test_a_new_project_without_a_part_shows_what_to_do(empty: Hands) -> None:
    for number, words in ((4, "Open an STL"), (5, "There is no part yet"), (6, "There is no part yet")):
        empty.stage(number)
        assert words in empty.sentence
        assert empty.button("Open part …")
    assert isinstance(empty.document.project.rig, Rig)


@pytest.mark.parametrize("size", [(960, 640), (1280, 800), (1920, 1080)])
def test_nothing_is_cut_at_other_sizes(open_window: Callable[..., Hands], size: tuple[int, int]) -> None:
    hands = open_window()
    hands.window.resize(*size)
    hands.bot.wait(50)
    for number in range(1, len(STAGES) + 1):
        hands.stage(number)
        assert hands.window.size().width() == size[0]
        for verdict in hands.window.console.verdicts.values():
            needed = verdict.value.fontMetrics().horizontalAdvance(verdict.value.text())
            assert needed <= verdict.value.width() + 1, f"{verdict.value.text()} is cut at {size}"
        for stepper in hands.window.console.steppers.values():
            needed = stepper.editor.fontMetrics().horizontalAdvance(stepper.editor.text())
            assert needed <= stepper.editor.width() - 2 * EDIT_PADDING, f"{stepper.editor.text()} is cut at {size}"


def test_faults_are_chosen_and_shown_in_their_order(hands: Hands) -> None:
    hands.stage(2)
    hands.view("fault")
    view = hands.page.faults
    hands.wait_for(FAULT)
    assert "Relay stuck on, while holding" in view.sentence.text()
    assert "no fuse ends it" in view.sentence.text()
    view.start.setFocus()
    hands.bot.keyClick(view.start, Qt.Key.Key_Down)
    before = hands.wait_for(FAULT.of(start="cold"))
    assert "switched on" in view.sentence.text()
    # a fuse is added on the Rig page: the same fault ends
    hands.stage(1)
    tabs = hands.page.stack_view.tabs.tabBar()
    hands.click(tabs, tabs.tabRect(1).center())
    hands.click(hands.button("Add fuse", hands.page.stack_view.tabs))
    hands.type_into(hands.field("rig.bed.fuses.0.rating"), "140")
    hands.quick()
    hands.stage(2)
    after = hands.wait_for(FAULT.of(start="cold"))
    assert before.first_fuse is None
    assert after.first_fuse is not None
    assert "the fuse on mat (140 °C) opens after" in view.sentence.text()
    assert any("fuse on mat opens" in f.caption for f in view.events.figures)
    hands.document.edit("rig.chamber.enclosed", False, "enclosed")
    hands.quick()
    view.choice.setCurrentIndex(view.choice.findData("door-open"))
    view.choice.activated.emit(view.choice.currentIndex())
    hands.bot.waitUntil(lambda: "cannot happen" in view.sentence.text(), timeout=10000)


def test_flatness_shows_the_bow_and_what_an_early_map_is_wrong_by(hands: Hands) -> None:
    hands.stage(2)
    hands.view("flatness")
    view = hands.page.flatness
    hands.wait_for(PLATE_FLATNESS)
    assert "the free plate stands" in view.sentence.text()
    assert "sheet" not in view.note.text(), "the laid sheet follows the plate"
    off = [float(f.value.split()[0]) for f in view.figures.figures]
    assert off[0] >= off[-1]
    hands.stage(1)
    hands.page.stack_view.section.select(1)
    hands.field("rig.bed.layers.1.name", hands.page.stack_view.tabs)
    switch = next(
        w for w in hands.page.stack_view.tabs.findChildren(QCheckBox, "rig.bed.layers.1.bonded") if w.isVisible()
    )
    before = hands.wait_for(PLATE_FLATNESS).bow.end
    hands.click(switch, QPointF(10, switch.height() / 2))
    hands.quick()
    hands.stage(2)
    hands.settled()
    assert "sheet" in view.note.text()
    assert hands.wait_for(PLATE_FLATNESS).bow.end != before


def test_a_wanted_surface_becomes_set_points(hands: Hands) -> None:
    hands.stage(2)
    hands.type_into(hands.field("criteria.surface_wanted"), "92")
    hands.wait_for(SET_POINTS)
    hands.bot.waitUntil(lambda: hands.page.use_button.isEnabled(), timeout=10000)
    hands.click(hands.page.use_button)
    hands.quick()
    assert hands.evaluation.heat.steady.surface == pytest.approx(celsius(92.0), abs=0.5)
    hands.view("balance")
    hands.wait_for(HEAT_BALANCE)
    assert any("foam added below" in name for name, _, _ in hands.page.balances.savings.rows)
    hands.press("Ctrl+Z")
    assert hands.document.project.settings.bed_rest == pytest.approx(celsius(100.0))


def test_builds_are_kept_compared_and_taken_back(hands: Hands) -> None:
    hands.stage(2)
    page = hands.page
    hands.view("builds")
    view = page.builds
    hands.bot.waitUntil(lambda: set(hands.result(BUILD_HEAT_UPS) or ()) == {"now"}, timeout=10000)
    hands.type_into(view.name, "as built")
    hands.bot.waitUntil(lambda: set(hands.result(BUILD_HEAT_UPS) or ()) == {"as built", "now"}, timeout=10000)
    start = hands.document.project.rig
    hands.stage(1)
    hands.type_into(hands.page.stack_view.section.editor(3), "4")
    hands.quick()
    hands.stage(2)
    hands.bot.waitUntil(lambda: len({row[1] for row in view.rows}) == 2, timeout=10000)
    found = hands.wait_for(BUILD_HEAT_UPS)
    thin, thick = found["now"], found["as built"]
    assert thin.ready_time < thick.ready_time
    assert "“now” is ready first" in view.sentence.text()
    assert {name for name, *_ in view.curves.series} == {"as built", "now"}
    hands.click(next(b for b in view.findChildren(QPushButton) if b.accessibleName() == "Take build as built"))
    assert hands.document.project.rig == start
    hands.press("Ctrl+Z")
    assert hands.document.project.rig != start
    hands.bot.waitUntil(
        lambda: any(b.isVisible() and b.text() == "Forget" for b in view.findChildren(QPushButton)), timeout=30000
    )
    hands.click(next(b for b in view.findChildren(QPushButton) if b.isVisible() and b.text() == "Forget"))
    assert hands.document.project.builds == ()


def test_no_more_builds_than_can_be_compared(hands: Hands) -> None:
    for i in range(5):
        hands.document.keep_build(f"build {i}")
    with pytest.raises(InputError):
        hands.document.keep_build("one more")
    hands.document.keep_build("build 2")  # replaces its namesake
    assert len(hands.document.project.builds) == 5
