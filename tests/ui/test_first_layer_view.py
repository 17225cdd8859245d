"""The first layer: what is known is typed in, a height map is taken, the nozzle is set, all with mouse and keyboard."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from mandorla.core.failure.state import State
from mandorla.core.project.samples import sample
from mandorla.core.results import keys
from tests.ui.conftest import Hands


@pytest.fixture
def hands(open_window: Callable[..., Hands]) -> Hands:
    """The demo at its first layer."""
    found = open_window(sample("boathouse"))
    found.stage("warp")
    found.view("first")
    found.quick()
    return found


def test_nothing_is_known_until_it_is_said(hands: Hands) -> None:
    view = hands.page.view
    assert "Nothing is known of the gap" in hands.sentence
    assert not view.nudge.isVisible()
    hands.click(view.notice.button)
    hands.quick()
    hands.wait_for(keys.FIRST_LAYER_SHOWN)
    assert "first_too_far" in hands.evaluation.judgement.counted
    assert "The nozzle stands" in hands.sentence
    hands.press("Ctrl+Z")
    hands.quick()
    assert "first_too_far" not in hands.evaluation.judgement.counted
    assert "Nothing is known of the gap" in hands.sentence


def test_a_nozzle_that_stands_too_far_fails_everywhere_until_it_is_set(hands: Hands) -> None:
    view = hands.page.view
    hands.click(view.notice.button)
    hands.type_into(hands.field("process.first.offset"), "0.15 mm")
    hands.wait_for(keys.FIRST_LAYER_SHOWN)
    far = hands.evaluation.judgement.assessed["first_too_far"]
    assert far.state is State.FAILS
    assert "gaps between the lines" in view.lines.words[0]
    console = hands.window.console.verdicts["Fails first"]
    assert console.value.text() == "Lines apart"
    assert hands.sentence.startswith("Best with the nozzle 0.1")
    assert view.nudge.text().startswith("Nozzle 0.1")
    hands.click(view.nudge)
    hands.wait_for(keys.FIRST_LAYER_SHOWN)
    assert hands.evaluation.judgement.assessed["first_too_far"].state is State.HOLDS
    assert hands.document.project.process.first.offset < 0.00003
    assert "The nozzle stands" in hands.sentence


def test_a_map_from_verify_and_a_raised_corner_are_in_the_gap(hands: Hands) -> None:
    view = hands.page.view
    hands.click(view.notice.button)
    hands.choose("process.first.seat", "rear left")
    hands.type_into(hands.field("process.first.seat_height"), "0.5 mm")
    hands.wait_for(keys.FIRST_LAYER_SHOWN)
    assert "No height of the nozzle is right everywhere" in hands.sentence
    assert "rear-left" in view.lines.words[2]
    view.maps.setFocus()
    hands.press("Down")
    hands.quick()
    first = hands.document.project.process.first
    assert first.probed is not None
    assert first.probed.state == "cold"
    hands.type_into(hands.field("process.first.compensated"), "100 %")
    hands.wait_for(keys.GAP_MAP)
    assert set(hands.result(keys.GAP_MAP).parts) == {"plate", "bow", "seat"}
    hands.click(view.begin)
    assert hands.document.project.process.first is None
