"""Files that a person names, read whole: an ordinary one of moderate size, or a refusal; nothing is waited for."""

from __future__ import annotations

import os
import stat
from pathlib import Path
from typing import Final

from mandorla.core.errors import InputError

LARGEST: Final = 512 * 1024 * 1024  # bytes


def bytes_of(path: Path, most: int = LARGEST) -> bytes:
    """The bytes of a file.

    Raises
    ------
    InputError
        What is not there or may not be read; what is no ordinary file (a pipe would be waited for, a device has no end); what is
        larger than ``most`` bytes.
    """
    try:
        handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    except (OSError, ValueError) as error:
        raise InputError(f"“{path}” cannot be read: {getattr(error, 'strerror', None) or error}.") from None
    try:
        found = os.fstat(handle)
        if not stat.S_ISREG(found.st_mode):
            raise InputError(f"“{path}” cannot be read: it is no ordinary file.")
        if found.st_size > most:
            raise InputError(f"“{path}” is larger than {max(most // 1_000_000, 1)} MB.")
        with os.fdopen(handle, "rb", closefd=False) as stream:
            data = stream.read(most + 1)
    except OSError as error:
        raise InputError(f"“{path}” cannot be read: {error.strerror}.") from None
    finally:
        os.close(handle)
    if len(data) > most:  # it grew meanwhile
        raise InputError(f"“{path}” is larger than {max(most // 1_000_000, 1)} MB.")
    return data


def text_of(path: Path, most: int = LARGEST) -> str:
    """The text of a UTF-8 file, with or without its mark. Raises :class:`InputError` as :func:`bytes_of`, and for other bytes."""
    try:
        return bytes_of(path, most).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise InputError(f"“{path}” is not UTF-8 at byte {error.start}.") from None
