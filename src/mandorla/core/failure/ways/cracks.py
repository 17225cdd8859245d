"""Cracks between layers: the opening stress near free edges over the strength between layers."""

from __future__ import annotations

import math

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.registry import QUICK, Assessment, Beginning, way_to_fail
from mandorla.core.failure.state import grade_low
from mandorla.core.failure.thresholds import CRACK_MARGINAL, CRACKS


@way_to_fail("cracks", "Cracks between layers", order=120)
def cracks(case: FailureCase) -> Assessment | None:
    """Minus ln of the crack index; it cracks at typical figures from an index of 1 on."""
    w = case.warp
    if w is None:
        return None
    return Assessment(
        grade_low(w.crack_index, CRACK_MARGINAL, CRACKS), -math.log(max(w.crack_index, 1e-9)), w.crack_spread, QUICK,
        "the part splits between layers", Beginning(w.crack_height), ("chamber", "fan", "layer_time", "nozzle"),
    )  # fmt: skip
