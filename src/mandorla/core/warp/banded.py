"""Banded linear systems of the beams and strips, inside compiled kernels.

A symmetric positive definite system of lower band w (n, w + 1), the diagonal last, is solved in place by L D L^T. The width is
written out in each kernel, for the compiler unrolls what it knows.
"""

from __future__ import annotations

from mandorla.core.compiled import compiled
from mandorla.core.part.mesh import Floats


@compiled
def _eliminate(B: Floats, rhs: Floats, j: int, below: int, width: int) -> None:
    inverse = 1.0 / B[j, width]
    for a in range(1, below + 1):
        v = B[j + a, width - a]
        factor = v * inverse
        for b in range(1, a):
            B[j + a, width - a + b] -= v * B[j + b, width - b]
        B[j + a, width] -= factor * v
        B[j + a, width - a] = factor
        rhs[j + a] -= factor * rhs[j]
    B[j, width] = inverse


@compiled
def _substitute(B: Floats, rhs: Floats, i: int, below: int, width: int) -> None:
    value = rhs[i] * B[i, width]
    for a in range(1, below + 1):
        value -= B[i + a, width - a] * rhs[i + a]
    rhs[i] = value


@compiled
def beam_solve(B: Floats, rhs: Floats) -> None:
    """Solve a beam in deflection and slope, of lower band 3."""
    n = rhs.size
    whole = max(n - 3, 0)
    for j in range(whole):
        _eliminate(B, rhs, j, 3, 3)
    for j in range(whole, n):
        _eliminate(B, rhs, j, n - 1 - j, 3)
    for i in range(n - 1, whole - 1, -1):
        _substitute(B, rhs, i, n - 1 - i, 3)
    for i in range(whole - 1, -1, -1):
        _substitute(B, rhs, i, 3, 3)


@compiled
def strip_solve(B: Floats, rhs: Floats) -> None:
    """Solve a strip that also stretches, of lower band 5."""
    n = rhs.size
    whole = max(n - 5, 0)
    for j in range(whole):
        _eliminate(B, rhs, j, 5, 5)
    for j in range(whole, n):
        _eliminate(B, rhs, j, n - 1 - j, 5)
    for i in range(n - 1, whole - 1, -1):
        _substitute(B, rhs, i, n - 1 - i, 5)
    for i in range(whole - 1, -1, -1):
        _substitute(B, rhs, i, 5, 5)
