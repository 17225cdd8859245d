"""Measures what a person waits for, on this machine: median and spread of repeated runs, beside its target.

Run with ``make bench``. Nothing here is asserted. General-purpose solvers: benchmarks/peers.py.
"""

from __future__ import annotations

import os
import platform
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["MANDORLA_HOME"] = tempfile.mkdtemp()

import numpy as np
from peers import our_steps
from PySide6.QtCore import QEventLoop, QTimer

from mandorla.__main__ import HELPER_LOADS
from mandorla.core import second_core
from mandorla.core.errors import Cancelled
from mandorla.core.measure.log_guess import propose
from mandorla.core.measure.logs import decimated, read_log
from mandorla.core.project.models import Project
from mandorla.core.project.samples import sample
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.results.tune import ground_of
from mandorla.core.rig.model import Rig
from mandorla.core.rig.room import Room
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.heatup import heat_up, march
from mandorla.core.thermal.network import OnPlate
from mandorla.core.thermal.print_course import Printing, print_course
from mandorla.core.thermal.stack import build_stack
from mandorla.core.thermal.steady import solve_printing
from mandorla.core.thermal.surface_history import cut_volume, surface_history
from mandorla.core.tune.axes import axes_of
from mandorla.core.tune.window import Ground, compute_window
from mandorla.core.warp.estimate import estimate_warp
from mandorla.ui.application import make_application
from mandorla.ui.document import Document
from mandorla.ui.main_window import MainWindow
from mandorla.ui.preferences import Preferences
from mandorla.ui.stages.registry import STAGES


def timed(work: Callable[[], object], count: int) -> list[float]:
    """Seconds of ``count`` runs after one that does not count."""
    work()
    found = []
    for _ in range(count):
        start = time.perf_counter()
        work()
        found.append(time.perf_counter() - start)
    return found


def row(what: str, seconds: list[float], target: float, note: str = "") -> None:
    """Print one line of the table, times in ms."""
    ms = sorted(1e3 * s for s in seconds)
    p95 = ms[min(len(ms) - 1, int(np.ceil(0.95 * len(ms))) - 1)]
    middle = statistics.median(ms)
    print(
        f"{what:46s} {middle:9.1f} {ms[0]:9.1f} {p95:9.1f} {len(ms):5d} {1e3 * target:8.0f} {middle / (1e3 * target):7.2f}  {note}"
    )


def cancel_times(project: Project) -> list[float]:
    """Seconds from asking a long run to stop until it has stopped."""
    sensor = project.rig.bed.sensor.model_copy(update={"x": 0.01})
    rig = project.rig.model_copy(update={"bed": project.rig.bed.model_copy(update={"sensor": sensor})})
    found = []
    for after in (0.2, 0.4, 0.6, 0.8, 1.0):
        run = RunContext()
        asked: list[float] = []

        def ask(run: RunContext = run, asked: list[float] = asked) -> None:
            asked.append(time.perf_counter())
            run.cancel()

        timer = threading.Timer(after, ask)
        timer.start()
        try:
            surface_history(rig, project.settings, 6 * 3600.0, run, cells=30)
        except Cancelled:
            found.append(time.perf_counter() - asked[0])
        timer.join()
    return found


# the demo's bed without some of its layers, so that as many cells lie through it as the targets say
_TWELVE = ("Flex sheet", "Magnet", "Tooling plate", "Heater mat", "Foam")
_SEVEN = ("Print film", "Tooling plate", "Foam")


def cut_down(rig: Rig, names: tuple[str, ...], *, symmetric: bool) -> Rig:
    """The rig with some layers of its bed only, heated in its plate where the mat is gone; its brackets make it unsymmetric."""
    layers = tuple(x for x in rig.bed.layers if x.name in names)
    own = rig.bed.layer(rig.bed.heater.layer)
    heater = own.key if own.name in names else next(x.key for x in layers if x.name == "Tooling plate")
    fuses = tuple(f for f in rig.bed.fuses if any(x.key == f.layer for x in layers))
    change: dict[str, object] = {
        "layers": layers, "heater": rig.bed.heater.model_copy(update={"layer": heater}), "fuses": fuses,
    }  # fmt: skip
    if symmetric:
        change["spots"] = ()
    return rig.model_copy(update={"bed": rig.bed.model_copy(update=change)})


