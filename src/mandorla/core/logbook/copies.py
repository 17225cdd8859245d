"""Copies of a logbook beside it, and how one takes a damaged book's place."""

from __future__ import annotations

import shutil
from datetime import UTC, datetime
from pathlib import Path
from typing import Final

from mandorla.core.errors import LogbookError

FOLDER: Final = "logbook-copies"


def copies_of(path: Path) -> list[Path]:
    """Copies of a book, newest first."""
    return sorted((path.parent / FOLDER).glob(f"{path.stem}-*.db"), reverse=True)


def restore(path: Path) -> None:
    """Put the newest copy in the place of a damaged book, which is kept beside it with its journals.

    Raises :class:`LogbookError` when there is no copy or it cannot be put there.
    """
    copies = copies_of(path)
    if not copies:
        raise LogbookError(f"There is no copy of “{path}”.")
    stem = f"{path.stem}-damaged-{datetime.now(UTC):%Y%m%d-%H%M%S}{path.suffix}"
    try:
        for end in ("", "-wal", "-shm"):  # a journal that stayed would be played into the copy
            part = path.with_name(path.name + end)
            if part.exists():
                part.rename(path.with_name(stem + end))
        shutil.copyfile(copies[0], path)
    except OSError as error:
        raise LogbookError(f"The copy could not be put in place: {error.strerror}.") from None
