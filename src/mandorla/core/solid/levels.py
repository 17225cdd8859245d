"""Compiled pieces of the multigrid on box elements: Galerkin coarsening over 2 x 2 x 2 elements, transfer, smoothing.

Fields are (nz+1, ny+1, nx+1, 3), elements (nz, ny, nx). Coarse elements keep their own stiffness (24, 24). Nodes without any
element have an inverse of nought and stay where they are.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mandorla.core.compiled import compiled
from mandorla.core.solid.hexa import CORNERS

Field = NDArray[np.floating]
Singles = NDArray[np.float32]


def child_weights() -> Field:
    """Weights (8, 8, 8): of a coarse element's corners at the corners of each of its eight children, trilinear."""
    found = np.empty((8, 8, 8))
    for child in range(8):
        for a in range(8):
            at = 0.5 * (CORNERS[child] + CORNERS[a])
            found[child, a] = np.prod(np.where(CORNERS == 1, at, 1.0 - at), axis=1)
    return found


def children_of(K: Field) -> Field:
    """What a child of unit modulus adds to its parent's stiffness, (8, 24, 24)."""
    found = np.empty((8, 24, 24))
    for child, weights in enumerate(child_weights()):
        P = np.kron(weights, np.eye(3))
        found[child] = P.T @ K @ P
    return found


