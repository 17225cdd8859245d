"""Statistics of A/B trials in which the print is the unit: parts of one print share their fate.

References
----------
Beta-binomial: J. G. Skellam, J. R. Stat. Soc. B 10 (1948) 257. Always-valid test: J. Ville (1939); R. Johari et al., Operations
Research 70 (2022) 1806. Exact test: R. A. Fisher (1935).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np
from scipy.special import betaln, gammaln
from scipy.stats import fisher_exact

from mandorla.core.errors import InputError

CORRELATION: Final = (2.0, 4.0)  # Beta prior of the correlation between parts of one print
FALSE_POSITIVES: Final = 0.05
MIXTURE: Final = 0.5  # both exponents of the Beta mixture over the share of pairs that A loses
_P: Final = np.linspace(0.0025, 0.9975, 200)
_RHO: Final = np.linspace(0.0125, 0.9875, 40)

Counts = tuple[int, int]  # failed, printed


@dataclass(frozen=True, slots=True)
class Arm:
    """One arm: its prints, each (failed, printed), and how often a part fails (median, 5 % and 95 %)."""

    name: str
    prints: tuple[Counts, ...]
    rate: tuple[float, float, float]


@dataclass(frozen=True, slots=True)
class Comparison:
    """Two arms: chance that the first fails more often, the difference (5 %, median, 95 %), the same with parts of a print sharing
    their fate altogether, Fisher's p (NaN where prints give several parts), what follows in words."""

    arms: tuple[Arm, Arm]
    first_worse: float
    difference: tuple[float, float, float]
    first_worse_at_full: float
    fisher: float
    sentence: str


def _check(prints: Sequence[Counts]) -> None:
    for failed, printed in prints:
        if not 0 <= failed <= printed or printed < 1:
            raise InputError(f"{failed} of {printed} is no count of failed parts.")


def log_beta_binomial(failed: int, printed: int, p: np.ndarray, rho: np.ndarray) -> np.ndarray:
    """ln probability of so many failed parts of a print, for rates ``p`` and correlations ``rho`` that broadcast."""
    more = (1.0 - rho) / rho
    a, b = p * more, (1.0 - p) * more
    ways = gammaln(printed + 1) - gammaln(failed + 1) - gammaln(printed - failed + 1)
    return np.asarray(ways + betaln(failed + a, printed - failed + b) - betaln(a, b))


def _likelihood(prints: Sequence[Counts]) -> np.ndarray:
    """Likelihood (rho, p) of an arm's prints, in logarithms."""
    found = np.zeros((_RHO.size, _P.size))
    for failed, printed in prints:
        found += log_beta_binomial(failed, printed, _P[None, :], _RHO[:, None])
    return found


def compare_arms(names: tuple[str, str], first: Sequence[Counts], second: Sequence[Counts]) -> Comparison:
    """Compare two arms by their prints.

    Parameters
    ----------
    names
        What they are called.
    first, second
        Failed and printed parts of each print.

    Returns
    -------
    Comparison
        Rates have a uniform prior, the correlation a Beta(2, 4), shared by both arms.

    Raises
    ------
    InputError
        Impossible counts.
    """
    _check(first)
    _check(second)
    by = (_likelihood(first), _likelihood(second))
    prior = (CORRELATION[0] - 1.0) * np.log(_RHO) + (CORRELATION[1] - 1.0) * np.log1p(-_RHO)
    weights = [np.exp(v - v.max()) for v in by]
    masses = [w.sum(axis=1) for w in weights]
    logs = prior + sum(np.log(m) for m in masses)
    of_rho = np.exp(logs - logs.max())
    of_rho = of_rho / of_rho.sum()
    rates = [w / m[:, None] for w, m in zip(weights, masses, strict=True)]  # p given rho, each row sums to 1
    below = np.cumsum(rates[1], axis=1) - 0.5 * rates[1]
    worse = float(of_rho @ (rates[0] * below).sum(axis=1))
    joint = np.einsum("r,ri,rj->ij", of_rho, *rates)
    gap = _P[:, None] - _P[None, :]
    order = np.argsort(gap, axis=None)
    total = np.cumsum(joint.ravel()[order])
    ends = [float(gap.ravel()[order][min(int(np.searchsorted(total, q)), total.size - 1)]) for q in (0.05, 0.5, 0.95)]
    arms = tuple(Arm(n, tuple(c), _ends(of_rho @ r)) for n, c, r in zip(names, (first, second), rates, strict=True))
    at_full = _shared_fate(first, second)
    single = all(printed == 1 for _, printed in (*first, *second))
    fisher = math.nan
    if single and first and second:
        table = np.array([[sum(f for f, _ in arm), sum(n - f for f, n in arm)] for arm in (first, second)])
        fisher = float(fisher_exact(table).pvalue)
    return Comparison(
        (arms[0], arms[1]), worse, (ends[0], ends[1], ends[2]), at_full, fisher,
        _sentence(names, first, second, worse, at_full, (ends[0], ends[1], ends[2])),
    )  # fmt: skip


