"""Parts from OBJ and 3MF and the G-code that prints them, through the window."""

from __future__ import annotations

import io
from collections.abc import Callable
from pathlib import Path

import pytest
import trimesh

from mandorla.core.project.samples import new_bundle
from mandorla.core.units import celsius
from tests.core.bundles import block_gcode
from tests.core.solids import block, stl
from tests.core.test_solid_files import cube, package
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui


def opened(hands: Hands, path: Path) -> None:
    """Open a part and wait until it is evaluated."""
    hands.in_file_dialog(path, lambda: hands.click(hands.page.open_button))
    hands.bot.waitUntil(lambda: f"{path.name} opened" in hands.message, timeout=20000)
    hands.quick()


def test_obj_and_3mf_are_opened(open_window: Callable[..., Hands], tmp_path: Path) -> None:
    hands = open_window(new_bundle())
    hands.stage(4)
    solid = tmp_path / "tray.obj"
    text = trimesh.load(io.BytesIO(stl(block(90.0, 50.0, 25.0))), file_type="stl").export(file_type="obj")
    solid.write_text(text, encoding="utf-8")
    opened(hands, solid)
    assert "90 × 50 × 25" in hands.sentence
    several = tmp_path / "pair.3mf"
    place = '<item objectid="1"/><item objectid="1" transform="1 0 0 0 1 0 0 0 1 3 0 0"/>'
    several.write_bytes(package(cube(1, 1.0), place, "inch"))
    opened(hands, several)
    assert "102 × 25 × 25" in hands.sentence
    volume = next(f for f in hands.page.figures.figures if f.caption == "Volume of the solid")
    assert "2 bodies" in volume.remark
    assert "inch" in volume.remark
    broken = tmp_path / "broken.3mf"
    broken.write_bytes(several.read_bytes()[:300])
    hands.in_file_dialog(broken, lambda: hands.click(hands.page.open_button))
    hands.bot.waitUntil(lambda: "damaged" in hands.message, timeout=10000)
    assert hands.document.project.part.file == "pair.3mf"


def test_gcode_is_opened_used_and_forgotten(hands: Hands, tmp_path: Path) -> None:
    hands.stage(4)
    page = hands.page
    before = hands.evaluation.part.plan.duration
    assert not page.commanded.isVisible()
    wrong = tmp_path / "wrong.gcode"
    wrong.write_bytes(block_gcode(90.0, 60.0, 20.0))
    hands.in_file_dialog(wrong, lambda: hands.click(page.gcode_button))
    hands.bot.waitUntil(lambda: "does not print this part" in hands.message, timeout=20000)
    right = tmp_path / "right.gcode"
    right.write_bytes(block_gcode(120.0, 60.0, 20.0))
    hands.in_file_dialog(right, lambda: hands.click(page.gcode_button))
    hands.bot.waitUntil(lambda: hands.document.project.part.gcode == "right.gcode", timeout=20000)
    hands.quick()
    hands.bot.waitUntil(page.commanded.isVisible, timeout=5000)
    assert "those of the G-code" in hands.sentence
    assert hands.evaluation.part.plan.layers == 50
    assert hands.evaluation.part.plan.duration != before
    orders = {f.caption: f.value for f in page.orders.figures}
    assert orders["Bed, first layer"] == "104.0 °C"
    assert orders["Bed, last layer"] == "98.0 °C"
    assert orders["Fan, mean over time"] == "20 %"
    hands.click(page.use_button)
    settings = hands.document.project.settings
    assert settings.bed_first == pytest.approx(celsius(104.0))
    assert settings.bed_rest == pytest.approx(celsius(98.0))
    assert settings.chamber == pytest.approx(celsius(57.0))
    assert settings.fan == pytest.approx(0.2, abs=0.01)
    hands.quick()
    hands.click(page.forget_button)
    hands.quick()
    assert hands.document.project.part.gcode == ""
    assert "right.gcode" not in hands.document.bundle.originals
    assert hands.evaluation.part.plan.duration == pytest.approx(before, rel=1e-9)


def test_features_are_listed_and_numbered_on_the_part(hands: Hands) -> None:
    hands.stage(4)
    hands.quick()
    page = hands.page
    hands.bot.waitUntil(lambda: len(page.view.view.marks) == 6, timeout=10000)
    captions = [f.caption for f in page.features.figures]
    assert captions[0] == "1  long edge"
    assert sum("sharp corner" in c for c in captions) == 4
    assert page.features.figures[0].value == "120 mm"
    assert "relief cut" in page.features.figures[0].remark
    before = page.view.view.marks
    hands.choose("part.placement.turn", 90)
    hands.bot.waitUntil(lambda: page.view.view.marks != before, timeout=10000)
    assert page.features.figures[0].value == "120 mm"
    assert abs(page.view.view.marks[0][0]) == pytest.approx(0.03, abs=1e-6)
    even = next(f for f in page.figures.figures if f.caption == "Foot on the even zone")
    assert even.value == "100 %"
    hands.type_into(hands.field("part.placement.x"), "119 mm")
    hands.type_into(hands.field("part.placement.y"), "79 mm")
    hands.quick()
    moved = next(f for f in page.figures.figures if f.caption == "Foot on the even zone")
    assert int(moved.value.split()[0]) < 100
