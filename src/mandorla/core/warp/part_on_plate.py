"""What a growing part and its fan do to the plate they stand on: heat through the part as through a fin, and moved air."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from mandorla.core.warp.history import AWAY_FROM_JET, CONTACT, FAN_JET, side_loss, top_loss

if TYPE_CHECKING:
    from mandorla.core.warp.estimate import PartToPrint


@dataclass(frozen=True, slots=True)
class PartOnPlate:
    """``foot`` m² of the plate that is covered, ``through`` W/m²K from there to the air, ``fan_speed`` m/s along the plate."""

    foot: float
    through: float
    fan_speed: float


def fin_conductance(height: float, k: float, area: float, perimeter: float, h_side: float, h_top: float) -> float:
    """Heat (W/m²K of its foot) that a fin of constant section lets through to what is around it, its tip convecting.

    Parameters
    ----------
    height, area, perimeter
        m, m² and m of the fin.
    k
        Conductivity in W/mK, of the section as a whole.
    h_side, h_top
        Losses of sides and tip in W/m²K.

    References
    ----------
    Incropera, Fundamentals of Heat and Mass Transfer, 7th ed., eq. 3.77.
    """
    m = math.sqrt(h_side * perimeter / (k * area))
    t, r = math.tanh(m * height), h_top / (m * k)
    return m * k * (t + r) / (1.0 + r * t)


def part_on_plate(part: PartToPrint, chamber: float, fan: float, draft: float = 0.0) -> PartOnPlate:
    """The part half-way through its print, as the plate feels it; ``chamber`` K, ``fan`` 0-1, ``draft`` m/s.

    All bodies on the plate cover it; the fin is the mean section of the lower half.
    """
    whole, p = part.whole, part.polymer
    half = max(1, whole.z.size // 2)
    foot = float(whole.area[0])
    area, perimeter = float(np.mean(whole.area[:half])), float(np.mean(whole.perimeter[:half]))
    solid = float(part.plan.solid_area.mean() / max(float(part.sections.area.mean()), 1e-12))
    side, top = (loss(chamber, fan, draft, part.process.draft_shield).total for loss in (side_loss, top_loss))
    fin = fin_conductance(0.5 * whole.height, solid * p.conductivity.typical, area, perimeter, side, top)
    # the printed foot's contact with the surface is in series with the fin
    through = 1.0 / (CONTACT + 1.0 / (fin * area / max(foot, 1e-9)))
    return PartOnPlate(foot, through, AWAY_FROM_JET * FAN_JET * fan)
