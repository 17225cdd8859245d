"""From which temperature a surface burns, by material and time of contact.

Thresholds as EN ISO 13732-1 gives them, from memory of the standard and **unchecked** against a second source (see theory.md).
"""

from __future__ import annotations

from typing import Final

from mandorla.core.rig.bed import Bed

# K by material: 1 s, 1 min, 10 min, 8 h; the lower end where a range is known
_ZERO: Final = 273.15
BURNS: Final[dict[str, tuple[float, float, float, float]]] = {
    "metal": (65.0 + _ZERO, 51.0 + _ZERO, 48.0 + _ZERO, 43.0 + _ZERO),
    "glass": (80.0 + _ZERO, 56.0 + _ZERO, 48.0 + _ZERO, 43.0 + _ZERO),
    "plastic": (85.0 + _ZERO, 60.0 + _ZERO, 48.0 + _ZERO, 43.0 + _ZERO),
}
CONTACTS: Final = (1.0, 60.0, 600.0, 8 * 3600.0)  # s
_FILM: Final = 0.0004  # m, through which what is below is felt
GRASPED: Final = 60.0  # s, as long as a plate is held to take a part off


def burns_at(material: str, contact: float) -> float:
    """The temperature (K) from which a contact of some seconds burns: the next longer contact that is known counts.

    Raises KeyError for a material without thresholds.
    """
    known = BURNS[material]
    return next((t for c, t in zip(CONTACTS, known, strict=True) if contact <= c), known[-1])


def touched(bed: Bed) -> str:
    """What a hand feels of a plate: its first layer that is more than a film."""
    layer = next((la for la in bed.layers if la.thickness > _FILM), bed.layers[0])
    return _kind_of(layer.material)


def _kind_of(material: str) -> str:
    if "glass" in material and "fibre" not in material:
        return "glass"
    metals = ("steel", "aluminium", "copper", "brass")
    return "metal" if any(m in material for m in metals) else "plastic"
