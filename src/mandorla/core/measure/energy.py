"""A plug meter's log against the prediction: base load, peak of the heat-up, steady draw, energy by phase."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.thermal.stack import Floats

BEFORE_HEATING: Final = "before heating"
_TELLS: Final = 0.3  # of the steady draw that heaters must be for a pause to be told from a warm room
_QUIET: Final = 0.15  # of what the heaters draw when steady, below which they are off
_LONG: Final = 600.0  # s
_CUMULATIVE: Final = 0.98  # share of steps that do not fall in a running total


@dataclass(frozen=True, slots=True)
class Bins:
    """Mean power (W) of intervals from ``start`` to ``end`` (m,) s."""

    start: Floats
    end: Floats
    power: Floats

    @property
    def energy(self) -> float:
        """All of it in J."""
        return float((self.power * (self.end - self.start)).sum())

    def between(self, first: float, last: float) -> float:
        """Energy in J between two moments; bins cut in proportion."""
        share = np.clip(np.minimum(self.end, last) - np.maximum(self.start, first), 0.0, None)
        return float((self.power * share).sum())


def bins_of(time: Floats, values: Floats, what: str) -> tuple[Bins, str]:
    """Intervals of a power log (W at moments) or an energy log (J, running total or one figure an interval), and what it is.

    Raises :class:`InputError` for fewer than two figures.
    """
    good = np.isfinite(values)
    t, v = np.asarray(time[good]), np.asarray(values[good])
    if t.size < 2:
        raise InputError("A plug meter's log needs two figures or more.")
    step = np.diff(t)
    if what == "power":
        return Bins(t[:-1], t[1:], 0.5 * (v[1:] + v[:-1])), "power at moments"
    rises = np.diff(v)
    if (rises >= -1e-9).mean() >= _CUMULATIVE and v[-1] > v[0]:
        # a meter that was reset falls once; the fall is no energy
        return Bins(t[:-1], t[1:], np.where(rises >= 0.0, rises, 0.0) / step), "running total"
    width = np.concatenate([[float(np.median(step))], step])
    return Bins(t - width, t, v / width), "energy of each interval"


@dataclass(frozen=True, slots=True)
class Phase:
    """One phase with its length s, measured and predicted energy J (the base load on top of the model's heaters)."""

    name: str
    start: float
    end: float
    measured: float
    predicted: float


@dataclass(frozen=True, slots=True)
class EnergyCheck:
    """Base load, peak and steady draw (W) as measured and predicted, ``duty`` of the heaters when steady, phases;
    ``interrupted`` are times (s, from and to) in which hardly more than the base load was drawn before it heated again."""

    kind: str
    base: float
    base_from: str
    peak: float
    peak_predicted: float
    steady: float
    steady_predicted: float
    duty: float
    phases: tuple[Phase, ...]
    bins: Bins
    predicted: Floats
    interrupted: tuple[tuple[float, float], ...] = ()


def check_energy(
    time: Floats, values: Floats, what: str, model_time: Floats, model_power: Floats, full_power: float, ready: float
) -> EnergyCheck:
    """Compare a plug meter's log with the model's power (m,) W over ``model_time`` s; ``ready`` (s) ends the heat-up.

    The base load is what is drawn before heating began; without that, the least that any interval draws less the model's at that
    time. Bins as long as an hour are compared with the model's mean over the same hour.
    """
    bins, kind = bins_of(time, values, what)
    total = np.concatenate([[0.0], np.cumsum(0.5 * (model_power[1:] + model_power[:-1]) * np.diff(model_time))])
    last = model_power[-max(2, model_power.size // 10) :].mean()

    def model_energy(at: Floats) -> Floats:
        beyond = np.clip(at - model_time[-1], 0.0, None) * last
        return np.asarray(np.interp(np.clip(at, 0.0, model_time[-1]), model_time, total) + beyond)

    width = np.maximum(bins.end - bins.start, 1e-9)
    predicted = (model_energy(bins.end) - model_energy(bins.start)) / width
    idle = bins.end <= 0.0
    if idle.any():
        base, base_from = float(np.median(bins.power[idle])), BEFORE_HEATING
    else:
        base = max(0.0, float(np.quantile(bins.power - predicted, 0.2)))
        base_from = "what the heaters do not explain"
    heating = bins.start >= -0.5 * width
    if not heating.any():
        raise InputError("The plug meter's log ends before heating began; check its clock.")
    peak = float(bins.power[heating].max())
    end = float(bins.end[-1])
    until = ready if np.isfinite(ready) and ready < end else end
    tail = bins.start >= max(until, end - 0.4 * (end - max(until, 0.0)) if end > until else until)
    if not tail.any():
        tail = bins.start >= bins.start[-1]
    steady = float(np.average(bins.power[tail], weights=width[tail]))
    steady_predicted = float(np.average(predicted[tail], weights=width[tail])) + base
    phases = []
    first = float(bins.start[0])
    for name, a, b in (("before heating", first, 0.0), ("heat-up", max(0.0, first), until), ("holding", until, end)):
        if b > a:
            said = float(model_energy(np.array([max(b, 0.0)]))[0] - model_energy(np.array([max(a, 0.0)]))[0])
            phases.append(Phase(name, a, b, bins.between(a, b), said + base * (b - a)))
    return EnergyCheck(
        kind, base, base_from, peak, float(predicted[heating].max()) + base, steady, steady_predicted,
        max(0.0, steady - base) / full_power, tuple(phases), bins, np.asarray(predicted + base),
        interruptions(bins, base, steady),
    )  # fmt: skip


def interruptions(bins: Bins, base: float, steady: float) -> tuple[tuple[float, float], ...]:
    """Times (s, from and to) after the first heating in which a machine that holds ``steady`` W drew hardly more than its ``base``
    load (W) for at least ten minutes, and then heated again: a print that was interrupted or begun anew."""
    if steady - base < _TELLS * steady:
        return ()
    quiet = bins.power < base + _QUIET * (steady - base)
    heated = np.flatnonzero(~quiet & (bins.start >= 0.0))
    if heated.size == 0:
        return ()
    found = []
    k, last = int(heated[0]), int(heated[-1])
    while k < last:
        if not quiet[k]:
            k += 1
            continue
        first = k
        while quiet[k]:
            k += 1
        start, end = float(bins.start[first]), float(bins.end[k - 1])
        if end - start >= _LONG:
            found.append((start, end))
    return tuple(found)
