"""A table without rows says what would fill it, and no longer once it is filled."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from PySide6.QtWidgets import QLabel
from pytestqt.qtbot import QtBot

from mandorla.ui.widgets.pick_list import TextTable
from tests.core.bundles import small_bundle
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui


def test_it_is_said_in_the_middle_until_there_are_rows(qtbot: QtBot) -> None:
    table = TextTable("Things", ("Thing", "Count"), "Nothing yet")
    qtbot.addWidget(table)
    table.resize(300, 200)
    table.show()
    said = table.viewport().findChild(QLabel)
    assert (table.empty, said.text(), said.isVisible()) == ("Nothing yet", "Nothing yet", True)
    assert abs(said.geometry().center().x() - table.viewport().rect().center().x()) <= 1
    table.show_rows([["a", "1"]])
    assert not said.isVisible()
    table.show_rows([])
    assert said.isVisible()
    table.say_empty("Gone")
    assert said.text() == "Gone"


@pytest.mark.parametrize(("stage", "view"), [("tune", "optimum"), ("run", "file")])
def test_a_table_that_stands_empty_on_a_new_project_says_why(
    open_window: Callable[..., Hands], stage: str, view: str
) -> None:
    hands = open_window(small_bundle())
    hands.stage(stage)
    hands.view(view)
    page = hands.page.stage_page.view

    def empty() -> list[TextTable]:
        return [t for t in page.findChildren(TextTable) if t.isVisible() and not t.rowCount()]

    hands.bot.waitUntil(lambda: bool(empty()), timeout=20000)
    assert [t.accessibleName() for t in empty() if not t.empty] == []
