"""The coupled network of bed stack and lumped chamber: one assembly for the transient and the steady solver.

The stack is a chain of cells; chamber air, frame, inner and outer half of the panels are four lumps. The surface cells see
the air (convection) and the panels (radiation) through their half cell; the massless surface node is eliminated by the
star-mesh transform, so that the surface temperature itself, not the top cell's centre, is reported.
"""

from __future__ import annotations

import math
from typing import Final, NamedTuple

import numpy as np
from numpy.typing import NDArray

from mandorla.core.compiled import compiled
from mandorla.core.materials.air import air_density, air_specific_heat
from mandorla.core.rig.model import Rig
from mandorla.core.thermal.correlations import (
    CORRELATIONS,
    h_forced,
    h_horizontal,
    h_mixed,
    h_radiation,
    h_vertical,
    rayleigh,
)

Floats = NDArray[np.float64]

# Lumps of the chamber, in this order behind the stack's cells.
AIR: Final = 0
FRAME: Final = 1
WALL_IN: Final = 2
WALL_OUT: Final = 3
_FRAME_HEIGHT: Final = 0.1  # m, typical height of beams and brackets inside


class Surroundings(NamedTuple):
    """Everything around the stack as plain numbers (SI), in a form that compiled kernels read by name."""

    enclosed: bool
    room: float
    area: float
    length: float  # area over perimeter, m
    perimeter: float
    height: float  # of the stack, m
    exchange_top: float
    exchange_bottom: float
    exchange_edge: float
    air_speed: float
    flow_length: float
    wall_area: float
    wall_height: float
    wall_conductance: float  # W/K through all panels
    wall_capacity: float  # J/K of all panels
    wall_emissivity: float
    leakage: float  # W/K carried by the air that is exchanged
    air_capacity: float  # J/K
    frame_capacity: float
    frame_area: float
    machine_heat: float
    convection: float  # multiplier on the bed's natural and forced convection, 1 as published
    h_top: float  # W/m²K given for the top instead of the correlations; NaN where they decide
    h_bottom: float


class Coefficients(NamedTuple):
    """Conductances in W/K at one state."""

    top_air: float
    top_wall: float
    bottom_air: float
    bottom_wall: float
    edge_air: float  # per metre of stack height
    edge_wall: float
    air_wall: float
    air_frame: float
    wall_wall: float
    wall_room: float
    leakage: float


def _exchange(emissivity: float, area: float, wall_area: float, wall_emissivity: float) -> float:
    """Effective emissivity of a small convex surface in an enclosure (Incropera eq. 13.26)."""
    return 1.0 / (1.0 / emissivity + area / wall_area * (1.0 / wall_emissivity - 1.0))


def surroundings(rig: Rig, emissivity_top: float, emissivity_bottom: float) -> Surroundings:
    """The numbers of the room and the chamber that the kernels need."""
    bed, c = rig.bed, rig.chamber
    height = sum(layer.thickness for layer in bed.layers)
    edge_emissivity = 0.5  # mixed metal and polymer edges; edges carry a few watts only
    if c.enclosed:
        top = _exchange(emissivity_top, bed.area, c.wall_area, c.panel.emissivity)
        bottom = _exchange(emissivity_bottom, bed.area, c.wall_area, c.panel.emissivity)
        speed, flow_length = c.circulation, 0.5 * (bed.width + bed.depth)
    else:
        top, bottom = emissivity_top, emissivity_bottom
        speed, flow_length = rig.draft, 0.5 * (bed.width + bed.depth)
    heat_per_kelvin = air_density(rig.room_temperature) * air_specific_heat(rig.room_temperature)
    panel = c.panel
    return Surroundings(
        enclosed=c.enclosed,
        room=rig.room_temperature,
        area=bed.area,
        length=bed.area / bed.perimeter,
        perimeter=bed.perimeter,
        height=height,
        exchange_top=top,
        exchange_bottom=bottom,
        exchange_edge=edge_emissivity,
        air_speed=speed,
        flow_length=flow_length,
        wall_area=c.wall_area,
        wall_height=c.height,
        wall_conductance=c.wall_area * panel.conductivity / panel.thickness,
        wall_capacity=c.wall_area * panel.thickness * panel.density * panel.specific_heat,
        wall_emissivity=panel.emissivity,
        leakage=c.air_changes * c.volume * heat_per_kelvin,
        air_capacity=c.volume * heat_per_kelvin,
        frame_capacity=max(c.internal_mass, 1.0),
        frame_area=c.internal_area,
        machine_heat=c.machine_heat,
        convection=1.0,
        h_top=math.nan,
        h_bottom=math.nan,
    )


