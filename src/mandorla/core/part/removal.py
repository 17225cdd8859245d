"""How a part comes off its plate: an ordered list for this plate, polymer and coating, the gentlest first, with risks."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Final

from mandorla.core.materials.library_data import Polymer
from mandorla.core.materials.plate_library import Coating, PlateBody, PlateSurface
from mandorla.core.rig.bed import Bed
from mandorla.core.units import METRIC, UnitPreferences, show

_THIN: Final = 0.0013  # m, up to which a metal or laminate sheet bends by hand
_WARMER: Final = 12.0  # K over the plate's rest by which a tacky bond gives again (practice; size not checked)
_TACKY: Final = ("tacky_sheet", "tacky_pla_petg", "hot_tacky")
_SCRATCHED: Final = ("polyetherimide_smooth", "polyetherimide_textured", "mirror_back", *_TACKY)


@dataclass(frozen=True, slots=True)
class Handling:
    """What can be done with a plate by hand: taken out of the machine, bent, cooled suddenly by ``shock`` K (None: by any)."""

    comes_out: bool
    bends: bool
    shock: float | None

    @classmethod
    def of_body(cls, body: PlateBody) -> Handling:
        """A plate of one's own, which is laid on the bed."""
        return cls(True, body.bends, None if body.shock is None else body.shock.low)

    @classmethod
    def of_bed(cls, bed: Bed) -> Handling:
        """The layers of the bed that lie loose on what is below."""
        loose = 0
        for n, layer in enumerate(bed.layers[:-1]):
            if not layer.bonded:
                loose = n + 1
                break
        top = bed.layers[:loose]
        glass = any(layer.material.endswith("glass") for layer in top)
        thin = sum(layer.thickness for layer in top) <= _THIN
        return cls(bool(top), bool(top) and thin and not glass, 40.0 if glass else None)


@dataclass(frozen=True, slots=True)
class RemovalStep:
    """One step: what to do, and what it risks (empty: nothing)."""

    what: str
    risk: str


def removal_steps(
    handling: Handling,
    surface: PlateSurface,
    coating: Coating | None,
    polymer: Polymer,
    lets_go: float,
    prefs: UnitPreferences = METRIC,
) -> tuple[RemovalStep, ...]:
    """The steps in their order.

    Parameters
    ----------
    handling, surface, coating, polymer
        What lies under the part, and what the part is of.
    lets_go
        Plate temperature (K) at which the cool-down peels the part off; NaN where it does not.
    prefs
        Units of the text.

    Returns
    -------
    tuple of RemovalStep
        The gentlest first; what this plate does not stand is left out or warned of.

    Notes
    -----
    The order is practice; nothing in it is measured but the temperature at which the part lets go, which is the quick estimate's.
    """
    steps: list[RemovalStep] = []
    tacky, strong = surface.key in _TACKY and coating is None, polymer.key in surface.too_strong

    def degrees(kelvin: float) -> str:
        return show(kelvin, "temperature_difference", prefs, digits=0)

    if math.isfinite(lets_go):
        steps.append(RemovalStep(
            f"Wait until the plate is below {show(lets_go, 'temperature', prefs, digits=0)}: the part should come loose by itself.",
            "Pulled off warmer, it bends and stays bent.",
        ))  # fmt: skip
    else:
        steps.append(RemovalStep(
            "Wait until plate and part are as cold as the room; the cool-down alone does not peel it off.",
            f"{polymer.name} bonds so strongly to {surface.name} that pieces of it may come off with the part." if strong else "",
        ))  # fmt: skip
    if coating is not None and coating.solvent == "water":
        where = (
            "Put the plate with the part into lukewarm water"
            if handling.comes_out
            else "Run lukewarm water under the edge"
        )
        steps.append(RemovalStep(
            f"{where} for some minutes: {coating.name[0].lower()}{coating.name[1:]} dissolves.",
            "No water near mains and heaters; dry bare steel at once." + (" Not while the glass is hot." if handling.shock else ""),
        ))  # fmt: skip
    if handling.bends:
        steps.append(RemovalStep(
            "Take the sheet out and bend it a little, in several directions, away from your face.",
            "A kink stays; a large flat part takes a sharp edge along." + (" Peel tacky sheets slowly." if tacky else ""),
        ))  # fmt: skip
    if tacky:
        steps.append(RemovalStep(
            f"Warm the plate again by some {degrees(_WARMER)}: the tacky layer gives, then peel slowly from a corner.",
            "Hot, the part bends; a sharp pull tears the layer.",
        ))  # fmt: skip
    elif handling.comes_out and handling.shock is None:
        steps.append(RemovalStep(
            "Cool the plate outside the machine, on a cold metal surface or in a freezer: the part shrinks off.",
            "Condensation: dry the plate before it goes back.",
        ))  # fmt: skip
    if handling.shock is not None:
        steps.append(RemovalStep(
            "Let glass cool in the machine, never under water or on cold metal.",
            f"It may break at a sudden change of some {degrees(handling.shock)}: wear glasses and gloves.",
        ))  # fmt: skip
    steps.append(RemovalStep(
        "Push a thin plastic tool under one corner and let it travel; do not lever.",
        "Away from the other hand." + (" Plastic only: metal scratches this surface." if surface.key in _SCRATCHED else ""),
    ))  # fmt: skip
    if tacky:
        steps.append(RemovalStep("No blade on a tacky sheet.", "It cuts the layer; the plate is spoilt."))
    else:
        chips = " It chips glass where the bond is strong." if handling.shock is not None and strong else ""
        steps.append(RemovalStep(
            "A blade, flat and held with both hands behind it, as the last resort.", f"Cuts and scratches.{chips}"
        ))  # fmt: skip
    if strong:
        steps.append(RemovalStep(
            "Next time put glue film or spray under it, or use a textured or other side: this bond is too strong by its class.", ""
        ))  # fmt: skip
    return tuple(steps)
