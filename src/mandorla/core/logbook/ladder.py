"""A ladder: the lowest plate temperature that holds (or the highest that does not soften), by as few prints as can be.

Whether a print holds is a logistic curve over the temperature; its middle and its width are not known and have the model's curve as
prior. The next step is the one whose outcome tells most of the temperature that holds nine times of ten (mutual information).

References
----------
D. V. Lindley, Ann. Math. Stat. 27 (1956) 986 (information of an experiment).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.part.mesh import Floats

HOLDS: Final = 0.9
CLOSE: Final = 5.0  # K of an 80 % interval at which a ladder ends
MOST: Final = 8  # prints
LEAST_WIDTH: Final = 0.5  # K
_MIDDLES: Final = 121
_WIDTHS: Final = 25
_TOPS: Final = 48


@dataclass(frozen=True, slots=True)
class Prior:
    """The model's curve: ``middle`` (K) at which half of the prints hold, with its standard deviation, ``width`` (K) of the
    logistic with its ln standard deviation; ``up`` where it holds above (the cold side)."""

    middle: float
    middle_spread: float
    width: float
    width_spread: float
    up: bool


@dataclass(frozen=True, slots=True)
class LadderState:
    """Where a ladder stands: the temperature (K) that holds nine times of ten, with its 80 % interval, the next step (K; NaN: it
    has ended), the chance that the last answer is right to within CLOSE, whether it has ended, and why, in words; over
    ``temperatures`` (n,) the chance that a print holds (median, 10 %, 90 %: (3, n))."""

    answer: float
    low: float
    high: float
    next: float
    chance: float
    ended: bool
    sentence: str
    temperatures: Floats
    holds: Floats


def _grid(prior: Prior) -> tuple[Floats, Floats, Floats]:
    """Middles (m, 1) K, widths (1, w) K, prior mass (m, w)."""
    span = 4.0 * prior.middle_spread
    middle = np.linspace(prior.middle - span, prior.middle + span, _MIDDLES)[:, None]
    logs = np.linspace(-3.0, 3.0, _WIDTHS)[None, :]
    width = np.maximum(prior.width * np.exp(prior.width_spread * logs), LEAST_WIDTH)
    mass = np.exp(-0.5 * ((middle - prior.middle) / prior.middle_spread) ** 2 - 0.5 * logs**2)
    return middle, width, mass / mass.sum()


def _chance(T: float, middle: Floats, width: Floats, up: bool) -> Floats:
    z = (T - middle) / width * (1.0 if up else -1.0)
    return np.asarray(1.0 / (1.0 + np.exp(-np.clip(z, -40.0, 40.0))))


def _entropy(p: Floats) -> Floats:
    q = np.clip(p, 1e-12, 1.0 - 1e-12)
    return np.asarray(-q * np.log(q) - (1.0 - q) * np.log1p(-q))


def climb(
    prior: Prior, steps: Sequence[float], seen: Sequence[tuple[float, int, int]], known_to: float = CLOSE
) -> LadderState:
    """Where a ladder stands after some prints.

    Parameters
    ----------
    prior
        The model's curve.
    steps
        Temperatures (K) that may be tried.
    seen
        Of each print its temperature (K), held and printed parts; parts of one print count as one.
    known_to
        K of the 80 % interval at which it ends.

    Raises
    ------
    InputError
        No steps, or impossible counts.
    """
    if not steps or prior.middle_spread <= 0.0 or prior.width <= 0.0:
        raise InputError("A ladder needs temperatures to try and a curve to begin with.")
    middle, width, mass = _grid(prior)
    log = np.log(np.maximum(mass, 1e-300))
    for T, held, printed in seen:
        if not 0 <= held <= printed or printed < 1:
            raise InputError(f"{held} of {printed} is no count of parts that held.")
        p, share = np.clip(_chance(T, middle, width, prior.up), 1e-9, 1.0 - 1e-9), held / printed
        log = log + share * np.log(p) + (1.0 - share) * np.log1p(-p)
    mass = np.exp(log - log.max())
    mass /= mass.sum()
    away = width * math.log(HOLDS / (1.0 - HOLDS)) * (1.0 if prior.up else -1.0)
    top = (middle + away).ravel()
    order = np.argsort(top)
    total = np.cumsum(mass.ravel()[order])

    def quantile(q: float) -> float:
        return float(top[order][min(int(np.searchsorted(total, q)), top.size - 1)])

    low, answer, high = quantile(0.1), quantile(0.5), quantile(0.9)
    chance = float(mass.ravel()[np.abs(top - answer) <= 0.5 * known_to].sum())
    close, spent = high - low < known_to, len(seen) >= MOST
    ended = close or spent
    following = math.nan if ended else _next(middle, width, mass, top, prior, steps)
    along = np.linspace(min(steps) - 5.0, max(steps) + 5.0, 81)
    curves = np.array([_quantiles(_chance(float(t), middle, width, prior.up), mass) for t in along]).T
    why = "known to the width that was asked for" if close else f"{MOST} prints are spent"
    sentence = f"Holds nine times of ten {'from' if prior.up else 'up to'} {{answer}} ({{low}} to {{high}}, 80 %). "
    sentence += (
        f"Ended: {why}, {100 * chance:.0f} % that it is within {0.5 * known_to:.1f} K." if ended else "Next: {next}."
    )
    return LadderState(answer, low, high, following, chance, ended, sentence, along, curves)


def _quantiles(p: Floats, mass: Floats) -> tuple[float, float, float]:
    order = np.argsort(p, axis=None)
    total = np.cumsum(mass.ravel()[order])
    values = p.ravel()[order]
    low, middle, high = (float(values[min(int(np.searchsorted(total, q)), values.size - 1)]) for q in (0.1, 0.5, 0.9))
    return middle, low, high


def _next(middle: Floats, width: Floats, mass: Floats, top: Floats, prior: Prior, steps: Sequence[float]) -> float:
    """The step whose outcome tells most of the temperature that holds: entropy of the outcome less what is left of it where that
    temperature is known."""
    edges = np.quantile(top, np.linspace(0.0, 1.0, _TOPS + 1)[1:-1])
    bins = np.digitize(top, edges)
    of_bin = np.bincount(bins, weights=mass.ravel(), minlength=_TOPS)
    best, most = float(steps[0]), -1.0
    for T in steps:
        p = _chance(float(T), middle, width, prior.up)
        whole = float((mass * p).sum())
        inside = np.bincount(bins, weights=(mass * p).ravel(), minlength=_TOPS) / np.maximum(of_bin, 1e-300)
        told = float(_entropy(np.array([whole]))[0] - (of_bin * _entropy(inside)).sum())
        if told > most + 1e-9:
            best, most = float(T), told
    return best
