"""Text of logs and what single cells of it say: numbers with point or comma, moments in several forms."""

from __future__ import annotations

import math
from datetime import datetime
from typing import Final

from mandorla.core.errors import InputError

FORMS: Final = {
    "iso": ("%Y-%m-%d %H:%M:%S.%f", "%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M"),
    "day first": ("%d.%m.%Y %H:%M:%S.%f", "%d.%m.%Y %H:%M:%S", "%d.%m.%Y %H:%M"),
    "month first": ("%m/%d/%Y %H:%M:%S.%f", "%m/%d/%Y %H:%M:%S", "%m/%d/%Y %H:%M"),
    "clock": ("%H:%M:%S.%f", "%H:%M:%S", "%H:%M"),
}  # fmt: skip
EPOCH: Final = datetime(1970, 1, 1)


def text_of(data: bytes, name: str) -> str:
    """The text of a log, UTF-8 or Latin-1. Raises :class:`InputError` for something that is no text."""
    if b"\x00" in data[:4096] and not data.startswith((b"\xff\xfe", b"\xfe\xff")):
        raise InputError(f"“{name}” is not a text file.")
    for code in ("utf-8-sig", "utf-16") if data.startswith((b"\xff\xfe", b"\xfe\xff")) else ("utf-8-sig", "latin-1"):
        try:
            return data.decode(code)
        except UnicodeDecodeError:
            continue
    raise InputError(f"“{name}” is not a text file.")


def number(cell: str, decimal: str) -> float:
    """A cell as a number; dots group thousands where a comma marks the decimals. Raises ValueError for anything else."""
    cell = cell.strip().replace("\u2212", "-")
    if decimal == ",":
        cell = cell.replace(".", "").replace(",", ".") if cell.count(",") == 1 else cell
    return float(cell)


def is_number(cell: str, decimal: str) -> bool:
    """Whether a cell is a finite number."""
    try:
        return math.isfinite(number(cell, decimal))
    except ValueError:
        return False


def moment(cell: str, form: str) -> float:
    """A cell as seconds since 1970, or since midnight for a clock. Raises ValueError when it is not written in that form."""
    text = cell.strip().rstrip("Z").replace("T", " ")
    if form == "day first":
        text = text.replace("/", ".").replace("-", ".", 2)
    for pattern in FORMS[form]:
        try:
            return (datetime.strptime(text, pattern) - EPOCH).total_seconds()
        except ValueError:
            continue
    raise ValueError(f"“{cell[:30]}” is no moment written {form}")
