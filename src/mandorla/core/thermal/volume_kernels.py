"""Compiled three-dimensional transient of the stack: alternating directions, Douglas's delta form, fully implicit.

(I - dt Lx)(I - dt Ly)(I - dt Lz) dT = dt (L T + S): three sweeps of tridiagonal systems a step (Douglas 1955, Douglas and Gunn
1964, with weight one). Losses at faces are taken from the very quantities of the sweeps, so that heat is conserved to round-off.
Arrays are ordered z (down from the print surface), y, x.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from mandorla.core.compiled import compiled
from mandorla.core.thermal.stack import Floats


class Grid(NamedTuple):
    """The stack cut into boxes, in numbers that kernels read: ``dz k c`` (nz,) with c in J/m²K, ``link`` (nz-1,) W/m²K, ``dx``
    and ``dy`` in m, ``source`` (nz,) and ``cover`` (ny, nx) shares of the heater's power per cell (sum 1 over all cells)."""

    dz: Floats
    k: Floats
    c: Floats
    link: Floats
    dx: float
    dy: float
    source: Floats
    cover: Floats


class Faces(NamedTuple):
    """What the faces see: coefficients (W/m²K) and temperatures (K). ``top`` and ``bottom`` (ny, nx) with the temperatures they
    lose to; the four sides low x, high x, low y, high y (4,)."""

    top: Floats
    top_to: Floats
    bottom: Floats
    bottom_to: Floats
    side: Floats
    side_to: Floats


@compiled
def factors(r: Floats, low: Floats, high: Floats, n: int) -> tuple[Floats, Floats]:
    """Elimination factors (nz, n) of I - dt L along lines with diffusion numbers ``r`` (nz,), end losses ``low``, ``high``."""
    nz = r.size
    ratio, inverse = np.empty((nz, n)), np.empty((nz, n))
    for z in range(nz):
        for i in range(n):
            diagonal = 1.0
            if i > 0:
                diagonal += r[z]
            else:
                diagonal += low[z]
            if i < n - 1:
                diagonal += r[z]
            else:
                diagonal += high[z]
            if i > 0:
                diagonal -= r[z] * ratio[z, i - 1]
            inverse[z, i] = 1.0 / diagonal
            ratio[z, i] = r[z] * inverse[z, i]
    return ratio, inverse


@compiled
def side_losses(g: Grid, faces: Faces, dt: float) -> Floats:
    """Loss numbers (4, nz) of the side cells: dt times conductance over capacity."""
    nz = g.dz.size
    loss = np.zeros((4, nz))
    for s in range(4):
        width = g.dx if s < 2 else g.dy
        for z in range(nz):
            if faces.side[s] > 0.0:
                u = 1.0 / (1.0 / faces.side[s] + 0.5 * width / g.k[z])
                loss[s, z] = dt * u * g.dz[z] / (width * g.c[z])
    return loss


