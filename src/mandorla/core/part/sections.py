"""Horizontal sections of a solid: area, perimeter and extent along the height, and the corners of its footprint."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Final

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import ConvexHull

from mandorla.core.part.mesh import Floats, Mesh

LEVELS: Final = 200
_CORNER_TURN: Final = np.radians(35.0)  # a hull vertex that turns less is part of a round


@dataclass(frozen=True, slots=True)
class Corner:
    """A corner of the footprint: plan position (m) from the part's middle and its name as seen from the front."""

    x: float
    y: float
    name: str


@dataclass(frozen=True, slots=True)
class Sections:
    """Slabs of equal height ``dz`` (m): mid heights ``z`` (n,), ``area`` m², ``perimeter`` m, ``x_extent`` and ``y_extent``
    (n, 2) m. ``footprint`` (k, 2) is the convex outline of the lowest slab in order, ``corners`` its corners. Of several separate
    bodies, ``body`` has the sections of the one that has most to hold, in the same coordinates, and ``bodies`` counts them."""

    dz: float
    z: Floats
    area: Floats
    perimeter: Floats
    x_extent: Floats
    y_extent: Floats
    footprint: Floats
    corners: tuple[Corner, ...]
    body: Sections | None = None
    bodies: int = 1

    @property
    def height(self) -> float:
        """Height of the part in m."""
        return self.dz * self.z.size


def cut(triangles: Floats, heights: Floats) -> Floats:
    """Directed segments (m, 2, 2) in which horizontal planes at ``heights`` (m,) cut triangles (m, 3, 3) that straddle them.

    The material of a solid with outward faces lies on the left of its segments.
    """
    above = triangles[:, :, 2] > heights[:, None]
    # rotate each triangle so that its first corner is alone on its side
    alone = np.where(above.sum(axis=1) == 1, above.argmax(axis=1), (~above).argmax(axis=1))
    order = (alone[:, None] + np.arange(3)) % 3
    t = np.take_along_axis(triangles, order[:, :, None], axis=1)
    up = np.take_along_axis(above, order, axis=1)[:, 0]

    def crossing(p: Floats, q: Floats) -> Floats:
        share = (heights - p[:, 2]) / (q[:, 2] - p[:, 2])
        return np.asarray(p[:, :2] + share[:, None] * (q[:, :2] - p[:, :2]))

    first, last = crossing(t[:, 0], t[:, 1]), crossing(t[:, 0], t[:, 2])
    return np.stack([np.where(up[:, None], first, last), np.where(up[:, None], last, first)], axis=1)


def slice_solid(mesh: Mesh, levels: int = LEVELS) -> Sections:
    """Cut the solid at the middle of ``levels`` slabs of equal height.

    Area by Green's theorem over the directed outlines, perimeter as their length, holes included.
    """
    height = float(mesh.size[2])
    dz = height / levels
    z: Floats = (np.arange(levels, dtype=np.float64) + 0.5) * dz
    planes = z + 1.7e-4 * dz  # a hair off the middle, so that no plane runs through a row of vertices
    triangles = mesh.triangles
    first = np.searchsorted(planes, triangles[:, :, 2].min(axis=1), side="right")
    beyond = np.searchsorted(planes, triangles[:, :, 2].max(axis=1), side="left")
    # triangles with the planes they straddle, in the order of the planes
    count = np.maximum(beyond - first, 0)
    owner = np.repeat(np.arange(len(triangles)), count)
    level = np.arange(owner.size) - np.repeat(np.cumsum(count) - count, count) + np.repeat(first, count)
    order = np.argsort(level, kind="stable")
    owner, level = owner[order], level[order]
    segments = cut(triangles[owner], planes[level])
    a, b = segments[:, 0], segments[:, 1]
    area: Floats = np.abs(np.bincount(level, 0.5 * (a[:, 0] * b[:, 1] - b[:, 0] * a[:, 1]), levels)).astype(np.float64)
    perimeter: Floats = np.bincount(level, np.hypot(b[:, 0] - a[:, 0], b[:, 1] - a[:, 1]), levels).astype(np.float64)
    extents = np.zeros((2, levels, 2))
    met, starts = np.unique(level, return_index=True)
    for axis in (0, 1):
        extents[axis, met, 0] = np.minimum.reduceat(segments[:, :, axis].min(axis=1), starts)
        extents[axis, met, 1] = np.maximum.reduceat(segments[:, :, axis].max(axis=1), starts)
    ground = segments[level == level[0]].reshape(-1, 2)
    hull = ground[ConvexHull(ground).vertices]
    x_extent, y_extent = extents
    for array in (z, area, perimeter, x_extent, y_extent, hull):
        array.setflags(write=False)
    return Sections(dz, z, area, perimeter, x_extent, y_extent, hull, footprint_corners(hull))


