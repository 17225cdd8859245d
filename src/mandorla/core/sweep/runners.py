"""Where the rows of a sweep are computed: processes on this machine, or the workers of a cluster; a worker that dies is tried
again."""

from __future__ import annotations

import multiprocessing
import os
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from typing import Any, Final

from mandorla.core.errors import InputError
from mandorla.core.sweep.plan import Task
from mandorla.core.sweep.row import DIED, FIGURES, named, row_of

ATTEMPTS: Final = 3
Row = dict[str, Any]


def dead(task: Task) -> Row:
    """The row of a computation whose worker died each time."""
    said = {"status": "error", "error": f"{DIED} {ATTEMPTS} times (memory, a signal, or the machine)"}
    return named(task) | dict(task.edits) | dict.fromkeys(FIGURES, "") | said


def on_processes(tasks: Sequence[Task], workers: int = 0, compute: Callable[[Task], Row] = row_of) -> Iterator[Row]:
    """Rows as they come from processes on this machine (``workers``, 0: all cores).

    When a worker dies, what was under way is tried again, the last time by itself, so that only the one to blame is given up.
    """
    count = workers or os.cpu_count() or 1
    waiting = deque((task, 0) for task in tasks)
    alone: deque[tuple[Task, int]] = deque()
    context = multiprocessing.get_context("spawn")
    while waiting or alone:
        solo = not waiting
        pool = ProcessPoolExecutor(1 if solo else min(count, len(waiting)), mp_context=context)
        flying: dict[Future[Row], tuple[Task, int]] = {}
        source = alone if solo else waiting
        try:
            while source or flying:
                while source and len(flying) < (1 if solo else 2 * count):
                    task, tried = source.popleft()
                    flying[pool.submit(compute, task)] = (task, tried)
                done, _ = wait(flying, return_when=FIRST_COMPLETED)
                for future in done:
                    row = future.result()
                    del flying[future]
                    yield row
        except BrokenProcessPool:
            for task, tried in flying.values():
                if tried + 1 >= ATTEMPTS and solo:
                    yield dead(task)
                elif tried + 2 >= ATTEMPTS:
                    alone.append((task, tried + 1))
                else:
                    waiting.append((task, tried + 1))
        finally:
            pool.shutdown(wait=False, cancel_futures=True)


def on_cluster(tasks: Sequence[Task], address: str, compute: Callable[[Task], Row] = row_of) -> Iterator[Row]:
    """Rows as they come from the workers of a running cluster (its scheduler's ``address``), which see the same files.

    Raises
    ------
    InputError
        Where the cluster's client is not installed, or does not answer.
    """
    try:
        import distributed
    except ImportError:
        raise InputError("A cluster needs its client: install mandorla[sweep].") from None
    cluster: Any = distributed  # untyped
    try:
        client = cluster.Client(address, timeout="10s", set_as_default=False)
    except (OSError, TimeoutError) as error:
        raise InputError(f"No cluster answers at {address}: {error}.") from None
    with client:
        of = {
            client.submit(compute, task, retries=ATTEMPTS - 1, pure=False, key=f"mandorla-{task.key}"): task for task in tasks
        }  # fmt: skip
        for future in cluster.as_completed(list(of), loop=client.loop):
            try:
                yield future.result()
            except cluster.KilledWorker:
                yield dead(of[future])
