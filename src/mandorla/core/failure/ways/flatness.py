"""Flatness: the larger of the lifts at the end of the print and after release against what is accepted."""

from __future__ import annotations

import math
from typing import Final

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.registry import QUICK, Assessment, way_to_fail
from mandorla.core.failure.state import State

HIGH_END: Final = 1.5  # of the limit: a 90 % range that reaches beyond it is marginal


@way_to_fail("flatness", "Flatness out of tolerance", order=110)
def flatness(case: FailureCase) -> Assessment | None:
    """Accepted lift over the larger lift (ln ratio)."""
    w, limit = case.warp, case.criteria.lift_limit
    if w is None:
        return None
    lift, high = max(w.printed_lift, abs(w.released_lift)), max(w.lift_high, w.released_high)
    state = State.FAILS if lift > limit else State.MARGINAL if high > HIGH_END * limit else State.HOLDS
    return Assessment(
        state, math.log(limit / max(lift, 1e-9)), w.lift_spread, QUICK, "the part is not flat enough",
        levers=("bed_rest", "chamber", "fan", "infill", "walls"),
    )  # fmt: skip
