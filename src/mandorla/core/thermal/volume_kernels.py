"""Compiled three-dimensional transient of the stack: alternating directions, Douglas's delta form, fully implicit.

(C - dt Gx)(C - dt Gy)(C - dt Gz) dT = C C dt (G T + S): three sweeps of tridiagonal systems a step (Douglas 1955, Douglas and Gunn
1964, with weight one). Every cell has its own capacity and conductances, so layers may have any outline. Losses from bare faces
belong to the last sweep and are taken at the new temperatures, so that heat is conserved to round-off. Arrays are ordered z (down
from the print surface), y, x.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mandorla.core.compiled import compiled
from mandorla.core.thermal.stack import Floats

Indices = NDArray[np.int64]
Singles = NDArray[np.float32]


class Grid(NamedTuple):
    """The bed cut into boxes: ``capacity`` (nz, ny, nx) J/K, conductances in W/K ``east`` (nz, ny, nx-1), ``north`` (nz, ny-1, nx)
    and ``below`` (nz-1, ny, nx); the heater's power goes by ``source`` (nz,) times ``heat`` (ny, nx), shares of it."""

    capacity: Floats
    east: Floats
    north: Floats
    below: Floats
    source: Floats
    heat: Floats


class Patches(NamedTuple):
    """Bare faces (p,): flat index of their ``cell``, ``area`` m², ``half`` W/K from the cell's middle, coefficient ``h`` W/m²K,
    ``u`` W/K from the middle to outside and ``fall`` the share of the difference that lies inside the cell (which factor_depth
    sets), the temperature ``to`` (K) they lose to, and ``face`` (K), their own temperature, which steps set."""

    cell: Indices
    area: Floats
    half: Floats
    h: Floats
    u: Floats
    fall: Floats
    to: Floats
    face: Floats


class Lines(NamedTuple):
    """Eliminated tridiagonal systems at one time step: in each direction inverse pivots and ratios, and the capacity, all
    (nz, ny, nx); ``loss`` (nz, ny, nx) W/K of bare faces, ``D`` scratch.

    Factors and change are kept in single precision: the delta form solves for a change, so their rounding shortens a step by a
    millionth; temperatures and fluxes are summed in double, so the steady state is left untouched.
    """

    ix: Singles
    rx: Singles
    iy: Singles
    ry: Singles
    iz: Singles
    rz: Singles
    c: Singles
    loss: Floats
    D: Singles


def room_for(grid: Grid) -> Lines:
    """Empty lines for a grid."""
    shape = grid.capacity.shape
    singles = [np.zeros(shape, dtype=np.float32) for _ in range(6)]
    ix, rx, iy, ry, iz, rz = singles
    return Lines(
        ix, rx, iy, ry, iz, rz, grid.capacity.astype(np.float32), np.zeros(shape), np.zeros(shape, dtype=np.float32)
    )


@compiled
def factor_plane(grid: Grid, dt: float, lines: Lines) -> None:
    """Eliminate the systems along x and y, which change with the step only."""
    nz, ny, nx = grid.capacity.shape
    for z in range(nz):
        for j in range(ny):
            for i in range(nx):
                d = grid.capacity[z, j, i]
                if i > 0:
                    d += dt * grid.east[z, j, i - 1] * (1.0 - lines.rx[z, j, i - 1])
                if i < nx - 1:
                    d += dt * grid.east[z, j, i]
                    lines.rx[z, j, i] = dt * grid.east[z, j, i] / d
                lines.ix[z, j, i] = 1.0 / d
        for j in range(ny):
            for i in range(nx):
                d = grid.capacity[z, j, i]
                if j > 0:
                    d += dt * grid.north[z, j - 1, i] * (1.0 - lines.ry[z, j - 1, i])
                if j < ny - 1:
                    d += dt * grid.north[z, j, i]
                    lines.ry[z, j, i] = dt * grid.north[z, j, i] / d
                lines.iy[z, j, i] = 1.0 / d


