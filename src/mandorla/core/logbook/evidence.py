"""What a prediction says of a print, as a logbook keeps it."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Final

import numpy as np

from mandorla.core.failure.registry import Judgement
from mandorla.core.logbook.records import Predicted

if TYPE_CHECKING:
    from mandorla.core.warp.estimate import WarpEstimate

_HEIGHTS: Final = 24  # at which the least margin so far is kept
HOLD: Final = "adhesion"
FLAT: Final = "flatness"


def predicted_of(j: Judgement, warp: WarpEstimate | None, lift_limit: float) -> dict[str, Predicted]:
    """Every way to fail that has a margin with a spread, by key."""
    found = {}
    for key, a in j.assessed.items():
        if not a.parts or not math.isfinite(a.margin):
            continue
        heights: tuple[float, ...] = ()
        margins: tuple[float, ...] = ()
        if key == HOLD and warp is not None:
            heights, margins = hold_course(warp, a.margin)
        found[key] = Predicted(
            margin=a.margin, parts={k: float(v) for k, v in a.parts.items()},
            probability=a.probability if math.isfinite(a.probability) else None,
            begins=a.begins.height if a.begins is not None and math.isfinite(a.begins.height) else None,
            heights=heights, margins=margins, limit=lift_limit if key == FLAT else None,
        )  # fmt: skip
    return found


def hold_course(w: WarpEstimate, margin: float) -> tuple[tuple[float, ...], tuple[float, ...]]:
    """Heights (k,) m and the least ln hold margin of all that was printed by then (k,); it ends at ``margin``."""
    load = np.log(np.maximum(w.capacity, 1.0) / np.maximum(w.demand, 1.0))
    least = np.minimum.accumulate(load)
    least = least - least[-1] + margin
    rows = np.unique(np.linspace(0, least.size - 1, _HEIGHTS).round().astype(int))
    return tuple(float(w.height[r]) for r in rows), tuple(float(least[r]) for r in rows)


def margin_by(p: Predicted, height: float) -> float:
    """The least margin up to a height (m); infinite before anything is printed, and NaN where its course is not known."""
    if height <= 0.0:
        return math.inf
    if not p.heights:
        return math.nan
    return float(np.interp(height, p.heights, p.margins)) if height >= p.heights[0] else math.inf
