"""Which single assumption would explain a misfit: every unknown tried alone, over its range and far beyond."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.measure.observe import sharing
from mandorla.core.measure.session_case import SessionCase
from mandorla.core.rig.model import Rig
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.parameter_samples import (
    AT_NINETY,
    ParameterSample,
    RigUnknown,
    covariance_of,
    typical_sample,
)
from mandorla.core.thermal.stack import Floats

BOUND: Final = 6.0  # 90 % ranges beyond which no unknown is taken
_TRIED: Final = (-6.0, -4.0, -2.5, -1.5, -0.75, 0.75, 1.5, 2.5, 4.0, 6.0)

_NEARER: Final = ((0.7, 0.85, 1.2), (0.94, 1.06))  # times the best of those, one after the other


def heavy_tailed(w: Floats) -> Floats:
    """Residuals of a prior in standard deviations ``w``, with the tails of Student's distribution of three degrees of freedom.

    Its 90 % range is that of the normal one, but a gross error, such as a gap where a joint was believed, is not ruled out.
    """
    scale = AT_NINETY / 2.3533634348018264
    return np.asarray(np.sign(w) * np.sqrt(4.0 * np.log1p(w**2 / (3.0 * scale**2))))


def misfit(scenes: Sequence[SessionCase], predicted: Sequence[Floats]) -> float:
    """Chi squared of all series, every instrument's common error taken out as far as its uncertainty allows."""
    observed = [o for scene in scenes for o in scene.observations]
    off = [(o.value - p) / o.noise for o, p in zip(observed, predicted, strict=True)]
    total = sum(float(r @ r) for r in off)
    for group in sharing(observed):
        r = np.concatenate([off[k] for k in group])
        c = np.concatenate([np.full(off[k].size, observed[k].common / observed[k].noise) for k in group])
        total -= float((c @ r) ** 2 / (1.0 + c @ c))
    return total


@dataclass(frozen=True, slots=True)
class Trial:
    """One unknown moved alone: where it explains most (90 % ranges), misfit there, misfit and the price of moving so far."""

    unknown: RigUnknown
    z: float
    misfit: float
    cost: float


def try_each(
    rig: Rig,
    scenes: Sequence[SessionCase],
    unknowns: Sequence[RigUnknown],
    run: RunContext,
    fractions: tuple[float, float] = (0.0, 1.0),
) -> tuple[float, tuple[Trial, ...]]:
    """The misfit as it is, and the best trial of each unknown, cheapest first. Progress goes through ``fractions``."""

    def predicted(draw: ParameterSample) -> list[Floats]:
        return [curve for scene in scenes for curve in scene.predict(draw)]

    before = misfit(scenes, predicted(typical_sample(rig)))
    root = np.sqrt(np.diag(covariance_of(rig, unknowns)))
    found = []
    for k, unknown in enumerate(unknowns):

        def trial(z: float, unknown: RigUnknown = unknown, k: int = k) -> Trial:
            draw = typical_sample(rig)
            unknown.apply(draw, z)
            value = misfit(scenes, predicted(draw))
            price = float(heavy_tailed(np.array([z / max(root[k], 0.05) * AT_NINETY]))[0] ** 2)
            return Trial(unknown, z, value, value + price)

        best = min((trial(z) for z in _TRIED), key=lambda t: t.cost)
        for factors in _NEARER:
            near = [trial(float(np.clip(f * best.z, -BOUND, BOUND))) for f in factors]
            best = min((best, *near), key=lambda t: t.cost)
        found.append(best)
        run.checkpoint(
            fractions[0] + (fractions[1] - fractions[0]) * (k + 1) / len(unknowns), "which assumption is wrong"
        )
    return before, tuple(sorted(found, key=lambda t: t.cost))
