"""The foot of the part too soft: how far the soft layers are pressed out, and how high they reach."""

from __future__ import annotations

import math
from typing import Final

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.registry import QUICK, Assessment, graded, way_to_fail
from mandorla.core.failure.words import foot_words
from mandorla.core.warp.unknowns import PLATE

SWELL_LIMIT: Final = 0.08  # strain of the soft layers at which a foot swells visibly
SOFT_LIMIT: Final = 0.006  # m of height that may stay soft; a soft base of some millimetres is one of the schools
VISCOSITY: Final = math.log(10.0) / 1.645  # the viscosity is known to a factor of ten
MOST: Final = 5.0  # ln from which all are alike: at that spread one in five thousand


def foot_margin(strain: float, soft: float) -> float:
    """ln of the tighter of both ratios, limit over what there is."""
    return min(math.log(SWELL_LIMIT / max(strain, 1e-9)), 2.0 * math.log(SOFT_LIMIT / max(soft, 1e-6)), MOST)


@way_to_fail("soft_foot", "Foot of the part too soft", order=70)
def soft_foot(case: FailureCase) -> Assessment | None:
    """Accepted strain and height of soft layers over what the model finds (ln ratio of the tighter)."""
    w, at = case.warp, case.conditions
    if w is None or at is None:
        return None
    parts = {}
    if w.spreads:
        hotter = foot_margin(*w.softer)
        now = foot_margin(w.foot_strain, w.soft_base)
        # of a foot that is hard a tenfold viscosity changes nothing, but maps carry what is said here to points where it is soft
        parts = {PLATE: hotter - now, "viscosity when soft": -VISCOSITY}
    return graded(
        case, foot_margin(w.foot_strain, w.soft_base), parts, QUICK, "the foot swells and sags", None,
        ("bed_first", "bed_rest"), lambda prefs: foot_words(case, prefs),
    )  # fmt: skip
