"""The two schools of power density, in words and figures."""

from __future__ import annotations

from typing import Final

GENTLE: Final = 5000.0  # W/m², about half a watt per cm²: slow, flat
FAST: Final = 8000.0  # W/m², where the fast school begins


def school(density: float) -> str:
    """Which school a power density (W/m²) belongs to."""
    return "gentle and flat" if density <= 1.2 * GENTLE else "fast" if density >= 0.95 * FAST else "between the schools"
