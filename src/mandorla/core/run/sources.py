"""Where the readings of a watch come from: a machine on a serial port or a pseudo-terminal, a logger's file that grows, a plug
meter's file beside either, or the simulated machine that ships. What is odd about a source is told; nothing waits for ever."""

from __future__ import annotations

import math
import stat
import time
from dataclasses import replace
from pathlib import Path
from typing import Final, Protocol

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.measure.log_guess import propose
from mandorla.core.measure.logs import LogData, read_log
from mandorla.core.measure.models import LogMapping
from mandorla.core.measure.printer import NoAnswer, PortGone, PrinterReader, Temperatures
from mandorla.core.run.recorder import HEAD, from_line
from mandorla.core.run.simulated_machine import SimulatedMachine
from mandorla.core.run.trace_point import TracePoint

_AGAIN: Final = 2.0  # s between attempts to open a port that is gone
_LATENCY: Final = 0.05  # s between a reading and its answer
_MOST: Final = 4_000_000  # bytes that are read of a file at once
_SLEEP: Final = 5.0  # s that one clock is ahead of the other, from which the computer has slept
_LONGEST: Final = 1_000_000  # bytes of a line without an end
_OWN: Final = HEAD.encode()
_JUMP: Final = 6 * 3600.0  # s between two lines of a log from which its clock has jumped


class Source(Protocol):
    """Gives readings as they come."""

    name: str

    @property
    def timing(self) -> float:
        """Seconds to which the times of its readings are known."""

    @property
    def note(self) -> str:
        """What is odd about it now; empty where nothing is."""

    @property
    def now(self) -> float:
        """Seconds since the watch began."""

    @property
    def ended(self) -> bool:
        """Whether nothing more will come."""

    def read(self) -> list[TracePoint]:
        """What has come since it was last asked; it may be nothing. Raises InputError where the source can never be used."""

    def close(self) -> None:
        """Let it go."""


def _passed() -> float:
    """Seconds on a clock that goes on while the computer sleeps."""
    return time.clock_gettime(time.CLOCK_BOOTTIME)


class MachineSource:
    """Asks a machine on a port every ``every`` s; opens it again for as long as it is away. ``speed`` is how much faster than the
    clock its time runs (a simulated one). ``slept`` is for how long (s) the computer slept just before the newest reading."""

    def __init__(self, path: str, every: float = 1.0, speed: float = 1.0, timeout: float = 2.0) -> None:
        self.name, self.every, self.speed, self.note = path, every, speed, ""
        self.timing = _LATENCY * speed
        self._reader = PrinterReader(path, timeout)
        self._reader.open()  # a port that was never there is refused at once
        self._open, self._began = True, _passed()
        self._due = self._before = time.monotonic()
        self._boot = self._began
        self.garbage, self.slept = 0, 0.0

    @property
    def now(self) -> float:
        """Seconds since the watch began."""
        return (_passed() - self._began) * self.speed

    @property
    def ended(self) -> bool:
        """A machine may always come back."""
        return False

    def read(self) -> list[TracePoint]:
        """One reading when it is due."""
        wait = self._due - time.monotonic()
        if wait > 0.0:
            time.sleep(min(wait, self.every))
        awake = time.monotonic()
        self._due = max(self._due + self.every, awake)
        boot = _passed()
        asleep = (boot - self._boot) - (awake - self._before)
        self._boot, self._before = boot, awake
        self.slept = asleep if asleep > _SLEEP else 0.0
        if not self._open:
            self._try_again()
            return []
        asked = time.monotonic()
        try:
            found = self._reader.temperatures()
        except PortGone as error:
            self._reader.close()
            self._open, self.note = False, str(error)
            return []
        except NoAnswer as error:
            self.note = str(error)
            return []
        except InputError as error:
            self.garbage, self.note = self.garbage + 1, str(error)
            return []
        self.timing = max(_LATENCY, time.monotonic() - asked) * self.speed
        self.note = f"{self.garbage} lines could not be read" if self.garbage else ""
        if self.slept:
            self.note = f"this computer slept for {self.slept / 60:.0f} min: the machine went on unwatched, nothing of it is known"
        return [as_point(self.now, found)]

    def _try_again(self) -> None:
        self._due = time.monotonic() + _AGAIN
        try:
            self._reader.open()
        except InputError as error:
            self.note = str(error)
            return
        self._open, self.note = True, "connected again"

    def close(self) -> None:
        """Let the port go."""
        self._reader.close()


def machine_on(text: str, every: float = 1.0) -> MachineSource:
    """A machine on a port; ``/dev/pts/3@30`` is one whose time runs 30 times faster (a simulated one). Raises InputError."""
    path, _, factor = text.partition("@")
    try:
        speed = float(factor) if factor else 1.0
    except ValueError:
        speed = math.nan
    if not 1.0 <= speed <= 1000.0:
        raise InputError(f"“{text}”: after the @ stands how much faster its time runs, as in /dev/pts/3@30.")
    return MachineSource(path, every / min(speed, 10.0), speed)


