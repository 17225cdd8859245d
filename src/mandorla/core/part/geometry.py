"""A part as it stands on the plate: the mesh is read, laid, copied and cut once, and checked against its G-code."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path

import numpy as np

from mandorla.core.errors import InputError, MeshError, Problem
from mandorla.core.input_file import bytes_of
from mandorla.core.part.arrange import Direction, Side, bodies_of, copied, laid, sides_of
from mandorla.core.part.features import Feature, find_features, turned_features
from mandorla.core.part.gcode import PrintFile, read_gcode
from mandorla.core.part.mesh import Mesh, simplified, turned
from mandorla.core.part.process import PartSource, Placement
from mandorla.core.part.sections import Sections, slice_solid, turned_sections
from mandorla.core.part.solid_file import read_solid_file
from mandorla.core.runtime import RunContext


@dataclass(frozen=True, slots=True)
class PartGeometry:
    """A part as it stands on the plate; ``shown`` is its mesh, simplified for pictures, ``file`` the G-code that prints it,
    ``features`` what about its shape drives failure. ``body`` is the mesh of the body that has most to hold, the whole where there
    is one only; ``sides`` what the drawn part can lie on."""

    mesh: Mesh
    sections: Sections
    shown: Mesh
    body: Mesh
    sides: tuple[Side, ...] = ()
    file: PrintFile | None = None
    features: tuple[Feature, ...] = ()


@lru_cache(maxsize=8)
def _drawn(data: bytes, name: str, unit_scale: float) -> tuple[Mesh, tuple[Side, ...]]:
    mesh = read_solid_file(data, name, unit_scale)
    return mesh, sides_of(mesh)


@lru_cache(maxsize=8)
def _geometry(
    data: bytes, name: str, unit_scale: float, down: Direction, columns: int, rows: int, gap: float
) -> PartGeometry:
    drawn, sides = _drawn(data, name, unit_scale)
    mesh = copied(laid(drawn, down), columns, rows, gap)
    bodies = bodies_of(mesh)
    sections = slice_solid(mesh)
    body = hardest_to_hold(bodies)
    if len(bodies) > 1:
        sections = replace(sections, body=slice_solid(body), bodies=len(bodies))
    features = find_features(mesh, sections)
    if sections.body is not None:
        # what is said of the whole batch is that its pieces are small; the rest is shown once, on the one that is estimated
        small = tuple(f for f in features if f.kind == "small piece")
        features = (*find_features(body, sections.body), *small)
    return PartGeometry(mesh, sections, simplified(mesh), body, sides, features=features)


def hardest_to_hold(bodies: tuple[Mesh, ...]) -> Mesh:
    """The body with the longest foot, which peels most; of equals the one farthest from the middle, where a bed is coldest."""

    def rank(m: Mesh) -> tuple[float, float]:
        middle = 0.5 * (m.vertices.min(axis=0) + m.vertices.max(axis=0))
        return round(float(m.size[:2].max()), 4), float(np.hypot(*middle[:2]))

    return max(bodies, key=rank)


def read_part(data: bytes, name: str, unit_scale: float, placement: Placement | None = None) -> PartGeometry:
    """A mesh file's bytes as a part that lies and is copied as a placement says, not yet turned; kept for the next call.

    Raises :class:`MeshError`.
    """
    p = placement or Placement()
    return _geometry(data, name, unit_scale, p.down, p.columns, p.rows, p.gap)


def geometry_of(source: PartSource, originals: Mapping[str, bytes]) -> PartGeometry:
    """A part's mesh and sections as it is placed, with the G-code that prints it.

    Parameters
    ----------
    source
        Where the part comes from and how it is placed.
    originals
        Bytes of the imported files by name.

    Raises
    ------
    MeshError
        A file that is no printable part, or G-code that prints another one.
    """
    drawn = read_part(originals[source.file], source.file, source.unit_scale * source.scale, source.placement)
    turn = source.placement.turn
    file = None
    if source.gcode:
        file = read_print_file(originals[source.gcode], source.gcode, source.filament)
        check_same_part(file, drawn, source.gcode)
    return PartGeometry(
        turned(drawn.mesh, turn), turned_sections(drawn.sections, turn), turned(drawn.shown, turn), turned(drawn.body, turn),
        drawn.sides, file, turned_features(drawn.features, turn),
    )  # fmt: skip


@lru_cache(maxsize=4)
def read_print_file(data: bytes, name: str, filament: float) -> PrintFile:
    """G-code's bytes as what they print, kept for the next call. Raises :class:`MeshError`."""
    return read_gcode(data, name, filament)


def check_same_part(file: PrintFile, part: PartGeometry, name: str) -> None:
    """Refuse G-code that does not print this part: another height, or a plan that is smaller than the part's.

    Raises :class:`MeshError`. A brim or a skirt may make the plan larger.
    """
    size = part.mesh.size
    height = float(file.extent[2])
    if abs(height - size[2]) > 0.03 * size[2] + 6e-4:
        raise MeshError(
            f"{name} does not print this part.",
            problems=(Problem("height", f"{1e3 * height:.1f} mm", f"{1e3 * size[2]:.1f} mm, the part's, within 3 %"),),
        )
    plan, wanted = sorted(file.extent[:2]), sorted(size[:2])
    if any(a < 0.95 * b - 1e-3 for a, b in zip(plan, wanted, strict=True)):
        raise MeshError(
            f"{name} does not print this part.",
            problems=(
                Problem(
                    "plan", f"{1e3 * plan[0]:.0f} × {1e3 * plan[1]:.0f} mm", "the part's outline, or more with a brim"
                ),
            ),
        )


def read_part_file(path: Path, unit_scale: float, run: RunContext) -> bytes:
    """The bytes of a mesh file that is a printable part. Raises :class:`MeshError` or :class:`InputError`."""
    data = bytes_of(path)
    run.checkpoint(0.1, "reading the mesh")
    read_part(data, path.name, unit_scale)
    return data


def read_gcode_file(path: Path, source: PartSource | None, originals: Mapping[str, bytes], run: RunContext) -> bytes:
    """The bytes of G-code that prints a part. Raises :class:`MeshError` or :class:`InputError`."""
    if source is None:
        raise InputError("Open the part first: G-code tells how it is printed, not what it is.")
    data = bytes_of(path)
    run.checkpoint(0.1, "reading the G-code")
    file = read_print_file(data, path.name, source.filament)
    drawn = read_part(originals[source.file], source.file, source.unit_scale * source.scale, source.placement)
    check_same_part(file, drawn, path.name)
    return data
