"""Independent pieces of one computation on two cores: a helper process takes them from the end while the caller goes on from the
front, so that nothing ever waits for the helper.

The helper is started by a program that allows it (the window and the commands do), at the first computation that can use it; it
computes what the caller would have computed, by the same code. Where it is missing, still starting, busy or dead, the caller does
all by itself.
"""

from __future__ import annotations

import contextlib
import itertools
import multiprocessing
import os
import pickle
import signal
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from importlib import import_module
from typing import Any, Final, NamedTuple, TypeVar

Common = TypeVar("Common")
Item = TypeVar("Item")
Found = TypeVar("Found")

_AHEAD: Final = 2  # pieces that lie before the helper, so that it never waits for the next
_KEPT: Final = 4  # computations whose common part the helper keeps
_STARTS: Final = 3  # times that a helper is started, after which there is none
_WATCH: Final = 1.0  # s between looks of the helper at whether its program still lives


class _Helper(NamedTuple):
    pool: ProcessPoolExecutor
    awake: Future[None]


_lock = threading.Lock()
_numbers = itertools.count()
_helper: _Helper | None = None
_allowed = False
_modules: tuple[str, ...] = ()
_starts = 0


def allow(*modules: str) -> None:
    """Let this program have a helper, which loads these modules at its start. A script that does not guard its own beginning must
    not."""
    global _allowed, _modules
    _allowed, _modules = True, modules


def forbid() -> None:
    """Take it away again."""
    global _allowed, _starts
    _allowed, _starts = False, 0
    _close()


def _close(only: ProcessPoolExecutor | None = None) -> None:
    """End the helper, if there is one: waiting for it, or without where it is ``only`` this one that is dead."""
    global _helper
    with _lock:
        if _helper is None or only not in (None, _helper.pool):
            return
        pool, _helper = _helper.pool, None
    pool.shutdown(wait=only is None)


def ready(patience: float = 0.0) -> bool:
    """Whether a helper stands by, after waiting for its start up to ``patience`` (s); asking for it starts it."""
    helper = _started()
    if helper is None:
        return False
    with contextlib.suppress(TimeoutError):
        return helper.awake.exception(timeout=patience) is None
    return False


def on_two_cores(
    work: Callable[[Common, Item], Found],
    common: Common,
    items: Sequence[Item],
    told: Callable[[int], None] = lambda _done: None,
) -> list[Found]:
    """``[work(common, item) for item in items]``, some of them by the helper.

    ``work`` is a function of a module, and ``common`` (sent once), items and results can be pickled; ``told(done)`` is called in
    the caller's thread before every piece and may raise to stop. What ``work`` raises is raised here.
    """
    packed = pickle.dumps((work, common))
    _, common = pickle.loads(packed)  # both work on a copy: arrays that lie alike give the same last digits
    helper = _started() if len(items) > 1 else None
    if helper is None or not helper.awake.done() or helper.awake.exception() is not None:
        return [_told(told, k, work, common, item) for k, item in enumerate(items)]
    pool = helper.pool
    number = next(_numbers)
    found: dict[int, Found] = {}
    lying: dict[int, Future[Any]] = {}
    front, back = 0, len(items)
    sent = alone = broken = False
    try:
        while len(found) < len(items):
            for k in [k for k, future in lying.items() if future.done()]:
                future = lying.pop(k)
                problem = future.exception()
                if problem is None:
                    found[k] = future.result()
                else:  # it is computed here, and what is really wrong with it is raised here
                    alone, broken = True, broken or isinstance(problem, BrokenProcessPool)
                    found[k] = work(common, items[k])
            while not alone and back - front > 1 and len(lying) < _AHEAD:
                back -= 1
                try:
                    lying[back] = pool.submit(_piece, number, None if sent else packed, items[back])
                    sent = True
                except RuntimeError:  # it is gone
                    alone, broken, back = True, True, back + 1
            told(len(found))
            if front < back:
                found[front] = work(common, items[front])
                front += 1
            elif lying:  # those that have not come are made here
                k = min(lying)  # the last one sent, which is hardly begun
                if not lying[k].done():
                    del lying[k]
                    found[k] = work(common, items[k])
    finally:  # pieces that still lie there are few and small: nobody asks for them any more
        if broken:
            _close(pool)
    return [found[k] for k in range(len(items))]


def _told(
    told: Callable[[int], None], done: int, work: Callable[[Common, Item], Found], common: Common, item: Item
) -> Found:
    told(done)
    return work(common, item)


def _started() -> _Helper | None:
    """The helper, started if it is allowed and of use."""
    global _helper, _starts
    if not _allowed or len(os.sched_getaffinity(0)) < 2 or multiprocessing.parent_process() is not None:
        return None
    with _lock:
        if _helper is None and _starts < _STARTS:
            _starts += 1
            pool = ProcessPoolExecutor(1, multiprocessing.get_context("spawn"), _begin, (os.getpid(),))
            _helper = _Helper(pool, pool.submit(_load, _modules))
        return _helper


_commons: OrderedDict[int, tuple[Callable[[Any, Any], Any], Any]] = OrderedDict()


def _begin(program: int) -> None:
    """In the helper: it ends with its program, however that ends, and leaves keys pressed in a terminal to it."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)

    def watch() -> None:
        while os.getppid() == program:
            time.sleep(_WATCH)
        os._exit(0)

    threading.Thread(target=watch, daemon=True).start()


def _load(modules: tuple[str, ...]) -> None:
    """In the helper: what it will need."""
    for module in modules:
        import_module(module)


def _piece(number: int, packed: bytes | None, item: Any) -> Any:
    """In the helper: one piece of a computation, whose common part came with its first."""
    if packed is not None:
        _commons[number] = pickle.loads(packed)  # from this program itself
        while len(_commons) > _KEPT:
            _commons.popitem(last=False)
    work, common = _commons[number]
    return work(common, item)
