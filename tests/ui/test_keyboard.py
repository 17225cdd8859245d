"""Work by keyboard alone: Tab reaches every control of every view and comes round again, and the guide's way from a machine to
a plan and its outcome is walked without a mouse."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QApplication,
    QComboBox,
    QDateTimeEdit,
    QLineEdit,
    QWidget,
)

from mandorla.core.logbook.records import Print
from mandorla.core.project.samples import new_bundle
from mandorla.ui.palette_box import PaletteBox
from mandorla.ui.stages.registry import STAGES
from tests.core.bundles import small_bundle
from tests.core.solids import block, stl
from tests.ui.conftest import Hands, guarded

pytestmark = pytest.mark.gui
MOST = 400  # stops of one round


def at_focus() -> QWidget:
    widget = QApplication.focusWidget()
    assert widget is not None, "nothing has the focus"
    return widget


def tab() -> QWidget:
    """Go on by Tab; where it went."""
    QTest.keyClick(at_focus(), Qt.Key.Key_Tab)
    return at_focus()


def said(widget: QWidget) -> str:
    """What a screen reader says of a control."""
    return widget.accessibleName() or (widget.text() if isinstance(widget, QAbstractButton) else widget.objectName())


def round_trip() -> list[QWidget]:
    """Every stop of Tab until the first comes again; a date's parts are stops within one control."""
    stops = [tab()]
    for _ in range(MOST):
        now = tab()
        for _ in range(6 if isinstance(now, QDateTimeEdit) else 0):
            if now is not stops[-1]:
                break
            now = tab()
        if now is stops[0] and len(stops) > 1:
            return stops
        if now is not stops[0]:
            assert now is not stops[-1], f"Tab does not leave {type(now).__name__} “{said(now)}”"
            stops.append(now)
    raise AssertionError(f"Tab does not come round: {[said(w) for w in stops[-6:]]}")


def reachable(window: QWidget) -> list[QWidget]:
    """Controls that a person sees and may use."""
    kinds = (QAbstractButton, QComboBox, QLineEdit, QAbstractItemView)
    found = [w for kind in kinds for w in window.findChildren(kind) if w.isVisible() and w.isEnabled()]
    return [w for w in found if w.focusPolicy() & Qt.FocusPolicy.TabFocus]


@pytest.mark.parametrize("key", STAGES)
def test_tab_reaches_every_control_of_a_stage_and_comes_round(open_window: Callable[..., Hands], key: str) -> None:
    hands = open_window(small_bundle())
    hands.stage(key)
    page = hands.page.stage_page
    for index in range(len(page.views)):
        page.open(index)
        hands.quick()
        page.setFocus()
        hands.window.focusNextChild()
        trip = round_trip()
        stops = {id(w) for w in trip}
        missed = [
            (type(w).__name__, said(w)) for w in reachable(hands.window)
            if id(w) not in stops and id(w.focusProxy()) not in stops and not inside(w, stops)
        ]  # fmt: skip
        assert not missed, f"{key}, {page.view.topic}: {missed}; {[said(w) for w in trip]}"


def inside(widget: QWidget, stops: set[int]) -> bool:
    """Whether a part of a control (the editor of a spin box, the list of a box) is reached with it."""
    parent = widget.parentWidget()
    return parent is not None and (id(parent) in stops or inside(parent, stops))


def book(hands: Hands) -> tuple[Print, ...]:
    """The prints of the logbook as it is shown."""
    shown = hands.document.logbook.shown
    return shown.prints if shown is not None else ()


