"""Reads a heater's power density map from CSV text."""

from __future__ import annotations

import csv
import io
import math
from typing import Final

from mandorla.core.errors import InputError

_MOST: Final = 1e9


def read_power_map(text: str) -> tuple[tuple[float, ...], ...]:
    """Rows of relative densities from CSV text, the back row first. Raises :class:`InputError` with the line and the reason."""
    dialect = ";" if text.count(";") >= text.count(",") and ";" in text else ","
    rows: list[tuple[float, ...]] = []
    try:
        read = list(csv.reader(io.StringIO(text, newline=""), delimiter=dialect))
    except csv.Error as error:
        raise InputError(f"The power map is no CSV: {error}.") from None
    for number, row in enumerate(read, start=1):
        if not [cell for cell in row if cell.strip()]:
            continue
        try:
            rows.append(tuple(float(cell.replace(",", ".")) for cell in row if cell.strip()))
        except ValueError:
            text = str(row)[:80]
            raise InputError(f"Line {number} of the power map holds something that is not a number: {text}.") from None
        if not all(math.isfinite(v) and 0.0 <= v < _MOST for v in rows[-1]):
            raise InputError(f"Line {number} of the power map holds a negative or absurdly large density.")
        if len(rows[-1]) != len(rows[0]):
            raise InputError(
                f"Line {number} of the power map has {len(rows[-1])} values, the first has {len(rows[0])}."
            )
    if not rows:
        raise InputError("The power map holds no numbers.")
    return tuple(rows)
