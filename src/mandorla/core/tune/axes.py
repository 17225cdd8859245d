"""What an operating window can be drawn over: each axis with its span, how it is set, and why it may have no effect here."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.failure.ways.soft_feed import FEED_MARGIN
from mandorla.core.materials.plate_library import PlateSurface
from mandorla.core.materials.values import Value
from mandorla.core.part.process import Process
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Settings
from mandorla.core.units import OFF
from mandorla.core.warp.estimate import PartToPrint

_WARM_SIDE: Final = 15.0  # K over the bed's limit that its axis goes on
_LONG_SIDE: Final = 70.0  # K of bed that are looked at
_OVER_FEED: Final = 15.0  # K over what the filament in the feed stands that a heated chamber's axis goes on
_LEAST_ROWS: Final = 20.0  # K, length of that axis at least
_ROOMS: Final = (-15.0, 20.0)  # K about the present room
_COLDEST: Final = 288.15  # K, the least chamber that can be set


class Setup(NamedTuple):
    """What a point of a window is computed for: machine, settings, process, and a factor on the grip that the plate is known to
    have."""

    rig: Rig
    settings: Settings
    process: Process
    grip: float = 1.0


class Ends(NamedTuple):
    """The ends of an axis in SI."""

    low: float
    high: float


@dataclass(frozen=True, slots=True)
class Axis:
    """One axis: stable ``key``, ``title``, ``kind`` of its unit, the ``step`` in which it is set (SI), whether it is ``given``
    (found, not set), the project's ``paths`` that it sets."""

    key: str
    title: str
    kind: str
    step: float
    ends: Callable[[Setup, PartToPrint], Ends]
    value: Callable[[Setup], float]
    put: Callable[[Setup, float], Setup]
    missing: Callable[[Setup, bool], str] = lambda _, __: ""
    paths: tuple[str, ...] = ()
    heats: bool = True  # whether it changes the warm-up

    @property
    def given(self) -> bool:
        """Whether it is what one finds, not what one sets."""
        return not self.paths


def _with_settings(setup: Setup, **change: float) -> Setup:
    return setup._replace(settings=setup.settings.model_copy(update=change))


def _bed_ends(setup: Setup, part: PartToPrint) -> Ends:
    rig, settings = setup.rig, setup.settings
    high = max(min(rig.limits.bed_max, part.polymer.flow_temperature + 25.0) + _WARM_SIDE, settings.bed_rest + 5.0)
    least = rig.room_temperature + 2.0
    present = settings.bed_rest if settings.bed_rest > OFF else least
    return Ends(max(least, min(high - _LONG_SIDE, present - 5.0)), high)


def _put_bed(setup: Setup, value: float) -> Setup:
    """Both set points; the first layers keep their distance to the rest."""
    return _with_settings(setup, bed_rest=value, bed_first=value + setup.settings.hotter_first)


def _bed_of(setup: Setup) -> float:
    """The set point of the rest; a bed that is off stands at the temperature of its room."""
    bed = setup.settings.bed_rest
    return bed if bed > OFF else setup.rig.room_temperature


def _chamber_ends(setup: Setup, part: PartToPrint) -> Ends:
    rig = setup.rig
    # a little over what the machine or the filament in the feed stands, and no farther
    feed = part.polymer.softening_temperature - FEED_MARGIN
    most = min(rig.limits.chamber_max + 10.0, feed + _OVER_FEED)
    low = rig.room_temperature + 1.0
    return Ends(low, max(most, setup.settings.chamber + 5.0, rig.room_temperature + _LEAST_ROWS))


def _room_ends(setup: Setup, _: PartToPrint) -> Ends:
    low, high = (float(np.clip(setup.rig.room_temperature + d, 225.0, 332.0)) for d in _ROOMS)
    return Ends(low, high)


def _off_regulated(setup: Setup, _: bool) -> str:
    return "" if setup.rig.heats_chamber else "this machine cannot choose its chamber"


def _exhaust_missing(setup: Setup, _: bool) -> str:
    chamber = setup.rig.chamber
    if not chamber.enclosed or chamber.exhaust_flow <= 0.0:
        return "this machine has no exhaust fan"
    return "the exhaust runs by the chamber's air" if chamber.exhaust_by_air else ""


def _in_file(_: Setup, from_file: bool) -> str:
    return "the part is printed from G-code, which decides it" if from_file else ""


def _put_exhaust(setup: Setup, value: float) -> Setup:
    chamber = setup.rig.chamber.model_copy(update={"exhaust_fraction": value})
    return setup._replace(rig=setup.rig.model_copy(update={"chamber": chamber}))


def _put_room(setup: Setup, value: float) -> Setup:
    return setup._replace(rig=setup.rig.model_copy(update={"room_temperature": value}))


def _put_process(setup: Setup, **change: float) -> Setup:
    return setup._replace(process=setup.process.model_copy(update=change))


