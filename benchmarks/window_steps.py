"""Random steps through the real window: edits, undo, stages, views, projects opened, runs begun and stopped; openings in a row.

Usage: window_steps.py [--steps N] [--openings M] [--seed S]. Prints memory every tenth, on one page of one project, threads,
exceptions that nobody caught, and whether memory stayed flat after the first fifth (warm-up). Every action is one a person has:
keys, clicks, fields.
"""

from __future__ import annotations

import argparse
import ctypes
import gc
import logging
import os
import random
import sys
import tempfile
import threading
import time
import traceback
from pathlib import Path
from types import TracebackType

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["MANDORLA_HOME"] = tempfile.mkdtemp()

from PySide6.QtCore import QEvent, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QCheckBox, QComboBox, QLineEdit, QMessageBox, QPushButton, QWidget

from mandorla.core.project.samples import SAMPLES, sample
from mandorla.core.project.store import write_bundle
from mandorla.ui.application import make_application
from mandorla.ui.document import Document
from mandorla.ui.main_window import MainWindow
from mandorla.ui.preferences import Preferences
from mandorla.ui.stages.registry import STAGES

TYPED = ("0", "1", "7.5", "20", "60", "100", "300", "-3", "abc", "1e9", "50 %", "80 °C")
_SETTLES = 40.0  # s at most until nothing is under way
FLAT = 0.10  # growth after the warm-up that is asked for at most, a share
# buttons that open a file dialog of the desktop, print, or wait for somebody
NOT_PUSHED = (
    "…",
    "Save",
    "Watch",
    "Listen",
    "Export",
    "Restore",
    "Search",
    "Demo",
    "Open",
    "Project",
    "Report",
    "View",
)


def memory() -> float:
    """Resident memory of this process, MB, without the holes that it gives back every twenty seconds by itself."""
    gc.collect()
    ctypes.CDLL(None).malloc_trim(0)
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE") / 1e6


def turn(app: QApplication) -> None:
    """One turn of the event loop, with what it deletes when it is left."""
    app.processEvents()
    app.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)


class Walker:
    """Somebody who does anything, in no order."""

    def __init__(self, window: MainWindow, app: QApplication, seed: int, files: list[Path]) -> None:
        self.window, self.app, self.files = window, app, files
        self.rng = random.Random(seed)
        self.done: dict[str, int] = {}

    def step(self) -> None:
        """One action, and whatever the interface has to do then."""
        action = self.rng.choices(
            [
                self.edit,
                self.typed,
                self.undo,
                self.stage,
                self.view,
                self.push,
                self.choose,
                self.tick,
                self.open,
                self.cancel,
            ],
            [18, 14, 12, 14, 16, 10, 8, 4, 2, 3],
        )[0]
        self.done[action.__name__] = self.done.get(action.__name__, 0) + 1
        action()
        until = time.monotonic() + self.rng.choice((0.0, 0.0, 0.01, 0.05))
        turn(self.app)
        while time.monotonic() < until:
            turn(self.app)
        for box in [w for w in QApplication.topLevelWidgets() if isinstance(w, QMessageBox) and w.isVisible()]:
            box.reject()

    def _seen(self, kind: type[QWidget]) -> list[QWidget]:
        return [w for w in self.window.findChildren(kind) if w.isVisible() and w.isEnabled()]

    def edit(self) -> None:
        """A step of the console."""
        stepper = self.rng.choice(list(self.window.console.steppers.values()))
        QTest.mouseClick(self.rng.choice((stepper.up, stepper.down)), Qt.MouseButton.LeftButton)

    def typed(self) -> None:
        """Something into a field."""
        fields = [w for w in self._seen(QLineEdit) if not w.isReadOnly()]
        if fields:
            field = self.rng.choice(fields)
            field.setFocus()
            field.selectAll()
            QTest.keyClicks(field, self.rng.choice(TYPED))
            QTest.keyClick(field, Qt.Key.Key_Return)

    def undo(self) -> None:
        """Back, or forward again."""
        stack = self.window.document.undo_stack
        stack.undo() if self.rng.random() < 0.7 else stack.redo()

    def stage(self) -> None:
        """Another stage."""
        self.window.show_stage(self.rng.choice(list(STAGES)))

    def view(self) -> None:
        """Another view of the stage."""
        self.window.page.open(self.rng.randrange(len(self.window.page.views)))

    def push(self) -> None:
        """A button of the page that asks for no file."""
        buttons = [
            b for b in self.window.page.findChildren(QPushButton)
            if b.isVisible() and b.isEnabled() and b.text() and not any(word in b.text() for word in NOT_PUSHED)
        ]  # fmt: skip
        if buttons:
            QTest.mouseClick(self.rng.choice(buttons), Qt.MouseButton.LeftButton)

    def choose(self) -> None:
        """Another entry of a list."""
        boxes = [
            b for b in self.window.page.findChildren(QComboBox) if b.isVisible() and b.isEnabled() and b.count() > 1
        ]
        if boxes:
            QTest.keyClick(self.rng.choice(boxes), self.rng.choice((Qt.Key.Key_Down, Qt.Key.Key_Up)))

    def tick(self) -> None:
        """A switch."""
        boxes = [b for b in self.window.page.findChildren(QCheckBox) if b.isVisible() and b.isEnabled()]
        if boxes:
            QTest.mouseClick(self.rng.choice(boxes), Qt.MouseButton.LeftButton)

    def open(self) -> None:
        """Another project."""
        self.window.document.undo_stack.setClean()
        self.window.open_project(self.rng.choice(self.files))

    def cancel(self) -> None:
        """Stop whatever runs."""
        for job in self.window.document.jobs.running:
            self.window.document.jobs.cancel(job)


