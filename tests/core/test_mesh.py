"""Reading STL: what is accepted, what is mended, what is refused and how."""

from __future__ import annotations

import contextlib

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from mandorla.core.errors import MeshError
from mandorla.core.part.mesh import MAX_TRIANGLES, MOST_SHOWN, simplified, turned
from mandorla.core.part.solid import closed_solid
from mandorla.core.part.solid_file import read_solid_file
from tests.core.solids import block, mesh_of, stl


def refused(data: bytes, scale: float = 0.001) -> MeshError:
    with pytest.raises(MeshError) as caught:
        read_solid_file(data, "part.stl", scale)
    assert caught.value.problems, "a refusal says the value and what is allowed"
    return caught.value


@pytest.mark.parametrize("kind", ["stl", "stl_ascii"])
def test_binary_and_text_give_the_same_solid(kind: str) -> None:
    mesh = read_solid_file(stl(block(120.0, 60.0, 20.0), kind), "block.stl", 0.001)
    np.testing.assert_allclose(mesh.size, [0.12, 0.06, 0.02], rtol=1e-6)
    assert mesh.volume == pytest.approx(0.12 * 0.06 * 0.02, rel=1e-6)
    assert mesh.surface_area == pytest.approx(2 * (0.12 * 0.06 + 0.12 * 0.02 + 0.06 * 0.02), rel=1e-6)
    assert mesh.vertices[:, 2].min() == pytest.approx(0.0, abs=1e-12)
    assert len(mesh.vertices) == 8
    assert mesh.notes == ()


@pytest.mark.parametrize(("body", "volume"), [
    (trimesh.creation.cylinder(radius=30.0, height=50.0, sections=256), np.pi * 0.03**2 * 0.05),
    (trimesh.creation.icosphere(subdivisions=5, radius=25.0), 4 / 3 * np.pi * 0.025**3),
    (trimesh.creation.torus(major_radius=40.0, minor_radius=10.0, major_sections=256, minor_sections=128),
     2 * np.pi**2 * 0.04 * 0.01**2),
    (trimesh.creation.annulus(r_min=20.0, r_max=30.0, height=40.0, sections=256), np.pi * (0.03**2 - 0.02**2) * 0.04),
], ids=["cylinder", "sphere", "torus", "tube"])  # fmt: skip
def test_volume_of_known_solids(body: trimesh.Trimesh, volume: float) -> None:
    assert mesh_of(body).volume == pytest.approx(volume, rel=1e-3)


def test_inward_faces_are_turned_and_said() -> None:
    body = block(50.0, 40.0, 30.0)
    body.invert()
    data = np.asarray(body.triangles) * 0.001
    mesh = closed_solid(data, "inside-out.stl")
    assert mesh.volume == pytest.approx(0.05 * 0.04 * 0.03)
    assert any("turned" in n for n in mesh.notes)


def test_triangles_without_area_are_left_out_and_said() -> None:
    triangles = np.asarray(block(50.0, 40.0, 30.0).triangles) * 0.001
    sliver = np.array([[triangles[0, 0], triangles[0, 1], triangles[0, 0]]])
    mesh = closed_solid(np.concatenate([triangles, sliver]), "sliver.stl")
    assert len(mesh.faces) == 12
    assert any("without area" in n for n in mesh.notes)


def test_an_empty_file_is_refused() -> None:
    assert "no STL" in str(refused(b""))
    assert "empty" in str(refused(b"\0" * 84))
    assert "empty" in str(refused(b"solid nothing\nendsolid nothing\n"))


@pytest.mark.parametrize("kind", ["stl", "stl_ascii"])
@pytest.mark.parametrize("share", [0.3, 0.6, 0.95])
def test_a_cut_file_is_refused(kind: str, share: float) -> None:
    data = stl(trimesh.creation.icosphere(subdivisions=2, radius=20.0), kind)
    error = refused(data[: int(share * len(data))])
    assert "cut off" in str(error) or "no vertex" in str(error)


