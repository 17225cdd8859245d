"""The half-strip against beam theory: bimetal, elastic foundation, free and clamped contraction, symmetry."""

from __future__ import annotations

import numpy as np
import pytest

from mandorla.core.part.mesh import Floats
from mandorla.core.warp.strip import (
    CORNER_FACTOR,
    NORMAL_COMPLIANCE,
    StripBlocks,
    StripBond,
    StripBrim,
    StripRun,
    run_strip,
    strip_nodes,
)

LENGTH, WIDTH, E = 0.2, 0.02, 2.0e9


def strip(
    heights: Floats, moduli: Floats, *, fresh: Floats | None = None, cooling: Floats | None = None, kn: float = 1e-3,
    kt: float = 1e-6, strength: float = 1e30, energy: float = 1e30, nu: float = 0.0, length: float = LENGTH,
    plan_width: float = 1e-4, debond: bool = False,
) -> StripRun:  # fmt: skip
    """Run a strip of blocks with the given heights and moduli; a narrow plan width switches the plate effect off."""
    m = heights.size
    edges = np.r_[0.0, np.cumsum(heights)]
    x = strip_nodes(length, length, 0.0, coarse=80, fine=8000.0)
    borders = np.r_[x[0], 0.5 * (x[1:] + x[:-1]), x[-1]]
    one, zero = np.ones(m), np.zeros(m)
    blocks = StripBlocks(
        edges[:-1], edges[1:], length * one, WIDTH * one, plan_width * one, moduli, moduli, zero if fresh is None else fresh,
        zero, zero if cooling is None else cooling, nu,
    )  # fmt: skip
    foot = np.diff(borders) * WIDTH
    return run_strip(x, foot, blocks, StripBond(kn, kt, strength * one, energy * one), StripBrim(0.0, 1e-3), debond)


def timoshenko_curvature(ratio: float, modulus_ratio: float, height: float, strain: float) -> float:
    """Curvature of a bimetal strip (Timoshenko 1925, eq. 4): ratio t1/t2, modulus ratio E1/E2."""
    m, n = ratio, modulus_ratio
    return 6 * strain * (1 + m) ** 2 / (height * (3 * (1 + m) ** 2 + (1 + m * n) * (m**2 + 1 / (m * n))))


@pytest.mark.parametrize("ratio", [0.5, 1.0, 2.0])
@pytest.mark.parametrize("modulus_ratio", [0.3, 1.0, 3.0])
def test_released_bimetal_follows_timoshenko(ratio: float, modulus_ratio: float) -> None:
    height, strain = 0.002, 1e-3
    low = height * ratio / (1 + ratio)
    run = strip(np.array([low, height - low]), np.array([E * modulus_ratio, E]), cooling=np.array([0.0, strain]))
    kappa = timoshenko_curvature(ratio, modulus_ratio, height, strain)
    assert run.deflection[-1] == pytest.approx(0.5 * kappa * LENGTH**2, rel=0.01)
    assert run.released[-1] - run.released[0] == pytest.approx(run.deflection[-1], rel=1e-9)


def test_uniform_contraction_bends_nothing_once_released() -> None:
    n = 4
    deflection = strip(np.full(n, 0.001), np.full(n, E), cooling=np.full(n, 2e-3)).deflection
    # half of the end region is lost on the upper faces alike: what is left is round-off of the contraction 0.4 mm
    assert abs(deflection[-1]) < 1e-3 * 2e-3 * LENGTH


def test_layers_laid_free_add_up_to_the_layered_strip() -> None:
    """Every film bends what stands below it: curvature is the sum of Timoshenko's, laid at the mid plane."""
    n, dh, strain, height = 40, 0.0005, 1e-3, 0.02
    deflection = strip(np.full(n, dh), np.full(n, E), fresh=np.full(n, strain), length=0.4).deflection
    # a film's force E eps dh at the top of a beam of height z, which is its mid plane (midpoint rule)
    z = (np.arange(n) + 0.5) * dh
    kappa = np.sum(E * strain * dh * (z / 2) / (E * z**3 / 12))
    assert deflection[-1] == pytest.approx(0.5 * kappa * 0.4**2, rel=0.02)
    assert z[-1] < height


def hetenyi_error(height: float, kn: float, length: float) -> float:
    """Relative error of the end deflection under an end moment, 2 lambda^2 M / k (Hetenyi 1946)."""
    strain = 1e-3
    deflection = strip(np.array([height]), np.array([E]), fresh=np.array([strain]), kn=kn, length=length).deflection
    # what stands is the lower half of the block, the film's force acts at its top
    h = 0.5 * height
    k = WIDTH / (1.0 / kn + NORMAL_COMPLIANCE * h / E)
    EI = E * WIDTH * h**3 / 12
    lam = (k / (4 * EI)) ** 0.25
    assert lam * length > 6.0  # long enough to be semi-infinite
    moment = E * WIDTH * height * strain * (h / 2)
    return float(deflection[0] / (2 * lam**2 * moment / k) - 1.0)


