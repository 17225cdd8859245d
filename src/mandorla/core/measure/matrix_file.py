"""Reads an imager's matrix of temperatures as it was saved."""

from __future__ import annotations

from typing import Final

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.measure.heights import read_matrix
from mandorla.core.measure.models import StoredImage
from mandorla.core.thermal.stack import Floats

_TO_KELVIN: Final = {"°C": (1.0, 273.15), "°F": (1.0 / 1.8, 273.15 - 32.0 / 1.8), "K": (1.0, 0.0)}


def shown_matrix(stored: StoredImage, data: bytes) -> Floats:
    """The matrix as it was shown, in K. Raises :class:`InputError` for temperatures below absolute zero."""
    scale, offset = _TO_KELVIN[stored.unit]
    found = read_matrix(data, stored.file) * scale + offset
    below = found < 0.0
    if below.any():
        row, column = np.argwhere(below)[0]
        raise InputError(
            f"“{stored.file}”: row {row + 1}, column {column + 1} lies below absolute zero; is the unit “{stored.unit}” right?"
        )
    return np.asarray(found)


def suspected_unit(data: bytes, name: str) -> str:
    """The unit that a matrix of a warm bed is likely in: °F above 160 in the mean of its warm half, K when all is far above."""
    values = read_matrix(data, name)
    warm = float(np.nanquantile(values, 0.75))
    cold = float(np.nanquantile(values, 0.02))
    if cold > 230.0 and warm > 270.0:
        return "K"
    return "°F" if cold > 55.0 and warm > 150.0 else "°C"
