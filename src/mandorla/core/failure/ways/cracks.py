"""Cracks between layers: the energy a delamination sets free over what the joint takes."""

from __future__ import annotations

import math
from typing import Final

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.parts import parts_of, source_of
from mandorla.core.failure.registry import Assessment, Beginning, NotKnown, graded, way_to_fail
from mandorla.core.failure.words import crack_words

LEAST: Final = 0.1  # a crack index below it says only that nothing is to be feared


@way_to_fail("cracks", "Cracks between layers", order=120)
def cracks(case: FailureCase) -> Assessment | NotKnown | None:
    """Minus ln of the crack index; it cracks at typical figures from an index of 1 on."""
    w, full = case.warp, case.full
    if w is None:
        return None
    if full is not None and full.stopped:
        return NotKnown(
            "the full simulation stopped before the end", f"The full simulation stopped: the part {full.stopped}."
        )
    index, height = w.crack_index, w.crack_height
    if full is not None and full.crack.size:
        index, height = float(full.crack.max()), full.weak_layer
    margin = -math.log(max(index, LEAST))
    return graded(
        case, margin, parts_of(case, "crack", margin, -1.0), source_of(case), "the part splits between layers",
        Beginning(height), ("chamber", "fan", "layer_time", "nozzle"), lambda prefs: crack_words(case, prefs),
    )  # fmt: skip
