"""The loose plate at a glance in the window: the rail, the estimate's figures and sentence, Tune's note, and when it is stale."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import pytest

from mandorla.cli import run
from mandorla.core.failure.state import State
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle, write_bundle
from mandorla.core.results import keys
from mandorla.core.units import celsius
from mandorla.ui.stages.registry import STAGES
from tests.ui.conftest import Hands

WARP = 5


@pytest.fixture
def demo(open_window: Callable[..., Hands]) -> Hands:
    """The demo at the stage Warp, its plate looked at."""
    hands = open_window(sample("boathouse"))
    hands.stage(WARP)
    hands.quick()
    looked(hands)
    return hands


def looked(hands: Hands) -> None:
    """Wait until the plate of the present state has been looked at."""
    hands.wait_for(keys.JUDGEMENT, 60000)
    hands.settled()


def figure(hands: Hands):  # type: ignore[no-untyped-def]
    """The plate's row among the estimate's figures, None without one."""
    return next((f for f in hands.page.figures.figures if f.caption == "Plate off its seat"), None)


def test_a_plate_that_comes_off_is_said_and_counts_on_the_rail(
    demo: Hands, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    look = demo.plate
    assert look is not None
    assert look.off
    assert "In a coarse simulation the part pulls Flex sheet off its magnet" in demo.sentence
    row = figure(demo)
    assert row.value == "comes off"
    assert row.state is State.FAILS
    assert "right to a factor of 1.5" in row.remark
    assert f"simulated in {look.boxes} boxes" in demo.page.note.text()
    assert STAGES["warp"].state(demo.document) is State.FAILS
    path = tmp_path / "demo.mandorla"
    write_bundle(path, sample("boathouse"))
    assert run(["warp", str(path), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)["plate"]
    assert told["comes_off"] is True
    assert told["gap"]["value"] == pytest.approx(look.gap, rel=1e-3)


def test_warmer_air_is_looked_at_anew_and_the_old_figure_is_not_passed_off_as_new(demo: Hands) -> None:
    before = demo.plate
    demo.document.edit_many({"settings.chamber": celsius(75.0)}, "Warmer chamber")
    demo.quick()
    if not demo.document.results.known(keys.PLATE_LIFT):  # the glance waits for the window
        assert figure(demo).value == "…"
        assert "coarse simulation" not in demo.sentence
    looked(demo)
    after = demo.plate
    assert before is not None
    assert after is not None
    assert after.gap < before.gap
    assert figure(demo).value != "…"


def test_tune_says_that_its_window_does_not_count_the_plate(demo: Hands) -> None:
    demo.stage(6)
    demo.bot.waitUntil(lambda: "counts the grip, not a loose plate" in demo.page.foot.text(), timeout=30000)
    assert "off its magnet" in demo.page.foot.text()


def test_a_bonded_bed_has_no_plate_to_look_at(open_window: Callable[..., Hands]) -> None:
    bundle = sample("boathouse")
    layers = tuple(x.model_copy(update={"bonded": True}) for x in bundle.project.rig.bed.layers)
    bed = bundle.project.rig.bed.model_copy(update={"layers": layers})
    rig = bundle.project.rig.model_copy(update={"bed": bed})
    hands = open_window(Bundle(bundle.project.model_copy(update={"rig": rig}), bundle.originals))
    hands.stage(WARP)
    hands.quick()
    looked(hands)
    assert hands.plate is None
    assert figure(hands) is None
    assert "coarse simulation" not in hands.sentence


def test_without_a_part_nothing_is_looked_at(open_window: Callable[..., Hands]) -> None:
    hands = open_window(sample("windowsill"))
    hands.stage(WARP)
    hands.quick()
    assert hands.plate is None
    assert STAGES["warp"].state(hands.document) is State.NOT_COMPUTED


def test_before_a_run_the_part_is_seen_as_drawn_and_every_resolution_is_timed(demo: Hands) -> None:
    demo.view(1)
    view = demo.page.full_view
    demo.bot.waitUntil(lambda: "MB" in view.expectation.text(), timeout=30000)
    drawn = demo.geometry
    assert drawn is not None
    assert view.picture.isVisible()
    assert view.picture.view.tallest == pytest.approx(float(drawn.mesh.size[2]), rel=0.01)
    assert not view.corners.isVisible()
    assert not view.lift.isVisible()
    draft = view.expectation.text()
    demo.bot.keyClick(view.resolution, "f")
    assert view.resolution.currentData() == "fine"
    fine = view.expectation.text()
    assert draft.rpartition("Memory")[0] == fine.rpartition("Memory")[0], "the times stand for all three"
    assert draft != fine
    demo.document.edit_many({"part.scale": 0.4}, "Smaller")
    demo.quick()
    demo.bot.waitUntil(lambda: "MB" in view.expectation.text() and view.expectation.text() != fine, timeout=30000)
    assert view.picture.view.tallest < float(drawn.mesh.size[2])
