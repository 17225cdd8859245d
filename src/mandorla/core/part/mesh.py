"""The mesh of a part: a closed, outward-oriented surface, turned or made coarser for pictures."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

MAX_TRIANGLES: Final = 4_000_000
SMALLEST: Final = 0.002  # m, shortest accepted longest edge of the bounding box
LARGEST: Final = 2.0  # m
UNITS: Final = {"mm": 0.001, "inch": 0.0254, "cm": 0.01, "m": 1.0}


@dataclass(frozen=True, slots=True)
class Mesh:
    """A closed, outward-oriented surface: ``vertices`` (n, 3) m with the underside at z = 0 and the bounding box
    centred on x = y = 0, ``faces`` (m, 3). ``notes`` say what was mended on reading."""

    vertices: Floats
    faces: Ints
    notes: tuple[str, ...]

    @property
    def triangles(self) -> Floats:
        """Corner coordinates (m, 3, 3)."""
        return self.vertices[self.faces]

    @property
    def size(self) -> Floats:
        """Extent of the bounding box (3,) in m."""
        return np.asarray(np.ptp(self.vertices, axis=0))

    @property
    def volume(self) -> float:
        """Enclosed volume in m³ (divergence theorem)."""
        return signed_volume(self.triangles)

    @property
    def surface_area(self) -> float:
        """Area of the surface in m²."""
        t = self.triangles
        return float(0.5 * np.linalg.norm(np.cross(t[:, 1] - t[:, 0], t[:, 2] - t[:, 0]), axis=1).sum())


def signed_volume(triangles: Floats) -> float:
    """Signed volume (m³) of triangles (m, 3, 3): positive when they face outwards."""
    return float(np.einsum("ij,ij->i", triangles[:, 0], np.cross(triangles[:, 1], triangles[:, 2])).sum() / 6.0)


def turned(mesh: Mesh, degrees: int) -> Mesh:
    """The mesh turned about the vertical by a multiple of 90 degrees."""
    quarter = (degrees // 90) % 4
    if quarter == 0:
        return mesh
    c, s = ((0.0, 1.0), (-1.0, 0.0), (0.0, -1.0))[quarter - 1]
    x, y, z = mesh.vertices.T
    vertices = np.column_stack([c * x - s * y, s * x + c * y, z])
    vertices.setflags(write=False)
    return Mesh(vertices, mesh.faces, mesh.notes)


MOST_SHOWN: Final = 120_000  # triangles a picture is made of without a click having to wait


def simplified(mesh: Mesh, most: int = MOST_SHOWN) -> Mesh:
    """A coarser mesh for pictures only: vertices gathered on a grid that is widened until ``most`` triangles are left.

    Rossignac and Borrel 1993, vertex clustering. A mesh that is small enough is returned as it is; the result need not be closed.
    """
    faces, vertices = mesh.faces, mesh.vertices
    low, longest = vertices.min(axis=0), float(mesh.size.max())
    cells = 500.0
    while len(faces) > most:
        grid = np.floor((mesh.vertices - low) / (longest / cells)).astype(np.int64)
        _, inverse = np.unique((grid[:, 0] << 42) | (grid[:, 1] << 21) | grid[:, 2], return_inverse=True)
        count = np.bincount(inverse)
        vertices = np.column_stack([np.bincount(inverse, mesh.vertices[:, axis]) / count for axis in range(3)])
        moved = inverse[mesh.faces]
        a, b, c = moved.T
        faces = moved[(a != b) & (b != c) & (a != c)].astype(np.int64)
        cells *= 0.7
    for array in (vertices, faces):
        array.setflags(write=False)
    return Mesh(vertices, faces, mesh.notes)
