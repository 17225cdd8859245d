"""The views of the Rig stage, driven as a person does: places dragged, panels picked, files taken in, lists saved."""

from __future__ import annotations

import csv
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QDate, QPoint, QPointF, Qt
from PySide6.QtWidgets import QApplication, QLineEdit

from mandorla.core.failure.state import State
from mandorla.core.project.samples import sample
from mandorla.core.rig.chamber import SIDES
from mandorla.core.units import celsius
from mandorla.ui.preferences import Preferences
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui


def drag(hands: Hands, widget: object, start: QPointF, end: QPointF) -> None:
    hands.bot.mousePress(widget, Qt.MouseButton.LeftButton, pos=start.toPoint())
    for share in (0.3, 0.7, 1.0):
        at = start + share * (end - start)
        hands.bot.mouseMove(widget, at.toPoint())
        QApplication.processEvents()
    hands.bot.mouseRelease(widget, Qt.MouseButton.LeftButton, pos=end.toPoint())
    QApplication.processEvents()


def test_the_sensor_is_dragged_and_nudged_and_undone(hands: Hands) -> None:
    hands.stage(1)
    hands.view(1)
    hands.settled()  # the answer above has its length, nothing moves under the mouse any more
    plan = hands.page.plan_view.plan
    drag(hands, plan, plan.point_of(0.0, 0.0), plan.point_of(0.06, -0.04))
    sensor = hands.document.project.rig.bed.sensor
    assert sensor.x == pytest.approx(0.06, abs=0.003)
    assert sensor.y == pytest.approx(-0.04, abs=0.003)
    hands.bot.keyClick(plan, Qt.Key.Key_Right)
    hands.bot.keyClick(plan, Qt.Key.Key_Up, Qt.KeyboardModifier.ShiftModifier)
    moved = hands.document.project.rig.bed.sensor
    assert moved.x == pytest.approx(sensor.x + 0.005)
    assert moved.y == pytest.approx(sensor.y + 0.001)
    for _ in range(3):
        hands.press("Ctrl+Z")
    assert hands.document.project.rig.bed.sensor.x == 0.0
    hands.quick()


def test_a_spot_is_added_dragged_and_kept_on_the_bed(hands: Hands) -> None:
    hands.stage(1)
    hands.view(1)
    view = hands.page.plan_view
    hands.click(hands.button("Add spot", view))
    spot = hands.document.project.rig.bed.spots[0]
    drag(hands, view.plan, view.plan.point_of(spot.x, spot.y), view.plan.point_of(0.05, 0.05))
    assert hands.document.project.rig.bed.spots[0].x == pytest.approx(0.05, abs=0.003)
    assert view.plan.picked_path == "rig.bed.spots.0"
    drag(hands, view.plan, view.plan.point_of(0.05, 0.05), QPointF(2, 2))
    assert "outside the bed" in hands.message
    assert hands.document.project.rig.bed.spots[0].x == pytest.approx(0.05, abs=0.003)
    hands.type_into(hands.field("rig.bed.spots.0.conductance"), "0.4")
    hands.quick()
    assert hands.evaluation.heat.from_bed["brackets"] > 0.0


def test_power_map_from_a_file_and_a_bad_one(hands: Hands, tmp_path: Path) -> None:
    hands.stage(1)
    hands.view(1)
    view = hands.page.plan_view
    good, bad = tmp_path / "map.csv", tmp_path / "bad.csv"
    good.write_text("2;1\n1;1\n", encoding="utf-8")
    bad.write_text("1;2\n3\n", encoding="utf-8")
    hands.in_file_dialog(good, lambda: hands.click(view.map_button))
    assert hands.document.project.rig.bed.heater.power_map == ((2.0, 1.0), (1.0, 1.0))
    hands.quick()
    left, right = hands.evaluation.heat.spread.at([[-0.08, 0.08], [0.08, -0.08]])
    assert left > right
    view.open_power_map(bad)
    assert "Line 2" in hands.message
    view.open_power_map(tmp_path / "none.csv")
    assert "none.csv" in hands.message
    hands.click(view.no_map_button)
    assert hands.document.project.rig.bed.heater.power_map == ()


def test_panels_are_picked_changed_and_made_alike(hands: Hands) -> None:
    hands.stage(1)
    hands.view(2)
    view = hands.page.chamber_view
    before = hands.evaluation.heat.steady.air
    hands.click(view.net, view.net.boxes()["roof"].center())
    assert view.net.side == "roof"
    hands.choose("rig.chamber.panels.roof.build", "foam_lined")
    panels = hands.document.project.rig.chamber.panels
    assert [layer.material for layer in panels.roof.layers] == ["rigid_foam", "sheet_steel"]
    assert [layer.material for layer in panels.floor.layers] == ["acrylic"]
    hands.switch("rig.chamber.panels.roof.foil", True)
    hands.click(view.all_button)
    panels = hands.document.project.rig.chamber.panels
    assert all(getattr(panels, side) == panels.roof for side in SIDES)
    hands.quick()
    assert hands.evaluation.heat.steady.air > before + 3.0
    hands.bot.keyClick(view.net, Qt.Key.Key_Right)
    assert view.net.side == "front"
    assert "rated to" in view.resistance.text()


