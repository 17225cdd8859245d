"""Limits that both ways to fail and their words use; each stands here once."""

from __future__ import annotations

from typing import Final

CRACK_MARGINAL: Final = 0.6  # crack index from which the scatter of the strength reaches one
CRACKS: Final = 1.0  # crack index at which it cracks at typical figures
BEGINS: Final = "a corner begins to give"  # the first failure of a corner, which is not grave by itself
