"""Help inside, and everything reached by typing."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QApplication

from mandorla.ui.help_window import ABOUT, LIMITS, SECTIONS, TEXTS, THEORY, help_text
from mandorla.ui.palette_box import PaletteBox, entries_of, matching
from mandorla.ui.stages.registry import STAGES
from tests.core.bundles import small_bundle
from tests.ui.conftest import Hands, guarded

pytestmark = pytest.mark.gui
ROOT = Path(__file__).resolve().parents[2]


@pytest.fixture
def hands(open_window: Callable[..., Hands]) -> Hands:
    return open_window(small_bundle())


def test_the_guide_that_ships_is_the_documents() -> None:
    assert help_text() == (ROOT / "docs" / "user-guide.md").read_text(encoding="utf-8")
    assert help_text(THEORY) == (ROOT / "docs" / "theory.md").read_text(encoding="utf-8")
    limits = help_text(LIMITS)
    assert limits == (ROOT / "docs" / "limits.md").read_text(encoding="utf-8")
    assert all(f"## {stage.title}\n" in limits for stage in STAGES.values()), "every stage says what it cannot know"
    assert set(STAGES) <= set(SECTIONS)
    for heading in SECTIONS.values():
        assert f"## {heading}\n" in help_text()


def test_f1_opens_the_guide_at_the_stage_and_it_is_searched(hands: Hands) -> None:
    hands.stage("warp")
    hands.press("F1")
    page = hands.window.beginnings.help
    assert page is not None
    assert page.isVisible()
    assert page.text.textCursor().block().text() == "5. Warp"
    hands.type_into(page.search, "ladder")
    assert page.text.textCursor().selectedText().lower() == "ladder"
    hands.type_into(page.search, "no such words at all")
    assert "not in the guide" in page.told.text()
    page.close()


def test_ctrl_k_reaches_stages_views_actions_and_polymers(hands: Hands) -> None:
    def type_and_take(text: str) -> None:
        def act() -> None:
            box = QApplication.activeModalWidget()
            if box is None:  # a slow machine is still opening it
                QTimer.singleShot(50, act)
                return
            assert isinstance(box, PaletteBox)
            hands.bot.keyClicks(box.line, text)
            assert box.list.count() > 0
            hands.bot.keyClick(box.line, Qt.Key.Key_Return)

        with guarded():
            QTimer.singleShot(100, act)
            hands.press("Ctrl+K")

    type_and_take("logbook")
    assert hands.window.stage == "logbook"
    type_and_take("diagnose")
    assert hands.page.stage_page.view.key == "diagnose"
    type_and_take("print in petg")
    assert hands.document.project.process.polymer == "petg"
    type_and_take("lift accepted")
    assert hands.window.stage == "tune"
    type_and_take("bed, rest field")
    focused = hands.window.focusWidget()
    assert focused is not None
    assert focused.objectName() == "settings.bed_rest", "the field itself has the keyboard"


def test_every_word_has_to_stand_and_beginnings_come_first(hands: Hands) -> None:
    entries = entries_of(hands.window)
    assert matching(entries, "save")[0].text == "Save"
    assert matching(entries, "zzz") == []
    assert len(matching(entries, "")) == 12
    assert all("bed" in e.text.lower() for e in matching(entries, "bed field"))


def test_the_page_about_the_program_names_packages_licences_and_sources(hands: Hands) -> None:
    text = help_text(ABOUT)
    for package in ("numpy", "scipy", "pyside6-essentials", "vtk", "reportlab"):
        row = next(line for line in text.splitlines() if line.startswith(f"| {package} |"))
        assert "not stated" not in row
        assert "missing" not in row
    assert "Incropera" in text
    assert "certifies nothing" in text
    for name, title in TEXTS.items():
        next(a for a in hands.window.actions() if a.text() == title).trigger()
        page = hands.window.beginnings.help
        assert page is not None
        assert page.which.currentData() == name
        assert len(page.text.toPlainText()) > 1000
    page.close()
