"""Soaked or not: where an approaching temperature is going, how long it still takes, and how sure that is."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.thermal.stack import Floats

_TAUS: Final = 90
_MOST: Final = 400  # points that are fitted


@dataclass(frozen=True, slots=True)
class Soak:
    """An approach T = end + rest exp(-t/tau) fitted to the last part of a log.

    ``end`` K with the ends of its central 95 %; ``tau`` s; ``drift`` K/s now; ``settled``: drift below the limit with 95 %
    probability; ``wait`` s until it is, with its 95 % range (0 when it is); ``noise`` K.
    """

    end: float
    end_low: float
    end_high: float
    tau: float
    drift: float
    drift_low: float
    drift_high: float
    settled: bool
    wait: float
    wait_low: float
    wait_high: float
    noise: float


def _thinned(time: Floats, T: Floats) -> tuple[Floats, Floats]:
    """Means of equal pieces, so that every point weighs alike."""
    if time.size <= _MOST:
        return time, T
    edges = np.linspace(time[0], time[-1], _MOST + 1)
    place = np.clip(np.digitize(time, edges) - 1, 0, _MOST - 1)
    count = np.bincount(place, minlength=_MOST)
    there = count > 0
    return (
        np.bincount(place, time, minlength=_MOST)[there] / count[there],
        np.bincount(place, T, minlength=_MOST)[there] / count[there],
    )


def judge_soak(time: Floats, T: Floats, drift_limit: float, *, share: float = 0.6, noise_floor: float = 0.02) -> Soak:
    """Judge a temperature log (s, K), newest last, against a drift limit (K/s).

    The last ``share`` of the time after the fastest rise is fitted. For every tau of a wide grid end and rest follow by least
    squares; the taus are weighed by their likelihood with as many independent points as the residuals' correlation leaves
    (flat prior in log tau), which gives the ranges. Raises :class:`InputError` for fewer than 8 points.
    """
    good = np.isfinite(time) & np.isfinite(T)
    time, T = np.asarray(time[good], dtype=np.float64), np.asarray(T[good], dtype=np.float64)
    if time.size < 8 or time[-1] <= time[0]:
        raise InputError("At least 8 readings over some time are needed to say where a temperature is going.")
    span = time[-1] - time[0]
    keep = time >= time[-1] - share * span
    t, y = _thinned(time[keep], T[keep])
    now = t[-1]
    x = t - now
    width = max(now - t[0], 1.0)
    n = t.size
    first, last = 0.05 * width, 30.0 * width
    for _ in range(4):
        # from a wide grid to the part of it that the data allow
        taus = np.geomspace(first, last, _TAUS)
        basis = np.exp(-x[None, :] / taus[:, None])
        basis /= basis.max(axis=1, keepdims=True)
        # least squares for end and rest at every tau at once
        sb, sbb, sy = basis.sum(axis=1), (basis**2).sum(axis=1), float(y.sum())
        sby = basis @ y
        det = np.maximum(n * sbb - sb**2, 1e-12)
        rest = (n * sby - sb * sy) / det
        end = (sy - rest * sb) / n
        residual = y[None, :] - end[:, None] - rest[:, None] * basis
        rss = (residual**2).sum(axis=1)
        best = int(np.argmin(rss))
        r = residual[best]
        rho = float(np.clip((r[1:] @ r[:-1]) / max(float(r @ r), 1e-30), 0.0, 0.95)) if n > 3 else 0.0
        effective = max(5.0, n * (1.0 - rho) / (1.0 + rho))
        noise = max(math.sqrt(float(rss[best]) / max(n - 3, 1)), noise_floor)
        worse = (rss - rss[best]) / noise**2 * effective / n
        allowed = np.flatnonzero(worse < 30.0)
        if allowed.size > _TAUS // 3:
            break
        first, last = taus[max(allowed[0] - 1, 0)], taus[min(allowed[-1] + 1, _TAUS - 1)]
    weight = np.exp(-0.5 * worse)
    # sample tau, then end and rest from their joint normal
    rng = np.random.default_rng(3)
    pick = rng.choice(_TAUS, 4000, p=weight / weight.sum())
    scale = noise * math.sqrt(n / effective)
    a, b = rng.standard_normal(4000), rng.standard_normal(4000)
    u_rest = scale * np.sqrt(n / det[pick])
    rests = rest[pick] + u_rest * a
    ends = (sy - rests * sb[pick]) / n + scale / math.sqrt(n) * b
    top = np.exp(-x[0] / taus)  # the basis was divided by its largest value, the one at the beginning
    drifts = -rests / top[pick] / taus[pick]
    with np.errstate(divide="ignore"):
        waits = np.where(np.abs(drifts) > drift_limit, taus[pick] * np.log(np.abs(drifts) / drift_limit), 0.0)

    def ends_of(values: Floats) -> tuple[float, float, float]:
        low, middle, high = np.quantile(values, [0.025, 0.5, 0.975])
        return float(middle), float(low), float(high)

    (e, el, eh), (d, dl, dh), (w, wl, wh) = ends_of(ends), ends_of(drifts), ends_of(waits)
    tau = float(np.median(taus[pick]))
    settled = max(abs(dl), abs(dh)) <= drift_limit
    if settled:
        w = wl = wh = 0.0
    return Soak(e, el, eh, tau, d, dl, dh, settled, w, wl, wh, noise)
