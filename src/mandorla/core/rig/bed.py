"""The bed as data: layers with their outlines and joints, heater, sensor, control, fuses, holes and brackets. SI and kelvin."""

from __future__ import annotations

import math
import re
from collections.abc import Collection
from typing import Final, Literal, Self

from pydantic import Field, model_validator

from mandorla.core.materials.library_data import bed_materials, joint_kinds
from mandorla.core.model_base import Model
from mandorla.core.quantity_field import quantity
from mandorla.core.rig.air_gap import AirGap

OWN_JOINT: Final = "own"
REFERENCE: Final = 293.15  # K at which a heater's power is stated

Shape = Literal["rectangle", "round"]


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
    uncertainty: float = quantity("fraction", 0.0, 0.9, "Known to within ±", default=0.1)


class Outline(Model):
    """A plan outline: size and middle (m) from the bed's middle; a round one has its axes along width and depth."""

    shape: Shape = Field(default="rectangle", title="Shape")
    width: float = quantity("large_length", 0.005, 3.0, "Outline width")
    depth: float = quantity("large_length", 0.005, 3.0, "Outline depth")
    x: float = quantity("position", -1.5, 1.5, "Middle, to the right", default=0.0)
    y: float = quantity("position", -1.5, 1.5, "Middle, to the back", default=0.0)

    @property
    def area(self) -> float:
        """Area in m²."""
        return self.width * self.depth * (math.pi / 4.0 if self.shape == "round" else 1.0)


def free_key(name: str, taken: Collection[object]) -> str:
    """A key made from a name, another one where it is taken."""
    stem = re.sub(r"[^\w]+", "-", name.lower()).strip("-")[:50] or "layer"
    found, number = stem, 2
    while found in taken:
        found, number = f"{stem}-{number}", number + 1
    return found


class BedLayer(Model):
    """One layer of the bed stack; ``contact_resistance`` is the joint to the next layer below (m²K/W), ``joint`` its kind.

    ``outline`` is the layer's own where it differs from the bed's.
    """

    key: str = Field(default="", max_length=60)
    name: str = Field(min_length=1, max_length=60, title="Name")
    material: str = Field(title="Material")
    thickness: float = quantity("length", 1e-5, 0.3, "Thickness")
    outline: Outline | None = Field(default=None, title="Own outline")
    joint: str = Field(default=OWN_JOINT, title="Kind of joint below")
    contact_resistance: float = quantity("contact_resistance", 0.0, 1.0, "Joint below", default=0.0)
    bonded: bool = Field(default=True, title="Bonded to the layer below")
    own: OwnProperties | None = Field(default=None, title="Own properties")

    @model_validator(mode="after")
    def _known_material(self) -> Self:
        if self.own is None and self.material not in bed_materials():
            raise ValueError(f"material “{self.material}” is not in the library: {', '.join(sorted(bed_materials()))}")
        if self.joint != OWN_JOINT and self.joint not in joint_kinds():
            raise ValueError(f"there is no joint “{self.joint}”: {', '.join([OWN_JOINT, *sorted(joint_kinds())])}")
        return self

    def conductivity_range(self) -> tuple[float, float]:
        """Factors on the conductivity that span its 90 % range: the library's, or what is stated for own properties."""
        if self.own is not None:
            return 1.0 - self.own.uncertainty, 1.0 + self.own.uncertainty
        k = bed_materials()[self.material].conductivity
        return k.low / k.typical, k.high / k.typical

    def joint_range(self) -> tuple[float, float]:
        """Factors on the contact resistance that span its 90 % range: the library's for a kind of joint, half to double else."""
        if self.joint == OWN_JOINT:
            return 0.5, 2.0
        r = joint_kinds()[self.joint].resistance
        return r.low / r.typical, r.high / r.typical

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


class Zone(Model):
    """One zone of a heater: its outline and its share of the power (any measure, shares are compared with each other)."""

    outline: Outline
    share: float = quantity("ratio", 0.0, 100.0, "Share of power", default=1.0)


