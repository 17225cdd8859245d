"""Compiled pieces of the multigrid on box elements: Galerkin coarsening over 2 x 2 x 2 elements, transfer, smoothing.

Fields are (n, 3) over the nodes that there are (cells.Cells). Coarse elements keep their own stiffness, packed as box_kernel wants
it. Nodes without any element that stands have an inverse of nought and stay where they are.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mandorla.core.compiled import compiled
from mandorla.core.elastic.box_kernel import LANES, PLACES
from mandorla.core.elastic.hexahedron import CORNERS

Field = NDArray[np.floating]
Singles = NDArray[np.float32]
Table = NDArray[np.int32]
Places = NDArray[np.int64]
AT = np.empty((24, 24), dtype=np.int64)  # where an element's stiffness keeps a row and a column
for _n, (_a, _b) in enumerate(PLACES):
    AT[_a, _b] = AT[_b, _a] = _n


def child_weights() -> Field:
    """Weights (8, 8, 8): of a coarse element's corners at the corners of each of its eight children, trilinear."""
    found = np.empty((8, 8, 8))
    for child in range(8):
        for a in range(8):
            at = 0.5 * (CORNERS[child] + CORNERS[a])
            found[child, a] = np.prod(np.where(CORNERS == 1, at, 1.0 - at), axis=1)
    return found


def children_of(K: Field) -> Field:
    """What a child of unit modulus adds to its parent's packed stiffness, (8, 300)."""
    found = np.empty((8, 300))
    for child, weights in enumerate(child_weights()):
        P = np.kron(weights, np.eye(3))
        found[child] = (P.T @ K @ P)[tuple(np.array(PLACES).T)]
    return found


