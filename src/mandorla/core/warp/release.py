"""When a part shears off its plate as both cool: the energy that unlike contraction sets free along the foot against the bond's.

A layer that wants to shrink by a strain e and is held gives a crack along its foot, once that is longer than the layer is thick,
the energy E h e²/(1 - nu) whatever the crack's length; a block is at most as thick as a quarter of its shorter side. The
bond's energy is that of opening, raised for the sliding that comes with it. Both laws are published for films; for
printed feet nothing of it was checked.

References
----------
J. W. Hutchinson and Z. Suo, Adv. Appl. Mech. 29 (1992) 63: eq. 3.1 ff. for films under mismatch (phase angle about 52°), eq. 2.40
for the toughness against the phase angle (lambda 0.3).
"""

from __future__ import annotations

import math
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.materials.library_data import bed_materials
from mandorla.core.part.mesh import Floats
from mandorla.core.rig.bed import Bed
from mandorla.core.warp.adhesion import adhesion_of, temperature_factor
from mandorla.core.warp.estimate import PartToPrint
from mandorla.core.warp.relaxation import cooling_strain

MIXED: Final = 1.0 + math.tan(0.7 * math.radians(52.0)) ** 2  # toughness at the films' phase angle over that of opening
_QUARTER: Final = 0.25  # of the shorter side, that a block is thick at most
_WITHIN: Final = 1.5  # times the energy, 90 %, that the law of films leaves open here (an estimate, unchecked)
_FILM: Final = 0.0004  # m; what is thinner follows the plate below it
_POINTS: Final = 160


class Release(NamedTuple):
    """Plate temperatures (K) below which the part has sheared off: with the strongest bond, typical, with the weakest; NaN where it
    stays on down to the room."""

    low: float
    typical: float
    high: float


def plate_expansion(bed: Bed) -> float:
    """Expansion (1/K) of what a foot stands on: the first layer that is more than a film."""
    layer = next((v for v in bed.layers if v.thickness > _FILM), bed.layers[0])
    return bed_materials()[layer.material].expansion.typical


def held_thickness(part: PartToPrint, height: float) -> float:
    """Thickness (m) of solid polymer that pulls along the foot, of a part that is printed up to a height (m)."""
    blocks = part.column
    side = min(float(np.ptp(part.sections.x_extent[0])), float(np.ptp(part.sections.y_extent[0])))
    most = min(height, _QUARTER * side)
    solid = np.clip(blocks.area / np.maximum(blocks.gross_area[0], 1e-12), 0.0, 1.0)
    return float(solid @ np.clip(np.minimum(blocks.top, most) - blocks.bottom, 0.0, None))


def mismatch_energy(part: PartToPrint, height: float, end: float, T: Floats, expansion: float) -> Floats:
    """Energy (n,) J/m² that is set free along the foot at plate temperatures T (n,) K.

    Parameters
    ----------
    part, height
        The part, and how far (m) it is printed.
    end
        The foot's temperature (K) when it begins to cool.
    expansion
        The plate's (1/K).
    """
    p = part.polymer
    own = np.array([float(cooling_strain(np.array([end]), float(t), p)[0]) for t in T])
    strain = own * max(1.0 - expansion / p.expansion.typical, 0.0)
    modulus = p.modulus.typical * p.bead_factor.typical
    return np.asarray(modulus * held_thickness(part, height) * strain**2 / (1.0 - p.poisson.typical))


def release(part: PartToPrint, height: float, end: float, room: float, expansion: float) -> Release:
    """The temperatures at which a part shears off as it cools from ``end`` to the ``room`` (K); see :func:`mismatch_energy`."""
    if end <= room + 1.0:
        return Release(math.nan, math.nan, math.nan)
    T = np.linspace(end, room, _POINTS)
    energy = mismatch_energy(part, height, end, T, expansion)
    grip = adhesion_of(part.surface, part.process.polymer)
    factor, toughness = temperature_factor(T, grip), grip.fracture_energy

    def first(bond: float, share: float) -> float:
        over = np.flatnonzero(share * energy >= MIXED * bond * factor)
        return float(T[over[0]]) if over.size else math.nan

    return Release(first(toughness.high, 1.0 / _WITHIN), first(toughness.typical, 1.0), first(toughness.low, _WITHIN))
