"""The small linear systems inside kernels, against LAPACK."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from scipy.linalg import solveh_banded

from mandorla.core.part.mesh import Floats
from mandorla.core.thermal.network import INNER
from mandorla.core.thermal.network_elimination import factor_nodes, solve_nodes
from mandorla.core.warp.banded import beam_solve, strip_solve


@pytest.mark.parametrize(("solve", "width"), [(beam_solve, 3), (strip_solve, 5)])
@pytest.mark.parametrize("n", [1, 2, 4, 5, 6, 47])
def test_a_band_is_solved_as_lapack_does(solve: Callable[[Floats, Floats], None], width: int, n: int) -> None:
    rng = np.random.default_rng(10 * n + width)
    band = rng.normal(size=(n, width + 1))
    band[:, width] = 2.0 * (width + 1.0)
    for i in range(n):
        band[i, : max(width - i, 0)] = 0.0
    lower = np.zeros((width + 1, n))  # by diagonals
    for d in range(min(width + 1, n)):
        lower[d, : n - d] = band[d:, width - d]
    rhs = rng.normal(size=n)
    found = rhs.copy()
    solve(band, found)
    assert np.allclose(found, solveh_banded(lower[:n], rhs, lower=True), rtol=1e-12, atol=1e-14)


def test_the_chambers_nodes_are_solved_as_lapack_does() -> None:
    rng = np.random.default_rng(3)
    A = -rng.uniform(0.0, 1.0, size=(INNER, INNER))  # as conductances make it, with air that leaves on one side only
    A[np.diag_indices(INNER)] = 1.05 * -A.sum(axis=1)
    b = rng.normal(size=INNER)
    factored, found = A.copy(), b.copy()
    factor_nodes(factored)
    solve_nodes(factored, found)
    assert np.allclose(found, np.linalg.solve(A, b), rtol=1e-10)
