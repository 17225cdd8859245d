"""The foot of the part too soft: the plate hotter than the polymer's softening."""

from __future__ import annotations

from typing import Final

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.registry import Assessment, way_to_fail
from mandorla.core.failure.state import LimitCheck, grade_low
from mandorla.core.failure.temperatures import hottest_foot, rated
from mandorla.core.units import show

SWELL_LIMIT: Final = 8.0  # K above softening at which the foot of a part swells visibly


@way_to_fail("soft_foot", "Foot of the part soft", order=70)
def soft_foot(case: FailureCase) -> Assessment | None:
    """The hottest place under the part against the softening temperature."""
    if case.part is None or case.conditions is None:
        return None
    hot, softening = hottest_foot(case.conditions), case.part.polymer.softening_temperature
    check = LimitCheck(
        "Foot of the part", "temperature", hot, softening + SWELL_LIMIT,
        grade_low(hot, softening + 0.5 * SWELL_LIMIT, softening + SWELL_LIMIT),
        f"{case.part.polymer.name} softens at {show(softening, 'temperature', digits=0)}; the foot swells above it",
    )  # fmt: skip
    return rated(case, (check,), "the foot swells and sags", ("bed_first", "bed_rest"))