@compiled
def factor_depth(grid: Grid, patches: Patches, dt: float, lines: Lines) -> None:
    """Collect the losses of all patches and eliminate the systems along z, which change with the coefficients."""
    nz, ny, nx = grid.capacity.shape
    lines.loss[:, :, :] = 0.0
    loss = lines.loss.reshape(-1)
    for p in range(patches.cell.size):
        outside = patches.h[p] * patches.area[p]
        patches.fall[p] = outside / (outside + patches.half[p])
        patches.u[p] = patches.fall[p] * patches.half[p]
        loss[patches.cell[p]] += patches.u[p]
    for z in range(nz):
        for j in range(ny):
            for i in range(nx):
                d = grid.capacity[z, j, i] + dt * lines.loss[z, j, i]
                if z > 0:
                    d += dt * grid.below[z - 1, j, i] * (1.0 - lines.rz[z - 1, j, i])
                if z < nz - 1:
                    d += dt * grid.below[z, j, i]
                    lines.rz[z, j, i] = dt * grid.below[z, j, i] / d
                lines.iz[z, j, i] = 1.0 / d


@compiled
def fluxes(T: Floats, grid: Grid, share: float, into: Singles, z: int, row: Floats) -> None:
    """Add the heat (W) that plane ``z``'s cells receive from their neighbours and their part of the heater to ``into`` (ny, nx).

    Summed in double precision in ``row`` (nx,). At the rim a row is its own neighbour, which adds nothing.
    """
    nz, ny, nx = T.shape
    above, under = max(z - 1, 0), min(z + 1, nz - 1)
    # where there is no neighbour at all, any finite number serves as conductance
    between = grid.below if nz > 1 else grid.capacity
    b0, b1 = between[max(z - 1, 0)], between[max(min(z, nz - 2), 0)]
    plane, up, down = T[z], T[above], T[under]
    north = grid.north[z] if ny > 1 else grid.capacity[z]
    east, heat = grid.east[z], grid.heat
    for j in range(ny):
        j0, j1 = max(j - 1, 0), min(j + 1, ny - 1)
        k0, k1 = max(j - 1, 0), max(min(j, ny - 2), 0)
        for i in range(nx):
            t = plane[j, i]
            row[i] = (
                into[j, i]
                + share * heat[j, i]
                + north[k0, i] * (plane[j0, i] - t)
                + north[k1, i] * (plane[j1, i] - t)
                + b0[j, i] * (up[j, i] - t)
                + b1[j, i] * (down[j, i] - t)
            )
        last = 0.0
        for i in range(nx - 1):
            flow = east[j, i] * (plane[j, i + 1] - plane[j, i])
            into[j, i] = row[i] + flow - last
            last = flow
        into[j, nx - 1] = row[nx - 1] - last


@compiled
def sweep_rows(into: Singles, inverse: Singles, ratio: Singles, dt: float) -> None:
    """Solve the systems along x of one plane (ny, nx), four rows at a time: their recurrences overlap in the processor."""
    ny, nx = into.shape
    step = np.float32(dt)
    for j in range(0, ny, 4):
        if j + 3 < ny:
            a0, a1, a2, a3 = into[j], into[j + 1], into[j + 2], into[j + 3]
            q0, q1, q2, q3 = ratio[j], ratio[j + 1], ratio[j + 2], ratio[j + 3]
            w0, w1, w2, w3 = inverse[j], inverse[j + 1], inverse[j + 2], inverse[j + 3]
            x0, x1, x2, x3 = a0[0] * step, a1[0] * step, a2[0] * step, a3[0] * step
            a0[0], a1[0], a2[0], a3[0] = x0, x1, x2, x3
            for i in range(1, nx):
                x0 = a0[i] * step + q0[i - 1] * x0
                x1 = a1[i] * step + q1[i - 1] * x1
                x2 = a2[i] * step + q2[i - 1] * x2
                x3 = a3[i] * step + q3[i - 1] * x3
                a0[i], a1[i], a2[i], a3[i] = x0, x1, x2, x3
            x0, x1, x2, x3 = np.float32(0.0), np.float32(0.0), np.float32(0.0), np.float32(0.0)
            for i in range(nx - 1, -1, -1):  # the last ratio of a row is nought
                x0 = a0[i] * w0[i] + q0[i] * x0
                x1 = a1[i] * w1[i] + q1[i] * x1
                x2 = a2[i] * w2[i] + q2[i] * x2
                x3 = a3[i] * w3[i] + q3[i] * x3
                a0[i], a1[i], a2[i], a3[i] = x0, x1, x2, x3
        else:
            for m in range(j, ny):
                d, q, w = into[m], ratio[m], inverse[m]
                x = d[0] * step
                d[0] = x
                for i in range(1, nx):
                    x = d[i] * step + q[i - 1] * x
                    d[i] = x
                x = np.float32(0.0)
                for i in range(nx - 1, -1, -1):
                    x = d[i] * w[i] + q[i] * x
                    d[i] = x


