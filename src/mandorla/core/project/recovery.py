"""Autosave and recovery: unsaved work is kept beside a note of the process that owned it."""

from __future__ import annotations

import json
import os
import time
from dataclasses import dataclass
from pathlib import Path

from mandorla.core.errors import ProjectFileError
from mandorla.core.project.store import Bundle, read_bundle, write_bundle


@dataclass(frozen=True, slots=True)
class Recovered:
    """Work left behind by a process that ended without closing: the copy, the file it belongs to, when it was kept."""

    copy: Path
    note: Path
    original: Path | None
    kept_at: float
    project_name: str


class Autosave:
    """Keeps one recovery copy for one running window in ``folder``."""

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        stem = f"session-{os.getpid()}-{time.time_ns()}"
        self._copy = folder / f"{stem}.mandorla"
        self._note = folder / f"{stem}.json"

    @property
    def copy(self) -> Path:
        """Where the copy is kept."""
        return self._copy

    def keep(self, bundle: Bundle, original: Path | None) -> None:
        """Write the copy and the note of who owns it."""
        write_bundle(self._copy, bundle)
        note = {
            "pid": os.getpid(),
            "original": str(original) if original else None,
            "at": time.time(),
            "name": bundle.project.name,
        }
        self._note.write_text(json.dumps(note), encoding="utf-8")

    def clear(self) -> None:
        """Forget the copy: the work is saved or was given up."""
        self._copy.unlink(missing_ok=True)
        self._note.unlink(missing_ok=True)


def _alive(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True


def find_recoverable(folder: Path) -> list[Recovered]:
    """Copies whose owner no longer runs, newest first; unreadable notes are skipped, their copies stay untouched."""
    found = []
    for note in sorted(folder.glob("session-*.json")) if folder.is_dir() else []:
        copy = note.with_suffix(".mandorla")
        try:
            data = json.loads(note.read_text(encoding="utf-8"))
            owner, at = int(data["pid"]), float(data["at"])
        except (ValueError, KeyError, TypeError):
            continue
        if _alive(owner) or not copy.exists():
            continue
        original = Path(data["original"]) if data.get("original") else None
        found.append(Recovered(copy, note, original, at, str(data.get("name", ""))))
    return sorted(found, key=lambda r: -r.kept_at)


def recover(item: Recovered) -> Bundle:
    """Read a recovery copy. Raises :class:`ProjectFileError` when it is damaged."""
    bundle = read_bundle(item.copy)
    if not bundle.project.name:
        raise ProjectFileError("the recovery copy has no name")
    return bundle


def discard(item: Recovered) -> None:
    """Delete a recovery copy for good."""
    item.copy.unlink(missing_ok=True)
    item.note.unlink(missing_ok=True)
