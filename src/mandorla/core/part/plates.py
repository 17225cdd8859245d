"""Plates of one's own: a body with two sides, each with its surface, finish, age and own figures; the grip on a side as it is."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Final, Literal, Self

from pydantic import Field, model_validator

from mandorla.core.errors import InputError
from mandorla.core.materials.library_data import bed_materials, joint_kinds, polymers
from mandorla.core.materials.plate_library import (
    Adhesion,
    Coating,
    PlateBody,
    PlateSurface,
    coatings,
    finishes,
    left_when_worn,
    plate_bodies,
    plate_surfaces,
    side_states,
)
from mandorla.core.materials.values import Value
from mandorla.core.model_base import Model
from mandorla.core.quantity_field import quantity
from mandorla.core.rig.bed import Bed, BedLayer, free_key

SideName = Literal["front", "back"]
SIDES: Final[tuple[SideName, ...]] = ("front", "back")
MOST_PLATES: Final = 12
_EDGE: Final = 3.0  # K to which a maker's range of use is taken at its word
_FILLED: Final = 0.3  # share of a texture's depth that is left under a coating that fills it


def _known_polymer(key: str) -> None:
    if key not in polymers():
        raise ValueError(f"polymer “{key}” is not in the library: {', '.join(sorted(polymers()))}")


class UseRange(Model):
    """The plate temperatures between which its maker uses a side for a polymer."""

    polymer: str = Field(title="Polymer")
    lowest: float = quantity("temperature", 250.0, 600.0, "Used from")
    highest: float = quantity("temperature", 250.0, 600.0, "Used up to")

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        _known_polymer(self.polymer)
        if self.lowest >= self.highest:
            raise ValueError("a range of use ends below where it begins")
        return self


class OwnGrip(Model):
    """Grip of a polymer on a side as own trials say: a factor on the library's, known to a factor of ``within``; the plate
    temperature of its peak where they tell it."""

    polymer: str = Field(title="Polymer")
    grip: float = quantity("ratio", 0.02, 50.0, "Grip over the library's", default=1.0)
    within: float = quantity("ratio", 1.02, 4.0, "Known to a factor of", default=2.0)
    peak: float | None = quantity("temperature", 270.0, 600.0, "Holds best at", default=None)
    source: str = Field(default="own trials", max_length=120, title="Source")

    @model_validator(mode="after")
    def _known(self) -> Self:
        _known_polymer(self.polymer)
        return self


class PlateSide(Model):
    """One side of a plate; where ``worn`` (0 new, 1 worn out) is not stated, it is estimated from the ``prints``; finish and depth
    are the surface's usual ones where they are not."""

    surface: str = Field(default="polyetherimide_textured", title="Surface")
    finish: str = Field(default="", title="Finish")
    texture_depth: float | None = quantity("length", 0.0, 1e-3, "Depth of its texture", default=None)
    prints: int = Field(default=0, ge=0, le=100000, title="Prints on it", json_schema_extra={"kind": "count"})
    worn: float | None = quantity("fraction", 0.0, 1.0, "Worn", default=None)
    highest: float | None = quantity("temperature", 300.0, 600.0, "Rated to", default=None)
    ranges: tuple[UseRange, ...] = Field(default=(), max_length=40)
    grips: tuple[OwnGrip, ...] = Field(default=(), max_length=40)

    @model_validator(mode="after")
    def _known(self) -> Self:
        if self.surface not in plate_surfaces():
            raise ValueError(f"surface “{self.surface}” is not in the library: {', '.join(sorted(plate_surfaces()))}")
        if self.finish and self.finish not in finishes():
            raise ValueError(f"there is no finish “{self.finish}”: {', '.join(sorted(finishes()))}")
        for rows, what in ((self.ranges, "ranges of use"), (self.grips, "own figures")):
            named = [row.polymer for row in rows]
            twice = sorted({p for p in named if named.count(p) > 1})
            if twice:
                raise ValueError(f"there are two {what} for {', '.join(twice)}")
        return self

    def of_library(self) -> PlateSurface:
        """Its class of surface."""
        return plate_surfaces()[self.surface]

    def depth(self) -> Value:
        """Depth of its texture (m), peak to valley."""
        if self.texture_depth is not None:
            d = self.texture_depth
            return Value(0.9 * d, d, 1.1 * d, "own figure")
        return finishes()[self.finish].depth if self.finish else self.of_library().texture_depth

    def left(self) -> Value:
        """Share of its grip that wear has left."""
        out, life = left_when_worn(), self.of_library().life
        if self.worn is not None:
            low = typical = high = self.worn
        else:  # the life ends where half of the grip is gone
            half = 0.5 / (1.0 - out.typical)
            low, typical, high = (min(1.0, half * self.prints / n) for n in (life.high, life.typical, life.low))
        return Value(
            1.0 - (1.0 - out.low) * high, 1.0 - (1.0 - out.typical) * typical, 1.0 - (1.0 - out.high) * low, out.source
        )