def test_a_broken_line_is_named() -> None:
    data = stl(block(50.0, 40.0, 30.0), "stl_ascii").replace(b"vertex", b"vertex abc", 5)
    error = refused(data)
    assert "line 4" in str(error)
    assert "abc" in error.problems[0].value


def test_an_open_surface_is_refused_with_the_place() -> None:
    body = block(50.0, 40.0, 30.0)
    body.update_faces(np.arange(len(body.faces)) != 3)
    error = refused(stl(body))
    assert "not closed" in str(error)
    assert "3 open edges" in error.problems[0].value
    assert "near x" in str(error)


def test_faces_that_look_the_wrong_way_are_turned_and_said() -> None:
    body = trimesh.creation.icosphere(subdivisions=3, radius=25.0)
    triangles = np.asarray(body.triangles) * 0.001
    triangles[5:40] = triangles[5:40, ::-1]
    mesh = closed_solid(triangles, "part.stl")
    assert mesh.volume == pytest.approx(body.volume * 1e-9, rel=1e-9)
    assert any("35 triangles looked the wrong way" in n for n in mesh.notes)


def test_a_body_inside_out_beside_a_sound_one_is_turned() -> None:
    sound, other = block(20.0, 20.0, 20.0), block(10.0, 10.0, 10.0)
    other.apply_translation([40.0, 0.0, 0.0])
    flipped = np.asarray(other.triangles)[:, ::-1].copy()
    flipped[3] = flipped[3, ::-1]  # one face of it looks outwards: the piece is not consistent
    mesh = closed_solid(np.concatenate([np.asarray(sound.triangles), flipped]) * 0.001, "two.stl")
    assert mesh.volume == pytest.approx(0.02**3 + 0.01**3, rel=1e-9)


def test_doubled_faces_are_left_out_and_said() -> None:
    triangles = np.asarray(block(50.0, 40.0, 30.0).triangles) * 0.001
    mesh = closed_solid(np.concatenate([triangles, triangles[4:5], triangles[4:5]]), "part.stl")
    assert len(mesh.faces) == 12
    assert any("doubled" in n for n in mesh.notes)


def test_a_small_hole_is_closed_and_a_large_one_is_refused() -> None:
    body = trimesh.creation.icosphere(subdivisions=4, radius=25.0)
    triangles = np.asarray(body.triangles) * 0.001
    whole = closed_solid(triangles, "part.stl").volume
    mended = closed_solid(np.delete(triangles, [100, 900], axis=0), "part.stl")
    assert mended.volume == pytest.approx(whole, rel=1e-3)
    assert any("2 small holes closed" in n for n in mended.notes)
    far = np.linalg.norm(triangles.mean(axis=1) - triangles[0].mean(axis=0), axis=1)
    with pytest.raises(MeshError, match="not closed"):
        closed_solid(triangles[far > 0.012], "part.stl")


def test_wrong_scale_is_refused_and_the_right_unit_accepted() -> None:
    data = stl(block(120.0, 60.0, 20.0))
    assert "wrongly scaled" in str(refused(data, 1.0))
    assert "wrongly scaled" in str(refused(data, 1e-6))
    assert read_solid_file(data, "inch.stl", 0.0254 / 25.4).size[0] == pytest.approx(0.12)


def test_a_huge_count_is_refused_before_anything_is_read() -> None:
    data = b"\0" * 80 + (MAX_TRIANGLES + 1).to_bytes(4, "little") + b"\0" * 100
    assert "too large" in str(refused(data))


def test_impossible_coordinates_are_refused() -> None:
    data = bytearray(stl(block(50.0, 40.0, 30.0)))
    data[84 + 12 : 84 + 16] = np.float32(np.nan).tobytes()
    assert "triangle 1 has impossible coordinates" in str(refused(bytes(data)))


