"""The coupled network of bed stack and chamber: one set of conductances for the transient and the steady solver.

The stack is a chain of cells. The chamber is lower and upper air (the bed's level parts them), the frame, and six panels with a
node at each face. The bed's faces see the air (convection) and the panels (grey exchange with all reflections). Fresh
air enters below, rises past the bed and leaves above. In the open, the same nodes stand for the room.
"""

from __future__ import annotations

import math
from functools import lru_cache
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.compiled import compiled
from mandorla.core.materials.air import air_density, air_specific_heat
from mandorla.core.rig.chamber import Chamber, Panel
from mandorla.core.rig.consumers import Doing, own_heat
from mandorla.core.rig.model import Rig
from mandorla.core.thermal.correlations import (
    CORRELATIONS,
    GRAVITY,
    h_forced,
    h_horizontal,
    h_mixed,
    h_radiation,
    h_vertical,
    rayleigh,
)
from mandorla.core.thermal.radiation import BED_BOTTOM, BED_TOP, SURFACES, box_exchange_areas, grey_exchange
from mandorla.core.thermal.stack import Floats

# Nodes of the chamber: those the bed can see or touch first, then the outer faces of the panels.
LOWER: Final = 0
UPPER: Final = 1
FRAME: Final = 2
WALLS: Final = 3  # six inner faces from here
INNER: Final = 9
OUTER: Final = 9  # six outer faces from here
NODES: Final = 15

# What the bed's cells lose heat to.
TO_TOP, TO_BOTTOM, TO_EDGE, TO_FRAME = range(4)
WAYS: Final = 4

# Ways of the fresh air.
LEAK, VENTS, EXHAUST, DOOR = range(4)

EXHAUST_BAND: Final = 2.0  # K, over which a regulated exhaust comes up to its full speed
_MACHINES: Final = (
    24  # whose surroundings are kept: a map, an edit, and the ends of ranges ask for the same again and again
)
_NO_FRAME: Final = 1e-6  # m² of a frame without a surface: it is as warm as the air and takes nothing from it
_FRAME_HEIGHT: Final = 0.1  # m, typical height of beams and brackets inside
_EDGE_EMISSIVITY: Final = 0.5  # mixed metal and polymer edges; edges carry a few watts only
_DISCHARGE: Final = 0.6  # of sharp-edged openings (Idelchik; ASHRAE Fundamentals 2017 ch. 16)
_EXCHANGE: Final = 0.055  # of a horizontal opening with the heavy air on top (Epstein 1988, eq. 7)
_STABLE: Final = 1.0  # W/m²K between lower and upper air when the warm one is on top; an estimate, unchecked


class Surroundings(NamedTuple):
    """Everything around the stack as plain numbers (SI), in a form that compiled kernels read by name.

    ``exchange`` (8, 8) m² grey exchange of the six panels and the bed's two faces. Panels (6,): ``panel_area`` m²,
    ``panel_length`` m, ``tilt`` 0 upright, 1 floor, 2 roof, ``upper`` share beside the upper air, ``mid`` W/K from face to face,
    ``cap_in``, ``cap_out`` J/K, ``outside_emissivity``.
    """

    enclosed: bool
    room: float
    draft_cooler: float
    area: float
    length: float  # area over perimeter, m
    perimeter: float
    height: float  # of the stack, m
    air_speed: float
    flow_length: float
    exchange: Floats
    edge_exchange: Floats  # (6,) m² per metre of stack height
    panel_area: Floats
    panel_length: Floats
    tilt: Floats
    upper: Floats
    mid: Floats
    cap_in: Floats
    cap_out: Floats
    outside_emissivity: Floats
    air_heat: float  # J/m³K of the room's air
    cold: float  # K at which it is
    leak_flow: float  # m³/s of the air that leaves
    vent_area: float  # m², effective for flow
    exhaust_flow: float  # m³/s of the air that leaves
    exhaust_above: float  # K of the upper air from which it runs; minus infinity: always
    door_width: float
    door_height: float
    chamber_height: float
    opening: float  # m², free area beside the bed
    mixing_flow: float  # m³/s between lower and upper air
    lower_capacity: float  # J/K
    upper_capacity: float
    frame_capacity: float
    frame_area: float
    heat_lower: float  # W of motors and electronics below the bed's level
    heat_upper: float
    heater_upper: bool
    sensor_upper: bool
    convection: float  # multiplier on the bed's natural and forced convection, 1 as published
    films: float  # multiplier on the convection at the panels' two faces
    mixing: float  # multiplier on the exchange between lower and upper air
    covered: float  # share of the bed's top that a part stands on
    through_part: float  # W/m²K from the covered plate through the part to the upper air
    fan_speed: float  # m/s that the part fan adds along the plate
    h_top: float  # W/m²K given for the top instead of the correlations; NaN where they decide
    h_bottom: float