def test_room_log_from_a_file(hands: Hands, tmp_path: Path) -> None:
    hands.stage(1)
    hands.view(2)
    view = hands.page.chamber_view
    hands.tab(view.tabs, 3)
    path = tmp_path / "garage.csv"
    path.write_text("min;°C\n0;4,0\n30;6,0\n600;9,5\n", encoding="utf-8")
    hands.in_file_dialog(path, lambda: hands.click(view.log_button))
    room = hands.document.project.rig.room
    assert room.kind == "log"
    assert room.log_name == "garage.csv"
    hands.quick()
    assert hands.evaluation.heat.surface[0] == pytest.approx(celsius(4.0))
    assert "garage.csv" in view.log_note.text()
    path.write_text("min;°C\n0;4,0\n30;warm\n", encoding="utf-8")
    view.open_room_log(path)
    assert "line 3" in hands.message
    assert hands.document.project.rig.room == room


def test_joint_and_outline_of_a_layer(hands: Hands) -> None:
    hands.stage(1)
    view = hands.page.stack_view
    hands.click(view.section, view.section.boxes()[1].center() + QPointF(150, 0))
    hands.choose("rig.bed.layers.1.joint", "spacer")
    layer = hands.document.project.rig.bed.layers[1]
    assert layer.contact_resistance == pytest.approx(2e-2)
    assert not layer.bonded
    hands.quick()
    assert hands.evaluation.heat.offset > 8.0, "half a millimetre of air costs many kelvin"
    hands.press("Ctrl+Z")
    hands.click(hands.button("Enter an own outline", view.tabs))
    hands.type_into(hands.field("rig.bed.layers.1.outline.width"), "200")
    assert hands.document.project.rig.bed.layers[1].outline.width == pytest.approx(0.2)
    hands.type_into(hands.field("rig.bed.layers.1.outline.width"), "900")
    assert "larger than" in hands.message
    hands.press("Escape")
    hands.click(hands.button("Use the bed's outline", view.tabs))
    assert hands.document.project.rig.bed.layers[1].outline is None


def test_sensor_is_put_in_the_plate_on_the_mat_or_in_it(hands: Hands) -> None:
    hands.stage(1)
    view = hands.page.stack_view
    hands.tab(view.tabs, 1)
    offsets = {}
    for index, name in enumerate(("plate", "on", "in")):
        view.place.setCurrentIndex(index)
        view.place.activated.emit(index)
        hands.quick()
        offsets[name] = hands.evaluation.heat.offset
    assert offsets["plate"] < offsets["on"] <= offsets["in"] + 0.05


def test_checks_follow_the_rig(hands: Hands) -> None:
    hands.stage(1)
    hands.view("checks")
    view = hands.page.checks_view
    hands.bot.waitUntil(lambda: len(view.list.checks) > 5, timeout=10000)
    state = {c.key: c.state for c in view.list.checks}
    assert state["fuses"] is State.FAILS
    assert view.list.checks[0].state is State.FAILS, "the worst stands first"
    assert "fail" in view.sentence.text()
    hands.document.edit(
        "rig.bed.fuses", tuple(f.model_dump() for f in sample("boathouse").project.rig.bed.fuses[:0]), "fuses"
    )
    hands.document.edit("rig.bed.earthed", False, "earth")
    hands.quick()
    hands.bot.waitUntil(lambda: {c.key: c.state for c in view.list.checks}.get("earth") is State.FAILS, timeout=10000)


def test_a_failing_check_stands_on_the_rail_and_in_the_answer(hands: Hands) -> None:
    hands.stage(1)
    hands.bot.waitUntil(lambda: bool(hands.checks), timeout=10000)
    hands.bot.waitUntil(lambda: "check" in hands.sentence, timeout=5000)
    assert "thermal fuses" in hands.sentence
    assert (
        "fails"
        in hands.window.rail.buttons["rig"].accessibleName().lower()
        + hands.window.rail.buttons["rig"].toolTip().lower()
    )
    fuses = ({"layer": "mat", "rating": celsius(150.0)}, {"layer": "plate", "rating": celsius(112.0)})
    assert {c.key: c.state for c in hands.checks}["fuses"] is State.FAILS
    hands.document.edit("rig.bed.fuses", fuses, "fuses")
    hands.quick()
    hands.bot.waitUntil(lambda: bool(hands.checks), timeout=10000)
    assert {c.key: c.state for c in hands.checks}["fuses"] is not State.FAILS


