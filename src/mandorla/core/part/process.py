"""How the part is printed: material, plate surface and the settings that decide time, mass and section."""

from __future__ import annotations

from dataclasses import replace
from typing import Final, Literal, Self

from pydantic import Field, field_validator, model_validator

from mandorla.core.materials.library_data import Polymer, polymers
from mandorla.core.materials.plate_library import PlateSurface, coatings, plate_surfaces, side_states
from mandorla.core.materials.values import Value
from mandorla.core.model_base import Model
from mandorla.core.part.first_layer import FirstLayer
from mandorla.core.part.plates import MOST_PLATES, OnTop, Plate, SideName, coating_of
from mandorla.core.quantity_field import quantity

_MELT: Final = 8.0  # K to which the melt leaves the nozzle at its set point


class OwnPolymer(Model):
    """What the user knows better about a polymer than the library: its figures replace the library's, with ``uncertainty`` as their
    90 % range; ``grip`` is a factor on the library's grip, from own trials, known to a factor of ``grip_within``."""

    name: str = Field(min_length=1, max_length=60, title="Name", default="Own polymer")
    modulus: float = quantity("stress", 1e7, 5e10, "Young's modulus")
    expansion: float = quantity("expansion", 1e-6, 4e-4, "Thermal expansion")
    glass_transition: float = quantity("temperature", 250.0, 700.0, "Glass transition")
    stress_free_temperature: float = quantity("temperature", 250.0, 750.0, "No stress above")
    strength: float = quantity("stress", 1e5, 5e8, "Strength between layers")
    density: float = quantity("density", 400.0, 3000.0, "Density")
    grip: float = quantity("ratio", 0.05, 20.0, "Grip over the library's", default=1.0)
    grip_within: float = quantity("ratio", 1.02, 4.0, "Grip known to a factor of", default=2.0)
    uncertainty: float = quantity("fraction", 0.0, 0.9, "Others known to within ±", default=0.1)


def own_polymer(key: str) -> OwnPolymer:
    """The library's typical figures of a polymer, to be changed."""
    p = polymers()[key]
    return OwnPolymer(
        name=f"{p.name}, own figures", modulus=p.modulus.typical, expansion=p.expansion.typical,
        glass_transition=p.glass_transition.typical, stress_free_temperature=p.stress_free_temperature.typical,
        strength=p.strength.typical, density=p.density.typical,
    )  # fmt: skip


