"""Stiffness of an 8-node box element with incompatible modes (Wilson 1973, Taylor, Beresford and Wilson 1976).

Nine internal modes, 1 - r² in each direction for each component, are condensed out, so that a single element through the thickness
bends without locking. On boxes the element passes the patch test. Nodes are numbered a = ix + 2 iy + 4 iz, unknowns 3 a +
component.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
CORNERS = np.array([[(a >> d) & 1 for d in range(3)] for a in range(8)])  # (8, 3), 0 or 1
_SIGNS = 2.0 * CORNERS - 1.0
_GAUSS = 0.5773502691896257


def elasticity(poisson: float, across: float = 1.0) -> Floats:
    """Stiffness (6, 6) of unit in-plane modulus, order xx, yy, zz, yz, zx, xy; ``across`` is the modulus along z over that in
    plane.

    Transversely isotropic: the Poisson ratio of in-plane strain under in-plane load and, scaled by the moduli, across; shear moduli
    across are in proportion to the geometric mean of the moduli.
    """
    v, r = poisson, across
    compliance = np.zeros((6, 6))
    compliance[:3, :3] = [[1.0, -v, -v], [-v, 1.0, -v], [-v, -v, 1.0 / r]]
    shear = 1.0 / (2.0 * (1.0 + v))
    compliance[3, 3] = compliance[4, 4] = 1.0 / (shear * np.sqrt(r))
    compliance[5, 5] = 1.0 / shear
    return np.asarray(np.linalg.inv(compliance))


def _strain_rows(gradient: Floats) -> Floats:
    """Strains (6, 3 n) of n shape functions with gradients (n, 3)."""
    n = gradient.shape[0]
    B = np.zeros((6, 3 * n))
    gx, gy, gz = gradient.T
    B[0, 0::3], B[1, 1::3], B[2, 2::3] = gx, gy, gz
    B[3, 1::3], B[3, 2::3] = gz, gy
    B[4, 0::3], B[4, 2::3] = gz, gx
    B[5, 0::3], B[5, 1::3] = gy, gx
    return B


def strain_rows(size: tuple[float, float, float], at: Floats) -> tuple[Floats, Floats]:
    """Strain operators (6, 24) of the nodes and (6, 9) of the internal modes at a point (3,) of -1 to 1, edges ``size`` m."""
    half = 0.5 * np.asarray(size)
    each = 1.0 + _SIGNS * at
    gradient = np.stack(
        [0.125 * _SIGNS[:, d] * np.prod(np.delete(each, d, axis=1), axis=1) / half[d] for d in range(3)], axis=1
    )
    inner = np.diag(-2.0 * at / half)
    return _strain_rows(gradient), _strain_rows(inner)


@lru_cache(maxsize=16)
def box_stiffness(size: tuple[float, float, float], poisson: float, across: float = 1.0) -> Floats:
    """Condensed stiffness (24, 24) in N/m per Pa of in-plane modulus for edges ``size`` (m); read-only."""
    D = elasticity(poisson, across)
    K, C, H = np.zeros((24, 24)), np.zeros((24, 9)), np.zeros((9, 9))
    volume = float(np.prod(size)) / 8.0
    for corner in _SIGNS:
        B, G = strain_rows(size, _GAUSS * corner)
        K += volume * B.T @ D @ B
        C += volume * B.T @ D @ G
        H += volume * G.T @ D @ G
    found = K - C @ np.linalg.solve(H, C.T)
    found = 0.5 * (found + found.T)
    found.setflags(write=False)
    return found


@lru_cache(maxsize=16)
def parity_blocks(size: tuple[float, float, float], poisson: float, across: float = 1.0) -> Floats:
    """The stiffness split by the box's three mirror symmetries: eight symmetric blocks (8, 3, 3) N/m per Pa; read-only.

    In sums and differences over the corners, with parity p for each direction (a bit each), component c of parity q xor 2^c couples
    to its like of the same q only. K u = H B H u, H the 8-point Hadamard transform of each component.
    """
    K = box_stiffness(size, poisson, across)
    hadamard = np.array([[(-1.0) ** bin(p & a).count("1") for a in range(8)] for p in range(8)])
    T = np.kron(hadamard, np.eye(3))
    turned = T @ K @ T.T / 64.0
    found = np.empty((8, 3, 3))
    rest = turned.copy()
    for q in range(8):
        rows = [3 * (q ^ (1 << c)) + c for c in range(3)]
        found[q] = turned[np.ix_(rows, rows)]
        rest[np.ix_(rows, rows)] = 0.0
    if np.abs(rest).max() > 1e-9 * np.abs(turned).max():
        raise ArithmeticError("a box element must fall into eight blocks")
    found.setflags(write=False)
    return found


def free_growth(size: tuple[float, float, float]) -> Floats:
    """Displacements (24,) m of the corners for unit strain in plane and across, about the element's middle."""
    return np.asarray((_SIGNS * 0.5 * np.asarray(size)).ravel())


def largest_ratio(K: Floats) -> float:
    """Largest eigenvalue of an element's stiffness (24, 24) relative to its own 3 x 3 diagonal blocks.

    A bound for the assembled matrix relative to its block diagonal (Fried 1973), whatever the moduli are.
    """
    root = np.zeros((24, 24))
    for a in range(8):
        s = slice(3 * a, 3 * a + 3)
        values, vectors = np.linalg.eigh(K[s, s])
        root[s, s] = vectors @ np.diag(1.0 / np.sqrt(values)) @ vectors.T
    return float(np.linalg.eigvalsh(root @ K @ root)[-1])
