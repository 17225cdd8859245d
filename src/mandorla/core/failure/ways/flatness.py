"""Flatness: the larger of the lifts at the end of the print and after release against what is accepted."""

from __future__ import annotations

import math

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.grades import LEAST_LIFT
from mandorla.core.failure.parts import parts_of, source_of
from mandorla.core.failure.registry import Assessment, NotKnown, graded, way_to_fail
from mandorla.core.failure.words import flatness_words


@way_to_fail("flatness", "Flatness out of tolerance", order=110)
def flatness(case: FailureCase) -> Assessment | NotKnown | None:
    """Accepted lift over the larger lift (ln ratio)."""
    w, full, limit = case.warp, case.full, case.criteria.lift_limit
    if w is None:
        return None
    if full is not None and full.stopped and full.printed_lift <= limit:
        return NotKnown(
            "the full simulation stopped before the end", f"The full simulation stopped: the part {full.stopped}."
        )
    if full is None:
        printed, released = w.printed_lift, abs(w.released_lift)
    else:
        printed, released = full.printed_lift, 0.0 if full.stopped else full.released_lift
    figure = "lift" if printed >= released else "released"
    margin = math.log(limit / max(printed, released, LEAST_LIFT))
    return graded(
        case, margin, parts_of(case, figure, margin, -1.0), source_of(case),
        "the part is not flat enough", None, ("bed_rest", "chamber", "fan", "infill", "walls"),
        lambda prefs: flatness_words(case, prefs),
    )  # fmt: skip
