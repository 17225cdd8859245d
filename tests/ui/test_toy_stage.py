"""A newcomer's stage: one line in the registry, one folder, one result; it is added here and removed again."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from types import ModuleType
from typing import Any

import pytest
from PySide6.QtWidgets import QLabel, QVBoxLayout

from mandorla.core.errors import InputError
from mandorla.core.failure.state import State
from mandorla.core.project.store import Bundle
from mandorla.core.results.key import Cost, Key
from mandorla.core.results.keys import EVALUATION
from mandorla.core.results.registry import computes, forget
from mandorla.core.runtime import RunContext
from mandorla.ui.stages.page import StagePage
from mandorla.ui.stages.registry import STAGES, Stage
from mandorla.ui.stages.view import View
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui
TOY: Key[float] = Key("toy", "The toy's figure", ("settings.fan",), Cost.SHORT, lambda _: (EVALUATION,))


class ToyView(View):
    key = "figure"
    title = "Figure"

    def __init__(self, document: Any, theme: Any) -> None:
        super().__init__(document, theme)
        self.label = QLabel()
        QVBoxLayout(self.content).addWidget(self.label)

    def uses(self) -> tuple[Key[Any], ...]:
        return (TOY,)

    def headline(self) -> str:
        found = self.results.value(TOY)
        return "" if found is None else f"The toy reads {found:.2f}."

    def draw(self) -> None:
        self.label.setText(f"{self.get(TOY):.3f}")


class ToyPage(StagePage):
    views = (ToyView,)


@pytest.fixture
def toy() -> Iterator[list[float]]:
    asked: list[float] = []

    @computes(TOY)
    def compute(_: Key[float], bundle: Bundle, have: Any, run: RunContext) -> float:
        fan = bundle.project.settings.fan
        asked.append(fan)
        if fan > 0.95:
            raise InputError("The toy bears no full fan.")
        return fan + (0.0 if have(EVALUATION) is None else 1.0)

    module = ModuleType("mandorla.ui.stages.toy.page")
    module.PAGE = ToyPage  # type: ignore[attr-defined]
    sys.modules[module.__name__] = module
    STAGES["toy"] = Stage(
        "toy", "Toy", lambda d: State.HOLDS if d.results.value(TOY) is not None else State.NOT_COMPUTED
    )
    yield asked
    del STAGES["toy"]
    del sys.modules[module.__name__]
    forget(TOY)


def test_a_toy_stage_is_on_the_rail_computes_and_follows_edits(
    toy: list[float], open_window: Callable[..., Hands]
) -> None:
    hands = open_window()
    hands.settled()
    assert toy == [], "what nobody sees is not computed"
    hands.stage("toy")
    assert hands.wait_for(TOY) == pytest.approx(1.0)
    hands.bot.waitUntil(lambda: hands.sentence == "The toy reads 1.00.", timeout=5000)
    assert hands.page.view.label.text() == "1.000"
    hands.document.edit("settings.fan", 0.5, "fan")
    hands.bot.waitUntil(lambda: hands.page.view.label.text() == "1.500", timeout=10000)
    assert toy == [0.0, 0.5]
    hands.document.edit("settings.fan", 1.0, "fan")
    hands.bot.waitUntil(lambda: "bears no full fan" in hands.page.view.notice.text.text(), timeout=10000)
    assert not hands.page.view.drawn, "a figure of another state is not shown as this one's"
    while hands.document.project.settings.fan > 0.0:  # quick edits are taken back as one, slow ones singly
        hands.press("Ctrl+Z")
    hands.bot.waitUntil(lambda: hands.page.view.drawn and hands.page.view.label.text() == "1.000", timeout=10000)
    assert toy.count(0.0) == 1, "taken back, the kept value stands"


def test_removed_it_leaves_no_trace(hands: Hands) -> None:
    assert "toy" not in STAGES
    assert "toy" not in hands.window.rail.buttons
