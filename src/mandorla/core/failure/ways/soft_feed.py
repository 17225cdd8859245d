"""Filament soft in the feed: the chamber too near the polymer's softening."""

from __future__ import annotations

from typing import Final

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.registry import Assessment, way_to_fail
from mandorla.core.failure.state import LimitCheck, grade_low
from mandorla.core.failure.temperatures import rated

FEED_MARGIN: Final = 10.0  # K the chamber must stay below softening, or the filament softens in the feed
FEED_GOOD: Final = 15.0  # K below softening from which nothing is to be feared: the warmest air that is advised


@way_to_fail("soft_feed", "Filament soft in the feed", order=90)
def soft_feed(case: FailureCase) -> Assessment | None:
    """The chamber while printing against the softening temperature less a margin."""
    if case.part is None or case.conditions is None:
        return None
    air, softening = case.conditions.chamber, case.part.polymer.softening_temperature
    check = LimitCheck(
        "Filament in the feed", "temperature", air, softening - FEED_MARGIN,
        grade_low(air, softening - FEED_GOOD, softening - FEED_MARGIN),
        f"the chamber must stay {FEED_MARGIN:.0f} K below the softening of {case.part.polymer.name}",
    )  # fmt: skip
    return rated(case, (check,), "the filament softens in the feed and jams", ("chamber", "exhaust"), band="air")
