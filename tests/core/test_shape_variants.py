"""Shapes changed on the boxes: areas by hand, and what they do to the lift."""

from __future__ import annotations

import numpy as np
import pytest

from mandorla.core.warp.fe_model import Boxes, FeCase
from mandorla.core.warp.fe_simulation import simulate
from mandorla.core.warp.shape_variants import rounded, slotted
from mandorla.core.warp.voxels import voxelise
from tests.core.bodies import block, corners, ground, layers, run_block


def test_rounded_corners_take_off_what_an_arc_leaves() -> None:
    voxels = voxelise(block(0.08, 0.06, 0.01), (160, 120, 2))
    found = rounded(voxels, corners(0.08, 0.06), 0.012)
    gone = (voxels.count - found.count) / 2 * voxels.size[0] * voxels.size[1]
    assert gone == pytest.approx((4.0 - np.pi) * 0.012**2, rel=0.02)
    np.testing.assert_array_equal(found.solid, found.solid[:, ::-1, ::-1])


def test_slots_stand_in_both_long_sides() -> None:
    for size, grid in (((0.08, 0.04, 0.01), (16, 8, 2)), ((0.04, 0.08, 0.01), (8, 16, 2))):
        voxels = voxelise(block(*size), grid)
        found = slotted(voxels, 3, 0.25)
        assert voxels.count - found.count == 2 * 3 * 2 * 2  # two sides, three slots, two boxes deep, two layers
        assert found.solid[:, 4 if size[0] > size[1] else 8, :].all() or found.solid[:, :, 4].all(), (
            "the middle stays whole"
        )


def test_rounded_corners_lift_less_than_sharp_ones() -> None:
    size = (0.10, 0.06, 0.02)
    made = layers(fresh=1e-3, cooling=6e-4)
    on = ground(strength=1e6, energy=150.0)
    sharp = run_block(size, 5e-3, on, made)
    round_ = simulate(
        FeCase(block(*size), corners(*size[:2]), made, on, 0.36),
        Boxes(edge=5e-3, carve=lambda v: rounded(v, corners(*size[:2]), 0.015)),
    )
    assert round_.utilisation.max() <= sharp.utilisation.max() * 1.02
    assert float(round_.damage.max()) <= float(sharp.damage.max())
