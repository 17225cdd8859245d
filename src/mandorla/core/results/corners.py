"""The part's corners as they are listed: by the margins that the judgement goes by, the estimate's beside them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from mandorla.core.warp.estimate import WarpEstimate
    from mandorla.core.warp.fe_result import FullRun


@dataclass(frozen=True, slots=True)
class CornerFigures:
    """A corner: its hold ``margin`` (a full run's where one stands behind the judgement, else the estimate's), that of the
    ``estimate``, the temperature of the ``plate`` there (K) and the estimate's ``lift`` (m)."""

    name: str
    margin: float
    estimate: float
    plate: float
    lift: float


def corners_by(w: WarpEstimate, run: FullRun | None) -> bool:
    """Whether the corners are listed by the full run: several bodies in one run have corners of their own."""
    return run is not None and {c.name for c in run.corners} == {v.corner.name for v in w.corners}


def corners_of(w: WarpEstimate, run: FullRun | None) -> tuple[CornerFigures, ...]:
    """Every corner, the weakest first."""
    full = {}
    if run is not None and corners_by(w, run):
        full = {c.name: float(m) for c, m in zip(run.corners, run.corner_margins, strict=True)}
    found = [
        CornerFigures(v.corner.name, full.get(v.corner.name, v.margin), v.margin, v.plate, v.lift) for v in w.corners
    ]
    return tuple(sorted(found, key=lambda c: c.margin))
