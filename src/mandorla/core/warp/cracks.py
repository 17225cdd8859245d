"""Interlayer strength by healing, and the crack index along the height.

Strength: the interface heals as the quarter power of equivalent time above the glass transition (Wool and O'Connor 1981;
de Gennes reptation). Temperature of the interface: a hot film on a half-space (Carslaw and Jaeger, 2nd ed., 2.4).
Load: the peel at the free edge of what stands above the interface, on the foundation of what stands below (Hetenyi 1946),
its tensile part averaged over a fixed window of 20 mm about the edge, because the raw stress is singular. A film far above an
interface pulls on its own body only: its effect dies away as a self-equilibrated load at the end of a strip does (Saint-Venant;
first root 2.106 of sin 2z + 2z = 0 over the half length, Timoshenko and Goodier 1970, art. 26).
"""

from __future__ import annotations

from typing import Final

import numpy as np
from scipy.special import erf

from mandorla.core.compiled import compiled
from mandorla.core.materials.library_data import Polymer
from mandorla.core.part.mesh import Floats

AVERAGING: Final = 0.020  # m, of the window about an edge, half of which lies on the part
END_DECAY: Final = 2.106
STRENGTH_WITHIN: Final = 1.8  # factor to which the strength between layers is known
CRACK_MODEL: Final = 0.46  # ln-rms of the index against full simulations (benchmarks/quick_against_full.py, 80 cases)
HEALING_ACTIVATION: Final = 6.0e4  # J/mol, melt-like mobility
_GAS: Final = 8.314462618
_POINTS: Final = 24


def reference_temperature(polymer: Polymer) -> float:
    """Temperature (K) to which the polymer's healing time belongs."""
    return max(polymer.glass_transition.typical + 50.0, polymer.stress_free_temperature.typical)


def contact_temperature(landing: Floats, deposition: float) -> Floats:
    """Effusivity-weighted mean of fresh film and substrate, the same polymer: the plain mean (K)."""
    return 0.5 * (landing + deposition)


def healed_fraction(landing: Floats, layer_time: Floats, layer_height: float, polymer: Polymer) -> Floats:
    """Interlayer strength over bulk strength, (n,), 0-1.

    ``landing`` (n,) K is the substrate's temperature when the next layer comes, ``layer_time`` (n,) s.
    """
    diffusivity = polymer.conductivity.typical / (polymer.density.typical * polymer.specific_heat.typical)
    deposition = polymer.deposition_temperature.typical
    start = layer_height**2 / diffusivity * 0.02
    time = start * (layer_time[:, None] / start) ** np.linspace(0.0, 1.0, _POINTS)[None, :]
    interface = landing[:, None] + (deposition - landing[:, None]) * 0.5 * erf(
        layer_height / np.sqrt(diffusivity * time)
    )
    reference = reference_temperature(polymer)
    # mobility dies out over the last kelvins above the glass transition (onset of crystallisation)
    floor = polymer.glass_transition.typical
    with np.errstate(over="ignore"):
        rate = np.exp(-HEALING_ACTIVATION / _GAS * (1.0 / interface - 1.0 / reference))
    rate = np.where(interface > floor, rate * np.minimum(1.0, (interface - floor) / 20.0), 0.0)
    dt = np.diff(time, axis=1)
    equivalent = start * rate[:, 0] + np.sum(0.5 * (rate[:, 1:] + rate[:, :-1]) * dt, axis=1)
    return np.asarray(np.minimum(1.0, (equivalent / polymer.healing_time.typical) ** 0.25))


@compiled
def opening_stress(
    edges: Floats, modulus: Floats, width: Floats, half_length: Floats, contraction: Floats, nu: float
) -> Floats:
    """Layer-normal opening stress (n-1,) in Pa at the interfaces between blocks, averaged over ``AVERAGING`` about the edge.

    ``edges`` (n+1,) m; ``modulus`` Pa, ``width`` m, ``half_length`` m and ``contraction`` (n,) by block. The peel of mid-edge grows
    film by film, d(sigma) = sqrt(3 E' k'/zeta) eps d(zeta) with zeta the height above the interface and k' the foundation made of
    the material below and above it; each increment is averaged over the tensile zone of the beam on that foundation.
    """
    n = modulus.size
    stress = np.zeros(n - 1)
    for i in range(1, n):
        level = edges[i]
        mean_share = 0.0
        total = 0.0
        for j in range(i, n):
            tall = edges[j + 1] - level
            middle = 0.5 * (edges[j] + edges[j + 1]) - level
            share = width[j] / width[i]
            mean_share += share * (edges[j + 1] - edges[j])
            plane = modulus[j] / (1.0 - nu * nu)
            soft = 0.7 * (min(level, half_length[i]) / modulus[i - 1] + min(middle, half_length[i]) / modulus[j])
            foundation = 1.0 / soft
            bending = plane * middle**3 / 12.0 * (mean_share / tall)
            decay = (foundation / (4.0 * bending)) ** 0.25
            length = min(0.5 * AVERAGING, half_length[i])
            reach = min(decay * length, np.pi / 4.0)
            averaged = np.exp(-reach) * np.sin(reach) / (decay * length)
            moment = 0.5 * plane * contraction[j] * share * middle * (edges[j + 1] - edges[j])
            away = END_DECAY * middle / half_length[i]
            total += 2.0 * decay * decay * moment * averaged * (1.0 + away) * np.exp(-away)
        stress[i - 1] = total
    return stress