@compiled
def conductances(
    top: float,
    bottom: float,
    edge: float,
    air: float,
    frame: float,
    wall_in: float,
    wall_out: float,
    room: float,
    s: Surroundings,
) -> Coefficients:
    """All convection and radiation conductances at given temperatures (K)."""
    forced = h_forced(top, air, s.air_speed, s.flow_length)
    h_top = s.convection * h_mixed(h_horizontal(top, air, s.length, True), forced)
    h_bottom = s.convection * h_mixed(h_horizontal(bottom, air, s.length, False), forced)
    h_edge = s.convection * h_mixed(h_vertical(edge, air, s.height), forced)
    if not np.isnan(s.h_top):
        h_top = s.h_top
    if not np.isnan(s.h_bottom):
        h_bottom = s.h_bottom
    top_wall = h_radiation(top, wall_in, s.exchange_top)
    bottom_wall = h_radiation(bottom, wall_in, s.exchange_bottom)
    edge_wall = h_radiation(edge, wall_in, s.exchange_edge)
    if not s.enclosed:
        return Coefficients(
            h_top * s.area, top_wall * s.area, h_bottom * s.area, bottom_wall * s.area,
            h_edge * s.perimeter, edge_wall * s.perimeter, 0.0, 0.0, 0.0, 0.0, 0.0,
        )  # fmt: skip
    flow = h_forced(wall_in, air, s.air_speed, s.wall_height)
    h_wall = h_mixed(h_vertical(wall_in, air, s.wall_height), flow)
    h_frame = h_mixed(h_vertical(frame, air, _FRAME_HEIGHT), flow)
    h_out = h_vertical(wall_out, room, s.wall_height) + h_radiation(wall_out, room, s.wall_emissivity)
    # the outer half of the panels conducts from its middle to both faces: a quarter of the thickness each
    quarter = 4.0 * s.wall_conductance
    inside = 1.0 / (1.0 / (h_wall * s.wall_area) + 1.0 / quarter)
    outside = 1.0 / (1.0 / (h_out * s.wall_area) + 1.0 / quarter)
    return Coefficients(
        h_top * s.area, top_wall * s.area, h_bottom * s.area, bottom_wall * s.area,
        h_edge * s.perimeter, edge_wall * s.perimeter,
        inside, h_frame * s.frame_area, 2.0 * s.wall_conductance, outside, s.leakage,
    )  # fmt: skip


def range_notes(top: float, bottom: float, wall: float, air: float, s: Surroundings) -> tuple[str, ...]:
    """Words for every correlation that was used outside its published range at this state."""
    uses = [
        ("plate-up" if top >= air else "plate-down", rayleigh(top, air, s.length), abs(top - air)),
        ("plate-down" if bottom >= air else "plate-up", rayleigh(bottom, air, s.length), abs(bottom - air)),
    ]
    if s.enclosed:
        uses.append(("vertical", rayleigh(wall, air, s.wall_height), abs(wall - air)))
    notes = []
    for name, Ra, difference in uses:
        c = CORRELATIONS[name]
        # below 1 K the surface carries hardly any heat, whatever the correlation says
        if difference > 1.0 and not c.low <= Ra <= c.high:
            notes.append(f"{c.what}: Rayleigh number {Ra:.2g} outside {c.low:.0g}–{c.high:.0g} ({c.source})")
    return tuple(notes)
