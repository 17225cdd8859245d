"""What the machine does while it prints, in words."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from mandorla.core.rig.start import COLD, FRAME_COLD, SWAPPED, WARM
from mandorla.core.units import METRIC, OFF, UnitPreferences, show, show_duration, show_number

if TYPE_CHECKING:
    from mandorla.core.thermal.print_course import PrintCourse
    from mandorla.core.warp.estimate import PartToPrint

STARTS = {
    COLD: "cold, as warm as the room",
    WARM: "warm from the last job",
    SWAPPED: "warm, with a cold plate laid on",
    FRAME_COLD: "bed and air warm, frame still cold",
}
_STEADY = 1.5  # K within which a temperature is said to stay


@dataclass(frozen=True, slots=True)
class Moment:
    """A moment of a print: what it is, ``time`` s since the first layer, ``height`` m reached, surface, air and room in K."""

    what: str
    time: float
    height: float
    surface: float
    air: float
    room: float


def moments_of(course: PrintCourse, part: PartToPrint) -> tuple[Moment, ...]:
    """The moments worth looking at, in order: first layer, first layers done, surface settled, coldest room, end."""
    end = float(course.time[-1])
    named = [("First layer", 0.0)]
    if course.lowered < end - 1.0:
        named.append(("First layers done", course.lowered))
    if np.isfinite(course.follows):
        named.append(("Surface has followed", course.lowered + course.follows))
    coldest = float(course.time[int(np.argmin(course.room))])
    if float(np.ptp(course.room)) > 1.0 and 0.0 < coldest < end:
        named.append(("Room coldest", coldest))
    named.append(("Last layer", end))
    return tuple(
        Moment(
            what,
            t,
            part.height_at(t),
            course.at(t, course.surface),
            course.at(t, course.air),
            course.at(t, course.room),
        )
        for what, t in sorted(named, key=lambda pair: pair[1])
    )


def _range(low: float, high: float, prefs: UnitPreferences) -> str:
    if high - low < _STEADY:
        return f"stays at {show(0.5 * (low + high), 'temperature', prefs, digits=0)}"
    first = show_number(low, "temperature", prefs, digits=0)
    return f"lies between {first} and {show(high, 'temperature', prefs, digits=0)}"


def _changed(before: float, last: float, prefs: UnitPreferences) -> str:
    if last <= OFF:
        return "switched off"
    by = show(abs(before - last), "temperature_difference", prefs, digits=0)
    return f"{'lowered' if last < before else 'raised'} by {by}"


def print_sentence(course: PrintCourse, part: PartToPrint, enclosed: bool, prefs: UnitPreferences = METRIC) -> str:
    """How surface, air and room go while it prints."""
    after = course.time >= min(course.lowered, 0.5 * float(course.time[-1]))
    text = ""
    before, last = float(course.set_point[0]), float(course.set_point[-1])
    if np.isfinite(course.follows):
        height = show(part.height_at(course.lowered + course.follows), "length", prefs)
        text = (
            f"The bed is {_changed(before, last, prefs)} after the first layers: its surface has followed after "
            f"{show_duration(course.follows)}, at a height of {height}. "
        )
        after = course.time >= course.lowered + course.follows
    elif abs(before - last) > _STEADY:
        text = f"The bed is {_changed(before, last, prefs)} after the first layers, but the print ends before its surface follows. "
    surface = course.surface[after]
    text += f"While {'the rest' if np.isfinite(course.follows) else 'it'} is printed" if text else "While it prints"
    text += f" the surface {_range(float(surface.min()), float(surface.max()), prefs)}"
    what = "the chamber's air" if enclosed else "the air over the bed"
    thirds = course.means(course.air, np.linspace(0.0, float(course.time[-1]), 4))
    if float(np.ptp(thirds)) < _STEADY:
        return f"{text}, {what} {_range(float(course.air.min()), float(course.air.max()), prefs)}."
    first, end = (show(v, "temperature", prefs, digits=0) for v in (float(course.air[0]), float(course.air[-1])))
    most = float(course.air.max())
    top = ""
    if most > max(float(course.air[0]), float(course.air[-1])) + 1.0:
        top = f", at most {show(most, 'temperature', prefs, digits=0)}"
    return f"{text}, {what} goes from {first} to {end}{top}."


def log_ends(course: PrintCourse) -> str:
    """That the room's log is shorter than the print; empty where it is not."""
    short = float(course.time[-1]) - course.unknown_from
    if short <= 60.0:
        return ""
    return f"the room's log ends {show_duration(short)} before the print does: its last temperature is kept until then"
