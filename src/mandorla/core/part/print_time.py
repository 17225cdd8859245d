"""Print time, mass and solid fraction along the height, from sections and process settings."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Final

import numpy as np

from mandorla.core.part.gcode import PrintFile
from mandorla.core.part.mesh import Floats
from mandorla.core.part.process import Process
from mandorla.core.part.sections import Sections

RAFT_SOLID: Final = 0.5  # share of a raft that is polymer
SHIELD_GAP: Final = 0.005  # m between part and draft shield


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


def _around_foot(sections: Sections, perimeter: Floats, process: Process) -> float:
    """Volume (m³) of brim, raft and draft shield."""
    brim = process.brim * (float(perimeter[0]) + np.pi * process.brim) * process.layer_height
    m = process.raft_margin
    raft = process.raft * RAFT_SOLID * (float(sections.area[0]) + m * (float(perimeter[0]) + np.pi * m))
    if not process.draft_shield:
        return brim + raft
    spans = [float(np.ptp(extent, axis=1).max()) for extent in (sections.x_extent, sections.y_extent)]
    shield = (2.0 * sum(spans) + 2.0 * np.pi * SHIELD_GAP) * process.line_width * sections.height
    return brim + raft + float(shield)


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
        mass=volume * process.material().density.typical, flow=flow, flow_limited=False,
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
    # every line starts and ends at rest: its mean length is the mean chord of the section (Cauchy: pi area / perimeter)
    line = np.pi * area / np.maximum(perimeter, 1e-9)

    def slowed(speed: float, acceleration: float) -> Floats:
        """Time over the time at constant speed, on lines that speed up and slow down."""
        reaches = line * acceleration >= speed**2
        ramp = np.where(
            reaches,
            1.0 + speed**2 / np.maximum(line * acceleration, 1e-12),
            2.0 * speed / np.sqrt(np.maximum(line * acceleration, 1e-12)),
        )
        return np.asarray(np.minimum(ramp, 20.0))

    pace = flow / bead
    layer_time = np.maximum(
        solid * process.layer_height / flow * slowed(pace, process.acceleration) * (1.0 + process.overhead),
        process.minimum_layer_time,
    )
    first = min(process.first_speed, pace)
    first_time = max(
        float(solid[0])
        * process.layer_height
        / (first * bead)
        * float(slowed(first, process.first_acceleration or process.acceleration)[0])
        * (1.0 + process.overhead),
        process.minimum_layer_time,
    )
    layers = max(1, round(sections.height / process.layer_height))
    around = _around_foot(sections, perimeter, process)
    volume = float(np.sum(solid) * sections.dz) + around
    duration = float(np.mean(layer_time) * layers) + first_time - float(layer_time[0]) + around / flow
    for array in (solid, stiffness, layer_time):
        array.setflags(write=False)
    return PrintPlan(
        solid_area=solid,
        stiffness_fraction=stiffness,
        layer_time=layer_time,
        layers=layers,
        duration=duration,
        mass=volume * process.material().density.typical,
        flow=flow,
        flow_limited=process.flow_limit < wanted,
    )
