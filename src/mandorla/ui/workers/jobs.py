"""Runs core work beside the interface: one job at a time for each channel, stale answers dropped by request number."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, QRunnable, QThreadPool, Signal, Slot

from mandorla.core.errors import Cancelled, MandorlaError
from mandorla.core.runtime import RunContext


class _Signals(QObject):
    done = Signal(int, object)
    failed = Signal(int, object)
    progress = Signal(int, float, str)


class _Work(QRunnable):
    def __init__(self, number: int, work: Callable[[RunContext], Any], run: RunContext, signals: _Signals) -> None:
        super().__init__()
        self._number, self._work, self._run, self._signals = number, work, run, signals

    def run(self) -> None:
        try:
            self._run.checkpoint(0.0, "start")
            result = self._work(self._run)
        except Cancelled:
            return
        except MandorlaError as error:
            self._signals.failed.emit(self._number, error)
            return
        except (ArithmeticError, ValueError, TypeError, LookupError, AssertionError, RuntimeError, OSError) as error:
            # a defect of ours, or a disk that is full: shown, never swallowed
            self._signals.failed.emit(self._number, error)
            return
        self._signals.done.emit(self._number, result)


class Channel(QObject):
    """Latest request wins: starting a new job cancels the running one and forgets its answer."""

    finished = Signal(object)
    failed = Signal(object)
    progressed = Signal(float, str)
    busy_changed = Signal(bool)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = QThreadPool(self)
        self._pool.setMaxThreadCount(1)
        self._signals = _Signals(self)
        self._signals.done.connect(self._on_done)
        self._signals.failed.connect(self._on_failed)
        self._signals.progress.connect(self._on_progress)
        self._number = 0
        self._run: RunContext | None = None

    @property
    def busy(self) -> bool:
        """Whether an answer is awaited."""
        return self._run is not None

    def start(self, work: Callable[[RunContext], Any]) -> None:
        """Run ``work(run)`` on the channel's thread; a running job is cancelled."""
        self.cancel()
        self._number += 1
        number = self._number
        self._run = RunContext(report=lambda f, s: self._signals.progress.emit(number, f, s))
        self.busy_changed.emit(True)
        self._pool.start(_Work(number, work, self._run, self._signals))

    def cancel(self) -> None:
        """Stop the running job; its answer will not arrive."""
        if self._run is not None:
            self._run.cancel()
            self._run = None
            self._number += 1
            self._pool.clear()
            self.busy_changed.emit(False)

    def close(self) -> None:
        """Cancel and wait until the thread is idle."""
        self.cancel()
        self._pool.waitForDone()

    @Slot(int, object)
    def _on_done(self, number: int, result: object) -> None:
        if number == self._number:
            self._run = None
            self.busy_changed.emit(False)
            self.finished.emit(result)

    @Slot(int, object)
    def _on_failed(self, number: int, error: object) -> None:
        if number == self._number:
            self._run = None
            self.busy_changed.emit(False)
            self.failed.emit(error)

    @Slot(int, float, str)
    def _on_progress(self, number: int, fraction: float, stage: str) -> None:
        if number == self._number:
            self.progressed.emit(fraction, stage)
