"""Pre-deforming a part: the refined surface stays closed, rigid motions drop out, and the compensated part comes out truer."""

from __future__ import annotations

import numpy as np
import pytest

from mandorla.core.part.sections import footprint_corners
from mandorla.core.part.solid_file import read_solid_file
from mandorla.core.warp.compensate import (
    check,
    compensate,
    deformed,
    displacement_at,
    refined,
    rigid_motion,
    stl_bytes,
)
from mandorla.core.warp.fe_model import Boxes, FeCase
from mandorla.core.warp.fe_result import FACES, face_readings, peak_to_valley
from mandorla.core.warp.fe_simulation import simulate
from tests.core.bodies import block, ground, layers, run_block
from tests.core.solids import library_mesh, mesh_of, stepped_block

SIZE = (0.12, 0.06, 0.03)


@pytest.fixture(scope="module")
def found():
    return run_block(SIZE, 7.5e-3, ground(), layers(fresh=1.2e-3, cooling=8e-4))


def test_a_refined_surface_is_closed_and_the_same() -> None:
    mesh = mesh_of(library_mesh(stepped_block(60.0, 40.0, 20.0)))
    fine = refined(mesh, 0.004)
    again = read_solid_file(stl_bytes(fine), "fine.stl", 0.001)
    assert again.notes == ()
    assert fine.volume == pytest.approx(mesh.volume, rel=1e-9)
    assert fine.surface_area == pytest.approx(mesh.surface_area, rel=1e-9)
    edges = fine.triangles - np.roll(fine.triangles, 1, axis=1)
    assert np.linalg.norm(edges, axis=2).max() <= 0.004 + 1e-12


def test_a_rigid_motion_is_found_and_taken_out(found) -> None:
    rng = np.random.default_rng(5)
    x = rng.normal(size=(60, 3))
    turn, shift = np.array([1e-3, -2e-3, 5e-4]), np.array([0.1, 0.2, -0.3])
    u = shift + np.cross(turn, x)
    np.testing.assert_allclose(rigid_motion(x, u, x), u, atol=1e-12)
    points = block(*SIZE).vertices
    plain = displacement_at(found, found.released, points)
    v = found.voxels
    z, y, xx = np.meshgrid(v.z, v.y, v.x, indexing="ij")
    moved = found.released + shift + np.cross(turn, np.stack([xx, y, z], axis=-1))
    np.testing.assert_allclose(displacement_at(found, moved, points), plain, atol=1e-8)


def test_the_compensated_block_comes_out_truer_and_its_top_flatter(found) -> None:
    mesh = block(*SIZE)
    made = compensate(mesh, found)
    assert made.mesh.vertices[:, 2].min() == pytest.approx(0.0)
    foot = made.drawn.vertices[:, 2] < 1e-9
    np.testing.assert_allclose(made.mesh.vertices[foot, 2], 0.0, atol=1e-9)

    def again(m):
        low, high = m.vertices.min(axis=0), m.vertices.max(axis=0)
        outline = np.array([[low[0], low[1]], [high[0], low[1]], [high[0], high[1]], [low[0], high[1]]])
        return simulate(
            FeCase(m, footprint_corners(outline), layers(fresh=1.2e-3, cooling=8e-4), ground(), 0.36),
            Boxes(edge=7.5e-3),
        )

    checked, _ = check(made, found, again)
    assert checked.rms < 0.5 * checked.plain_rms
    assert checked.top < 0.5 * checked.plain_top
    assert 0.0 < made.largest < 0.003


def test_a_whole_compensation_bends_the_underside_as_well(found) -> None:
    bent = compensate(block(*SIZE), found, foot_flat=False)
    foot = bent.drawn.vertices[:, 2] < 1e-9
    assert np.ptp(bent.mesh.vertices[foot, 2]) > 0.3 * found.released_lift


def test_faces_read_as_a_straightedge_would(found) -> None:
    for face in FACES:
        places, off = face_readings(found, found.released, face)
        assert len(places) == off.size > 8
        assert abs(off.mean()) < 1e-9
    assert peak_to_valley(found, found.released, "underside") == pytest.approx(found.released_lift, rel=1e-6)
    left, right = (peak_to_valley(found, found.released, f) for f in ("left side", "right side"))
    assert left == pytest.approx(right, rel=0.02)


def test_the_deformed_part_has_the_runs_own_lift(found) -> None:
    shape = deformed(block(*SIZE), found, found.released)
    foot = refined(block(*SIZE), 2.0 * max(found.voxels.size)).vertices[:, 2] < 1e-9
    assert np.ptp(shape.vertices[foot, 2]) == pytest.approx(found.released_lift, rel=0.02)
