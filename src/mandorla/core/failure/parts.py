"""What ways to fail by load share: the unknowns behind a figure of the quick estimate, less what a full simulation takes out."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Final

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.registry import FULL, QUICK
from mandorla.core.warp.unknowns import MODEL

# ln-standard deviations that are left of the models' own error where a full simulation of the same state stands behind a figure
# (benchmarks/box_size.py: boxes; the rest is what the model leaves out)
ANCHORED: Final[Mapping[str, float]] = {"margin": 0.10, "lift": 0.15, "released": 0.15, "crack": 0.20, "pull": 0.10}


def source_of(case: FailureCase) -> str:
    """The model behind the figures."""
    return QUICK if case.full is None else FULL


def parts_of(case: FailureCase, figure: str, sign: float = 1.0) -> dict[str, float]:
    """What one standard deviation of each unknown does to ln of a figure, times ``sign``; empty without bands."""
    if case.warp is None:
        return {}
    found = {name: sign * v for name, v in case.warp.spreads.get(figure, {}).items()}
    own = f"{MODEL}, {figure}"
    if case.full is not None and own in found:
        found[own] = ANCHORED[figure]
    return found
