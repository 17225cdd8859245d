"""A week of readings at 1 Hz in the view Live: memory of what is kept, and how long one picture takes.

Usage: live_week.py [--days N] ; run offscreen on an idle machine. The readings go through the recorder's trace as a watch gives
them; the filter's own memory is that of the last ten minutes whatever has been before.
"""

from __future__ import annotations

import argparse
import os
import resource
import statistics
import tempfile
import time

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["MANDORLA_HOME"] = tempfile.mkdtemp()

import numpy as np
from PySide6.QtWidgets import QApplication

from mandorla.core.project.samples import sample
from mandorla.core.run.live import COLUMNS
from mandorla.ui.application import make_application
from mandorla.ui.document import Document
from mandorla.ui.main_window import MainWindow
from mandorla.ui.preferences import Preferences

PICTURE = 0.050  # s asked


def worked(app: QApplication, seconds: float) -> None:
    """Let the interface work."""
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        app.processEvents()
        time.sleep(0.005)


def megabytes() -> float:
    """Memory of this program."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024.0


def main() -> int:
    """Print memory day by day and the time of a picture."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--days", type=int, default=7)
    options = parser.parse_args()
    app, preferences = make_application(), Preferences()
    document = Document(sample("boathouse"), None, preferences.units)
    window = MainWindow(document, preferences)
    window.resize(1280, 800)
    window.show()
    window.show_stage("run")
    window.page.open_view("live")
    while not document.results.settled:
        worked(app, 0.2)
    view = window.page.view_of("live")
    view.speed = 60.0
    view.watch_button.click()
    while view.live is None or view.live.readings < 200:
        worked(app, 0.2)
    live = view.live
    live.stop()
    worked(app, 3.0)
    trace, rng = live.trace, np.random.default_rng(1)
    start, columns = float(trace.time[-1]) + 1.0, COLUMNS
    base = np.full(columns, 360.0)
    for day in range(options.days):
        began = time.perf_counter()
        for hour in range(24):
            at = start + 3600.0 * (24 * day + hour) + np.arange(3600.0)
            trace.add(at, base + rng.normal(0.0, 0.05, (3600, columns)))
        rate = 86400 / (time.perf_counter() - began)
        print(f"day {day + 1}: {trace.time.size} spans, {megabytes():.0f} MB, taken in at {rate:.0f} a second")
    seconds = []
    for _ in range(60):
        began = time.perf_counter()
        view._look()  # what every tick of the clock does
        view.grab()
        seconds.append(time.perf_counter() - began)
        app.processEvents()
    found = sorted(seconds)[round(0.95 * (len(seconds) - 1))]
    met = "met" if found <= PICTURE else "missed"
    middle = 1e3 * statistics.median(seconds)
    print(f"a picture: median {middle:.0f} ms, 95 % {1e3 * found:.0f} ms; asked {1e3 * PICTURE:.0f}: {met}")
    window.document.undo_stack.setClean()
    window.close()
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
