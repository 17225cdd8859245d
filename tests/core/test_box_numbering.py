"""Numbering of boxes without the void between them, and the products that go by it."""

from __future__ import annotations

import numpy as np
import pytest

from mandorla.core.elastic import levels as lv
from mandorla.core.elastic.box_kernel import LANES, PLACES, apply_stored
from mandorla.core.elastic.box_numbering import BoxNumbering, children, coarser, eighths, stretches
from mandorla.core.elastic.multigrid import ElasticBody


def sponge(seed: int = 3, shape: tuple[int, int, int] = (5, 6, 9), share: float = 0.4) -> np.ndarray:
    """Boxes here and there, some on the lowest layer."""
    solid = np.random.default_rng(seed).random(shape) < share
    solid[0, 0, 0] = True
    return solid


def test_boxes_and_nodes_are_numbered_by_layer_without_void() -> None:
    solid = sponge()
    cells = BoxNumbering.of(solid)
    assert cells.boxes.size == solid.sum()
    there = np.zeros(tuple(n + 1 for n in solid.shape), dtype=bool)
    for corner in eighths(solid.shape):
        there[corner] |= solid
    assert cells.places.tolist() == np.flatnonzero(there).tolist()
    z, y, x = cells.box_places()
    for a in range(8):
        place = np.ravel_multi_index((z + (a >> 2), y + ((a >> 1) & 1), x + (a & 1)), there.shape)
        assert (cells.places[cells.nodes[:, a]] == place).all()
    for k in range(solid.shape[0] + 1):
        assert cells.box_ends[k] == solid[:k].sum()
        assert cells.node_ends[k] == there[:k].sum()
        # whatever stands below a layer needs no node above it
        assert k == 0 or cells.box_ends[k] == 0 or cells.nodes[: cells.box_ends[k]].max() < cells.node_ends[k + 1]


def test_coarse_boxes_hold_all_finer_ones_once() -> None:
    solid = sponge(5)
    fine, large = BoxNumbering.of(solid), coarser(solid)
    coarse = BoxNumbering.of(large)
    inner = children(fine, coarse)
    assert sorted(inner[inner >= 0].tolist()) == list(range(fine.boxes.size))
    assert (inner >= 0).any(axis=1).all()
    z, y, x = fine.box_places()
    Z, Y, X = coarse.box_places()
    for e, row in enumerate(inner):
        for child, k in enumerate(row):
            if k >= 0:
                at = (2 * Z[e] + (child >> 2), 2 * Y[e] + ((child >> 1) & 1), 2 * X[e] + (child & 1))
                assert at == (z[k], y[k], x[k])


@pytest.mark.parametrize("seed", [1, 2, 8])
def test_a_linear_field_comes_through_a_coarser_grid_unchanged(seed: int) -> None:
    solid = sponge(seed)
    fine = BoxNumbering.of(solid)
    coarse = BoxNumbering.of(coarser(solid))
    rows = stretches(fine, coarse)
    assert rows[:, 1].sum() == fine.places.size

    def linear(cells: BoxNumbering, step: float) -> np.ndarray:
        z, y, x = (step * v for v in np.unravel_index(cells.places, tuple(n + 1 for n in cells.shape)))
        return np.stack([1.0 + x + 2.0 * y - z, 3.0 * z - y, x - 0.5 * z], axis=1).astype(np.float32)

    found = np.zeros((fine.places.size, 3), dtype=np.float32)
    lv.prolong(linear(coarse, 2.0), rows, np.ones((fine.places.size, 6), dtype=np.float32), found)
    assert found == pytest.approx(linear(fine, 1.0), abs=1e-5)
    # and the way up is the transposed one
    rng = np.random.default_rng(seed)
    r, c = (rng.normal(size=(n.places.size, 3)).astype(np.float32) for n in (fine, coarse))
    up = np.zeros_like(c)
    lv.restrict(r, rows, up)
    lv.prolong(c, rows, np.ones((fine.places.size, 6), dtype=np.float32), found)
    assert float((up * c).sum()) == pytest.approx(float((r * found).sum()), rel=1e-4, abs=1e-4)


def test_packed_stiffnesses_multiply_as_full_ones() -> None:
    cells = BoxNumbering.of(sponge(4))
    m, n = cells.boxes.size, cells.places.size
    assert m % LANES  # the last batch is not full
    rng = np.random.default_rng(2)
    K = rng.normal(size=(m, 24, 24))
    K = K + K.transpose(0, 2, 1)
    packed = np.zeros((-(-m // LANES), 300, LANES), dtype=np.float32)
    for e in range(m):
        packed[e // LANES, :, e % LANES] = K[e][tuple(np.array(PLACES).T)]
    u, out = rng.normal(size=(n, 3)).astype(np.float32), np.zeros((n, 3), dtype=np.float32)
    apply_stored(u, packed, cells.nodes, -2.0, out)
    expected = np.zeros((n, 3))
    for e in range(m):
        np.add.at(expected, cells.nodes[e], -2.0 * (K[e] @ u[cells.nodes[e]].ravel()).reshape(8, 3))
    assert np.abs(out - expected).max() < 1e-5 * np.abs(expected).max()


def test_void_changes_nothing() -> None:
    """A wall alone and the same wall at the side of a large empty box give the same displacements."""
    found = []
    for empty in (0, 24):
        moduli = np.zeros((8, 12, 2 + empty))
        moduli[:, :, :2] = 1e9
        body = ElasticBody((2e-3, 2e-3, 2e-3), moduli, 0.35)
        body.stand(8, 0)
        body.hold(np.full((13, 3 + empty, 3), 1e6))
        load = np.zeros((9, 13, 3 + empty, 3))
        load[-1, 0, :3, 1], load[-1, -1, :3, 1] = 1.0, -1.0
        u = np.zeros_like(load)
        assert body.solve(load, u, 1e-8) < 1e-8
        assert (u[:, :, 3:] == 0.0).all()
        found.append(u[:, :, :3])
    assert np.abs(found[1] - found[0]).max() < 1e-6 * np.abs(found[0]).max()