class Heater(Model):
    """The bed heater: the layer that carries it, where it heats, its full power (W, cold).

    Without ``zones`` the heated area is one rectangle ``width`` x ``depth``; ``power_map`` (rows from the back, relative densities)
    weights it. The resistance grows by ``resistance_coefficient`` per kelvin above 20 °C, so the power falls.
    """

    layer: str = Field(title="In layer")
    kind: Literal["mat", "trace"] = Field(default="mat", title="Kind")
    width: float = quantity("large_length", 0.02, 3.0, "Heated width")
    depth: float = quantity("large_length", 0.02, 3.0, "Heated depth")
    power: float = quantity("power", 1.0, 20000.0, "Full power")
    mains: bool = Field(default=True, title="Mains voltage")
    voltage: float = quantity("voltage", 3.0, 480.0, "Voltage", default=230.0)
    resistance_coefficient: float = quantity("per_kelvin", -0.001, 0.007, "Resistance rises by", default=0.0)
    zones: tuple[Zone, ...] = Field(default=(), max_length=12)
    power_map: tuple[tuple[float, ...], ...] = Field(default=(), max_length=64, title="Power density map")

    @model_validator(mode="after")
    def _shares(self) -> Self:
        if self.zones and sum(z.share for z in self.zones) <= 0.0:
            raise ValueError("the shares of the heater's zones are all zero")
        rows = self.power_map
        if rows and (len({len(r) for r in rows}) != 1 or not rows[0] or len(rows[0]) > 64):
            raise ValueError("the rows of the power density map must be of one length, 1 to 64")
        if rows and (min(min(r) for r in rows) < 0.0 or max(max(r) for r in rows) <= 0.0):
            raise ValueError("densities of the power map must not be negative, and not all zero")
        return self

    def outlines(self) -> tuple[Outline, ...]:
        """The outlines that are heated."""
        return tuple(z.outline for z in self.zones) or (Outline(width=self.width, depth=self.depth),)

    @property
    def area(self) -> float:
        """Heated area in m² (zones that overlap count twice)."""
        return sum(o.area for o in self.outlines())

    @property
    def current(self) -> float:
        """Current at full power, cold, in A."""
        return self.power / self.voltage


class Sensor(Model):
    """The bed sensor: kind, layer, depth in it (0 top, 1 bottom), place in plan (m), reading minus truth (K), time constant (s)."""

    kind: Literal["thermistor", "platinum", "thermocouple"] = Field(default="thermistor", title="Sensor is a")
    layer: str = Field(title="In layer")
    depth_fraction: float = quantity("fraction", 0.0, 1.0, "Depth in layer", default=0.5)
    x: float = quantity("position", -1.5, 1.5, "From the middle, to the right", default=0.0)
    y: float = quantity("position", -1.5, 1.5, "From the middle, to the back", default=0.0)
    bias: float = quantity("temperature_difference", -50.0, 50.0, "Sensor reads high by", default=0.0)
    time_constant: float = quantity("time_constant", 0.0, 600.0, "Time constant", default=5.0)


class Control(Model):
    """How the bed is regulated; ``power_limit`` is the largest share of full power it may use."""

    kind: Literal["steady", "on-off"] = Field(default="steady", title="Regulation")
    proportional_band: float = quantity("temperature_difference", 0.5, 100.0, "Proportional band", default=6.0)
    integral_time: float = quantity("time_constant", 5.0, 5000.0, "Integral time", default=150.0)
    derivative_time: float = quantity("time_constant", 0.0, 300.0, "Derivative time", default=0.0)
    hysteresis: float = quantity("temperature_difference", 0.1, 20.0, "Hysteresis", default=1.0)
    power_limit: float = quantity("fraction", 0.05, 1.0, "Power limit", default=1.0)


class ContactSpot(Model):
    """A hole through a layer, or a bracket on it that carries ``conductance`` (W/K) away to the frame; places in m."""

    kind: Literal["hole", "bracket"] = Field(default="bracket", title="Kind")
    layer: str = Field(title="Layer")
    x: float = quantity("position", -1.5, 1.5, "From the middle, to the right", default=0.0)
    y: float = quantity("position", -1.5, 1.5, "From the middle, to the back", default=0.0)
    diameter: float = quantity("large_length", 0.002, 0.5, "Diameter", default=0.03)
    conductance: float = quantity("conductance", 0.0, 20.0, "Carries away", default=0.1)


