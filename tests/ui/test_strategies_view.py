"""Strategies side by side: judged, proved, taken over with everything that they change."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from mandorla.core.failure.messages import probability_text
from mandorla.core.project.store import Bundle
from mandorla.core.results.keys import EVALUATION, STRATEGIES
from mandorla.core.units import show
from tests.core.bundles import small_bundle
from tests.core.solids import block, stl
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui


def test_strategies_are_told_side_by_side_and_one_is_taken_over(
    open_window: Callable[..., Hands], runs_kept: None
) -> None:
    small = small_bundle()
    hands = open_window(Bundle(small.project, {"block.stl": stl(block(60.0, 36.0, 12.0))}))
    hands.stage("tune")
    hands.view("strategies")
    found = hands.wait_for(STRATEGIES, 240000)
    hands.settled()
    view = hands.page.stage_page.view_of("strategies")
    assert [f.strategy.key for f in found] == ["hot", "tacky", "lowered", "sealed", "vented"]
    assert len(view.points.series) == len([f for f in found if f.best is not None])
    for row, f in zip(view.table.rows, found, strict=True):
        assert row[0].endswith(f.strategy.title)
        if f.best is not None:
            assert row[1] == probability_text(f.best.judgement.anything)
            assert row[2] == show(f.best.energy.total, "energy")
    holding = [
        k for k, f in enumerate(found)
        if f.best is not None and f.best.judgement.anything <= hands.document.project.criteria.risk
    ]  # fmt: skip
    assert f"{len(holding)} of 5 strategies" in hands.sentence or "None of the strategies holds" in hands.sentence
    sealed = next(k for k, f in enumerate(found) if f.strategy.key == "sealed")
    view.table.selectRow(sealed)
    assert view.name.text() == "Sealed and soaked"
    best = found[sealed].best
    assert best is not None
    hands.click(view.use_button)
    project = hands.document.project
    assert project.rig.chamber.exhaust_fraction == 0.0
    assert project.settings == best.settings
    hands.settled()
    e = hands.document.results.value(EVALUATION)
    assert e is not None
    assert e.energy is not None
    assert e.energy.total == pytest.approx(best.energy.total, rel=1e-9), "what is taken over takes what it said"
    assert hands.judgement.anything == pytest.approx(best.judgement.anything, abs=1e-9)
