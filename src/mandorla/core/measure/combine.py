"""Several instruments on one place: weighted mean, consistency, the one that does not fit and the likeliest reason."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final, NamedTuple

import numpy as np
from scipy.optimize import brentq
from scipy.stats import chi2

from mandorla.core.errors import InputError
from mandorla.core.measure.correct import Corrected
from mandorla.core.measure.infrared import shown_for
from mandorla.core.measure.models import CONTACT, INFRARED, Instrument, Reading
from mandorla.core.measure.uncertainty import coverage_factor
from mandorla.core.units import METRIC, UnitPreferences, show

_UNLIKELY: Final = 0.05  # consistency is doubted below this probability


@dataclass(frozen=True, slots=True)
class Witness:
    """One instrument's corrected answer for a place."""

    reading: Reading
    instrument: Instrument
    corrected: Corrected


@dataclass(frozen=True, slots=True)
class Combined:
    """The common estimate (K) with its standard uncertainty and factor for 95 %.

    ``birge`` the ratio that tells how much more the instruments scatter than they claim; ``consistent`` whether chance explains
    it; ``left_out`` the witnesses that do not fit, each with its deviation (K) and the likeliest reasons in words.
    """

    value: float
    u: float
    k: float
    birge: float
    consistent: bool
    used: tuple[Witness, ...]
    left_out: tuple[tuple[Witness, float, str], ...]

    @property
    def expanded(self) -> float:
        """Half width of the 95 % range in K."""
        return self.k * self.u


class WeightedMean(NamedTuple):
    """A weighted mean with its standard uncertainty ``u``, Birge ratio and the ``chance`` of a larger scatter."""

    mean: float
    u: float
    birge: float
    chance: float


def weighted_mean(values: Sequence[float], u: Sequence[float]) -> WeightedMean:
    """Weighted mean, its standard uncertainty, Birge ratio (Birge 1932), probability of a larger scatter."""
    if len(values) == 0:
        raise InputError("There is nothing to take the mean of.")
    x, w = np.asarray(values, dtype=np.float64), 1.0 / np.maximum(np.asarray(u, dtype=np.float64), 1e-9) ** 2
    mean = float((w * x).sum() / w.sum())
    n = x.size
    if n == 1:
        return WeightedMean(mean, float(1.0 / math.sqrt(w.sum())), 0.0, 1.0)
    scatter = float((w * (x - mean) ** 2).sum())
    u_mean, birge = float(1.0 / math.sqrt(w.sum())), math.sqrt(scatter / (n - 1))
    return WeightedMean(mean, u_mean, birge, float(chi2.sf(scatter, n - 1)))


def combine(witnesses: Sequence[Witness], prefs: UnitPreferences = METRIC) -> Combined:
    """The common estimate of one place.

    While chance explains the scatter with less than 5 % and three or more remain, the one farthest off in its own uncertainties is
    left out and named. Two that disagree cannot name a culprit: the estimate is widened by the Birge
    ratio and both reasons are told.
    """
    kept, out = list(witnesses), []
    while True:
        values, u = [w.corrected.value for w in kept], [w.corrected.budget.u for w in kept]
        mean, um, birge, chance = weighted_mean(values, u)
        if chance >= _UNLIKELY or len(kept) < 3:
            break
        # each against the mean of the others, in the uncertainty of that difference
        worst, most = 0, -1.0
        for i in range(len(kept)):
            rest = [j for j in range(len(kept)) if j != i]
            other, uo, *_ = weighted_mean([values[j] for j in rest], [u[j] for j in rest])
            off = abs(values[i] - other) / math.hypot(u[i], uo)
            if off > most:
                worst, most = i, off
        out.append(kept.pop(worst))
    consistent = chance >= _UNLIKELY
    if not consistent:
        um *= max(1.0, birge)
    named = [(w, w.corrected.value - mean, likeliest_reason(w, mean, prefs)) for w in out]
    if not consistent and len(kept) == 2:
        for w in kept:
            against = next(v for v in kept if v is not w).corrected.value
            named.append((w, w.corrected.value - against, likeliest_reason(w, against, prefs)))
    freedom = min(w.corrected.budget.freedom for w in kept)
    return Combined(mean, um, coverage_factor(freedom), birge, consistent, tuple(kept), tuple(named))


def likeliest_reason(w: Witness, truth: float, prefs: UnitPreferences = METRIC) -> str:
    """What would explain an instrument that disagrees with the ``truth`` (K) of the others, and what decides."""
    off = w.corrected.value - truth
    way = "high" if off > 0 else "low"
    name = w.instrument.name
    text = f"{name} reads {show(abs(off), 'temperature_difference', prefs)} {way}"
    if w.instrument.kind in INFRARED:
        band = (w.instrument.band_low, w.instrument.band_high)

        def shows(e: float) -> float:
            T = float(shown_for(truth, e, w.instrument.emissivity, w.reading.reflected, band))
            return (T if math.isfinite(T) else w.reading.reflected) - w.corrected.shown

        reasons = []
        if shows(0.05) * shows(1.0) < 0.0:
            e = float(brentq(shows, 0.05, 1.0, xtol=1e-4))
            reasons.append(f"an emissivity of {e:.2f} on this surface would explain it")
        reasons.append(f"so would an offset of {show(-off, 'temperature_difference', prefs)} of the others")
        return f"{text}: {'; '.join(reasons)}. A tape patch beside it decides."
    if w.instrument.kind in CONTACT:
        offset = show(off, "temperature_difference", prefs)
        if len(w.instrument.calibrations) >= 2:
            return f"{text}, but it was tried at fixed points: the remaining doubt is how its tip lies."
        if off < 0:
            return (
                f"{text}: a tip that does not lie flat or has no paste, or an offset of {offset}. Paste and tape the tip down, "
                "then try it in ice and in boiling water."
            )
        return f"{text}: an offset of {offset}, or a tip in the heater's radiation. Ice and boiling water decide."
    return f"{text}: its bias, or its place; compare it with a calibrated probe on the same place."
