"""One engineer's way through all stages with mouse and keyboard, and the same figures on the command line."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import pytest
import trimesh
from PySide6.QtCore import QPointF

from mandorla.cli import run
from mandorla.core.failure.state import State
from mandorla.core.failure.words import headline
from mandorla.core.project.samples import new_bundle
from mandorla.core.results import keys
from mandorla.core.units import celsius
from tests.core.solids import stl
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui


def build_rig(hands: Hands) -> None:
    """Describe the machine: thicker plate, foam below, a closed heated chamber."""
    page = hands.page
    boxes = page.stack_view.section.boxes()
    hands.click(page.stack_view.section, boxes[1].center() + QPointF(150, 0))
    assert hands.field("rig.bed.layers.1.name", page.stack_view.tabs).text() == "Plate"
    hands.type_into(page.stack_view.section.editor(1), "8 mm")
    assert hands.document.project.rig.bed.layers[1].thickness == pytest.approx(0.008)
    hands.click(page.stack_view.section, boxes[2].center() + QPointF(150, 0))
    hands.click(page.stack_view.add_button)
    hands.type_into(hands.field("rig.bed.layers.3.name", page.stack_view.tabs), "Foam")
    hands.choose("rig.bed.layers.3.material", "silicone_foam")
    hands.type_into(hands.field("rig.bed.layers.3.thickness", page.stack_view.tabs), "6")
    tabs = page.stack_view.tabs.tabBar()
    hands.click(tabs, tabs.tabRect(1).center())
    hands.type_into(hands.field("rig.name"), "Bench rig")
    hands.type_into(hands.field("rig.bed.heater.power"), "420 W")
    hands.view(2)
    hands.tab(page.chamber_view.tabs, 1)
    hands.type_into(hands.field("rig.chamber.width"), "450")
    hands.type_into(hands.field("rig.chamber.depth"), "450")
    switch = next(w for w in page.findChildren(object, "rig.chamber.enclosed"))
    hands.click(switch, QPointF(10, switch.height() / 2))
    hands.tab(page.chamber_view.tabs, 2)
    hands.type_into(hands.field("rig.chamber.heater_power"), "350")
    hands.quick()


def test_a_library_mesh_goes_through_all_stages_and_the_command_line_agrees(
    open_window: Callable[..., Hands], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    hands = open_window(new_bundle())
    # 1 Rig
    hands.stage(1)
    build_rig(hands)
    rig = hands.document.project.rig
    assert [layer.name for layer in rig.bed.layers] == ["Print film", "Plate", "Heater mat", "Foam"]
    assert rig.bed.layers[3].material == "silicone_foam"
    assert rig.chamber.enclosed
    assert rig.name == "Bench rig"
    assert "surface settles at" in hands.sentence
    # 2 Heat-up
    hands.press("Ctrl+2")
    assert "Ready in" in hands.sentence
    assert hands.page.curves.series[0][0] == "sensor reading"
    # 4 Part, written by a general-purpose mesh library
    body = trimesh.creation.box(extents=(150.0, 70.0, 24.0))
    tower = trimesh.creation.cylinder(radius=20.0, height=60.0, sections=64)
    body = body.union(tower.apply_translation((0.0, 0.0, 18.0)))
    mesh_file = tmp_path / "bracket.stl"
    mesh_file.write_bytes(stl(body))
    hands.press("Ctrl+4")
    assert "Open an STL" in hands.sentence
    hands.in_file_dialog(mesh_file, lambda: hands.click(hands.page.open_button))
    hands.bot.waitUntil(lambda: hands.geometry is not None, timeout=30000)
    hands.quick()
    assert hands.geometry.mesh.volume == pytest.approx(body.volume * 1e-9, rel=1e-5)
    assert "150 × 70 × 60 mm" in hands.sentence
    hands.choose("process.polymer", "abs")
    hands.type_into(hands.field("process.infill"), "35 %")
    hands.quick()
    assert hands.document.project.process.infill == pytest.approx(0.35)
    # console: letters are refused, numbers taken, buttons and keys step
    steppers = hands.window.console.steppers
    hands.type_into(steppers["settings.chamber"].editor, "55")
    hands.type_into(steppers["settings.bed_rest"].editor, "98 °C")
    hands.click(steppers["settings.bed_first"].up)
    hands.quick()
    assert hands.document.project.settings.chamber == pytest.approx(celsius(55.0))
    # 5 Warp
    hands.press("Ctrl+5")
    warp = hands.evaluation.warp
    assert warp is not None
    hands.bot.waitUntil(
        lambda: hands.sentence == headline(hands.judgement), timeout=5000
    )  # a check may just have ended
    shown = {f.caption: f for f in hands.page.figures.figures}
    assert f"crack index {warp.crack_index:.2f}" in shown["Cracks between layers"].remark
    # 6 Tune: wait for the window, click into the map
    hands.press("Ctrl+6")
    hands.settled()
    plot = hands.page.map
    box = plot.getPlotItem().getViewBox()
    hands.window.resize(960, 640)
    hands.quick()
    written = plot.written
    assert "now" in {text for text, _, _ in written}
    for k, (text, rank, place) in enumerate(written):
        covered = [t for t, r, p in written[:k] + written[k + 1 :] if p.intersects(place) and max(r, rank) > 0]
        assert not covered, f"“{text}” lies on {covered}"
    hands.window.resize(1280, 800)
    hands.quick()
    before = hands.document.project.settings
    target = box.mapViewToScene(QPointF(90.0, 60.0))
    hands.click(plot.viewport(), plot.mapFromScene(target))
    hands.quick()
    after = hands.document.project.settings
    assert after != before
    assert after.bed_rest == pytest.approx(celsius(90.0), abs=2.0)
    assert after.chamber == pytest.approx(celsius(60.0), abs=2.0)
    hands.settled()
    # save with the keyboard and ask the command line
    project_file = tmp_path / "bench.mandorla"
    hands.in_file_dialog(project_file, lambda: hands.press("Ctrl+S"))
    assert project_file.exists()
    assert hands.document.undo_stack.isClean()
    e, window = hands.evaluation, hands.operating_window
    hands.wait_for(keys.SETTINGS_CHECK, 60000)
    judgement = hands.judgement
    assert run(["warp", str(project_file), "--json"]) == (1 if judgement.whole is State.FAILS else 0)
    found = json.loads(capsys.readouterr().out)
    assert found["sentence"] == headline(judgement)
    assert found["full"] is not None
    assert found["hold_margin"]["value"] == pytest.approx(e.warp.margin, rel=1e-9)
    assert found["released_lift"]["value"] == pytest.approx(e.warp.released_lift, rel=1e-9)
    assert found["energy"]["value"] == pytest.approx(e.energy.total, rel=1e-9)
    assert run(["heatup", str(project_file), "--json"]) == 0
    found = json.loads(capsys.readouterr().out)
    assert found["surface"]["value"] == pytest.approx(e.heat.steady.surface, abs=1e-9)
    assert found["ready_time"]["value"] == pytest.approx(e.heat.ready_time, abs=1e-9)
    assert run(["tune", str(project_file), "--no-check", "--json"]) in (0, 1)  # the quick estimate's, for its time
    found = json.loads(capsys.readouterr().out)
    assert found["status"] == e.judgement.whole.value
    assert found["present"]["energy"]["value"] == pytest.approx(window.present.energy, rel=1e-9)
