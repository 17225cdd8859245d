"""Whether the part pulls its loose plate off the seat, at a glance: the full simulation in few boxes, all bodies together.

The quick estimate's plate cannot lift. In about a second this finds the gap within a factor of 1.5 of a standard run
(benchmarks/plate_glance.py); magnets themselves are known to a factor of two.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.warp.fe_result import NOTICED, FullRun
from mandorla.core.warp.loose_plate import SheetHold

WITHIN: Final = 1.5  # of a standard run's gap


@dataclass(frozen=True, slots=True)
class PlateLiftCheck:
    """Largest ``gap`` (m) under the plate by the end of the print (NaN: the foot is too small for so few boxes), the height (m)
    from which it is noticed (inf: never), whether the plate comes ``off`` altogether; what it is called and held by; ``boxes`` of
    the run."""

    gap: float
    height: float
    off: bool
    name: str
    keeper: str
    bodies: int
    boxes: int

    @property
    def known(self) -> bool:
        """Whether the glance told anything."""
        return bool(np.isfinite(self.gap))

    @property
    def noticed(self) -> bool:
        """Whether the gap counts as lifted at all."""
        return self.gap > NOTICED


def plate_lift(found: FullRun, hold: SheetHold) -> PlateLiftCheck:
    """What a run of all bodies in few boxes says of the plate that ``hold`` describes."""
    lifted = np.flatnonzero(found.plate_lift > NOTICED)
    return PlateLiftCheck(
        float(found.plate_lift.max()), float(found.height[lifted[0]]) if lifted.size else float("inf"), found.plate_off,
        hold.name, hold.keeper, found.bodies, found.voxels.count,
    )  # fmt: skip


def plate_not_known(hold: SheetHold, bodies: int) -> PlateLiftCheck:
    """No box of the foot is full: what the plate does is not known, the quick estimate stands."""
    return PlateLiftCheck(float("nan"), float("inf"), False, hold.name, hold.keeper, bodies, 0)
