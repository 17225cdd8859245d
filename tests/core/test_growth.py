"""A body that grows: layer by layer, below what stands, with steps that bring no load, on coarse levels that are the fine one's."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy.sparse import csc_array
from scipy.sparse.linalg import spsolve

from mandorla.core.elastic import levels as lv
from mandorla.core.elastic.box_kernel import LANES
from mandorla.core.elastic.multigrid import Carried, ElasticBody
from mandorla.core.part.mesh import Floats, Mesh
from mandorla.core.warp.fe_model import Boxes, FeCase, Layers
from mandorla.core.warp.fe_simulation import expected_seconds, simulate
from mandorla.core.warp.loose_plate import SheetHold
from mandorla.core.warp.voxels import Voxels
from tests.core.bodies import block, box, corners, dense, ground, layers, run_block, standing

SIZE = (4e-3, 3e-3, 2e-3)


def arch() -> np.ndarray:
    """Two legs and a beam on them, with a drop that hangs from the beam's middle: moduli (6, 3, 8)."""
    moduli = np.zeros((6, 3, 8))
    moduli[:, :, :2] = moduli[:, :, -2:] = 1e9
    moduli[4:] = 2e9
    moduli[3, 1, 3:5] = 1.5e9
    return moduli


def solution(body: ElasticBody, springs: Floats, load: Floats) -> Floats:
    """Displacements of what stands, to 1e-9."""
    body.hold(springs)
    u = np.zeros_like(load)
    assert body.solve(load, u, 1e-9, most=400) < 1e-9
    return u


def loads(shape: tuple[int, int, int], seed: int = 5) -> tuple[Floats, Floats]:
    """Springs (ny+1, nx+1, 3) and forces (nz+1, ny+1, nx+1, 3)."""
    nz, ny, nx = shape
    rng = np.random.default_rng(seed)
    return 10.0 ** rng.uniform(5, 6, (ny + 1, nx + 1, 3)), rng.normal(size=(nz + 1, ny + 1, nx + 1, 3))


@pytest.mark.parametrize("steps", [((6, 0),), ((1, 0), (2, 1), (4, 2), (5, 4), (6, 5)), ((3, 0), (6, 3))])
def test_growing_in_steps_comes_to_the_same_body(steps: tuple[tuple[int, int], ...]) -> None:
    springs, load = loads((6, 3, 8))
    whole = ElasticBody(SIZE, arch(), 0.36)
    whole.stand(6, 0)
    expected = solution(whole, springs, load)
    grown = ElasticBody(SIZE, arch(), 0.36)
    for active, first in steps:
        grown.stand(active, first)
        grown.hold(springs)
    found = solution(grown, springs, load)
    assert np.abs(found - expected).max() < 1e-6 * np.abs(expected).max()


def test_a_box_that_joins_below_what_stands_is_built_in() -> None:
    """What hangs in the air has no modulus until something above joins it; then the levels are built anew from there on."""
    springs, load = loads((6, 3, 8))
    whole = ElasticBody(SIZE, arch(), 0.36)
    whole.stand(6, 0)
    expected = solution(whole, springs, load)
    late = ElasticBody(SIZE, arch(), 0.36)
    full = late.moduli.copy()
    late.moduli[3, 1, 3:5] = 0.0
    late.stand(4, 0)
    hanging = solution(late, springs, load[:5])
    assert (hanging[3, 1:3, 4] == 0.0).all(), "nodes of the drop alone stay where they are"
    late.moduli[:] = full
    late.stand(6, 3)
    found = solution(late, springs, load)
    assert np.abs(found - expected).max() < 1e-6 * np.abs(expected).max()


def test_forces_of_some_layers_are_those_of_a_body_of_them() -> None:
    body = ElasticBody(SIZE, arch(), 0.36)
    body.stand(6, 0)
    rng = np.random.default_rng(3)
    u = rng.normal(size=(4, 4, 9, 3))
    found = body.forces(u, body.moduli[3:6], 3)
    alone = ElasticBody(SIZE, arch()[3:6].copy(), 0.36)
    alone.stand(3, 0)
    out = np.empty_like(u)
    alone.multiply(u, out)
    there = np.abs(out) > 0.0
    assert found[there] == pytest.approx(out[there], rel=1e-9)
    # and all layers together are the product
    v = rng.normal(size=(7, 4, 9, 3))
    whole = np.empty_like(v)
    body.multiply(v, whole)
    assert body.forces(v, body.moduli) == pytest.approx(whole, abs=1e-9 * np.abs(whole).max())


