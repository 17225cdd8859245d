"""Tipping: a nozzle that catches on a tall part with a small foot."""

from __future__ import annotations

import math

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.registry import QUICK, Assessment, Beginning, way_to_fail
from mandorla.core.failure.state import State


@way_to_fail("tipping", "Tipped over by the nozzle", order=140, overall=False)
def tipping(case: FailureCase) -> Assessment | None:
    """Height at which a sideways nozzle has the moment that the grip stands, over the part's height (ln ratio)."""
    w, part = case.warp, case.part
    if w is None or part is None:
        return None
    if not math.isfinite(w.tips_from):
        return Assessment(State.HOLDS, math.nan, math.nan, QUICK, "the part falls over late in the print")
    margin = math.log(w.tips_from / part.sections.height)
    return Assessment(
        State.MARGINAL, margin, math.nan, QUICK, "the part falls over late in the print", Beginning(w.tips_from),
        ("brim", "surface"),
    )  # fmt: skip
