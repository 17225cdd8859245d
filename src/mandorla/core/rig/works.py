"""In which order, and on which days, a rig is put together."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Final

from mandorla.core.materials.library_data import joint_kinds
from mandorla.core.rig.bed import Bed
from mandorla.core.rig.build_list import CLEAR, touches_what_moves
from mandorla.core.rig.model import Rig

SEALANT_CURE: Final = timedelta(days=1)
MORNING: Final = 8
EVENING: Final = 17


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


def _bonding(bed: Bed) -> list[Work]:
    """The joints of the stack: what is laid onto the plate first, then what goes below it; what cures, together where it can."""
    layers, kinds, found = bed.layers, joint_kinds(), []
    core = max(range(len(layers)), key=lambda i: layers[i].properties().modulus * layers[i].thickness ** 3)
    joints = [
        (i, kinds[layers[i].joint]) for i in range(len(layers) - 1) if layers[i].joint in kinds and layers[i].bonded
    ]
    cures = [(i, kind) for i, kind in joints if kind.cure_time > 0.0]
    if cures:
        found.append(
            Work(
                "Dry-fit the stack, then degrease, scuff and dry every face that is bonded",
                "mark where the wires leave; alcohol, a fine abrasive, alcohol again; no bare hands afterwards", 1.0,
            )
        )  # fmt: skip
    loose = -1 if bed.loose_plate is None else bed.loose_plate
    on_top = [(i, kind) for i, kind in reversed(cures) if loose < i < core]
    below = [(i, kind) for i, kind in cures if i >= core]
    apart = [(i, kind) for i, kind in cures if i < loose]
    if on_top and below:
        names = ", ".join(layers[i].name for i, _ in on_top)
        under = ", ".join(layers[i + 1].name for i, _ in below)
        care = "; ".join(dict.fromkeys(kind.care for _, kind in (*on_top, *below)))
        time = timedelta(seconds=max(kind.cure_time for _, kind in cures))
        found.append(
            Work(
                f"Bond {names} onto {layers[core].name}, turn it over, then {under}; cure both together under one even weight",
                f"a magnet before a mat, which then lies on top; {care}; a heater mat is never cut", 1.5, time,
            )
        )  # fmt: skip
    else:
        apart += [*on_top, *below]
    for i, kind in apart:
        lower = layers[i + 1].name
        care = f"{kind.care}; a heater mat is never cut" if layers[i + 1].key == bed.heater.layer else kind.care
        what = f"Bond {layers[i].name} to {lower}" if i < core else f"Bond {lower} to {layers[i].name}"
        found.append(Work(what, care, 0.75, timedelta(seconds=kind.cure_time)))
    for i, kind in joints:
        if kind.cure_time <= 0.0:
            found.append(Work(f"Join {layers[i + 1].name} and {layers[i].name}", kind.care, 0.5))
    heater = bed.layer_index(bed.heater.layer)
    if bed.heater.kind == "mat" and heater > 0 and (heater - 1) in {i for i, _ in cures}:
        found.append(
            Work(
                "Run a bead of silicone around the mat's edge",
                "a thin fillet keeps the edge from lifting; the wires leave in a loose loop, held where they cannot pull", 0.5,
                SEALANT_CURE,
            )
        )  # fmt: skip
    if touches_what_moves(bed):
        found.append(
            Work(
                "Fit standoffs below the insulation",
                f"{1e3 * CLEAR:.0f} mm clear of rails and belts, hot",
                0.5,
            )
        )
    return found


def works(rig: Rig) -> tuple[Work, ...]:
    """The steps in the order in which they are best done."""
    bed, found = rig.bed, []
    if rig.chamber.enclosed:
        found.append(
            Work(
                "Cut and fit the panels, seal the joints", "leave the door to the last; air the room", 4.0, SEALANT_CURE
            )
        )
    found += _bonding(bed)
    places = ", ".join(dict.fromkeys(bed.layer(f.layer).name for f in bed.fuses)) or "no fuse is planned"
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
