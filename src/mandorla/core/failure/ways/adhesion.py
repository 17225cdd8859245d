"""Adhesion at a corner: the peel of the shrinking part against the grip of the plate."""

from __future__ import annotations

import math
from typing import Final

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.parts import parts_of, source_of
from mandorla.core.failure.registry import Assessment, Beginning, graded, way_to_fail
from mandorla.core.failure.words import adhesion_words
from mandorla.core.warp.estimate import FAR
from mandorla.core.warp.fe_result import FullRun

LEAST: Final = 0.05  # of a margin; below it a figure says nothing more


def _steepness(full: FullRun, ln: float) -> float:
    """How many times a change of the load moves ln of a full run's hold margin.

    The margin falls to 1 while the averaged traction does: once the grip opens at its edge, it falls faster than the load rises
    (benchmarks/stated_chances.py: stated without this, 0 % were 4 of 30 drafts).
    """
    least = float(full.margin[-1].min())
    return ln / math.log(least) if least > 1.02 and ln > 0.0 else 1.0


@way_to_fail("adhesion", "A corner comes off the plate", order=100)
def adhesion(case: FailureCase) -> Assessment | None:
    """How many times the peel the grip stands until a corner comes off (ln ratio)."""
    w, full = case.warp, case.full
    if w is None:
        return None
    margin = w.margin if full is None else full.hold_margin
    begins = None
    if full is None and math.isfinite(w.let_go_height):
        begins = Beginning(w.let_go_height, w.let_go_layer)
    elif full is not None and math.isfinite(full.opens_from):
        begins = Beginning(full.opens_from, full.layer_of(full.opens_from))
    levers = ("bed_rest", "bed_first", "chamber", "fan", "brim", "surface")
    ln = math.log(min(max(margin, LEAST), FAR))
    parts = parts_of(case, "margin", ln)
    if full is not None:
        parts = {name: v * _steepness(full, ln) for name, v in parts.items()}
    return graded(
        case, ln, parts, source_of(case), "the corner curls up and the part is lost",
        begins, levers, lambda prefs: adhesion_words(case, prefs),
    )  # fmt: skip
