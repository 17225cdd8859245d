"""Results about the part itself, and what the bed's mass means for its print."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

from mandorla.core.part.geometry import PartGeometry, geometry_of
from mandorla.core.part.print_time import plan_print
from mandorla.core.project.store import Bundle
from mandorla.core.results.key import Key
from mandorla.core.results.keys import GEOMETRY, MOVED_MASS
from mandorla.core.results.registry import Have, computes
from mandorla.core.runtime import RunContext

_THICKER: Final = (0.5, 0.75, 1.0, 1.5)  # times the plate that is there


@computes(GEOMETRY)
def geometry(_: Key[PartGeometry | None], bundle: Bundle, __: Have, run: RunContext) -> PartGeometry | None:
    """The part's mesh and sections as it stands on the plate; None without a part."""
    source = bundle.project.part
    return None if source is None else geometry_of(source, bundle.originals)


@dataclass(frozen=True, slots=True)
class MovedMass:
    """A thickness (m) of the plate, the stack's ``mass`` (kg) with it, the ``acceleration`` (m/s²) that the drive stands, and
    how long the part takes to print with no more than that (s)."""

    thickness: float
    mass: float
    acceleration: float
    duration: float


@computes(MOVED_MASS)
def moved_mass(_: Key[tuple[MovedMass, ...]], bundle: Bundle, have: Have, run: RunContext) -> tuple[MovedMass, ...]:
    """What a thinner or thicker plate of a bed that moves does to acceleration and print time; empty where the bed stands still or
    nothing is known of its drive or of a part."""
    rig, process, part = bundle.project.rig, bundle.project.process, have(GEOMETRY)
    bed, force = rig.bed, rig.limits.drive_force
    if not bed.moves or force <= 0.0 or part is None:
        return ()
    core = max(range(len(bed.layers)), key=lambda i: bed.layers[i].properties().modulus * bed.layers[i].thickness ** 3)
    found = []
    for times in _THICKER:
        layers = list(bed.layers)
        layers[core] = layers[core].model_copy(update={"thickness": times * layers[core].thickness})
        other = bed.model_copy(update={"layers": tuple(layers)})
        most = force / other.mass
        plan = plan_print(part.sections, process.model_copy(update={"acceleration": min(process.acceleration, most)}))
        found.append(MovedMass(layers[core].thickness, other.mass, most, plan.duration))
    return tuple(found)
