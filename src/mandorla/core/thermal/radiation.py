"""Radiation in a box with a bed in it: view factors of rectangles and the grey exchange among all surfaces.

View factors in closed form for rectangles with parallel borders, in parallel and in perpendicular planes (Howell, Menguc and
Siegel, Thermal Radiation Heat Transfer, 6th ed., app. C; after Gross, Spindler and Hahne 1981). Grey exchange by the radiosity
network (Oppenheim 1956; Incropera 7th ed. sec. 13.3): A_i F_ij between black bodies becomes A_i F~_ij with all reflections in it.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Final

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Interval = tuple[float, float]

# Surfaces of the box, in this order behind its six panels (front, back, left, right, floor, roof).
BED_TOP: Final = 6
BED_BOTTOM: Final = 7
SURFACES: Final = 8


def _sum(first: tuple[Interval, Interval], second: tuple[Interval, Interval], g: Callable[..., float]) -> float:
    """The four-fold alternating sum over the corners, over the first area."""
    (x, y), (xi, eta) = first, second
    total = 0.0
    for i in range(2):
        for j in range(2):
            for k in range(2):
                for m in range(2):
                    total += (-1) ** (i + j + k + m) * g(x[i], y[j], eta[k], xi[m])
    return total / ((x[1] - x[0]) * (y[1] - y[0]))


def parallel_view_factor(first: tuple[Interval, Interval], second: tuple[Interval, Interval], distance: float) -> float:
    """View factor from rectangle (x, y) to rectangle (xi, eta) in a parallel plane ``distance`` m away."""
    z = distance

    def g(x: float, y: float, eta: float, xi: float) -> float:
        a, b = math.hypot(x - xi, z), math.hypot(y - eta, z)
        return (
            (y - eta) * a * math.atan((y - eta) / a)
            + (x - xi) * b * math.atan((x - xi) / b)
            - 0.5 * z * z * math.log((x - xi) ** 2 + (y - eta) ** 2 + z * z)
        ) / (2.0 * math.pi)

    return _sum(first, second, g)


def perpendicular_view_factor(first: tuple[Interval, Interval], second: tuple[Interval, Interval]) -> float:
    """View factor between rectangles in planes at a right angle.

    ``first`` is (x, y) with x the distance from the planes' common line and y along it; ``second`` (xi, eta) alike.
    """

    def g(x: float, y: float, eta: float, xi: float) -> float:
        c2 = x * x + xi * xi
        d2 = (y - eta) ** 2
        if c2 + d2 == 0.0:
            return 0.0
        turned = (y - eta) * math.sqrt(c2) * math.atan((y - eta) / math.sqrt(c2)) if c2 > 0.0 else 0.0
        return (turned - 0.25 * (c2 - d2) * math.log(c2 + d2)) / (2.0 * math.pi)

    return _sum(first, second, g)


def box_exchange_areas(width: float, depth: float, height: float, bed: tuple[float, float], level: float) -> Floats:
    """Direct exchange areas A_i F_ij (8, 8) in m² of a box with a bed (width, depth) in its middle at ``level`` (m).

    The bed's faces see exactly what is above and below them. The panels' views of each other are those of the empty box,
    scaled symmetrically so that every row closes with the bed in the way.
    """
    W, D, H = width, depth, height
    across, along, up = (-W / 2, W / 2), (-D / 2, D / 2), (0.0, H)
    areas = [W * H, W * H, D * H, D * H, W * D, W * D]
    M = np.zeros((SURFACES, SURFACES))
    M[0, 1] = areas[0] * parallel_view_factor((across, up), (across, up), D)
    M[2, 3] = areas[2] * parallel_view_factor((along, up), (along, up), W)
    M[4, 5] = areas[4] * parallel_view_factor((across, along), (across, along), H)
    for wall, line, reach in ((0, across, D), (1, across, D), (2, along, W), (3, along, W)):
        for plate in (4, 5):
            M[wall, plate] = areas[wall] * perpendicular_view_factor((up, line), ((0.0, reach), line))
    for front in (0, 1):
        for side in (2, 3):
            M[front, side] = areas[front] * perpendicular_view_factor(((0.0, W), up), ((0.0, D), up))
    M = M + M.T
    bx, by = bed
    x, y = (-bx / 2, bx / 2), (-by / 2, by / 2)
    area = bx * by
    to_bed = np.zeros((6, 2))
    for face, room_height, plate in ((0, H - level, 5), (1, level, 4)):
        to_bed[plate, face] = area * parallel_view_factor((x, y), (across, along), room_height)
        shown = (0.0, room_height)
        reach_y, reach_x = (D / 2 - by / 2, D / 2 + by / 2), (W / 2 - bx / 2, W / 2 + bx / 2)
        for wall in (0, 1):
            to_bed[wall, face] = area * perpendicular_view_factor((reach_y, x), (shown, across))
        for wall in (2, 3):
            to_bed[wall, face] = area * perpendicular_view_factor((reach_x, y), (shown, along))
    wanted = np.array(areas) - to_bed.sum(axis=1)
    scale = np.ones(6)
    walls = M[:6, :6]
    for _ in range(200):
        row = scale * (walls @ scale)
        scale *= np.sqrt(wanted / row)
        if np.abs(row / wanted - 1.0).max() < 1e-12:
            break
    M[:6, :6] = scale[:, None] * walls * scale[None, :]
    M[:6, 6:] = to_bed
    M[6:, :6] = to_bed.T
    return M


def grey_exchange(direct: Floats, areas: Floats, emissivity: Floats) -> Floats:
    """Grey exchange areas (n, n) in m² with all reflections: heat from i to j is the entry times sigma (T_i^4 - T_j^4).

    ``direct`` (n, n) are the black exchange areas, symmetric with rows that sum to ``areas`` (n,). Black surfaces may be given
    as emissivity 1.
    """
    e = np.minimum(emissivity, 1.0 - 1e-9)
    B = e / (1.0 - e) * areas
    L = np.diag(direct.sum(axis=1)) - direct
    J = np.linalg.solve(np.diag(B) + L, np.diag(B))
    K = B[:, None] * (np.eye(areas.size) - J)
    exchange = -0.5 * (K + K.T)
    np.fill_diagonal(exchange, 0.0)
    return np.asarray(exchange)
