"""A machine from its kind and some eight facts: everything else is assumed by kind and size, and said to be.

The builds are usual ones of the trade; what is assumed is an estimate until somebody measures or states it.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping
from typing import Any, Final, Literal, NamedTuple, Self

from pydantic import Field, model_validator

from mandorla.core.materials.plate_library import plate_surfaces
from mandorla.core.model_base import Model
from mandorla.core.quantity_field import quantity
from mandorla.core.rig.bed import Bed, BedLayer, Control, Heater, Sensor
from mandorla.core.rig.chamber import Chamber, panel_of, panels_of
from mandorla.core.rig.model import Limits, Rig

Kind = Literal["open", "closed", "hot"]
ARCHETYPES: Final[dict[Kind, str]] = {
    "open": "Open frame, glass held by clips",
    "closed": "Closed, a spring-steel sheet held by a magnet",
    "hot": "Hot chamber, a sheet clipped on a thick plate",
}
# what is usual for a kind, where a fact is not stated
USUAL: Final[Mapping[Kind, Mapping[str, Any]]] = {
    "open": {"width": 0.22, "depth": 0.22, "plate": 0.003, "bed_max": 373.15, "surface": "bare_glass"},
    "closed": {"width": 0.30, "depth": 0.30, "plate": 0.006, "bed_max": 383.15, "surface": "polyetherimide_textured"},
    "hot": {
        "width": 0.40, "depth": 0.40, "plate": 0.010, "bed_max": 453.15, "chamber_heater": 2000.0, "chamber_max": 393.15,
        "surface": "polyetherimide_smooth",
    },
}  # fmt: skip
USUAL_POLYMER: Final[Mapping[Kind, str]] = {"open": "pla", "closed": "abs", "hot": "pc"}
MAINS: Final = 230.0
_BREAKERS: Final = (10.0, 16.0, 20.0, 25.0, 32.0, 63.0)  # A
_WATTS: Final[Mapping[Kind, float]] = {"open": 4500.0, "closed": 5000.0, "hot": 7000.0}  # W/m² of bed, usual
_ROOM_BESIDE: Final = (0.24, 0.24)  # m that a chamber is wider than its bed
_LIGHT_PLATE: Final = 0.004  # m below which a plate is a carrier, and its machine a small one
_AREA_OF_MAINS: Final = 0.06  # m² from which a bed is usually fed from the mains


class Facts(Model):
    """What somebody knows of a machine at once; 0 stands for what is usual for its kind and size."""

    kind: Kind = Field(default="closed", title="Kind of machine")
    name: str = Field(default="My machine", min_length=1, max_length=80, title="Name")
    width: float = quantity("large_length", 0.05, 2.0, "Bed, width", default=0.30)
    depth: float = quantity("large_length", 0.05, 2.0, "Bed, depth", default=0.30)
    plate: float = quantity("length", 0.001, 0.05, "Aluminium plate, thickness", default=0.006)
    surface: str = Field(default="polyetherimide_textured", title="Printed on")
    heater: float = quantity("power", 0.0, 20000.0, "Bed heater, 0: usual", default=0.0)
    mains: bool | None = Field(default=None, title="Bed heater on mains voltage")
    bed_max: float = quantity("temperature", 310.0, 650.0, "Highest bed set point", default=383.15)
    chamber_width: float = quantity("large_length", 0.0, 4.0, "Chamber, width, 0: usual", default=0.0)
    chamber_depth: float = quantity("large_length", 0.0, 4.0, "Chamber, depth, 0: usual", default=0.0)
    chamber_height: float = quantity("large_length", 0.0, 4.0, "Chamber, height, 0: usual", default=0.0)
    chamber_heater: float = quantity("power", 0.0, 20000.0, "Chamber heater, 0: none", default=0.0)
    chamber_max: float = quantity("temperature", 300.0, 550.0, "Highest chamber temperature", default=343.15)
    room: float = quantity("temperature", 263.15, 323.15, "Room", default=294.15)

    @model_validator(mode="after")
    def _fits_together(self) -> Self:
        if self.surface not in plate_surfaces():
            raise ValueError(f"there is no surface “{self.surface}”: {', '.join(sorted(plate_surfaces()))}")
        for inner, bed, what in ((self.chamber_width, self.width, "width"), (self.chamber_depth, self.depth, "depth")):
            if 0.0 < inner < bed:
                raise ValueError(f"the bed does not fit into a chamber of {1e3 * inner:.0f} mm {what}")
        return self


class Assumption(NamedTuple):
    """Something that was assumed: the path in the project, what, why."""

    path: str
    what: str
    why: str


def _heater(facts: Facts) -> float:
    area = facts.width * facts.depth
    return facts.heater if facts.heater > 0.0 else float(10.0 * round(_WATTS[facts.kind] * area / 10.0))


def _mains(facts: Facts) -> bool:
    return facts.mains if facts.mains is not None else facts.width * facts.depth >= _AREA_OF_MAINS


def _film(surface: str) -> str:
    """The bed material that a surface's film is; empty where the plate itself is printed on."""
    if surface.startswith("polyetherimide"):
        return "polyetherimide_film"
    return ""


