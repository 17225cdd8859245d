"""Sections of known solids: area, perimeter, corners; print plan from them."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from mandorla.core.materials.library_data import polymers
from mandorla.core.part.mesh import turned
from mandorla.core.part.print_time import plan_print
from mandorla.core.part.process import Process
from mandorla.core.part.sections import slice_solid, turned_sections
from tests.core.solids import block, box_sections, mesh_of, stepped_sections


def test_block_has_constant_sections() -> None:
    s = box_sections(0.12, 0.06, 0.02)
    np.testing.assert_allclose(s.area, 0.12 * 0.06, rtol=1e-6)
    np.testing.assert_allclose(s.perimeter, 0.36, rtol=1e-6)
    assert s.height == pytest.approx(0.02)
    assert {c.name for c in s.corners} == {"front-left", "front-right", "rear-left", "rear-right"}


def test_cone_narrows_with_the_square_of_the_height() -> None:
    s = slice_solid(mesh_of(trimesh.creation.cone(radius=30.0, height=60.0, sections=256)))
    radius = 0.03 * (1 - s.z / 0.06)
    low = s.z < 0.055
    np.testing.assert_allclose(s.area[low], np.pi * radius[low] ** 2, rtol=2e-2)
    np.testing.assert_allclose(s.perimeter[low], 2 * np.pi * radius[low], rtol=1e-2)
    assert float(s.area.sum() * s.dz) == pytest.approx(np.pi * 0.03**2 * 0.06 / 3, rel=2e-3)


def test_tube_counts_its_hole() -> None:
    s = slice_solid(mesh_of(trimesh.creation.annulus(r_min=20.0, r_max=30.0, height=40.0, sections=256)))
    np.testing.assert_allclose(s.area, np.pi * (0.03**2 - 0.02**2), rtol=1e-3)
    np.testing.assert_allclose(s.perimeter, 2 * np.pi * 0.05, rtol=1e-3)


def test_torus_section_area_is_exact() -> None:
    s = slice_solid(
        mesh_of(trimesh.creation.torus(major_radius=40.0, minor_radius=10.0, major_sections=256, minor_sections=128))
    )
    # the outline at height z: an annulus between R - w and R + w, w^2 = r^2 - (z - r)^2
    w = np.sqrt(np.maximum(0.01**2 - (s.z - 0.01) ** 2, 0.0))
    inside = (s.z > 0.001) & (s.z < 0.019)
    np.testing.assert_allclose(s.area[inside], 4 * np.pi * 0.04 * w[inside], rtol=5e-3)


def test_step_shows_in_area_and_extent() -> None:
    s = stepped_sections()
    assert s.area[10] == pytest.approx(0.12 * 0.06)
    assert s.area[-10] == pytest.approx(0.06 * 0.03)
    assert np.ptp(s.x_extent[-10]) == pytest.approx(0.06)


@settings(max_examples=20, deadline=None)
@given(st.tuples(st.floats(20, 200), st.floats(20, 200), st.floats(5, 100)))
def test_sections_of_a_turned_block_are_those_of_the_block(size: tuple[float, float, float]) -> None:
    mesh = mesh_of(block(*size))
    for degrees in (90, 180, 270):
        cut, quick = slice_solid(turned(mesh, degrees), 20), turned_sections(slice_solid(mesh, 20), degrees)
        np.testing.assert_allclose(cut.area, quick.area, rtol=1e-6)
        np.testing.assert_allclose(cut.x_extent, quick.x_extent, atol=1e-9)
        np.testing.assert_allclose(cut.y_extent, quick.y_extent, atol=1e-9)
        corners = [sorted((round(c.x, 7), round(c.y, 7), c.name) for c in s.corners) for s in (cut, quick)]
        assert corners[0] == corners[1]


def test_corners_of_rounds_triangles_and_ells() -> None:
    rounded = slice_solid(mesh_of(trimesh.creation.cylinder(radius=30.0, height=10.0, sections=128)))
    assert len(rounded.corners) == 4  # a round foot has no corner: its outermost points stand for them
    for c in rounded.corners:
        assert np.hypot(c.x, c.y) == pytest.approx(0.03, rel=0.01)
    triangle = slice_solid(mesh_of(trimesh.creation.cylinder(radius=30.0, height=10.0, sections=3)))
    assert len(triangle.corners) == 3


def test_corners_stand_at_the_blocks_corners() -> None:
    s = box_sections(0.1, 0.05, 0.02)
    for c in s.corners:
        assert abs(c.x) == pytest.approx(0.05, abs=1e-4)
        assert abs(c.y) == pytest.approx(0.025, abs=1e-4)
        assert ("left" in c.name) == (c.x < 0)
        assert ("front" in c.name) == (c.y < 0)


def test_solid_block_weighs_its_volume_and_takes_its_time() -> None:
    p = Process(polymer="petg", infill=1.0, overhead=0.0, minimum_layer_time=0.0, speed=0.05, flow_limit=1e-7)
    plan = plan_print(box_sections(0.1, 0.05, 0.03), p)
    volume = 0.1 * 0.05 * 0.03
    assert plan.mass == pytest.approx(volume * polymers()["petg"].density.typical, rel=1e-6)
    # at constant speed, and lines as long as the mean chord (Cauchy: pi area / perimeter) that start and end at rest
    steady = volume / (0.05 * p.line_width * p.layer_height)
    chord = np.pi * 0.1 * 0.05 / 0.3
    ramp = lambda v: 1.0 + v**2 / (chord * p.acceleration)  # noqa: E731
    first = steady / plan.layers * (0.05 / p.first_speed * ramp(p.first_speed) - ramp(0.05))
    assert plan.duration == pytest.approx(steady * ramp(0.05) + first, rel=1e-6)
    assert plan.layers == 100
    assert not plan.flow_limited
    np.testing.assert_allclose(plan.stiffness_fraction, 1.0)


def test_slow_starts_take_twice_the_ramp_where_full_speed_is_never_reached() -> None:
    p = Process(infill=1.0, overhead=0.0, minimum_layer_time=0.0, speed=0.5, flow_limit=2e-7, acceleration=0.5)
    plan = plan_print(box_sections(0.02, 0.02, 0.01), p)
    chord = np.pi * 0.02 / 4.0
    assert chord * p.acceleration < 0.5**2
    lines = 0.02 * 0.02 / (p.line_width * chord)
    assert plan.layer_time[50] == pytest.approx(lines * 2.0 * np.sqrt(chord / p.acceleration), rel=1e-6)


def test_raft_and_draft_shield_cost_polymer() -> None:
    sections = box_sections(0.1, 0.05, 0.03)
    bare = plan_print(sections, Process()).mass
    density = polymers()["asa"].density.typical
    raft = plan_print(sections, Process(raft=0.002, raft_margin=0.005)).mass
    assert raft - bare == pytest.approx(density * 0.5 * 0.002 * (0.005 + 0.005 * (0.3 + np.pi * 0.005)), rel=1e-6)
    shield = plan_print(sections, Process(draft_shield=True)).mass
    assert shield - bare == pytest.approx(density * (0.3 + 0.01 * np.pi) * Process().line_width * 0.03, rel=1e-6)


def test_flow_limit_sets_the_pace_when_it_is_lower() -> None:
    fast = Process(speed=0.3, flow_limit=8e-9, minimum_layer_time=0.0, overhead=0.0)
    plan = plan_print(box_sections(0.1, 0.05, 0.03), fast)
    assert plan.flow_limited
    assert plan.flow == pytest.approx(8e-9)


def test_walls_infill_and_skins_add_up_by_hand() -> None:
    p = Process(walls=2, line_width=0.0005, infill=0.2, solid_layers=0)
    plan = plan_print(box_sections(0.1, 0.05, 0.03), p)
    area, walls = 0.1 * 0.05, 2 * 0.0005 * 0.3
    np.testing.assert_allclose(plan.solid_area, walls + 0.2 * (area - walls), rtol=1e-6)
    stiff = (walls + 0.2**1.5 * (area - walls)) / area
    np.testing.assert_allclose(plan.stiffness_fraction, stiff, rtol=1e-6)
    skinned = plan_print(box_sections(0.1, 0.05, 0.03), p.model_copy(update={"solid_layers": 5}))
    assert skinned.mass > plan.mass
    assert skinned.stiffness_fraction[0] == pytest.approx(1.0)
    assert skinned.stiffness_fraction[100] == pytest.approx(stiff)


@settings(max_examples=30, deadline=None)
@given(infill=st.floats(0.05, 0.9), more=st.floats(0.01, 0.1), walls=st.integers(0, 8))
def test_more_material_takes_longer_and_weighs_more(infill: float, more: float, walls: int) -> None:
    s = box_sections(0.1, 0.05, 0.03)
    a = plan_print(s, Process(infill=infill, walls=walls, minimum_layer_time=0.0))
    b = plan_print(s, Process(infill=infill + more, walls=walls, minimum_layer_time=0.0))
    assert b.mass > a.mass
    assert b.duration > a.duration


def test_brim_adds_its_ring_once() -> None:
    s = box_sections(0.1, 0.05, 0.03)
    bare, brim = plan_print(s, Process()), plan_print(s, Process(brim=0.005))
    ring = (0.11 * 0.06 - 0.1 * 0.05) - (4 - np.pi) * 0.005**2  # rounded corners
    density = polymers()["asa"].density.typical
    assert brim.mass - bare.mass == pytest.approx(ring * Process().layer_height * density, rel=1e-3)


def test_layer_numbers_count_from_one() -> None:
    plan = plan_print(box_sections(0.1, 0.05, 0.03), Process(layer_height=0.0003))
    assert plan.layer_at(0.0, 0.0003) == 1
    assert plan.layer_at(0.00031, 0.0003) == 2
    assert plan.layer_at(9.0, 0.0003) == plan.layers
