"""A book read from a private copy, where its own place takes no journal: a full disk, a folder that can only be read.

SQLite makes a journal's index beside a book even for reading, so that a full disk would take the whole record away. The copy
lies in memory where the system has a folder for that, else in the folder for temporary files; nobody writes into it.
"""

from __future__ import annotations

import os
import shutil
import tempfile
from pathlib import Path
from typing import Final

_IN_MEMORY: Final = Path("/dev/shm")
_JOURNAL: Final = "-wal"


def why_no_journal(path: Path, said: str) -> str:
    """Why a book's place takes nothing, in words, by what SQLite ``said`` and what the folder is; empty where that is no reason."""
    if not any(words in said for words in ("disk I/O", "unable to open", "is full", "readonly")):
        return ""
    try:
        place = os.statvfs(path.parent)
    except OSError:
        return ""
    if place.f_flag & os.ST_RDONLY or not os.access(path.parent, os.W_OK):
        return "its folder can only be read"
    if path.exists() and not os.access(path, os.W_OK):
        return "the file can only be read"
    return "the disk is full" if place.f_bavail * place.f_frsize < 1 << 16 or "is full" in said else ""


class ReadingCopy:
    """The newest copy of a book with its journal, made anew when they change. Raises OSError where there is no room for it."""

    def __init__(self, path: Path) -> None:
        self._of = path
        base = _IN_MEMORY if os.access(_IN_MEMORY, os.W_OK) else None
        self._folder = tempfile.TemporaryDirectory(prefix="mandorla-book-", dir=base)
        self._seen: tuple[tuple[int, int], ...] = ()

    @property
    def path(self) -> Path:
        """Where it lies."""
        return Path(self._folder.name) / self._of.name

    def fresh(self) -> bool:
        """Copy where the book has changed; whether it had."""
        parts = [p for end in ("", _JOURNAL) if (p := self._of.with_name(self._of.name + end)).exists()]
        seen = tuple((p.stat().st_mtime_ns, p.stat().st_size) for p in parts)
        if seen == self._seen:
            return False
        for old in Path(self._folder.name).iterdir():
            old.unlink()
        for part in parts:
            shutil.copyfile(part, self.path.with_name(part.name))
        self._seen = seen
        return True
