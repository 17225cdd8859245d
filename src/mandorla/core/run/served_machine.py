"""The simulated machine on a pseudo-terminal: it speaks the protocol, runs faster than the clock, and breaks on demand."""

from __future__ import annotations

import math
import threading
import time
from typing import Self

from mandorla.core.errors import InputError
from mandorla.core.measure.printer import FULL_DUTY, LineServer, set_by
from mandorla.core.run.simulated_machine import Break, SimulatedMachine
from mandorla.core.run.trace_point import TracePoint

_NAMES = {"T": "nozzle", "B": "bed", "C": "chamber"}


class ServedMachine(LineServer):
    """Serves a simulated machine; ``speed`` times faster than the clock. While its power is cut it does not answer."""

    def __init__(self, machine: SimulatedMachine, speed: float = 60.0) -> None:
        super().__init__("simulated machine")
        self.machine, self.speed = machine, speed
        self._started = time.monotonic()
        self._read: list[TracePoint] = []
        self._lock = threading.Lock()

    def __enter__(self) -> Self:
        self._started = time.monotonic()
        return super().__enter__()

    def breaks(self, broken: Break) -> None:
        """Let something go wrong from now on."""
        with self._lock:
            self.machine.add(broken._replace(begins=self.machine.now))

    def answer(self, line: str) -> str | None:
        """The protocol, from the machine as it stands now."""
        with self._lock:
            now = (time.monotonic() - self._started) * self.speed
            if now > self.machine.now:
                self._read = self._read[-1:] + self.machine.advance(now - self.machine.now)
            if self.machine.dark:
                return None
            try:
                target = set_by(line)
            except InputError as error:
                return f"error: {error}"
            if target is not None:
                self.machine.command(_NAMES[target[0]], target[1])
                return "ok"
            if not line.upper().startswith("M105") or not self._read:
                return "ok"
            return as_answer(next((r for r in reversed(self._read) if r.time <= now), self._read[0]))


def as_answer(r: TracePoint) -> str:
    """One moment as the protocol tells it."""
    text = f"ok T:{_celsius(r.nozzle):.2f} /{max(_celsius(r.nozzle_set), 0.0):.2f}"
    text += f" B:{_celsius(r.bed):.2f} /{max(_celsius(r.bed_set), 0.0):.2f}"
    if math.isfinite(r.chamber):
        text += f" C:{_celsius(r.chamber):.2f} /{max(_celsius(r.chamber_set), 0.0) if math.isfinite(r.chamber_set) else 0.0:.2f}"
    text += f" B@:{round(FULL_DUTY * r.bed_duty)}"
    if math.isfinite(r.chamber_duty):
        text += f" C@:{round(FULL_DUTY * r.chamber_duty)}"
    return text


def _celsius(kelvin: float) -> float:
    return kelvin - 273.15