def long_print(project: Project) -> Callable[[], object]:
    """The march of a 50-hour print in a room whose log has a reading every ten minutes."""
    hours = np.arange(0.0, 60.0 * 3600.0, 600.0)
    log = tuple((float(t), 291.0 + 5.0 * float(np.sin(t / 13000.0))) for t in hours)
    room = Room(kind="log", log=log)
    rig = project.rig.model_copy(update={"room": room})
    use = project.settings.model_copy(update={"bed_rest": project.settings.bed_first - 30.0})
    over = OnPlate(0.3, 8.0, 0.3)
    heat = heat_up(rig, use, project.criteria, with_bands=False)
    rest = solve_printing(rig, use.bed_rest, use.chamber, heat.stack, over)
    what = Printing(50.0 * 3600.0, 1200.0, over)
    return lambda: print_course(rig, use, heat, rest, what)


def fresh(ground: Ground) -> Ground:
    """A ground on which nothing is known yet."""
    return Ground(ground.setup, ground.criteria, ground.evaluation, ground.placement, ground.prepared)


def core_rows() -> None:
    """Heat-up, estimate, evaluation and window on the demo."""
    bundle = sample("boathouse")
    results = Results(bundle)
    project = bundle.project
    evaluation = results.get(keys.EVALUATION)
    part, at = evaluation.part, evaluation.conditions
    assert part is not None
    assert at is not None
    assert project.part is not None
    stack = build_stack(project.rig.bed)
    hour = np.full(1800, 2.0)
    row(
        "one hour of heat-up, quick model, dt 2 s",
        timed(lambda: march(project.rig, project.settings, hour, stack), 60),
        0.005,
    )
    row("a print of 50 hours with a room log, its bed lowered", timed(long_print(project), 30), 0.030)
    row("one warp estimate", timed(lambda: estimate_warp(part, at, with_bands=False), 60), 0.010)
    row("one warp estimate with its bands", timed(lambda: estimate_warp(part, at), 40), 0.150, "no target of its own")
    row(
        "whole evaluation (heat-up, warp, limits, bands)",
        timed(lambda: Results(bundle).get(keys.EVALUATION), 40),
        0.150,
    )
    for what, layers, cells, target in (("60 x 60 x 12", _TWELVE, 30, 1.2), ("30 x 30 x 7", _SEVEN, 15, 0.3)):
        for symmetric in (False, True):
            rig = cut_down(project.rig, layers, symmetric=symmetric)
            row(
                f"one hour, {what}, with chamber, {'symmetric' if symmetric else 'no symmetry'}",
                timed(lambda r=rig, n=cells: surface_history(r, project.settings, 3600.0, cells=n), 7),
                target,
                f"{cut_volume(rig, cells).grid.capacity.shape[0]} cells through",
            )
    for cells in ((60, 60, 12), (30, 30, 7)):
        _, step, _ = our_steps(cells, 1800)
        target = 1.2 if cells[0] == 60 else 0.3
        what = f"one hour, {cells[0]} x {cells[1]} x {cells[2]} cells without symmetry"
        row(what, [1800 * step], target, "stack alone, one run")
    row("a three-dimensional run stops when asked", cancel_times(project), 0.2, "60 x 60 cells, no symmetry")
    ground = ground_of(bundle, evaluation, results.get(keys.GEOMETRY))
    for name, at_once, target in (
        ("a coarse map at once, 40 x 40", True, 0.3),
        ("operating window 100 x 100", False, 2.0),
    ):
        for axes in (("", ""), ("bed", "fan")):
            both = axes_of(axes, ground.setup, from_file=False)
            seconds = timed(lambda a=both, n=at_once: compute_window(fresh(ground), a, at_once=n), 3)
            row(f"{name}, {both[0].key} x {both[1].key}", seconds, target)
    for free in ((), ("fan",), ("fan", "brim")):
        seconds = timed(lambda f=free: Results(bundle).get(keys.OPTIMUM.of(free=f, check=False)), 1)
        row(f"optimum, free: bed, chamber {' '.join(free)}".rstrip(), seconds, 10.0, "before proof")