def as_point(now: float, t: Temperatures) -> TracePoint:
    """A protocol's answer as a moment of a trace."""

    def known(value: float | None) -> float:
        return math.nan if value is None else value

    return TracePoint(
        now, t.bed, t.bed_target, known(t.bed_duty), known(t.chamber), known(t.chamber_target), known(t.chamber_duty),
        known(t.nozzle), known(t.nozzle_target),
    )  # fmt: skip


class SimulatedSource:
    """The simulated machine in this process, ``speed`` times faster than the clock; infinite: as fast as it is asked."""

    def __init__(self, machine: SimulatedMachine, speed: float = 60.0, until: float = math.inf) -> None:
        self.name, self.note, self.timing = "simulated machine", "", 0.0
        self.machine, self.speed, self.until = machine, speed, until
        self._began = time.monotonic()

    @property
    def now(self) -> float:
        """Seconds of the machine."""
        return self.machine.now

    @property
    def ended(self) -> bool:
        """Whether it has come to the end that it was given."""
        return self.machine.now >= self.until

    def read(self) -> list[TracePoint]:
        """What the machine has shown since, at least ten of its seconds."""
        if math.isinf(self.speed):
            return self.machine.advance(60.0)
        ahead = self.machine.now - (time.monotonic() - self._began) * self.speed
        if ahead > 0.0:
            time.sleep(min(ahead / self.speed, 0.5))
            return []
        return self.machine.advance(min(-ahead, 120.0))

    def close(self) -> None:
        """Nothing is held."""


class GrowingFile:
    """Complete new lines of a file; one that became shorter or another file begins anew, and that is told."""

    def __init__(self, path: Path) -> None:
        self.path, self.note = path, ""
        self._at, self._inode = 0, -1
        self._rest = b""

    def lines(self) -> tuple[bytes, bool]:
        """New complete lines, and whether they are of a new file. Raises InputError where it was never readable."""
        try:
            found = self.path.stat()
            if not stat.S_ISREG(found.st_mode):
                raise InputError(f"“{self.path.name}” cannot be watched: it is no ordinary file.")
            fresh = self._inode >= 0 and (found.st_ino != self._inode or found.st_size < self._at)
            if fresh:
                self._at, self._rest = 0, b""
            with self.path.open("rb") as file:
                file.seek(self._at)
                data = file.read(_MOST)
        except OSError as error:
            if self._inode < 0:
                raise InputError(f"“{self.path.name}” cannot be read: {error.strerror}.") from None
            self.note = f"“{self.path.name}” cannot be read now: {error.strerror}"
            return b"", False
        self.note = f"“{self.path.name}” was replaced; its new lines are read" if fresh else ""
        self._inode, self._at = found.st_ino, self._at + len(data)
        whole, _, rest = (self._rest + data).rpartition(b"\n")
        self._rest = rest[-_LONGEST:]  # a line without an end is not kept for ever
        return (whole + b"\n" if whole else b""), fresh


class GrowingTable:
    """New rows of a CSV file that grows, under a mapping that is given or guessed from its first lines."""

    def __init__(self, path: Path, mapping: LogMapping | None = None) -> None:
        self._file, self._given = GrowingFile(path), mapping
        self._mapping, self._head = mapping, b""
        self.own = False  # of our own form: nothing has to be guessed

    @property
    def note(self) -> str:
        """What is odd about the file now."""
        return self._file.note

    def read(self) -> tuple[LogData | list[TracePoint] | None, bool]:
        """New rows, None where there are none yet, and whether the file is another one now."""
        data, fresh = self._file.lines()
        if fresh:
            self._head, self._mapping, self.own = b"", self._given, False
        if not data:
            return None, fresh
        self.own = self.own or (not self._head and data.startswith(_OWN))
        if self.own:
            lines = (from_line(line) for line in data.decode("utf-8", "replace").splitlines())
            return [p for p in lines if p is not None and math.isfinite(p.time)], fresh
        name = self._file.path.name
        if not self._head:
            rows = data.splitlines(keepends=True)
            if len(rows) < 3:
                self._file = GrowingFile(self._file.path)  # too little yet: from the beginning again
                return None, fresh
            self._mapping = self._mapping or propose(data, name)
            self._head = b"".join(rows[: self._mapping.header_lines + 1])
        else:
            # the first row goes along: times are counted from it
            data = self._head + data
        assert self._mapping is not None
        return read_log(data, name, _with_targets(self._mapping)), fresh


