"""A project to begin with: a machine from its facts, a polymer on a surface, the set points that this pair usually has."""

from __future__ import annotations

from pathlib import PurePath
from typing import Final

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.failure.ways.soft_feed import FEED_GOOD
from mandorla.core.materials.library_data import Polymer, polymers
from mandorla.core.materials.plate_library import Adhesion, plate_surfaces
from mandorla.core.measure.machine_from_log import LogBeginning as LogBeginning
from mandorla.core.measure.machine_from_log import machine_from_log as machine_from_log
from mandorla.core.measure.models import Measurements
from mandorla.core.part.process import PartSource, Process
from mandorla.core.project.models import Project, build
from mandorla.core.project.store import Bundle
from mandorla.core.rig.archetypes import Facts, machine_of
from mandorla.core.rig.bed import Fuse
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.thermal.fuse_choice import fuse_range
from mandorla.core.thermal.heatup import heat_up
from mandorla.core.units import UnitPreferences, show, show_number

_BELOW_PEAK: Final = 3.0  # K under the temperature at which a pair holds best: above it the grip falls
_FIRST: Final = 5.0  # K more for the first layers
_BELOW_FREE: Final = 35.0  # K under the stress-free temperature that a chamber is usually set to
_SOFT: Final = 345.0  # K of glass transition below which an amorphous part is blown at
_MILD: Final = 362.0  # K below which it is blown at a little: enough for overhangs, and layers still weld
_LITTLE: Final = 0.3
_TOGETHER: Final = 1.5  # between both ends of a band, from which heater and plate are hardly told apart by a log
_COLD: Final = 288.15  # K


def begun_settings(rig: Rig, polymer: Polymer, grip: Adhesion) -> Settings:
    """Set points that a polymer on a surface usually has, within what the machine can and the filament in the feed stands."""
    best = min(grip.peak_temperature.typical - _BELOW_PEAK, rig.limits.bed_max - _FIRST)
    rest = max(best, _COLD)
    chamber = rig.room_temperature
    if rig.heats_chamber:
        wanted = polymer.stress_free_temperature.typical - _BELOW_FREE
        wanted = min(wanted, polymer.softening_temperature - FEED_GOOD, rig.limits.chamber_max)
        chamber = max(wanted, rig.room_temperature)
    softens, fan = polymer.glass_transition.typical, 0.0
    if polymer.structure.startswith("amorphous"):
        fan = 1.0 if softens < _SOFT else _LITTLE if softens < _MILD else 0.0
    return Settings(
        bed_first=min(rest + _FIRST, rig.limits.bed_max), bed_rest=rest, chamber=chamber, fan=fan, soak_time=600.0
    )


def with_fitting_fuses(rig: Rig, settings: Settings) -> Rig:
    """The rig with the fuses that it should have at heater and plate: above normal use, below what damages anything; where no
    rating does both, the least that does not open in normal use."""
    criteria = Criteria()
    heat, fuses = heat_up(rig, settings, criteria, with_bands=False), []
    for layer in dict.fromkeys((rig.bed.heater.layer, rig.bed.sensor.layer)):
        found = fuse_range(rig, settings, criteria, heat, layer)
        rating = 0.5 * (found.least + found.most) if found.possible and np.isfinite(found.most) else found.least
        fuses.append(Fuse(layer=layer, rating=float(np.clip(rating, 325.0, 690.0))))
    return rig.model_copy(update={"bed": rig.bed.model_copy(update={"fuses": tuple(fuses)})})


def begun_project(
    machine: Facts | Rig,
    polymer: str,
    part: tuple[str, bytes, float] | None = None,
    name: str = "",
    surface_key: str = "",
    log: LogBeginning | None = None,
) -> Bundle:
    """A project with a machine from its facts, or one that was kept.

    Parameters
    ----------
    machine
        What is known of the machine, or a whole one.
    polymer
        Key of the polymer.
    part
        Name of the mesh file, its bytes, metres of its unit.
    name
        The project's name; else the part's, else the machine's.
    surface_key
        What is printed on; else the facts'.
    log
        The machine as one heat-up log has it, in the place of that of the facts; the log becomes a session of the project.

    Raises
    ------
    InputError
        A polymer that is not in the library, or whose grip on that surface is not known (those that are known are named); facts
        that make no machine.
    """
    on = surface_key or (machine.surface if isinstance(machine, Facts) else Process().surface)
    if polymer not in polymers():
        raise InputError(f"Polymer “{polymer}” is not in the library: {', '.join(sorted(polymers()))}.")
    surface = plate_surfaces()[on]
    if polymer not in surface.grip:
        known = sorted(k for k, s in plate_surfaces().items() if polymer in s.grip)
        raise InputError(
            f"How {polymer.upper()} grips on {surface.name.lower()} is not known; it is on: {', '.join(known)}."
        )
    process = Process(polymer=polymer, surface=on)
    rig = machine_of(machine) if isinstance(machine, Facts) else machine
    rig = rig if log is None else log.rig
    settings = begun_settings(rig, process.material(), surface.grip[polymer])
    if isinstance(machine, Facts):
        rig = with_fitting_fuses(rig, settings)
    source: PartSource | None = None
    originals: dict[str, bytes] = {}
    if part is not None:
        file, data, unit = part
        source, originals = (
            PartSource(name=PurePath(file).stem[:200], file=file[-200:], unit_scale=unit),
            {file[-200:]: data},
        )
    if log is not None:
        originals[log.file] = log.data
    title = name or (source.name if source is not None else rig.name)
    data_of: dict[str, object] = {
        "name": title[:80],
        "rig": rig,
        "process": process,
        "settings": settings,
        "part": source,
    }
    if log is not None:
        data_of["measurements"] = Measurements(sessions=(log.session,))
    made = build(Project, data_of, "project")
    assert isinstance(made, Project)
    return Bundle(made, originals)


def log_lines(log: LogBeginning, prefs: UnitPreferences) -> tuple[str, ...]:
    """What a log says, a line a figure, with its 90 % band; and what it cannot tell."""
    lines = []
    for s in log.says:
        band = f"{show_number(s.low, s.kind, prefs)} to {show(s.high, s.kind, prefs)}"
        if s.learned:
            lines.append(f"{s.name}: {show(s.value, s.kind, prefs)} ({band}); assumed {show(s.before, s.kind, prefs)}")
        else:
            lines.append(f"{s.name}: {show(s.value, s.kind, prefs)} ({band}): the log says no more than was known")
    if all(s.high > _TOGETHER * s.low for s in log.says if s.key in ("heater", "plate")):
        lines.append(
            "Heater and plate together decide how fast it heats: state one of them, or log the plug's power as well"
        )
    lines.append(
        f"The machine follows the log to {show(log.misfit, 'temperature_difference', prefs)} (root mean square)"
    )
    if log.built:
        lines.append(f"Built otherwise than is usual, as the log has it: {'; '.join(b.words for b in log.built)}")
    lines += [f"Odd about the log: {odd}" for odd in log.oddities]
    return tuple(lines)
