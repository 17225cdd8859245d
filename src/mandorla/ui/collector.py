"""Collects Python's cyclic garbage on the interface's thread only.

A collection may run in whichever thread allocates; in one of our jobs it would destroy widgets that wait in a cycle, away from the
thread they belong to, which crashes Qt. Automatic collection is switched off and a timer does it instead, generation by generation.
"""

from __future__ import annotations

import gc
from typing import Final

from PySide6.QtCore import QObject, QTimer

_EVERY_MS: Final = 1500


class Collector(QObject):
    """Runs the garbage collector from a timer, as often as its own counts ask for it."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        gc.disable()
        self._timer = QTimer(self, interval=_EVERY_MS)
        self._timer.timeout.connect(self.collect)
        self._timer.start()

    def collect(self) -> None:
        """Collect the generations that are full."""
        counts, limits = gc.get_count(), gc.get_threshold()
        full = [g for g in range(3) if counts[g] > limits[g]]
        if full:
            gc.collect(full[-1])
