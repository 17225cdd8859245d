"""Grip of a polymer on a plate surface against temperature.

The bell-shaped law rises from a cold fraction to one at the peak temperature and falls above it, where the polymer
softens. Strength and fracture energy scale alike. The figures are known to a factor of two only.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.errors import InputError, Problem
from mandorla.core.materials.plate_library import Adhesion, PlateSurface
from mandorla.core.part.mesh import Floats

OPENS: Final = 2.8  # hold margin from which the grip begins to open at the corners (benchmarks/quick_against_full.py)


@dataclass(frozen=True, slots=True)
class AdhesionAt:
    """Grip at one temperature: ``strength`` Pa, ``fracture_energy`` J/m², foundation ``stiffness`` N/m³."""

    strength: float
    fracture_energy: float
    stiffness: float


@dataclass(frozen=True, slots=True)
class AdhesionAlong:
    """Grip block by block of a print (n,): ``strength`` Pa, ``fracture_energy`` J/m²; foundation ``stiffness`` N/m³."""

    strength: Floats
    fracture_energy: Floats
    stiffness: float

    @property
    def last(self) -> AdhesionAt:
        """The grip when the print ends."""
        return AdhesionAt(float(self.strength[-1]), float(self.fracture_energy[-1]), self.stiffness)


def temperature_factor(T: Floats | float, grip: Adhesion) -> Floats:
    """Grip relative to its peak at plate surface temperatures T (K)."""
    away = np.asarray(T, dtype=np.float64) - grip.peak_temperature.typical
    cold = grip.cold_fraction.typical
    rising = cold + (1.0 - cold) * np.exp(-((away / grip.width_below.typical) ** 2))
    falling = np.exp(-((away / grip.width_above.typical) ** 2))
    return np.asarray(np.where(away < 0.0, rising, falling))


def adhesion_of(surface: PlateSurface, polymer_key: str) -> Adhesion:
    """The grip data of a pair. Raises :class:`InputError` when the library knows none."""
    if polymer_key not in surface.grip:
        raise InputError(
            f"No grip is known for this polymer on “{surface.name}”.",
            problems=(Problem("process.surface", surface.key, "a surface with grip data for " + polymer_key),),
        )
    return surface.grip[polymer_key]


def adhesion_at(surface: PlateSurface, polymer_key: str, T: float, contact: float = 1.0) -> AdhesionAt:
    """Grip of a polymer on a surface at the plate's surface temperature T (K), ``contact`` over that in the nominal gap."""
    grip = adhesion_of(surface, polymer_key)
    factor = float(temperature_factor(T, grip)) * contact
    return AdhesionAt(grip.strength.typical * factor, grip.fracture_energy.typical * factor, surface.stiffness.typical)


def adhesion_along(surface: PlateSurface, polymer_key: str, T: Floats, contact: float = 1.0) -> AdhesionAlong:
    """Grip (n,) of a polymer on a surface at the plate's surface temperatures T (n,) K, ``contact`` over that in the nominal
    gap."""
    grip = adhesion_of(surface, polymer_key)
    factor = temperature_factor(T, grip) * contact
    return AdhesionAlong(
        grip.strength.typical * factor, grip.fracture_energy.typical * factor, surface.stiffness.typical
    )
