"""Solids for the tests, made and written by a general-purpose mesh library."""

from __future__ import annotations

from functools import lru_cache

import manifold3d as m3
import trimesh

from mandorla.core.part.mesh import Mesh
from mandorla.core.part.process import Process
from mandorla.core.part.sections import Sections, slice_solid
from mandorla.core.part.solid_file import read_solid_file
from mandorla.core.tune.operating_point import prepare_part
from mandorla.core.warp.estimate import PartToPrint


def stl(mesh: trimesh.Trimesh, kind: str = "stl") -> bytes:
    """STL bytes as the mesh library writes them; ``kind`` is ``stl`` (binary) or ``stl_ascii``."""
    data = mesh.export(file_type=kind)
    return data if isinstance(data, bytes) else data.encode("ascii")


def block(length: float, width: float, height: float) -> trimesh.Trimesh:
    """A block in mm, standing on z = 0."""
    return trimesh.creation.box(extents=(length, width, height))


def stepped_block(length: float, width: float, height: float) -> m3.Manifold:
    """A block whose upper half is half as long and half as wide (mm)."""
    low = m3.Manifold.cube((length, width, height / 2), True).translate((0, 0, height / 4))
    high = m3.Manifold.cube((length / 2, width / 2, height / 2), True).translate((0, 0, 3 * height / 4))
    return low + high


def library_mesh(body: m3.Manifold) -> trimesh.Trimesh:
    """A solid of the solid library as a mesh of the mesh library."""
    mesh = body.to_mesh()
    return trimesh.Trimesh(mesh.vert_properties[:, :3], mesh.tri_verts)


def mesh_of(body: trimesh.Trimesh, name: str = "solid.stl") -> Mesh:
    """Read a library mesh through its own STL."""
    return read_solid_file(stl(body), name, 0.001)


@lru_cache(maxsize=32)
def box_sections(length: float, width: float, height: float) -> Sections:
    """Sections of a block (m)."""
    return slice_solid(mesh_of(block(1e3 * length, 1e3 * width, 1e3 * height)))


@lru_cache(maxsize=1)
def stepped_sections() -> Sections:
    """Sections of a 120 x 60 x 40 mm block whose upper half is half as long and wide."""
    return slice_solid(mesh_of(library_mesh(stepped_block(120.0, 60.0, 40.0))))


def of_size(length: float, width: float, height: float, polymer: str = "asa") -> PartToPrint:
    """A block to print, filled by three tenths."""
    return prepare_part(box_sections(length, width, height), Process(polymer=polymer, infill=0.3))
