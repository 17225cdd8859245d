"""Copies of a logbook beside it."""

from __future__ import annotations

from pathlib import Path
from typing import Final

FOLDER: Final = "logbook-copies"


def copies_of(path: Path) -> list[Path]:
    """Copies of a book, newest first."""
    return sorted((path.parent / FOLDER).glob(f"{path.stem}-*.db"), reverse=True)