class HoldMagnet(Model):
    """A magnet set into the bed below a loose plate: its place (m) and how hard (N) it pulls on the plate that lies on it."""

    x: float = quantity("position", -1.5, 1.5, "From the middle, to the right")
    y: float = quantity("position", -1.5, 1.5, "From the middle, to the back")
    diameter: float = quantity("length", 0.002, 0.2, "Diameter", default=0.01)
    force: float = quantity("force", 0.05, 2000.0, "Pulls with", default=5.0)


class Fuse(Model):
    """A thermal fuse: the layer it is clamped to and the temperature at which it opens for good (K)."""

    layer: str = Field(title="On layer")
    rating: float = quantity("temperature", 320.0, 700.0, "Opens at", default=425.15)


class Bed(Model):
    """The heated bed: outline (m), layers from the print surface down, heater, sensor, control, fuses, holes and brackets."""

    shape: Shape = Field(default="rectangle", title="Shape")
    width: float = quantity("large_length", 0.03, 3.0, "Width")
    depth: float = quantity("large_length", 0.03, 3.0, "Depth")
    layers: tuple[BedLayer, ...] = Field(min_length=1, max_length=16)
    heater: Heater
    sensor: Sensor
    control: Control = Control()
    fuses: tuple[Fuse, ...] = Field(default=(), max_length=4)
    spots: tuple[ContactSpot, ...] = Field(default=(), max_length=24)
    magnets: tuple[HoldMagnet, ...] = Field(default=(), max_length=64)
    mounts: Literal["free", "corners", "rim"] = Field(default="free", title="Held at")
    air_gap: AirGap | None = Field(default=None, title="Air below the loose plate")
    screw_pitch: float = quantity("length", 0.0, 0.005, "Levelling screws rise a turn by", default=0.0)
    clockwise_raises: bool = Field(default=False, title="Turned clockwise, seen from above, they raise the bed")
    moves: bool = Field(default=False, title="The bed moves while printing")
    earthed: bool = Field(default=True, title="Plate is earthed")
    clips: Literal["as the joint says", "at the plate's edge", "beside the part"] = Field(
        default="as the joint says", title="Clips on a loose plate"
    )

    @model_validator(mode="before")
    @classmethod
    def _layer_keys(cls, data: object) -> object:
        """Layers without a key get one from their name; what sits in a layer may name it, and keeps its key from then on."""
        layers = data.get("layers") if isinstance(data, dict) else None
        if (
            not isinstance(data, dict)
            or not isinstance(layers, list | tuple)
            or not all(isinstance(v, dict | BedLayer) for v in layers)
        ):
            return data
        plain = [v.model_dump() if isinstance(v, BedLayer) else dict(v) for v in layers]
        if not all(isinstance(v.get(name, ""), str) for v in plain for name in ("key", "name")):
            return data  # the fields themselves refuse it
        taken = {v.get("key") for v in plain}
        for v in plain:
            if not v.get("key"):
                v["key"] = free_key(str(v.get("name", "layer")), taken)
                taken.add(v["key"])
        keys = {v["key"] for v in plain}
        by_name = {v.get("name"): v["key"] for v in plain}

        def placed(item: object) -> object:
            found = item.model_dump() if isinstance(item, Model) else item
            if isinstance(found, dict) and not isinstance(found.get("layer"), str):
                return item
            if isinstance(found, dict) and found.get("layer") not in keys and found.get("layer") in by_name:
                return {**found, "layer": by_name[found["layer"]]}
            return item

        moved = {name: placed(data[name]) for name in ("heater", "sensor") if name in data}
        for name in ("fuses", "spots"):
            if isinstance(data.get(name), list | tuple):
                moved[name] = [placed(item) for item in data[name]]
        return {**data, "layers": plain, **moved}

    @model_validator(mode="after")
    def _places_exist(self) -> Self:
        names, keys = [layer.name for layer in self.layers], [layer.key for layer in self.layers]
        if len(set(names)) != len(names):
            raise ValueError("two layers have the same name")
        if len(set(keys)) != len(keys):
            raise ValueError("two layers have the same key")
        places = [("heater", self.heater.layer), ("sensor", self.sensor.layer)]
        places += [("thermal fuse", fuse.layer) for fuse in self.fuses]
        places += [(spot.kind, spot.layer) for spot in self.spots]
        for what, place in places:
            if place not in keys:
                raise ValueError(f"the {what} sits in layer “{place}”, which is not in the stack: {', '.join(names)}")
        for outline in self.heater.outlines():
            self._inside("the heated area", outline, self.outline_of(self.layer_index(self.heater.layer)))
        for layer in self.layers:
            if layer.outline is not None:
                self._inside(f"layer “{layer.name}”", layer.outline, self.outline)
        for m in self.magnets:
            if abs(m.x) > self.width / 2 or abs(m.y) > self.depth / 2:
                raise ValueError(f"the magnet at {1e3 * m.x:.0f}, {1e3 * m.y:.0f} mm lies outside the bed")
        if self.air_gap is not None and self.loose_plate is None:
            raise ValueError("no plate lies loose on this bed: there is nothing that air could be below")
        for what, x, y in [("the sensor", self.sensor.x, self.sensor.y)] + [
            (f"the {s.kind} on “{self.layer(s.layer).name}”", s.x, s.y) for s in self.spots
        ]:
            if abs(x) > self.width / 2 or abs(y) > self.depth / 2:
                raise ValueError(f"{what} lies outside the bed ({1e3 * x:.0f}, {1e3 * y:.0f} mm from its middle)")
        return self

    def _inside(self, what: str, inner: Outline, outer: Outline) -> None:
        slack = 1.001
        if (
            abs(inner.x - outer.x) + inner.width / 2 > slack * outer.width / 2
            or abs(inner.y - outer.y) + inner.depth / 2 > slack * outer.depth / 2
        ):
            raise ValueError(
                f"{what} ({1e3 * inner.width:.0f} × {1e3 * inner.depth:.0f} mm) is larger than the {1e3 * outer.width:.0f} × "
                f"{1e3 * outer.depth:.0f} mm that carry it, or reaches over their edge"
            )

    @property
    def outline(self) -> Outline:
        """The bed's outline, within which all layers lie."""
        return Outline(shape=self.shape, width=self.width, depth=self.depth)

    def outline_of(self, index: int) -> Outline:
        """The outline of a layer."""
        return self.layers[index].outline or self.outline

    @property
    def area(self) -> float:
        """Plan area in m²."""
        return self.outline.area

    @property
    def perimeter(self) -> float:
        """Length of the edge in m (an ellipse's by Ramanujan's first formula)."""
        if self.shape == "rectangle":
            return 2.0 * (self.width + self.depth)
        a, b = self.width / 2, self.depth / 2
        return math.pi * (3.0 * (a + b) - math.sqrt((3.0 * a + b) * (a + 3.0 * b)))

    @property
    def power_density(self) -> float:
        """Full power over the heated area in W/m²."""
        return self.heater.power / self.heater.area

    @property
    def loose_plate(self) -> int | None:
        """Position of the lowest layer of the loose plate, above the first joint that is not bonded; None where all is bonded."""
        return next((i for i, layer in enumerate(self.layers[:-1]) if not layer.bonded), None)

    @property
    def mass(self) -> float:
        """Mass of the whole stack in kg."""
        return sum(
            self.outline_of(i).area * layer.thickness * layer.properties().density
            for i, layer in enumerate(self.layers)
        )

    @property
    def height(self) -> float:
        """Thickness of the whole stack in m."""
        return sum(layer.thickness for layer in self.layers)

    def layer_index(self, key: str) -> int:
        """Position of a layer by its key, 0 at the print surface."""
        return next(i for i, layer in enumerate(self.layers) if layer.key == key)

    def layer(self, key: str) -> BedLayer:
        """A layer by its key."""
        return self.layers[self.layer_index(key)]
