"""Layers that land on polymer which is still soft."""

from __future__ import annotations

import math

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.registry import QUICK, Assessment, Beginning, way_to_fail
from mandorla.core.failure.state import State


@way_to_fail("soft_landing", "Layers land on soft polymer", order=150, overall=False)
def soft_landing(case: FailureCase) -> Assessment | None:
    """Whether and from which height the layer below is above softening when the next one lands."""
    w = case.warp
    if w is None:
        return None
    soft = math.isfinite(w.soft_landing)
    return Assessment(
        State.MARGINAL if soft else State.HOLDS, math.nan, {}, QUICK, "layers sag and lose their shape",
        Beginning(w.soft_landing) if soft else None, ("layer_time", "fan", "copies"),
    )  # fmt: skip
