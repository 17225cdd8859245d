"""Reads a heater's power density map from CSV text."""

from __future__ import annotations

import csv
import io

from mandorla.core.errors import InputError


def read_power_map(text: str) -> tuple[tuple[float, ...], ...]:
    """Rows of relative densities from CSV text, the back row first. Raises :class:`InputError` with the line and the reason."""
    dialect = ";" if text.count(";") >= text.count(",") and ";" in text else ","
    rows = []
    for number, row in enumerate(csv.reader(io.StringIO(text), delimiter=dialect), start=1):
        if not [cell for cell in row if cell.strip()]:
            continue
        try:
            rows.append(tuple(float(cell.replace(",", ".")) for cell in row if cell.strip()))
        except ValueError:
            raise InputError(f"Line {number} of the power map holds something that is not a number: {row}.") from None
        if len(rows[-1]) != len(rows[0]):
            raise InputError(
                f"Line {number} of the power map has {len(rows[-1])} values, the first has {len(rows[0])}."
            )
    if not rows:
        raise InputError("The power map holds no numbers.")
    return tuple(rows)
