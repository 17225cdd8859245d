"""The elastic body of boxes against closed forms and against a general-purpose direct solver."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.sparse import csc_array
from scipy.sparse.linalg import spsolve

from mandorla.core.elastic.hexahedron import box_stiffness, free_growth, largest_ratio, parity_blocks
from mandorla.core.elastic.multigrid import ElasticBody
from mandorla.core.part.mesh import Floats
from tests.core.bodies import dense, places, standing


def solve_with(body: ElasticBody, load: Floats, fixed: np.ndarray) -> Floats:
    """Displacements of a small body for a load, with some unknowns fixed at nought, by a dense solve."""
    A, free = dense(body), ~fixed.ravel()
    u = np.zeros(load.size)
    u[free] = np.linalg.solve(A[np.ix_(free, free)], load.ravel()[free])
    return u.reshape(load.shape)


def thermal_load(body: ElasticBody, strain: Floats) -> Floats:
    """Forces of a free strain (nz, ny, nx) of the boxes."""
    forces = body.stiffness_times(free_growth(body.size))
    load = np.zeros((*(n + 1 for n in body.moduli.shape), 3))
    nz, ny, nx = body.moduli.shape
    for iz in (0, 1):
        for iy in (0, 1):
            for ix in (0, 1):
                part = (body.moduli * strain)[..., None] * forces[iz, iy, ix]
                load[iz : iz + nz, iy : iy + ny, ix : ix + nx] += part
    return load


@pytest.mark.parametrize("size", [(1.0, 1.0, 1.0), (5e-3, 4e-3, 1e-3)])
def test_patch_test_and_rigid_motions(size: tuple[float, float, float]) -> None:
    body = standing((3, 3, 4), size, 0.35)
    x = places(body)
    rng = np.random.default_rng(4)
    gradient = rng.normal(size=(3, 3))
    out = np.empty_like(x)
    body.multiply(x @ gradient.T, out)
    inside = out[1:-1, 1:-1, 1:-1]
    assert np.abs(inside).max() < 1e-10 * np.abs(out).max()  # a constant strain needs no force inside
    turn = gradient - gradient.T
    body.multiply(x @ turn.T + 3.0, out)
    assert np.abs(out).max() < 1e-9 * 1e9 * max(size) * np.abs(x).max() * 10  # a rigid motion needs none at all


def test_parity_blocks_are_the_element() -> None:
    size = (3e-3, 2e-3, 1e-3)
    K, blocks = box_stiffness(size, 0.3, 0.7), parity_blocks(size, 0.3, 0.7)
    assert sorted(np.linalg.eigvalsh(K))[6:] == pytest.approx(
        sorted(8.0 * v for b in blocks for v in np.linalg.eigvalsh(b))[6:], rel=1e-9
    )
    assert largest_ratio(K) < 8.0


def test_free_contraction_leaves_no_stress_and_a_clamped_bar_has_e_alpha_dt() -> None:
    body = standing((2, 2, 8), (1e-2, 1e-2, 1e-2), 0.35)
    x, strain = places(body), -2e-3
    load = thermal_load(body, np.full(body.moduli.shape, strain))
    fixed = np.zeros(load.shape, dtype=bool)
    fixed[0, 0, 0, :], fixed[0, 0, -1, 1:], fixed[0, -1, 0, 2] = True, True, True
    u = solve_with(body, load, fixed)
    assert np.abs(u - strain * (x - x[0, 0, 0])).max() < 1e-11
    fixed[...] = False
    fixed[:, :, 0, 0] = fixed[:, :, -1, 0] = True  # held between two walls along x
    fixed[0, 0, 0, 1:], fixed[0, -1, 0, 2] = True, True
    u = solve_with(body, load, fixed)
    out = np.empty_like(u)
    body.multiply(u, out)
    pull = float((out - load)[:, :, -1, 0].sum()) / (2e-2 * 2e-2)
    assert pull == pytest.approx(1e9 * 2e-3, rel=1e-9)


@pytest.mark.parametrize("aspect", [1.0, 5.0])
def test_one_element_through_the_thickness_bends_like_a_beam(aspect: float) -> None:
    h, n = 2e-3, 12
    body = standing((1, 1, n), (aspect * h, h, h), 0.3)
    load = np.zeros((2, 2, n + 1, 3))
    load[:, :, -1, 2] = 0.25
    fixed = np.zeros(load.shape, dtype=bool)
    fixed[:, :, 0, :] = True
    tip = float(solve_with(body, load, fixed)[:, :, -1, 2].mean())
    L, inertia, G = n * aspect * h, h**4 / 12, 1e9 / 2.6
    exact = L**3 / (3e9 * inertia) + L / (5.0 / 6.0 * G * h**2)
    assert tip == pytest.approx(exact, rel=0.02)


@pytest.mark.parametrize(("thick", "stiff"), [(1, 1.0), (1, 4.0), (2, 0.3)])
def test_bimetal_strip(thick: int, stiff: float) -> None:
    """Curvature of a strip of two materials (Timoshenko 1925): within 1 %."""
    h, n = 1e-3, 20
    moduli = np.full((1 + thick, 1, n), 1e9)
    moduli[1:] *= stiff
    body = ElasticBody((h, h, h), moduli, 0.0)
    body.stand(1 + thick, 0)
    strain = np.zeros(moduli.shape)
    strain[1:] = -1e-3
    load = thermal_load(body, strain)
    fixed = np.zeros(load.shape, dtype=bool)
    fixed[:, :, 0, 0] = True  # a plane of symmetry
    fixed[:, 0, :, 1] = True
    fixed[0, :, 0, 2] = True
    w = solve_with(body, load, fixed)[0, 0, :, 2]
    x = h * np.arange(n + 1)
    curvature = 2.0 * np.polyfit(x[3:15], w[3:15], 2)[0]
    m, ratio = thick, stiff  # upper over lower: thickness and modulus
    expected = (
        6.0 * 1e-3 * (1 + m) ** 2 / ((1 + m) * h * (3 * (1 + m) ** 2 + (1 + m * ratio) * (m**2 + 1 / (m * ratio))))
    )
    assert curvature == pytest.approx(expected, rel=0.01)


def test_beam_on_elastic_foundation() -> None:
    """A moment at the end of a long beam on springs: deflection 2 lambda² M / k a unit of width (Hetenyi 1946), within 2 %."""
    h, n, k, modulus = 2e-3, 90, 2e7, 1e9
    body = standing((1, 1, n), (h, h, h), 0.0, modulus)
    springs = np.zeros((2, n + 1, 3))
    share = np.where((np.arange(n + 1) == 0) | (np.arange(n + 1) == n), 0.5, 1.0)
    springs[..., 2] = k * h * h / 2.0 * share
    springs[:, n // 2, :2] = 1e9
    body.hold(springs)
    load = np.zeros((2, 2, n + 1, 3))
    moment = 1e-3 * h  # N m, a couple of axial forces at both ends
    for end, sign in ((0, -1.0), (n, 1.0)):
        load[1, :, end, 0] = -sign * moment / h / 2.0
        load[0, :, end, 0] = sign * moment / h / 2.0
    u = np.zeros_like(load)
    body.solve(load, u, 1e-10)
    wave = (k / (4.0 * modulus * h**3 / 12.0)) ** 0.25
    assert float(u[0, :, -1, 2].mean()) == pytest.approx(2.0 * wave**2 * 1e-3 / k, rel=0.02)


def test_double_cantilever_energy_release() -> None:
    """Half of a double cantilever: energy release from the compliance, against the corrected beam, within 3 %."""
    h, n, tall, modulus = 1e-3, 60, 4, 1e9
    P, compliance = 1.0, []
    for crack in (29, 31):
        body = standing((tall, 1, n), (h, h, h), 0.0, modulus)
        springs = np.zeros((2, n + 1, 3))
        springs[:, crack:, 2] = 1e9  # the plane of symmetry ahead of the crack
        springs[:, -1, :2] = 1e6
        body.hold(springs)
        load = np.zeros((tall + 1, 2, n + 1, 3))
        load[:, :, 0, 2] = P / (2.0 * (tall + 1))
        u = np.zeros_like(load)
        body.solve(load, u, 1e-9, most=800)
        compliance.append(float(u[:, :, 0, 2].mean()) / P)
    found = P**2 * (compliance[1] - compliance[0]) / (2 * h) / h
    a, thick = 30 * h, tall * h
    expected = 12.0 * P**2 * a**2 / (modulus * h**2 * thick**3) * (1.0 + 0.64 * thick / a) ** 2
    assert found == pytest.approx(expected, rel=0.03)


@pytest.mark.parametrize("holes", [0.0, 0.35])
def test_multigrid_agrees_with_a_direct_solver(holes: float) -> None:
    rng = np.random.default_rng(7)
    moduli = 10.0 ** rng.uniform(8.5, 9.5, (4, 5, 6)) * (rng.random((4, 5, 6)) >= holes)
    moduli[0] = 1e9
    moduli[1:, 2, 2] = 1e9
    body = ElasticBody((4e-3, 3e-3, 2e-3), moduli, 0.36)
    for active, first in ((1, 0), (3, 1), (4, 3)):  # grown in steps, as a print does
        body.stand(active, first)
    springs = 10.0 ** rng.uniform(4, 6, (6, 7, 3))
    body.hold(springs)
    load = rng.normal(size=(5, 6, 7, 3))
    u = np.zeros_like(load)
    assert body.solve(load, u, 1e-9, most=400) < 1e-9
    A = dense(body)
    there = np.abs(A).sum(axis=1) > 0.0
    touched = there & (np.diag(A) > 0.0)
    solid = np.flatnonzero(touched & (np.abs(A).sum(axis=1) > np.abs(np.diag(A)) * (1 + 1e-12)))
    exact = spsolve(csc_array(A[np.ix_(solid, solid)]), load.ravel()[solid])
    found = u.ravel()[solid]
    assert np.abs(found - exact).max() < 1e-6 * np.abs(exact).max()
    assert body.iterations < 120


def test_iterations_do_not_grow_with_the_body() -> None:
    counts = []
    for n in (1, 2, 3):
        body = standing((8 * n, 8 * n, 12 * n), (6e-3 / n,) * 3, 0.36, 2e9)
        body.hold(np.full((8 * n + 1, 12 * n + 1, 3), 1e11 * (6e-3 / n) ** 2))
        load = np.zeros((8 * n + 1, 8 * n + 1, 12 * n + 1, 3))
        load[-1, :, 0, 0], load[-1, :, -1, 0] = 1.0, -1.0
        body.solve(load, np.zeros_like(load), 1e-6)
        counts.append(body.iterations)
    assert max(counts) <= 14


def test_a_coarsest_level_that_rounding_left_short_of_positive_gives_no_infinite_preconditioner() -> None:
    """Rigid motions of stiff bodies on the weak springs of a worn grip are lost in single precision: the coarsest factor grew to
    1e35, and a part that cooled had "no equilibrium"."""
    moduli, load = np.zeros((8, 6, 49)), np.zeros((9, 7, 50, 3))
    for k in range(0, 50, 10):
        moduli[:, :, k : k + 7] = 2e9
        load[0, :, k : k + 8, 2] = 1e-3
    body = ElasticBody((1e-3, 1e-3, 1e-3), moduli, 0.35)
    body.stand(8, 0)
    body.hold(np.full((7, 50, 3), 1.0))
    coarsest = body.levels[-1]
    assert coarsest.stored is not None
    noise = np.random.default_rng(3).normal(size=coarsest.stored.shape)
    coarsest.stored *= (1.0 + 1e-4 * noise).astype(np.float32)
    body._factor()
    assert coarsest.factor is not None
    assert np.abs(np.tril(coarsest.factor)).max() < 1.5 * np.diag(coarsest.factor).max()
    u = np.zeros_like(load)
    assert body.solve(load, u, 1e-3) < 0.02
    assert np.isfinite(u).all()