def test_a_flat_mesh_is_refused() -> None:
    flat = np.array([[[0, 0, 0], [0.1, 0, 0], [0, 0.1, 0]], [[0, 0, 0], [0, 0.1, 0], [0.1, 0, 0]]], dtype=float)
    with pytest.raises(MeshError, match="flat"):
        closed_solid(flat, "flat.stl")


def test_two_separate_bodies_are_one_solid() -> None:
    two = trimesh.util.concatenate(
        [block(20.0, 20.0, 20.0), block(20.0, 20.0, 20.0).apply_translation((40.0, 0.0, 0.0))]
    )
    assert mesh_of(two).volume == pytest.approx(2 * 0.02**3)


def test_a_fine_mesh_is_simplified_for_pictures_only() -> None:
    fine = mesh_of(trimesh.creation.icosphere(subdivisions=7, radius=60.0))
    coarse = simplified(fine)
    assert len(fine.faces) > MOST_SHOWN >= len(coarse.faces) > 10_000
    np.testing.assert_allclose(coarse.size, fine.size, rtol=0.01)
    assert coarse.volume == pytest.approx(fine.volume, rel=0.01)
    small = mesh_of(block(20.0, 20.0, 20.0))
    assert np.array_equal(simplified(small).faces, small.faces)


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 3), st.tuples(*[st.floats(5.0, 300.0)] * 3))
def test_turning_keeps_volume_and_swaps_extents(quarter: int, size: tuple[float, float, float]) -> None:
    mesh = mesh_of(block(*size))
    other = turned(mesh, 90 * quarter)
    assert other.volume == pytest.approx(mesh.volume, rel=1e-9)
    expected = mesh.size if quarter % 2 == 0 else mesh.size[[1, 0, 2]]
    np.testing.assert_allclose(other.size, expected, rtol=1e-9)


@settings(max_examples=80, deadline=None)
@given(st.binary(max_size=600))
def test_any_bytes_are_read_or_refused_but_never_crash(data: bytes) -> None:
    with contextlib.suppress(MeshError):
        assert read_solid_file(data, "noise.stl", 0.001).volume > 0.0


def test_a_solid_named_after_a_keyword_is_read_whatever_its_line_ends() -> None:
    text = stl(block(50.0, 40.0, 30.0), "stl_ascii").replace(b"solid ", b"solid vertex endsolid ", 1)
    for data in (
        text,
        text.replace(b"\n", b"\r\n"),
        text.replace(b"\n", b"\r"),
        text.upper().replace(b"SOLID", b"solid"),
    ):
        assert read_solid_file(data, "named.stl", 0.001).volume == pytest.approx(6e-5)


def test_a_mended_body_keeps_the_hollow_of_its_neighbour() -> None:
    """Only pieces whose faces disagree are turned: a void inside, rightly facing inwards, stays a void."""
    outer, void, other = block(40.0, 40.0, 40.0), block(20.0, 20.0, 20.0), block(10.0, 10.0, 10.0)
    other.apply_translation([40.0, 0.0, 0.0])
    odd = np.asarray(other.triangles).copy()
    odd[3] = odd[3, ::-1]
    everything = np.concatenate([np.asarray(outer.triangles), np.asarray(void.triangles)[:, ::-1], odd])
    mesh = closed_solid(1e-3 * everything, "hollow.stl")
    assert mesh.volume == pytest.approx(0.04**3 - 0.02**3 + 0.01**3, rel=1e-9)


def test_holes_that_meet_in_a_vertex_are_not_guessed_at() -> None:
    triangles = np.asarray(trimesh.creation.icosphere(subdivisions=4, radius=25.0).triangles) * 0.001
    corner = triangles[0, 0]
    at = np.flatnonzero((np.linalg.norm(triangles - corner, axis=2) < 1e-9).any(axis=1))
    with pytest.raises(MeshError, match="not closed"):
        closed_solid(np.delete(triangles, at[[0, 3]], axis=0), "part.stl")
