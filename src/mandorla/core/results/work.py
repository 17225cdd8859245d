"""Full simulations within a budget of work."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Final

from mandorla.core.errors import SolverError
from mandorla.core.warp.fe_result import FullRun

_REFUSED: Final = 5.0  # s for one that finds no equilibrium


@dataclass(slots=True)
class Work:
    """Work that is done for one answer: ``spent`` of its ``budget``, in seconds of the machine that it was measured on. Work is
    counted (FullRun.work) and no clock is read, so that equal commands give equal answers."""

    budget: float
    spent: float = 0.0

    @property
    def left(self) -> bool:
        """Whether there is work left for another full simulation."""
        return self.spent < self.budget

    def anew(self, budget: float) -> None:
        """A search of its own from here, with so much work."""
        self.spent, self.budget = 0.0, budget

    def simulated(self, full: Callable[[], FullRun]) -> FullRun:
        """A full simulation, its work counted, whether it is computed now or was before. Raises :class:`SolverError` as it does."""
        try:
            found = full()
        except SolverError:
            self.spent += _REFUSED
            raise
        self.spent += found.work
        return found
