"""Opens the mesh files that Mandorla reads, told apart by their content: STL, OBJ and 3MF."""

from __future__ import annotations

from dataclasses import replace
from typing import Final

from mandorla.core.part.mesh import Mesh
from mandorla.core.part.obj import read_obj
from mandorla.core.part.solid import closed_solid
from mandorla.core.part.stl import read_stl
from mandorla.core.part.three_mf import read_3mf

STATES_ITS_UNIT: Final = ".3mf"  # always opened in mm: the file says itself what its numbers are


def read_solid_file(data: bytes, name: str, unit_scale: float) -> Mesh:
    """A mesh file's bytes as a closed solid; several bodies become one.

    Parameters
    ----------
    data
        The file's bytes.
    name
        Its name: tells OBJ from STL, and stands in messages.
    unit_scale
        Metres per file unit; 3MF is brought to millimetres by the unit that it states.

    Returns
    -------
    Mesh
        With notes on what the file stated and what was mended.

    Raises
    ------
    MeshError
        A broken, empty, open, flat, too large or wrongly scaled mesh, with the value and what is allowed.
    """
    if data.startswith(b"PK"):
        package = read_3mf(data, name)
        mesh = closed_solid(package.triangles * unit_scale, name)
        return replace(mesh, notes=(*package.notes, *mesh.notes))
    read = read_obj if name.lower().endswith(".obj") else read_stl
    return closed_solid(read(data, name) * unit_scale, name)