AXES: Final[dict[str, Axis]] = {
    a.key: a for a in (
        Axis("bed", "Bed set point, rest of the print", "set_point", 1.0, _bed_ends, _bed_of, _put_bed,
             paths=("settings.bed_rest", "settings.bed_first")),
        Axis("bed_first", "Bed set point, first layers only", "set_point", 1.0, _bed_ends,
             lambda s: s.settings.bed_first if s.settings.bed_first > OFF else s.rig.room_temperature,
             lambda s, v: _with_settings(s, bed_first=v), paths=("settings.bed_first",)),
        Axis("bed_rest", "Bed set point, rest only", "set_point", 1.0, _bed_ends, _bed_of,
             lambda s, v: _with_settings(s, bed_rest=v), paths=("settings.bed_rest",), heats=False),
        Axis("chamber", "Chamber set point", "temperature", 1.0, _chamber_ends, lambda s: s.settings.chamber,
             lambda s, v: _with_settings(s, chamber=max(v, _COLDEST)), _off_regulated, ("settings.chamber",)),
        Axis("room", "Room temperature", "temperature", 0.5, _room_ends, lambda s: s.rig.room_temperature, _put_room),
        Axis("soak", "Soak", "duration", 60.0, lambda s, _: Ends(0.0, max(3600.0, 1.5 * s.settings.soak_time)),
             lambda s: s.settings.soak_time, lambda s, v: _with_settings(s, soak_time=max(v, 0.0)),
             paths=("settings.soak_time",), heats=False),
        Axis("fan", "Part fan", "fraction", 0.05, lambda _, __: Ends(0.0, 1.0), lambda s: s.settings.fan,
             lambda s, v: _with_settings(s, fan=float(np.clip(v, 0.0, 1.0))), paths=("settings.fan",), heats=False),
        Axis("brim", "Brim width", "length", 0.001, lambda s, _: Ends(0.0, max(0.015, 1.5 * s.process.brim)),
             lambda s: s.process.brim, lambda s, v: _put_process(s, brim=float(np.clip(v, 0.0, 0.05))), _in_file,
             ("process.brim",), heats=False),
        Axis("layer_time", "Shortest layer time", "time_constant", 1.0,
             lambda s, _: Ends(0.0, max(120.0, 1.5 * s.process.minimum_layer_time)),
             lambda s: s.process.minimum_layer_time,
             lambda s, v: _put_process(s, minimum_layer_time=float(np.clip(v, 0.0, 600.0))), _in_file,
             ("process.minimum_layer_time",), heats=False),
        Axis("grip", "Grip of the plate, of what is known", "fraction", 0.05, lambda _, __: Ends(0.3, 2.0), lambda s: s.grip,
             lambda s, v: s._replace(grip=v), heats=False),
        Axis("exhaust", "Exhaust runs at", "fraction", 0.05, lambda _, __: Ends(0.0, 1.0),
             lambda s: s.rig.chamber.exhaust_fraction, _put_exhaust, _exhaust_missing, ("rig.chamber.exhaust_fraction",)),
    )
}  # fmt: skip


def second_axis(rig: Rig) -> str:
    """The second axis where none is asked for: the chamber, or the room where the machine cannot choose its chamber."""
    return "chamber" if rig.heats_chamber else "room"


def axes_of(names: tuple[str, str], setup: Setup, *, from_file: bool) -> tuple[Axis, Axis]:
    """The axes by name; an empty name is the usual one.

    Raises
    ------
    InputError
        For an axis that is unknown, has no effect here, or is the other one as well.
    """
    x, y = names[0] or "bed", names[1] or second_axis(setup.rig)
    for name in (x, y):
        if name not in AXES:
            raise InputError(f"There is no axis “{name}”: {', '.join(AXES)}.")
        why = AXES[name].missing(setup, from_file)
        if why:
            raise InputError(f"“{AXES[name].title}” has no effect here: {why}.")
    beds = {"bed", "bed_first", "bed_rest"}
    if x == y or ({x, y} <= beds and "bed" in {x, y}):
        raise InputError(f"“{AXES[x].title}” and “{AXES[y].title}” are no two axes: one sets the other.")
    return AXES[x], AXES[y]


def with_grip(part: PartToPrint, factor: float) -> PartToPrint:
    """A part on a plate that grips ``factor`` times as well as is known of it."""
    if factor == 1.0:
        return part
    key = part.process.polymer
    grip = part.surface.grip[key]

    def scaled(v: Value) -> Value:
        return Value(factor * v.low, factor * v.typical, factor * v.high, v.source)

    known = replace(grip, strength=scaled(grip.strength), fracture_energy=scaled(grip.fracture_energy))
    surface: PlateSurface = replace(part.surface, grip={**part.surface.grip, key: known})
    return replace(part, surface=surface)
