"""The loose plate in the window: console, rail, sentence and figures tell one story, also after a full run, and Tune counts it."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import pytest

from mandorla.cli import run
from mandorla.core.failure.messages import probability_text
from mandorla.core.failure.state import State
from mandorla.core.failure.words import headline
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle, write_bundle
from mandorla.core.results import keys
from mandorla.core.units import celsius
from mandorla.ui.stages.registry import STAGES
from mandorla.ui.stages.warp.estimate_view import EstimateView
from tests.ui.conftest import Hands

WARP, TUNE = 5, 6
TITLE = "The plate comes off its seat"


@pytest.fixture
def demo(open_window: Callable[..., Hands]) -> Hands:
    """The demo at the stage Warp."""
    hands = open_window(sample("boathouse"))
    hands.stage(WARP)
    hands.quick()
    hands.bot.waitUntil(
        lambda: figure(hands) is not None, timeout=20000
    )  # the page draws a turn after the values are there
    return hands


def figure(hands: Hands):  # type: ignore[no-untyped-def]
    """The plate's row among the estimate's figures, None without one."""
    return next((f for f in hands.page.figures.figures if f.caption == TITLE), None)


def one_story(hands: Hands) -> None:
    """Console, rail, sentence and figures say the same of the state on screen."""
    j = hands.judgement
    console = hands.window.console.verdicts["Fails first"]
    state = STAGES["warp"].state(hands.document)
    assert state is j.whole
    words = {State.HOLDS: "holds", State.MARGINAL: "marginal", State.FAILS: "fails"}
    assert words[state] in console.accessibleName()
    if state is State.HOLDS:
        assert console.value.text() == "Nothing"
        assert hands.sentence.startswith("The part holds")
    else:
        first = j.counted[j.first]
        assert console.value.text() != "Nothing"
        assert probability_text(first.probability) in console.accessibleName()
        assert probability_text(first.probability) in hands.sentence
        assert "holds" not in hands.sentence.split(":")[0]


def soon(hands: Hands) -> None:
    """All places say the same once the window has heard of a run that has just ended beside it."""
    hands.bot.waitUntil(lambda: one_story(hands), timeout=5000)


def test_a_plate_that_is_lifted_is_said_in_every_place(
    demo: Hands, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    plate = demo.plate
    assert plate is not None
    assert plate.stands < 1.0
    assert "Flex sheet off its magnet" in demo.sentence
    row = figure(demo)
    assert row.state is State.FAILS
    assert demo.window.console.verdicts["Fails first"].value.text() == "Plate off"
    soon(demo)
    # the settings are checked in full by themselves, as on the command line
    demo.wait_for(keys.SETTINGS_CHECK, 60000)
    soon(demo)
    path = tmp_path / "demo.mandorla"
    write_bundle(path, sample("boathouse"))
    assert run(["warp", str(path), "--json"]) == 1
    told = json.loads(capsys.readouterr().out)
    assert told["sentence"] == demo.sentence
    assert told["plate"]["gap"]["value"] == pytest.approx(plate.gap, rel=1e-9)


def test_an_edit_changes_the_story_everywhere_at_once(demo: Hands) -> None:
    before = demo.plate
    demo.document.edit_many({"settings.chamber": celsius(69.0), "settings.bed_rest": celsius(100.0)}, "Warmer")
    demo.quick()
    after = demo.plate
    assert before is not None
    assert after is not None
    assert after.gap < before.gap
    soon(demo)


def test_after_a_full_run_everybody_says_what_it_found(demo: Hands) -> None:
    assert demo.evaluation is not None
    quick = headline(demo.evaluation.judgement)
    demo.document.results.ask(keys.FULL_RUN.of(resolution="draft"))
    demo.wait_for(keys.FULL_RUN.of(resolution="draft"), 120000)
    demo.settled()
    assert demo.judgement.assessed["loose_plate"].source == "full"
    soon(demo)
    assert not demo.sentence.startswith(quick)


def test_tune_counts_the_plate_and_its_suggestion_holds_once_it_is_taken_over(demo: Hands) -> None:
    demo.stage(TUNE)
    found = demo.wait_for(keys.SUGGESTIONS, 120000).offers
    assert found
    demo.settled()
    assert "checked by full simulation" in demo.sentence
    nearest = next(s for s in found if s.key == "nearest")
    assert "chamber" in nearest.settings.moves(demo.document.project.settings)
    demo.click(demo.page.cards["nearest"][1])
    demo.quick()
    assert demo.document.project.settings == nearest.settings
    # its full simulation was made for the proof: it is there at once, and everybody shows it
    assert demo.judgement.assessed["loose_plate"].source == "full"
    assert demo.judgement.whole is State.HOLDS
    assert demo.judgement.anything == pytest.approx(nearest.judgement.anything)
    demo.stage(WARP)
    demo.quick()
    soon(demo)


def test_a_bonded_bed_has_no_plate_to_lift(open_window: Callable[..., Hands]) -> None:
    bundle = sample("boathouse")
    layers = tuple(x.model_copy(update={"bonded": True}) for x in bundle.project.rig.bed.layers)
    bed = bundle.project.rig.bed.model_copy(update={"layers": layers})
    rig = bundle.project.rig.model_copy(update={"bed": bed})
    hands = open_window(Bundle(bundle.project.model_copy(update={"rig": rig}), bundle.originals))
    hands.stage(WARP)
    hands.quick()
    assert hands.plate is None
    assert figure(hands) is None
    soon(hands)


def test_without_a_part_nothing_is_judged(open_window: Callable[..., Hands]) -> None:
    hands = open_window(sample("windowsill"))
    hands.stage(WARP)
    hands.quick()
    assert hands.plate is None
    assert STAGES["warp"].state(hands.document) is State.NOT_COMPUTED


def test_before_a_run_the_part_is_seen_as_drawn_and_every_resolution_is_timed(
    open_window: Callable[..., Hands], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(EstimateView, "also", lambda _: ())  # no run of its own accord while this looks
    demo = open_window(sample("boathouse"))
    demo.stage(WARP)
    demo.quick()
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
    demo.settled()
    demo.bot.waitUntil(lambda: "MB" in view.expectation.text(), timeout=30000)
    assert view.picture.view.tallest < float(drawn.mesh.size[2])
