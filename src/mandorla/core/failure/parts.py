"""What ways to fail by load share: the unknowns behind a figure of the quick estimate, less what a full simulation takes out."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Final

import numpy as np

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.registry import FULL, QUICK
from mandorla.core.part.mesh import Floats
from mandorla.core.warp.unknowns import CHAMBER, CREEP, MODEL, PLATE, STRESS_FREE

# ln-standard deviations that are left of the models' own error where a full simulation of the same state stands behind a figure
# (benchmarks/box_size.py: boxes; the rest is what the model leaves out)
ANCHORED: Final[Mapping[str, float]] = {"margin": 0.10, "lift": 0.15, "released": 0.15, "crack": 0.20, "pull": 0.10}
# unknowns that add to a stress, as kelvins do, where others multiply it
ADDING: Final = frozenset({STRESS_FREE, CREEP, PLATE, CHAMBER})
_DOUBLED: Final = math.log(2.0)


def source_of(case: FailureCase) -> str:
    """The model behind the figures."""
    return QUICK if case.full is None else FULL


def secant(part: Floats, margin: Floats) -> Floats:
    """Parts of unknowns that add to a load, as slopes of its logarithm between where it is and its limit, ``margin`` (ln) away.

    A load of next to nothing may grow by e^part with one standard deviation, and by twice that much, not by its square, with two:
    in the logarithm the slope to the limit is margin (e^part - 1)/(e^margin - 1). One that vanishes to the safe side (``part``
    above nought) grows to the other by no more than there is of it: it doubles. Broadcasts.
    """
    away = np.maximum(margin, 1e-6)
    size = np.minimum(np.abs(part), np.where(part > 0.0, _DOUBLED, 20.0))
    slope = np.where(margin > 0.05, away * np.expm1(size) / np.expm1(away), size)
    return np.asarray(np.sign(part) * np.minimum(size, slope))


def parts_of(case: FailureCase, figure: str, margin: float, sign: float = 1.0) -> dict[str, float]:
    """What one standard deviation of each unknown does to ln of a figure, times ``sign``, where the limit is ``margin`` away; empty
    without bands."""
    if case.warp is None:
        return {}
    found = {name: sign * v for name, v in case.warp.spreads.get(figure, {}).items()}
    for name in ADDING & found.keys():
        found[name] = float(secant(np.asarray(found[name]), np.asarray(margin)))
    if case.full is not None and found:
        # one run stands behind the figure: one error is left, of whatever it is put together
        found = {name: v for name, v in found.items() if not name.startswith(MODEL)}
        found[f"{MODEL}, {figure}"] = ANCHORED[figure]
    return found
