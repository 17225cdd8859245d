"""Loosened late: the nozzle catches on a tall part again and again, an overhang leans, and a small foot gives way."""

from __future__ import annotations

import math
from typing import Final

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.registry import QUICK, Assessment, Beginning, graded, way_to_fail
from mandorla.core.failure.words import tipping_words
from mandorla.core.warp.unknowns import GRIP

NOZZLE: Final = math.log(2.5) / 1.645  # force of a nozzle that catches is known to a factor of two and a half
MOST: Final = 3.0  # ln margin beyond which a figure says nothing more
LEAST: Final = 1e-6  # of a margin; a foot that does not grip at all stands no blow


@way_to_fail("tipping", "Knocked loose late in the print", order=140)
def tipping(case: FailureCase) -> Assessment | None:
    """Moment that the foot stands time and again over that of a catching nozzle and the overhang, at the top (ln ratio)."""
    w, part = case.warp, case.part
    if w is None or part is None:
        return None
    parts = {}
    if w.spreads:
        parts = {GRIP: w.spreads["margin"].get(GRIP, 0.0), "nozzle's force": NOZZLE}
    begins = Beginning(w.tips_from) if math.isfinite(w.tips_from) else None
    return graded(
        case, min(math.log(max(w.tips_margin, LEAST)), MOST), parts, QUICK, "the part falls over late in the print", begins,
        ("brim", "surface", "bed_rest"), lambda prefs: tipping_words(case, prefs),
    )  # fmt: skip
