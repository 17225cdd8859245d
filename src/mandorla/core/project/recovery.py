"""Autosave and recovery: unsaved work is kept beside a note of the process that owned it."""

from __future__ import annotations

import json
import math
import os
import time
from dataclasses import dataclass
from pathlib import Path

from mandorla.core.errors import InputError, MandorlaError, ProjectFileError
from mandorla.core.json_text import json_of
from mandorla.core.project.atomic import PRIVATE, sweep, write_atomically
from mandorla.core.project.changes import changes
from mandorla.core.project.store import Bundle, read_bundle, write_bundle
from mandorla.core.units import METRIC, UnitPreferences


@dataclass(frozen=True, slots=True)
class Recovered:
    """Work left behind by a process that ended without closing: the copy, the file it belongs to, when it was kept."""

    copy: Path
    note: Path
    original: Path | None
    kept_at: float
    project_name: str


def started_at(pid: int) -> str:
    """When a process began, as the kernel tells it; empty where it does not run or the kernel does not say.

    A process number is used again; together with its start it is not.
    """
    try:
        text = Path(f"/proc/{pid}/stat").read_text(encoding="utf-8", errors="replace")
    except OSError:
        return ""
    return text.rpartition(")")[2].split()[19]


class Autosave:
    """Keeps one recovery copy for one running window in ``folder``. Raises OSError where the folder cannot be made."""

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        sweep(folder)
        stem = f"session-{os.getpid()}-{time.time_ns()}"
        self._copy = folder / f"{stem}.mandorla"
        self._note = folder / f"{stem}.json"

    @property
    def copy(self) -> Path:
        """Where the copy is kept."""
        return self._copy

    def keep(self, bundle: Bundle, original: Path | None) -> None:
        """Write the copy and the note of who owns it, each whole or not at all. Raises :class:`ProjectFileError`."""
        write_bundle(self._copy, bundle, mode=PRIVATE)
        pid = os.getpid()
        note = {
            "pid": pid,
            "started": started_at(pid),
            "original": str(original) if original else None,
            "at": time.time(),
            "name": bundle.project.name,
        }
        write_atomically(self._note, json.dumps(note).encode(), mode=PRIVATE)

    def clear(self) -> None:
        """Forget the copy: the work is saved or was given up."""
        self._copy.unlink(missing_ok=True)
        self._note.unlink(missing_ok=True)


def is_running(pid: int, started: str) -> bool:
    """Whether the very process still runs: its number, and its start where it was noted."""
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        pass
    return not started or started == started_at(pid)


def _owner(copy: Path) -> tuple[int, str]:
    """The process number in a copy's name, where its note tells nothing."""
    number = copy.stem.split("-")[1]
    return int(number) if number.isdigit() else -1, ""


def find_recoverable(folder: Path) -> list[Recovered]:
    """Copies whose owner no longer runs, newest first; a copy counts even where its note is lost or damaged."""
    found = []
    for copy in sorted(folder.glob("session-*.mandorla")) if folder.is_dir() else []:
        note = copy.with_suffix(".json")
        pid, started = _owner(copy)
        original, name = None, copy.stem
        at = copy.stat().st_mtime
        try:
            data = json_of(note.read_bytes(), note.name)
            known = int(data["pid"]), str(data.get("started", "")), float(data["at"])
            file, told = Path(data["original"]) if data.get("original") else None, str(data.get("name", ""))[:200]
            if not math.isfinite(known[2]) or not 0 <= known[0] < 1 << 31 or (file is not None and "\0" in str(file)):
                raise ValueError
            (pid, started, at), original, name = known, file, told
        except (OSError, InputError, ValueError, LookupError, TypeError, AttributeError, OverflowError):
            pass  # the copy is what counts: it is offered under its own name
        if pid == os.getpid() or (pid > 0 and is_running(pid, started)):
            continue
        found.append(Recovered(copy, note, original, at, name))
    return sorted(found, key=lambda r: -r.kept_at)


def recover(item: Recovered) -> Bundle:
    """Read a recovery copy. Raises :class:`ProjectFileError` when it is damaged."""
    bundle = read_bundle(item.copy)
    if not bundle.project.name:
        raise ProjectFileError("the recovery copy has no name")
    return bundle


def what_changed(item: Recovered, prefs: UnitPreferences = METRIC) -> tuple[str, ...]:
    """How a copy differs from the file that it belongs to, a line a field; says so where it belongs to none, or that is gone."""
    try:
        kept = read_bundle(item.copy).project
    except MandorlaError as error:
        return (f"The copy cannot be read: {error.message}",)
    if item.original is None:
        return ("Never saved to a file: all of it is new.",)
    try:
        there = read_bundle(item.original).project
    except MandorlaError:
        return (f"{item.original.name} is no longer there or cannot be read: all of the copy is new.",)
    return changes(there, kept, prefs) or ("Nothing: the file holds the same.",)


def discard(item: Recovered) -> None:
    """Delete a recovery copy for good."""
    item.copy.unlink(missing_ok=True)
    item.note.unlink(missing_ok=True)
