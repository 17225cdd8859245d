"""From a project to its results: the mesh is read, cut and bound once, evaluations follow."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

from mandorla.core.part.mesh import Mesh, simplified, turned
from mandorla.core.part.process import Placement
from mandorla.core.part.sections import Sections, slice_solid, turned_sections
from mandorla.core.part.solid_file import read_solid_file
from mandorla.core.project.store import Bundle
from mandorla.core.tune.evaluate import Evaluation, evaluate, prepare_part


@dataclass(frozen=True, slots=True)
class PartGeometry:
    """A part as it stands on the plate; ``shown`` is its mesh, simplified where it is too fine for a picture."""

    mesh: Mesh
    sections: Sections
    shown: Mesh


@lru_cache(maxsize=8)
def _geometry(data: bytes, name: str, unit_scale: float) -> PartGeometry:
    mesh = read_solid_file(data, name, unit_scale)
    return PartGeometry(mesh, slice_solid(mesh), simplified(mesh))


def read_part(data: bytes, name: str, unit_scale: float) -> PartGeometry:
    """A mesh file's bytes as a part in the position it was drawn in, kept for the next call. Raises :class:`MeshError`."""
    return _geometry(data, name, unit_scale)


def geometry_of(bundle: Bundle) -> PartGeometry | None:
    """The part's mesh and sections, or None without a part. Raises :class:`MeshError`."""
    source = bundle.project.part
    if source is None:
        return None
    drawn = read_part(bundle.originals[source.file], source.file, source.unit_scale * source.scale)
    turn = source.placement.turn
    return PartGeometry(turned(drawn.mesh, turn), turned_sections(drawn.sections, turn), turned(drawn.shown, turn))


def evaluate_bundle(bundle: Bundle, geometry: PartGeometry | None, *, with_bands: bool = True) -> Evaluation:
    """Evaluate a project's settings with the quick models."""
    project = bundle.project
    part = prepare_part(geometry.sections, project.process) if geometry is not None else None
    placement = project.part.placement if project.part is not None else Placement()
    return evaluate(project.rig, project.settings, project.criteria, part, placement, with_bands=with_bands)