class Process(Model):
    """Print settings (SI)."""

    polymer: str = Field(default="asa", title="Polymer")
    surface: str = Field(default="polyetherimide_textured", title="Plate surface")
    plates: tuple[Plate, ...] = Field(default=(), max_length=MOST_PLATES, title="Plates at hand")
    plate: str = Field(default="", max_length=60, title="Plate")
    side: SideName = Field(default="front", title="Side up")
    coating: str = Field(default="", title="Coating")
    plate_state: str = Field(default="clean", title="State of the plate")
    nozzle: float = quantity("length", 0.0001, 0.003, "Nozzle", default=0.0006)
    layer_height: float = quantity("length", 0.00005, 0.002, "Layer height", default=0.0003)
    line_width: float = quantity("length", 0.0001, 0.004, "Line width", default=0.00066)
    nozzle_temperature: float | None = quantity("temperature", 420.0, 770.0, "Nozzle temperature", default=None)
    nozzle_first: float | None = quantity("temperature", 420.0, 770.0, "Nozzle, first layer", default=None)
    speed: float = quantity("speed", 0.001, 1.0, "Speed", default=0.08)
    first_speed: float = quantity("speed", 0.001, 1.0, "Speed of the first layer", default=0.03)
    acceleration: float = quantity("acceleration", 0.05, 100.0, "Acceleration", default=4.0)
    first_acceleration: float | None = quantity("acceleration", 0.05, 100.0, "Acceleration, first layer", default=None)
    flow_limit: float = quantity("volume_flow", 1e-10, 2e-7, "Flow limit", default=16e-9)
    overhead: float = quantity("fraction", 0.0, 3.0, "Moves without printing", default=0.15)
    minimum_layer_time: float = quantity("time_constant", 0.0, 600.0, "Shortest layer time", default=8.0)
    walls: int = Field(default=3, ge=0, le=50, title="Walls", json_schema_extra={"kind": "count"})
    solid_layers: int = Field(default=4, ge=0, le=200, title="Solid layers", json_schema_extra={"kind": "count"})
    infill: float = quantity("fraction", 0.0, 1.0, "Infill", default=0.25)
    brim: float = quantity("length", 0.0, 0.05, "Brim width", default=0.0)
    raft: float = quantity("length", 0.0, 0.01, "Raft thickness", default=0.0)
    raft_margin: float = quantity("length", 0.0, 0.05, "Raft beyond the part", default=0.006)
    draft_shield: bool = Field(default=False, title="Draft shield around the part")
    fan_from: float = quantity("length", 0.0, 0.5, "Fan off below a height of", default=0.0)
    linked: bool = Field(default=False, title="One copy lost ruins all")
    first: FirstLayer | None = Field(default=None, title="Gap of the first layer")
    own: OwnPolymer | None = Field(default=None, title="Own figures of the polymer")

    @model_validator(mode="after")
    def _fits_together(self) -> Self:
        if self.polymer not in polymers():
            raise ValueError(f"polymer “{self.polymer}” is not in the library: {', '.join(sorted(polymers()))}")
        if self.surface not in plate_surfaces():
            raise ValueError(f"surface “{self.surface}” is not in the library: {', '.join(sorted(plate_surfaces()))}")
        self._check_plate()
        if self.layer_height > self.line_width:
            raise ValueError(
                f"the layer height ({1e3 * self.layer_height:g} mm) is larger than the line width "
                f"({1e3 * self.line_width:g} mm)"
            )
        return self

    def _check_plate(self) -> None:
        """Raises ValueError in words where plate, side, coating and polymer do not go together."""
        keys = [p.key for p in self.plates]
        if len(set(keys)) < len(keys):
            raise ValueError("two plates have one key")
        if self.plate and self.plate not in keys:
            raise ValueError(f"there is no plate “{self.plate}” at hand")
        chosen = self.own_plate
        if chosen is not None and chosen.side(self.side) is None:
            raise ValueError(f"“{chosen.name}” has no {self.side} to print on")
        if self.coating and self.coating not in coatings():
            raise ValueError(f"there is no coating “{self.coating}”: {', '.join(sorted(coatings()))}")
        if self.plate_state not in side_states():
            raise ValueError(f"there is no state “{self.plate_state}”: {', '.join(sorted(side_states()))}")
        refused = self.on_top.refused(self.polymer)
        if refused:
            raise ValueError(refused)

    @property
    def own_plate(self) -> Plate | None:
        """The plate of one's own that is printed on; None where it is the library's surface as it is."""
        return next((p for p in self.plates if p.key == self.plate), None)

    @property
    def surface_key(self) -> str:
        """The class of the surface that is up."""
        return self.on_top.surface.key

    @property
    def on_top(self) -> OnTop:
        """What lies under the part."""
        chosen = self.own_plate
        side = None if chosen is None else chosen.side(self.side)
        surface = plate_surfaces()[self.surface] if side is None else side.of_library()
        return OnTop(surface, side, coating_of(self.coating), self.plate_state)

    @property
    def plate_name(self) -> str:
        """What lies under the part, in words."""
        chosen, on = self.own_plate, self.on_top
        name = on.surface.name if chosen is None else f"{chosen.name}, {self.side}"
        if on.coating is not None:
            name += f", {on.coating.name[0].lower()}{on.coating.name[1:]}"
        return name if self.plate_state == "clean" else f"{name}, {side_states()[self.plate_state].name.lower()}"

    @property
    def full_speed_from(self) -> float:
        """Length (m) of a line on which the first layer reaches its speed: shorter ones, corners and letters are laid more
        slowly."""
        return self.first_speed**2 / (self.first_acceleration or self.acceleration)

    @property
    def reach(self) -> float:
        """Width (m) that grips beyond the part: of the brim, or of the raft."""
        return max(self.brim, self.raft_margin) if self.raft > 0.0 else self.brim

    def material(self) -> Polymer:
        """The polymer to compute with: the library's, with own figures and the nozzle's temperature where they are stated."""
        p, own = polymers()[self.polymer], self.own
        if self.nozzle_temperature is not None:
            T = self.nozzle_temperature
            p = replace(p, deposition_temperature=Value(T - _MELT, T, T + _MELT, "as the nozzle is set"))
        if own is None:
            return p

        def value(typical: float, spread: float) -> Value:
            return Value(typical * (1.0 - spread), typical, typical * (1.0 + spread), "own figure")

        def scaled(library: Value, factor: float) -> Value:
            return Value(library.low * factor, library.typical * factor, library.high * factor, library.source)

        def temperature(typical: float, library: Value) -> Value:
            return Value(
                typical - (library.typical - library.low),
                typical,
                typical + (library.high - library.typical),
                "own figure",
            )

        return replace(
            p, name=own.name, modulus=value(own.modulus, own.uncertainty), expansion=value(own.expansion, own.uncertainty),
            strength=value(own.strength, own.uncertainty), density=value(own.density, 0.0),
            joint_energy=scaled(p.joint_energy, (own.strength / p.strength.typical) ** 2),
            glass_transition=temperature(own.glass_transition, p.glass_transition),
            stress_free_temperature=temperature(own.stress_free_temperature, p.stress_free_temperature),
        )  # fmt: skip

    def plate_surface(self) -> PlateSurface:
        """The plate surface as it is, its grip on this polymer as own trials say."""
        surface, own = self.on_top.with_grip(self.polymer, self.plate_name), self.own
        if own is None or self.polymer not in surface.grip:
            return surface
        grip = surface.grip[self.polymer]

        def scaled(v: Value) -> Value:
            typical = v.typical * own.grip
            return Value(typical / own.grip_within, typical, typical * own.grip_within, "own trials")

        known = replace(grip, strength=scaled(grip.strength), fracture_energy=scaled(grip.fracture_energy))
        return replace(surface, grip={**surface.grip, self.polymer: known})


