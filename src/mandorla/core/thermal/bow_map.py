"""The bow of the bed as a height map: a thin plate with a free curvature that differs from place to place, free or on its mounts.

The free curvature of laminate theory (bow.py) is spread over the plan with the surface map: where the bed is colder, unlike
layers and the gradient through the plate bend it less. Kirchhoff's plate is solved by rectangular elements of twelve degrees of
freedom (Adini, Clough and Melosh; Zienkiewicz, The Finite Element Method, 3rd ed., sec. 10.3). References met: a free plate
with an even curvature is a spherical cap; on a simply supported rim its middle rises 0.0737 (1 + nu) kappa a^2 (Timoshenko and
Woinowsky-Krieger, Theory of Plates and Shells, 2nd ed., art. 24).
"""

from __future__ import annotations

from functools import lru_cache
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csc_array
from scipy.sparse.linalg import splu

from mandorla.core.thermal.stack import Floats

Mounts = Literal["free", "corners", "rim"]


def _powers(x: float, y: float) -> Floats:
    """Second derivatives (3, 12) of the element's polynomial: w_xx, w_yy, 2 w_xy of 1 x y x2 xy y2 x3 x2y xy2 y3 x3y xy3."""
    return np.array([
        [0, 0, 0, 2, 0, 0, 6 * x, 2 * y, 0, 0, 6 * x * y, 0],
        [0, 0, 0, 0, 0, 2, 0, 0, 2 * x, 6 * y, 0, 6 * x * y],
        [0, 0, 0, 0, 2, 0, 0, 4 * x, 4 * y, 0, 6 * x * x, 6 * y * y],
    ])  # fmt: skip


def _element(a: float, b: float, poisson: float) -> tuple[Floats, Floats]:
    """Stiffness (12, 12) of an element of half sides a, b (m) and unit rigidity, and its answer (12,) to a unit free curvature.

    Degrees of freedom: w, w_x, w_y at (-a, -b), (a, -b), (a, b), (-a, b).
    """
    rows = []
    for x, y in ((-a, -b), (a, -b), (a, b), (-a, b)):
        rows.append([1, x, y, x * x, x * y, y * y, x**3, x * x * y, x * y * y, y**3, x**3 * y, x * y**3])
        rows.append([0, 1, 0, 2 * x, y, 0, 3 * x * x, 2 * x * y, y * y, 0, 3 * x * x * y, y**3])
        rows.append([0, 0, 1, 0, x, 2 * y, 0, x * x, 2 * x * y, 3 * y * y, x**3, 3 * x * y * y])
    inverse = np.linalg.inv(np.array(rows, dtype=np.float64))
    D = np.array([[1.0, poisson, 0.0], [poisson, 1.0, 0.0], [0.0, 0.0, 0.5 * (1.0 - poisson)]])
    K, f = np.zeros((12, 12)), np.zeros(12)
    free = D @ np.array([1.0, 1.0, 0.0])
    points, weights = np.polynomial.legendre.leggauss(3)
    for xi, wx in zip(points, weights, strict=True):
        for eta, wy in zip(points, weights, strict=True):
            B = _powers(xi * a, eta * b) @ inverse
            K += wx * wy * a * b * B.T @ D @ B
            f += wx * wy * a * b * B.T @ free
    return K, f


@lru_cache(maxsize=8)
def _solver(nx: int, ny: int, dx: float, dy: float, poisson: float, mounts: Mounts):  # type: ignore[no-untyped-def]
    """Factored plate of nx by ny elements and the answer of an element to a unit free curvature."""
    K, f = _element(dx / 2, dy / 2, poisson)
    node = np.arange((nx + 1) * (ny + 1)).reshape(ny + 1, nx + 1)
    corners = np.stack([node[:-1, :-1], node[:-1, 1:], node[1:, 1:], node[1:, :-1]], axis=-1).reshape(-1, 4)
    dofs = (3 * corners[:, :, None] + np.arange(3)).reshape(-1, 12)
    rows, cols = np.repeat(dofs, 12, axis=1).ravel(), np.tile(dofs, (1, 12)).ravel()
    size = 3 * node.size
    matrix = csc_array((np.tile(K.ravel(), dofs.shape[0]), (rows, cols)), shape=(size, size))
    held = _held(node, mounts)
    keep = np.setdiff1d(np.arange(size), held)
    return splu(matrix[keep][:, keep].tocsc()), f, dofs, keep, size


def _held(node: NDArray[np.int64], mounts: Mounts) -> NDArray[np.int64]:
    """Degrees of freedom that are held at zero."""
    if mounts == "rim":
        rim = np.unique(np.concatenate([node[0], node[-1], node[:, 0], node[:, -1]]))
        return np.asarray(3 * rim)
    # four corners; a free plate only loses its rigid motion, which three of them take
    corners = [node[0, 0], node[0, -1], node[-1, 0], node[-1, -1]]
    return np.asarray(3 * np.array(corners if mounts == "corners" else corners[:3]))


def height_map(width: float, depth: float, curvature: Floats, poisson: float, mounts: Mounts) -> Floats:
    """Heights (ny+1, nx+1) in m of a plate (m, m) with the free curvature (ny, nx) in 1/m, relative to its corners' mean.

    Positive curvature stands for a middle that is high. Rigidity cancels out for a plate that is free of loads.
    """
    ny, nx = curvature.shape
    factored, f, dofs, keep, size = _solver(nx, ny, width / nx, depth / ny, poisson, mounts)
    load = np.zeros(size)
    np.add.at(load, dofs.ravel(), (-curvature.ravel()[:, None] * f[None, :]).ravel())
    w = np.zeros(size)
    w[keep] = factored.solve(load[keep])
    heights = w[::3].reshape(ny + 1, nx + 1)
    if mounts == "free":
        heights = heights - _tilt(heights)
    corners = heights[[0, 0, -1, -1], [0, -1, 0, -1]]
    return np.asarray(heights - corners.mean())


def _tilt(heights: Floats) -> Floats:
    """The plane (ny, nx) that fits heights best, without its mean."""
    ny, nx = heights.shape
    x, y = np.meshgrid(np.linspace(-1, 1, nx), np.linspace(-1, 1, ny))
    return np.asarray((heights * x).sum() / (x * x).sum() * x + (heights * y).sum() / (y * y).sum() * y)
