"""Horizontal sections of a solid: area, perimeter and extent along the height, and the corners of its footprint."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
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
    (n, 2) m. ``footprint`` (k, 2) is the convex outline of the lowest slab in order, ``corners`` its corners."""

    dz: float
    z: Floats
    area: Floats
    perimeter: Floats
    x_extent: Floats
    y_extent: Floats
    footprint: Floats
    corners: tuple[Corner, ...]

    @property
    def height(self) -> float:
        """Height of the part in m."""
        return self.dz * self.z.size


def cut(mesh: Mesh, height: float) -> Floats:
    """Directed segments (m, 2, 2) in which a horizontal plane cuts the solid; material lies on their left."""
    t = mesh.triangles
    z = t[:, :, 2]
    hit = (z.min(axis=1) < height) & (z.max(axis=1) > height)
    t, above = t[hit], z[hit] > height
    if not len(t):
        return np.zeros((0, 2, 2))
    # rotate each triangle so that its first corner is alone on its side
    alone = np.where(above.sum(axis=1) == 1, above.argmax(axis=1), (~above).argmax(axis=1))
    order = (alone[:, None] + np.arange(3)) % 3
    t = np.take_along_axis(t, order[:, :, None], axis=1)
    up = np.take_along_axis(above, order, axis=1)[:, 0]

    def crossing(p: Floats, q: Floats) -> Floats:
        share = (height - p[:, 2]) / (q[:, 2] - p[:, 2])
        return np.asarray(p[:, :2] + share[:, None] * (q[:, :2] - p[:, :2]))

    first, last = crossing(t[:, 0], t[:, 1]), crossing(t[:, 0], t[:, 2])
    segments = np.stack([np.where(up[:, None], first, last), np.where(up[:, None], last, first)], axis=1)
    return np.asarray(segments)


def section_area(segments: Floats) -> float:
    """Area (m²) enclosed by directed segments, by Green's theorem."""
    a, b = segments[:, 0], segments[:, 1]
    return float(abs(0.5 * np.sum(a[:, 0] * b[:, 1] - b[:, 0] * a[:, 1])))


def section_perimeter(segments: Floats) -> float:
    """Length (m) of all outlines, holes included."""
    return float(np.linalg.norm(segments[:, 1] - segments[:, 0], axis=1).sum())


def slice_solid(mesh: Mesh, levels: int = LEVELS) -> Sections:
    """Cut the solid at the middle of ``levels`` slabs of equal height."""
    height = float(mesh.size[2])
    dz = height / levels
    # a hair off the middle, so that no plane runs through a row of vertices
    z: Floats = (np.arange(levels, dtype=np.float64) + 0.5) * dz
    area, perimeter = np.zeros(levels), np.zeros(levels)
    x_extent, y_extent = np.zeros((levels, 2)), np.zeros((levels, 2))
    ground: Floats = np.zeros((0, 2))
    for i, level in enumerate(z + 1.7e-4 * dz):
        segments = cut(mesh, float(level))
        points = segments.reshape(-1, 2)
        if not len(points):
            continue
        area[i], perimeter[i] = section_area(segments), section_perimeter(segments)
        x_extent[i] = points[:, 0].min(), points[:, 0].max()
        y_extent[i] = points[:, 1].min(), points[:, 1].max()
        if not len(ground):
            ground = points
    hull = ground[ConvexHull(ground).vertices]
    for array in (z, area, perimeter, x_extent, y_extent, hull):
        array.setflags(write=False)
    return Sections(dz, z, area, perimeter, x_extent, y_extent, hull, footprint_corners(hull))


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
