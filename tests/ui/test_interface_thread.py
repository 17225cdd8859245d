"""The interface's thread draws and never computes: every view of every stage, with edits and a change of theme between them."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication

from mandorla.core.project.samples import sample
from mandorla.core.results import registry, results
from mandorla.core.results.key import Key
from mandorla.ui.stages.registry import STAGES
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui


def test_no_result_is_computed_on_the_interfaces_thread(
    open_window: Callable[..., Hands], monkeypatch: pytest.MonkeyPatch
) -> None:
    here, inside, found = threading.get_ident(), registry.function_of, []

    def watched(key: Key[Any]) -> Callable[..., Any]:
        function = inside(key)

        def compute(*given: Any) -> Any:
            # a judgement of what is known already is a few milliseconds of words and sums
            if threading.get_ident() == here and key.name != "judgement":
                found.append(str(key))
            return function(*given)

        return compute

    monkeypatch.setattr(results, "function_of", watched)
    hands = open_window(sample("boathouse"))
    for stage in STAGES:
        hands.stage(stage)
        for view in hands.window.page.views:
            hands.view(view.key)
            QApplication.processEvents()
    hands.document.edit("settings.bed_rest", 375.0, "bed")
    hands.window.appearance.switches["dark"].trigger()
    for stage in STAGES:
        hands.stage(stage)
        QApplication.processEvents()
    assert found == []


def test_tab_walks_out_of_every_table_and_list(open_window: Callable[..., Hands]) -> None:
    """With the keyboard alone everything behind a table is reached."""
    hands = open_window(sample("boathouse"))
    hands.stage("warp")
    hands.view("causes")
    hands.settled(timeout=60000)
    tables = [hands.page.why_view.cause_table, hands.page.why_view.lever_table]
    for table in tables:
        table.setFocus()
        assert QApplication.focusWidget() is table
        hands.bot.keyClick(table, Qt.Key.Key_Tab)
        assert QApplication.focusWidget() is not table
        hands.bot.keyClick(QApplication.focusWidget(), Qt.Key.Key_Backtab)
        assert QApplication.focusWidget() is table
        hands.bot.keyClick(table, Qt.Key.Key_Down)
        assert table.currentRow() >= 0
