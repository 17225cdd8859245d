"""Which boxes and nodes of a regular grid there are, numbered without the void between them, and how a coarser grid lies over them.

Boxes and nodes are numbered by z, y, x, so that what stands up to a layer is a prefix of either. A wall's box in a large empty
bounding box costs what a box in a solid block costs.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

Flags = NDArray[np.bool_]
Table = NDArray[np.int32]
Places = NDArray[np.int64]


def eighths(shape: tuple[int, int, int]) -> list[tuple[slice, slice, slice]]:
    """Where the eight corners of all boxes (nz, ny, nx) lie in a field of nodes, in the order ix + 2 iy + 4 iz."""
    nz, ny, nx = shape
    return [np.s_[a >> 2 : nz + (a >> 2), (a >> 1) & 1 : ny + ((a >> 1) & 1), a & 1 : nx + (a & 1)] for a in range(8)]


class BoxPlaces(NamedTuple):
    """Layer, row and column (m,) of boxes."""

    z: Places
    y: Places
    x: Places


@dataclass(frozen=True, slots=True)
class BoxNumbering:
    """The boxes ``solid`` (nz, ny, nx) of a grid.

    ``boxes`` (m,) and ``places`` (n,) are flat positions of boxes and nodes in the whole grid; ``nodes`` (m, 8) the nodes of each
    box; ``box_ends`` (nz+1,) and ``node_ends`` (nz+2,) how many lie below each layer; ``numbers`` (nz+1, ny+1, nx+1) a node's
    number, -1 where there is none.
    """

    shape: tuple[int, int, int]
    boxes: Places
    places: Places
    nodes: Table
    box_ends: Places
    node_ends: Places
    numbers: Table

    @classmethod
    def of(cls, solid: Flags) -> BoxNumbering:
        """The numbering of boxes."""
        nz, ny, nx = solid.shape
        there = np.zeros((nz + 1, ny + 1, nx + 1), dtype=bool)
        corners = eighths((nz, ny, nx))
        for corner in corners:
            there[corner] |= solid
        numbers = np.where(there, np.cumsum(there.ravel()).reshape(there.shape) - 1, -1).astype(np.int32)
        nodes = np.stack([numbers[corner][solid] for corner in corners], axis=1)
        return cls(
            (nz, ny, nx), np.flatnonzero(solid), np.flatnonzero(there), np.ascontiguousarray(nodes),
            np.concatenate([[0], np.cumsum(solid.sum(axis=(1, 2)))]), np.concatenate([[0], np.cumsum(there.sum(axis=(1, 2)))]),
            numbers,
        )  # fmt: skip

    def box_places(self) -> BoxPlaces:
        """Where the boxes are."""
        return BoxPlaces(*np.unravel_index(self.boxes, self.shape))


def coarser(solid: Flags) -> Flags:
    """Boxes twice as large of which any part is there."""
    nz, ny, nx = solid.shape
    even = np.zeros(((nz + 1) // 2 * 2, (ny + 1) // 2 * 2, (nx + 1) // 2 * 2), dtype=bool)
    even[:nz, :ny, :nx] = solid
    return np.asarray(
        even.reshape(even.shape[0] // 2, 2, even.shape[1] // 2, 2, even.shape[2] // 2, 2).any(axis=(1, 3, 5))
    )


def children(fine: BoxNumbering, coarse: BoxNumbering) -> Table:
    """The boxes (m, 8) of a finer grid in each box of a coarse one, in the order ix + 2 iy + 4 iz; -1 where there is none."""
    number = np.full(np.prod(coarse.shape), -1)
    number[coarse.boxes] = np.arange(coarse.boxes.size)
    z, y, x = fine.box_places()
    parent = number[np.ravel_multi_index((z // 2, y // 2, x // 2), coarse.shape)]
    found = np.full((coarse.boxes.size, 8), -1, dtype=np.int32)
    found[parent, x % 2 + 2 * (y % 2) + 4 * (z % 2)] = np.arange(fine.boxes.size)
    return found


def stretches(fine: BoxNumbering, coarse: BoxNumbering) -> Table:
    """Runs (k, 7) of neighbouring nodes along x: the first node, how many, its x, and for the four coarse rows about it (z below
    and above, y before and behind) the number that node 0 of the row would have.

    Neighbours along x in the fine grid have coarse nodes that are neighbours too.
    """
    nz, ny, nx = fine.shape
    z, y, x = np.unravel_index(fine.places, (nz + 1, ny + 1, nx + 1))
    first = np.flatnonzero(np.concatenate([[True], np.diff(fine.places) != 1]) | (x == 0))
    count = np.diff(np.append(first, x.size))
    z, y, x = z[first], y[first], x[first]
    rows = [coarse.numbers[(z + up) // 2, (y + behind) // 2, x // 2] - x // 2 for up in (0, 1) for behind in (0, 1)]
    return np.ascontiguousarray(np.stack([first, count, x, *rows], axis=1).astype(np.int32))
