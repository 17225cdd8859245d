"""What is to be bought for a rig, and in which order and on which days it is put together."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Final

from mandorla.core.materials.library_data import bed_materials, joint_kinds, wall_materials
from mandorla.core.rig.bed import OWN_JOINT
from mandorla.core.rig.chamber import SIDES
from mandorla.core.rig.model import Rig

SEALANT_CURE: Final = timedelta(days=1)
MORNING: Final = 8
EVENING: Final = 17


@dataclass(frozen=True, slots=True)
class Item:
    """A thing to have: group, what, its size in words (m to mm), quantity, mass in kg (NaN where it is not known)."""

    group: str
    what: str
    size: str
    quantity: int
    mass: float


@dataclass(frozen=True, slots=True)
class Work:
    """A step of the building: what, how to mind it, hours of work, time to cure afterwards."""

    what: str
    care: str
    hours: float
    cure: timedelta = timedelta(0)


@dataclass(frozen=True, slots=True)
class Appointment:
    """A step with its days: begin and end of the work, and until when it cures."""

    work: Work
    begin: datetime
    end: datetime
    free: datetime


def _mm(*sizes: float) -> str:
    return " × ".join(f"{1e3 * s:.4g}" for s in sizes) + " mm"


# mm² of stranded copper, A that one in free air at 30 °C carries with a core at 90 °C (order of IEC 60364-5-52, table B.52.12, from
# memory: local code and the maker's data decide)
AMPACITY: Final = (
    (0.75, 13.0),
    (1.0, 17.0),
    (1.5, 23.0),
    (2.5, 32.0),
    (4.0, 42.0),
    (6.0, 54.0),
    (10.0, 75.0),
    (16.0, 100.0),
)
RESERVE: Final = 1.25  # over the heater's current, which runs for hours
_CORE, _TABLED = 363.15, 303.15  # K that the table's core and its air are at


def conductor(current: float, around: float = 333.15) -> float:
    """Cross-section (m²) of the copper that carries a current (A) for hours where the air is ``around`` (K), inside a machine;
    0 where no usual one does."""
    derated = ((_CORE - around) / (_CORE - _TABLED)) ** 0.5 if around < _CORE else 0.0
    return next((1e-6 * size for size, most in AMPACITY if most * derated >= RESERVE * current), 0.0)


def bill_of_materials(rig: Rig) -> tuple[Item, ...]:
    """Everything that the rig is described with, bed first."""
    bed, nan = rig.bed, float("nan")
    items = []
    for i, layer in enumerate(bed.layers):
        o = bed.outline_of(i)
        size = f"⌀ {_mm(o.width)}" if o.shape == "round" and o.width == o.depth else _mm(o.width, o.depth)
        name = bed_materials()[layer.material].name if layer.own is None else f"{layer.name}, own properties"
        mass = o.area * layer.thickness * layer.properties().density
        items.append(Item("Bed", f"{layer.name}: {name}", f"{size}, {_mm(layer.thickness)} thick", 1, mass))
        if layer.joint != OWN_JOINT and i < len(bed.layers) - 1:
            kind = joint_kinds()[layer.joint]
            if layer.joint in ("adhesive", "silicone", "magnetic", "clipped", "bolted", "spacer"):
                under = min(o.area, bed.outline_of(i + 1).area)
                items.append(
                    Item(
                        "Bed",
                        f"{kind.name}, {layer.name} to {bed.layers[i + 1].name}",
                        f"{1e4 * under:.0f} cm²",
                        1,
                        nan,
                    )
                )
    heater = bed.heater
    supply = f"{heater.power:.0f} W at {heater.voltage:.0f} V, {heater.current:.1f} A"
    kind_of = "Silicone heater mat" if heater.kind == "mat" else "Printed heater trace"
    items.append(Item("Electrics", kind_of, supply, max(1, len(heater.zones)), nan))
    switch = "Solid-state relay with heat sink, mains" if heater.mains else "Switching transistor or DC relay"
    items.append(Item("Electrics", switch, f"more than {1.5 * heater.current:.0f} A", 1, nan))
    section = conductor(heater.current)
    if section > 0.0:
        wire = f"{1e6 * section:g} mm² copper, silicone, rated to 180 °C"
        items.append(Item("Electrics", "Wire to the heater, both ways (local code decides)", wire, 2, nan))
    else:
        items.append(Item("Electrics", "Wire to the heater", f"{heater.current:.0f} A: ask an electrician", 2, nan))
    items.append(Item("Electrics", "Temperature sensor", f"in {bed.layer(bed.sensor.layer).name}", 1, nan))
    for fuse in bed.fuses:
        items.append(
            Item("Electrics", "Thermal fuse", f"{fuse.rating - 273.15:.0f} °C, on {bed.layer(fuse.layer).name}", 1, nan)
        )
    if heater.mains:
        items.append(Item("Electrics", "Protective earth lead with ring lug, strain relief", "for the plate", 1, nan))
    else:
        items.append(Item("Electrics", "Low-voltage supply", f"{rig.limits.low_voltage_supply:.0f} W", 1, nan))
    brackets = sum(s.kind == "bracket" for s in bed.spots)
    if brackets:
        items.append(Item("Bed", "Bracket or standoff", "as drawn", brackets, nan))
    c = rig.chamber
    if c.enclosed:
        sizes = {"front": (c.width, c.height), "left": (c.depth, c.height), "floor": (c.width, c.depth)}
        sizes |= {"back": sizes["front"], "right": sizes["left"], "roof": sizes["floor"]}
        for side, panel in zip(SIDES, c.panels.each(), strict=True):
            w, h = sizes[side]
            for sheet in panel.layers:
                m = wall_materials()[sheet.material]
                if sheet.material != "air_gap":
                    mass = w * h * sheet.thickness * m.density.typical
                    items.append(
                        Item("Chamber", f"Panel {side}: {m.name}", f"{_mm(w, h)}, {_mm(sheet.thickness)}", 1, mass)
                    )
            if panel.foil:
                items.append(Item("Chamber", f"Panel {side}: reflective foil inside", _mm(w, h), 1, nan))
        if c.heater_power > 0.0:
            items.append(
                Item("Chamber", "Chamber heater with fan and its own cut-out", f"{c.heater_power:.0f} W", 1, nan)
            )
        if c.exhaust_flow > 0.0:
            items.append(Item("Chamber", "Exhaust fan with filter", f"{3600 * c.exhaust_flow:.0f} m³/h", 1, nan))
        items.append(Item("Chamber", "Sealant for the joints of the panels", "one cartridge", 1, nan))
    return tuple(items)


def works(rig: Rig) -> tuple[Work, ...]:
    """The steps in the order in which they are best done."""
    bed, found = rig.bed, []
    if rig.chamber.enclosed:
        found.append(
            Work(
                "Cut and fit the panels, seal the joints", "leave the door to the last; air the room", 4.0, SEALANT_CURE
            )
        )
    for i in range(len(bed.layers) - 1, 0, -1):
        upper, lower = bed.layers[i - 1], bed.layers[i]
        kind = joint_kinds().get(upper.joint)
        if kind is not None and kind.cure_time > 0.0:
            cure = timedelta(seconds=kind.cure_time)
            found.append(Work(f"Bond {lower.name} to {upper.name}", kind.care, 0.75, cure))
        elif kind is not None and kind.bonded:
            found.append(Work(f"Join {lower.name} and {upper.name}", kind.care, 0.5))
    places = ", ".join(dict.fromkeys(f.layer for f in bed.fuses)) or "no fuse is planned"
    found.append(Work("Fix sensor and thermal fuses", f"clamped, not only glued: {places}", 1.0))
    if bed.heater.mains:
        found.append(
            Work(
                "Wire heater, relay and earth", "mains: by a qualified electrician, to local code; earth measured", 2.0
            )
        )
    else:
        found.append(
            Work("Wire heater, switch and supply", "wire and connectors for the current, fused at the supply", 1.5)
        )
    found.append(
        Work(
            "Mount the bed, lay on the loose layers", "level it cold and loosely; it is levelled again when soaked", 1.0
        )
    )
    found.append(Work("First warm-up to 60 °C, watched", "smell, smoke, uneven places: switch off and look", 1.0))
    found.append(
        Work(
            "Full warm-up with soak, measured",
            "surface by a contact probe or an imager with tape; level when soaked",
            3.0,
        )
    )
    return tuple(found)


def calendar(rig: Rig, start: datetime) -> tuple[Appointment, ...]:
    """The steps on days: work between 8 and 17 o'clock, curing runs on over night, the next step waits for it."""
    now, found = start, []
    for work in works(rig):
        now = _in_hours(now)
        begin, left = now, timedelta(hours=work.hours)
        while True:
            evening = now.replace(hour=EVENING, minute=0, second=0, microsecond=0)
            if now + left <= evening:
                now += left
                break
            left -= evening - now
            now = _in_hours(evening)
        free = now + work.cure
        found.append(Appointment(work, begin, now, free))
        now = free
    return tuple(found)


def _in_hours(moment: datetime) -> datetime:
    """The next moment in working hours."""
    if moment.hour < MORNING:
        return moment.replace(hour=MORNING, minute=0, second=0, microsecond=0)
    if moment.hour >= EVENING:
        return (moment + timedelta(days=1)).replace(hour=MORNING, minute=0, second=0, microsecond=0)
    return moment
