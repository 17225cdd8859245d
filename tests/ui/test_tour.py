"""The tour does what its texts say."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from mandorla.core.failure.state import State
from mandorla.core.project.samples import new_bundle
from mandorla.core.results.keys import SUGGESTIONS
from mandorla.ui.tour import STEPS, Tour
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui


def test_the_tour_leads_through_the_demo_and_does_real_steps(open_window: Callable[..., Hands]) -> None:
    hands = open_window(new_bundle())
    hands.window.beginnings.show()
    page = hands.window.beginnings.page
    assert page is not None
    hands.click(hands.button("Tour of the demo", page))
    tour = hands.window.beginnings.tour
    assert isinstance(tour, Tour)
    assert hands.document.project.name == "Winch cradle"
    seen = [hands.window.stage]
    assert not tour.back_button.isEnabled()
    for _ in range(4):
        hands.click(tour.next_button)
        seen.append(hands.window.stage)
        assert STEPS[tour.at].text == tour.text.text()
    assert seen == ["rig", "heat", "warp", "warp", "tune"]
    card = hands.window.explaining.card
    assert card is not None
    assert card.title.text() == "Chance that anything fails"
    card.close()
    before = hands.document.project.settings
    hands.click(tour.next_button)
    if hands.document.results.value(SUGGESTIONS) is None:  # it waits for what checks the suggestion, and says so
        assert "still running" in tour.text.text()
        assert tour.at == 4
        hands.wait_for(SUGGESTIONS, 120000)
        hands.click(tour.next_button)
    assert tour.at == 5
    hands.quick()
    assert hands.document.project.settings != before
    assert hands.judgement.whole is State.HOLDS
    hands.click(tour.next_button)
    assert hands.document.project.settings == before
    hands.click(tour.back_button)
    assert tour.at == 5
    for _ in range(3):
        hands.click(tour.next_button)
    assert hands.window.stage == "logbook"
    assert hands.page.stage_page.view.key == "learned"
    assert tour.next_button.text() == "Done"
    hands.click(tour.next_button)
    assert hands.window.beginnings.tour is None
    assert not tour.isVisible()
