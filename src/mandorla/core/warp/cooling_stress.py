"""What a thick part stands while it cools: its skin cools ahead of its core, and pulls.

A slab of half thickness L that loses heat over a film h has a parabolic profile: its core is warmer than its skin by
q L/(2 k) and its mean by q L/(3 k), q = h (skin - air), so that the core leads by (mean - air) (Bi/2)/(1 + Bi/3) with Bi = h L/k.
The profile takes about L²/(3 a) to form: this is what it is at most. The skin is under E alpha/(1 - nu) times two thirds of that.

References
----------
H. S. Carslaw and J. C. Jaeger, Conduction of Heat in Solids (1959), sec. 3.8 (constant flux, the profile that stays); S. Timoshenko
and J. N. Goodier, Theory of Elasticity (1951), art. 150.
"""

from __future__ import annotations

from typing import Final, NamedTuple

import numpy as np

from mandorla.core.warp.estimate import PartToPrint

SHARE: Final = 0.3  # of the strength along layers, that joints between layers are taken to stand (practice, unchecked)


class CoolingStress(NamedTuple):
    """Of a part that is warmer than the air by so much at most: half thickness (m) of its thickest section, how much warmer its
    core is than its skin (K), the skin's stress over what joints stand, and the fall of the air (K/s) that loads them in full."""

    half: float
    lag: float
    load: float
    fastest: float


def cooling_stress(part: PartToPrint, over: float, film: float) -> CoolingStress:
    """How a part stands its cool-down.

    Parameters
    ----------
    part
        The part; its thickest section as a slab.
    over
        K by which its mean is warmer than the air, at most.
    film
        W/m²K of the air with radiation.
    """
    p, blocks = part.polymer, part.column
    # a slab's section over its perimeter is half its thickness
    half = float(np.max(blocks.area / np.maximum(blocks.perimeter, 1e-9)))
    Bi = film * half / p.conductivity.typical
    lag = over * (Bi / 2.0) / (1.0 + Bi / 3.0)
    stress = p.modulus.typical * p.expansion.typical * lag * (2.0 / 3.0) / (1.0 - p.poisson.typical)
    load = stress / (SHARE * p.strength.typical)
    # in a fall of the air that goes on and on, the mean stays over it by its rate times this
    follows = p.density.typical * p.specific_heat.typical * half * (1.0 + Bi / 3.0) / film
    return CoolingStress(half, lag, load, over / load / follows if load > 0.0 else float("inf"))