class Plate(Model):
    """A plate: its body, and what its sides are."""

    key: str = Field(min_length=1, max_length=60)
    name: str = Field(min_length=1, max_length=60, title="Name")
    body: str = Field(default="sheet_with_film", title="Body")
    thickness: float | None = quantity("length", 1e-5, 0.05, "Thickness of its body", default=None)
    front: PlateSide
    back: PlateSide | None = None
    notes: str = Field(default="", max_length=400, title="Notes")

    @model_validator(mode="after")
    def _fits_together(self) -> Self:
        if self.body not in plate_bodies():
            raise ValueError(f"there is no body “{self.body}”: {', '.join(sorted(plate_bodies()))}")
        if self.back is not None and not plate_bodies()[self.body].both_sides:
            raise ValueError(f"“{self.name}” is {plate_bodies()[self.body].name.lower()}: it has one side to print on")
        return self

    def of_library(self) -> PlateBody:
        """Its kind of body."""
        return plate_bodies()[self.body]

    def side(self, name: SideName) -> PlateSide | None:
        """The side of a name, None where it has none."""
        return self.front if name == "front" else self.back


@dataclass(frozen=True, slots=True)
class OnTop:
    """What lies under the part: the surface of the library, the side that it is of (None: as the library has it), the coating on it
    (None: none) and the key of its state."""

    surface: PlateSurface
    side: PlateSide | None = None
    coating: Coating | None = None
    state: str = "clean"

    def refused(self, polymer: str) -> str:
        """Why this cannot be: a coating that dissolves the surface, or is not for the polymer; empty where it can."""
        coat = self.coating
        if coat is None:
            return ""
        if self.surface.key in coat.dissolves:
            return f"{coat.name} dissolves or spoils {self.surface.name}"
        if coat.only and polymer not in coat.only:
            known = ", ".join(polymers()[p].name for p in coat.only)
            return f"{coat.name} is made of the polymer that is printed: it is for {known}"
        return ""

    def with_grip(self, polymer: str, name: str) -> PlateSurface:
        """The surface as it is: grip of every polymer with finish, wear, state and coating in it, independent of each other; the
        range of use of its maker for ``polymer``."""
        base, side, coat = self.surface, self.side, self.coating
        own_bond = coat is not None and bool(coat.grip)
        factors = [side_states()[self.state].factor] if self.state != "clean" else []
        if side is not None and not own_bond:
            if side.finish and side.finish != base.finish:
                factors.append(_over(finishes()[side.finish].factor, finishes()[base.finish].factor))
            factors.append(side.left())
        cold: list[Value] = []
        if coat is not None:
            factors.append(coat.factor)
            cold.append(coat.cold)
        table = coat.grip if coat is not None and own_bond else base.grip
        grip = {p: _scaled(a, factors, cold) for p, a in table.items()}
        if side is not None and coat is None:
            for own in side.grips:
                if own.polymer in grip:
                    grip[own.polymer] = _own(grip[own.polymer], own)
        highest = _lowest_of(base.highest, *((coat.highest,) if coat is not None else ()))
        lowest = coat.lowest if coat is not None and own_bond else base.lowest
        depth = base.texture_depth if side is None else side.depth()
        if side is not None:
            if side.highest is not None:
                highest = _lowest_of(highest, _stated(side.highest))
            use = next((r for r in side.ranges if r.polymer == polymer), None)
            if use is not None and coat is None:
                lowest, highest = _stated(use.lowest), _lowest_of(highest, _stated(use.highest))
        if coat is not None and coat.fills_texture:
            depth = Value(_FILLED * depth.low, _FILLED * depth.typical, _FILLED * depth.high, depth.source)
        return replace(
            base, name=name, grip=grip, highest=highest, lowest=lowest, texture_depth=depth,
            stiffness=coat.stiffness if coat is not None and own_bond else base.stiffness,
            too_strong=() if coat is not None and coat.protects else base.too_strong,
        )  # fmt: skip