def test_coarse_levels_are_galerkin_ones() -> None:
    """The first two coarse levels of a ragged body: their elements add up to the interpolated fine matrix."""
    large = np.kron(arch(), np.ones((2, 2, 2)))
    body = ElasticBody(SIZE, large * np.random.default_rng(1).uniform(0.5, 2.0, large.shape), 0.36)
    body.stand(12, 0)
    places = body.levels[0].cells.places
    rows = (3 * places[:, None] + np.arange(3)).ravel()
    A = dense(body)[np.ix_(rows, rows)]
    for k in (1, 2):
        finer, level = body.levels[k - 1], body.levels[k]
        n, m = finer.cells.places.size, level.cells.places.size
        P = np.zeros((3 * n, 3 * m))
        everywhere = np.ones((n, 6), dtype=np.float32)
        for i in range(3 * m):
            c, f = np.zeros((m, 3), dtype=np.float32), np.zeros((n, 3), dtype=np.float32)
            c.ravel()[i] = 1.0
            lv.prolong(c, finer.rows, everywhere, f)
            P[:, i] = f.ravel()
        A = P.T @ A @ P
        found = np.zeros_like(A)
        assert level.stored is not None
        for e, nodes in enumerate(level.cells.nodes):
            at = (3 * nodes[:, None] + np.arange(3)).ravel()
            found[np.ix_(at, at)] += level.stored[e // LANES, :, e % LANES][lv.AT]
        assert np.abs(found - A).max() < 1e-5 * np.abs(A).max()


def test_walls_go_through_their_coarse_levels_twice_and_blocks_once() -> None:
    moduli = np.zeros((10, 12, 16))
    moduli[0] = moduli[:, 0] = moduli[:, -1] = moduli[:, :, 0] = moduli[:, :, -1] = 1e9
    walls, solid = ElasticBody((5e-3,) * 3, moduli, 0.36), standing((10, 12, 16), (5e-3,) * 3, 0.36)
    assert walls.twice
    assert not solid.twice
    counts = []
    for twice in (True, False):
        body = ElasticBody((5e-3,) * 3, moduli, 0.36)
        body.twice = twice
        body.stand(10, 0)
        body.hold(np.full((13, 17, 3), 2e6))
        load = np.zeros((11, 13, 17, 3))
        load[-1, 0, 0, 1], load[-1, -1, -1, 1] = 1.0, -1.0
        body.solve(load, np.zeros_like(load), 1e-6)
        counts.append(body.iterations)
    assert counts[0] < 0.9 * counts[1]


def test_a_plate_below_enters_by_the_forces_that_it_gives() -> None:
    """Springs on springs: the plate's answer as further forces comes to the springs in series."""
    body = standing((2, 3, 4), SIZE, 0.3)
    normal, seat = np.full((4, 5), 3e5), np.full((4, 5), 1e5)
    springs = np.full((4, 5, 3), 3e5)
    body.hold(springs, Carried(normal, seat))
    series = normal * seat / (normal + seat)
    assert body.springs[..., 2] == pytest.approx(series)
    _, load = loads((2, 3, 4))
    u = np.zeros_like(load)

    def extra(foot: Floats) -> Floats:
        under = normal / (normal + seat) * foot  # of a plate on its seat
        return np.asarray(normal * (foot - under) - body.springs[..., 2] * foot)

    assert body.solve(load, u, 1e-9, extra=extra) < 1e-9
    A = dense(body)
    exact = spsolve(csc_array(A), load.ravel())
    assert np.abs(u.ravel() - exact).max() < 1e-6 * np.abs(exact).max()


def test_a_step_that_brings_no_load_costs_next_to_nothing() -> None:
    """The same block with and without a contraction between the last layer and the print's end."""
    size = (0.06, 0.04, 0.02)
    idle = run_block(size, 4e-3, ground(), layers(fresh=8e-4, late=0.0))
    busy = run_block(size, 4e-3, ground(), layers(fresh=8e-4, late=2e-4))
    assert idle.solves <= busy.solves + 4
    assert idle.iterations < 1.3 * busy.iterations
    # a crumb of a block on top changes next to nothing, and does not hold the run up
    (v, f), (w, g) = box(*size), box(0.004, 0.004, 0.005)
    both = Mesh(np.concatenate([v, w + np.array([0.0, 0.0, size[2]])]), np.concatenate([f, g + 8]), ())
    capped = simulate(FeCase(both, corners(*size[:2]), layers(fresh=8e-4), ground(), 0.36), Boxes(edge=4e-3))
    assert capped.height[-1] == pytest.approx(0.025)
    below = int(np.flatnonzero(capped.height > 0.0195)[0])
    assert capped.lift[-1] == pytest.approx(capped.lift[below], rel=0.02)
    assert capped.solves < 1.6 * idle.solves


def test_layers_may_differ_from_box_to_box() -> None:
    """A block whose one half contracts twice as much lifts more there, and as a mirror image the other way round."""

    def uneven(left: float, right: float):  # type: ignore[no-untyped-def]
        def on(v: Voxels) -> Layers:
            plain = layers(fresh=1e-3)(v).by_box()
            nx = v.solid.shape[2]
            fresh = np.broadcast_to(plain.fresh, v.solid.shape).copy()
            fresh[..., : nx // 2] *= left
            fresh[..., nx // 2 :] *= right
            return replace(plain, fresh=fresh)

        return on

    size = (0.08, 0.03, 0.012)
    one = run_block(size, 3e-3, ground(), uneven(1.0, 2.0))
    other = run_block(size, 3e-3, ground(), uneven(2.0, 1.0))
    names = [c.name for c in one.corners]
    left, right = (names.index(n) for n in ("front-left", "front-right"))
    assert one.lift[-1][right] > 1.3 * one.lift[-1][left]
    assert one.lift[-1][right] == pytest.approx(other.lift[-1][left], rel=0.02)
    assert one.margin[-1][left] == pytest.approx(other.margin[-1][right], rel=0.02)


def test_finer_boxes_are_told_to_take_longer() -> None:
    hold = SheetHold("sheet", 5.0, 0.3, 1e4, (), (0.17, 0.165), 1.2e-5)
    part = block(0.12, 0.06, 0.02)
    told = [expected_seconds(part, r, hold) for r in ("draft", "standard", "fine")]  # type: ignore[arg-type]
    assert [m for _, m in told] == sorted(m for _, m in told)
    assert told[0][0] < told[2][0]
