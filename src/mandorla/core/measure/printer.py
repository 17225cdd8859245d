"""The usual line-based temperature protocol: a reader for machines that speak it, and servers of it on a pseudo-terminal.

``M105`` is answered by ``ok T:<shown> /<target> B:<shown> /<target>`` and, with a chamber, ``C:<shown> /<target>``; ``B@:`` and
``C@:`` are the duties of their heaters, of 127. ``M140 S<°C>`` sets the bed, ``M141`` the chamber, ``M104`` the nozzle.
"""

from __future__ import annotations

import os
import re
import select
import threading
import time
import tty
from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import Final, Self

import numpy as np
import serial

from mandorla.core.errors import InputError
from mandorla.core.measure.simulated_instruments import Bench, Faults

_ANSWER: Final = re.compile(r"(?<![A-Za-z0-9@])([TBC]):\s*(-?\d+(?:\.\d+)?)\s*/\s*(-?\d+(?:\.\d+)?)")
_DUTY: Final = re.compile(r"(?<![A-Za-z0-9])([BC])@:\s*(\d+)")
FULL_DUTY: Final = 127
_BAUD: Final = 115200
_LONGEST_LINE: Final = 4096  # bytes without an end that are thrown away
_SETS: Final = {"M104": "T", "M140": "B", "M141": "C"}


class PortGone(InputError):
    """A port that was open is there no more."""

    code = "port-gone"


class NoAnswer(InputError):
    """A machine that does not answer in time."""

    code = "no-answer"


@dataclass(frozen=True, slots=True)
class Temperatures:
    """What a printer reports (K): bed, chamber and nozzle as shown and as set, duties (0-1) of both heaters; None where it tells
    none."""

    bed: float
    bed_target: float
    chamber: float | None = None
    chamber_target: float | None = None
    nozzle: float | None = None
    nozzle_target: float | None = None
    bed_duty: float | None = None
    chamber_duty: float | None = None


_HOTTEST: Final = 2000.0  # K


def parse_temperatures(line: str) -> Temperatures:
    """One answer of the protocol. Raises :class:`InputError` when it holds no bed temperature or an impossible one."""
    found = {m.group(1): (float(m.group(2)) + 273.15, float(m.group(3)) + 273.15) for m in _ANSWER.finditer(line)}
    if "B" not in found:
        raise InputError(f"“{line.strip()[:60]}” holds no bed temperature.")
    if not 223.15 <= found["B"][0] <= 973.15:
        raise InputError(f"The printer reports {found['B'][0] - 273.15:.0f} °C for its bed: the sensor is likely open.")
    if not all(0.0 < T < _HOTTEST for pair in found.values() for T in pair):
        raise InputError(f"“{line.strip()[:60]}” names temperatures that nothing has.")
    duty = {m.group(1): min(float(m.group(2)), FULL_DUTY) / FULL_DUTY for m in _DUTY.finditer(line)}
    chamber, nozzle = found.get("C"), found.get("T")
    nothing = (None, None)
    air, air_target = chamber or nothing
    hot, hot_target = nozzle or nothing
    return Temperatures(*found["B"], air, air_target, hot, hot_target, duty.get("B"), duty.get("C"))


def set_by(line: str) -> tuple[str, float] | None:
    """Which heater (T, B, C) a command sets to how much (K); None where it sets none. Raises :class:`InputError` without its S."""
    word = line.split(";")[0].strip().upper()
    heater = _SETS.get(word[:4])
    if heater is None:
        return None
    match = re.search(r"S(-?\d+(?:\.\d+)?)", word)
    if match is None:
        raise InputError("no S value")
    target = float(match.group(1)) + 273.15
    if not 0.0 < target < _HOTTEST:
        raise InputError("a temperature that nothing has")
    return heater, target


