"""Shapes that drive failure are found where they are, and not where they are not."""

from __future__ import annotations

import manifold3d as m3
import numpy as np
import pytest

from mandorla.core.part.features import area_of, find_features, outlines_at
from mandorla.core.part.mesh import Mesh, turned
from mandorla.core.part.sections import slice_solid
from mandorla.core.part.solid import closed_solid


def mesh_of(body: m3.Manifold) -> Mesh:
    """A solid of the modelling library (mm) as Mandorla reads it."""
    mesh = body.to_mesh()
    corners = np.asarray(mesh.vert_properties)[:, :3][np.asarray(mesh.tri_verts)]
    return closed_solid(1e-3 * corners.astype(np.float64), "t")


def box(width: float, depth: float, height: float) -> m3.Manifold:
    return m3.Manifold.cube((width, depth, height), True)


def kinds(mesh: Mesh) -> dict[str, int]:
    found: dict[str, int] = {}
    for f in find_features(mesh, slice_solid(mesh)):
        found[f.kind] = found.get(f.kind, 0) + 1
    return found


def rounded(width: float, depth: float, radius: float, height: float) -> m3.Manifold:
    core = m3.CrossSection.square((width - 2 * radius, depth - 2 * radius), True)
    return core.offset(radius, m3.JoinType.Round, circular_segments=64).extrude(height)


def test_a_long_block_has_two_long_edges_and_four_sharp_corners() -> None:
    mesh = mesh_of(box(160.0, 50.0, 20.0))
    found = find_features(mesh, slice_solid(mesh))
    edges = [f for f in found if f.kind == "long edge"]
    corners = [f for f in found if f.kind == "sharp corner"]
    assert sorted(round(f.y, 4) for f in edges) == [-0.025, 0.025]
    assert [f.size for f in edges] == ["160 mm", "160 mm"]
    assert {(round(f.x, 3), round(f.y, 3)) for f in corners} == {
        (sx * 0.08, sy * 0.025) for sx in (-1, 1) for sy in (-1, 1)
    }
    assert corners[0].size == "90° inside"
    assert kinds(mesh) == {"long edge": 2, "sharp corner": 4}
    assert all(f.why for f in found)


def test_rounded_corners_are_not_sharp_and_short_edges_not_long() -> None:
    assert kinds(mesh_of(rounded(80.0, 60.0, 8.0, 30.0))) == {}


def test_a_turned_part_has_the_same_features() -> None:
    mesh = mesh_of(box(160.0, 50.0, 20.0))
    assert kinds(turned(mesh, 90)) == kinds(mesh)


def test_section_jumps_are_found_at_their_heights() -> None:
    body = rounded(90.0, 90.0, 10.0, 20.0) + rounded(40.0, 40.0, 6.0, 40.0).translate((0, 0, 20.0))
    mesh = mesh_of(body)
    (jump,) = [f for f in find_features(mesh, slice_solid(mesh)) if f.kind == "section jump"]
    assert jump.z == pytest.approx(0.02, abs=0.0012)
    assert "smaller" in jump.size
    cone = mesh_of(m3.Manifold.cylinder(60.0, 40.0, 20.0, 96))
    assert "section jump" not in kinds(cone)


def test_tall_on_a_small_foot_thin_plates_and_small_pieces() -> None:
    assert kinds(mesh_of(rounded(20.0, 20.0, 5.0, 90.0))) == {"small foot": 1}
    assert kinds(mesh_of(rounded(95.0, 95.0, 10.0, 3.0))) == {"thin plate": 1}
    pieces = m3.Manifold.compose([rounded(15.0, 15.0, 4.0, 10.0).translate((40.0 * i, 0.0, 0.0)) for i in range(3)])
    assert kinds(mesh_of(pieces)) == {"small piece": 3}


def test_outlines_know_holes_from_bodies() -> None:
    ring = rounded(60.0, 60.0, 10.0, 12.0) - rounded(30.0, 30.0, 5.0, 30.0).translate((0, 0, -5.0))
    loops = outlines_at(mesh_of(ring), 0.006)
    areas = sorted(area_of(loop) for loop in loops)
    assert len(areas) == 2
    assert areas[0] < 0.0 < areas[1]
    exact = slice_solid(mesh_of(ring)).area[100]
    assert sum(areas) == pytest.approx(exact, rel=2e-3)
    assert outlines_at(mesh_of(ring), 1.0) == []
    assert np.isfinite(loops[0]).all()
