"""Reads STL (binary and ASCII) and refuses what is no solid, in words that say what, where and what is allowed."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Final

import numpy as np
from numpy.typing import NDArray

from mandorla.core.errors import MeshError, Problem

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

MAX_TRIANGLES: Final = 4_000_000
SMALLEST: Final = 0.002  # m, shortest accepted longest edge of the bounding box
LARGEST: Final = 2.0  # m
_VERTEX = re.compile(rb"vertex\s+(\S+)\s+(\S+)\s+(\S+)")
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


def _refuse(name: str, message: str, value: str, allowed: str) -> MeshError:
    return MeshError(f"{name}: {message}", problems=(Problem(name, value, allowed),))


def _read_binary(data: bytes, name: str) -> Floats:
    count = int.from_bytes(data[80:84], "little")
    expected = 84 + 50 * count
    if count == 0:
        raise _refuse(name, "the file is empty.", "0 triangles", "at least 4 triangles")
    if count > MAX_TRIANGLES:
        raise _refuse(name, "the mesh is too large.", f"{count} triangles", f"at most {MAX_TRIANGLES}")
    if len(data) < expected:
        raise _refuse(
            name,
            "the file is cut off.",
            f"{len(data)} bytes",
            f"{expected} bytes for the {count} triangles it announces",
        )
    record = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("attribute", "<u2")])
    return np.frombuffer(data, dtype=record, count=count, offset=84)["corners"].astype(np.float64)


def _read_ascii(data: bytes, name: str) -> Floats:
    numbers: list[tuple[float, float, float]] = []
    for line_number, line in enumerate(data.splitlines(), start=1):
        if b"vertex" not in line:
            continue
        match = _VERTEX.search(line)
        try:
            if match is None:
                raise ValueError
            numbers.append((float(match[1]), float(match[2]), float(match[3])))
        except ValueError:
            text = line.strip().decode("ascii", "replace")[:60]
            raise _refuse(
                name, f"line {line_number} is no vertex.", f"“{text}”", "vertex x y z with three numbers"
            ) from None
    if not numbers:
        raise _refuse(name, "the file is empty.", "0 triangles", "at least 4 triangles")
    if len(numbers) % 3 or b"endsolid" not in data[-400:]:
        raise _refuse(
            name,
            "the file is cut off.",
            f"{len(numbers)} vertices, no end",
            "three vertices a facet, closed by endsolid",
        )
    return np.array(numbers).reshape(-1, 3, 3)


def read_stl(data: bytes, name: str, unit_scale: float) -> Mesh:
    """Read an STL file's bytes as a closed solid.

    ``unit_scale`` is metres per file unit. Raises :class:`MeshError` for a broken, empty, open, inside-out-in-parts, too large
    or wrongly scaled mesh, with the value and what is allowed.
    """
    if len(data) < 84 and not data.lstrip().startswith(b"solid"):
        raise _refuse(
            name, "this is no STL file.", f"{len(data)} bytes", "at least 84 bytes, or text that starts with “solid”"
        )
    announced = 84 + 50 * int.from_bytes(data[80:84], "little") if len(data) >= 84 else -1
    is_text = data.lstrip().startswith(b"solid") and announced != len(data) and b"facet" in data[:2000]
    if not is_text and data.lstrip().startswith(b"solid") and len(data) < 400:
        is_text = True
    triangles = _read_ascii(data, name) if is_text else _read_binary(data, name)
    return solid_from_triangles(finite(triangles, name) * unit_scale, name)


def finite(triangles: Floats, name: str) -> Floats:
    """The triangles as they are; refuses those with coordinates that are no numbers, or beyond all measure."""
    bad = ~np.isfinite(triangles).all(axis=(1, 2)) | (np.abs(triangles) > 1e9).any(axis=(1, 2))
    if bad.any():
        where = int(np.flatnonzero(bad)[0])
        value = str(triangles[where].ravel()[:3])
        raise _refuse(name, f"triangle {where + 1} has impossible coordinates.", value, "finite numbers")
    return triangles


def solid_from_triangles(triangles: Floats, name: str) -> Mesh:
    """Weld triangles (m, 3, 3) in m into a closed solid standing on z = 0; see :func:`read_stl` for what is refused."""
    notes: list[str] = []
    extent = np.ptp(triangles.reshape(-1, 3), axis=0)
    longest = float(extent.max())
    if not SMALLEST <= longest <= LARGEST:
        raise _refuse(
            name,
            "the size looks wrongly scaled; choose the unit of the file.",
            f"{1e3 * longest:.4g} mm at its longest",
            f"{1e3 * SMALLEST:.0f} mm to {1e3 * LARGEST:.0f} mm",
        )
    if float(extent.min()) < 1e-5:
        raise _refuse(
            name,
            "the mesh is flat.",
            f"{1e3 * float(extent.min()):.3g} mm thick",
            "at least 0.01 mm in every direction",
        )
    points = triangles.reshape(-1, 3)
    grid = np.round((points - points.min(axis=0)) / (longest * 1e-6)).astype(np.int64)
    key = (grid[:, 0] << 42) | (grid[:, 1] << 21) | grid[:, 2]  # each below 2**20
    _, first, inverse = np.unique(key, return_index=True, return_inverse=True)
    faces = inverse.reshape(-1, 3).astype(np.int64)
    vertices = points[first]
    flat = (faces[:, 0] == faces[:, 1]) | (faces[:, 1] == faces[:, 2]) | (faces[:, 0] == faces[:, 2])
    if flat.any():
        notes.append(f"{int(flat.sum())} triangles without area left out")
        faces = faces[~flat]
    if not _is_closed(faces, len(vertices)):
        from mandorla.core.part.repair import mended  # of broken meshes only; it builds on this module

        faces, done = mended(faces, vertices)
        notes += done
    _check_closed(faces, vertices, name)
    if signed_volume(vertices[faces]) < 0.0:
        faces = faces[:, ::-1]
        notes.append("all faces pointed inwards and were turned")
    volume = signed_volume(vertices[faces])
    box = float(np.prod(extent))
    if volume < 1e-6 * box:
        raise _refuse(name, "the mesh encloses no volume.", f"{1e9 * volume:.3g} mm³", "a solid body")
    low, high = vertices.min(axis=0), vertices.max(axis=0)
    placed = vertices - np.array([0.5 * (low[0] + high[0]), 0.5 * (low[1] + high[1]), low[2]])
    for array in (placed, faces):
        array.setflags(write=False)
    return Mesh(placed, faces, tuple(notes))


def _is_closed(faces: Ints, count: int) -> bool:
    a, b = faces[:, [0, 1, 2]].ravel(), faces[:, [1, 2, 0]].ravel()
    _, inverse = np.unique(np.minimum(a, b) * np.int64(count) + np.maximum(a, b), return_inverse=True)
    return bool((np.bincount(inverse, weights=np.where(a < b, 1.0, -1.0)) == 0).all())


def _check_closed(faces: Ints, vertices: Floats, name: str) -> None:
    """Every edge must be used as often in one direction as in the other."""
    a = faces[:, [0, 1, 2]].ravel()
    b = faces[:, [1, 2, 0]].ravel()
    key = np.minimum(a, b) * np.int64(len(vertices)) + np.maximum(a, b)
    edges, inverse = np.unique(key, return_inverse=True)
    balance = np.bincount(inverse, weights=np.where(a < b, 1.0, -1.0))
    uses = np.bincount(inverse)
    wrong = np.flatnonzero(balance != 0)
    if wrong.size == 0:
        return
    place = 1e3 * vertices[int(edges[wrong[0]] // len(vertices))]
    at = f"first near x {place[0]:.2f}, y {place[1]:.2f}, z {place[2]:.2f} mm"
    if (uses[wrong] == 1).any():
        raise _refuse(
            name,
            f"the surface is not closed ({at}).",
            f"{int((uses[wrong] == 1).sum())} open edges",
            "a closed surface in which every edge joins two faces; repair the mesh and open it again",
        )
    raise _refuse(
        name,
        f"faces meet the wrong way round or more than two share an edge ({at}).",
        f"{wrong.size} faulty edges",
        "a manifold surface, all faces pointing outwards",
    )


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