def measuring_rows() -> None:
    """Logs of a million rows, comparison and fit of the demo's sessions, coverage of the exercise."""
    n = 1_000_000
    t = np.arange(n)
    shown = 100.0 + np.sin(t / 1000.0)
    plain = (
        "time s,bed °C,air °C\n" + "\n".join(f"{i},{v:.2f},{v / 2:.2f}" for i, v in zip(t, shown, strict=True))
    ).encode()
    start = np.datetime64("2026-03-01T00:00:00")
    moments = [str(m).replace("T", " ") for m in start + t.astype("timedelta64[s]")]
    commas = ("moment;bed °C;air °C\n" + "\n".join(
        f"{m};{v:.2f};{v / 2:.2f}".replace(".", ",") for m, v in zip(moments, shown, strict=True)
    )).encode()  # fmt: skip
    for what, data in (("seconds and points", plain), ("dates and decimal commas", commas)):
        seconds = timed(lambda d=data: read_log(d, "log.csv", propose(d, "log.csv")), 3)
        row(f"log of a million rows, {what}", seconds, 3.0)
    long = np.asarray(shown)
    row(
        "  its picture without losing peaks",
        timed(lambda: decimated(t.astype(float), long), 10),
        0.1,
        "no target of its own",
    )
    bundle = sample("kiln")
    session = bundle.project.measurements.sessions[0].key
    row(
        "comparison of a session, suspects included",
        timed(lambda: Results(bundle).get(keys.COMPARISON.of(session=session)), 3),
        2.0,
        "no target of its own",
    )
    asked = keys.FIT.of(sessions=(session,), day="2026-03-21")
    fit = timed(lambda: Results(bundle).get(asked), 3)
    row("fit of all unknowns to a session", fit, 5.0, "no target of its own")


def edit_row() -> None:
    """From a step on the console to refreshed verdicts, in the real window."""
    app = make_application()
    preferences = Preferences()
    window = MainWindow(Document(sample("boathouse"), None, preferences.units), preferences)
    window.show()
    loop = QEventLoop()
    found: list[float] = []

    def wait_ms(ms: int) -> None:
        QTimer.singleShot(ms, loop.quit)
        loop.exec()

    wait_ms(10000)
    window.document.pin("A")
    window.document.pin("B")
    wait_ms(4000)
    window.console.refreshed.connect(found.append)
    now = window.document.project.settings.bed_rest
    for k, stage in enumerate(list(STAGES)[:5]):
        window.show_stage(stage)
        wait_ms(1500)
        for i in range(16):  # every state is a new one: what was computed before would be there at once
            window.document.edit(
                "settings.bed_rest", now + (1.0 if i % 2 else -1.0) * (0.5 + 0.01 * (16 * k + i)), "bed"
            )
            wait_ms(260)
    row("edit to refreshed verdicts, two scenarios pinned", found, 0.150, "the 95th percentile is what counts")
    window.document.undo_stack.setClean()
    window.close()
    app.processEvents()


START = """
import sys, time
start = float(sys.argv[1])
from mandorla.core.project.samples import sample
from mandorla.ui.application import make_application
from mandorla.ui.document import Document
from mandorla.ui.main_window import MainWindow
from mandorla.ui.preferences import Preferences
app = make_application()
preferences = Preferences()
window = MainWindow(Document(sample("boathouse"), None, preferences.units), preferences)
def painted():
    print(time.time() - start, flush=True)
    app.quit()
window.first_paint = painted
window.show()
app.exec()
window.document.undo_stack.setClean()
window.close()
"""


def start_row() -> None:
    """A new process from its start to the first painted window."""
    found = []
    for _ in range(7):
        done = subprocess.run(
            [sys.executable, "-c", START, str(time.time())], capture_output=True, text=True, check=True
        )
        found.append(float(done.stdout.split()[0]))
    row("start of the application to a painted window", found[1:], 2.5, f"first of all {found[0]:.1f} s")


def loop(count: int = 3_000_000) -> float:
    """Seconds of a fixed piece of arithmetic."""
    start, total = time.perf_counter(), 0
    for k in range(count):
        total += k
    return time.perf_counter() - start


def machine_line() -> str:
    """How fast this machine is at present: a fixed loop alone, and beside another of its kind, which says what the second core is
    worth."""
    alone = statistics.median(loop() for _ in range(5))
    busy = "import sys\nk = 0\nsys.stdout.write('!')\nsys.stdout.flush()\nwhile True:\n    k += 1\n"
    with subprocess.Popen([sys.executable, "-c", busy], stdout=subprocess.PIPE) as other:
        assert other.stdout is not None
        other.stdout.read(1)
        beside = statistics.median(loop() for _ in range(5))
        other.kill()
    share = beside / alone
    return (
        f"a loop of 3 million additions {1e3 * alone:.0f} ms, {1e3 * beside:.0f} beside another one ({share:.2f} times)"
    )


def main() -> int:
    """Print the table."""
    print(f"Python {platform.python_version()}, {os.cpu_count()} cores, {platform.machine()}; times in ms")
    print(machine_line())
    print(f"{'work':46s} {'median':>9s} {'least':>9s} {'95 %':>9s} {'runs':>5s} {'target':>8s} {'ratio':>7s}")
    second_core.allow(*HELPER_LOADS)  # as the window and the commands do
    second_core.ready(60.0)
    core_rows()
    measuring_rows()
    edit_row()
    start_row()
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