class Coefficients(NamedTuple):
    """Conductances in W/K at one state: ``bed`` (4, 9) from the whole top, the underside, a metre of edge height and a unit of
    bracket to the inner nodes; ``nodes`` (9, 9) among them; ``mid`` and ``outside`` (6,) through and off the panels;
    ``fresh`` (4,) of the ways of the fresh air."""

    bed: Floats
    nodes: Floats
    mid: Floats
    outside: Floats
    fresh: Floats


def _panel_capacities(panel: Panel) -> tuple[float, float]:
    """Heat capacities (J/m²K) of a panel's nodes, which sit at its two faces with the whole resistance between them.

    Every slice of the wall is shared between the faces in inverse proportion to its resistance from them, so that the heat of
    the straight steady profile is exact.
    """
    total = panel.resistance
    inner, outer, at = 0.0, 0.0, 0.0
    for layer in panel.layers:
        middle = (at + 0.5 * layer.resistance) / total
        inner += layer.capacity * (1.0 - middle)
        outer += layer.capacity * middle
        at += layer.resistance
    return inner, outer


def _exchange(rig: Rig, emissivity_top: float, emissivity_bottom: float) -> Floats:
    """Grey exchange areas (8, 8) of the bed in its chamber, or of its faces with the open room."""
    bed, c = rig.bed, rig.chamber
    if not c.enclosed:
        exchange = np.zeros((SURFACES, SURFACES))
        exchange[BED_TOP, 0] = emissivity_top * bed.area
        exchange[BED_BOTTOM, 0] = emissivity_bottom * bed.area
        exchange.setflags(write=False)
        return exchange
    shrink = math.sqrt(bed.area / (bed.width * bed.depth))  # a round bed as a rectangle of its area
    size = (min(bed.width * shrink, 0.999 * c.width), min(bed.depth * shrink, 0.999 * c.depth))
    inside = tuple(p.emissivity_inside for p in c.panels.each())
    box = (c.width, c.depth, c.height)
    return _box_exchange(box, size, c.bed_height * c.height, (*inside, emissivity_top, emissivity_bottom))


@lru_cache(maxsize=64)
def _box_exchange(
    box: tuple[float, float, float], bed: tuple[float, float], level: float, emissivities: tuple[float, ...]
) -> Floats:
    direct = box_exchange_areas(*box, bed, level)
    exchange = grey_exchange(direct, direct.sum(axis=1), np.array(emissivities))
    exchange.setflags(write=False)
    return exchange


@lru_cache(maxsize=_MACHINES)
def surroundings(
    rig: Rig, emissivity_top: float, emissivity_bottom: float, doing: Doing = Doing.WARM_UP
) -> Surroundings:
    """The numbers of the room and the chamber that the kernels need, while the machine is ``doing`` something."""
    bed, c = rig.bed, rig.chamber
    own = own_heat(rig, doing)
    areas = np.array(c.panel_areas())
    capacities = np.array([_panel_capacities(p) for p in c.panels.each()])
    upper_share = 1.0 - c.bed_height
    lengths = [c.height] * 4 + [c.width * c.depth / (2.0 * (c.width + c.depth))] * 2
    upright = np.array([1.0, 1.0, 1.0, 1.0, 0.0, 0.0])
    edge = _EDGE_EMISSIVITY * bed.perimeter * (areas * upright / (areas * upright).sum())
    air_heat = air_density(rig.room_temperature) * air_specific_heat(rig.room_temperature)
    return Surroundings(
        enclosed=c.enclosed,
        room=rig.start_temperature,
        draft_cooler=0.0 if c.enclosed else rig.room.draft_cooler,
        area=bed.area,
        length=bed.area / bed.perimeter,
        perimeter=bed.perimeter,
        height=bed.height,
        air_speed=c.circulation if c.enclosed else rig.draft,
        flow_length=0.5 * (bed.width + bed.depth),
        exchange=_exchange(rig, emissivity_top, emissivity_bottom),
        edge_exchange=edge,
        panel_area=areas,
        panel_length=np.array(lengths),
        tilt=np.array([0.0, 0.0, 0.0, 0.0, 1.0, 2.0]),
        upper=np.array([upper_share] * 4 + [0.0, 1.0]),
        mid=rig.corrections.panels * areas / np.array([p.resistance for p in c.panels.each()]),
        cap_in=areas * capacities[:, 0],
        cap_out=areas * capacities[:, 1],
        outside_emissivity=np.array([p.emissivity_outside for p in c.panels.each()]),
        air_heat=air_heat,
        cold=rig.room_temperature,
        leak_flow=c.air_changes * c.volume,
        vent_area=_vent_area(c),
        exhaust_flow=c.exhaust_flow * c.exhaust_fraction,
        exhaust_above=c.exhaust_above if c.exhaust_by_air else -math.inf,
        door_width=c.door.width,
        door_height=c.door.height,
        chamber_height=c.height,
        opening=max(c.width * c.depth - bed.area, 0.0),
        mixing_flow=c.circulation_flow,
        lower_capacity=c.volume * c.bed_height * air_heat,
        upper_capacity=c.volume * upper_share * air_heat,
        frame_capacity=max(c.internal_mass, 1.0),
        frame_area=max(c.internal_area, _NO_FRAME),
        heat_lower=own.lower,
        heat_upper=own.upper,
        heater_upper=c.heater_air == "upper",
        sensor_upper=c.sensor_air == "upper",
        convection=rig.corrections.convection,
        films=rig.corrections.films,
        mixing=rig.corrections.mixing,
        covered=0.0,
        through_part=0.0,
        fan_speed=0.0,
        h_top=math.nan,
        h_bottom=math.nan,
    )


