"""Adhesion at a corner: the peel of the shrinking part against the grip of the plate."""

from __future__ import annotations

import math

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.messages import warp_sentence
from mandorla.core.failure.registry import QUICK, Assessment, Beginning, way_to_fail
from mandorla.core.failure.state import grade_high


@way_to_fail("adhesion", "A corner comes off the plate", order=100)
def adhesion(case: FailureCase) -> Assessment | None:
    """Grip over peel at the weakest corner (ln ratio); holds from the margin that the criteria ask for."""
    w = case.warp
    if w is None:
        return None
    begins = Beginning(w.let_go_height, w.let_go_layer) if math.isfinite(w.let_go_height) else None
    return Assessment(
        grade_high(w.margin, case.criteria.margin_wanted, 1.0), math.log(w.margin), w.margin_spread, QUICK,
        "the corner curls up and the part is lost or bent", begins,
        ("bed_rest", "bed_first", "chamber", "fan", "brim", "surface"), words=lambda prefs: warp_sentence(w, prefs),
    )  # fmt: skip
