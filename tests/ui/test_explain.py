"""Every figure on screen can be asked where it comes from: by click, by F2, with the keyboard alone."""

from __future__ import annotations

import re
from collections.abc import Callable

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QWidget

from mandorla.core.results.figures import figure_meanings, meaning_of_figure
from mandorla.core.results.keys import EXPLAINED
from mandorla.ui.explain_card import ExplainCard
from mandorla.ui.live_results import Standing
from mandorla.ui.stages.registry import STAGES
from mandorla.ui.stages.view import View
from mandorla.ui.widgets.console import VERDICT_KEYS
from mandorla.ui.widgets.figures import FigureList, topic_of
from tests.core.bundles import small_bundle
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui


@pytest.fixture
def hands(open_window: Callable[..., Hands]) -> Hands:
    return open_window(small_bundle())


def card_of(hands: Hands) -> ExplainCard:
    card = hands.window.explaining.card
    assert card is not None
    assert card.isVisible()
    return card


def full_text(hands: Hands) -> str:
    card = card_of(hands)
    hands.bot.waitUntil(lambda: "What goes into it" in card.text.toPlainText(), timeout=30000)
    return card.text.toPlainText()


def test_every_view_and_every_figure_has_a_card(hands: Hands) -> None:
    """Whatever shows digits in a view lies in something that can be explained."""
    views = {f"{key}.{view.key}" for key in STAGES for view in (hands.stage(key) or hands.page.stage_page).views}
    known = {key for key in figure_meanings() if "." in key}
    assert views == known
    for key in STAGES:
        hands.stage(key)
        page = hands.page.stage_page
        for index in range(len(page.views)):
            page.open(index)
            view = page.view
            assert view.topic == f"{key}.{view.key}"
            for shown in view.findChildren(FigureList):
                for figure in shown.figures:
                    meaning_of_figure(figure.key or topic_of(shown))
            for label in view.findChildren(QLabel):
                if re.search(r"\d", label.text()):
                    meaning_of_figure(topic_of(label))
    for verdict in hands.window.console.verdicts.values():
        meaning_of_figure(topic_of(verdict))


@pytest.mark.parametrize("caption", ["Hold margin", "Ready in", "Fails first"])
def test_a_click_on_a_verdict_explains_it(hands: Hands, caption: str) -> None:
    verdict = hands.window.console.verdicts[caption]
    hands.click(verdict)
    assert card_of(hands).title.text() == meaning_of_figure(VERDICT_KEYS[caption]).title
    text = full_text(hands)
    for heading in ("Now", "What it is", "Least known", "What changes it", "How to measure it", "How it is computed"):
        assert heading in text
    assert verdict.value.text().split(",")[0] in text or caption == "Fails first"
    card_of(hands).close()


def test_f2_explains_the_row_that_has_the_focus_and_enter_too(hands: Hands) -> None:
    hands.stage("warp")
    hands.settled()
    shown = hands.page.figures
    shown.setFocus()
    row = next(i for i, f in enumerate(shown.figures) if f.key == "hold_margin")
    for _ in range(row):
        hands.bot.keyClick(shown, Qt.Key.Key_Down)
    hands.press("F2")
    assert card_of(hands).title.text() == "Hold margin"
    hands.bot.keyClick(card_of(hands), Qt.Key.Key_Escape)
    assert not hands.window.explaining.card.isVisible()
    hands.bot.keyClick(shown, Qt.Key.Key_Up)
    hands.bot.keyClick(shown, Qt.Key.Key_Return)
    above = shown.figures[row - 1].key or topic_of(shown)  # rows stand by their chance: which one is above may differ
    assert hands.window.explaining.key == above
    card_of(hands).close()


def test_a_click_on_a_row_explains_it_and_its_card_leads_on(hands: Hands) -> None:
    hands.stage("heat")
    hands.settled()
    shown = hands.page.figures
    value = next(x for x in shown.findChildren(QLabel) if x.text() == shown.figures[1].value)
    hands.click(value)
    card = card_of(hands)
    assert card.title.text() == meaning_of_figure("offset").title
    full_text(hands)
    hands.click(card.theory_button)
    theory = hands.window.beginnings.help
    assert theory is not None
    assert theory.text.textCursor().block().text().startswith("3. Time and steady state")
    theory.close()
    card.ask("ready")
    assert card.title.text() == "Ready in"
    hands.click(card.go_button)
    assert hands.window.stage == "heat"
    card.close()


def test_f2_without_a_figure_explains_the_view_and_lists_its_figures(hands: Hands) -> None:
    hands.stage("heat")
    hands.settled()
    hands.window.stack.setFocus()
    hands.press("F2")
    text = full_text(hands)
    assert card_of(hands).title.text() == "The heat-up"
    assert "Other figures of this view" in text
    assert "Peak power of both heaters" in text
    assert "“Ready in”" in text, "what is least known speaks of the nearest computed figure and says so"
    card_of(hands).close()


def test_a_card_follows_an_edit(hands: Hands) -> None:
    hands.window.explain("offset")
    before = full_text(hands).splitlines()[1]
    hands.document.edit("settings.bed_first", 340.0, "the bed")
    hands.bot.waitUntil(
        lambda: full_text(hands).splitlines()[1] not in (before, "") and " K" in full_text(hands).splitlines()[1],
        timeout=30000,
    )
    card_of(hands).close()
    hands.document.edit("settings.bed_first", 345.0, "the bed")
    hands.settled()
    results = hands.document.results
    assert results.standing(EXPLAINED.of(figure="offset")) is not Standing.COMPUTING
    assert results.value(EXPLAINED.of(figure="offset")) is None, "nothing is computed for a card that is closed"


def test_a_widget_outside_of_everything_belongs_to_no_figure(qtbot: object) -> None:
    assert topic_of(QWidget()) == ""
    assert topic_of(None) == ""
    assert not hasattr(View, "topic")
