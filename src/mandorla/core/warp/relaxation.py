"""What is left of a stress that arises while a polymer cools: creep below the glass transition, and the crystals' share above it.

An increment of strain that arises at T leaves the stress E(23 °C) r(T) d(eps) at once, r the modulus over its value at 23 °C. Of
that, the share exp(-xi^(1/3)) is left after the reduced time xi = integral dt/tau(T) since it arose (stretched exponential with the
exponent 1/3 of short-time creep: Struik, Physical Aging in Amorphous Polymers and Other Materials, 1978). tau shifts by an
Arrhenius
law below the glass transition, by a flatter one from 15 K below it on, and by the universal WLF law above (Ferry, Viscoelastic
Properties of Polymers, 3rd ed., ch. 11). Crystals keep a share of the modulus up to near melting. Increments are summed
(Boltzmann): one time at the last temperature would overstate the stress by a fifth.
"""

from __future__ import annotations

from typing import Final

import numpy as np

from mandorla.core.materials.library_data import Polymer
from mandorla.core.part.mesh import Floats

ROOM: Final = 296.15  # K, at which the library's moduli hold
STRETCH: Final = 1.0 / 3.0
NEAR: Final = 15.0  # K below the glass transition to which the steep law reaches
CRYSTALS_END: Final = (
    40.0,
    20.0,
)  # K below and above the onset of crystallisation between which the crystals' share falls to nought
LEAST: Final = 1e-3  # of the modulus at 23 °C that a structure keeps, so that it stays solvable
STEPS: Final = (
    8,
    6,
)  # increments while a film cools to where the next one lands on it, and from then to the print's end
COOLING_TIME: Final = 5400.0  # s from the end of a print until the part is cold
_GAS: Final = 8.314462618
_WLF: Final = (17.44, 51.6)


def relaxation_time(T: Floats, polymer: Polymer) -> Floats:
    """Time (s) of the stretched exponential at T (K), shape of T; see the module for the law."""
    Tg, tau = polymer.glass_transition.typical, polymer.relaxation_time.typical
    edge = Tg - NEAR
    steep = polymer.softening_activation.typical / _GAS * (1.0 / np.clip(T, edge, Tg) - 1.0 / Tg)
    flat = polymer.creep_activation.typical / _GAS * (1.0 / np.minimum(T, edge) - 1.0 / edge)
    rise = np.maximum(T - Tg, 0.0)
    ln = np.minimum(steep + flat, 200.0) - np.log(10.0) * _WLF[0] * rise / (_WLF[1] + rise)
    return np.asarray(tau * np.exp(ln))


def crystal_share(T: Floats, polymer: Polymer) -> Floats:
    """Share of the modulus at 23 °C that crystals keep at T (K) however long one waits, shape of T."""
    onset = polymer.stress_free_temperature.typical
    below, above = CRYSTALS_END
    left = np.clip((onset + above - T) / (below + above), 0.0, 1.0)
    return np.asarray(polymer.crystal_plateau.typical * left)


def hot_share(T: Floats, polymer: Polymer) -> Floats:
    """Unrelaxed modulus at T (n,) K over that at 23 °C: falls in a straight line to the library's share at the stress-free
    temperature, as dynamic mechanical analysis of glassy polymers shows."""
    end = polymer.stress_free_temperature.typical
    warm = np.clip((T - ROOM) / max(end - ROOM, 1.0), 0.0, 1.0)
    return np.asarray(1.0 - (1.0 - polymer.hot_modulus.typical) * warm)


def _left(T: Floats, reduced: Floats, polymer: Polymer) -> Floats:
    """Stress over strain and over the modulus at 23 °C of increments that arose at T, a reduced time ago."""
    crystals = crystal_share(T, polymer)
    with np.errstate(under="ignore"):
        glass = np.exp(-np.minimum(np.maximum(reduced, 0.0) ** STRETCH, 700.0))
    return np.asarray(crystals + np.maximum(hot_share(T, polymer) - crystals, 0.0) * glass)


def retained_modulus(T: Floats, age: Floats, polymer: Polymer) -> Floats:
    """Share of the modulus at 23 °C that is left after ``age`` (s) at T (K), both (n,): what heat takes at once, and what time
    takes by relaxation; at least ``LEAST``."""
    return np.maximum(_left(T, age / relaxation_time(T, polymer), polymer), LEAST)


def _path(start: Floats, end: Floats, count: int) -> tuple[Floats, Floats]:
    """``count`` equal increments from start to end (n,): temperatures (count, n) in their middles, and the fall of each (n,)."""
    middles = (np.arange(count) + 0.5) / count
    return start + (end - start) * middles[:, None], (start - end) / count


def cooled_strain(
    landing: Floats, end: Floats, layer_time: Floats, age: Floats, polymer: Polymer
) -> tuple[Floats, Floats]:
    """Contraction, weighted by what is left of its stress at the end of the print, of films that cool and wait.

    Parameters
    ----------
    landing, end
        Temperatures (n,) K when the next layer comes, and when the print ends.
    layer_time, age
        Time (n,) s until the next layer comes, and from then to the end.
    polymer
        The material; no stress arises above its stress-free temperature.

    Returns
    -------
    tuple of arrays (n,)
        Stress over the modulus at 23 °C of what arises until the next layer comes, and of what arises after it.
    """
    free, alpha = polymer.stress_free_temperature.typical, polymer.expansion.typical
    first, last = np.minimum(landing, free), np.minimum(end, free)
    T1, fall1 = _path(np.full_like(landing, free), first, STEPS[0])
    T2, fall2 = _path(first, last, STEPS[1])
    # a film cools towards where it settles: the nearer, the longer it takes
    slow = 1.0 / (1.2 - (np.arange(STEPS[0]) + 0.5) / STEPS[0])
    dt1 = layer_time * (slow / slow.sum())[:, None]
    spans = 2.0 ** np.arange(STEPS[1])
    dt2 = age * (spans / spans.sum())[:, None]
    steps = np.concatenate([dt1 / relaxation_time(T1, polymer), dt2 / relaxation_time(T2, polymer)])
    falls = np.concatenate([np.broadcast_to(fall1, T1.shape), np.broadcast_to(fall2, T2.shape)])
    each = alpha * increments_left(np.concatenate([T1, T2]), falls, steps, polymer)
    return each[: STEPS[0]].sum(axis=0), each[STEPS[0] :].sum(axis=0)


def increments_left(T: Floats, falls: Floats, reduced: Floats, polymer: Polymer) -> Floats:
    """Increments (k, n) of fall ``falls`` (K) at ``T`` (K), one after the other, times what is left of their stress at the end.

    ``reduced`` are the steps' times over the relaxation time at each; an increment arises in the middle of its step.
    """
    since = np.cumsum(reduced[::-1], axis=0)[::-1] - 0.5 * reduced
    return np.asarray(falls * _left(T, since, polymer))


def cooling_strain(end: Floats, room: float, polymer: Polymer) -> Floats:
    """Contraction (n,), weighted as in :func:`cooled_strain`, from the print's end at ``end`` (n,) K until it is cold."""
    first = np.minimum(end, polymer.stress_free_temperature.typical)
    T, fall = _path(first, np.full_like(end, room), STEPS[1])
    spans = 2.0 ** np.arange(STEPS[1])
    steps = COOLING_TIME * (spans / spans.sum())[:, None] / relaxation_time(T, polymer)
    since = np.cumsum(steps[::-1], axis=0)[::-1] - 0.5 * steps
    return np.asarray((polymer.expansion.typical * fall * _left(T, since, polymer)).sum(axis=0))
