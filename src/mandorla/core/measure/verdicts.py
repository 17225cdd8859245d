"""The three verdicts of a verification, by the state's value."""

from __future__ import annotations

from typing import Final

AGREES: Final = "holds"
DOUBTFUL: Final = "marginal"
DISAGREES: Final = "fails"
