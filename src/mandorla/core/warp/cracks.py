"""Cracks between layers: the energy that a delamination would set free over what the joint takes.

Strength: the interface heals as the quarter power of equivalent time above the glass transition (Wool and O'Connor 1981;
de Gennes reptation); its fracture energy goes as the square of that. Temperature of the interface: a hot film on a half-space
(Carslaw and Jaeger, 2nd ed., 2.4). Load: films that are held back from contracting store energy; where they come away from what
holds them, from the free edge inwards, they set it free, G per area in the steady state of a delamination (Hutchinson and Suo,
Mixed mode cracking in layered materials, 1992, sect. VI). The index is the square root of G over the joint's fracture energy.
"""

from __future__ import annotations

from typing import Final

import numpy as np
from scipy.special import erf

from mandorla.core.materials.library_data import Polymer
from mandorla.core.part.mesh import Floats

CRACK_MODEL: Final = 0.20  # ln-rms of the index against full simulations (benchmarks/quick_against_full.py)
HEALING_ACTIVATION: Final = 6.0e4  # J/mol, melt-like mobility
BEADS: Final = 2.0  # widths of a line above the plate below which a joint is the foot's, not a crack's
LEAST_HEALED: Final = 0.02
FOOT_LAG: Final = 3.0  # height over length at which the foot passes on a quarter of the films' force
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


def joint_energy(healed: Floats, polymer: Polymer) -> Floats:
    """Fracture energy (n,) J/m² of joints that have healed so far."""
    return np.asarray(polymer.joint_energy.typical * np.maximum(healed, LEAST_HEALED) ** 2)


def broadness(width: Floats | float, height: Floats | float) -> Floats:
    """How far a section ``width`` m across, ``height`` m tall is held across as well, 0 to 1: 1 - tanh(q)/q with q = width/(6
    height), as the strip has it."""
    q = np.maximum(width / (6.0 * np.maximum(height, 1e-9)), 1e-6)
    return np.asarray(1.0 - np.tanh(q) / q)


def film_energy(
    strain: Floats, modulus: Floats, poisson: float, spread: Floats, most: Floats | float = np.inf
) -> Floats:
    """Elastic energy (n, ...) J/m³ of films that are held back from contracting by ``strain``; ``modulus`` makes a stress of it.

    Where the modulus is what relaxation has left over, such a strain may be larger than anything contracts; what springs back is no
    more than ``most``, the free contraction: a sum of Maxwell elements stores half its stress times that at most, for none of them
    was stretched further. ``spread`` (n, ...) is 0 for a thin wall, held along itself only, and 1 for a broad section, held in both
    directions.
    """
    both = 2.0 / (1.0 - poisson) - 1.0
    return np.asarray(0.5 * modulus * np.abs(strain) * np.minimum(np.abs(strain), most) * (1.0 + both * spread))


def delamination_energy(edges: Floats, energy: Floats, section: Floats, length: float, foot: float) -> Floats:
    """Energy (n-1, ...) J/m² that a delamination at each joint sets free per area of the joint, from the free edge inwards.

    What stands above a joint, up to the part's length higher (Saint-Venant), is held back from contracting by what stands below it,
    as two bars side by side are, and by the foot on the plate. Held altogether it would set free all its films' energy.

    Parameters
    ----------
    edges
        Heights (n+1,) m of the layers of material.
    energy
        Energy (J/m³) of held films (n, ...); nought where nothing stands.
    section
        Stiffness (n,) of the whole section, modulus times width (N/m).
    length
        Length (m) of the part along the delamination.
    foot
        Share of the films' whole force that the foot passes on to the plate, 0 to 1.
    """
    thickness, middle = np.diff(edges), 0.5 * (edges[1:] + edges[:-1])
    joint, deep = np.arange(1, thickness.size), (slice(None), *(None,) * (energy.ndim - 1))
    end = np.maximum(joint + 1, np.searchsorted(middle, edges[1:-1] + length))
    first = np.searchsorted(middle, edges[1:-1] - length)
    stiff = np.concatenate([[0.0], np.cumsum(section * thickness)])  # up to each edge
    stored = np.concatenate([np.zeros((1, *energy.shape[1:])), np.cumsum(energy * thickness[deep], axis=0)])
    above, under = np.maximum(stiff[end] - stiff[joint], 1e-9), stiff[joint] - stiff[first]
    held = np.minimum(1.0, foot + under / (under + above))
    return np.asarray(held[deep] ** 2 * (stored[end] - stored[joint]))
