"""How soon every long computation and reader ends when it is stopped: the worst of some moments, against the 0.2 s that are asked.

Usage: cancel.py [--moments N] ; each is begun anew and stopped at N moments of its course, told from its run without a stop.
"""

from __future__ import annotations

import argparse
import contextlib
import os
import random
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

os.environ["MANDORLA_HOME"] = tempfile.mkdtemp()

from mandorla.core.errors import Cancelled, MandorlaError
from mandorla.core.part.geometry import read_gcode_file, read_part_file
from mandorla.core.project.samples import sample
from mandorla.core.results import keys
from mandorla.core.results.key import Key
from mandorla.core.results.results import Results
from mandorla.core.runtime import RunContext

ASKED = 0.2  # s
SHORTEST = 0.25  # s, what takes less is not worth a stop


def results_of() -> dict[str, Callable[[RunContext], object]]:
    """Everything that is computed from the demo project by itself, each anew."""
    bundle = sample("boathouse")
    found: dict[str, Callable[[RunContext], object]] = {}
    for key in vars(keys).values():
        if not isinstance(key, Key):
            continue

        def work(run: RunContext, key: Key[object] = key) -> object:
            return Results(bundle).get(key, run)

        found[key.name] = work
    session = bundle.project.measurements.sessions[0].key
    found["fit"] = lambda run: Results(bundle).get(keys.FIT.of(sessions=(session,), day="2026-11-28"), run)
    return found


def readers(folder: Path) -> dict[str, Callable[[RunContext], object]]:
    """A mesh of a million triangles, and G-code of a million lines."""
    mesh, gcode = folder / "large.stl", folder / "large.gcode"
    import trimesh

    trimesh.creation.icosphere(subdivisions=8, radius=40.0).apply_translation((0, 0, 41)).export(mesh)
    rng = random.Random(1)
    high = 235  # layers of 0.2 mm: the demo's cradle, 236 x 84 x 47 mm
    with gcode.open("w") as file:
        file.write("G28\nM83\nG1 Z0.2 F1200\n")
        for n in range(600_000):
            if n % (600_000 // high) == 0:
                file.write(f"G1 Z{0.2 * min(n // (600_000 // high) + 1, high):.2f}\n")
            file.write(f"G1 X{rng.uniform(10, 246):.3f} Y{rng.uniform(10, 94):.3f} E0.4\n")
    bundle = sample("boathouse")
    return {
        "read a large mesh": lambda run: read_part_file(mesh, 0.001, run),
        "read large G-code": lambda run: read_gcode_file(gcode, bundle.project.part, bundle.originals, run),
    }


def ended_after(work: Callable[[RunContext], object], moment: float) -> float | None:
    """Seconds from the stop to the end; None where it had ended before."""
    run = RunContext()
    ended: list[float] = []

    def go() -> None:
        with contextlib.suppress(Cancelled, MandorlaError):
            work(run)
        ended.append(time.perf_counter())

    thread = threading.Thread(target=go)
    thread.start()
    thread.join(moment)
    if not thread.is_alive():
        return None
    stopped = time.perf_counter()
    run.cancel()
    thread.join()
    return ended[0] - stopped


def main() -> int:
    """Print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--moments", type=int, default=4)
    parser.add_argument("--only", default="")
    options = parser.parse_args()
    missed = 0
    with tempfile.TemporaryDirectory() as folder:
        for name, work in {**results_of(), **readers(Path(folder))}.items():
            if options.only and name != options.only:
                continue
            began = time.perf_counter()
            try:
                work(RunContext())
            except MandorlaError as error:
                print(f"{name:24s} {'':>9s} is refused: {str(error)[:70]}")
                continue
            whole = time.perf_counter() - began
            if whole < SHORTEST:
                continue
            waits = [ended_after(work, whole * (k + 0.5) / options.moments) for k in range(options.moments)]
            worst = max((w for w in waits if w is not None), default=0.0)
            missed += worst > ASKED
            print(
                f"{name:24s} {whole:8.1f} s  ends within {worst:6.3f} s{'' if worst <= ASKED else '  MISSED'}",
                flush=True,
            )
    print(f"missed: {missed} (0 asked)")
    return 0


if __name__ == "__main__":
    main()
