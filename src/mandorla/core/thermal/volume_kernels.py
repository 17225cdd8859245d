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
    ``u`` W/K from the middle to outside (which factor_depth sets), the temperature ``to`` (K) they lose to, and ``face`` (K), their
    own temperature, which steps set."""

    cell: Indices
    area: Floats
    half: Floats
    h: Floats
    u: Floats
    to: Floats
    face: Floats


class Lines(NamedTuple):
    """Eliminated tridiagonal systems at one time step: in each direction inverse pivots and ratios, and the capacity, all
    (nz, ny, nx); ``loss`` (nz, ny, nx) W/K of bare faces, ``D`` scratch.

    The factors are kept in single precision: the delta form solves for a change, so their rounding shortens a step by a millionth
    and leaves the balance of heat fluxes, and with it the steady state, untouched.
    """

    ix: Singles
    rx: Singles
    iy: Singles
    ry: Singles
    iz: Singles
    rz: Singles
    c: Singles
    loss: Floats
    D: Floats


def room_for(grid: Grid) -> Lines:
    """Empty lines for a grid."""
    shape = grid.capacity.shape
    singles = [np.zeros(shape, dtype=np.float32) for _ in range(6)]
    ix, rx, iy, ry, iz, rz = singles
    return Lines(ix, rx, iy, ry, iz, rz, grid.capacity.astype(np.float32), np.zeros(shape), np.zeros(shape))


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
        patches.u[p] = outside * patches.half[p] / (outside + patches.half[p])
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
def advance(T: Floats, grid: Grid, patches: Patches, power: float, dt: float, lines: Lines) -> None:
    """Advance T (nz, ny, nx) in place by ``dt`` (s); the patches' own temperatures are left to :func:`settle_faces`."""
    nz, ny, nx = T.shape
    D = lines.D
    D[:, :, :] = 0.0
    flat, change = T.reshape(-1), D.reshape(-1)
    for p in range(patches.cell.size):
        change[patches.cell[p]] += patches.u[p] * (patches.to[p] - flat[patches.cell[p]])
    for z in range(nz):
        # everything that a plane needs is done while it is in the processor's nearest memory
        plane, into = T[z], D[z]
        inverse, ratio, c = lines.ix[z], lines.rx[z], lines.c[z]
        share = grid.source[z] * power
        for j in range(ny):
            if share != 0.0:
                for i in range(nx):
                    into[j, i] += share * grid.heat[j, i]
            for i in range(1, nx - 1):
                into[j, i] += grid.east[z, j, i] * (plane[j, i + 1] - plane[j, i]) + grid.east[z, j, i - 1] * (
                    plane[j, i - 1] - plane[j, i]
                )
            if nx > 1:
                into[j, 0] += grid.east[z, j, 0] * (plane[j, 1] - plane[j, 0])
                into[j, nx - 1] += grid.east[z, j, nx - 2] * (plane[j, nx - 2] - plane[j, nx - 1])
            if j > 0:
                for i in range(nx):
                    into[j, i] += grid.north[z, j - 1, i] * (plane[j - 1, i] - plane[j, i])
            if j < ny - 1:
                for i in range(nx):
                    into[j, i] += grid.north[z, j, i] * (plane[j + 1, i] - plane[j, i])
            if z > 0:
                for i in range(nx):
                    into[j, i] += grid.below[z - 1, j, i] * (T[z - 1, j, i] - plane[j, i])
            if z < nz - 1:
                for i in range(nx):
                    into[j, i] += grid.below[z, j, i] * (T[z + 1, j, i] - plane[j, i])
        # columns inside rows: the recurrences of many rows overlap in the processor
        for j in range(ny):
            into[j, 0] *= dt
        for i in range(1, nx):
            for j in range(ny):
                into[j, i] = into[j, i] * dt + ratio[j, i - 1] * into[j, i - 1]
        for j in range(ny):
            into[j, nx - 1] *= inverse[j, nx - 1]
        for i in range(nx - 2, -1, -1):
            for j in range(ny):
                into[j, i] = into[j, i] * inverse[j, i] + ratio[j, i] * into[j, i + 1]
        inverse, ratio = lines.iy[z], lines.ry[z]
        for i in range(nx):
            into[0, i] *= c[0, i]
        for j in range(1, ny):
            for i in range(nx):
                into[j, i] = into[j, i] * c[j, i] + ratio[j - 1, i] * into[j - 1, i]
        for i in range(nx):
            into[ny - 1, i] *= inverse[ny - 1, i]
        for j in range(ny - 2, -1, -1):
            for i in range(nx):
                into[j, i] = into[j, i] * inverse[j, i] + ratio[j, i] * into[j + 1, i]
    for j in range(ny):
        for i in range(nx):
            D[0, j, i] *= lines.c[0, j, i]
        for z in range(1, nz):
            for i in range(nx):
                D[z, j, i] = D[z, j, i] * lines.c[z, j, i] + lines.rz[z - 1, j, i] * D[z - 1, j, i]
        for i in range(nx):
            D[nz - 1, j, i] *= lines.iz[nz - 1, j, i]
            T[nz - 1, j, i] += D[nz - 1, j, i]
        for z in range(nz - 2, -1, -1):
            for i in range(nx):
                D[z, j, i] = D[z, j, i] * lines.iz[z, j, i] + lines.rz[z, j, i] * D[z + 1, j, i]
                T[z, j, i] += D[z, j, i]


@compiled
def settle_faces(T: Floats, patches: Patches) -> float:
    """Set the patches' temperatures from their cells; returns the heat (W) that leaves through them."""
    flat = T.reshape(-1)
    out = 0.0
    for p in range(patches.cell.size):
        at = flat[patches.cell[p]]
        q = patches.u[p] * (at - patches.to[p])
        patches.face[p] = at - q / patches.half[p]
        out += q
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
