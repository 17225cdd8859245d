"""What ways to fail by temperature share: the spread of what is predicted, the hottest place under the part, ratings."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.registry import QUICK, Assessment
from mandorla.core.failure.state import LimitCheck, worst
from mandorla.core.warp.unknowns import CHAMBER, PLATE, Z90

if TYPE_CHECKING:
    from mandorla.core.warp.estimate import Conditions


def hottest_foot(at: Conditions) -> float:
    """Highest temperature (K) of the plate under the part, first layers and rest."""
    return max(at.plate_first, at.plate_rest, float(at.corner_plate.max()))


def spread_of(case: FailureCase, band: str = "surface") -> float:
    """Standard deviation (K) of a predicted temperature from its 90 % band; NaN where no bands were computed."""
    found = case.heat.bands.get(band)
    return math.nan if found is None else 0.5 * (found.high - found.low) / Z90


def rated(
    case: FailureCase, checks: tuple[LimitCheck, ...], consequence: str, levers: tuple[str, ...] = (), band: str = "surface"
) -> Assessment:  # fmt: skip
    """The assessment of ratings in kelvin: the least that is left, with the spread of the predicted temperature."""
    left, spread = min(c.left for c in checks), spread_of(case, band)
    name = PLATE if band == "surface" else CHAMBER
    parts = {name: -spread} if math.isfinite(spread) and spread > 0.0 else {}
    return Assessment(worst(checks), left, parts, QUICK, consequence, levers=levers, checks=checks)
