"""The machine as data: room, chamber, bed stack, heater, sensor, control and limits. SI and kelvin."""

from __future__ import annotations

from typing import Literal, Self

from pydantic import Field, model_validator

from mandorla.core.materials.library_data import bed_materials
from mandorla.core.model_base import Model
from mandorla.core.quantity_field import quantity


class OwnProperties(Model):
    """Properties of a layer the user knows better than the library."""

    conductivity: float = quantity("conductivity", 0.005, 500.0, "Conductivity")
    density: float = quantity("density", 1.0, 20000.0, "Density")
    specific_heat: float = quantity("specific_heat", 50.0, 5000.0, "Specific heat")
    emissivity: float = quantity("ratio", 0.01, 1.0, "Emissivity")
    rating: float = quantity("temperature", 300.0, 1500.0, "Rated to")
    modulus: float = quantity("stress", 1e4, 5e11, "Young's modulus", default=7.1e10)
    poisson: float = quantity("ratio", 0.0, 0.49, "Poisson's ratio", default=0.33)
    expansion: float = quantity("expansion", 0.0, 4e-4, "Thermal expansion", default=2.35e-5)


class BedLayer(Model):
    """One layer of the bed stack; ``contact_resistance`` is the joint to the next layer below (m²K/W)."""

    name: str = Field(min_length=1, max_length=60, title="Name")
    material: str = Field(title="Material")
    thickness: float = quantity("length", 1e-5, 0.3, "Thickness")
    contact_resistance: float = quantity("contact_resistance", 0.0, 1.0, "Joint below", default=0.0)
    bonded: bool = Field(default=True, title="Bonded to the layer below")
    own: OwnProperties | None = Field(default=None, title="Own properties")

    @model_validator(mode="after")
    def _known_material(self) -> Self:
        if self.own is None and self.material not in bed_materials():
            raise ValueError(f"material “{self.material}” is not in the library: {', '.join(sorted(bed_materials()))}")
        return self

    def properties(self) -> OwnProperties:
        """The figures to compute with: own ones, or the library's typical ones."""
        if self.own is not None:
            return self.own
        m = bed_materials()[self.material]
        return OwnProperties(
            conductivity=m.conductivity.typical,
            density=m.density.typical,
            specific_heat=m.specific_heat.typical,
            emissivity=m.emissivity.typical,
            rating=m.rating.typical,
            modulus=m.modulus.typical,
            poisson=m.poisson.typical,
            expansion=m.expansion.typical,
        )


class Heater(Model):
    """The bed heater: the layer that carries it, its heated area and its full power (W)."""

    layer: str = Field(title="In layer")
    width: float = quantity("large_length", 0.02, 3.0, "Heated width")
    depth: float = quantity("large_length", 0.02, 3.0, "Heated depth")
    power: float = quantity("power", 1.0, 20000.0, "Full power")
    mains: bool = Field(default=True, title="Mains voltage")


class Sensor(Model):
    """The bed sensor: layer, depth in it (0 top, 1 bottom), reading minus truth (K), time constant (s)."""

    layer: str = Field(title="In layer")
    depth_fraction: float = quantity("fraction", 0.0, 1.0, "Depth in layer", default=0.5)
    bias: float = quantity("temperature_difference", -50.0, 50.0, "Reads high by", default=0.0)
    time_constant: float = quantity("time_constant", 0.0, 600.0, "Time constant", default=5.0)


class Control(Model):
    """How the bed is regulated."""

    kind: Literal["steady", "on-off"] = Field(default="steady", title="Regulation")
    proportional_band: float = quantity("temperature_difference", 0.5, 100.0, "Proportional band", default=6.0)
    integral_time: float = quantity("time_constant", 5.0, 5000.0, "Integral time", default=150.0)
    hysteresis: float = quantity("temperature_difference", 0.1, 20.0, "Hysteresis", default=1.0)


class Fuse(Model):
    """A thermal fuse: the layer it is clamped to and the temperature at which it opens for good (K)."""

    layer: str = Field(title="On layer")
    rating: float = quantity("temperature", 320.0, 700.0, "Opens at", default=425.15)


