"""Reads the room's temperature over time from CSV text: time and temperature, any usual delimiter, decimal comma, °C, °F or K."""

from __future__ import annotations

import csv
import io
from datetime import datetime
from typing import Final

from mandorla.core.errors import InputError, Problem
from mandorla.core.units import celsius

_UNITS: Final = {"f": lambda v: celsius((v - 32.0) / 1.8), "k": lambda v: v, "c": celsius}
MOST: Final = 20000
HOTTEST: Final = 373.15  # K
LONGEST: Final = 3.2e8  # s, ten years


def read_room_log(text: str, name: str) -> tuple[tuple[float, float], ...]:
    """(s from the first line, K) in order of time. Raises :class:`InputError` naming the first bad line.

    The first column is seconds, hours (``h`` in its heading), minutes (``min``) or a date with time; the second a temperature,
    in the unit that its heading names (°F, K), else in °C.
    """
    lines = [line for line in text.splitlines() if line.strip()]
    if len(lines) < 2:
        raise InputError(f"“{name}” holds fewer than two lines.")
    delimiter = max("\t;,", key=lambda d: sum(d in line for line in lines))
    try:
        rows = list(csv.reader(io.StringIO("\n".join(lines)), delimiter=delimiter))
    except csv.Error as error:
        raise InputError(f"“{name}” is no CSV: {error}.") from None
    head = [cell.strip().lower() for cell in rows[0]] if not _is_number(rows[0][0]) and not _is_date(rows[0][0]) else []
    unit = _unit(head[1]) if len(head) > 1 else "c"
    factor = _factor(head[0]) if head else 1.0
    found: list[tuple[float, float]] = []
    first: datetime | None = None
    for number, row in enumerate(rows[1 if head else 0 :], start=2 if head else 1):
        try:
            if len(row) < 2:
                raise ValueError("two columns are needed")
            moment = _is_date(row[0])
            if moment is not None:
                first = first or moment
                time = (moment - first).total_seconds()
            else:
                time = factor * _number(row[0])
            T = _UNITS[unit](_number(row[1]))
            if not 0.0 < T < HOTTEST or not abs(time) < LONGEST:
                raise ValueError("no room is that hot or cold, or no log that long")
            found.append((time, T))
        except ValueError as error:
            raise InputError(
                f"“{name}”, line {number}: {str(error)[:80]}.",
                problems=(Problem(f"line {number}", str(row)[:60], "a time and a temperature"),),
            ) from None
    if not found:
        raise InputError(f"“{name}” holds no line of a time and a temperature.")
    found.sort()
    kept = [found[0]]
    for time, T in found[1:]:
        if time > kept[-1][0]:
            kept.append((time, T))
    zero = kept[0][0]
    step = -(-len(kept) // MOST)
    return tuple((time - zero, T) for time, T in kept[::step])


def _number(text: str) -> float:
    return float(text.strip().replace(",", "."))


def _is_number(text: str) -> bool:
    try:
        _number(text)
    except ValueError:
        return False
    return True


def _is_date(text: str) -> datetime | None:
    for form in ("%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M", "%Y-%m-%dT%H:%M:%S", "%d.%m.%Y %H:%M:%S", "%d.%m.%Y %H:%M"):
        try:
            return datetime.strptime(text.strip(), form)
        except ValueError:
            continue
    return None


def _unit(head: str) -> str:
    if "°f" in head or head.endswith("_f") or "fahrenheit" in head:
        return "f"
    return "k" if head.endswith(("[k]", "(k)", ", k", "_k")) or "kelvin" in head else "c"


def _factor(head: str) -> float:
    if "min" in head:
        return 60.0
    return 3600.0 if head.endswith(("h", "(h)", "[h]")) or "hour" in head else 1.0