def _ends(mass: np.ndarray) -> tuple[float, float, float]:
    total = np.cumsum(mass)
    low, middle, high = (float(_P[min(int(np.searchsorted(total, q)), _P.size - 1)]) for q in (0.05, 0.5, 0.95))
    return middle, low, high


def _shared_fate(first: Sequence[Counts], second: Sequence[Counts]) -> float:
    """Chance that the first fails more often where each print is a single draw: it counts by its share of failed parts."""
    a = [(sum(f / n for f, n in arm), float(len(arm))) for arm in (first, second)]
    densities = [np.exp(k * np.log(_P) + (n - k) * np.log1p(-_P)) for k, n in a]
    mass = [d / d.sum() for d in densities]
    below = np.cumsum(mass[1]) - 0.5 * mass[1]
    return float((mass[0] * below).sum())


def _sentence(
    names: tuple[str, str], first: Sequence[Counts], second: Sequence[Counts], worse: float, at_full: float,
    ends: tuple[float, float, float],
) -> str:  # fmt: skip
    if min(len(first), len(second)) < 2:
        return "One print an arm concludes nothing: parts of one print share their fate. Print both again, in random order."
    more, chance, other = (names[0], worse, at_full) if worse >= 0.5 else (names[1], 1.0 - worse, 1.0 - at_full)
    gap = f"{100 * ends[0]:+.0f} to {100 * ends[2]:+.0f} points".replace("-", "−")
    if chance < 0.95:
        return f"Not decided: {100 * chance:.0f} % that {more} fails more often ({gap}). Go on with pairs."
    if other < 0.9:
        return (
            f"{100 * chance:.0f} % that {more} fails more often, but only {100 * other:.0f} % if parts of a print share their fate "
            "altogether: more prints, not more parts."
        )
    return f"{more} fails more often: {100 * chance:.0f} % ({gap})."


@dataclass(frozen=True, slots=True)
class Sequential:
    """Where a sequential test of pairs stands: pairs, those that differ, its evidence (1 / p, valid at
    every look), whether it has decided, and for whom (0 first worse, 1 second worse, -1 undecided), whether it is at its end."""

    pairs: int
    differ: int
    evidence: float
    decided: bool
    worse: int
    ended: bool


def sequential(pairs: Sequence[tuple[Counts, Counts]], maximum: int) -> Sequential:
    """An always-valid test of randomised pairs: it may be looked at after every pair.

    Of the pairs that differ each arm loses half where there is no difference; the evidence is the likelihood of what was seen under
    a Beta(1/2, 1/2) mixture of shares, over that under a half. It passes 1/0.05 with a probability of at most 0.05 at any time.

    Parameters
    ----------
    pairs
        Failed and printed parts of the first and the second arm, in their order.
    maximum
        Pairs after which it ends, decided or not.
    """
    lost = differ = 0
    for (f1, n1), (f2, n2) in pairs[:maximum]:
        _check(((f1, n1), (f2, n2)))
        if f1 * n2 != f2 * n1:
            differ += 1
            lost += f1 * n2 > f2 * n1
    log = betaln(MIXTURE + lost, MIXTURE + differ - lost) - betaln(MIXTURE, MIXTURE) + differ * math.log(2.0)
    evidence = math.exp(log)
    decided = evidence >= 1.0 / FALSE_POSITIVES
    worse = -1 if not decided else 0 if 2 * lost > differ else 1
    return Sequential(len(pairs), differ, evidence, decided, worse, decided or len(pairs) >= maximum)


def random_order(names: tuple[str, str], pairs: int, seed: int) -> tuple[str, ...]:
    """Arms of all prints in their order: in each pair both, which comes first by chance."""
    rng = np.random.default_rng(seed)
    found: list[str] = []
    for _ in range(pairs):
        found += list(names if rng.random() < 0.5 else names[::-1])
    return tuple(found)


def prints_to_decide(rates: tuple[float, float], maximum: int = 60, seeds: int = 400) -> float:
    """Median number of pairs of single parts after which the sequential test decides between two failure rates; infinite where it
    does not within a maximum."""
    rng = np.random.default_rng(5)
    needed = []
    for _ in range(seeds):
        a, b = rng.random(maximum) < rates[0], rng.random(maximum) < rates[1]
        differ, lost = np.cumsum(a != b), np.cumsum(a & ~b)
        log = betaln(MIXTURE + lost, MIXTURE + differ - lost) - betaln(MIXTURE, MIXTURE) + differ * math.log(2.0)
        k = np.flatnonzero(log >= math.log(1.0 / FALSE_POSITIVES))
        needed.append(float(k[0]) + 1.0 if k.size else math.inf)
    return float(np.median(needed))
