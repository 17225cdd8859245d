"""``mandorla sweep``: many projects, parts and settings at once, on all cores or a cluster; goes on where it was stopped."""

from __future__ import annotations

import argparse
import sys
import time
from pathlib import Path

from mandorla.cli.command import Command
from mandorla.core.errors import LogbookError
from mandorla.core.logbook.place import default_path
from mandorla.core.units import show_duration


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "plan", type=Path, metavar="PLAN.toml", help="projects, parts and the values of fields (docs/user-guide.md)"
    )
    parser.add_argument(
        "-o", "--output", type=Path, required=True, metavar="FILE.csv", help="rows are appended as they come"
    )
    parser.add_argument("--parquet", type=Path, metavar="FILE.parquet", help="the whole table once more, as Parquet")
    parser.add_argument(
        "--logbook", type=Path, metavar="FILE", help="predict by this book's prints; else the workshop's own"
    )
    parser.add_argument("--workers", type=int, default=0, help="processes on this machine; 0: all cores")
    parser.add_argument(
        "--cluster", default="", metavar="ADDRESS", help="the scheduler of a running Dask cluster instead"
    )


def run(options: argparse.Namespace) -> int:
    """Compute what the table does not hold yet; ends with 1 where rows hold errors."""
    from mandorla.core.sweep.plan import read_plan, tasks_of  # the numerics load here
    from mandorla.core.sweep.runners import on_cluster, on_processes
    from mandorla.core.sweep.table import Table, as_parquet, done_in, left_of, rows_in

    plan = read_plan(options.plan)
    book = options.logbook if options.logbook is not None else default_path() if default_path().exists() else None
    try:
        tasks = tasks_of(plan, options.plan.parent, book)
    except LogbookError as error:
        print(f"mandorla: {error} Predictions are the library's alone.", file=sys.stderr)
        tasks = tasks_of(plan, options.plan.parent)
    left = left_of(tasks, done_in(options.output, plan))
    if len(left) < len(tasks):
        print(f"{len(tasks) - len(left)} of {len(tasks)} rows are there already.", file=sys.stderr)
    table, began = Table(options.output, plan), time.monotonic()
    rows = on_cluster(left, options.cluster) if options.cluster else on_processes(left, options.workers)
    try:
        for n, row in enumerate(rows, start=1):
            table.add(row)
            rest = (time.monotonic() - began) / n * (len(left) - n)
            if sys.stderr.isatty() or n == len(left):
                print(f"\r{n} of {len(left)} rows, {show_duration(rest)} left   ", end="", file=sys.stderr, flush=True)
    finally:
        table.close()
    if left:
        print(file=sys.stderr)
    wanted = {t.key for t in tasks}
    errors = [r for r in rows_in(options.output) if r["key"] in wanted and r["status"] == "error"]
    for r in errors[:20]:
        print(f"{r['project']} {r['part']}: {r['error']}", file=sys.stderr)
    print(f"{len(tasks)} rows in {options.output}, {len(errors)} with errors.")
    if options.parquet is not None:
        as_parquet(options.output, options.parquet)
    return 1 if errors else 0


COMMAND = Command(
    "sweep", "many projects, parts and settings at once, resumed after a stop", None, _arguments, plain=run
)
