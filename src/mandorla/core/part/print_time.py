"""Print time, mass and solid fraction along the height, from sections and process settings."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from mandorla.core.materials.library_data import polymers
from mandorla.core.part.gcode import PrintFile
from mandorla.core.part.mesh import Floats
from mandorla.core.part.process import Process
from mandorla.core.part.sections import Sections


@dataclass(frozen=True, slots=True)
class PrintPlan:
    """What is extruded, on the slabs of :class:`Sections`.

    ``solid_area`` (n,) m² is the polymer's area in each section, ``stiffness_fraction`` (n,) the in-plane modulus of the
    section relative to solid polymer, ``layer_time`` (n,) s of one layer there, ``layers`` their number, ``duration`` s,
    ``mass`` kg, ``flow`` m³/s and ``flow_limited`` whether the flow limit, not the speed, sets the pace.
    """

    solid_area: Floats
    stiffness_fraction: Floats
    layer_time: Floats
    layers: int
    duration: float
    mass: float
    flow: float
    flow_limited: bool

    def layer_at(self, height: float, layer_height: float) -> int:
        """Number (from 1) of the layer that is printed at a height."""
        return int(min(max(1, np.ceil(height / layer_height)), self.layers))


def plan_of_body(sections: Sections, plan: PrintPlan) -> PrintPlan:
    """The plan of the one body in ``sections.body``: its share of the polymer at each height, the layer times of all bodies."""
    body = sections.body
    assert body is not None

    def there(values: Floats) -> Floats:
        found = np.interp(body.z, sections.z, values)
        found.setflags(write=False)
        return found

    share = plan.solid_area / np.maximum(sections.area, 1e-12)
    solid = np.asarray(there(share) * body.area)
    solid.setflags(write=False)
    return replace(
        plan, solid_area=solid, stiffness_fraction=there(plan.stiffness_fraction), layer_time=there(plan.layer_time),
        layers=max(1, round(plan.layers * body.height / sections.height)),
    )  # fmt: skip


INFILL_EXPONENT = 1.5  # between stretching (1) and bending (2) dominated cells, Gibson and Ashby 1997, ch. 4-5


def plan_from_file(sections: Sections, process: Process, file: PrintFile) -> PrintPlan:
    """The same from G-code: layer times, extruded volume and number of layers as they will be, on the sections' slabs.

    The solid area of a slab is the volume of the layers there over their thickness; its stiffness follows from the solid share.
    """
    area = sections.area
    middle = file.z - 0.5 * file.height
    solid = np.minimum(
        np.interp(sections.z, middle, file.volume / np.maximum(file.height, 1e-6)), np.maximum(area, 1e-9)
    )
    share = np.where(area > 0.0, solid / np.where(area > 0.0, area, 1.0), 1.0)
    layer_time = np.interp(sections.z, middle, file.time)
    stiffness = share**INFILL_EXPONENT
    for array in (solid, stiffness, layer_time):
        array.setflags(write=False)
    volume, duration = float(file.volume.sum()), file.duration
    flow = volume / max(float(file.time.sum()), 1e-9)
    return PrintPlan(
        solid_area=solid, stiffness_fraction=stiffness, layer_time=layer_time, layers=int(file.z.size), duration=duration,
        mass=volume * polymers()[process.polymer].density.typical, flow=flow, flow_limited=False,
    )  # fmt: skip


def plan_print(sections: Sections, process: Process) -> PrintPlan:
    """Extruded volume, time and stiffness of every slab.

    Walls run along the section's perimeter; what is left inside is filled; the lowest and uppermost ``solid_layers`` are
    full. The pace is the lower of speed and flow limit; ``overhead`` adds the moves without printing.
    """
    area, perimeter = sections.area, sections.perimeter
    walls = np.minimum(area, process.walls * process.line_width * perimeter)
    inside = area - walls
    skin = process.solid_layers * process.layer_height
    full = (sections.z < skin) | (sections.z > sections.height - skin)
    fill = np.where(full, 1.0, process.infill)
    solid = walls + fill * inside
    stiffness = np.where(area > 0, (walls + fill**INFILL_EXPONENT * inside) / np.where(area > 0, area, 1.0), 1.0)
    bead = process.line_width * process.layer_height
    wanted = process.speed * bead
    flow = min(wanted, process.flow_limit)
    layer_time = np.maximum(solid * process.layer_height / flow * (1.0 + process.overhead), process.minimum_layer_time)
    layers = max(1, round(sections.height / process.layer_height))
    brim_area = process.brim * (float(perimeter[0]) + np.pi * process.brim)
    brim_volume = brim_area * process.layer_height
    volume = float(np.sum(solid) * sections.dz) + brim_volume
    duration = float(np.mean(layer_time) * layers) + brim_volume / flow
    for array in (solid, stiffness, layer_time):
        array.setflags(write=False)
    return PrintPlan(
        solid_area=solid,
        stiffness_fraction=stiffness,
        layer_time=layer_time,
        layers=layers,
        duration=duration,
        mass=volume * polymers()[process.polymer].density.typical,
        flow=flow,
        flow_limited=process.flow_limit < wanted,
    )
