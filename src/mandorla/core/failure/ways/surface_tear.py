"""A bond that tears or chips the plate's surface when the part is taken off."""

from __future__ import annotations

import math

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.registry import QUICK, Assessment, way_to_fail
from mandorla.core.failure.state import State


@way_to_fail("surface_tear", "The bond tears the surface", order=160, overall=False)
def surface_tear(case: FailureCase) -> Assessment | None:
    """Whether the library lists the polymer as bonding too strongly, where the cool-down alone does not take the part off."""
    if case.part is None or case.warp is None:
        return None
    tears = case.part.bonds_too_strongly and not case.warp.comes_off
    state = State.MARGINAL if tears else State.HOLDS
    return Assessment(state, math.nan, {}, QUICK, "the plate's surface is damaged", levers=("surface", "release_layer"))


@way_to_fail("placement", "The part does not fit", order=5)
def placement(case: FailureCase) -> Assessment | None:
    """Whether the part stands on the bed and below the chamber's roof."""
    if case.part is None:
        return None
    text = case.fit_problem
    state = State.FAILS if text else State.HOLDS
    return Assessment(
        state,
        math.nan,
        {},
        QUICK,
        "the part cannot be printed there",
        words=lambda _: text or "it fits on the bed and below the roof",
    )
