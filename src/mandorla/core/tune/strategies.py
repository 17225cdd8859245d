"""Ways to go about a print that schools swear by, each with the settings that may vary in it: none is the winner beforehand."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Final

from mandorla.core.failure.ways.soft_feed import FEED_GOOD
from mandorla.core.materials.plate_library import PlateSurface, plate_surfaces
from mandorla.core.part.process import Process
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Settings
from mandorla.core.units import OFF

_BEDS: Final = (-15.0, -8.0, 0.0, 8.0)  # K about the temperature at which the surface grips best
_LOWER: Final = (10.0, 20.0, 30.0, 45.0)  # K that the rest is colder than the first layers
_SOAKS: Final = (1200.0, 3000.0)  # s
_SURFACES: Final = 3  # that grip cold best, of those that the library knows
_COLDEST: Final = 288.15  # K, the least chamber that can be set


@dataclass(frozen=True, slots=True)
class Try:
    """A candidate: what it ``changes`` of the project by path (settings, process, rig), SI."""

    changes: Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class Strategy:
    """A way to go about it: ``key``, ``title``, the ``reason`` that its school gives, what may vary in it; or why it cannot be
    tried."""

    key: str
    title: str
    reason: str
    tries: tuple[Try, ...]
    missing: str = ""


def strategies(rig: Rig, settings: Settings, process: Process) -> tuple[Strategy, ...]:
    """All strategies for a print, with their candidates."""
    return (
        _hot(rig, settings, process), _tacky(rig, settings, process), _lowered(rig, settings, process),
        _sealed(rig, settings, process), _vented(rig, settings, process),
    )  # fmt: skip


def _beds(rig: Rig, process: Process) -> tuple[float, ...]:
    """Bed set points (K) about the best grip, whole degrees, as the machine allows."""
    grip = process.plate_surface().grip.get(process.polymer)
    if grip is None:
        return ()
    peak = grip.peak_temperature.typical + 4.0  # what a surface is colder than its set point, roughly
    found = {min(round(peak + d - 273.15) + 273.15, rig.limits.bed_max) for d in _BEDS}
    return tuple(sorted(b for b in found if b > rig.start_temperature + 5.0))


def _airs(rig: Rig, settings: Settings, process: Process) -> tuple[float, ...]:
    """Chamber set points (K): as it is, and as warm as machine and feed stand."""
    if not rig.heats_chamber:
        return (settings.chamber,)
    warm = min(process.material().softening_temperature - FEED_GOOD, rig.limits.chamber_max - 2.0)
    warm = max(float(round(warm - 273.15)) + 273.15, settings.chamber)
    return tuple(sorted({settings.chamber, warm, 0.5 * (settings.chamber + warm)}))


def _hot(rig: Rig, settings: Settings, process: Process) -> Strategy:
    tries = [
        Try({"settings.bed_first": bed, "settings.bed_rest": bed, "settings.chamber": air})
        for bed in _beds(rig, process) for air in _airs(rig, settings, process)
    ]  # fmt: skip
    reason = "The plate stays as hot as the surface grips best all through the print: nothing cools at the corners."
    return Strategy(
        "hot", "Hot plate", reason, tuple(tries), "" if tries else "the surface is not made for this polymer"
    )


def cold_surfaces(process: Process) -> tuple[PlateSurface, ...]:
    """The surfaces that grip a polymer best without heat, the best first."""
    known = [s for s in plate_surfaces().values() if process.polymer in s.grip]

    def cold(s: PlateSurface) -> float:
        grip = s.grip[process.polymer]
        return grip.strength.typical * grip.cold_fraction.typical

    return tuple(sorted(known, key=cold, reverse=True)[:_SURFACES])


def _tacky(rig: Rig, settings: Settings, process: Process) -> Strategy:
    reason = "A surface that grips cold needs no heat; the part is never much hotter below than above, so that it shrinks evenly."
    if rig.limits.insists:
        return Strategy("tacky", "Tacky plate, not heated", reason, (), "this machine insists on a target for the bed")
    off = {"settings.bed_first": OFF, "settings.bed_rest": OFF, "settings.soak_time": 0.0}
    if rig.heats_chamber:
        off["settings.chamber"] = _COLDEST
    plain = {"process.plate": "", "process.coating": "", "process.plate_state": "clean"}
    tries = [Try(off)]
    tries += [
        Try({**off, **plain, "process.surface": s.key}) for s in cold_surfaces(process) if s.key != process.surface_key
    ]  # fmt: skip
    return Strategy("tacky", "Tacky plate, not heated", reason, tuple(tries))


def _lowered(rig: Rig, settings: Settings, process: Process) -> Strategy:
    reason = "The first layers are laid hot, so that they wet the plate; then it is lowered, so that the foot is firm."
    tries = []
    for bed in _beds(rig, process)[1:]:
        for air in _airs(rig, settings, process)[-2:]:
            for lower in _LOWER:
                if bed - lower > rig.start_temperature + 5.0:
                    tries.append(
                        Try({"settings.bed_first": bed, "settings.bed_rest": bed - lower, "settings.chamber": air})
                    )
    if not rig.limits.insists:
        tries += [Try({"settings.bed_first": b, "settings.bed_rest": OFF}) for b in _beds(rig, process)[1:2]]
    return Strategy("lowered", "Hot first layers, then lower", reason, tuple(tries), "" if tries else "no bed to lower")


def _sealed(rig: Rig, settings: Settings, process: Process) -> Strategy:
    reason = "Closed, without exhaust and part fan, soaked until walls and frame are warm: warm still air all around the part."
    if not rig.chamber.enclosed:
        return Strategy("sealed", "Sealed and soaked", reason, (), "this machine has no chamber")
    shut = {
        "rig.chamber.exhaust_fraction": 0.0,
        "rig.chamber.exhaust_by_air": False,
        "rig.chamber.vent_area": 0.0,
        "settings.fan": 0.0,
    }
    tries = [
        Try({**shut, "settings.bed_first": bed, "settings.bed_rest": bed, "settings.chamber": air, "settings.soak_time": soak})
        for bed in _beds(rig, process)[1:3] for air in _airs(rig, settings, process)[-2:] for soak in _SOAKS
    ]  # fmt: skip
    return Strategy(
        "sealed", "Sealed and soaked", reason, tuple(tries), "" if tries else "the surface is not made for this polymer"
    )


def _vented(rig: Rig, settings: Settings, process: Process) -> Strategy:
    reason = "Warm air is let out, the part fan runs: layers set at once, and the filament stays firm in its feed."
    if not rig.chamber.enclosed:
        return Strategy("vented", "Vented", reason, (), "this machine stands in the open already")
    out: dict[str, Any] = {"settings.chamber": _COLDEST, "rig.chamber.exhaust_by_air": False}
    if rig.chamber.exhaust_flow > 0.0:
        out["rig.chamber.exhaust_fraction"] = 1.0
    else:
        out["rig.chamber.vent_area"] = max(rig.chamber.vent_area, 0.02)
    tries = [
        Try({**out, "settings.bed_first": bed, "settings.bed_rest": bed, "settings.fan": fan})
        for bed in _beds(rig, process) for fan in sorted({settings.fan, 0.3, 0.6})
    ]  # fmt: skip
    return Strategy(
        "vented", "Vented", reason, tuple(tries), "" if tries else "the surface is not made for this polymer"
    )
