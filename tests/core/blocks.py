"""Uniform blocks for the three-dimensional kernel, with given coefficients on their faces."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from mandorla.core.part.mesh import Floats
from mandorla.core.thermal.volume_kernels import Grid, Patches


class Block(NamedTuple):
    """A uniform block: its grid, its cells' size (m) and its conductivity (W/m·K)."""

    grid: Grid
    cell: tuple[float, float, float]
    k: float


def block_grid(
    size: tuple[float, float, float], cells: tuple[int, int, int], k: float, rho_c: float
) -> tuple[Block, Floats]:
    """A uniform block (x, y, z) and its empty temperature field."""
    nx, ny, nz = cells
    dx, dy, dz = size[0] / nx, size[1] / ny, size[2] / nz
    grid = Grid(
        np.full((nz, ny, nx), rho_c * dx * dy * dz), np.full((nz, ny, nx - 1), k * dy * dz / dx),
        np.full((nz, ny - 1, nx), k * dx * dz / dy), np.full((nz - 1, ny, nx), k * dx * dy / dz), np.zeros(nz),
        np.zeros((ny, nx)),
    )  # fmt: skip
    return Block(grid, (dx, dy, dz), k), np.zeros((nz, ny, nx))


def faces_of(
    block: Block, *, top: float = 0.0, bottom: float = 0.0, side: tuple[float, ...] = (0.0,) * 4, to: float = 0.0,
    side_to: tuple[float, ...] = (0.0,) * 4,
) -> Patches:  # fmt: skip
    """All faces of a block: coefficients W/m²K of top, bottom and the sides low x, high x, low y, high y, with what they see."""
    nz, ny, nx = block.grid.capacity.shape
    dx, dy, dz = block.cell
    index = np.arange(nz * ny * nx).reshape(nz, ny, nx)
    rows = [
        (index[0], dx * dy, dz, top, to), (index[-1], dx * dy, dz, bottom, to), (index[:, :, 0], dy * dz, dx, side[0], side_to[0]),
        (index[:, :, -1], dy * dz, dx, side[1], side_to[1]), (index[:, 0], dx * dz, dy, side[2], side_to[2]),
        (index[:, -1], dx * dz, dy, side[3], side_to[3]),
    ]  # fmt: skip
    cell, area, half, h, ambient = [], [], [], [], []
    for where, face, thick, coefficient, temperature in rows:
        n = where.size
        cell.append(where.ravel())
        area.append(np.full(n, face))
        half.append(np.full(n, 2.0 * block.k * face / thick))
        h.append(np.full(n, coefficient))
        ambient.append(np.full(n, temperature))
    cells = np.concatenate(cell)
    zero = np.zeros(cells.size)
    return Patches(
        cells,
        np.concatenate(area),
        np.concatenate(half),
        np.concatenate(h),
        zero,
        zero.copy(),
        np.concatenate(ambient),
        zero.copy(),
    )
