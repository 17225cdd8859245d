"""The states of single figures, for tables that show more figures than there are ways to fail."""

from __future__ import annotations

from typing import Final

from mandorla.core.failure.state import State, grade_high

EVEN_GOOD: Final = 0.95  # share of the foot on the even zone
EVEN_BAD: Final = 0.6


LEAST_LIFT: Final = 3e-5  # m; a lift below it is none
HOLD_GOOD: Final = (
    2.0  # hold margin of a single corner from which nothing is to be feared: grip is known to a factor of two
)


def margin_state(margin: float) -> State:
    """A single corner's hold margin."""
    return grade_high(margin, HOLD_GOOD, 1.0)


def even_foot_state(share: float) -> State:
    """The share of the foot that stands on the even zone of the bed."""
    return grade_high(share, EVEN_GOOD, EVEN_BAD)
