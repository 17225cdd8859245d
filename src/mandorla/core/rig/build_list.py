"""What is to be bought for a rig: every part with its size and mass, and what it costs where prices are known."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

from mandorla.core.materials.library_data import bed_materials, joint_kinds, wall_materials
from mandorla.core.rig.bed import OWN_JOINT, Bed, BedLayer, Outline
from mandorla.core.rig.chamber import SIDES
from mandorla.core.rig.model import Rig
from mandorla.core.rig.prices import Price


@dataclass(frozen=True, slots=True)
class Item:
    """A thing to have: a stable ``key``, group, what, its size in words (m to mm), quantity, mass in kg (NaN where it is not
    known)."""

    key: str
    group: str
    what: str
    size: str
    quantity: int
    mass: float


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
STANDARD: Final = (
    0.1,
    0.15,
    0.2,
    0.25,
    0.3,
    0.35,
    0.4,
    0.45,
    0.5,
    0.6,
    0.75,
    1.0,
)  # m, sides that plates and panes are sold in
SENSORS: Final = {
    "thermistor": "Thermistor, glass bead (drifts above about 250 °C)",
    "platinum": "Platinum resistor with its converter",
    "thermocouple": "Thermocouple with its converter",
}
SOFT: Final = ("silicone_foam", "mineral_wool", "cork")  # insulation that sags
CLEAR: Final = 0.005  # m that insulation stays clear of what moves
RESERVE: Final = 1.25  # over the heater's current, which runs for hours
_CORE, _TABLED = 363.15, 303.15  # K that the table's core and its air are at


def conductor(current: float, around: float = 333.15) -> float:
    """Cross-section (m²) of the copper that carries a current (A) for hours where the air is ``around`` (K), inside a machine;
    0 where no usual one does."""
    derated = ((_CORE - around) / (_CORE - _TABLED)) ** 0.5 if around < _CORE else 0.0
    return next((1e-6 * size for size, most in AMPACITY if most * derated >= RESERVE * current), 0.0)


def layer_title(layer: BedLayer) -> str:
    """A layer by its name and what it is made of."""
    return f"{layer.name}: {bed_materials()[layer.material].name if layer.own is None else 'own properties'}"


def standard_size(o: Outline) -> tuple[float, float] | None:
    """The smallest usual size (m) that an outline is cut from; None where it is one, or larger than all."""
    sides = [next((s for s in STANDARD if s >= v - 1e-6), None) for v in (o.width, o.depth)]
    if None in sides:
        return None
    w, d = (float(s) for s in sides if s is not None)
    return None if abs(w - o.width) < 1e-6 and abs(d - o.depth) < 1e-6 else (w, d)


def standard_text(o: Outline) -> str:
    """That a size is a custom one and what it is cut from, in words; empty where it is a usual one."""
    found = standard_size(o)
    if found is None:
        usual = max(o.width, o.depth) <= STANDARD[-1] + 1e-6
        return "" if usual else "; larger than usual sizes: custom"
    more = found[0] * found[1] / (o.width * o.depth) - 1.0
    return f"; custom, or cut from {_mm(*found)} ({100 * more:.0f} % more)"


def touches_what_moves(bed: Bed) -> bool:
    """Whether soft insulation hangs below a bed that moves: it sags onto what runs there."""
    return bed.moves and bed.layers[-1].material in SOFT


def cost(items: tuple[Item, ...], prices: tuple[Price, ...]) -> tuple[float, int]:
    """What all items cost whose price is known, and how many those are."""
    each = {p.item: p.each for p in prices}
    known = [i for i in items if i.key in each]
    return sum(each[i.key] * i.quantity for i in known), len(known)


def bill_of_materials(rig: Rig) -> tuple[Item, ...]:
    """Everything that the rig is described with, bed first."""
    bed, nan = rig.bed, float("nan")
    items = []
    for i, layer in enumerate(bed.layers):
        o = bed.outline_of(i)
        size = f"⌀ {_mm(o.width)}" if o.shape == "round" and o.width == o.depth else _mm(o.width, o.depth)
        mass = o.area * layer.thickness * layer.properties().density
        custom = standard_text(o) if i == 0 or not layer.bonded or layer.material.endswith("aluminium") else ""
        items.append(
            Item(
                f"layer:{layer.key}",
                "Bed",
                layer_title(layer),
                f"{size}, {_mm(layer.thickness)} thick{custom}",
                1,
                mass,
            )
        )
        if layer.joint != OWN_JOINT and i < len(bed.layers) - 1:
            kind = joint_kinds()[layer.joint]
            if layer.joint in ("adhesive", "silicone", "magnetic", "clipped", "bolted", "spacer"):
                under = min(o.area, bed.outline_of(i + 1).area)
                items.append(
                    Item(
                        f"joint:{layer.key}",
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
    items.append(Item("heater", "Electrics", kind_of, supply, max(1, len(heater.zones)), nan))
    switch = "Solid-state relay with heat sink, mains" if heater.mains else "Switching transistor or DC relay"
    items.append(Item("switch", "Electrics", switch, f"more than {1.5 * heater.current:.0f} A", 1, nan))
    section = conductor(heater.current)
    if section > 0.0:
        wire = f"{1e6 * section:g} mm² copper, silicone, rated to 180 °C"
        items.append(Item("wire", "Electrics", "Wire to the heater, both ways (local code decides)", wire, 2, nan))
    else:
        items.append(
            Item("wire", "Electrics", "Wire to the heater", f"{heater.current:.0f} A: ask an electrician", 2, nan)
        )
    items.append(
        Item("sensor", "Electrics", SENSORS[bed.sensor.kind], f"in {bed.layer(bed.sensor.layer).name}", 1, nan)
    )
    for n, fuse in enumerate(bed.fuses):
        items.append(
            Item(
                f"fuse:{n}",
                "Electrics",
                "Thermal fuse",
                f"{fuse.rating - 273.15:.0f} °C, on {bed.layer(fuse.layer).name}",
                1,
                nan,
            )
        )
    if heater.mains:
        items.append(
            Item("earth", "Electrics", "Protective earth lead with ring lug, strain relief", "for the plate", 1, nan)
        )
    else:
        items.append(
            Item("supply", "Electrics", "Low-voltage supply", f"{rig.limits.low_voltage_supply:.0f} W", 1, nan)
        )
    brackets = sum(s.kind == "bracket" for s in bed.spots)
    if brackets:
        items.append(Item("brackets", "Bed", "Bracket or standoff", "as drawn", brackets, nan))
    if bed.magnets:
        force = sum(m.force for m in bed.magnets)
        items.append(
            Item(
                "magnets",
                "Bed",
                "Magnets for the loose plate",
                f"{force:.0f} N together, as drawn",
                len(bed.magnets),
                nan,
            )
        )
    if touches_what_moves(bed):
        items.append(Item("standoffs", "Bed", "Standoffs below the insulation", f"{_mm(CLEAR)} clear", 4, nan))
    c = rig.chamber
    if c.enclosed:
        sizes = {"front": (c.width, c.height), "left": (c.depth, c.height), "floor": (c.width, c.depth)}
        sizes |= {"back": sizes["front"], "right": sizes["left"], "roof": sizes["floor"]}
        for side, panel in zip(SIDES, c.panels.each(), strict=True):
            w, h = sizes[side]
            for n, sheet in enumerate(panel.layers):
                m = wall_materials()[sheet.material]
                if sheet.material != "air_gap":
                    mass = w * h * sheet.thickness * m.density.typical
                    items.append(
                        Item(
                            f"panel:{side}:{n}",
                            "Chamber",
                            f"Panel {side}: {m.name}",
                            f"{_mm(w, h)}, {_mm(sheet.thickness)}",
                            1,
                            mass,
                        )
                    )
            if panel.foil:
                items.append(
                    Item(f"foil:{side}", "Chamber", f"Panel {side}: reflective foil inside", _mm(w, h), 1, nan)
                )
        if c.heater_power > 0.0:
            items.append(
                Item(
                    "chamber-heater",
                    "Chamber",
                    "Chamber heater with fan and its own cut-out",
                    f"{c.heater_power:.0f} W",
                    1,
                    nan,
                )
            )
        if c.exhaust_flow > 0.0:
            items.append(
                Item("exhaust", "Chamber", "Exhaust fan with filter", f"{3600 * c.exhaust_flow:.0f} m³/h", 1, nan)
            )
        items.append(Item("sealant", "Chamber", "Sealant for the joints of the panels", "one cartridge", 1, nan))
    return tuple(items)
