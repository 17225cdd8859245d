"""One moment of a machine as it is told from outside: by its protocol, a logger, a plug meter."""

from __future__ import annotations

from dataclasses import dataclass, replace
from math import isfinite, nan


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
        return isfinite(self.nozzle) and self.nozzle_set > 423.15 and self.nozzle > self.nozzle_set - 8.0
