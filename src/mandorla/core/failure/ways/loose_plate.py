"""A loose plate that the part pulls off its magnet or from its clips, from the coarse simulation."""

from __future__ import annotations

import math

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.messages import plate_sentence
from mandorla.core.failure.registry import COARSE, Assessment, Beginning, NotKnown, way_to_fail
from mandorla.core.failure.state import State

COMES_UP = 2.0  # times the accepted lift: a gap that counts as failed
MAGNET_SPREAD = math.log(2.0) / 1.645  # the pull of a magnet is known to a factor of two at 90 %


@way_to_fail("loose_plate", "The plate comes off its seat", order=130, overall=False)
def loose_plate(case: FailureCase) -> Assessment | NotKnown | None:
    """Accepted gap over the gap at the end of the print (ln ratio); it also fails where the plate comes off altogether."""
    plate = case.plate
    if plate is None:
        return None
    if not plate.known:
        return NotKnown("the foot is too small for so few boxes", plate_sentence(plate))
    limit = COMES_UP * case.criteria.lift_limit
    short_of_failing = State.MARGINAL if plate.noticed else State.HOLDS
    state = State.FAILS if plate.off or plate.gap > limit else short_of_failing
    margin = math.log(limit / max(plate.gap, 1e-9))
    begins = Beginning(plate.height) if math.isfinite(plate.height) else None
    return Assessment(
        state, min(margin, 0.0) if plate.off else margin, MAGNET_SPREAD, COARSE, "the part tilts with its plate and is lost",
        begins, ("bed_rest", "chamber", "clips", "magnet", "sheet"), words=lambda prefs: plate_sentence(plate, prefs),
    )  # fmt: skip
