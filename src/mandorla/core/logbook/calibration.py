"""Are we right? Each print's chances as they were stated before it, against what came out."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np
from scipy.stats import binom

from mandorla.core.logbook.records import Print

FEW: Final = 30  # prints below which nothing is said
OVERCONFIDENT: Final = 0.8  # factor on the ln odds below which predictions are called too sure, and widened
BIN: Final = 12  # prints of a bin at least
ANY: Final = "any"


@dataclass(frozen=True, slots=True)
class Bin:
    """Prints of like stated chance: mean stated, share that failed, how many; range (5 to 95 %) in which that share lies where the
    stated chances are right."""

    stated: float
    observed: float
    count: int
    low: float
    high: float


@dataclass(frozen=True, slots=True)
class Calibration:
    """One way to fail (ANY: that anything does): bins, Brier score with that of a constant chance, how many prints; ``missing``
    were begun and never entered; what follows in words; ``widen`` is the factor on the ln odds that would have fitted best
    (below 1: overconfident)."""

    way: str
    bins: tuple[Bin, ...]
    brier: float
    constant: float
    count: int
    missing: int
    widen: float
    sentence: str


def stated(prints: Sequence[Print], way: str) -> tuple[np.ndarray, np.ndarray]:
    """Stated chances and whether it happened, of prints whose end is known and that no accident ended."""
    rows = []
    for p in prints:
        o = p.outcome
        if o is None or (o.accident and not o.effects):
            continue
        chance = p.anything if way == ANY else getattr(p.predicted.get(way), "probability", None)
        if chance is None or not math.isfinite(chance):
            continue
        happened = o.failed if way == ANY else any(e.way == way for e in o.effects)
        rows.append((chance, float(happened)))
    found = np.array(rows, dtype=float).reshape(-1, 2)
    return found[:, 0], found[:, 1]


def calibrate(prints: Sequence[Print], way: str = ANY) -> Calibration:
    """How well stated chances fit what came out.

    Parameters
    ----------
    prints
        All prints, each with what was predicted before anything was learned from it.
    way
        A way to fail by its key, or ANY.

    References
    ----------
    Consistency bars: J. Bröcker and L. A. Smith, Weather and Forecasting 22 (2007) 651.
    """
    p, happened = stated(prints, way)
    missing = sum(not q.entered for q in prints)
    n = p.size
    if not n:
        return Calibration(way, (), math.nan, math.nan, 0, missing, 1.0, "No print has been entered yet.")
    order, bins = np.argsort(p, kind="stable"), []
    for part in np.array_split(order, max(1, n // BIN)):
        mean = float(p[part].mean())
        low, high = (float(binom.ppf(q, part.size, mean)) / part.size for q in (0.05, 0.95))
        bins.append(Bin(mean, float(happened[part].mean()), int(part.size), low, high))
    brier = float(((p - happened) ** 2).mean())
    constant = float(happened.mean() * (1.0 - happened.mean()))
    widen = _factor(p, happened) if n >= FEW else 1.0
    return Calibration(way, tuple(bins), brier, constant, n, missing, widen, _said(n, missing, p, happened, widen))


def _factor(p: np.ndarray, happened: np.ndarray) -> float:
    """The factor on the ln odds of stated chances that fits best, kept near 1 by a prior of a factor of 1.5."""
    odds = np.log(np.clip(p, 1e-4, 1 - 1e-4) / (1.0 - np.clip(p, 1e-4, 1 - 1e-4)))
    factors = np.exp(np.linspace(math.log(0.2), math.log(3.0), 121))
    scores = []
    for f in factors:
        q = np.clip(1.0 / (1.0 + np.exp(-f * odds)), 1e-9, 1 - 1e-9)
        fit = float((happened * np.log(q) + (1.0 - happened) * np.log1p(-q)).sum())
        scores.append(fit - 0.5 * (math.log(f) / math.log(1.5)) ** 2)
    return float(factors[int(np.argmax(scores))])


def _said(n: int, missing: int, p: np.ndarray, happened: np.ndarray, widen: float) -> str:
    gone = f" {missing} prints were begun and never entered: they count as missing, not as good." if missing else ""
    text = f"{100 * happened.mean():.0f} % failed of {n}, {100 * p.mean():.0f} % were predicted."
    if n < FEW:
        return f"Too few to say: {text}{gone}"
    low, high = (float(binom.ppf(q, n, float(p.mean()))) / n for q in (0.05, 0.95))
    share = float(happened.mean())
    if widen < OVERCONFIDENT:
        wide = f"spreads are taken {1.0 / widen:.1f} times as wide"
        return f"Overconfident: {text} Chances near 0 and 100 % should be nearer to the middle: {wide}.{gone}"
    if not low - 1e-9 <= share <= high + 1e-9:
        return f"{'Too hopeful' if share > high else 'Too gloomy'}: {text}{gone}"
    return f"Right within what {n} prints can tell: {text}{gone}"


def too_sure(c: Calibration) -> float:
    """The factor on ln odds that predictions take from then on: that of an overconfident record, else 1."""
    return c.widen if c.count >= FEW and c.widen < OVERCONFIDENT else 1.0
