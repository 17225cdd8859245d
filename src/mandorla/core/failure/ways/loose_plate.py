"""A loose plate that the part lifts off its magnet or from its clips, farther than is accepted or altogether."""

from __future__ import annotations

import math
from typing import Final

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.parts import parts_of, source_of
from mandorla.core.failure.registry import Assessment, Beginning, graded, way_to_fail
from mandorla.core.failure.words import plate_words
from mandorla.core.warp.fe_result import noticed_height
from mandorla.core.warp.on_plate import BY_MOMENT, magnet_part
from mandorla.core.warp.unknowns import MAGNET

OFF: Final = -0.3  # ln margin of a plate that came off in a full simulation, at least


@way_to_fail("loose_plate", "The plate comes off its seat", order=130)
def loose_plate(case: FailureCase) -> Assessment | None:
    """How many times the films' force the hold stands until the gap passes the accepted lift or the plate comes off (ln ratio)."""
    plate, full = case.plate, case.full
    if plate is None or case.warp is None:
        return None
    margin, height = math.log(plate.stands), plate.height
    if full is not None:
        gap = float(full.plate_lift.max())
        margin = math.log(case.criteria.lift_limit / max(gap, 1e-7)) / BY_MOMENT
        margin = min(margin, OFF) if full.plate_off else min(margin, 3.0)
        height = noticed_height(full.height, full.plate_lift)
    parts = parts_of(case, "pull", margin, -1.0)
    if plate.magnet and parts and case.part is not None:
        parts[MAGNET] = magnet_part(case.part.learned)
    begins = Beginning(height) if math.isfinite(height) else None
    return graded(
        case, margin, parts, source_of(case), "the part tilts with its plate and is lost", begins,
        ("bed_rest", "chamber", "clips", "magnet", "sheet"), lambda prefs: plate_words(case, prefs),
    )  # fmt: skip