@compiled
def sweep_columns(into: Singles, inverse: Singles, ratio: Singles, c: Singles) -> None:
    """Solve the systems along y of one plane (ny, nx), a whole row at a time."""
    ny, nx = into.shape
    a, w = into[0], c[0]
    for i in range(nx):
        a[i] = a[i] * w[i]
    for j in range(1, ny):
        a, b, q, w = into[j], into[j - 1], ratio[j - 1], c[j]
        for i in range(nx):
            a[i] = a[i] * w[i] + q[i] * b[i]
    a, w = into[ny - 1], inverse[ny - 1]
    for i in range(nx):
        a[i] = a[i] * w[i]
    for j in range(ny - 2, -1, -1):
        a, b, q, w = into[j], into[j + 1], ratio[j], inverse[j]
        for i in range(nx):
            a[i] = a[i] * w[i] + q[i] * b[i]


@compiled
def sweep_depth(T: Floats, lines: Lines, j: int) -> None:
    """Solve the systems along z of row ``j`` and add the change to T."""
    nz, _, nx = T.shape
    D = lines.D
    a, w = D[0, j], lines.c[0, j]
    for i in range(nx):
        a[i] = a[i] * w[i]
    for z in range(1, nz):
        a, b, q, w = D[z, j], D[z - 1, j], lines.rz[z - 1, j], lines.c[z, j]
        for i in range(nx):
            a[i] = a[i] * w[i] + q[i] * b[i]
    a, w, t = D[nz - 1, j], lines.iz[nz - 1, j], T[nz - 1, j]
    for i in range(nx):
        a[i] = a[i] * w[i]
        t[i] += a[i]
    for z in range(nz - 2, -1, -1):
        a, b, q, w, t = D[z, j], D[z + 1, j], lines.rz[z, j], lines.iz[z, j], T[z, j]
        for i in range(nx):
            a[i] = a[i] * w[i] + q[i] * b[i]
            t[i] += a[i]


@compiled
def advance(T: Floats, grid: Grid, patches: Patches, power: float, dt: float, lines: Lines) -> None:
    """Advance T (nz, ny, nx) in place by ``dt`` (s); the patches' own temperatures are left to :func:`settle_faces`."""
    nz, ny, nx = T.shape
    D = lines.D
    row = np.empty(nx)
    D[:, :, :] = 0.0
    flat, change = T.reshape(-1), D.reshape(-1)
    for p in range(patches.cell.size):
        change[patches.cell[p]] += patches.u[p] * (patches.to[p] - flat[patches.cell[p]])
    for z in range(nz):
        # all that a plane needs is done while it is in the processor's nearest memory
        fluxes(T, grid, grid.source[z] * power, D[z], z, row)
        sweep_rows(D[z], lines.ix[z], lines.rx[z], dt)
        sweep_columns(D[z], lines.iy[z], lines.ry[z], lines.c[z])
    for j in range(ny):
        sweep_depth(T, lines, j)


@compiled
def settle_faces(T: Floats, patches: Patches) -> float:
    """Set the patches' temperatures from their cells; returns the heat (W) that leaves through them."""
    flat = T.reshape(-1)
    out = 0.0
    for p in range(patches.cell.size):
        at = flat[patches.cell[p]]
        rest = at - patches.to[p]
        patches.face[p] = at - patches.fall[p] * rest
        out += patches.u[p] * rest
    return out


@compiled
def march_volume(T: Floats, grid: Grid, patches: Patches, power: float, dt: float, count: int, lines: Lines) -> float:
    """Take ``count`` equal steps with fixed surroundings and power; returns the heat (J) that left through the patches."""
    factor_plane(grid, dt, lines)
    factor_depth(grid, patches, dt, lines)
    out = 0.0
    for _ in range(count):
        advance(T, grid, patches, power, dt, lines)
        out += settle_faces(T, patches) * dt
    return out
