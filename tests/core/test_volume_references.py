"""The three-dimensional solver against known answers: NAFEMS T4, the slab series in three directions, exact conservation."""

from __future__ import annotations

import numpy as np
import pytest

from mandorla.core.thermal.volume_kernels import march_volume, room_for
from tests.core.blocks import block_grid, faces_of
from tests.core.test_stack_references import slab_series


@pytest.mark.parametrize(("nx", "allowed"), [(30, 0.12), (60, 0.04)])
def test_nafems_t4_two_dimensional_convection(nx: int, allowed: float) -> None:
    ny = nx * 5 // 3
    block, T = block_grid((0.6, 1.0, 0.1), (nx, ny, 1), 52.0, 1000.0)
    faces = faces_of(block, side=(0.0, 750.0, 1e12, 750.0), side_to=(0.0, 0.0, 100.0, 0.0))
    march_volume(T, block.grid, faces, 0.0, 0.2, 6000, room_for(block.grid))
    march_volume(T, block.grid, faces, 0.0, 0.02, 400, room_for(block.grid))
    # E is at (0.6, 0.2), on the convecting face: from the two cells beside it to the face through half a cell
    dx, dy = 0.6 / nx, 1.0 / ny
    y = (np.arange(ny) + 0.5) * dy
    at_face = T[0, :, -1] / (1.0 + 750.0 * 0.5 * dx / 52.0)
    assert float(np.interp(0.2, y, at_face)) == pytest.approx(18.25, abs=allowed)


@pytest.mark.parametrize("axis", [0, 1, 2])
def test_each_direction_follows_the_slab_series(axis: int) -> None:
    length, k, rho_c, Bi, Fo = 0.02, 1.0, 2e6, 1.0, 0.5
    size, cells = [0.02, 0.02, 0.02], [4, 4, 4]
    size[axis], cells[axis] = length, 80
    block, T = block_grid(tuple(size), tuple(cells), k, rho_c)
    h = Bi * k / length
    side = [0.0] * 4
    top = 1e-30
    if axis == 0:
        side[1] = h
    elif axis == 1:
        side[3] = h
    else:
        top = h
    T[:] = 1.0
    end = Fo * length**2 * rho_c / k
    march_volume(T, block.grid, faces_of(block, top=top, side=tuple(side)), 0.0, end / 4000, 4000, room_for(block.grid))
    line = {0: T[2, 2, :], 1: T[2, :, 2], 2: T[::-1, 2, 2]}[axis]
    x = (np.arange(80) + 0.5) / 80
    for i in (0, 40, 79):
        assert line[i] == pytest.approx(slab_series(Bi, Fo, float(x[i])), abs=3e-4)


def test_three_directions_multiply() -> None:
    """Cooling of a block is the product of three slabs (Incropera 5.S): the splitting adds next to nothing."""
    length, k, rho_c, Bi, Fo = 0.02, 1.0, 2e6, 1.0, 0.3
    block, T = block_grid((length,) * 3, (30, 30, 30), k, rho_c)
    T[:] = 1.0
    h = Bi * k / length
    end = Fo * length**2 * rho_c / k
    march_volume(
        T, block.grid, faces_of(block, top=h, side=(0.0, h, 0.0, h)), 0.0, end / 1000, 1000, room_for(block.grid)
    )
    one = slab_series(Bi, Fo, 0.5 / 30)
    assert T[29, 0, 0] == pytest.approx(one**3, abs=1e-3)
    far = slab_series(Bi, Fo, 29.5 / 30)
    assert T[0, 29, 29] == pytest.approx(far**3, abs=1e-3)


def test_heat_is_conserved() -> None:
    rng = np.random.default_rng(3)
    block, T = block_grid((0.3, 0.25, 0.012), (24, 18, 5), 40.0, 2e6)
    grid = block.grid._replace(source=np.array([0.0, 0.0, 0.0, 0.7, 0.3]), heat=np.full((18, 24), 1.0 / (18 * 24)))
    T[:] = 300.0 + rng.uniform(0.0, 50.0, T.shape)
    faces = faces_of(
        block, top=12.0, bottom=4.0, side=(8.0, 9.0, 10.0, 11.0), to=290.0, side_to=(290.0, 291.0, 292.0, 293.0)
    )
    before = float((grid.capacity * T).sum())
    out = march_volume(T, grid, faces, 500.0, 2.0, 200, room_for(grid))
    stored = float((grid.capacity * T).sum()) - before
    assert stored + out == pytest.approx(500.0 * 400.0, rel=1e-6)  # the factors are single precision


def test_mirrored_problem_gives_the_mirrored_answer() -> None:
    block, T = block_grid((0.2, 0.2, 0.01), (20, 20, 4), 30.0, 2e6)
    S = T.copy()
    march_volume(
        T,
        block.grid,
        faces_of(block, top=10.0, side=(20.0, 5.0, 7.0, 3.0), side_to=(50.0, 0.0, 10.0, 0.0)),
        0.0,
        1.0,
        100,
        room_for(block.grid),
    )
    march_volume(
        S,
        block.grid,
        faces_of(block, top=10.0, side=(7.0, 3.0, 20.0, 5.0), side_to=(10.0, 0.0, 50.0, 0.0)),
        0.0,
        1.0,
        100,
        room_for(block.grid),
    )
    np.testing.assert_allclose(T.transpose(0, 2, 1), S, atol=0.02)
