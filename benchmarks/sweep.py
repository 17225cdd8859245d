"""How a sweep scales: rows a minute on one process and on all cores, as a ratio, in one run.

Usage: sweep.py [--rows N]
"""

from __future__ import annotations

import argparse
import os
import tempfile
import time
from pathlib import Path

from mandorla.core.project.samples import sample
from mandorla.core.project.store import write_bundle
from mandorla.core.sweep.plan import Plan, Vary, tasks_of
from mandorla.core.sweep.runners import on_processes

LEAST = 0.8  # of the ideal ratio that is asked for


def main() -> int:
    """Print rows a minute and how they scale."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=60)
    rows = parser.parse_args().rows
    cores = os.cpu_count() or 1
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_bundle(folder / "boathouse.mandorla", sample("boathouse"))
        plan = Plan(
            projects=("boathouse.mandorla",),
            vary=(Vary(path="settings.bed_rest", first=350.0, last=380.0, steps=rows),),
        )
        tasks = tasks_of(plan, folder)
        taken = {}
        for workers in (1, cores):
            began = time.perf_counter()
            found = list(on_processes(tasks, workers))
            taken[workers] = time.perf_counter() - began
            errors = sum(r["status"] == "error" for r in found)
            print(
                f"{workers} processes: {len(found)} rows, {errors} errors, {60.0 * len(found) / taken[workers]:.0f} rows a minute"
            )
    ratio = taken[1] / taken[cores]
    asked = LEAST * cores
    print(
        f"ratio {ratio:.2f} on {cores} cores; asked for at least {asked:.2f}: {'met' if ratio >= asked else 'missed'}"
    )
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
