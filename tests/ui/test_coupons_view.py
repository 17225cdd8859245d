"""Pull-off coupons: read in, a torn leg ticked, practised, and what they teach the prediction."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from mandorla.core.project.samples import sample
from mandorla.core.results import keys
from mandorla.core.units import celsius
from tests.ui.conftest import Hands


def test_coupons_are_typed_in_and_narrow_the_grip_of_their_side(open_window: Callable[..., Hands]) -> None:
    hands = open_window(sample("boathouse"))
    hands.stage("verify")
    hands.view("trials")
    before = dict(hands.evaluation.warp.spreads["margin"])
    view = hands.page.view
    hands.click(view.buttons["coupon"])
    trial = view.trial
    process = hands.document.project.process
    assert (trial.polymer, trial.on_plate, trial.surface) == (process.polymer, "slipway", "polyetherimide_textured")
    for at, force, torn in (
        ("70 °C", "40 N", False),
        ("85 °C", "75 N", False),
        ("95 °C", "110 N", False),
        ("100 °C", "150 N", True),
    ):
        if torn:
            hands.click(view.torn)
        view.at.setText(at)
        view.read.setText(force)
        hands.click(view.add_button)
    assert [r.torn for r in view.trial.readings] == [False, False, False, True]
    assert view.trial.readings[0].temperature == pytest.approx(celsius(70))
    hands.wait_for(keys.LEARNED)
    hands.quick()
    hands.bot.waitUntil(lambda: "torn" in view.rows.text(), timeout=5000)
    assert "Grip of ASA" in view.figures.figures[0].caption
    after = hands.evaluation.warp.spreads["margin"]
    assert abs(after["grip on the plate"]) < 0.7 * abs(before["grip on the plate"])
    hands.click(view.practice_button)
    hands.bot.waitUntil(lambda: len(view.trial.readings) == 10, timeout=20000)
    assert view.trial.note == "made up for practice"
    assert not view.trial.used