@pytest.mark.parametrize("height", [0.004, 0.001])
def test_end_moment_on_an_elastic_foundation_follows_hetenyi(height: float) -> None:
    # soft enough that the end region (0.3 h) is short against the wave length
    assert abs(hetenyi_error(height, kn=2e6, length=0.5)) < 0.01


def test_a_stiffer_grip_lets_the_corner_rise_less_and_pulls_harder() -> None:
    heights, fresh = np.full(20, 0.001), np.full(20, 4e-3)
    soft = strip(heights, np.full(20, E), fresh=fresh, kn=2e10, kt=1e10, length=0.06)
    stiff = strip(heights, np.full(20, E), fresh=fresh, kn=2e12, kt=1e12, length=0.06)
    assert stiff.deflection[19] < soft.deflection[19]
    assert stiff.peel.max() > soft.peel.max()
    assert 0.0 < stiff.deflection[-1] < soft.deflection[-1]


def test_results_scale_with_the_strain_while_bonded() -> None:
    heights = np.full(10, 0.001)
    one = strip(heights, np.full(10, E), fresh=np.full(10, 1e-3), kn=5e10, kt=2e10, length=0.06)
    two = strip(heights, np.full(10, E), fresh=np.full(10, 2e-3), kn=5e10, kt=2e10, length=0.06)
    np.testing.assert_allclose(two.peel, 2 * one.peel, rtol=1e-9)
    np.testing.assert_allclose(two.deflection, 2 * one.deflection, rtol=1e-7)


def test_a_weak_grip_opens_from_the_end_and_the_corner_rises() -> None:
    heights, fresh = np.full(20, 0.001), np.full(20, 4e-3)
    args = {"fresh": fresh, "kn": 5e10, "kt": 2e10, "length": 0.06}
    held = strip(heights, np.full(20, E), strength=1e30, energy=1e30, debond=True, **args)
    loose = strip(heights, np.full(20, E), strength=1e5, energy=50.0, debond=True, **args)
    assert held.detached[19] == 0.0
    assert 0.0 < loose.detached[19] <= 1.0
    assert np.all(np.diff(loose.detached) >= -1e-12)  # what is loose stays loose
    assert loose.deflection[19] > held.deflection[19]


def test_no_contraction_no_peel() -> None:
    result = strip(np.full(5, 0.001), np.full(5, E), kn=5e10, kt=2e10)
    np.testing.assert_allclose(result.peel, 0.0, atol=1e-3)
    np.testing.assert_allclose(result.deflection, 0.0, atol=1e-15)


def test_peel_carries_the_corner_factor() -> None:
    heights, fresh = np.full(5, 0.001), np.full(5, 1e-3)
    run = strip(heights, np.full(5, E), fresh=fresh, kn=1e10, kt=1.0, length=0.1)
    h = 0.0045
    softened = 1.0 / (1.0 / 1e10 + NORMAL_COMPLIANCE * h / E)
    # the first block alone: force over area is foundation stiffness times deflection, all of it from this block
    assert run.peel[0] > 0.0
    assert run.peel[4] < CORNER_FACTOR * softened * abs(run.deflection[4]) * 3.0


def test_nodes_are_graded_and_reach_the_brim() -> None:
    x = strip_nodes(0.1, 0.1, 0.008)
    steps = np.diff(x)
    assert x[0] == 0.0
    assert np.any(np.isclose(x, 0.1))
    assert x[-1] == pytest.approx(0.108)
    assert np.all(steps > 0)
    inner = steps[: int(np.flatnonzero(np.isclose(x, 0.1))[0])]
    assert inner[-1] < 0.2 * inner[0]


def grown(energy: float, debond: bool) -> StripRun:
    """Forty films on a stiff foundation, cooled in the end."""
    n = 40
    return strip(
        np.full(n, 0.0005), np.full(n, E), fresh=np.full(n, 2e-3), cooling=np.full(n, 3e-3), kn=1e11, kt=5e10, strength=1e5,
        energy=energy, debond=debond,
    )  # fmt: skip


@pytest.mark.parametrize("energy", [1e6, 1e-2])
def test_a_bonded_strip_tells_whether_it_would_have_let_go(energy: float) -> None:
    """Where it would not, it is the strip that may let go, to the last bit."""
    bonded, may = grown(energy, False), grown(energy, True)
    m = bonded.peel.size
    if bonded.lets_go(np.full(m, 1e5), np.full(m, energy)):
        assert energy < 1.0
        assert may.detached[-1] > 0.0
    else:
        assert energy > 1.0
        for a, b in zip(bonded, may, strict=True):
            assert np.array_equal(a, b)


def test_a_bonded_strip_answers_in_proportion_to_what_contracts() -> None:
    n, k = 12, 1.37
    one, more = (
        strip(
            np.full(n, 0.001), np.full(n, E), fresh=np.full(n, f * 1e-3), cooling=np.full(n, f * 2e-3), kn=1e11, kt=5e10
        )
        for f in (1.0, k)
    )
    for a, b in zip(one.times(k), more, strict=True):
        assert (
            np.abs(np.subtract(a, b)).max() <= 1e-11 * np.abs(b).max()
        )  # near the strip's middle rounding is all there is
