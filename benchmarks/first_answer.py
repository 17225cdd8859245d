"""From nothing to a verdict with a suggestion, driven through the real window: fields, actions and seconds for three machines.

Usage: first_answer.py [--windowed]; offscreen without it. Counts what a person does (fields typed, choices made, clicks, a mesh
dropped) and the seconds that the program lets them wait; how long a person takes to type is not part of it.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

if "--windowed" not in sys.argv:
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
os.environ["MANDORLA_HOME"] = tempfile.mkdtemp()

import numpy as np
import trimesh
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDragEnterEvent, QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox, QLineEdit, QPushButton

from mandorla.core.project.samples import new_bundle
from mandorla.core.results.keys import EVALUATION, OPENERS, SUGGESTIONS
from mandorla.ui.application import make_application
from mandorla.ui.document import Document
from mandorla.ui.main_window import MainWindow
from mandorla.ui.preferences import Preferences
from mandorla.ui.start_page import StartPage

MOST_FIELDS, MOST_ACTIONS, MOST_SECONDS = 10, 15, 180.0


@dataclass
class Tried:
    """One machine and part: what is chosen and typed, by name."""

    name: str
    kind: str
    facts: dict[str, str]
    polymer: str
    surface: str
    size: tuple[float, float, float]
    fields: int = 0
    actions: int = 0
    first: float = field(default=float("nan"))
    whole: float = field(default=float("nan"))
    said: str = ""


CASES = (
    Tried("open, 235 mm, PLA box", "open", {"width": "235 mm", "depth": "235 mm", "heater": "220 W", "room": "19 °C"}, "pla",
          "bare_glass", (120.0, 80.0, 40.0)),
    Tried("closed, 350 mm, ABS bracket", "closed",
          {"width": "350 mm", "depth": "350 mm", "plate": "8 mm", "heater": "900 W", "bed_max": "115 °C"}, "abs",
          "polyetherimide_textured", (220.0, 60.0, 35.0)),
    Tried("hot, 420 mm, PC frame", "hot",
          {"width": "420 mm", "depth": "380 mm", "chamber_height": "500 mm", "chamber_max": "110 °C"}, "pc",
          "polyetherimide_smooth", (180.0, 140.0, 20.0)),
)  # fmt: skip


class Person:
    """Does what a person does, and counts it."""

    def __init__(self, window: MainWindow, tried: Tried) -> None:
        self.window, self.tried = window, tried

    def type_into(self, edit: QLineEdit, text: str) -> None:
        """A field is changed."""
        edit.setFocus()
        edit.selectAll()
        QTest.keyClicks(edit, text)
        self.tried.fields += 1
        self.tried.actions += 1

    def choose(self, box: QComboBox, key: str) -> None:
        """A list is changed; nothing where it stands so already."""
        if box.currentData() == key:
            return
        box.setCurrentIndex(box.findData(key))
        assert box.currentData() == key, key
        self.tried.fields += 1
        self.tried.actions += 1

    def click(self, button: QPushButton) -> None:
        """A button is pressed."""
        assert button.isEnabled()
        QTest.mouseClick(button, Qt.MouseButton.LeftButton)
        self.tried.actions += 1

    def drop(self, path: Path) -> None:
        """A mesh is dropped onto the window."""
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(path))])
        left, none = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
        enter = QDragEnterEvent(QPoint(300, 300), Qt.DropAction.CopyAction, data, left, none)
        QApplication.sendEvent(self.window, enter)
        assert enter.isAccepted()
        QApplication.sendEvent(self.window, QDropEvent(QPointF(300, 300), Qt.DropAction.CopyAction, data, left, none))
        self.tried.actions += 1


def wait(done: Callable[[], bool], seconds: float = 300.0) -> None:
    """Let the window work until something is there."""
    until = time.monotonic() + seconds
    while not done() and time.monotonic() < until:
        QApplication.processEvents()
        time.sleep(0.005)
    assert done(), "it never came"


def go_through(tried: Tried, folder: Path) -> None:
    """One case from an empty start."""
    mesh = folder / "part.stl"
    trimesh.creation.box(extents=np.array(tried.size)).export(mesh)
    preferences = Preferences()
    window = MainWindow(Document(new_bundle(), None, preferences.units), preferences)
    window.show()
    window.beginnings.show()
    QApplication.processEvents()
    page = window.beginnings.page
    assert isinstance(page, StartPage)
    person = Person(window, tried)
    person.choose(page.kind, tried.kind)
    for name, text in tried.facts.items():
        person.type_into(page.fields[name], text)
    person.choose(page.polymer, tried.polymer)
    person.choose(page.surface, tried.surface)
    person.drop(mesh)
    began = time.perf_counter()
    person.click(page.begin_button)
    wait(lambda: window.beginnings.page is None and window.document.results.value(EVALUATION) is not None)
    tried.first = time.perf_counter() - began
    person.click(window.rail.buttons["tune"])
    key = SUGGESTIONS.of(check=True)
    assert window.document.project.part is not None
    wait(lambda: window.document.results.value(key) is not None or window.document.results.error(key) is not None)
    offered = window.document.results.value(key)
    if offered is None or not offered.offers:
        wait(lambda: window.document.results.value(OPENERS.of(check=True)) is not None, 200.0)
    tried.whole = time.perf_counter() - began
    wait(lambda: "being" not in window.page.sentence.text(), 30.0)
    tried.said = window.page.sentence.text()
    window.document.undo_stack.setClean()
    window.close()


def main() -> int:
    """Print the table."""
    make_application()
    print(f"{'':30s} fields  actions  first answer  with suggestion")
    met = True
    for tried in CASES:
        with tempfile.TemporaryDirectory() as folder:
            go_through(tried, Path(folder))
        fits = tried.fields <= MOST_FIELDS and tried.actions <= MOST_ACTIONS and tried.whole <= MOST_SECONDS
        met &= fits
        print(f"{tried.name:30s} {tried.fields:6d}  {tried.actions:7d}  {tried.first:10.1f} s  {tried.whole:13.1f} s  "
              f"{'met' if fits else 'MISSED'}")  # fmt: skip
        print(f"    {tried.said}")
    print(f"asked: at most {MOST_FIELDS} fields, {MOST_ACTIONS} actions, three minutes: {'met' if met else 'missed'}")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
