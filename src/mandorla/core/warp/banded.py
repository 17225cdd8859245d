"""Banded linear systems of the beams and strips, inside compiled kernels."""

from __future__ import annotations

from mandorla.core.compiled import compiled
from mandorla.core.part.mesh import Floats


@compiled
def banded_solve(B: Floats, rhs: Floats) -> None:
    """Solve a symmetric positive definite system of lower band w (n, w), the diagonal last, in place, by L D L^T."""
    n, w = rhs.size, B.shape[1] - 1
    for i in range(n):
        low = max(0, i - w)
        for j in range(low, i):
            v = B[i, j - i + w]
            for k in range(max(low, j - w), j):
                v -= B[i, k - i + w] * B[j, k - j + w] * B[k, w]
            B[i, j - i + w] = v / B[j, w]
        d = B[i, w]
        for k in range(low, i):
            d -= B[i, k - i + w] ** 2 * B[k, w]
        B[i, w] = d
    for i in range(n):
        for k in range(max(0, i - w), i):
            rhs[i] -= B[i, k - i + w] * rhs[k]
    for i in range(n):
        rhs[i] /= B[i, w]
    for i in range(n - 1, -1, -1):
        for k in range(i + 1, min(n, i + w + 1)):
            rhs[i] -= B[k, i - k + w] * rhs[k]
