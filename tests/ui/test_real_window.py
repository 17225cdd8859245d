"""A handful of steps through a real window on an X display (tools/test.sh starts Xvfb)."""

from __future__ import annotations

import subprocess
import sys
import time
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QApplication

from mandorla.core.project.samples import sample
from mandorla.core.units import celsius
from tests.core.solids import block, stl
from tests.ui.conftest import Hands

pytestmark = [pytest.mark.gui, pytest.mark.window]


def screen_colors(hands: Hands) -> set[int]:
    """Colours that the display really shows inside the window."""
    hands.bot.wait(150)
    picture = QGuiApplication.primaryScreen().grabWindow(hands.window.winId()).toImage()
    assert picture.width() >= 960
    return {
        picture.pixelColor(x, y).rgb() for x in range(0, picture.width(), 11) for y in range(0, picture.height(), 11)
    }


def display_colors() -> set[int]:
    """Colours on the whole display."""
    picture = QGuiApplication.primaryScreen().grabWindow(0).toImage()
    return {picture.pixelColor(x, y).rgb() for x in range(0, picture.width(), 7) for y in range(0, picture.height(), 7)}


def test_it_runs_on_a_real_display(hands: Hands) -> None:
    assert QGuiApplication.platformName() == "xcb"
    assert len(screen_colors(hands)) > 20


def test_every_stage_is_painted(open_window: Callable[..., Hands]) -> None:
    hands = open_window(sample("boathouse"))
    hands.settled()
    seen = []
    for number in range(1, 7):
        hands.stage(number)
        seen.append(screen_colors(hands))
        assert len(seen[-1]) > 25
    assert all(a != b for a, b in pairwise(seen))


def test_mouse_and_keyboard_change_a_setting(hands: Hands) -> None:
    stepper = hands.window.console.steppers["settings.chamber"]
    hands.click(stepper.up)
    hands.quick()
    assert hands.document.project.settings.chamber == pytest.approx(celsius(51.0))
    hands.bot.wait(1500)  # edits of a field that follow within a second are one step: these are two
    hands.click(stepper.editor)
    hands.bot.waitUntil(lambda: QApplication.focusWidget() is stepper.editor, timeout=3000)
    hands.bot.keyClick(stepper.editor, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
    hands.bot.keyClicks(stepper.editor, "64")
    hands.bot.keyClick(stepper.editor, Qt.Key.Key_Return)
    assert hands.document.project.settings.chamber == pytest.approx(celsius(64.0))
    hands.press("Ctrl+Z")
    assert hands.document.project.settings.chamber == pytest.approx(celsius(51.0))
    hands.press("Ctrl+Z")
    assert hands.document.project.settings.chamber == pytest.approx(celsius(50.0))


def test_a_part_is_opened_and_drawn_in_three_dimensions(hands: Hands, tmp_path: Path) -> None:
    path = tmp_path / "real.stl"
    path.write_bytes(stl(block(90.0, 50.0, 25.0)))
    hands.stage(4)
    hands.in_file_dialog(path, lambda: hands.click(hands.page.open_button))
    hands.bot.waitUntil(lambda: "real.stl opened" in hands.message, timeout=30000)
    hands.quick()
    assert "90 × 50 × 25 mm" in hands.sentence
    hands.bot.waitUntil(lambda: hands.page.view.view.image is not None, timeout=10000)
    picture = hands.page.view.view.grab().toImage()
    colors = {
        picture.pixelColor(x, y).rgb() for x in range(0, picture.width(), 7) for y in range(0, picture.height(), 7)
    }
    assert len(colors) > 8


def test_the_command_opens_the_demo_window(qapp: QApplication) -> None:
    """The program itself, as a person starts it: a window named Mandorla appears and goes when asked to end."""
    before = display_colors()
    child = subprocess.Popen([sys.executable, "-m", "mandorla", "--demo"], stderr=subprocess.PIPE, text=True)
    try:
        for _ in range(100):
            QApplication.processEvents()
            time.sleep(0.2)
            if len(display_colors() - before) > 20:
                break
        assert child.poll() is None, "it runs"
        assert len(display_colors() - before) > 20, "its window is painted on the display"
    finally:
        child.terminate()
        _, err = child.communicate(timeout=10)
    assert "Traceback" not in err, err