def _vent_area(c: Chamber) -> float:
    """Effective area (m²) of vents of which half lie low and half high: two equal openings in series."""
    return 0.5 * c.vent_area / math.sqrt(2.0)


class Outside(NamedTuple):
    """What comes from outside at one moment: the ``room`` in K, the share of the ``door`` that stands open, the speed (m/s) of what
    blows on an open bed."""

    room: float
    door: float
    blows: float


@compiled
def conductances(
    top: float, bottom: float, edge: float, x: Floats, outside_air: Outside, s: Surroundings
) -> Coefficients:
    """All conductances at given temperatures (K); ``x`` (15,) of the nodes."""
    room, door = outside_air.room, outside_air.door
    air_speed = s.air_speed if s.enclosed else max(s.air_speed, outside_air.blows)
    bed, nodes = np.zeros((WAYS, INNER)), np.zeros((INNER, INNER))
    mid, outside, fresh = np.zeros(6), np.zeros(6), np.zeros(4)
    lower, upper, frame = x[LOWER], x[UPPER], x[FRAME]
    blown = max(air_speed, s.fan_speed)
    h_top = s.convection * h_mixed(h_horizontal(top, upper, s.length, True), h_forced(top, upper, blown, s.flow_length))
    h_bottom = s.convection * h_mixed(
        h_horizontal(bottom, lower, s.length, False), h_forced(bottom, lower, air_speed, s.flow_length)
    )
    h_edge = s.convection * h_mixed(h_vertical(edge, lower, s.height), h_forced(edge, lower, air_speed, s.flow_length))
    if not np.isnan(s.h_top):
        h_top = s.h_top
    if not np.isnan(s.h_bottom):
        h_bottom = s.h_bottom
    bare = 1.0 - s.covered
    bed[TO_TOP, UPPER] = (bare * h_top + s.covered * s.through_part) * s.area
    bed[TO_BOTTOM, LOWER] = h_bottom * s.area
    bed[TO_EDGE, LOWER] = h_edge * s.perimeter
    bed[TO_FRAME, FRAME] = 1.0
    for i in range(6):
        wall = x[WALLS + i]
        if s.exchange[BED_TOP, i] > 0.0:
            bed[TO_TOP, WALLS + i] = bare * h_radiation(top, wall, s.exchange[BED_TOP, i])
        if s.exchange[BED_BOTTOM, i] > 0.0:
            bed[TO_BOTTOM, WALLS + i] = h_radiation(bottom, wall, s.exchange[BED_BOTTOM, i])
        if s.edge_exchange[i] > 0.0:
            bed[TO_EDGE, WALLS + i] = h_radiation(edge, wall, s.edge_exchange[i])
    if not s.enclosed:
        return Coefficients(bed, nodes, mid, outside, fresh)
    for i in range(6):
        wall, outer = x[WALLS + i], x[OUTER + i]
        flow = h_forced(wall, upper, s.air_speed, s.panel_length[i])
        for air, at, share in ((LOWER, lower, 1.0 - s.upper[i]), (UPPER, upper, s.upper[i])):
            if share > 0.0:
                if s.tilt[i] == 0.0:
                    h = h_vertical(wall, at, s.panel_length[i])
                else:
                    h = h_horizontal(wall, at, s.panel_length[i], s.tilt[i] == 1.0)
                film = s.films * h_mixed(h, flow)
                nodes[air, WALLS + i] = nodes[WALLS + i, air] = film * s.panel_area[i] * share
        for j in range(i):
            if s.exchange[i, j] > 0.0:
                h = h_radiation(wall, x[WALLS + j], s.exchange[i, j])
                nodes[WALLS + i, WALLS + j] = nodes[WALLS + j, WALLS + i] = h
        mid[i] = s.mid[i]
        if s.tilt[i] == 0.0:
            h = h_vertical(outer, room, s.panel_length[i])
        else:
            h = h_horizontal(outer, room, s.panel_length[i], s.tilt[i] == 2.0)
        h = s.films * h + h_radiation(outer, room, s.outside_emissivity[i])
        outside[i] = h * s.panel_area[i]
    moved = h_forced(frame, upper, s.air_speed, s.chamber_height)
    for air, at in ((LOWER, lower), (UPPER, upper)):
        h = h_mixed(h_vertical(frame, at, _FRAME_HEIGHT), moved)
        nodes[air, FRAME] = nodes[FRAME, air] = 0.5 * h * s.frame_area
    nodes[LOWER, UPPER] = nodes[UPPER, LOWER] = _mixing(lower, upper, s)
    mean = 0.5 * (lower + upper)
    pull = GRAVITY * abs(mean - room) / room
    # what leaves is warm and thin: leakage and exhaust are volumes of that air
    leaving = s.air_heat * s.cold / upper
    fresh[LEAK] = leaving * s.leak_flow
    fresh[VENTS] = s.air_heat * _DISCHARGE * s.vent_area * np.sqrt(2.0 * pull * s.chamber_height)
    opened = min(max((upper - s.exhaust_above) / EXHAUST_BAND, 0.0), 1.0)
    fresh[EXHAUST] = leaving * s.exhaust_flow * opened
    fresh[DOOR] = door * s.air_heat * _DISCHARGE / 3.0 * s.door_width * np.sqrt(pull * s.door_height**3)
    return Coefficients(bed, nodes, mid, outside, fresh)