def _layers(facts: Facts) -> tuple[BedLayer, ...]:
    plate = BedLayer(
        name="Plate", material="cast_aluminium", thickness=facts.plate, joint="adhesive", contact_resistance=1e-4
    )
    film = _film(facts.surface)
    top: list[BedLayer] = []
    if film:
        top.append(
            BedLayer(name="Print film", material=film, thickness=0.00013, joint="adhesive", contact_resistance=1e-4)
        )
    if facts.kind == "open":
        held = {"joint": "clipped", "contact_resistance": 3e-4, "bonded": False}
        name, material, thickness = (
            ("Sheet", "spring_steel", 0.0005) if film else ("Glass", "borosilicate_glass", 0.003)
        )
        loose = BedLayer(name=name, material=material, thickness=thickness, **held)
        heats = BedLayer(
            name="Heater", material="silicone_mat", thickness=0.0015, joint="adhesive", contact_resistance=2e-4
        )
        return (*top, loose, plate, heats, BedLayer(name="Cork", material="cork", thickness=0.003))
    sheet = BedLayer(
        name="Sheet", material="spring_steel", thickness=0.0006,
        joint="magnetic" if facts.kind == "closed" else "clipped", contact_resistance=3e-4, bonded=False,
    )  # fmt: skip
    if facts.kind == "closed":
        magnet = BedLayer(
            name="Magnet", material="magnet_sheet", thickness=0.0015, joint="adhesive", contact_resistance=1e-4
        )
        mat = BedLayer(
            name="Heater mat", material="silicone_mat", thickness=0.0015, joint="silicone", contact_resistance=2.5e-4
        )
        return (*top, sheet, magnet, plate, mat, BedLayer(name="Foam", material="silicone_foam", thickness=0.006))
    mica = BedLayer(name="Heater", material="mica_laminate", thickness=0.002, joint="laid", contact_resistance=5e-4)
    return (*top, sheet, plate, mica, BedLayer(name="Wool", material="mineral_wool", thickness=0.03))


def machine_of(facts: Facts) -> Rig:
    """A rig of the kind with these facts, without a thermal fuse: which one it may have follows from its set points.

    Raises
    ------
    pydantic.ValidationError
        Where the facts do not make a machine.
    """
    layers = _layers(facts)
    heats = next(layer.name for layer in layers if layer.name.startswith("Heater"))
    mains = _mains(facts)
    bed = Bed(
        width=facts.width, depth=facts.depth, layers=layers,
        heater=Heater(
            layer=heats, width=0.94 * facts.width, depth=0.94 * facts.depth, power=_heater(facts), mains=mains,
            voltage=MAINS if mains else 24.0,
        ),
        sensor=Sensor(layer="Plate" if facts.plate >= _LIGHT_PLATE else heats, depth_fraction=0.5, time_constant=6.0),
        control=Control() if mains else Control(kind="on-off", hysteresis=1.0),
mounts="corners",
    )  # fmt: skip
    width = facts.chamber_width or facts.width + _ROOM_BESIDE[0]
    depth = facts.chamber_depth or facts.depth + _ROOM_BESIDE[1]
    height = facts.chamber_height or max(facts.width, facts.depth) + 0.2
    panels = panels_of("wool_lined" if facts.kind == "hot" else "single").model_copy(update={"front": panel_of("pane")})
    size = math.sqrt(width * depth)
    heats_air = facts.chamber_heater > 0.0
    chamber = Chamber(
        enclosed=facts.kind != "open", width=width, depth=depth, height=height, bed_height=0.3, panels=panels,
        air_changes=(2.0 if facts.kind == "hot" else 6.0) / 3600,
        heater_power=facts.chamber_heater if facts.kind != "open" else 0.0,
        circulation=0.5 if heats_air else 0.0, circulation_flow=120.0 * size**3 / 3600 if heats_air else 0.0,
        internal_mass=14000.0 * size, internal_area=1.2 * size,
    )  # fmt: skip
    supply = _heater(facts) + facts.chamber_heater
    limits = Limits(
        bed_max=facts.bed_max, chamber_max=facts.chamber_max, supply_power=1.3 * supply + 150.0,
        low_voltage_supply=0.0 if mains else 1.25 * _heater(facts) + 100.0,
        breaker=next((b for b in _BREAKERS if 0.8 * b * MAINS >= supply + 250.0), _BREAKERS[-1]),
    )  # fmt: skip
    return Rig(name=facts.name, room_temperature=facts.room, bed=bed, chamber=chamber, limits=limits)


def assumptions(facts: Facts, rig: Rig, told: Collection[str] = ()) -> tuple[Assumption, ...]:
    """What was assumed for a machine, most telling first; not what a log has ``told`` (paths in the project)."""
    layers = {layer.name: n for n, layer in enumerate(rig.bed.layers)}
    found = [
        Assumption("rig.bed.sensor", f"the sensor sits in the {rig.bed.sensor.layer.lower()} and reads true", "usual for its kind"),
        *(
            Assumption(f"rig.bed.layers.{n}", f"{name}: {1e3 * rig.bed.layers[n].thickness:.2g} mm", "usual for its kind")
            for name, n in layers.items() if name != "Plate"
        ),
    ]  # fmt: skip
    if facts.heater <= 0.0:
        found.insert(
            0, Assumption("rig.bed.heater.power", f"bed heater {rig.bed.heater.power:.0f} W", "usual for its size")
        )
    if facts.mains is None:
        found.append(
            Assumption("rig.bed.heater.mains", "on mains voltage" if _mains(facts) else "at 24 V", "by its size")
        )
    if facts.kind != "open":
        if not (facts.chamber_width and facts.chamber_depth and facts.chamber_height):
            found.append(Assumption("rig.chamber", "size of the chamber", "by the bed's"))
        found += [
            Assumption(
                "rig.chamber.air_changes", f"{3600 * rig.chamber.air_changes:.0f} air changes an hour", "estimate"
            ),
            Assumption("rig.chamber.panels", "panels and their insulation", "usual for its kind"),
        ]
    found.append(Assumption("rig.bed.fuses", "a thermal fuse that fits these set points", "look whether there is one"))
    found.append(Assumption("rig.limits", "supply and breaker", "enough for its heaters"))
    return tuple(a for a in found if a.path not in told)
