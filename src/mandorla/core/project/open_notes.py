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
from dataclasses import dataclass
from pathlib import Path
from typing import Final

from mandorla.core.errors import InputError
from mandorla.core.input_file import bytes_of
from mandorla.core.json_text import json_of
from mandorla.core.project.recovery import is_running, started_at

STALE: Final = 12 * 3600.0  # s without a word, after which somebody at another computer has gone
_LARGEST: Final = 4096  # bytes of a note


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
    """Who else has a project open; None for nobody, or for a note that no longer holds."""
    note = note_of(path)
    try:
        if note.is_symlink():
            return None
        data = json_of(bytes_of(note, _LARGEST), note.name)
        age = time.time() - note.stat().st_mtime
        who = OpenedBy(str(data["user"])[:40], str(data["host"])[:80], int(data["pid"]), float(data["since"]))
        started = str(data.get("started", ""))
    except (OSError, InputError, ValueError, LookupError, TypeError, AttributeError, OverflowError):
        return None
    if not math.isfinite(who.since) or not 0 < who.pid < 1 << 31:
        return None
    if who.host == socket.gethostname():
        return who if who.pid != os.getpid() and is_running(who.pid, started) else None
    return who if age < STALE else None


def say_open(path: Path) -> None:
    """Leave a note that this process has a project open; where it cannot be written, nothing is said."""
    who = {
        "user": _user(), "host": socket.gethostname(), "pid": os.getpid(), "started": started_at(os.getpid()),
        "since": time.time(),
    }  # fmt: skip
    note = note_of(path)
    with contextlib.suppress(OSError):
        handle = os.open(note, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW | os.O_NONBLOCK, 0o644)
        with os.fdopen(handle, "wb") as stream:
            stream.write(json.dumps(who).encode())


def still_open(path: Path) -> None:
    """Renew this process's note, for those who cannot see whether it runs."""
    with contextlib.suppress(OSError):
        os.utime(note_of(path))


def say_closed(path: Path) -> None:
    """Take this process's own note away."""
    note = note_of(path)
    with contextlib.suppress(OSError, InputError, ValueError, LookupError, TypeError, AttributeError):
        data = json_of(bytes_of(note, _LARGEST), note.name)
        if int(data["pid"]) == os.getpid() and str(data["host"]) == socket.gethostname():
            note.unlink()


def _user() -> str:
    try:
        return getpass.getuser()
    except (KeyError, OSError, ImportError):
        return "somebody"