@compiled
def coarsen_moduli(moduli: Field, parts: Singles, active: int, first: int, coarse: Singles) -> None:
    """Set coarse stiffnesses (Z, Y, X, 24, 24) from layer ``first`` on, out of the moduli of ``active`` layers of elements."""
    _, ny, nx = moduli.shape
    for Z in range(first, (active + 1) // 2):
        for Y in range((ny + 1) // 2):
            for X in range((nx + 1) // 2):
                into = coarse[Z, Y, X]
                into[:, :] = 0.0
                for child in range(8):
                    x, y, z = 2 * X + (child & 1), 2 * Y + ((child >> 1) & 1), 2 * Z + (child >> 2)
                    if x < nx and y < ny and z < active and moduli[z, y, x] != 0.0:
                        e = np.float32(moduli[z, y, x])
                        for a in range(24):
                            for b in range(24):
                                into[a, b] += e * parts[child, a, b]


@compiled
def coarsen_stored(fine: Singles, weights: Singles, active: int, first: int, coarse: Singles) -> None:
    """Set coarser stiffnesses (Z, Y, X, 24, 24) from layer ``first`` on, out of ``active`` layers of stored ones."""
    _, ny, nx = fine.shape[:3]
    half = np.empty((24, 24), dtype=np.float32)
    for Z in range(first, (active + 1) // 2):
        for Y in range((ny + 1) // 2):
            for X in range((nx + 1) // 2):
                into = coarse[Z, Y, X]
                into[:, :] = 0.0
                for child in range(8):
                    x, y, z = 2 * X + (child & 1), 2 * Y + ((child >> 1) & 1), 2 * Z + (child >> 2)
                    if not (x < nx and y < ny and z < active) or fine[z, y, x, 0, 0] == 0.0:
                        continue
                    K, W = fine[z, y, x], weights[child]
                    half[:, :] = 0.0
                    for a in range(8):  # half = P^T K
                        for n in range(8):
                            w = W[a, n]
                            if w != 0.0:
                                for c in range(3):
                                    for b in range(24):
                                        half[3 * n + c, b] += w * K[3 * a + c, b]
                    for a in range(8):
                        for n in range(8):
                            w = W[a, n]
                            if w != 0.0:
                                for b in range(24):
                                    for c in range(3):
                                        into[b, 3 * n + c] += w * half[b, 3 * a + c]


@compiled
def apply_stored(u: Singles, K: Singles, out: Singles) -> None:
    """Add the product with stored stiffnesses (nz, ny, nx, 24, 24) to ``out``."""
    nz, ny, nx = K.shape[:3]
    v, s = np.empty(24, dtype=np.float32), np.empty(24, dtype=np.float32)
    for z in range(nz):
        for y in range(ny):
            for x in range(nx):
                E = K[z, y, x]
                if E[0, 0] == 0.0:
                    continue
                for a in range(8):
                    node = u[z + (a >> 2), y + ((a >> 1) & 1), x + (a & 1)]
                    v[3 * a], v[3 * a + 1], v[3 * a + 2] = node[0], node[1], node[2]
                s[:] = 0.0
                for b in range(0, 24, 8):
                    w0, w1, w2, w3 = v[b], v[b + 1], v[b + 2], v[b + 3]
                    w4, w5, w6, w7 = v[b + 4], v[b + 5], v[b + 6], v[b + 7]
                    for a in range(24):
                        s[a] += (
                            w0 * E[b, a] + w1 * E[b + 1, a] + w2 * E[b + 2, a] + w3 * E[b + 3, a]
                            + w4 * E[b + 4, a] + w5 * E[b + 5, a] + w6 * E[b + 6, a] + w7 * E[b + 7, a]
                        )  # fmt: skip
                for a in range(8):
                    node = out[z + (a >> 2), y + ((a >> 1) & 1), x + (a & 1)]
                    node[0] += s[3 * a]
                    node[1] += s[3 * a + 1]
                    node[2] += s[3 * a + 2]


@compiled
def diagonal_of_moduli(moduli: Field, K: Field, first: int, lowest: int, blocks: Field) -> None:
    """Add the diagonal blocks (nz+1, ny+1, nx+1, 3, 3) of elements of given moduli from layer ``first`` on to nodes from
    ``lowest`` on."""
    nz, ny, nx = moduli.shape
    for z in range(first, nz):
        for y in range(ny):
            for x in range(nx):
                e = moduli[z, y, x]
                if e != 0.0:
                    for a in range(8):
                        if z + (a >> 2) < lowest:
                            continue
                        into = blocks[z + (a >> 2), y + ((a >> 1) & 1), x + (a & 1)]
                        for i in range(3):
                            for j in range(3):
                                into[i, j] += e * K[3 * a + i, 3 * a + j]


@compiled
def diagonal_of_stored(K: Singles, first: int, lowest: int, blocks: Field) -> None:
    """Add the diagonal blocks (nz+1, ny+1, nx+1, 3, 3) of stored elements from layer ``first`` on to nodes from ``lowest`` on."""
    nz, ny, nx = K.shape[:3]
    for z in range(first, nz):
        for y in range(ny):
            for x in range(nx):
                E = K[z, y, x]
                if E[0, 0] != 0.0:
                    for a in range(8):
                        if z + (a >> 2) < lowest:
                            continue
                        into = blocks[z + (a >> 2), y + ((a >> 1) & 1), x + (a & 1)]
                        for i in range(3):
                            for j in range(3):
                                into[i, j] += E[3 * a + i, 3 * a + j]


@compiled
def invert_blocks(blocks: Field, springs: Field, inverse: Singles) -> None:
    """Inverses (..., 6: xx, yy, zz, yz, zx, xy) of symmetric diagonal blocks, springs (ny+1, nx+1, 3) on the lowest nodes."""
    nz, ny, nx = blocks.shape[:3]
    for z in range(nz):
        for y in range(ny):
            for x in range(nx):
                b, into = blocks[z, y, x], inverse[z, y, x]
                xx, yy, zz, yz, zx, xy = b[0, 0], b[1, 1], b[2, 2], b[1, 2], b[0, 2], b[0, 1]
                if xx == 0.0:
                    into[:] = 0.0
                    continue
                if z == 0:
                    xx, yy, zz = xx + springs[y, x, 0], yy + springs[y, x, 1], zz + springs[y, x, 2]
                c0, c1, c2 = yy * zz - yz * yz, yz * zx - xy * zz, xy * yz - yy * zx
                d = 1.0 / (xx * c0 + xy * c1 + zx * c2)
                into[0], into[5], into[4] = c0 * d, c1 * d, c2 * d
                into[1], into[3], into[2] = (xx * zz - zx * zx) * d, (xy * zx - xx * yz) * d, (xx * yy - xy * xy) * d


@compiled
def smooth_step(u: Singles, r: Singles, d: Singles, inverse: Singles, old: float, new: float) -> None:
    """One Chebyshev step: d = old d + new D⁻¹ r, u += d."""
    p, q = np.float32(old), np.float32(new)
    m, v = inverse.reshape(-1, 6), r.reshape(-1, 3)
    e, w = d.reshape(-1, 3), u.reshape(-1, 3)
    for n in range(m.shape[0]):
        if m[n, 0] == 0.0:
            continue
        a, b, c = v[n, 0], v[n, 1], v[n, 2]
        x = p * e[n, 0] + q * (m[n, 0] * a + m[n, 5] * b + m[n, 4] * c)
        y = p * e[n, 1] + q * (m[n, 5] * a + m[n, 1] * b + m[n, 3] * c)
        z = p * e[n, 2] + q * (m[n, 4] * a + m[n, 3] * b + m[n, 2] * c)
        e[n, 0], e[n, 1], e[n, 2] = x, y, z
        w[n, 0] += x
        w[n, 1] += y
        w[n, 2] += z


@compiled
def restrict(r: Singles, coarse: Singles) -> None:
    """Set ``coarse`` to the transposed interpolation of ``r``."""
    nz, ny, nx = r.shape[:3]
    coarse[:, :, :, :] = 0.0
    for z in range(nz):
        Z0, Z1 = z // 2, (z + 1) // 2
        for y in range(ny):
            Y0, Y1 = y // 2, (y + 1) // 2
            for x in range(nx):
                X0, X1 = x // 2, (x + 1) // 2
                w = np.float32(0.125)
                for k in range(3):
                    v = w * r[z, y, x, k]
                    if v != 0.0:
                        coarse[Z0, Y0, X0, k] += v
                        coarse[Z0, Y0, X1, k] += v
                        coarse[Z0, Y1, X0, k] += v
                        coarse[Z0, Y1, X1, k] += v
                        coarse[Z1, Y0, X0, k] += v
                        coarse[Z1, Y0, X1, k] += v
                        coarse[Z1, Y1, X0, k] += v
                        coarse[Z1, Y1, X1, k] += v


@compiled
def prolong(coarse: Singles, inverse: Singles, u: Singles) -> None:
    """Set ``u`` to the interpolated ``coarse`` where there is material."""
    nz, ny, nx = u.shape[:3]
    w = np.float32(0.125)
    for z in range(nz):
        Z0, Z1 = z // 2, (z + 1) // 2
        for y in range(ny):
            Y0, Y1 = y // 2, (y + 1) // 2
            for x in range(nx):
                X0, X1 = x // 2, (x + 1) // 2
                if inverse[z, y, x, 0] == 0.0:
                    continue
                for k in range(3):
                    u[z, y, x, k] = w * (
                        coarse[Z0, Y0, X0, k] + coarse[Z0, Y0, X1, k] + coarse[Z0, Y1, X0, k] + coarse[Z0, Y1, X1, k]
                        + coarse[Z1, Y0, X0, k] + coarse[Z1, Y0, X1, k] + coarse[Z1, Y1, X0, k] + coarse[Z1, Y1, X1, k]
                    )  # fmt: skip


@compiled
def coarsen_springs(fine: Field, coarse: Field) -> None:
    """Springs on coarse nodes (Y+1, X+1, 3): the interpolation's row sums of the fine ones."""
    ny, nx = fine.shape[:2]
    coarse[:, :, :] = 0.0
    for y in range(ny):
        for x in range(nx):
            for k in range(3):
                v = 0.25 * fine[y, x, k]
                coarse[y // 2, x // 2, k] += v
                coarse[y // 2, (x + 1) // 2, k] += v
                coarse[(y + 1) // 2, x // 2, k] += v
                coarse[(y + 1) // 2, (x + 1) // 2, k] += v


@compiled
def add_springs(u: Field, springs: Field, out: Field) -> None:
    """Add the springs' forces on the lowest nodes."""
    ny, nx = springs.shape[:2]
    for y in range(ny):
        for x in range(nx):
            for k in range(3):
                out[0, y, x, k] += springs[y, x, k] * u[0, y, x, k]


@compiled
def factor_dense(A: Field) -> None:
    """Cholesky factor of a small symmetric positive matrix (n, n), lower triangle, in place."""
    n = A.shape[0]
    for j in range(n):
        row = A[j]
        for k in range(j):
            other, s = A[k], 0.0
            for i in range(k):
                s += row[i] * other[i]
            row[k] = (row[k] - s) / other[k]
        s = row[j]
        for i in range(j):
            s -= row[i] * row[i]
        row[j] = np.sqrt(max(s, 1e-12 * abs(row[j])))


@compiled
def solve_dense(L: Field, rows: NDArray[np.int64], r: Singles, u: Singles) -> None:
    """Set the unknowns ``rows`` (n,) of ``u`` to the solution for those of ``r``; L from :func:`factor_dense`."""
    n = rows.size
    v, x = r.reshape(-1), np.empty(n)
    w = u.reshape(-1)
    for i in range(n):
        s = np.float64(v[rows[i]])
        for k in range(i):
            s -= L[i, k] * x[k]
        x[i] = s / L[i, i]
    for i in range(n - 1, -1, -1):
        s = x[i] / L[i, i]
        x[i] = s
        for k in range(i):
            x[k] -= L[i, k] * s
        w[rows[i]] = s


@compiled
def to_single(r: Field, scale: float, into: Singles) -> None:
    """Set ``into`` to the residual times ``scale``."""
    a, b = r.reshape(-1), into.reshape(-1)
    for i in range(a.size):
        b[i] = a[i] * scale


@compiled
def turn_direction(p: Field, z: Singles, scale: float, beta: float) -> None:
    """p = scale z + beta p."""
    a, b = p.reshape(-1), z.reshape(-1)
    for i in range(a.size):
        a[i] = scale * b[i] + beta * a[i]


@compiled
def product(a: Field, b: Field) -> float:
    """Sum of a times b."""
    x, y = a.reshape(-1), b.reshape(-1)
    s0, s1, s2, s3 = 0.0, 0.0, 0.0, 0.0
    n = x.size // 4 * 4
    for i in range(0, n, 4):
        s0 += x[i] * y[i]
        s1 += x[i + 1] * y[i + 1]
        s2 += x[i + 2] * y[i + 2]
        s3 += x[i + 3] * y[i + 3]
    for i in range(n, x.size):
        s0 += x[i] * y[i]
    return s0 + s1 + s2 + s3


@compiled
def advance_solution(u: Field, r: Field, p: Field, out: Field, step: float, inverse: Singles) -> float:
    """u += step p, r -= step out where there is material; returns the square sum of r."""
    a, b, c, d = u.reshape(-1, 3), r.reshape(-1, 3), p.reshape(-1, 3), out.reshape(-1, 3)
    m = inverse.reshape(-1, 6)
    s = 0.0
    for n in range(m.shape[0]):
        if m[n, 0] != 0.0:
            for k in range(3):
                a[n, k] += step * c[n, k]
                v = b[n, k] - step * d[n, k]
                b[n, k] = v
                s += v * v
    return s


@compiled
def add_scaled(u: Field, d: Field, scale: float) -> None:
    """u += scale d."""
    a, b = u.reshape(-1), d.reshape(-1)
    for i in range(a.size):
        a[i] += scale * b[i]