@compiled
def _mixing(lower: float, upper: float, s: Surroundings) -> float:
    """Exchange (W/K) between lower and upper air: the fan's, a little always, and overturning when it is warmer below."""
    found = s.air_heat * s.mixing_flow + _STABLE * s.opening
    if lower > upper:
        width5 = (4.0 / np.pi * s.opening) ** 2.5
        found += s.air_heat * _EXCHANGE * np.sqrt(GRAVITY * (lower - upper) / upper * width5)
    return float(s.mixing * found)


class OnPlate(NamedTuple):
    """What a print does to the machine: the share ``covered`` of the bed's top that the part stands on, which loses no heat to air
    and walls itself; ``through_part`` W/m²K from there through the part to the air; ``fan_speed`` m/s that its fan makes along the
    plate; ``heat`` W that hot end and molten polymer bring into the chamber."""

    covered: float
    through_part: float
    fan_speed: float
    heat: float = 0.0


def while_doing(s: Surroundings, rig: Rig, doing: Doing) -> Surroundings:
    """The surroundings ``s`` of a machine while it is ``doing`` something else: its own heat is another."""
    own = own_heat(rig, doing)
    return s._replace(heat_lower=own.lower, heat_upper=own.upper)


def while_printing(s: Surroundings, over: OnPlate) -> Surroundings:
    """The surroundings ``s`` of a bare bed while a part stands on the plate and its fan blows."""
    return s._replace(
        covered=min(max(over.covered, 0.0), 1.0), through_part=over.through_part, fan_speed=over.fan_speed,
        heat_upper=s.heat_upper + over.heat,
    )  # fmt: skip


def range_notes(top: float, bottom: float, wall: float, upper: float, lower: float, s: Surroundings) -> tuple[str, ...]:
    """Words for every correlation that was used outside its published range at this state (K)."""
    uses = [
        ("plate-up" if top >= upper else "plate-down", rayleigh(top, upper, s.length), abs(top - upper)),
        ("plate-down" if bottom >= lower else "plate-up", rayleigh(bottom, lower, s.length), abs(bottom - lower)),
    ]
    if s.enclosed:
        uses.append(("vertical", rayleigh(wall, upper, s.chamber_height), abs(wall - upper)))
    notes = []
    for name, Ra, difference in uses:
        c = CORRELATIONS[name]
        # below 1 K the surface carries hardly any heat, whatever the correlation says
        if difference > 1.0 and not c.low <= Ra <= c.high:
            notes.append(f"{c.what}: Rayleigh number {Ra:.2g} outside {c.low:.0g}–{c.high:.0g} ({c.source})")
    return tuple(notes)
