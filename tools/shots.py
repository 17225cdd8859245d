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
from mandorla.ui.stages.registry import STAGES

# further views worth a picture, by stage: key of the view and what the file is called by
EXTRA = {"verify": {"trials": "trials"},
         "part": {"plates": "plates"},
         "warp": {"full": "full", "causes": "why", "probability": "chances"},
         "tune": {"optimum": "optimum", "energy": "energy"},
         "run": {"live": "live"},
         "logbook": {"learned": "learned"}}  # fmt: skip


def wait_for(app: QApplication, done: Callable[[], bool], seconds: float = 60.0) -> None:
    """Let the interface work until something is there, and a little longer for the painting."""
    until = time.monotonic() + seconds
    while time.monotonic() < until and not done():
        app.processEvents()
        time.sleep(0.01)
    for _ in range(30):
        app.processEvents()
        time.sleep(0.01)


def settle(window: MainWindow, app: QApplication, seconds: float = 300.0) -> None:
    """Let the interface work until all results are shown."""
    for _ in range(40):
        app.processEvents()
        time.sleep(0.01)
    wait_for(app, lambda: window.document.results.settled, seconds)


def practise(window: MainWindow, app: QApplication) -> None:
    """A trial with the readings of a made-up machine, used as if they were real."""
    view = window.page.view_of("trials")
    view.buttons["strip"].click()
    settle(window, app)
    view.practice_button.click()
    wait_for(app, lambda: len(view.trial.readings) > 0)
    window.document.edit("measurements.trials.0.used", True, "Use it")
    settle(window, app)


def look_for_optimum(window: MainWindow, app: QApplication) -> None:
    """The least energy with other ways to hold the plate down."""
    view = window.page.view_of("optimum")
    view.free["hold_down"].click()
    view.search_button.click()
    settle(window, app)


def watch_a_run(window: MainWindow, app: QApplication) -> None:
    """The simulated machine into its print, with a door that is left open for a while."""
    view = window.page.view_of("live")
    view.speed = 400.0
    view.watch_button.click()
    wait_for(app, lambda: "first" in view.live.passed and view.live.source.now > 2700.0)
    view.fault.setCurrentIndex(view.fault.findData("door-open"))
    view.break_button.click()
    wait_for(app, lambda: bool(view.live.alarms) and view.live.source.now > view.live.alarms[0].time + 900.0)


def main() -> int:
    """Render."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--out", type=Path, default=Path(__file__).resolve().parents[1] / "docs" / "screenshots")
    parser.add_argument("--size", default="1280x800")
    parser.add_argument("--dark", action="store_true")
    parser.add_argument("--stage", choices=list(STAGES), default=None)
    options = parser.parse_args()
    width, height = (int(v) for v in options.size.split("x"))
    app = make_application()
    preferences = Preferences(dark=options.dark)
    document = Document(sample("boathouse"), None, preferences.units)
    document.logbook.use_demo(Path(os.environ["MANDORLA_HOME"]) / "demo-logbook.db")
    window = MainWindow(document, preferences)
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
    window.document.edit("run_plan.at", "2026-11-28 15:30", "the start")  # a picture at any hour
    for i, (key, stage) in enumerate(STAGES.items()):
        if options.stage is not None and key != options.stage:
            continue
        window.show_stage(key)
        settle(window, app)
        name = f"{i + 1}-{stage.title.lower()}{'-dark' if options.dark else ''}.png"
        window.grab().save(str(options.out / name))
        sys.stdout.write(f"{name}\n")
        for view, tail in EXTRA.get(key, {}).items() if not options.dark else ():
            window.page.open_view(view)
            if view == "full":
                settle(window, app)
                window.page.view_of("full").start()
            settle(window, app)
            if view == "trials":
                practise(window, app)
            if view == "optimum":
                look_for_optimum(window, app)
            if view == "live":
                watch_a_run(window, app)
            more = name.replace(".png", f"-{tail}.png")
            window.grab().save(str(options.out / more))
            if view == "trials":
                window.document.edit("measurements.trials", (), "No trials")
                settle(window, app)
            if view == "live":
                window.page.view_of("live").end("the picture is taken")
            sys.stdout.write(f"{more}\n")
        window.page.open(0)
        if key == "warp" and not options.dark:  # where a figure comes from
            window.explain("anything")
            card = window.explaining.card
            assert card is not None
            wait_for(app, lambda c=card: "What goes into it" in c.text.toPlainText())
            card.grab().save(str(options.out / name.replace(".png", "-explained.png")))
            card.close()
    window.document.undo_stack.setClean()
    window.close()
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
