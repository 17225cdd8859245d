"""Mandorla's state code, what a rating check says, and how figures are graded. Light: the window shows it before it computes."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from typing import Final


class State(Enum):
    """Mandorla's state code."""

    HOLDS = "holds"
    MARGINAL = "marginal"
    FAILS = "fails"
    NOT_COMPUTED = "not computed"


@dataclass(frozen=True, slots=True)
class LimitCheck:
    """One rating: what, its value and limit (K or W by ``kind``), how much is left, the state and the reason in words."""

    name: str
    kind: str
    value: float
    limit: float
    state: State
    reason: str

    @property
    def left(self) -> float:
        """Limit minus value."""
        return self.limit - self.value


def grade_high(value: float, good: float, bad: float) -> State:
    """For figures that should be high: HOLDS from ``good`` on, FAILS below ``bad``, MARGINAL between."""
    return State.HOLDS if value >= good else State.FAILS if value < bad else State.MARGINAL


def grade_low(value: float, good: float, bad: float) -> State:
    """For figures that should be low: HOLDS up to ``good``, FAILS above ``bad``, MARGINAL between."""
    return State.HOLDS if value <= good else State.FAILS if value > bad else State.MARGINAL


_ORDER: Final = (State.HOLDS, State.MARGINAL, State.FAILS)


def worst_of(*states: State) -> State:
    """The worst of the states that were computed; NOT_COMPUTED when none was."""
    known = [s for s in states if s in _ORDER]
    return max(known, key=_ORDER.index) if known else State.NOT_COMPUTED


def worst(checks: tuple[LimitCheck, ...]) -> State:
    """The worst state of several checks."""
    return worst_of(*(c.state for c in checks))
