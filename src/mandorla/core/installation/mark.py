"""A mark that the kernels of this installation were compiled by this user. No numerics load here."""

from __future__ import annotations

import hashlib
from importlib import metadata, resources
from typing import Final

from mandorla import __version__
from mandorla.core.folders import state_folder
from mandorla.core.kernel_sources import digest

_MARK: Final = "warmed"


def _this() -> str:
    """What the kernels were compiled for: this version and these sources in this place, by this compiler."""
    where = str(resources.files("mandorla"))
    return hashlib.sha256(f"{__version__} {digest()} {metadata.version('numba')} {where}".encode()).hexdigest()


def is_warm() -> bool:
    """Whether the kernels of this installation have been compiled by this user."""
    try:
        return (state_folder() / _MARK).read_text(encoding="utf-8") == _this()
    except (OSError, UnicodeDecodeError):
        return False


def keep_mark() -> None:
    """Remember it; where that cannot be done it is only done again the next time."""
    try:
        state_folder().mkdir(parents=True, exist_ok=True)
        (state_folder() / _MARK).write_text(_this(), encoding="utf-8")
    except OSError:
        return
