"""How a part stands: laid on a face, copied in a grid, taken apart into its bodies."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from mandorla.core.errors import MeshError, Problem
from mandorla.core.part.mesh import MAX_TRIANGLES, Floats, Ints, Mesh

Direction = tuple[float, float, float]
AS_DRAWN: Final[Direction] = (0.0, 0.0, -1.0)
_SAME: Final = np.cos(np.radians(1.0))  # faces whose normals agree within a degree lie in one plane
_LEAST_FACE: Final = 0.02  # of the largest face: smaller ones are not offered to lie on


@dataclass(frozen=True, slots=True)
class Side:
    """A flat face a part can stand on: its outward ``normal`` as drawn, area m², where its middle is (3,) m."""

    normal: Direction
    area: float
    middle: Direction


def laid(mesh: Mesh, down: Direction) -> Mesh:
    """The mesh turned so that ``down`` (a direction in the drawing) points at the plate, set on z = 0 and centred.

    The shortest turn (Rodrigues), so that a part that stands already stays as it is.
    """
    turn = turn_to_plate(down)
    if np.array_equal(turn, np.eye(3)):
        return mesh
    return standing(mesh.vertices @ turn.T, mesh.faces, mesh.notes)


def turn_to_plate(down: Direction) -> Floats:
    """Rotation (3, 3) that makes a direction point at the plate, by the shortest turn (Rodrigues). Raises :class:`MeshError`."""
    d = np.asarray(down, dtype=np.float64)
    length = float(np.linalg.norm(d))
    if length < 1e-9:
        raise MeshError(
            "A part cannot lie on a direction without length.", problems=(Problem("down", str(down), "a direction"),)
        )
    d, goal = d / length, np.array(AS_DRAWN)
    c = float(d @ goal)
    if c > 1.0 - 1e-12:
        return np.eye(3)
    if c < -1.0 + 1e-12:
        return np.diag([1.0, -1.0, -1.0])
    v = np.cross(d, goal)
    k = np.array([[0.0, -v[2], v[1]], [v[2], 0.0, -v[0]], [-v[1], v[0], 0.0]])
    return np.asarray(np.eye(3) + k + k @ k / (1.0 + c))


def drawn_direction(direction: Direction, down: Direction, turned_by: int) -> Direction:
    """A direction on the plate as it is in the drawing of a part that lies on ``down`` and is turned about the vertical
    (degrees)."""
    angle = -np.radians(turned_by)
    c, s = float(np.cos(angle)), float(np.sin(angle))
    x, y, z = direction
    found = turn_to_plate(down).T @ np.array([c * x - s * y, s * x + c * y, z])
    return (float(found[0]), float(found[1]), float(found[2]))


def face_under(mesh: Mesh, point: Floats) -> Direction:
    """Outward normal of the triangle that is nearest to a point (3,) m on the surface."""
    t = mesh.triangles
    cross = np.cross(t[:, 1] - t[:, 0], t[:, 2] - t[:, 0])
    size = np.maximum(np.linalg.norm(cross, axis=1), 1e-30)
    normal = cross / size[:, None]
    off = np.abs(((point - t[:, 0]) * normal).sum(axis=1))
    # inside: the point lies left of every side, seen along the normal; how far outside counts like being off the plane
    outside = np.zeros(len(t))
    for i in range(3):
        a, b = t[:, i], t[:, (i + 1) % 3]
        side = np.cross(b - a, point - a)
        length = np.maximum(np.linalg.norm(b - a, axis=1), 1e-30)
        outside = np.maximum(outside, -(side * normal).sum(axis=1) / length)
    best = normal[int(np.argmin(off + outside))]
    return (float(best[0]), float(best[1]), float(best[2]))


def standing(vertices: Floats, faces: Ints, notes: tuple[str, ...]) -> Mesh:
    """A mesh moved so that it stands on z = 0 with the middle of its bounding box over the origin."""
    low, high = vertices.min(axis=0), vertices.max(axis=0)
    placed = vertices - np.array([0.5 * (low[0] + high[0]), 0.5 * (low[1] + high[1]), low[2]])
    placed.setflags(write=False)
    return Mesh(placed, faces, notes)


def sides_of(mesh: Mesh, most: int = 8) -> tuple[Side, ...]:
    """The largest flat faces that lie on the part's hull, largest first: what it can stand on without tipping into itself."""
    t = mesh.triangles
    cross = np.cross(t[:, 1] - t[:, 0], t[:, 2] - t[:, 0])
    twice = np.linalg.norm(cross, axis=1)
    normal = cross / np.maximum(twice, 1e-30)[:, None]
    reach = 1e-4 * float(mesh.size.max())
    found: list[Side] = []
    left = twice > 0.0
    order = np.argsort(-twice)
    for start in order:
        if not left[start]:
            continue
        n = normal[start]
        alike = left & (normal @ n > _SAME)
        level = float(t[start].mean(axis=0) @ n)
        there = alike & (np.abs(t.mean(axis=1) @ n - level) < reach)
        left &= ~there
        left[start] = False
        if float((mesh.vertices @ n).max()) > level + reach:
            continue  # something stands out beyond it
        area = 0.5 * float(twice[there].sum())
        middle = (t[there].mean(axis=1) * twice[there, None]).sum(axis=0) / twice[there].sum()
        found.append(Side(tuple(float(v) for v in n), area, tuple(float(v) for v in middle)))  # type: ignore[arg-type]
        if len(found) >= 4 * most:
            break
    found.sort(key=lambda s: -s.area)
    return tuple(s for s in found[:most] if s.area >= _LEAST_FACE * found[0].area)


