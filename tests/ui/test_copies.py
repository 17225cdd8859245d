"""Copies on the plate: which is likeliest to be lost, and what a loose one costs where they belong together."""

from __future__ import annotations

from collections.abc import Callable

from mandorla.core.failure.chances import batch_sentence
from mandorla.core.project.samples import sample, sample_part
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from tests.ui.conftest import Hands


def test_copies_are_judged_by_the_run_and_linked_ones_as_one(open_window: Callable[..., Hands]) -> None:
    base = sample("boathouse")
    source, files = sample_part("sail-clips")
    cold = base.project.settings.model_copy(update={"bed_first": 335.0, "bed_rest": 330.0})
    project = base.project.model_copy(update={"part": source, "settings": cold})
    hands = open_window(Bundle(project, {**base.originals, **files}))
    hands.stage("warp")
    hands.view("probability")
    quick = hands.wait_for(keys.BATCH)
    view = hands.page.view
    assert quick is not None
    assert view.copies_frame.isVisible()
    assert len(view.copies.figures) == 6
    hands.document.results.ask(keys.FULL_RUN.of(resolution="draft"))
    full = hands.wait_for(keys.BATCH.of(full="draft"), 60000)
    hands.bot.waitUntil(lambda: view.copies_text.text() == batch_sentence(full, linked=False), timeout=5000)
    hands.switch("process.linked", True)
    hands.bot.waitUntil(lambda: "one lost ruins all" in view.copies_text.text(), timeout=60000)