@compiled
def step(
    T: Floats, D: Floats, g: Grid, faces: Faces, power: float, dt: float, loss: Floats, fx: Floats, ix: Floats, fy: Floats,
    iy: Floats,
) -> tuple[float, float, float]:  # fmt: skip
    """Advance T (nz, ny, nx) in place by ``dt``; ``D`` is scratch of the same shape.

    Returns the heat (J) that left through top, bottom and sides.
    """
    nz, ny, nx = T.shape
    area = g.dx * g.dy
    top_half, bottom_half = 0.5 * g.dz[0] / g.k[0], 0.5 * g.dz[nz - 1] / g.k[nz - 1]
    out_top, out_bottom, out_side = 0.0, 0.0, 0.0
    # explicit right-hand side: everything that moves heat, at the old temperatures
    for z in range(nz):
        rx = dt * g.k[z] * g.dz[z] / (g.dx * g.dx * g.c[z])
        ry = dt * g.k[z] * g.dz[z] / (g.dy * g.dy * g.c[z])
        up = dt * g.link[z - 1] / g.c[z] if z > 0 else 0.0
        down = dt * g.link[z] / g.c[z] if z < nz - 1 else 0.0
        heat = dt * power * g.source[z] / (g.c[z] * area)
        plane, into = T[z], D[z]
        for j in range(ny):
            for i in range(nx):
                into[j, i] = heat * g.cover[j, i]
            for i in range(1, nx):
                q = rx * (plane[j, i - 1] - plane[j, i])
                into[j, i] += q
                into[j, i - 1] -= q
            into[j, 0] -= loss[0, z] * (plane[j, 0] - faces.side_to[0])
            into[j, nx - 1] -= loss[1, z] * (plane[j, nx - 1] - faces.side_to[1])
            if j > 0:
                for i in range(nx):
                    q = ry * (plane[j - 1, i] - plane[j, i])
                    into[j, i] += q
                    into[j - 1, i] -= q
        for i in range(nx):
            into[0, i] -= loss[2, z] * (plane[0, i] - faces.side_to[2])
            into[ny - 1, i] -= loss[3, z] * (plane[ny - 1, i] - faces.side_to[3])
        if z > 0:
            above = T[z - 1]
            for j in range(ny):
                for i in range(nx):
                    into[j, i] += up * (above[j, i] - plane[j, i])
        if z < nz - 1:
            below = T[z + 1]
            for j in range(ny):
                for i in range(nx):
                    into[j, i] += down * (below[j, i] - plane[j, i])
    ratio_top, ratio_bottom = dt / g.c[0], dt / g.c[nz - 1]
    for j in range(ny):
        for i in range(nx):
            u = 1.0 / (1.0 / faces.top[j, i] + top_half)
            D[0, j, i] -= ratio_top * u * (T[0, j, i] - faces.top_to[j, i])
            u = 1.0 / (1.0 / faces.bottom[j, i] + bottom_half)
            D[nz - 1, j, i] -= ratio_bottom * u * (T[nz - 1, j, i] - faces.bottom_to[j, i])
    # sweeps along x and y; the side losses take part at what each sweep leaves
    for z in range(nz):
        plane, into = T[z], D[z]
        weight = g.c[z] * area
        for j in range(ny):
            into[j, 0] *= ix[z, 0]
        for i in range(1, nx):
            a, b = fx[z, i - 1], ix[z, i]
            r = a / ix[z, i - 1]
            for j in range(ny):
                into[j, i] = (into[j, i] + r * into[j, i - 1]) * b
        for i in range(nx - 2, -1, -1):
            a = fx[z, i]
            for j in range(ny):
                into[j, i] += a * into[j, i + 1]
        for j in range(ny):
            out_side += weight * loss[0, z] * (plane[j, 0] + into[j, 0] - faces.side_to[0])
            out_side += weight * loss[1, z] * (plane[j, nx - 1] + into[j, nx - 1] - faces.side_to[1])
        for i in range(nx):
            into[0, i] *= iy[z, 0]
        for j in range(1, ny):
            b = iy[z, j]
            r = fy[z, j - 1] / iy[z, j - 1]
            for i in range(nx):
                into[j, i] = (into[j, i] + r * into[j - 1, i]) * b
        for j in range(ny - 2, -1, -1):
            a = fy[z, j]
            for i in range(nx):
                into[j, i] += a * into[j + 1, i]
        for i in range(nx):
            out_side += weight * loss[2, z] * (plane[0, i] + into[0, i] - faces.side_to[2])
            out_side += weight * loss[3, z] * (plane[ny - 1, i] + into[ny - 1, i] - faces.side_to[3])
    # sweep along z, whole rows at a time
    ratio = np.empty((nz, nx))
    for j in range(ny):
        for z in range(nz):
            up = dt * g.link[z - 1] / g.c[z] if z > 0 else 0.0
            down = dt * g.link[z] / g.c[z] if z < nz - 1 else 0.0
            for i in range(nx):
                diagonal = 1.0 + up + down
                if z == 0:
                    diagonal += ratio_top / (1.0 / faces.top[j, i] + top_half)
                if z == nz - 1:
                    diagonal += ratio_bottom / (1.0 / faces.bottom[j, i] + bottom_half)
                if z > 0:
                    diagonal -= up * ratio[z - 1, i]
                    D[z, j, i] += up * D[z - 1, j, i]
                inverse = 1.0 / diagonal
                ratio[z, i] = down * inverse
                D[z, j, i] *= inverse
        for z in range(nz - 2, -1, -1):
            for i in range(nx):
                D[z, j, i] += ratio[z, i] * D[z + 1, j, i]
        for z in range(nz):
            for i in range(nx):
                T[z, j, i] += D[z, j, i]
        for i in range(nx):
            u = 1.0 / (1.0 / faces.top[j, i] + top_half)
            out_top += dt * area * u * (T[0, j, i] - faces.top_to[j, i])
            u = 1.0 / (1.0 / faces.bottom[j, i] + bottom_half)
            out_bottom += dt * area * u * (T[nz - 1, j, i] - faces.bottom_to[j, i])
    return out_top, out_bottom, out_side


@compiled
def march_volume(T: Floats, g: Grid, faces: Faces, power: float, dt: float, count: int) -> tuple[float, float, float]:
    """Take ``count`` equal steps with fixed faces and power; returns the heat (J) through top, bottom and sides."""
    _, ny, nx = T.shape
    loss = side_losses(g, faces, dt)
    fx, ix = factors(dt * g.k * g.dz / (g.dx * g.dx * g.c), loss[0], loss[1], nx)
    fy, iy = factors(dt * g.k * g.dz / (g.dy * g.dy * g.c), loss[2], loss[3], ny)
    D = np.empty_like(T)
    top, bottom, side = 0.0, 0.0, 0.0
    for _ in range(count):
        a, b, c = step(T, D, g, faces, power, dt, loss, fx, ix, fy, iy)
        top += a
        bottom += b
        side += c
    return top, bottom, side
