"""Several bodies on one plate in one run: which boxes are whose, and what each has along its height.

They share the plate, which they pull together, and nothing else: windows, planes and shares are taken body by body.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np
from numpy.typing import NDArray

from mandorla.core.part.mesh import Floats, Mesh
from mandorla.core.warp.voxels import Voxels

MOST_TOGETHER: Final = 160_000  # boxes of all bodies: beyond, boxes get larger
Owner = NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class Bodies:
    """``count`` bodies: the body of every column of boxes (ny, nx), of every node of the foot (ny+1, nx+1) and of every corner
    (k,)."""

    count: int
    columns: Owner
    nodes: Owner
    corners: Owner

    @classmethod
    def one(cls, voxels: Voxels, corners: int) -> Bodies:
        """A part of one body."""
        _, ny, nx = voxels.solid.shape
        zero = np.zeros
        return cls(1, zero((ny, nx), int), zero((ny + 1, nx + 1), int), zero(corners, int))

    def merged(self, solid: NDArray[np.bool_]) -> bool:
        """Whether boxes of different bodies touch."""
        for a, b, p, q in (
            (solid[:, 1:], solid[:, :-1], self.columns[1:], self.columns[:-1]),
            (solid[:, :, 1:], solid[:, :, :-1], self.columns[:, 1:], self.columns[:, :-1]),
        ):
            if ((a & b).any(axis=0) & (p != q)).any():
                return True
        return False

    def regions(self) -> list[tuple[int, tuple[slice, slice], NDArray[np.bool_]]]:
        """Each body that has columns, the smallest window (y, x) that holds them, and which of the window's those are."""
        found = []
        for k in range(self.count):
            own = self.columns == k
            y, x = np.flatnonzero(own.any(axis=1)), np.flatnonzero(own.any(axis=0))
            if y.size:
                window = (slice(y[0], y[-1] + 1), slice(x[0], x[-1] + 1))
                found.append((k, window, own[window]))
        return found


def nearest(bodies: Sequence[Mesh], x: Floats, y: Floats) -> Owner:
    """The body (ny, nx) whose outline's frame is nearest to each place of a grid of lines ``x`` (nx,) and ``y`` (ny,)."""
    owner, least = np.zeros((y.size, x.size), dtype=np.int64), np.full((y.size, x.size), np.inf)
    for k, body in enumerate(bodies):
        low, high = body.vertices.min(axis=0), body.vertices.max(axis=0)
        dx = np.maximum(np.maximum(low[0] - x, x - high[0]), 0.0)
        dy = np.maximum(np.maximum(low[1] - y, y - high[1]), 0.0)
        away = np.hypot(dx[None, :], dy[:, None])
        closer = away < least
        owner[closer], least[closer] = k, away[closer]
    return owner


def sort_out(bodies: Sequence[Mesh], corner_of: Sequence[int]) -> Callable[[Voxels], Bodies]:
    """Whose the boxes are; ``corner_of`` is the body of each corner."""

    def on(voxels: Voxels) -> Bodies:
        x, y = voxels.x, voxels.y
        columns = nearest(bodies, 0.5 * (x[1:] + x[:-1]), 0.5 * (y[1:] + y[:-1]))
        return Bodies(len(bodies), columns, nearest(bodies, x, y), np.asarray(corner_of, dtype=np.int64))

    return on
