"""The cross-section of a printed line in its gap, and where lines part or pile up.

A line laid between nozzle and plate is an oblong with round ends (Comminal, Serdeczny, Pedersen and Spangenberg, Additive
Manufacturing 20, 2018, 68-76; Serdeczny et al., Additive Manufacturing 24, 2018, 145-153: computed and measured sections,
within some per cent for gaps below the nozzle's bore). Of area A in a gap g it is w = A/g + (1 - pi/4) g wide and lies flat on
c = A/g - pi g/4."""

from __future__ import annotations

import math
from typing import Final

import numpy as np

from mandorla.core.part.mesh import Floats

_ROUND: Final = 1.0 - math.pi / 4.0
OVERFILL: Final = 0.20  # of a layer's height that neighbours can take before ripples stand up (practice; unchecked)
_LEAST: Final = 0.02  # of the nominal contact, below which a line only touches
_SAMPLES: Final = 9


def spacing(width: float, height: float) -> float:
    """Distance (m) of lines of a width that fill a layer of a height."""
    return width - _ROUND * height


def line_area(width: float, height: float) -> float:
    """Cross-section (m²) of a line of a width in a gap of a height."""
    return spacing(width, height) * height


def line_width(area: float, gap: Floats) -> Floats:
    """Width (m) of a line of an area in a gap (m)."""
    return np.asarray(area / gap + _ROUND * gap)


def contact_width(area: float, gap: Floats) -> Floats:
    """Width (m) on which a line lies on the plate; nought where it is round and only touches."""
    return np.asarray(np.maximum(area / gap - 0.25 * math.pi * gap, 0.0))


def parts_at(width: float, height: float) -> float:
    """The gap (m) from which neighbouring lines no longer touch: their width falls to their spacing.

    The smaller root of (1 - pi/4) g² - s g + A = 0; lines so narrow that they never part at any gap part where they turn round.
    """
    s, area = spacing(width, height), line_area(width, height)
    turn_round = math.sqrt(4.0 * area / math.pi)
    rest = s * s - 4.0 * _ROUND * area
    if rest < 0.0:
        return turn_round
    return min((s - math.sqrt(rest)) / (2.0 * _ROUND), turn_round)


def piles_at(height: float, texture: float) -> float:
    """The gap (m) below which the line's volume no longer finds room: ``OVERFILL`` of the height between the lines, and the
    valleys of a texture (m deep), half full. Nought or less where it always does."""
    return height * (1.0 - OVERFILL) - 0.5 * texture


def contact_share(width: float, height: float, texture: float, gap: Floats) -> Floats:
    """Share of the plate under the lines that they lie on, over a texture's peaks and valleys (mean over its depth), any shape."""
    s, area = spacing(width, height), line_area(width, height)
    around = texture * (np.linspace(-0.5, 0.5, _SAMPLES) if texture > 0.0 else np.zeros(1))
    local = np.maximum(np.asarray(gap)[..., None] + around, 0.05 * height)
    return np.asarray(np.minimum(contact_width(area, local) / s, 1.0).mean(axis=-1))


def grip_factor(width: float, height: float, texture: float, gap: Floats) -> Floats:
    """Grip in a gap over that in the nominal one, as the contact is."""
    nominal = float(contact_share(width, height, texture, np.asarray(height)))
    return np.asarray(np.maximum(contact_share(width, height, texture, gap) / max(nominal, 1e-9), _LEAST))


MELTS: Final = (
    100.0,
    3000.0,
)  # Pa s, filament melts at printing temperature and the shear of a first layer, thin to thick


def squeeze_pressure(area: float, gap: float, viscosity: float, time: float) -> float:
    """Mean pressure (Pa) that presses a line to a gap while the nozzle passes over it.

    A Newtonian strip of constant section between parallel plates that it wets (no slip), pressed by a constant force F a metre:
    F = 8 mu L^3 (-dg/dt) / g^3 with half width L = A / 2g, so g^-5 = d^-5 + 5 F t / (mu A^3) from the round line's diameter d on.
    The planar counterpart of the parallel-plate plastometer (Dienes and Klemm, J. Appl. Phys. 17, 1946, 458-471; Engmann,
    Servais and Burbidge, J. Non-Newtonian Fluid Mech. 132, 2005, 1-27).

    Parameters
    ----------
    area
        Section (m²) of the line.
    gap
        Between nozzle and plate (m); nought pressure from the line's own diameter on.
    viscosity
        Of the melt (Pa s).
    time
        For which the nozzle is over a place (s).
    """
    closed = 1.0 / gap**5 - (4.0 * area / math.pi) ** -2.5
    return float(max(closed, 0.0) * viscosity * area**3 / (5.0 * time) * gap / area)