class LogSource:
    """A logger's CSV file that grows. How it is read is guessed from its first lines, or given."""

    def __init__(self, path: Path, mapping: LogMapping | None = None, *, finished: bool = False) -> None:
        self.name, self.note, self.timing = path.name, "", 0.5
        self._table, self._finished = GrowingTable(path, mapping), finished
        self._now, self._shift, self._last = 0.0, 0.0, -math.inf
        self._done = False
        self.skipped = 0

    @property
    def now(self) -> float:
        """Time of the newest line."""
        return self._now

    @property
    def ended(self) -> bool:
        """Whether a finished file has been read to its end."""
        return self._done

    def read(self) -> list[TracePoint]:
        """New lines; those that go back in time are passed over."""
        new, fresh = self._table.read()
        self.note = self._table.note
        if fresh:
            self._shift = self._now + 1.0
        self._done = self._finished and new is None
        if new is None:
            if not self._finished:
                time.sleep(0.2)
            return []
        return self._in_order(points_of(new) if isinstance(new, LogData) else new)

    def _in_order(self, points: list[TracePoint]) -> list[TracePoint]:
        found = []
        for p in points:
            t = p.time + self._shift
            if t <= self._last:
                self.skipped += t < self._last
                continue
            if math.isfinite(self._last) and t - self._last > _JUMP:
                self._shift -= t - self._last - 1.0  # the clock jumped: it goes on from where it was
                self.note = f"the clock of “{self.name}” jumped by {(t - self._last) / 3600:.0f} h"
                t = self._last + 1.0
            self._last = self._now = t
            found.append(replace(p, time=t))
        if self.skipped:
            self.note = f"{self.skipped} lines of “{self.name}” go back in time and are passed over"
        return found

    def close(self) -> None:
        """Nothing is held open."""


def _with_targets(mapping: LogMapping) -> LogMapping:
    """A mapping that also takes columns of targets, which no comparison wants but a watch does."""
    channels = tuple(
        c.model_copy(update={"what": "temperature", "unit": "°C"})
        if c.what == "nothing" and _role(c.name)[0] == "set"
        else c
        for c in mapping.channels
    )
    return mapping.model_copy(update={"channels": channels})


def _role(name: str) -> tuple[str, str]:
    """What a column is by its title: ``set``, ``duty`` or ``shown``, of ``bed``, ``chamber`` or ``nozzle``."""
    low = name.lower()

    def has(*words: str) -> bool:
        return any(w in low for w in words)

    what = "set" if has("target", "set point", "setpoint", "wanted") else "duty" if has("duty") else "shown"
    of = "nozzle" if has("nozzle", "hot end") else "chamber" if has("chamber", "air", "enclosure") else "bed"
    return what, of


def points_of(log: LogData) -> list[TracePoint]:
    """A log's rows as moments of a trace: the bed's own sensor where it is there, else its surface. Raises InputError without
    either."""
    columns: dict[str, np.ndarray] = {}
    for channel, values in zip(log.channels, log.values, strict=True):
        what, of = _role(channel.name)
        if channel.what == "power":
            columns["power"] = values
        elif channel.what == "duty" or what == "duty":
            columns[f"{of}_duty"] = values
        elif what == "set":
            columns[f"{of}_set"] = values
        elif channel.place in ("upper air", "lower air") or of == "chamber":
            columns.setdefault("chamber", values)
        elif of == "nozzle":
            columns["nozzle"] = values
        elif channel.place == "sensor":
            columns["bed"] = values
        elif channel.place == "surface":
            columns.setdefault("bed", values)
    if "bed" not in columns:
        raise InputError("This log has no column of the bed's temperature: name one “bed” or “display”.")
    return [TracePoint(float(t), **{name: float(v[k]) for name, v in columns.items()}) for k, t in enumerate(log.time)]


class WithMeter:
    """Another source with what a plug meter's growing file shows, held for as long as the meter is usually silent."""

    def __init__(self, source: Source, meter: Path, held: float = 15.0) -> None:
        self._source, self._table, self._held = source, GrowingTable(meter), held
        self.name = f"{source.name}, {meter.name}"
        self._power, self._seen = math.nan, -math.inf

    @property
    def timing(self) -> float:
        """Of the machine."""
        return self._source.timing

    @property
    def note(self) -> str:
        """Of either."""
        return self._source.note or self._table.note

    @property
    def now(self) -> float:
        """Of the machine."""
        return self._source.now

    @property
    def ended(self) -> bool:
        """Whether the machine's source has."""
        return self._source.ended

    def read(self) -> list[TracePoint]:
        """The machine's readings with the meter's newest power."""
        points = self._source.read()
        new, _ = self._table.read()
        power = new.of("power", "power") if isinstance(new, LogData) else ()
        if power:
            self._power, self._seen = float(power[0][1][-1]), self._source.now
        fresh_enough = self._source.now - self._seen <= self._held
        return [p.with_power(self._power if fresh_enough else math.nan) for p in points]

    def close(self) -> None:
        """Let the machine's source go."""
        self._source.close()
