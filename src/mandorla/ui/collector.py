"""Collects Python's cyclic garbage on the interface's thread only, and gives back memory that nobody uses.

A collection may run in whichever thread allocates; in one of our jobs it would destroy widgets that wait in a cycle, away from the
thread they belong to, which crashes Qt. Automatic collection is switched off and a timer does it instead, generation by generation.

Threads that come and go with large arrays leave holes in the C library's heap, which it keeps; it is asked to give them back. It
has a heap of its own for every thread, up to eight a core, each with holes of its own: two are enough here.
"""

from __future__ import annotations

import ctypes
import gc
import time
from typing import Final

from PySide6.QtCore import QObject, QTimer

_EVERY_MS: Final = 1500
_TRIM: Final = 20.0  # s between two askings
_ARENA_MAX, _HEAPS = -8, 2  # of mallopt(3): how many heaps there are at most


class Collector(QObject):
    """Runs the garbage collector from a timer, as often as its own counts ask for it."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        gc.disable()
        # the GNU C library has it, others keep no holes or cannot be asked
        library = ctypes.CDLL(None)
        self._trim = getattr(library, "malloc_trim", None)
        limit = getattr(library, "mallopt", None)
        if limit is not None:
            limit(_ARENA_MAX, _HEAPS)
        self._trimmed = time.monotonic()
        self._timer = QTimer(self, interval=_EVERY_MS)
        self._timer.timeout.connect(self.collect)
        self._timer.start()

    def collect(self) -> None:
        """Collect the generations that are full."""
        counts, limits = gc.get_count(), gc.get_threshold()
        full = [g for g in range(3) if counts[g] > limits[g]]
        if full:
            gc.collect(full[-1])
        if self._trim is not None and time.monotonic() - self._trimmed > _TRIM:
            self._trim(0)
            self._trimmed = time.monotonic()
