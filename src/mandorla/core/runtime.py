"""Progress and cancellation for long work, as plain callbacks."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field

from mandorla.core.errors import Cancelled


@dataclass(slots=True)
class RunContext:
    """Carries progress out of, and cancellation into, a long computation.

    ``report(fraction, stage)`` is called at most every ``interval`` seconds (and at 1.0), ``partial`` with what there is of the
    result so far; any thread may call ``cancel``.
    """

    report: Callable[[float, str], None] | None = None
    interval: float = 0.05
    partial: Callable[[object], None] | None = None
    _stop: threading.Event = field(default_factory=threading.Event)
    _last: float = 0.0

    def cancel(self) -> None:
        """Ask the computation to stop at its next checkpoint."""
        self._stop.set()

    @property
    def cancelled(self) -> bool:
        """Whether a stop was asked for."""
        return self._stop.is_set()

    def silent(self) -> RunContext:
        """For a part of a computation: it stops when the whole does, and reports nothing."""
        return RunContext(_stop=self._stop)

    def show(self, value: object) -> None:
        """Hand out what there is of the result so far."""
        if self.partial is not None:
            self.partial(value)

    def checkpoint(self, fraction: float, stage: str) -> None:
        """Report progress (0-1) and raise :class:`Cancelled` when a stop was asked for."""
        if self._stop.is_set():
            raise Cancelled(f"stopped at {100 * fraction:.0f} % of: {stage}")
        now = time.monotonic()
        if self.report is not None and (fraction >= 1.0 or now - self._last >= self.interval):
            self._last = now
            self.report(fraction, stage)