def turned_sections(sections: Sections, degrees: int) -> Sections:
    """The sections of the solid turned about the vertical by a multiple of 90 degrees, without cutting it again."""
    quarter = (degrees // 90) % 4
    if quarter == 0:
        return sections
    x, y = sections.x_extent, sections.y_extent
    x_extent, y_extent = ((-y[:, ::-1], x), (-x[:, ::-1], -y[:, ::-1]), (y, -x[:, ::-1]))[quarter - 1]
    c, s = ((0.0, 1.0), (-1.0, 0.0), (0.0, -1.0))[quarter - 1]
    outline = sections.footprint @ np.array([[c, s], [-s, c]])
    for array in (x_extent, y_extent, outline):
        array.setflags(write=False)
    return replace(
        sections,
        x_extent=x_extent,
        y_extent=y_extent,
        footprint=outline,
        corners=footprint_corners(outline),
        body=None if sections.body is None else turned_sections(sections.body, degrees),
    )


def grid_inside(outline: Floats, each: int = 32) -> Floats:
    """Points (k, 2) of a grid of ``each`` by ``each`` inside a convex outline (n, 2) that runs counter-clockwise."""
    return _grid_inside(np.ascontiguousarray(outline).tobytes(), each)


@lru_cache(maxsize=32)
def _grid_inside(outline: bytes, each: int) -> Floats:
    sides = np.frombuffer(outline).reshape(-1, 2)
    low, high = sides.min(axis=0), sides.max(axis=0)
    x, y = (np.linspace(a, b, each) for a, b in zip(low, high, strict=True))
    points = np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2)
    inside = points[are_inside(points, sides)]
    inside.setflags(write=False)
    return np.asarray(inside)


def are_inside(points: Floats, outline: Floats) -> NDArray[np.bool_]:
    """Which of some points (..., 2) lie inside a convex outline (n, 2) that runs counter-clockwise."""
    ahead = np.roll(outline, -1, axis=0) - outline
    # a point inside lies on the left of every side
    off = points[..., None, :] - outline
    side = ahead[:, 0] * off[..., 1] - ahead[:, 1] * off[..., 0]
    return np.asarray((side >= -1e-12).all(axis=-1))


def footprint_corners(outline: Floats) -> tuple[Corner, ...]:
    """The corners of a convex outline (k, 2): where it turns sharply, rounds counted once, named from the front left."""
    low, high = outline.min(axis=0), outline.max(axis=0)
    span = float(np.hypot(*(high - low)))
    ahead = np.roll(outline, -1, axis=0) - outline
    length = np.hypot(ahead[:, 0], ahead[:, 1])
    direction = np.arctan2(ahead[:, 1], ahead[:, 0])
    turn = np.angle(np.exp(1j * (direction - np.roll(direction, 1))))
    sides = np.flatnonzero(length > 0.12 * span)
    found: list[tuple[float, float]] = []
    if sides.size >= 3:
        for k, side in enumerate(sides):
            following = sides[(k + 1) % sides.size]
            # everything between two long sides is one (rounded) corner
            count = (following - side) % len(outline)
            members = [(side + 1 + j) % len(outline) for j in range(count)]
            if abs(float(np.sum(turn[members]))) < _CORNER_TURN:
                continue
            middle = outline[members].mean(axis=0)
            found.append((float(middle[0]), float(middle[1])))
    if len(found) < 3:  # a round or very irregular foot: its extreme points stand for corners
        centre = 0.5 * (low + high)
        for sx, sy in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
            far = outline[np.argmax((outline - centre) @ np.array([sx, sy]))]
            found.append((float(far[0]), float(far[1])))
    centre = 0.5 * (low + high)
    return tuple(Corner(x, y, _place_name(x - centre[0], y - centre[1], high - low)) for x, y in found)


def _place_name(dx: float, dy: float, size: Floats) -> str:
    side = "left" if dx < -0.1 * size[0] else "right" if dx > 0.1 * size[0] else ""
    depth = "front" if dy < -0.1 * size[1] else "rear" if dy > 0.1 * size[1] else ""
    return "-".join(word for word in (depth, side) if word) or "middle"
