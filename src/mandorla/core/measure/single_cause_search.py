"""Which single assumption would explain a misfit: every unknown tried alone, over its range and far beyond."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.measure.observe import sharing
from mandorla.core.measure.session_case import SessionCase, curves_of
from mandorla.core.rig.model import Rig
from mandorla.core.runtime import RunContext
from mandorla.core.second_core import on_two_cores
from mandorla.core.thermal.parameter_samples import (
    AT_NINETY,
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

    root, made = np.sqrt(np.diag(covariance_of(rig, unknowns))), 0
    every = 1 + len(unknowns) * (len(_TRIED) + sum(len(factors) for factors in _NEARER))

    def told(_done: int) -> None:
        nonlocal made
        made += 1
        run.checkpoint(
            fractions[0] + (fractions[1] - fractions[0]) * min(1.0, made / every), "which assumption is wrong"
        )

    def tried(moves: Sequence[tuple[int, float]]) -> list[Trial]:
        samples = [typical_sample(rig) for _ in moves]
        for (k, z), sample in zip(moves, samples, strict=True):
            unknowns[k].apply(sample, z)
        found = []
        for (k, z), curves in zip(moves, on_two_cores(curves_of, scenes, samples, told), strict=True):
            value = misfit(scenes, curves)
            price = float(heavy_tailed(np.array([z / max(root[k], 0.05) * AT_NINETY]))[0] ** 2)
            found.append(Trial(unknowns[k], z, value, value + price))
        return found

    before = misfit(scenes, curves_of(scenes, typical_sample(rig)))
    first = tried([(k, z) for k in range(len(unknowns)) for z in _TRIED])
    best = [min(first[k * len(_TRIED) : (k + 1) * len(_TRIED)], key=lambda t: t.cost) for k in range(len(unknowns))]
    for factors in _NEARER:  # of all unknowns together, so that two cores can share them
        near = tried([(k, float(np.clip(f * t.z, -BOUND, BOUND))) for k, t in enumerate(best) for f in factors])
        best = [
            min((t, *near[k * len(factors) : (k + 1) * len(factors)]), key=lambda t: t.cost) for k, t in enumerate(best)
        ]
    return before, tuple(sorted(best, key=lambda t: t.cost))