class Bed(Model):
    """The heated bed: outline (m), layers from the print surface down, heater, sensor, control, thermal fuses."""

    width: float = quantity("large_length", 0.03, 3.0, "Width")
    depth: float = quantity("large_length", 0.03, 3.0, "Depth")
    layers: tuple[BedLayer, ...] = Field(min_length=1, max_length=16)
    heater: Heater
    sensor: Sensor
    control: Control = Control()
    fuses: tuple[Fuse, ...] = Field(default=(), max_length=4)

    @model_validator(mode="after")
    def _places_exist(self) -> Self:
        names = [layer.name for layer in self.layers]
        if len(set(names)) != len(names):
            raise ValueError("two layers have the same name")
        places = [("heater", self.heater.layer), ("sensor", self.sensor.layer)]
        places += [("thermal fuse", fuse.layer) for fuse in self.fuses]
        for what, place in places:
            if place not in names:
                raise ValueError(f"the {what} sits in layer “{place}”, which is not in the stack: {', '.join(names)}")
        if self.heater.width > self.width * 1.001 or self.heater.depth > self.depth * 1.001:
            raise ValueError(
                f"the heated area ({1e3 * self.heater.width:.0f} × {1e3 * self.heater.depth:.0f} mm) is larger than the "
                f"bed ({1e3 * self.width:.0f} × {1e3 * self.depth:.0f} mm)"
            )
        return self

    @property
    def area(self) -> float:
        """Plan area in m²."""
        return self.width * self.depth

    @property
    def perimeter(self) -> float:
        """Length of the edge in m."""
        return 2.0 * (self.width + self.depth)

    @property
    def power_density(self) -> float:
        """Full power over the heated area in W/m²."""
        return self.heater.power / (self.heater.width * self.heater.depth)

    def layer_index(self, name: str) -> int:
        """Position of a layer, 0 at the print surface."""
        return next(i for i, layer in enumerate(self.layers) if layer.name == name)


class Panel(Model):
    """What the chamber's walls are made of (all six alike in this version)."""

    thickness: float = quantity("length", 0.0003, 0.3, "Panel thickness", default=0.004)
    conductivity: float = quantity("conductivity", 0.01, 400.0, "Panel conductivity", default=0.19)
    density: float = quantity("density", 10.0, 9000.0, "Panel density", default=1180.0)
    specific_heat: float = quantity("specific_heat", 100.0, 3000.0, "Panel specific heat", default=1450.0)
    emissivity: float = quantity("ratio", 0.02, 1.0, "Panel emissivity", default=0.9)


class Chamber(Model):
    """The chamber around the bed, or the open room when ``enclosed`` is false."""

    enclosed: bool = Field(default=True, title="Enclosed")
    width: float = quantity("large_length", 0.1, 5.0, "Inner width", default=0.6)
    depth: float = quantity("large_length", 0.1, 5.0, "Inner depth", default=0.6)
    height: float = quantity("large_length", 0.1, 5.0, "Inner height", default=0.6)
    panel: Panel = Panel()
    air_changes: float = quantity("air_changes", 0.0, 200.0 / 3600, "Leakage and exhaust", default=4.0 / 3600)
    heater_power: float = quantity("power", 0.0, 20000.0, "Chamber heater", default=0.0)
    circulation: float = quantity("air_speed", 0.0, 10.0, "Air speed inside", default=0.0)
    internal_mass: float = quantity("heat_capacity", 0.0, 1e6, "Frame heat capacity", default=6000.0)
    internal_area: float = quantity("area", 0.0, 20.0, "Frame surface", default=0.6)
    machine_heat: float = quantity("power", 0.0, 2000.0, "Heat of motors and electronics", default=30.0)

    @property
    def volume(self) -> float:
        """Inner volume in m³."""
        return self.width * self.depth * self.height

    @property
    def wall_area(self) -> float:
        """Inner surface in m²."""
        return 2.0 * (self.width * self.depth + self.width * self.height + self.depth * self.height)


class Limits(Model):
    """What the machine may be asked for."""

    bed_max: float = quantity("temperature", 300.0, 700.0, "Bed set point limit", default=393.15)
    chamber_max: float = quantity("temperature", 290.0, 600.0, "Chamber limit", default=343.15)
    supply_power: float = quantity("power", 10.0, 50000.0, "Supply limit", default=3000.0)
    layer_margin: float = quantity("temperature_difference", 0.0, 50.0, "Margin below ratings", default=10.0)


class Rig(Model):
    """The whole machine."""

    name: str = Field(min_length=1, max_length=80, title="Name")
    room_temperature: float = quantity("temperature", 223.15, 333.15, "Room temperature", default=295.15)
    draft: float = quantity("air_speed", 0.0, 10.0, "Draft over an open bed", default=0.05)
    bed: Bed
    chamber: Chamber = Chamber()
    limits: Limits = Limits()

    @model_validator(mode="after")
    def _bed_fits(self) -> Self:
        c = self.chamber
        if c.enclosed and (self.bed.width > c.width or self.bed.depth > c.depth):
            raise ValueError(
                f"the bed ({1e3 * self.bed.width:.0f} × {1e3 * self.bed.depth:.0f} mm) does not fit into the chamber "
                f"({1e3 * c.width:.0f} × {1e3 * c.depth:.0f} mm)"
            )
        return self