def copied(mesh: Mesh, columns: int, rows: int, gap: float) -> Mesh:
    """A grid of ``columns`` by ``rows`` copies with ``gap`` (m) between their bounding boxes, centred.

    Raises :class:`MeshError` when there would be too many triangles.
    """
    if columns * rows == 1:
        return mesh
    count = len(mesh.faces) * columns * rows
    if count > MAX_TRIANGLES:
        raise MeshError(
            "Too many copies.", problems=(Problem("triangles", str(count), f"at most {MAX_TRIANGLES} in all"),)
        )
    places = grid_places(mesh.size, columns, rows, gap)
    moved = mesh.vertices[None, :, :] + np.concatenate([places, np.zeros((len(places), 1))], axis=1)[:, None, :]
    faces = mesh.faces[None, :, :] + (np.arange(len(places)) * len(mesh.vertices))[:, None, None]
    vertices, every = moved.reshape(-1, 3), faces.reshape(-1, 3)
    for array in (vertices, every):
        array.setflags(write=False)
    return Mesh(vertices, every, mesh.notes)


def grid_places(size: Floats, columns: int, rows: int, gap: float) -> Floats:
    """Middles (columns*rows, 2) m of a centred grid of bounding boxes of ``size`` (3,)."""
    x = (np.arange(columns) - 0.5 * (columns - 1)) * (size[0] + gap)
    y = (np.arange(rows) - 0.5 * (rows - 1)) * (size[1] + gap)
    return np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2)


def bodies_of(mesh: Mesh) -> tuple[Mesh, ...]:
    """The separate bodies of a mesh, each where it is; what lies inside another (a cavity) belongs to that one."""
    n = len(mesh.vertices)
    a = np.concatenate([mesh.faces[:, 0], mesh.faces[:, 1]])
    b = np.concatenate([mesh.faces[:, 1], mesh.faces[:, 2]])
    count, label = connected_components(coo_array((np.ones(a.size), (a, b)), shape=(n, n)), directed=False)
    of_face = label[mesh.faces[:, 0]]
    used = np.unique(of_face)
    if used.size == 1:
        return (mesh,)
    order = np.argsort(of_face, kind="stable")
    starts = np.searchsorted(of_face[order], used)
    low = np.full((count, 3), np.inf)
    high = np.full((count, 3), -np.inf)
    np.minimum.at(low, label, mesh.vertices)
    np.maximum.at(high, label, mesh.vertices)
    groups = _together(low[used], high[used])
    pieces = np.split(order, starts[1:])
    found = []
    for group in range(int(groups.max()) + 1):
        faces = mesh.faces[np.concatenate([pieces[i] for i in np.flatnonzero(groups == group)])]
        vertices, index = np.unique(faces.ravel(), return_inverse=True)
        points, corners = mesh.vertices[vertices], index.reshape(-1, 3).astype(np.int64)
        for array in (points, corners):
            array.setflags(write=False)
        found.append(Mesh(points, corners, mesh.notes))
    return tuple(found)


def _together(low: Floats, high: Floats) -> Ints:
    """Group (k,) of each shell: shells whose boxes overlap in all three directions touch or hold one another."""
    k = len(low)
    if k > 2000:
        return np.arange(k)
    apart = (low[:, None, :] > high[None, :, :] + 1e-6).any(axis=2)
    touch = ~(apart | apart.T)
    _, group = connected_components(coo_array(np.asarray(touch, dtype=np.int8)), directed=False)
    return np.asarray(group, dtype=np.int64)
