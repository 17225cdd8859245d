"""Opens the mesh files that Mandorla reads, told apart by their content: STL, OBJ and 3MF."""

from __future__ import annotations

from typing import Final

from mandorla.core.part.mesh import Mesh, finite, read_stl, solid_from_triangles
from mandorla.core.part.obj import read_obj
from mandorla.core.part.three_mf import read_3mf

SUFFIXES: Final = (".stl", ".obj", ".3mf")
STATES_ITS_UNIT: Final = ".3mf"  # always opened in mm: the file says itself what its numbers are


def read_solid_file(data: bytes, name: str, unit_scale: float) -> Mesh:
    """A mesh file's bytes as a closed solid.

    ``unit_scale`` is metres per file unit; 3MF is brought to millimetres by the unit that it states. Several bodies become one.
    Raises :class:`MeshError` with the value and what is allowed.
    """
    if data.startswith(b"PK"):
        package = read_3mf(data, name)
        mesh = solid_from_triangles(finite(package.triangles, name) * unit_scale, name)
        return Mesh(mesh.vertices, mesh.faces, (*package.notes, *mesh.notes))
    if name.lower().endswith(".obj"):
        return solid_from_triangles(finite(read_obj(data, name), name) * unit_scale, name)
    return read_stl(data, name, unit_scale)
