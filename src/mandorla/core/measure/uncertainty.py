"""Uncertainty of a measured value by the law of propagation (GUM, JCGM 100:2008); to check it, Monte Carlo (JCGM 101:2008)."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Final, Literal, NamedTuple

import numpy as np
from scipy.stats import t as student

from mandorla.core.errors import InputError
from mandorla.core.thermal.stack import Floats

COVERAGE: Final = 0.95


@dataclass(frozen=True, slots=True)
class Source:
    """One input of a measurement: value, standard uncertainty in its own unit, type A (from repetition) or B, degrees of freedom.

    ``shape`` is its distribution in a Monte Carlo run.
    """

    name: str
    value: float
    u: float
    kind: Literal["A", "B"] = "B"
    freedom: float = math.inf
    shape: Literal["normal", "uniform"] = "normal"


@dataclass(frozen=True, slots=True)
class Contribution:
    """What a source adds to the standard uncertainty of the result: ``amount``, sensitivity times ``u``, in the result's unit."""

    name: str
    kind: str
    u: float
    amount: float


@dataclass(frozen=True, slots=True)
class Budget:
    """A value with standard uncertainty ``u``, effective degrees of freedom, coverage factor ``k`` for 95 %, contributions."""

    value: float
    u: float
    freedom: float
    k: float
    contributions: tuple[Contribution, ...]

    @property
    def expanded(self) -> float:
        """Half width of the 95 % range."""
        return self.k * self.u


def rectangular(limit: float) -> float:
    """Standard uncertainty of ± limit with nothing more known (GUM 4.3.7)."""
    return limit / math.sqrt(3.0)


def repeated(name: str, values: Sequence[float]) -> Source:
    """Mean of repeated values with its type A uncertainty (GUM 4.2). Raises :class:`InputError` for a mean of nothing."""
    if len(values) == 0:
        raise InputError(f"{name}: there is nothing to take the mean of.")
    data = np.asarray(values, dtype=np.float64)
    if not np.isfinite(data).all():
        raise InputError(f"{name}: {int((~np.isfinite(data)).sum())} of {data.size} values are missing or not finite.")
    if data.size == 1:
        return Source(name, float(data[0]), 0.0, "A")
    return Source(name, float(data.mean()), float(data.std(ddof=1) / math.sqrt(data.size)), "A", data.size - 1.0)


def propagate(model: Callable[..., float], sources: Sequence[Source]) -> Budget:
    """First-order propagation through ``model(*values)`` with central differences of one standard uncertainty (GUM 5.1.2, 5.1.3).

    Effective degrees of freedom by Welch and Satterthwaite (GUM G.4.1).
    """
    values = [s.value for s in sources]
    best = float(model(*values))
    found = []
    for i, s in enumerate(sources):
        if s.u <= 0.0:
            found.append(Contribution(s.name, s.kind, 0.0, 0.0))
            continue
        ends = []
        for sign in (-1.0, 1.0):
            moved = list(values)
            moved[i] += sign * s.u
            ends.append(float(model(*moved)))
        slope = (ends[1] - ends[0]) / (2.0 * s.u)
        found.append(Contribution(s.name, s.kind, s.u, abs(slope) * s.u))
    variance = sum(c.amount**2 for c in found)
    parts = sum(c.amount**4 / s.freedom for c, s in zip(found, sources, strict=True) if math.isfinite(s.freedom))
    freedom = variance**2 / parts if parts > 0.0 else math.inf
    return Budget(best, math.sqrt(variance), freedom, coverage_factor(freedom), tuple(found))


def coverage_factor(freedom: float) -> float:
    """Student's factor for 95 % two-sided."""
    return float(student.ppf(0.5 + 0.5 * COVERAGE, min(freedom, 1e6)))


class SampledBudget(NamedTuple):
    """A result by sampling: ``mean``, standard uncertainty ``u`` and the ends ``low`` and ``high`` of the central 95 %."""

    mean: float
    u: float
    low: float
    high: float


def sampled(
    model: Callable[..., Floats], sources: Sequence[Source], count: int = 20000, seed: int = 11
) -> SampledBudget:
    """Monte Carlo through a vectorised ``model`` (GUM, supplement 1)."""
    rng = np.random.default_rng(seed)
    drawn = []
    for s in sources:
        if s.shape == "uniform":
            half = s.u * math.sqrt(3.0)
            drawn.append(rng.uniform(s.value - half, s.value + half, count))
        elif math.isfinite(s.freedom):
            drawn.append(s.value + s.u * rng.standard_t(s.freedom, count))
        else:
            drawn.append(rng.normal(s.value, s.u, count))
    out = np.asarray(model(*drawn), dtype=np.float64)
    low, high = np.quantile(out, [0.5 - 0.5 * COVERAGE, 0.5 + 0.5 * COVERAGE])
    return SampledBudget(float(out.mean()), float(out.std(ddof=1)), float(low), float(high))
