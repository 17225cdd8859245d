"""The first layer: the nozzle too far from the plate, or too near to it."""

from __future__ import annotations

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.registry import QUICK, Assessment, Beginning, graded, way_to_fail
from mandorla.core.units import show, show_number

GAP = "gap of the first layer"


@way_to_fail("first_too_far", "First layer too far", order=92)
def first_too_far(case: FailureCase) -> Assessment | None:
    """The widest gap under the part against the one in which neighbouring lines part (ln ratio)."""
    f = case.first
    if f is None:
        return None
    return graded(
        case, f.too_far, {GAP: f.spread(f.widest)}, QUICK, "lines lie apart, hold badly and fold up at the corners",
        Beginning(0.0, 1), ("nozzle_height", "surface"),
        lambda prefs: (
            f"the gap at the {f.widest_at} is {show(f.widest, 'length', prefs)}; lines part from "
            f"{show(f.parts, 'length', prefs)} on"
        ),
    )  # fmt: skip


@way_to_fail("first_too_near", "First layer too near", order=94)
def first_too_near(case: FailureCase) -> Assessment | None:
    """The narrowest gap under the part against the one below which a line's volume finds no room (ln ratio)."""
    f = case.first
    if f is None:
        return None
    return graded(
        case, min(f.too_near, 3.0), {GAP: f.spread(f.narrowest)}, QUICK,
        "the plate shows through, ripples and swollen edges stand up, the nozzle marks the plate", Beginning(0.0, 1),
        ("nozzle_height", "surface"),
        lambda prefs: (
            f"the gap at the {f.narrowest_at} is {show_number(f.narrowest, 'length', prefs)} of "
            f"{show(f.nominal, 'length', prefs)}; below {show(max(f.piles, 0.0), 'length', prefs)} the lines pile up"
        ),
    )  # fmt: skip
