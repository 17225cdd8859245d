"""Laying on a face, copies, bodies: by hand on boxes, and what the estimates make of several bodies."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from mandorla.core.errors import MeshError
from mandorla.core.part.arrange import AS_DRAWN, bodies_of, copied, laid, sides_of
from mandorla.core.part.geometry import hardest_to_hold
from mandorla.core.part.mesh import Mesh
from mandorla.core.part.print_time import plan_print
from mandorla.core.part.process import Placement, Process
from mandorla.core.part.sections import slice_solid
from mandorla.core.tune.operating_point import prepare_part
from tests.core.bodies import block, box


def test_a_box_lies_on_each_of_its_sides() -> None:
    mesh = block(0.12, 0.08, 0.02)
    sides = sides_of(mesh)
    assert [round(1e4 * s.area) for s in sides] == [96, 96, 24, 24, 16, 16]
    heights = sorted(round(float(laid(mesh, s.normal).size[2]), 6) for s in sides)
    assert heights == [0.02, 0.02, 0.08, 0.08, 0.12, 0.12]
    for side in sides:
        turned = laid(mesh, side.normal)
        assert turned.volume == pytest.approx(mesh.volume)
        assert turned.vertices[:, 2].min() == pytest.approx(0.0, abs=1e-12)
        assert np.abs(turned.vertices.min(axis=0) + turned.vertices.max(axis=0))[:2].max() < 1e-12


def test_what_stands_already_stays_as_it_is_and_a_slanted_face_comes_down_flat() -> None:
    mesh = block(0.12, 0.08, 0.02)
    assert laid(mesh, AS_DRAWN) is mesh
    v = mesh.vertices.copy()
    v[v[:, 2] > 0.01, 0] *= 0.5  # a frustum
    frustum = Mesh(v, mesh.faces, ())
    slope = next(s for s in sides_of(frustum) if 0.1 < abs(s.normal[0]) < 0.99)
    lying = laid(frustum, slope.normal)
    on_plate = lying.vertices[:, 2] < 1e-9
    assert on_plate.sum() == 4
    assert lying.volume == pytest.approx(frustum.volume)


def test_a_face_in_a_hollow_is_not_offered() -> None:
    v1, f1 = box(0.1, 0.1, 0.01)
    v2, f2 = box(0.02, 0.1, 0.05, (0.04, 0.0))
    v3, f3 = box(0.02, 0.1, 0.05, (-0.04, 0.0))
    body = Mesh(np.concatenate([v1, v2, v3]), np.concatenate([f1, f2 + 8, f3 + 16]), ())
    tops = [s for s in sides_of(body) if s.normal[2] > 0.99]
    assert all(s.middle[2] == pytest.approx(0.05) for s in tops), "the floor between the walls cannot carry it"


def test_copies_stand_in_a_grid_and_are_counted() -> None:
    mesh = block(0.03, 0.02, 0.01)
    grid = copied(mesh, 4, 3, 0.005)
    assert grid.volume == pytest.approx(12 * mesh.volume)
    np.testing.assert_allclose(grid.size, [4 * 0.03 + 3 * 0.005, 3 * 0.02 + 2 * 0.005, 0.01])
    bodies = bodies_of(grid)
    assert len(bodies) == 12
    assert all(b.volume == pytest.approx(mesh.volume) for b in bodies)
    many = replace(mesh, faces=np.tile(mesh.faces, (40000, 1)))
    with pytest.raises(MeshError, match="Too many copies"):
        copied(many, 10, 10, 0.0)


def test_a_cavity_belongs_to_its_body() -> None:
    v1, f1 = box(0.1, 0.1, 0.06)
    v2, f2 = box(0.05, 0.05, 0.02)
    hollow = Mesh(np.concatenate([v1, v2 + np.array([0.0, 0.0, 0.02])]), np.concatenate([f1, f2[:, ::-1] + 8]), ())
    assert len(bodies_of(hollow)) == 1


def test_of_several_bodies_the_longest_foot_is_bound_and_of_equals_the_outermost() -> None:
    v1, f1 = box(0.1, 0.02, 0.03)
    v2, f2 = box(0.03, 0.03, 0.05, (0.1, 0.0))
    pair = bodies_of(Mesh(np.concatenate([v1, v2]), np.concatenate([f1, f2 + 8]), ()))
    assert hardest_to_hold(pair).size[0] == pytest.approx(0.1)
    grid = bodies_of(copied(block(0.03, 0.03, 0.01), 5, 5, 0.01))
    middle = hardest_to_hold(grid).vertices.mean(axis=0)
    np.testing.assert_allclose(np.abs(middle[:2]), [0.08, 0.08], atol=1e-9)


def test_small_pieces_in_a_grid_warp_like_one_of_them_but_take_the_time_of_all() -> None:
    """Copies do not interact: the strips are those of a single piece, its layers wait for the others."""
    mesh, process = block(0.03, 0.03, 0.02), Process(minimum_layer_time=1.0)
    grid = copied(mesh, 4, 4, 0.01)
    alone = prepare_part(slice_solid(mesh), process)
    whole = replace(slice_solid(grid), body=slice_solid(hardest_to_hold(bodies_of(grid))), bodies=16)
    batch = prepare_part(whole, process)
    np.testing.assert_allclose(batch.blocks.half_x, alone.blocks.half_x)
    np.testing.assert_allclose(batch.blocks.gross_area, alone.blocks.gross_area, rtol=1e-9)
    np.testing.assert_allclose(batch.blocks.area, alone.blocks.area, rtol=1e-6)
    np.testing.assert_allclose(batch.blocks.time, 16.0 * alone.blocks.time, rtol=1e-6)
    assert batch.plan.mass == pytest.approx(16.0 * plan_print(slice_solid(mesh), process).mass, rel=1e-6)


def test_a_placement_without_a_direction_is_refused() -> None:
    with pytest.raises(ValueError, match="a direction with a length"):
        Placement(down=(0.0, 0.0, 0.0))
    assert Placement(down=(0.0, -3.0, 0.0)).down == (0.0, -1.0, 0.0)
