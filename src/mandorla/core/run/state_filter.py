"""The compiled filter: what is not known about a rig, and what no rig explains, followed from reading to reading.

References
----------
R. E. Kalman, J. Basic Eng. 82 (1960) 35; G. J. Bierman, Factorization Methods for Discrete Sequential Estimation (1977), ch. 2
(scalar updates one after another).
"""

from __future__ import annotations

from typing import Final

import numpy as np

from mandorla.core.compiled import compiled
from mandorla.core.part.mesh import Floats

BED, CHAMBER, POWER = 0, 1, 2  # channels
CHANNELS: Final = 3
# states that no rig explains, after the rig's unknowns
GAIN, BED_HEAT, AIR_HEAT, BED_OFF, AIR_OFF, BASE = range(6)
EXTRA: Final = 6
_BEGAN: Final = 30.0  # s to which it is known when the machine began to do something else


@compiled
def run_filter(
    dt: Floats, base: Floats, slopes: Floats, measured: Floats, noise: Floats, heat: Floats,
    air_given: Floats, jitter: Floats, air_jitter: Floats, stir: Floats, plug: Floats,
    mean: Floats, P: Floats, sizes: Floats, keeps: Floats, rates: Floats, creep: float, outlier: float,
) -> tuple[Floats, Floats, Floats]:  # fmt: skip
    """March the filter: time update, then each channel's reading as a scalar one.

    Parameters
    ----------
    dt, base, slopes, measured, noise, heat, air_given, jitter, air_jitter, stir
        See tracker.Stretch.
    plug
        W at the plug for a W of the bed's and of the chamber's heater (2,).
    mean, P
        The states (n+6,) and their covariance (n+6, n+6), updated.
    sizes, keeps
        Standard deviations and memory (s) of gain, bed's and air's heat, base load (4,).
    rates
        Response of bed and air: K/J and s of each (4,).
    creep
        Variance a second that the rig's unknowns may change by.
    outlier
        Standard deviations from which a reading moves the filter no more than that.

    Returns
    -------
    tuple
        Expected, its standard deviation and the surprise in those, each (m, 3); the surprise is NaN where nothing was read.
    """
    m, n = dt.size, slopes.shape[2]
    N = n + 6
    gain, bed_heat, air_heat, bed_off, air_off, base_load = n, n + 1, n + 2, n + 3, n + 4, n + 5
    expected, spread, surprise = np.empty((m, 3)), np.empty((m, 3)), np.full((m, 3), np.nan)
    H, PH = np.zeros(N), np.zeros(N)
    wandering = np.array([gain, bed_heat, air_heat, base_load])
    for step in range(m):
        h = dt[step]
        kept_bed, kept_air = np.exp(-h / rates[1]), np.exp(-h / rates[3])
        by_gain, by_bed, by_air = heat[step] * rates[0] * h, rates[0] * h, rates[2] * h
        mean[bed_off] = kept_bed * mean[bed_off] + by_gain * mean[gain] + by_bed * mean[bed_heat]
        air_gain = air_given[step] * rates[2] * h
        mean[air_off] = kept_air * mean[air_off] + by_air * mean[air_heat] + air_gain * mean[gain]
        for j in range(N):
            P[bed_off, j] = kept_bed * P[bed_off, j] + by_gain * P[gain, j] + by_bed * P[bed_heat, j]
            P[air_off, j] = kept_air * P[air_off, j] + by_air * P[air_heat, j] + air_gain * P[gain, j]
        for j in range(N):
            P[j, bed_off] = kept_bed * P[j, bed_off] + by_gain * P[j, gain] + by_bed * P[j, bed_heat]
            P[j, air_off] = kept_air * P[j, air_off] + by_air * P[j, air_heat] + air_gain * P[j, gain]
        for q in range(4):
            keep, at = np.exp(-h / keeps[q]), wandering[q]
            mean[at] *= keep
            for j in range(N):
                P[at, j] *= keep
            for j in range(N):
                P[j, at] *= keep
            P[at, at] += sizes[q] ** 2 * (1.0 - keep * keep)
        P[bed_heat, bed_heat] += stir[step, 0] * h
        P[air_heat, air_heat] += stir[step, 1] * h
        # and when it began is known to some seconds only, which the little heat of the air answers to at once
        P[air_off, air_off] += stir[step, 1] * (rates[2] * _BEGAN) ** 2 * h
        for i in range(n):
            P[i, i] += creep * h
        P[bed_off, bed_off] += 2.5e-5 * h + (jitter[step] * rates[0]) ** 2
        P[air_off, air_off] += 1e-4 * h + (air_jitter[step] * rates[2]) ** 2
        for c in range(3):
            H[:] = 0.0
            for i in range(n):
                H[i] = slopes[step, c, i]
            if c == 0:
                H[bed_off] = 1.0
            elif c == 1:
                H[air_off] = 1.0
            else:
                H[base_load] = 1.0
                H[gain] = plug[0] * heat[step] + plug[1] * air_given[step]
            S, level = noise[step, c], base[step, c]
            for i in range(N):
                PH[i] = 0.0
                for j in range(N):
                    PH[i] += P[i, j] * H[j]
            for i in range(N):
                S += H[i] * PH[i]
                level += H[i] * mean[i]
            expected[step, c], spread[step, c] = level, np.sqrt(S)
            if np.isnan(measured[step, c]):
                continue
            e = measured[step, c] - level
            surprise[step, c] = e / np.sqrt(S)
            e = min(max(e, -outlier * np.sqrt(S)), outlier * np.sqrt(S))
            for i in range(N):
                mean[i] += PH[i] / S * e
                for j in range(N):
                    P[i, j] -= PH[i] * PH[j] / S
    return expected, spread, surprise