def home(window: MainWindow, app: QApplication, file: Path) -> None:
    """The same project and the same page, with nothing under way: memory is compared there."""
    window.document.undo_stack.setClean()
    window.open_project(file)
    window.show_stage(next(iter(STAGES)))
    until = time.monotonic() + _SETTLES
    while time.monotonic() < until and (window.document.jobs.running or time.monotonic() < until - _SETTLES + 5.0):
        turn(app)
        time.sleep(0.01)


def main() -> int:
    """Print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--steps", type=int, default=10000)
    parser.add_argument("--openings", type=int, default=100)
    parser.add_argument("--seed", type=int, default=7)
    options = parser.parse_args()
    errors: list[str] = []

    def caught(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        errors.append("".join(traceback.format_exception(kind, error, trace)))

    class Told(logging.Handler):
        """Jobs that ended with something else than an error of our own: the log has their trace."""

        def emit(self, record: logging.LogRecord) -> None:
            if record.exc_info is not None and record.exc_info[0] is not None:
                caught(*record.exc_info)

    app = make_application()
    logging.getLogger("mandorla").addHandler(Told(logging.ERROR))
    sys.excepthook = caught
    threading.excepthook = lambda a: caught(a.exc_type, a.exc_value or SystemExit(), a.exc_traceback)
    folder, files = Path(tempfile.mkdtemp()), []
    for key in SAMPLES:
        files.append(folder / f"{key}.mandorla")
        write_bundle(files[-1], sample(key))
    preferences = Preferences()
    window = MainWindow(Document(sample("boathouse"), None, preferences.units), preferences)
    window.resize(1280, 800)
    window.show()
    walker = Walker(window, app, options.seed, files)
    began, seen = time.monotonic(), []
    for n in range(options.steps):
        walker.step()
        if (n + 1) % max(options.steps // 10, 1) == 0:
            home(window, app, files[0])
            seen.append(memory())
            print(
                f"{n + 1:6d} steps  {seen[-1]:6.0f} MB  {threading.active_count():3d} threads  {len(errors)} errors",
                flush=True,
            )
    grown = seen[-1] / seen[1] - 1.0 if len(seen) > 2 else 0.0
    print(f"{options.steps} steps in {time.monotonic() - began:.0f} s: {walker.done}")
    print(
        f"memory after the first fifth: {100 * grown:+.0f} % ({'met' if grown <= FLAT else 'missed'}: {100 * FLAT:.0f} % asked)"
    )
    opened = []
    for n in range(options.openings):
        window.document.undo_stack.setClean()
        window.open_project(files[n % len(files)])
        for _ in range(5):
            turn(app)
        if (n + 1) % max(options.openings // 5, 1) == 0:
            opened.append(memory())
            print(f"{n + 1:6d} openings  {opened[-1]:6.0f} MB  {threading.active_count():3d} threads", flush=True)
    if len(opened) > 1:
        each = (opened[-1] - opened[0]) / (options.openings * 0.8)
        print(f"an opening: {each:+.2f} MB ({'met' if each < 0.5 else 'missed'}: 0.5 asked)")
    window.document.undo_stack.setClean()
    window.close()
    for _ in range(50):
        turn(app)
    left = [t.name for t in threading.enumerate() if t is not threading.main_thread() and not t.daemon]
    print(f"threads left: {left or 'none'}")
    for text in list(dict.fromkeys(errors))[:8]:
        print("----\n" + text[-2500:])
    print(f"exceptions that nobody caught: {len(errors)} ({len(set(errors))} kinds)")
    sys.stdout.flush()
    os._exit(1 if errors else 0)


if __name__ == "__main__":
    main()
