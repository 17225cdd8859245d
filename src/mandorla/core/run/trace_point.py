"""One moment of a machine as it is told from outside: by its protocol, a logger, a plug meter."""

from __future__ import annotations

from dataclasses import dataclass, replace
from math import isfinite, isnan, nan
from typing import Final

from mandorla.core.units import OFF

_MELTS: Final = 423.15  # K above which a nozzle may print
_UNDER: Final = 8.0  # K under its target to which it is at it
_NEARLY: Final = 40.0  # K under its target from which it may already be used
_AT_WORK: Final = 3.0  # K under its target from which a bed may be printed on


@dataclass(frozen=True, slots=True)
class TracePoint:
    """``time`` s since the watch began; bed, chamber and nozzle with their targets (K; a target that is off is below any room), the
    share of full power that both heaters are asked for (0-1), ``power`` W at the plug. NaN is what nobody tells."""

    time: float
    bed: float = nan
    bed_set: float = nan
    bed_duty: float = nan
    chamber: float = nan
    chamber_set: float = nan
    chamber_duty: float = nan
    nozzle: float = nan
    nozzle_set: float = nan
    power: float = nan

    def with_power(self, power: float) -> TracePoint:
        """The same moment with what a plug meter shows (W)."""
        return replace(self, power=power)

    @property
    def prints(self) -> bool:
        """Whether the nozzle is hot and at its target."""
        return isfinite(self.nozzle) and self.nozzle_set > _MELTS and self.nozzle > self.nozzle_set - _UNDER

    @property
    def prints_soon(self) -> bool:
        """Whether it may begin to print within moments."""
        return self.nozzle_set > _MELTS and not self.prints and self.nozzle > self.nozzle_set - _NEARLY

    @property
    def off(self) -> bool:
        """Whether the bed has no target, and the nozzle has none that is told."""
        return self.bed_set <= OFF + 1.0 and not self.nozzle_set > OFF + 1.0

    @property
    def untold(self) -> bool:
        """Whether nobody can tell if it prints: no target of a nozzle that may be hot, and the bed is not on its way up."""
        hot = isnan(self.nozzle) or self.nozzle > _MELTS
        return isnan(self.nozzle_set) and hot and not self.off and not self.bed < self.bed_set - _AT_WORK
