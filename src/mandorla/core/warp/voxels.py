"""A solid cut into equal boxes: exact share of every box on its mid height, then solid or not, keeping each layer's area.

A box is never given less than its full stiffness to stand for a part of one: a wall thinner than a box that is drawn as a box
of lower modulus bends wrongly. What the boxes cannot show is told instead (``missed``).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final, NamedTuple

import numpy as np
from numpy.typing import NDArray

from mandorla.core.part.mesh import Floats, Mesh
from mandorla.core.part.sections import cut

_ROWS: Final = 4  # lines on which a box's share is taken
MOST_BOXES: Final = 2_000_000  # of the bounding box
LEAST_LAYERS: Final = 16  # of boxes: eight blocks, with which the midpoint scheme is within some per cent of thin ones
FLATTEST: Final = 0.2  # height of a box over its edge in plan


@dataclass(frozen=True, slots=True)
class Voxels:
    """``solid`` (nz, ny, nx) boxes of edges ``size`` (m); node (0, 0, 0) is at ``origin`` (x, y) m, the plate at z = 0.

    ``missed`` is the share of the solid's volume that the boxes have too much (positive) or too little; ``rough`` the
    share of the volume in boxes that are less than half full or stand for less than half a box.
    """

    solid: NDArray[np.bool_]
    size: tuple[float, float, float]
    origin: tuple[float, float]
    missed: float
    rough: float

    @property
    def count(self) -> int:
        """Number of solid boxes."""
        return int(self.solid.sum())

    @property
    def x(self) -> Floats:
        """Node positions (nx+1,) m."""
        return self.origin[0] + self.size[0] * np.arange(self.solid.shape[2] + 1)

    @property
    def y(self) -> Floats:
        """Node positions (ny+1,) m."""
        return self.origin[1] + self.size[1] * np.arange(self.solid.shape[1] + 1)

    @property
    def z(self) -> Floats:
        """Node heights (nz+1,) m."""
        return self.size[2] * np.arange(self.solid.shape[0] + 1)


def edge_for(mesh: Mesh, boxes: int) -> float:
    """Edge (m) of the boxes for about ``boxes`` of them in the solid."""
    return float(max((mesh.volume / boxes) ** (1.0 / 3.0), (np.prod(mesh.size) / MOST_BOXES) ** (1.0 / 3.0)))


class GridShape(NamedTuple):
    """How many boxes lie along each side of the bounding box."""

    nx: int
    ny: int
    nz: int


def grid_of(mesh: Mesh, edge: float) -> GridShape:
    """Boxes along each side of the bounding box.

    An even number of layers, for blocks have a middle; ``LEAST_LAYERS`` at least, as long as boxes get no flatter than
    ``FLATTEST``.
    """
    across = [max(2, round(float(s) / edge)) for s in mesh.size[:2]]
    height = float(mesh.size[2])
    wanted = min(max(height / edge, LEAST_LAYERS), max(height / (FLATTEST * edge), 2.0))
    return GridShape(across[0], across[1], 2 * max(1, round(0.5 * wanted)))


def shares(mesh: Mesh, grid: tuple[int, int, int]) -> Floats:
    """Share (nz, ny, nx) of every box that is solid at its mid height: exact along x, on four lines along y."""
    nx, ny, nz = grid
    low, size = mesh.vertices.min(axis=0), mesh.size
    triangles = mesh.triangles
    bottom, top = triangles[:, :, 2].min(axis=1), triangles[:, :, 2].max(axis=1)
    found = np.zeros((nz, ny, nx))
    lines = low[1] + size[1] * ((np.arange(ny * _ROWS) + 0.5) / (ny * _ROWS) + 1.3e-7)
    edges = low[0] + size[0] * np.arange(nx + 1) / nx
    for k in range(nz):
        height = low[2] + size[2] * ((k + 0.5) / nz + 1.7e-7)
        some = (bottom <= height) & (top > height)
        if not some.any():
            continue
        segments = cut(triangles[some], np.full(int(some.sum()), height))
        a, b = segments[:, 0], segments[:, 1]
        first = np.searchsorted(lines, np.minimum(a[:, 1], b[:, 1]), side="right")
        count = np.maximum(np.searchsorted(lines, np.maximum(a[:, 1], b[:, 1]), side="right") - first, 0)
        owner = np.repeat(np.arange(len(a)), count)
        line = np.arange(owner.size) - np.repeat(np.cumsum(count) - count, count) + np.repeat(first, count)
        p, q = a[owner], b[owner]
        x = p[:, 0] + (q[:, 0] - p[:, 0]) * (lines[line] - p[:, 1]) / (q[:, 1] - p[:, 1])
        # material lies left of a segment: what goes up ends it along x, what goes down begins it
        sign = np.where(q[:, 1] > p[:, 1], -1.0, 1.0)
        # share of every box on the right of a crossing, summed with its sign
        place = np.clip((x - edges[0]) / (edges[1] - edges[0]), 0.0, nx - 1e-9)
        box = place.astype(int)
        part = np.zeros((ny * _ROWS, nx + 1))
        np.add.at(part, (line, box), sign * (box + 1 - place))
        np.add.at(part, (line, box + 1), sign * (place - box))
        covered = np.cumsum(part, axis=1)[:, :nx]
        found[k] = np.clip(covered.reshape(ny, _ROWS, nx).mean(axis=1), 0.0, 1.0)
    return found


def voxelise(mesh: Mesh, grid: tuple[int, int, int]) -> Voxels:
    """Cut a solid into boxes: in each layer the fullest ones, as many as its area asks for; equals stay together."""
    share = shares(mesh, grid)
    solid = np.zeros(share.shape, dtype=bool)
    for k, layer in enumerate(share):
        wanted = round(float(layer.sum()))
        if wanted == 0:
            wanted = int(layer.max() > 0.25)
        if wanted:
            edge = np.sort(layer.ravel())[-wanted]
            solid[k] = layer >= max(edge - 1e-6, 0.05)
    nx, ny, nz = grid
    size = (float(mesh.size[0]) / nx, float(mesh.size[1]) / ny, float(mesh.size[2]) / nz)
    volume = max(float(share.sum()), 1e-12)
    rough = float(share[solid & (share < 0.5)].sum() + share[~solid].sum()) / volume
    solid.setflags(write=False)
    low = mesh.vertices.min(axis=0)
    return Voxels(solid, size, (float(low[0]), float(low[1])), float(solid.sum()) / volume - 1.0, rough)