def test_what_to_buy_is_saved_and_the_calendar_follows_its_start(hands: Hands, tmp_path: Path) -> None:
    hands.stage(1)
    hands.view(4)
    view = hands.page.build_view
    view.start.setDate(QDate(2026, 5, 4))
    assert view.days[0].begin.day == 4
    assert "4 May" in view.sentence.text()
    path = tmp_path / "list.csv"
    hands.in_file_dialog(path, lambda: hands.click(view.save_button))
    rows = list(csv.reader(path.read_text(encoding="utf-8").splitlines()))
    assert rows[0] == ["group", "what", "size", "quantity", "mass_kg", "price_each"]
    assert sum(1 for r in rows if r and r[0].startswith("2026-05-")) == len(view.days)
    view.save(tmp_path / "no" / "list.csv")
    assert "cannot be written" in hands.message


def test_prices_are_filled_in_and_the_bed_is_drawn(hands: Hands, tmp_path: Path) -> None:
    hands.stage("rig")
    hands.view("build")
    view = hands.page.build_view

    def field() -> QLineEdit:
        def shown() -> list[QLineEdit]:
            return [w for w in view.findChildren(QLineEdit, "price.heater") if w.isVisible()]

        hands.quick()
        hands.bot.waitUntil(lambda: len(shown()) == 1, timeout=30000)
        return shown()[0]

    hands.type_into(field(), "48,50")
    hands.bot.waitUntil(lambda: "1 of " in view.sentence.text(), timeout=30000)
    assert "48.50 €" in view.sentence.text()
    hands.type_into(field(), "dear")
    assert "is no price" in hands.message
    assert [p.each for p in hands.document.project.rig.prices] == [48.5]
    editor = field()
    hands.click(editor)
    editor.selectAll()
    hands.bot.keyClick(editor, Qt.Key.Key_Delete)
    hands.bot.keyClick(editor, Qt.Key.Key_Return)
    assert hands.document.project.rig.prices == ()
    for name, start in (("bed.svg", b"<?xml"), ("bed.pdf", b"%PDF")):
        path = tmp_path / name
        hands.in_file_dialog(path, lambda: hands.click(view.draw_button))
        assert path.read_bytes().startswith(start)
    view.save_drawing(tmp_path / "no" / "bed.pdf")
    assert "cannot be written" in hands.message


def test_magnets_are_set_into_the_bed_and_hold_the_plate_less_than_a_sheet(hands: Hands) -> None:
    hands.stage("rig")
    hands.view("plan")
    before = hands.plate
    view = hands.page.plan_view
    for _ in range(2):
        hands.click(view.magnets.add_button)
    hands.quick()
    assert len(hands.document.project.rig.bed.magnets) == 2
    assert f"rig.bed.magnets.{1}" in view.plan.places()
    after = hands.plate
    assert before is not None
    assert after is not None
    assert after.stands < before.stands


def test_nothing_of_the_new_views_is_cut_in_a_narrow_window(hands: Hands) -> None:
    hands.window.resize(960, 640)
    hands.stage(1)
    for view in range(5):
        hands.view(view)
        QApplication.processEvents()
        assert hands.page.stack.currentWidget().width() <= hands.window.width() - 100
    assert hands.window.width() == 960
    hands.view(2)
    net = hands.page.chamber_view.net
    assert all(net.rect().contains(box.toRect()) for box in net.boxes().values())
    assert hands.page.plan_view.plan.rect().contains(QPoint(5, 5))


def test_door_and_a_swinging_room_typed_in_fahrenheit(open_window: Callable[..., Hands]) -> None:
    """A door that stands open and a room that swings change the warm-up, whichever units are typed."""
    hands = open_window(sample("kiln"), preferences=Preferences(fahrenheit=True, inches=True))
    hands.stage(1)
    before = hands.evaluation
    hands.view(2)
    hands.tab(hands.page.chamber_view.tabs, 1)
    hands.type_into(hands.field("rig.chamber.door.opens_at"), "40 min")
    hands.type_into(hands.field("rig.chamber.door.open_for"), "10 min")
    hands.quick()
    opened = hands.evaluation
    assert before is not None
    assert opened is not None
    late = 48.0 * 60.0
    assert opened.heat.at(late, opened.heat.air) < before.heat.at(late, before.heat.air) - 5.0
    hands.tab(hands.page.chamber_view.tabs, 3)
    hands.choose("rig.room.kind", "daily")
    hands.type_into(hands.field("rig.room.swing"), "18 °F")
    hands.type_into(hands.field("rig.room_temperature"), "59 °F")
    hands.quick()
    room = hands.document.project.rig.room
    assert room.swing == pytest.approx(10.0)
    assert hands.document.project.rig.room_temperature == pytest.approx(288.15)
    times = np.array([0.0, 12.0 * 3600.0])
    course = room.course(hands.document.project.rig.room_temperature, times)
    assert abs(float(course[1] - course[0])) > 5.0
    assert "°F" in hands.sentence
    hands.stage(2)
    assert "°F" in hands.sentence
    assert "°C" not in hands.sentence
