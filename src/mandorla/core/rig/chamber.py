"""The chamber as data: six panels of any build, air paths, door, heater, what stands inside. SI and kelvin."""

from __future__ import annotations

from typing import Final, Literal, Self

from pydantic import Field, model_validator

from mandorla.core.materials.library_data import wall_builds, wall_materials
from mandorla.core.model_base import Model
from mandorla.core.quantity_field import quantity

SIDES: Final = ("front", "back", "left", "right", "floor", "roof")
_GAP_FLOOR: Final = 1.25  # W/m²K, least conduction and convection across a closed air gap (ISO 6946:2017, table D.1)
_GAP_MEAN: Final = 320.0  # K at which the radiation across it is taken
_SIGMA: Final = 5.670374419e-8


class PanelLayer(Model):
    """One layer of a panel."""

    material: str = Field(title="Material")
    thickness: float = quantity("length", 1e-5, 0.3, "Thickness")

    @model_validator(mode="after")
    def _known(self) -> Self:
        if self.material not in wall_materials():
            raise ValueError(f"there is no wall material “{self.material}”: {', '.join(sorted(wall_materials()))}")
        return self

    @property
    def resistance(self) -> float:
        """Thermal resistance in m²K/W; an air gap by ISO 6946 with the radiation across it."""
        m = wall_materials()[self.material]
        if self.material == "air_gap":
            e = m.emissivity.typical
            radiation = 4.0 * _SIGMA * _GAP_MEAN**3 / (2.0 / e - 1.0)
            return 1.0 / (max(_GAP_FLOOR, m.conductivity.typical / self.thickness) + radiation)
        return self.thickness / m.conductivity.typical

    @property
    def capacity(self) -> float:
        """Heat capacity in J/m²K."""
        m = wall_materials()[self.material]
        return self.thickness * m.density.typical * m.specific_heat.typical


class Panel(Model):
    """One panel of the chamber: layers from the inside out, and whether reflective foil lines it inside."""

    layers: tuple[PanelLayer, ...] = Field(min_length=1, max_length=5)
    foil: bool = Field(default=False, title="Reflective foil inside")

    @property
    def emissivity_inside(self) -> float:
        """Emissivity of the face that the bed sees."""
        return wall_materials()["reflective_foil" if self.foil else self.layers[0].material].emissivity.typical

    @property
    def emissivity_outside(self) -> float:
        """Emissivity of the face that the room sees."""
        return wall_materials()[self.layers[-1].material].emissivity.typical

    @property
    def resistance(self) -> float:
        """Thermal resistance from face to face in m²K/W."""
        return sum(layer.resistance for layer in self.layers)

    @property
    def rating(self) -> float:
        """Highest temperature (K) that its inner layer stands."""
        return wall_materials()[self.layers[0].material].rating.typical


def panel_of(build: str) -> Panel:
    """A panel of one of the library's usual builds."""
    return Panel(layers=tuple(PanelLayer(material=m, thickness=t) for m, t in wall_builds()[build].layers))


class Panels(Model):
    """The six panels."""

    front: Panel
    back: Panel
    left: Panel
    right: Panel
    floor: Panel
    roof: Panel

    def each(self) -> tuple[Panel, ...]:
        """The panels in the order of ``SIDES``."""
        return (self.front, self.back, self.left, self.right, self.floor, self.roof)


def panels_of(build: str) -> Panels:
    """Six panels of one build."""
    panel = panel_of(build)
    return Panels(front=panel, back=panel, left=panel, right=panel, floor=panel, roof=panel)


class Door(Model):
    """The door's opening (m), and when it stands open during a heat-up (s from its start)."""

    width: float = quantity("large_length", 0.05, 3.0, "Door width", default=0.45)
    height: float = quantity("large_length", 0.05, 3.0, "Door height", default=0.4)
    opens_at: float = quantity("duration", 0.0, 86400.0, "Door opens after", default=0.0)
    open_for: float = quantity("duration", 0.0, 86400.0, "Door stays open for", default=0.0)


class Chamber(Model):
    """The chamber around the bed, or the open room when ``enclosed`` is false."""

    enclosed: bool = Field(default=True, title="Enclosed")
    width: float = quantity("large_length", 0.1, 5.0, "Inner width", default=0.6)
    depth: float = quantity("large_length", 0.1, 5.0, "Inner depth", default=0.6)
    height: float = quantity("large_length", 0.1, 5.0, "Inner height", default=0.6)
    bed_height: float = quantity("fraction", 0.05, 0.9, "Bed stands at", default=0.3)
    panels: Panels = Field(default_factory=lambda: panels_of("single"))
    air_changes: float = quantity("air_changes", 0.0, 200.0 / 3600, "Leakage", default=4.0 / 3600)
    vent_area: float = quantity("area", 0.0, 0.5, "Vents, free area", default=0.0)
    exhaust_flow: float = quantity("air_flow", 0.0, 0.5, "Exhaust fan, full", default=0.0)
    exhaust_fraction: float = quantity("fraction", 0.0, 1.0, "Exhaust runs at", default=0.0)
    exhaust_by_air: bool = Field(default=False, title="Exhaust only runs above")
    exhaust_above: float = quantity("temperature", 280.0, 500.0, "Chamber air it keeps down to", default=318.15)
    door: Door = Door()
    heater_power: float = quantity("power", 0.0, 20000.0, "Chamber heater", default=0.0)
    heater_air: Literal["lower", "upper"] = Field(default="lower", title="Chamber heater warms")
    sensor_air: Literal["lower", "upper"] = Field(default="upper", title="Chamber sensor in")
    sensor_bias: float = quantity("temperature_difference", -20.0, 20.0, "Chamber sensor reads high by", default=0.0)
    sensor_time_constant: float = quantity("time_constant", 0.0, 600.0, "Chamber sensor time constant", default=20.0)
    circulation: float = quantity("air_speed", 0.0, 10.0, "Air speed inside", default=0.0)
    circulation_flow: float = quantity("air_flow", 0.0, 1.0, "Circulation between top and bottom", default=0.0)
    internal_mass: float = quantity("heat_capacity", 0.0, 1e6, "Frame heat capacity", default=6000.0)
    internal_area: float = quantity("area", 0.0, 20.0, "Frame surface", default=0.6)

    @property
    def volume(self) -> float:
        """Inner volume in m³."""
        return self.width * self.depth * self.height

    def panel_areas(self) -> tuple[float, ...]:
        """Inner areas in m² in the order of ``SIDES``."""
        front, side, plan = self.width * self.height, self.depth * self.height, self.width * self.depth
        return (front, front, side, side, plan, plan)
