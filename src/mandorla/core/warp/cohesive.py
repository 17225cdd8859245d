"""Cohesive grip between a part's foot and the plate: bilinear, mixed mode, with irreversible damage and contact.

Effective opening d = sqrt(<dn>² + beta² (dx² + dy²)); traction (1 - D) k d up to the strength, then falling to nought at 2
G/strength (Camacho and Ortiz 1996 with the bilinear law of Alfano and Crisfield 2001). Pressed together, the full stiffness acts.
Both modes share one fracture energy; shear carries beta times the strength.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Final

import numpy as np

from mandorla.core.part.mesh import Floats

SHEAR: Final = 0.5  # beta²: stiffness in shear over that in tension
STIFF: Final = 10.0  # least initial stiffness over strength²/(2 G): below it the law depends on the mesh


@dataclass(slots=True)
class CohesiveGrip:
    """Grip at all foot nodes (ny+1, nx+1): ``area`` m² (nought where there is no foot), strength Pa, ``energy`` J/m²,
    ``stiffness`` N/m³.

    ``damage`` 0 to 1 only grows. Openings are the foot's displacement minus the plate's, (ny+1, nx+1, 3) m.
    """

    area: Floats
    strength: Floats
    energy: Floats
    stiffness: Floats
    breakable: bool = True
    damage: Floats = field(init=False)

    def __post_init__(self) -> None:
        self.damage = np.zeros_like(self.area)
        self.renew(self.strength, self.energy)

    def renew(self, strength: Floats, energy: Floats) -> None:
        """Another strength and energy, as at another temperature; damage stays."""
        self.strength, self.energy = strength, energy
        self.stiffness = np.maximum(self.stiffness, STIFF * strength**2 / (2.0 * energy))

    def effective(self, opening: Floats) -> Floats:
        """Effective opening (ny+1, nx+1) m."""
        pulled = np.maximum(opening[..., 2], 0.0)
        return np.asarray(np.sqrt(pulled**2 + SHEAR * (opening[..., 0] ** 2 + opening[..., 1] ** 2)))

    def wear(self, opening: Floats) -> None:
        """Let damage grow to what the opening asks for."""
        if not self.breakable:
            return
        d = self.effective(opening)
        begins, ends = self.strength / self.stiffness, 2.0 * self.energy / self.strength
        with np.errstate(divide="ignore", invalid="ignore"):
            asked = np.where(d > begins, ends * (d - begins) / (d * (ends - begins)), 0.0)
        self.damage = np.maximum(self.damage, np.clip(asked, 0.0, 1.0))

    def springs(self, opening: Floats) -> Floats:
        """Secant springs (ny+1, nx+1, 3) N/m for an opening."""
        left = (1.0 - self.damage) * self.stiffness * self.area
        found = np.empty((*self.area.shape, 3))
        found[..., 0] = found[..., 1] = SHEAR * left
        found[..., 2] = np.where(opening[..., 2] < 0.0, self.stiffness * self.area, left)
        return found

    def traction(self, opening: Floats) -> Floats:
        """Effective traction (ny+1, nx+1) Pa, pressing not counted."""
        return np.asarray((1.0 - self.damage) * self.stiffness * self.effective(opening))

    @property
    def spent(self) -> Floats:
        """Share (ny+1, nx+1) of the fracture energy that damage has used up."""
        begins, ends = self.strength / self.stiffness, 2.0 * self.energy / self.strength
        reached = ends * begins / (ends - self.damage * (ends - begins))
        return np.asarray((reached - begins) / (ends - begins))

    @property
    def detached(self) -> float:
        """Share of the foot's area that is detached."""
        return float((self.area * (self.damage > 0.99)).sum() / self.area.sum())