class Keys:
    """Somebody who has no mouse."""

    def __init__(self, hands: Hands) -> None:
        self.hands = hands

    def reach(self, name: str) -> QWidget:
        """Tab until the control of this name has the focus."""
        for _ in range(MOST):
            if said(tab()).startswith(name):
                return at_focus()
        raise AssertionError(f"“{name}” is not reached by Tab")

    def push(self, name: str) -> None:
        """Go to a button and press the space bar."""
        assert isinstance(self.reach(name), QAbstractButton)
        QTest.keyClick(at_focus(), Qt.Key.Key_Space)
        QApplication.processEvents()

    def write(self, name: str, text: str) -> None:
        """Go to a field and write over what is in it."""
        field = self.reach(name)
        assert isinstance(field, QLineEdit)
        QTest.keyClick(field, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
        QTest.keyClicks(field, text)
        QTest.keyClick(field, Qt.Key.Key_Return)
        QApplication.processEvents()

    def find(self, text: str) -> None:
        """Ctrl+K, some words, Enter."""

        def act() -> None:
            box = QApplication.activeModalWidget()
            if box is None:  # a slow machine is still opening it
                QTimer.singleShot(50, act)
                return
            assert isinstance(box, PaletteBox)
            QTest.keyClicks(box.line, text)
            QTest.keyClick(box.line, Qt.Key.Key_Return)

        with guarded():
            QTimer.singleShot(100, act)
            self.hands.press("Ctrl+K")
        self.hands.window.activateWindow()  # what a window manager does when a dialog closes
        QApplication.processEvents()


def test_the_guides_way_by_keyboard_alone(open_window: Callable[..., Hands], tmp_path: Path) -> None:
    """A machine is described, a part opened, the answer asked where it comes from, a lever set, the plan read, the end entered."""
    hands = open_window(new_bundle())
    keys, mesh, log = Keys(hands), tmp_path / "cover.stl", tmp_path / "book.db"
    mesh.write_bytes(stl(block(120.0, 80.0, 20.0)))
    hands.document.logbook.use(log)
    hands.window.beginnings.show()
    page = hands.window.beginnings.page
    assert page is not None
    QApplication.processEvents()
    # the machine
    assert at_focus() is page.kind, "one begins at once"
    keys.write("Bed, width", "320 mm")
    keys.write("Bed, depth", "320 mm")
    hands.in_file_dialog(mesh, lambda: keys.push("Mesh"))
    keys.push("Show the first answer")
    hands.bot.waitUntil(lambda: hands.window.beginnings.page is None, timeout=30000)
    assert hands.window.stage == "warp"
    hands.settled()
    first = hands.sentence
    assert first
    # where a figure comes from
    hands.press("F2")
    card = hands.window.explaining.card
    assert card is not None
    hands.bot.waitUntil(lambda: "What goes into it" in card.text.toPlainText(), timeout=60000)
    QTest.keyClick(card, Qt.Key.Key_Escape)
    assert not card.isVisible()
    # a setting found by its name, changed, and taken back
    keys.find("bed, rest")
    field = at_focus()
    assert isinstance(field, QLineEdit)
    before = hands.document.project.settings.bed_rest
    QTest.keyClick(field, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
    QTest.keyClicks(field, "80 °C")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert hands.document.project.settings.bed_rest == pytest.approx(353.15)
    hands.press("Ctrl+Z")
    assert hands.document.project.settings.bed_rest == pytest.approx(before)
    # the plan, then what came of it
    hands.press("Ctrl+7")
    assert hands.window.stage == "run"
    hands.settled()
    assert hands.sentence
    hands.press("Ctrl+8")
    assert hands.window.stage == "logbook"
    hands.settled()
    keys.push("Begin a logbook")
    hands.bot.waitUntil(lambda: hands.document.logbook.shown is not None, timeout=30000)
    hands.settled()
    keys.push("Begin print")
    hands.bot.waitUntil(lambda: len(book(hands)) == 1, timeout=30000)
    hands.settled()
    keys.push("Held: nothing to be seen")
    hands.bot.waitUntil(lambda: book(hands)[0].entered, timeout=30000)
    # kept
    target = tmp_path / "mine.mandorla"
    hands.in_file_dialog(target, lambda: hands.press("Ctrl+S"))
    hands.bot.waitUntil(target.exists, timeout=20000)
