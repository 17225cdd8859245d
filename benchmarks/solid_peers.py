"""The elastic solver beside a general-purpose algebraic multigrid and a sparse direct solver, on the same matrix, in one run, one
core.

A block of boxes on springs with a film that pulls at its top, to 1e-4 of the load. Preparing means everything from the moduli on:
here coarse levels and smoothers, there assembly and hierarchy or factors. Usage: solid_peers.py (``make peers`` installs pyamg).
"""

from __future__ import annotations

import os

os.environ["OMP_NUM_THREADS"] = os.environ["OPENBLAS_NUM_THREADS"] = "1"

import time

import numpy as np
from scipy.sparse import coo_array, csr_array, diags_array
from scipy.sparse.linalg import splu

from mandorla.core.elastic.hexahedron import CORNERS, box_stiffness
from mandorla.core.elastic.multigrid import ElasticBody
from mandorla.core.part.mesh import Floats
from mandorla.core.warp.fe_model import nodal_area

EDGE, POISSON, MODULUS, GRIP = 4e-3, 0.36, 2e9, 2e11
TOLERANCE = 1e-4


def load_of(shape: tuple[int, int, int]) -> tuple[Floats, Floats]:
    """The load (nz+1, ny+1, nx+1, 3) and the springs (ny+1, nx+1, 3) of a block (nz, ny, nx)."""
    nz, ny, nx = shape
    load = np.zeros((nz + 1, ny + 1, nx + 1, 3))
    load[-1, :, 0, 0], load[-1, :, -1, 0] = 1.0, -1.0
    load[-1, 0, :, 1], load[-1, -1, :, 1] = 1.0, -1.0
    area = nodal_area(np.ones((ny, nx)), EDGE * EDGE)
    return load, GRIP * area[..., None] * np.array([0.5, 0.5, 1.0])


def ours(shape: tuple[int, int, int]) -> tuple[Floats, float, float]:
    """Displacements, seconds to prepare and to solve."""
    load, springs = load_of(shape)
    start = time.perf_counter()
    body = ElasticBody((EDGE, EDGE, EDGE), np.full(shape, MODULUS), POISSON)
    body.stand(shape[0], 0)
    body.hold(springs)
    ready = time.perf_counter()
    u = np.zeros_like(load)
    body.solve(load, u, TOLERANCE)
    return u.ravel(), ready - start, time.perf_counter() - ready


def assembled(shape: tuple[int, int, int], springs: Floats) -> csr_array:
    """The same matrix, sparse."""
    nz, ny, nx = shape
    K = MODULUS * box_stiffness((EDGE, EDGE, EDGE), POISSON)
    node = np.arange((nz + 1) * (ny + 1) * (nx + 1)).reshape(nz + 1, ny + 1, nx + 1)
    at = np.stack([node[c[2] : c[2] + nz, c[1] : c[1] + ny, c[0] : c[0] + nx].ravel() for c in CORNERS], axis=1)
    rows = (3 * at[:, :, None] + np.arange(3)).reshape(len(at), 24)
    i, j = np.repeat(rows, 24, axis=1).ravel(), np.tile(rows, (1, 24)).ravel()
    n = 3 * node.size
    ground = np.zeros(n)
    ground[(3 * node[0].ravel()[:, None] + np.arange(3)).ravel()] = springs.ravel()
    return csr_array(coo_array((np.tile(K.ravel(), len(at)), (i, j)), shape=(n, n)).tocsr() + diags_array(ground))


def rigid_motions(shape: tuple[int, int, int]) -> Floats:
    """The six rigid motions (n, 6) as near null space."""
    z, y, x = np.meshgrid(*(EDGE * np.arange(n + 1.0) for n in shape), indexing="ij")
    p = np.stack([x, y, z], axis=-1).reshape(-1, 3)
    found = np.zeros((len(p), 3, 6))
    for k in range(3):
        found[:, k, k] = 1.0
        found[:, :, 3 + k] = np.cross(np.eye(3)[k], p)
    return found.reshape(-1, 6)


def algebraic(shape: tuple[int, int, int]) -> tuple[Floats, float, float]:
    """Smoothed aggregation with the rigid motions, conjugate gradients (pyamg)."""
    import pyamg

    load, springs = load_of(shape)
    start = time.perf_counter()
    A = assembled(shape, springs).tobsr((3, 3))
    levels = pyamg.smoothed_aggregation_solver(A, B=rigid_motions(shape))
    ready = time.perf_counter()
    u = levels.solve(load.ravel(), tol=TOLERANCE, accel="cg", maxiter=300)
    return np.asarray(u), ready - start, time.perf_counter() - ready


def direct(shape: tuple[int, int, int]) -> tuple[Floats, float, float]:
    """Sparse LU."""
    load, springs = load_of(shape)
    start = time.perf_counter()
    factored = splu(assembled(shape, springs).tocsc(), permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0)
    ready = time.perf_counter()
    return factored.solve(load.ravel()), ready - start, time.perf_counter() - ready


def main() -> int:
    """Print the table."""
    ours((4, 4, 4))
    for shape, peers in (
        ((24, 28, 30), (("pyamg, smoothed aggregation", algebraic),)),
        ((14, 18, 20), (("pyamg, smoothed aggregation", algebraic), ("SciPy, sparse LU", direct))),
    ):  # fmt: skip
        u, ready, solved = ours(shape)
        print(f"block of {np.prod(shape)} boxes, {3 * np.prod([n + 1 for n in shape])} unknowns, to {TOLERANCE:g}")
        print(f"  {'Mandorla':30s} preparing {ready:8.3f} s   solving {solved:8.3f} s")
        for name, work in peers:
            v, r, s = work(shape)
            apart = float(np.abs(v - u).max() / np.abs(v).max())
            whole, alone = (r + s) / (ready + solved), s / solved
            print(f"  {name:30s} preparing {r:8.3f} s   solving {s:8.3f} s   apart by {apart:.1e}")
            print(f"  {'':30s} {whole:.1f} times ours with preparing, {alone:.1f} without")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
