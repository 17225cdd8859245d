"""A stand-in printer on a pseudo-terminal that speaks the usual line-based temperature protocol, and a reader for such printers.

``M105`` is answered by ``ok B:<shown> /<target>`` and, with a chamber, ``C:<shown> /<target>``; ``M140 S<°C>`` sets the bed,
``M141 S<°C>`` the chamber. Time runs faster than the clock by a factor.
"""

from __future__ import annotations

import contextlib
import os
import re
import select
import threading
import time
import tty
from dataclasses import dataclass
from typing import Self

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.measure.simulated_instruments import Bench, Faults

_ANSWER = re.compile(r"\b([BC]):\s*(-?\d+(?:\.\d+)?)\s*/\s*(-?\d+(?:\.\d+)?)")


@dataclass(frozen=True, slots=True)
class Temperatures:
    """What a printer reports (K): bed and chamber as shown and as set; None where it has none."""

    bed: float
    bed_target: float
    chamber: float | None
    chamber_target: float | None


def parse_temperatures(line: str) -> Temperatures:
    """One answer of the protocol. Raises :class:`InputError` when it holds no bed temperature or an impossible one."""
    found = {m.group(1): (float(m.group(2)) + 273.15, float(m.group(3)) + 273.15) for m in _ANSWER.finditer(line)}
    if "B" not in found:
        raise InputError(f"“{line.strip()[:60]}” holds no bed temperature.")
    if found["B"][0] < 223.15:
        raise InputError(f"The printer reports {found['B'][0] - 273.15:.0f} °C for its bed: the sensor is likely open.")
    chamber = found.get("C")
    return Temperatures(*found["B"], *(chamber or (None, None)))


class StandInPrinter:
    """Serves a bench's display on a pseudo-terminal; use it as a context, ``path`` is the terminal's name.

    ``faults`` add a hidden bias to what it shows of its bed.
    """

    def __init__(
        self,
        bench: Bench,
        bed_target: float,
        chamber_target: float,
        *,
        speed: float = 60.0,
        seed: int = 0,
        faults: Faults | None = None,
    ) -> None:
        self.bench, self.speed = bench, speed
        self.targets = {"B": bed_target, "C": chamber_target}
        self._rng = np.random.default_rng(seed)
        self._faults = faults
        self._stop = threading.Event()
        self._master, slave = os.openpty()
        tty.setraw(slave)
        self._slave = slave
        self.path = os.ttyname(slave)
        self._thread = threading.Thread(target=self._serve, name="stand-in printer", daemon=True)

    def __enter__(self) -> Self:
        self._started = time.monotonic()
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        self._thread.join()
        os.close(self._master)
        os.close(self._slave)

    @property
    def elapsed(self) -> float:
        """Seconds of the rig's time since the start."""
        return (time.monotonic() - self._started) * self.speed

    def _serve(self) -> None:
        text = b""
        while not self._stop.is_set():
            ready, _, _ = select.select([self._master], [], [], 0.05)
            if not ready:
                continue
            text += os.read(self._master, 1024)
            while b"\n" in text:
                line, text = text.split(b"\n", 1)
                os.write(self._master, (self._answer(line.decode("ascii", "replace").strip()) + "\n").encode())

    def _answer(self, line: str) -> str:
        word = line.split(";")[0].strip().upper()
        if word.startswith(("M140", "M141")):
            match = re.search(r"S(-?\d+(?:\.\d+)?)", word)
            if match is None:
                return "error: no S value"
            self.targets["B" if word.startswith("M140") else "C"] = float(match.group(1)) + 273.15
            return "ok"
        if not word.startswith("M105"):
            return "ok" if word else "ok nothing to do"
        now = self.elapsed
        shown = float(np.interp(now, self.bench.time, self.bench.curves["reading"])) + self._rng.normal(0.0, 0.05)
        if self._faults is not None:
            shown += self._faults.sensor_bias
        text = f"ok B:{shown - 273.15:.2f} /{self.targets['B'] - 273.15:.1f}"
        if self.bench.rig.chamber.enclosed:
            air = float(np.interp(now, self.bench.time, self.bench.curves["air"]))
            text += f" C:{air - 273.15:.2f} /{self.targets['C'] - 273.15:.1f}"
        return text


class PrinterReader:
    """Asks a printer on a terminal for its temperatures; use it as a context."""

    def __init__(self, path: str, timeout: float = 2.0) -> None:
        self.path, self.timeout = path, timeout
        self._file = -1
        self._text = b""

    def __enter__(self) -> Self:
        try:
            self._file = os.open(self.path, os.O_RDWR | os.O_NOCTTY)
        except OSError as error:
            raise InputError(f"“{self.path}” cannot be opened: {error.strerror}.") from error
        with contextlib.suppress(OSError):
            tty.setraw(self._file)  # a plain file or pipe has no line settings
        return self

    def __exit__(self, *_: object) -> None:
        os.close(self._file)

    def ask(self, command: str = "M105") -> str:
        """Send a line and return the answer. Raises :class:`InputError` when none comes in time."""
        os.write(self._file, (command + "\n").encode())
        until = time.monotonic() + self.timeout
        while b"\n" not in self._text:
            left = until - time.monotonic()
            ready = select.select([self._file], [], [], max(0.0, left))[0] if left > 0 else []
            if not ready:
                raise InputError(f"“{self.path}” does not answer within {self.timeout:.0f} s.")
            self._text += os.read(self._file, 1024)
        line, self._text = self._text.split(b"\n", 1)
        return line.decode("ascii", "replace")

    def temperatures(self) -> Temperatures:
        """What the printer shows now."""
        return parse_temperatures(self.ask())