def _stated(temperature: float) -> Value:
    return Value(temperature - _EDGE, temperature, temperature + _EDGE, "as its maker states")


def _lowest_of(*values: Value) -> Value:
    return min(values, key=lambda v: v.typical)


def _over(a: Value, b: Value) -> Value:
    """A ratio of two independent figures."""
    return a.times(Value(1.0 / b.high, 1.0 / b.typical, 1.0 / b.low, b.source))


def _scaled(a: Adhesion, factors: list[Value], cold: list[Value]) -> Adhesion:
    if not factors and not cold:
        return a
    fraction = a.cold_fraction.times(*cold)
    capped = Value(min(fraction.low, 1.0), min(fraction.typical, 1.0), min(fraction.high, 1.0), fraction.source)
    return replace(
        a, strength=a.strength.times(*factors), fracture_energy=a.fracture_energy.times(*factors), cold_fraction=capped
    )


def _own(a: Adhesion, own: OwnGrip) -> Adhesion:
    """The grip with the figures of own trials, which know the side as it is."""

    def known(v: Value) -> Value:
        typical = v.typical * own.grip
        return Value(typical / own.within, typical, typical * own.within, own.source)

    peak = a.peak_temperature if own.peak is None else _stated(own.peak)
    return replace(a, strength=known(a.strength), fracture_energy=known(a.fracture_energy), peak_temperature=peak)


def coating_of(key: str) -> Coating | None:
    """The coating of a key; None for none."""
    return coatings()[key] if key else None


def bed_layers_with(bed: Bed, plate: Plate) -> tuple[BedLayer, ...]:
    """The layers of a bed with a plate laid on it: its body takes the place of the layers that lie loose on top.

    Raises
    ------
    InputError
        Where nothing lies loose, or heater or sensor sit in what would be taken off.
    """
    loose = next((n + 1 for n, layer in enumerate(bed.layers[:-1]) if not layer.bonded), 0)
    off, rest = bed.layers[:loose], bed.layers[loose:]
    held = [layer.name for layer in off if layer.name in (bed.heater.layer, bed.sensor.layer)]
    if held:
        raise InputError(f"Heater or sensor sit in {held[0]}: a plate cannot take its place.")
    if not off:
        raise InputError(
            "Nothing lies loose on this bed: say in Rig which layer the plate lies on, by a joint that is not bonded."
        )
    taken: set[object] = {layer.key for layer in rest}
    layers: list[BedLayer] = []
    body = plate.of_library()
    thickest = max(range(len(body.layers)), key=lambda n: body.layers[n][1])
    for n, (material, thickness, joint) in enumerate(body.layers):
        kind, name = joint_kinds()[joint], bed_materials()[material].name
        thick = plate.thickness if plate.thickness is not None and n == thickest else thickness
        key = free_key(f"{plate.key}-{material}", taken)
        taken.add(key)
        layers.append(
            BedLayer(
                key=key, name=_free_name(f"{plate.name}, {name[0].lower()}{name[1:]}", [v.name for v in (*layers, *rest)]),
                material=material, thickness=thick, joint=joint, contact_resistance=kind.resistance.typical, bonded=kind.bonded,
            )
        )  # fmt: skip
    return (*layers, *rest)


def _free_name(name: str, taken: list[str]) -> str:
    short, number = name[:60], 2
    while short in taken:
        short, number = f"{name[:56]} {number}", number + 1
    return short