@compiled
def coarsen_moduli(
    moduli: Field, parts: Singles, children: Table, first: int, end: int, standing: int, coarse: Singles
) -> None:
    """Set packed stiffnesses of coarse elements ``first`` to ``end`` out of the moduli (m,) of the ``standing`` elements below."""
    for e in range(first, end):
        into = coarse[e // LANES, :, e % LANES]
        into[:] = 0.0
        for child in range(8):
            k = children[e, child]
            if k < 0 or k >= standing or moduli[k] == 0.0:
                continue
            modulus, part = np.float32(moduli[k]), parts[child]
            for n in range(300):
                into[n] += modulus * part[n]


@compiled
def coarsen_stored(
    fine: Singles, weights: Singles, at: Places, children: Table, first: int, end: int, standing: int, coarse: Singles
) -> None:
    """Set packed stiffnesses of coarse elements ``first`` to ``end`` out of the ``standing`` packed ones below; ``at`` is AT."""
    K = np.empty((24, 24), dtype=np.float32)
    half, whole = np.empty((24, 24), dtype=np.float32), np.empty((24, 24), dtype=np.float32)
    for e in range(first, end):
        whole[:, :] = 0.0
        for child in range(8):
            k = children[e, child]
            if k < 0 or k >= standing:
                continue
            packed, W = fine[k // LANES, :, k % LANES], weights[child]
            for a in range(24):
                for b in range(24):
                    K[a, b] = packed[at[a, b]]
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
                                whole[b, 3 * n + c] += w * half[b, 3 * a + c]
        into = coarse[e // LANES, :, e % LANES]
        for a in range(24):
            for b in range(a, 24):
                into[at[a, b]] = whole[a, b]


@compiled
def diagonal_of_moduli(moduli: Field, K: Field, nodes: Table, first: int, lowest: int, blocks: Field) -> None:
    """Add the diagonal blocks (n, 6: xx, yy, zz, yz, zx, xy) of elements ``first`` on to nodes from number ``lowest`` on."""
    for e in range(first, nodes.shape[0]):
        modulus = moduli[e]
        if modulus == 0.0:
            continue
        for a in range(8):
            n = nodes[e, a]
            if n >= lowest:
                i = 3 * a
                blocks[n, 0] += modulus * K[i, i]
                blocks[n, 1] += modulus * K[i + 1, i + 1]
                blocks[n, 2] += modulus * K[i + 2, i + 2]
                blocks[n, 3] += modulus * K[i + 1, i + 2]
                blocks[n, 4] += modulus * K[i, i + 2]
                blocks[n, 5] += modulus * K[i, i + 1]


@compiled
def diagonal_of_stored(stored: Singles, at: Places, nodes: Table, first: int, lowest: int, blocks: Field) -> None:
    """Add the diagonal blocks (n, 6) of packed elements ``first`` on to nodes from number ``lowest`` on."""
    for e in range(first, nodes.shape[0]):
        E = stored[e // LANES, :, e % LANES]
        for a in range(8):
            n = nodes[e, a]
            if n >= lowest:
                i = 3 * a
                blocks[n, 0] += E[at[i, i]]
                blocks[n, 1] += E[at[i + 1, i + 1]]
                blocks[n, 2] += E[at[i + 2, i + 2]]
                blocks[n, 3] += E[at[i + 1, i + 2]]
                blocks[n, 4] += E[at[i, i + 2]]
                blocks[n, 5] += E[at[i, i + 1]]


@compiled
def invert_blocks(blocks: Field, springs: Field, first: int, end: int, inverse: Singles) -> None:
    """Inverses (n, 6: xx, yy, zz, yz, zx, xy) of symmetric diagonal blocks of nodes ``first`` to ``end``, springs (k, 3) on the
    lowest."""
    for n in range(first, end):
        b, into = blocks[n], inverse[n]
        xx, yy, zz, yz, zx, xy = b[0], b[1], b[2], b[3], b[4], b[5]
        if xx == 0.0:
            into[:] = 0.0
            continue
        if n < springs.shape[0]:
            xx, yy, zz = xx + springs[n, 0], yy + springs[n, 1], zz + springs[n, 2]
        c0, c1, c2 = yy * zz - yz * yz, yz * zx - xy * zz, xy * yz - yy * zx
        d = 1.0 / (xx * c0 + xy * c1 + zx * c2)
        into[0], into[5], into[4] = c0 * d, c1 * d, c2 * d
        into[1], into[3], into[2] = (xx * zz - zx * zx) * d, (xy * zx - xx * yz) * d, (xx * yy - xy * xy) * d


@compiled
def smooth_step(u: Singles, r: Singles, d: Singles, inverse: Singles, old: float, new: float, keep: float) -> None:
    """One Chebyshev step: d = old d + new D⁻¹ r, u = keep u + d."""
    p, q, o = np.float32(old), np.float32(new), np.float32(keep)
    for n in range(u.shape[0]):
        a, b, c = q * r[n, 0], q * r[n, 1], q * r[n, 2]
        xx, yy, zz, yz, zx, xy = (
            inverse[n, 0],
            inverse[n, 1],
            inverse[n, 2],
            inverse[n, 3],
            inverse[n, 4],
            inverse[n, 5],
        )
        x = p * d[n, 0] + xx * a + xy * b + zx * c
        y = p * d[n, 1] + xy * a + yy * b + yz * c
        z = p * d[n, 2] + zx * a + yz * b + zz * c
        d[n, 0], d[n, 1], d[n, 2] = x, y, z
        u[n, 0] = o * u[n, 0] + x
        u[n, 1] = o * u[n, 1] + y
        u[n, 2] = o * u[n, 2] + z


@compiled
def restrict(r: Singles, rows: Table, coarse: Singles) -> None:
    """Set ``coarse`` to the transposed interpolation of ``r``; ``rows`` are cells.stretches."""
    coarse[:, :] = 0.0
    w = np.float32(0.125)
    for m in range(rows.shape[0]):
        first, x, p, q, s, t = rows[m, 0], rows[m, 2], rows[m, 3], rows[m, 4], rows[m, 5], rows[m, 6]
        for i in range(rows[m, 1]):
            if first + i >= r.shape[0]:
                break
            a, b = (x + i) // 2, (x + i + 1) // 2
            for k in range(3):
                v = w * r[first + i, k]
                coarse[p + a, k] += v
                coarse[p + b, k] += v
                coarse[q + a, k] += v
                coarse[q + b, k] += v
                coarse[s + a, k] += v
                coarse[s + b, k] += v
                coarse[t + a, k] += v
                coarse[t + b, k] += v


@compiled
def prolong(coarse: Singles, rows: Table, inverse: Singles, u: Singles) -> None:
    """Set ``u`` to the interpolated ``coarse`` where something stands; ``rows`` are cells.stretches."""
    w = np.float32(0.125)
    for m in range(rows.shape[0]):
        first, x, p, q, s, t = rows[m, 0], rows[m, 2], rows[m, 3], rows[m, 4], rows[m, 5], rows[m, 6]
        for i in range(rows[m, 1]):
            n = first + i
            if n >= u.shape[0]:
                break
            if inverse[n, 0] == 0.0:
                continue
            a, b = (x + i) // 2, (x + i + 1) // 2
            for k in range(3):
                u[n, k] = w * (
                    coarse[p + a, k] + coarse[p + b, k] + coarse[q + a, k] + coarse[q + b, k]
                    + coarse[s + a, k] + coarse[s + b, k] + coarse[t + a, k] + coarse[t + b, k]
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
def add_springs(u: Field, springs: Field, sign: float, out: Field) -> None:
    """Add ``sign`` times the forces of springs (k, 3) on the lowest nodes."""
    s = springs.dtype.type(sign)
    for n in range(springs.shape[0]):
        for k in range(3):
            out[n, k] += s * springs[n, k] * u[n, k]


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
    total, n = np.zeros(LANES), x.size // LANES * LANES
    for i in range(0, n, LANES):
        for k in range(LANES):
            total[k] += np.float64(x[i + k]) * np.float64(y[i + k])
    s = float(total.sum())
    for i in range(n, x.size):
        s += float(x[i] * y[i])
    return s


@compiled
def advance_solution(u: Field, r: Field, p: Field, out: Field, step: float, inverse: Singles) -> None:
    """u += step p, r -= step out where something stands."""
    for n in range(u.shape[0]):
        f = 0.0 if inverse[n, 0] == 0.0 else step
        for k in range(3):
            u[n, k] += f * p[n, k]
            r[n, k] -= f * out[n, k]


@compiled
def add_scaled(u: Field, d: Field, scale: float) -> None:
    """u += scale d."""
    a, b = u.reshape(-1), d.reshape(-1)
    s = a.dtype.type(scale)
    for i in range(a.size):
        a[i] += s * b[i]
