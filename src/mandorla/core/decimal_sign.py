"""The reader's decimal sign: texts are made with a point; one function gives those that a person reads a comma instead.

Names keep their points: files, versions, addresses, arguments (``a=1.5``) and machine commands (``X1.5``).
"""

from __future__ import annotations

import re
from typing import Final

_RUN: Final = re.compile(r"<[A-Za-z/!][^<>]*>|[^\s<>]+")  # a tag is a run of its own, and no figure
_POINT: Final = re.compile(r"(?<=\d)\.(?=\d)")
# an argument, a file's ending, a version, a machine command, a path or an address
_NAME: Final = re.compile(r"=|\w\.[A-Za-z]|\d\.\d+\.\d|(?<![A-Za-z])[A-Z]-?\d+\.\d|^[(“\"']?(?:[/~]|\.{1,2}/)|://")


def with_comma(text: str) -> str:
    """A text with decimal commas in place of its decimal points; idempotent.

    >>> with_comma("1.5 mm of slab-0.2.stl, G1 X10.5, version 1.2.0")
    '1,5 mm of slab-0.2.stl, G1 X10.5, version 1.2.0'
    """
    return _RUN.sub(_read, text) if "." in text else text


def _read(found: re.Match[str]) -> str:
    run = found.group(0)
    return run if run[0] == "<" or "." not in run or _NAME.search(run) else _POINT.sub(",", run)
