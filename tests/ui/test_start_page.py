"""The first minutes: a machine described with a few facts, its first answer; what may be dropped onto the window."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import QApplication

from mandorla.core.project.samples import new_bundle
from mandorla.core.project.store import write_bundle
from mandorla.core.rig.archetypes import Facts, machine_of
from mandorla.ui.start_page import StartPage
from tests.core.bundles import small_bundle
from tests.core.solids import block, stl
from tests.core.test_machine_from_log import log_of
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui


@pytest.fixture
def start(open_window: Callable[..., Hands]) -> Hands:
    hands = open_window(new_bundle())
    hands.window.beginnings.show()
    QApplication.processEvents()
    return hands


def page_of(hands: Hands) -> StartPage:
    page = hands.window.beginnings.page
    assert page is not None
    assert page.isVisible()
    return page


def drop(hands: Hands, path: Path) -> None:
    """Drop a file onto the window."""
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path))])
    at, none = QPoint(200, 200), Qt.KeyboardModifier.NoModifier
    enter = QDragEnterEvent(at, Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, none)
    QApplication.sendEvent(hands.window, enter)
    assert enter.isAccepted()
    QApplication.sendEvent(
        hands.window, QDropEvent(QPointF(at), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, none)
    )
    QApplication.processEvents()


def test_a_few_facts_and_a_mesh_give_a_first_answer(start: Hands, tmp_path: Path) -> None:
    page, mesh = page_of(start), tmp_path / "bracket.stl"
    mesh.write_bytes(stl(block(90.0, 60.0, 25.0)))
    before = page.sketch.accessibleDescription()
    start.type_into(page.fields["width"], "350 mm")
    start.type_into(page.fields["depth"], "350 mm")
    start.type_into(page.fields["heater"], "900 W")
    assert "Magnet" in before
    assert "bed heater" not in page.assumed.text()
    drop(start, mesh)
    assert page.part_button.text() == "bracket.stl"
    start.click(page.begin_button)
    start.bot.waitUntil(lambda: start.window.beginnings.page is None, timeout=30000)
    start.settled()
    assert start.window.stage == "warp"
    assert start.document.project.rig.bed.width == pytest.approx(0.35)
    assert start.document.project.rig.bed.heater.power == 900.0
    assert "fails" in start.sentence or "holds" in start.sentence.lower()
    assert start.document.path is None


def test_kinds_ask_for_what_they_have_and_wrong_facts_are_told(start: Hands) -> None:
    page = page_of(start)
    assert page.fields["chamber_heater"].isVisible()
    page.kind.setCurrentIndex(page.kind.findData("open"))
    assert not page.fields["chamber_heater"].isVisible()
    assert "Glass" in page.sketch.accessibleDescription()
    start.type_into(page.fields["width"], "9 m")
    assert "is outside" in page.refusal.text()
    assert not page.begin_button.isEnabled()
    start.type_into(page.fields["width"], "200 mm")
    assert page.begin_button.isEnabled()
    page.polymer.setCurrentIndex(page.polymer.findData("pa12"))
    page.surface.setCurrentIndex(page.surface.findData("tacky_pla_petg"))
    start.click(page.begin_button)
    start.bot.waitUntil(lambda: "is not known" in page.refusal.text(), timeout=30000)
    assert page.begin_button.isEnabled()


def test_a_machine_that_was_kept_is_offered(start: Hands) -> None:
    start.click(start.button("An empty project", page_of(start)))
    start.window.document.edit("rig.name", "Loft 300", "the name")
    start.window.keep_action.trigger()
    start.document.undo_stack.setClean()
    assert "Kept: Loft-300" in start.message
    start.window.start_action.trigger()
    page = page_of(start)
    page.kind.setCurrentIndex(page.kind.findText("Loft 300"))
    assert not page.fields["width"].isVisible()
    assert "as you kept it" in page.assumed.text()
    page.polymer.setCurrentIndex(page.polymer.findData("petg"))
    start.click(page.begin_button)
    start.bot.waitUntil(lambda: start.window.beginnings.page is None, timeout=30000)
    assert start.document.project.rig.name == "Loft 300"
    assert start.document.project.process.polymer == "petg"
    assert start.window.stage == "part"


def test_other_ways_to_begin(start: Hands, tmp_path: Path) -> None:
    page = page_of(start)
    start.click(start.button("An empty project", page))
    assert start.window.beginnings.page is None
    start.window.beginnings.show()
    start.click(start.button("Demo workshop", page_of(start)))
    assert start.window.beginnings.page is None
    assert start.document.project.name == "Winch cradle"
    start.bot.waitUntil(lambda: start.document.logbook.shown is not None, timeout=60000)
    path = tmp_path / "mine.mandorla"
    write_bundle(path, small_bundle())
    drop(start, path)
    assert start.document.path == path
    mesh = tmp_path / "other.stl"
    mesh.write_bytes(stl(block(40.0, 30.0, 10.0)))
    drop(start, mesh)
    start.bot.waitUntil(lambda: start.document.project.part.name == "other", timeout=30000)  # type: ignore[union-attr]
    assert start.window.stage == "part"


def test_a_heat_up_log_takes_the_place_of_what_was_assumed(start: Hands, tmp_path: Path) -> None:
    page, path = page_of(start), tmp_path / "first warm-up.csv"
    path.write_bytes(log_of(machine_of(Facts(plate=0.008, heater=1000.0))))
    start.type_into(page.fields["heater"], "1000 W")
    page.take_log(path)
    assert not page.begin_button.isEnabled(), "the log has not been read yet"
    start.bot.waitUntil(page.begin_button.isEnabled, timeout=60000)
    assert "• Plate: " in page.log_says.text()
    assert "assumed 6.00 mm" in page.log_says.text()
    assert "bed heater" not in page.assumed.text()
    start.type_into(page.fields["heater"], "900 W")
    assert not page.begin_button.isEnabled(), "it is being read again"
    start.bot.waitUntil(page.begin_button.isEnabled, timeout=60000)
    start.click(page.begin_button)
    start.bot.waitUntil(lambda: start.window.beginnings.page is None, timeout=30000)
    rig = start.document.project.rig
    assert next(layer for layer in rig.bed.layers if layer.name == "Plate").thickness == pytest.approx(0.0072, rel=0.08)
    assert start.document.project.measurements.sessions[0].name == "first warm-up.csv"


def test_a_log_that_is_none_says_why(start: Hands, tmp_path: Path) -> None:
    page, path = page_of(start), tmp_path / "flat.csv"
    path.write_text("time [s],bed sensor [°C]\n" + "\n".join(f"{5 * k},21.0" for k in range(40)))
    page.take_log(path)
    start.bot.waitUntil(lambda: "not the log of a heat-up" in page.log_says.text(), timeout=60000)
    assert not page.begin_button.isEnabled()
