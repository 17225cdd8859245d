"""What a thick part stands while it cools: its skin cools ahead of its core, and pulls.

A slab of half thickness L whose surface falls by a steady rate r is warmer in its middle by r L²/(2 a) (conduction with a moving
surface temperature, a the diffusivity); its skin is under E alpha dT/(1 - nu) times two thirds of that (parabolic profile, free
to shrink as a whole).

References
----------
H. S. Carslaw and J. C. Jaeger, Conduction of Heat in Solids (1959), sec. 3.3; S. Timoshenko and J. N. Goodier, Theory of Elasticity
(1951), art. 150.
"""

from __future__ import annotations

from typing import Final, NamedTuple

import numpy as np

from mandorla.core.warp.estimate import PartToPrint

SHARE: Final = 0.3  # of the strength along layers, that joints between layers are taken to stand (practice, unchecked)


class CoolingStress(NamedTuple):
    """Of a part that cools by ``rate`` K/s: half thickness (m) of its thickest section, how much warmer its core is (K), the skin's
    stress (Pa) over what joints stand, the fastest rate (K/s) that keeps it below that."""

    half: float
    lag: float
    load: float
    fastest: float


def cooling_stress(part: PartToPrint, rate: float) -> CoolingStress:
    """How a part stands a fall of its surroundings by ``rate`` K/s."""
    p, blocks = part.polymer, part.column
    # a solid slab's area over its perimeter is half its thickness
    half = float(np.max(blocks.area / np.maximum(blocks.perimeter, 1e-9)))
    diffusivity = p.conductivity.typical / (p.density.typical * p.specific_heat.typical)
    lag = rate * half * half / (2.0 * diffusivity)
    stress = p.modulus.typical * p.expansion.typical * lag * (2.0 / 3.0) / (1.0 - p.poisson.typical)
    stands = SHARE * p.strength.typical
    load = stress / stands
    return CoolingStress(half, lag, load, rate / load if load > 0.0 else float("inf"))