class Placement(Model):
    """Where the part stands: its middle relative to the middle of the bed (m), turned about the vertical (degrees); ``down`` is the
    direction of the drawing that points at the plate; copies stand in a grid with ``gap`` (m) between their boxes."""

    x: float = quantity("large_length", -2.0, 2.0, "Right of the middle", default=0.0)
    y: float = quantity("large_length", -2.0, 2.0, "Behind the middle", default=0.0)
    turn: Literal[0, 90, 180, 270] = Field(default=0, title="Turned by")
    down: tuple[float, float, float] = Field(default=(0.0, 0.0, -1.0), title="Lies on")
    columns: int = Field(default=1, ge=1, le=40, title="Copies side by side", json_schema_extra={"kind": "count"})
    rows: int = Field(default=1, ge=1, le=40, title="Copies one behind another", json_schema_extra={"kind": "count"})
    gap: float = quantity("length", 0.0, 0.5, "Gap between copies", default=0.008)

    @field_validator("down")
    @classmethod
    def _points_somewhere(cls, value: tuple[float, float, float]) -> tuple[float, float, float]:
        length = sum(v * v for v in value) ** 0.5
        if not 1e-6 < length < 1e6:
            raise ValueError("lies on: a direction with a length is needed")
        return (value[0] / length, value[1] / length, value[2] / length)


class MeasuredCorner(Model):
    """What a feeler found under one corner of the printed part on a flat table."""

    name: str = Field(min_length=1, max_length=40, title="Corner")
    lift: float = quantity("length", 0.0, 0.2, "Measured lift", default=0.0)


class MeasuredPart(Model):
    """The printed part as measured: corner lifts, and a height map of its underside (a matrix as CSV, front row first)."""

    corners: tuple[MeasuredCorner, ...] = Field(default=(), max_length=40)
    map: str = Field(default="", max_length=200, title="Height map")
    map_unit: Literal["mm", "µm", "in"] = Field(default="mm", title="Numbers are")


class PartSource(Model):
    """The imported mesh: its file inside the project, the unit its numbers are in (m per file unit), and a scale on top.

    ``gcode`` names the G-code that prints it, if there is one; ``filament`` m is the diameter that its lengths are of.
    """

    name: str = Field(min_length=1, max_length=200, title="Part")
    file: str = Field(min_length=1, max_length=200, title="File")
    unit_scale: float = quantity("ratio", 1e-6, 1.0, "Metres per file unit", default=0.001)
    scale: float = quantity("fraction", 0.01, 100.0, "Scale", default=1.0)
    gcode: str = Field(default="", max_length=200, title="G-code")
    filament: float = quantity("length", 0.001, 0.004, "Filament", default=0.00175)
    placement: Placement = Placement()
    measured: MeasuredPart | None = Field(default=None, title="Measured part")

    @property
    def files(self) -> tuple[str, ...]:
        """Names of the imported originals that it needs."""
        measured = self.measured.map if self.measured is not None else ""
        return tuple(name for name in (self.file, self.gcode, measured) if name)
