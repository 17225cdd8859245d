"""What compiled kernels are made from, and where they are kept. No numerics load here.

The compiler looks at the file of a kernel only: a kernel into which another file's kernel or constant was built would be taken from
the cache when that other file has changed. So every state of these sources has a folder of its own.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import re
import shutil
from functools import cache
from pathlib import Path
from typing import Final

ASKED: Final = "NUMBA_CACHE_DIR"  # the compiler reads it
_CORE: Final = Path(__file__).resolve().parent
_MADE: Final = b"@compiled"
_TAKES: Final = re.compile(rb"^from mandorla\.core\.([\w.]+) import ", re.MULTILINE)
_FOLDER: Final = "mandorla-kernels"
_STATES: Final = 3  # of the sources whose kernels are kept


@cache
def digest() -> str:
    """Of all files that hold kernels and of those that they take anything from."""
    texts = {path: path.read_bytes() for path in _CORE.rglob("*.py")}
    own = {path for path, text in texts.items() if _MADE in text}
    named = {m.decode() for path in own for m in _TAKES.findall(texts[path])}
    taken = {_CORE.joinpath(*name.split(".")).with_suffix(".py") for name in named}
    found = hashlib.sha256()
    for path in sorted((own | taken) & set(texts)):
        found.update(f"{path.relative_to(_CORE)} {len(texts[path])} ".encode() + texts[path])
    return found.hexdigest()[:16]


def kept_in(asked: str) -> Path:
    """The folder for the kernels of these sources: in the one that is ``asked`` for, else beside the sources, else the user's."""
    base = Path(asked) if asked else _CORE / "__pycache__"
    if not asked and not os.access(_CORE, os.W_OK):  # an installed package may be read-only
        from platformdirs import user_cache_path  # needed only there

        base = user_cache_path("mandorla")
    if base.name == digest():  # a program that this one has started
        return base
    return base / _FOLDER / digest()


def forget_older() -> None:
    """Remove the kernels of older states of the sources than the last few, where this program keeps its own."""
    folder = kept_in(os.environ.get(ASKED, ""))
    with contextlib.suppress(OSError):
        states = sorted(folder.parent.iterdir(), key=lambda p: p.stat().st_mtime, reverse=True)
        for old in states[_STATES:]:
            if old != folder:
                shutil.rmtree(old, ignore_errors=True)
