"""Renders the current picture of each main view into docs/screenshots from the demo project (or of one view, to look at).

Usage: shots.py [--out DIR] [--size WxH] [--dark] [--stage N] ; run offscreen.
"""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["MANDORLA_HOME"] = tempfile.mkdtemp()

from PySide6.QtWidgets import QApplication

from mandorla.core.project.samples import sample
from mandorla.core.units import celsius
from mandorla.ui.application import make_application
from mandorla.ui.document import Document
from mandorla.ui.main_window import MainWindow
from mandorla.ui.preferences import Preferences
from mandorla.ui.stages.states import STAGES
from mandorla.ui.workers.jobs import Channel

# further views worth a picture, by stage and position
EXTRA = {"Rig": {1: "above", 2: "chamber", 3: "checks"}, "Heat-up": {1: "across", 6: "fault"},
         "Verify": {1: "readings", 2: "infrared", 3: "logs"}, "Warp": {1: "full", 2: "why", 3: "chances"}}  # fmt: skip


def wait_for(app: QApplication, done: Callable[[], bool], seconds: float = 60.0) -> None:
    """Let the interface work until something is there, and a little longer for the painting."""
    until = time.monotonic() + seconds
    while time.monotonic() < until and not done():
        app.processEvents()
        time.sleep(0.01)
    for _ in range(30):
        app.processEvents()
        time.sleep(0.01)


def settle(window: MainWindow, app: QApplication) -> None:
    """Let the interface work until all results are shown."""
    d = window.document
    wait_for(app, lambda: d.window is not None and not d.window_busy and d.surface is not None and d.plate_is_present)


def main() -> int:
    """Render."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--out", type=Path, default=Path(__file__).resolve().parents[1] / "docs" / "screenshots")
    parser.add_argument("--size", default="1280x800")
    parser.add_argument("--dark", action="store_true")
    parser.add_argument("--stage", type=int, default=None)
    options = parser.parse_args()
    width, height = (int(v) for v in options.size.split("x"))
    app = make_application()
    preferences = Preferences(dark=options.dark)
    window = MainWindow(Document(sample("boathouse"), None, preferences.units), preferences)
    window.resize(width, height)
    window.show()
    settle(window, app)
    window.document.pin("A")
    window.document.edit_many({"settings.chamber": celsius(58.0), "settings.bed_rest": celsius(98.0)}, "Warmer chamber")
    settle(window, app)
    window.document.pin("B")
    window.document.edit_many({"settings.chamber": celsius(44.0), "settings.bed_rest": celsius(94.0)}, "Back")
    settle(window, app)
    options.out.mkdir(parents=True, exist_ok=True)
    for i, page in enumerate(STAGES):
        if options.stage is not None and i != options.stage:
            continue
        window.show_stage(i)
        settle(window, app)
        desk = getattr(window.page, "desk", None)
        wait_for(app, lambda d=desk: d is None or not d.busy)
        name = f"{i + 1}-{page.title.lower()}{'-dark' if options.dark else ''}.png"
        window.grab().save(str(options.out / name))
        sys.stdout.write(f"{name}\n")
        for view, tail in EXTRA.get(page.title, {}).items():
            window.page.views.setCurrentIndex(view)
            if tail == "full":
                wait_for(app, lambda: not any(c.busy for c in window.page.findChildren(Channel)))
                window.page.full_view.start()
            wait_for(app, lambda: not any(c.busy for c in window.page.findChildren(Channel)), 300.0)
            more = name.replace(".png", f"-{tail}.png")
            window.grab().save(str(options.out / more))
            sys.stdout.write(f"{more}\n")
        if page.title in EXTRA:
            window.page.views.setCurrentIndex(0)
    window.document.undo_stack.setClean()
    window.close()
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
