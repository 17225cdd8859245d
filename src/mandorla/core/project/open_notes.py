"""Who has a project open: a note beside the file, so that a second window, or somebody at another computer, hears of it.

It locks nothing: a lock that outlives a crash would keep people from their work. It is read, told, and taken away at the end.
"""

from __future__ import annotations

import contextlib
import getpass
import json
import math
import os
import socket
import time
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Final

from mandorla.core.errors import InputError
from mandorla.core.input_file import bytes_of
from mandorla.core.json_text import json_of
from mandorla.core.project.recovery import is_running, started_at

STALE: Final = 12 * 3600.0  # s without a word, after which somebody at another computer has gone
_LARGEST: Final = 1 << 14  # bytes of a note
_MOST: Final = 8  # processes in it


@dataclass(frozen=True, slots=True)
class OpenedBy:
    """Somebody who has a file open: login name, computer, process number, since when (Unix s)."""

    user: str
    host: str
    pid: int
    since: float


def note_of(path: Path) -> Path:
    """Where the note of a project file lies."""
    target = Path(os.path.realpath(path))
    return target.with_name(f".{target.name}.open")


def opened_by(path: Path) -> OpenedBy | None:
    """Who else has a project open; None for nobody, or where what is noted no longer holds. Of several the one since longest."""
    others = [e.who for e in _holding(note_of(path)) if not e.own]
    return min(others, key=lambda w: w.since, default=None)


def say_open(path: Path) -> None:
    """Note that this process has a project open, beside others that have it; where it cannot be written, nothing is said."""
    note = note_of(path)
    own = _Entry(
        OpenedBy(_user(), socket.gethostname(), os.getpid(), time.time()), started_at(os.getpid()), time.time()
    )
    with contextlib.suppress(OSError):
        _write(note, [*(e for e in _holding(note) if not e.own), own])


def still_open(path: Path) -> None:
    """Renew this process's entry, for those who cannot see whether it runs."""
    note = note_of(path)
    entries = _holding(note)
    if any(e.own for e in entries):
        with contextlib.suppress(OSError):
            _write(note, [replace(e, seen=time.time()) if e.own else e for e in entries])


def say_closed(path: Path) -> None:
    """Take this process's own entry away, and the note with the last one."""
    note = note_of(path)
    entries = _holding(note)
    others = [e for e in entries if not e.own]
    if len(others) == len(entries):
        return
    with contextlib.suppress(OSError):
        if others:
            _write(note, others)
        else:
            note.unlink()


@dataclass(frozen=True, slots=True)
class _Entry:
    """Somebody in a note: when the process ``started``, and when it was ``seen`` last (Unix s)."""

    who: OpenedBy
    started: str
    seen: float

    @property
    def own(self) -> bool:
        return self.who.pid == os.getpid() and self.who.host == socket.gethostname()

    @property
    def holds(self) -> bool:
        if self.who.host == socket.gethostname():
            return self.own or is_running(self.who.pid, self.started)
        return time.time() - self.seen < STALE


def _holding(note: Path) -> list[_Entry]:
    """Everybody in a note who still has the file open; nobody where it is none."""
    try:
        if note.is_symlink():
            return []
        data = json_of(bytes_of(note, _LARGEST), note.name)
        written = note.stat().st_mtime
        listed = data.get("open", [data])  # the note of one alone, as it was once written
        found = [_entry(item, written) for item in listed[:_MOST]]
    except (OSError, InputError, ValueError, LookupError, TypeError, AttributeError, OverflowError):
        return []
    return [e for e in found if e.holds]


def _entry(item: dict[str, object], written: float) -> _Entry:
    """An entry as it is written. Raises ValueError, LookupError or TypeError for one that makes no sense."""
    pid, since, seen = int(str(item["pid"])), float(str(item["since"])), float(str(item.get("seen", written)))
    if not (math.isfinite(since) and math.isfinite(seen) and 0 < pid < 1 << 31):
        raise ValueError
    who = OpenedBy(str(item["user"])[:40], str(item["host"])[:80], pid, since)
    return _Entry(who, str(item.get("started", ""))[:80], seen)


def _write(note: Path, entries: list[_Entry]) -> None:
    listed = [{**asdict(e.who), "started": e.started, "seen": e.seen} for e in entries[-_MOST:]]
    handle = os.open(note, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW | os.O_NONBLOCK, 0o644)
    with os.fdopen(handle, "wb") as stream:
        stream.write(json.dumps({"open": listed}).encode())


def _user() -> str:
    try:
        return getpass.getuser()
    except (KeyError, OSError, ImportError):
        return "somebody"