class LineServer(ABC):
    """Answers lines on a pseudo-terminal; use it as a context, ``path`` is the terminal's name."""

    def __init__(self, name: str) -> None:
        self._stop = threading.Event()
        self._master, self._slave = os.openpty()
        tty.setraw(self._slave)
        self.path = os.ttyname(self._slave)
        self._thread = threading.Thread(target=self._serve, name=name, daemon=True)

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        self._thread.join()
        os.close(self._master)
        os.close(self._slave)

    @abstractmethod
    def answer(self, line: str) -> str | None:
        """What is answered to a line; None: nothing."""

    def _serve(self) -> None:
        text = b""
        while not self._stop.is_set():
            ready, _, _ = select.select([self._master], [], [], 0.05)
            if not ready:
                continue
            text += os.read(self._master, 1024)
            while b"\n" in text:
                line, text = text.split(b"\n", 1)
                said = self.answer(line.decode("ascii", "replace").strip())
                if said is not None:
                    os.write(self._master, (said + "\n").encode())


class StandInPrinter(LineServer):
    """Serves a bench's display; time runs faster than the clock by ``speed``, ``faults`` add a hidden bias to what it shows."""

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
        super().__init__("stand-in printer")
        self.bench, self.speed = bench, speed
        self.targets = {"B": bed_target, "C": chamber_target}
        self._rng = np.random.default_rng(seed)
        self._faults = faults
        self._started = time.monotonic()

    def __enter__(self) -> Self:
        self._started = time.monotonic()
        return super().__enter__()

    @property
    def elapsed(self) -> float:
        """Seconds of the rig's time since the start."""
        return (time.monotonic() - self._started) * self.speed

    def answer(self, line: str) -> str:
        """The protocol, from the bench's curves."""
        try:
            target = set_by(line)
        except InputError as error:
            return f"error: {error}"
        if target is not None:
            self.targets[target[0]] = target[1]
            return "ok"
        word = line.split(";")[0].strip().upper()
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
    """Asks a printer on a serial port or a pseudo-terminal for its temperatures; use it as a context."""

    def __init__(self, path: str, timeout: float = 2.0) -> None:
        self.path, self.timeout = path, timeout
        self._port: serial.Serial | None = None

    def __enter__(self) -> Self:
        self.open()
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def open(self) -> None:
        """Open the port for ourselves alone. Raises :class:`InputError` where it is not there, or in use."""
        try:
            self._port = serial.Serial(
                self.path, _BAUD, timeout=self.timeout, write_timeout=self.timeout, exclusive=True
            )
        except (serial.SerialException, ValueError, OSError) as error:
            busy = "exclusively lock" in str(error)
            reason = "another program uses it" if busy else _reason(error)
            raise InputError(f"“{self.path}” cannot be opened: {reason}.") from error

    def close(self) -> None:
        """Let the port go."""
        if self._port is not None:
            self._port.close()
            self._port = None

    def ask(self, command: str = "M105") -> str:
        """Send a line and return the answer. Raises :class:`InputError` when none comes in time, or the port is gone."""
        if self._port is None:
            raise InputError(f"“{self.path}” is not open.")
        try:
            self._port.write((command + "\n").encode())
            line = bytes(self._port.read_until(b"\n", _LONGEST_LINE))
        except (serial.SerialException, OSError) as error:
            raise PortGone(f"“{self.path}” is gone: {_reason(error)}.") from error
        if not line.endswith(b"\n"):
            raise NoAnswer(f"“{self.path}” does not answer within {self.timeout:.0f} s.")
        return line[:-1].decode("ascii", "replace")

    def temperatures(self, tries: int = 4) -> Temperatures:
        """What the printer shows now; lines that tell nothing of it are passed over. Raises :class:`InputError` after some
        tries."""
        line = self.ask()
        for _ in range(tries):
            try:
                return parse_temperatures(line)
            except InputError:
                if "B:" in line:
                    raise
                line = self._next()
        return parse_temperatures(line)

    def _next(self) -> str:
        """The next line without a question, a question where none comes."""
        assert self._port is not None
        try:
            waiting = self._port.in_waiting
        except OSError as error:
            raise PortGone(f"“{self.path}” is gone: {_reason(error)}.") from error
        if not waiting:
            return self.ask()
        return bytes(self._port.read_until(b"\n", _LONGEST_LINE)).decode("ascii", "replace")


def _reason(error: Exception) -> str:
    """What the system says, without the library's words about it."""
    number = getattr(error, "errno", None)
    return (
        os.strerror(number) if isinstance(number, int) and number > 0 else (str(error).splitlines() or ["unknown"])[0]
    )
