"""What can be chosen about results: faults, resolutions, faces, unknowns, programs; and figures that views refer to.

Loads the numerics: for pages, which load after the first picture, and for commands.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Final

from mandorla.core.measure.correct import SHARES as CORRECTION_SHARES
from mandorla.core.measure.exercise import Exercise
from mandorla.core.measure.heights import air_between, height_map
from mandorla.core.measure.image import INSIDE as IMAGE_INSIDE
from mandorla.core.measure.models import StoredHeights
from mandorla.core.part.mesh import Floats
from mandorla.core.part.process import Placement
from mandorla.core.project.store import Bundle
from mandorla.core.results.heat import NOW, REMEDIES
from mandorla.core.results.warp import CHOICES as RESOLUTIONS
from mandorla.core.results.warp import warped_stl
from mandorla.core.rig.air_gap import AirGap
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import ProgramStep, Settings
from mandorla.core.thermal.faults import FAULTS as _FAULTS
from mandorla.core.thermal.parameter_samples import CONVECTION_UNKNOWN, SENSOR_UNKNOWN, rig_unknowns
from mandorla.core.thermal.program import soak, two_stage
from mandorla.core.thermal.surface_history import ready_time, section_along, under_part
from mandorla.core.tune.axes import AXES, Setup, second_axis
from mandorla.core.tune.operating_point import EVEN, place_on_bed
from mandorla.core.tune.optimum import FREE, OBJECTIVES
from mandorla.core.warp.fe_result import FACES, NOTICED, peak_to_valley
from mandorla.core.warp.unknowns import Z90

FAULTS: Final[Mapping[str, str]] = {key: f.name for key, f in _FAULTS.items()}
PROGRAMS: Final[Mapping[str, Callable[[Settings], tuple[ProgramStep, ...]]]] = {"soak": soak, "two-stage": two_stage}


def unknown_names(rig: Rig) -> tuple[str, ...]:
    """Names of a rig's unknowns, as a fit chooses among them."""
    return tuple(u.name for u in rig_unknowns(rig))


def begin_exercise(bundle: Bundle, seed: int) -> Exercise:
    """A mystery rig on the bench, drawn about the project's."""
    p = bundle.project
    return Exercise.begin(p.rig, p.settings, p.criteria, seed)


def outline_on_bed(footprint: Floats, placement: Placement) -> Floats:
    """A part's outline (k, 2) m on the bed."""
    return place_on_bed(footprint, placement)


def air_from_maps(bundle: Bundle, bed: StoredHeights, plate: StoredHeights) -> AirGap:
    """The air below a plate from the height maps of two sessions. Raises :class:`InputError` where they do not belong together."""
    rig = bundle.project.rig
    below, above = (height_map(stored, bundle.originals[stored.file]) for stored in (bed, plate))
    return air_between(below, above, (rig.bed.width, rig.bed.depth), f"{plate.name} over {bed.name}")


def axis_choices(bundle: Bundle) -> tuple[tuple[str, str, str], ...]:
    """Every axis of an operating window: key, title, and why it has no effect on this project (empty: it has)."""
    p = bundle.project
    setup = Setup(p.rig, p.settings, p.process)
    from_file = p.part is not None and p.part.gcode is not None
    return tuple((a.key, a.title, a.missing(setup, from_file)) for a in AXES.values())


__all__ = [
    "CONVECTION_UNKNOWN", "CORRECTION_SHARES", "EVEN", "FACES", "FAULTS", "FREE", "IMAGE_INSIDE", "NOTICED", "NOW",
    "OBJECTIVES", "PROGRAMS", "REMEDIES", "RESOLUTIONS", "SENSOR_UNKNOWN", "Z90", "air_from_maps", "axis_choices", "begin_exercise",
    "outline_on_bed", "peak_to_valley", "ready_time", "second_axis", "section_along", "under_part", "unknown_names",
    "warped_stl",
]  # fmt: skip
