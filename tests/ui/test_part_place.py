"""The part laid on a face, by list and by click, copied in a grid; its polymer's notes and own figures; process settings."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from mandorla.core.project.samples import sample
from mandorla.core.results.keys import SCENARIO
from mandorla.ui.plots.curves import CurvePlot
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui


@pytest.fixture
def part(open_window: Callable[..., Hands]) -> Hands:
    hands = open_window(sample("boathouse"))
    hands.stage(4)
    hands.quick()
    return hands


def height(hands: Hands) -> float:
    hands.bot.waitUntil(lambda: hands.geometry is not None, timeout=20000)
    return float(hands.geometry.mesh.size[2])


def test_a_face_is_chosen_from_the_list(part: Hands) -> None:
    place = part.page.place
    before = height(part)
    texts = [place.lies.itemText(i) for i in range(place.lies.count())]
    assert texts[0] == "as drawn"
    assert any("front" in t or "rear" in t for t in texts)
    index = next(i for i, t in enumerate(texts) if "front" in t)
    place.lies.setCurrentIndex(index)
    place.lies.activated.emit(index)
    part.bot.waitUntil(lambda: abs(height(part) - before) > 0.01, timeout=20000)
    assert height(part) == pytest.approx(0.084, abs=1e-3)
    part.press("Ctrl+Z")
    part.bot.waitUntil(lambda: abs(height(part) - before) < 1e-9, timeout=20000)


def test_the_clicked_face_lies_on_the_plate(part: Hands) -> None:
    page = part.page
    part.bot.waitUntil(lambda: page.view.view.image is not None, timeout=20000)
    before = height(part)
    mesh, p = part.geometry.mesh, part.document.project.part.placement
    front = np.array([p.x, float(mesh.vertices[:, 1].min()) + p.y, 0.012])
    at = page.view.view.place_of(tuple(front))
    part.click(page.view.view, at)
    assert height(part) == before, "without asking, a click lays nothing"
    part.click(page.place.by_click)
    assert page.place.by_click.isChecked()
    part.click(page.view.view, at)
    part.bot.waitUntil(lambda: abs(height(part) - 0.084) < 1e-3, timeout=20000)
    assert not page.place.by_click.isChecked()


def test_copies_fill_the_bed_until_they_reach_over_its_edge(part: Hands) -> None:
    mass = part.evaluation.part.plan.mass
    margin = part.evaluation.warp.margin
    part.type_into(part.field("part.placement.rows"), "3")
    part.bot.waitUntil(lambda: part.geometry.sections.bodies == 3, timeout=20000)
    part.quick()
    assert part.evaluation.part.plan.mass == pytest.approx(3.0 * mass, rel=1e-6)
    assert part.evaluation.warp.margin != margin
    assert any(f.caption == "Bodies" and f.value == "3" for f in part.page.figures.figures)
    part.type_into(part.field("part.placement.columns"), "2")
    part.bot.waitUntil(lambda: "over the edge" in part.sentence, timeout=20000)


def test_notes_and_own_figures_of_the_polymer(part: Hands) -> None:
    notes = part.page.material_notes
    assert "Dry at 75 °C" in notes.notes.text()
    assert "Annealing" in notes.notes.text()
    margin = part.evaluation.warp.margin
    part.click(notes.own)
    part.type_into(part.field("process.own.grip"), "2")
    part.bot.waitUntil(lambda: part.evaluation.warp.margin > 1.3 * margin, timeout=20000)
    part.click(notes.own)
    assert part.document.project.process.own is None
    part.bot.waitUntil(lambda: abs(part.evaluation.warp.margin - margin) < 1e-6, timeout=20000)


def test_raft_shield_and_first_layer_are_edited(part: Hands) -> None:
    duration = part.evaluation.part.plan.duration
    part.type_into(part.field("process.first_speed"), "10 mm/s")
    part.bot.waitUntil(lambda: part.evaluation.part.plan.duration > duration, timeout=20000)
    mass = part.evaluation.part.plan.mass
    part.switch("process.draft_shield", True)
    part.bot.waitUntil(lambda: part.evaluation.part.plan.mass > mass, timeout=20000)
    part.type_into(part.field("process.raft"), "2 mm")
    part.bot.waitUntil(lambda: part.document.project.process.raft == 0.002, timeout=20000)


def test_small_figures_at_an_axis_are_not_multiplied(part: Hands) -> None:
    plot = CurvePlot("small", "Height, mm", "Lift, mm")
    plot.begin(part.page.theme)
    plot.add_curve("lift", np.linspace(0.0, 1.0, 5), np.linspace(0.0, 0.14, 5), "#204060")
    plot.resize(300, 200)
    plot.show()
    part.bot.waitExposed(plot)
    axis = plot.getAxis("left")
    axis.updateAutoSIPrefix()
    assert axis.autoSIPrefixScale == 1.0
    plot.close()


def test_a_part_of_the_workshop_comes_onto_the_present_machine(part: Hands) -> None:
    action = next(a for a in part.window.sample_menu.actions() if a.text().startswith("Lamp box"))
    action.trigger()
    part.bot.waitUntil(lambda: part.geometry is not None and part.geometry.file is not None, timeout=20000)
    assert "Lamp box" in part.sentence
    assert part.document.project.rig.name == sample("boathouse").project.rig.name
    part.document.pin("A")
    part.stage("tune")
    assert part.wait_for(SCENARIO.of(scenario="A")).part is not None
    part.stage("part")
    part.press("Ctrl+Z")
    part.press("Ctrl+Z")
    part.bot.waitUntil(lambda: "Winch cradle" in part.sentence, timeout=20000)
