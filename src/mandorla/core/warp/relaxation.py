"""Stress relaxation of a glassy polymer: a five-term Prony series with a temperature shift.

The times spread over six decades about the material's central time at its glass transition; they shift by an Arrhenius
law below and by the universal WLF law above it (Ferry, Viscoelastic Properties of Polymers, 3rd ed., ch. 11). The
effective-modulus method (Trost 1967, Bazant 1972, for aging concrete) replaces the history by one reduced modulus.
"""

from __future__ import annotations

from typing import Final

import numpy as np

from mandorla.core.materials.library_data import Polymer
from mandorla.core.part.mesh import Floats

WEIGHTS: Final = np.array([0.15, 0.20, 0.25, 0.20, 0.15])  # the rest, 0.05, does not relax
DECADES: Final = np.array([-3.0, -1.5, 0.0, 1.5, 3.0])
ACTIVATION: Final = 3.0e5  # J/mol below the glass transition
ROOM: Final = 296.15  # K, at which the library's moduli hold
_GAS: Final = 8.314462618
_WLF_1: Final = 17.44
_WLF_2: Final = 51.6


def shift_factor(T: Floats, glass_transition: float) -> Floats:
    """Time-temperature shift a_T (1 at the glass transition, larger when colder), shape of T."""
    below = np.exp(
        np.minimum(ACTIVATION / _GAS * (1.0 / np.minimum(T, glass_transition) - 1.0 / glass_transition), 200.0)
    )
    rise = np.maximum(T - glass_transition, 0.0)
    above = 10.0 ** (-_WLF_1 * rise / (_WLF_2 + rise))
    return np.asarray(np.where(glass_transition > T, below, above))


def retained_modulus(T: Floats, age: Floats, polymer: Polymer) -> Floats:
    """Share of the modulus at 23 °C that is left after ``age`` (s) at T (K), both (n,): what heat takes at once, and what time
    takes by relaxation."""
    tau = polymer.relaxation_time.typical * shift_factor(T, polymer.glass_transition.typical)
    times = tau[:, None] * 10.0 ** DECADES[None, :]
    with np.errstate(under="ignore"):
        left = np.exp(-np.minimum(age[:, None] / times, 700.0)) @ WEIGHTS
    return np.asarray((left + (1.0 - WEIGHTS.sum())) * hot_share(T, polymer))


def hot_share(T: Floats, polymer: Polymer) -> Floats:
    """Unrelaxed modulus at T (n,) K over that at 23 °C: falls in a straight line to the library's share at the stress-free
    temperature, as dynamic mechanical analysis of glassy polymers shows."""
    end = polymer.stress_free_temperature.typical
    warm = np.clip((T - ROOM) / max(end - ROOM, 1.0), 0.0, 1.0)
    return np.asarray(1.0 - (1.0 - polymer.hot_modulus.typical) * warm)
