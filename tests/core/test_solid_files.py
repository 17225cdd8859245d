"""OBJ and 3MF: units, polygons, several bodies, components, transforms; broken ones are refused in clear words."""

from __future__ import annotations

import contextlib
import io
import zipfile
from collections.abc import Mapping

import numpy as np
import pytest
import trimesh
from hypothesis import given
from hypothesis import strategies as st

from mandorla.core.errors import MeshError
from mandorla.core.part.solid_file import read_solid_file
from mandorla.core.part.three_mf import UNITS, read_3mf
from tests.core.solids import block, stl

CORE, PRODUCTION = "urn:core", "urn:production"


def cube(key: int, size: float = 10.0, inside_out: bool = False) -> str:
    """An object of a cube with one corner at the origin."""
    mesh = trimesh.creation.box(extents=(size, size, size))
    points = mesh.vertices + size / 2
    faces = mesh.faces[:, ::-1] if inside_out else mesh.faces
    vertices = "".join(f'<vertex x="{x:.6g}" y="{y:.6g}" z="{z:.6g}"/>' for x, y, z in points)
    triangles = "".join(f'<triangle v1="{a}" v2="{b}" v3="{c}"/>' for a, b, c in faces)
    body = f"<vertices>{vertices}</vertices><triangles>{triangles}</triangles>"
    return f'<object id="{key}" type="model"><mesh>{body}</mesh></object>'


def package(resources: str, build: str, unit: str = "millimeter", more: Mapping[str, str] | None = None) -> bytes:
    """A 3MF package."""
    head = f'<?xml version="1.0"?><model unit="{unit}" xmlns="{CORE}" xmlns:p="{PRODUCTION}">'
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("[Content_Types].xml", "<Types/>")
        archive.writestr("3D/3dmodel.model", f"{head}<resources>{resources}</resources><build>{build}</build></model>")
        for path, text in (more or {}).items():
            archive.writestr(path, f"{head}<resources>{text}</resources><build/></model>")
    return out.getvalue()


@pytest.mark.parametrize(("unit", "mm"), sorted(UNITS.items()))
def test_units_of_3mf(unit: str, mm: float) -> None:
    size = 20.0 / mm
    mesh = read_solid_file(package(cube(1, size), '<item objectid="1"/>', unit), "a.3mf", 0.001)
    assert mesh.size == pytest.approx([0.02] * 3, rel=1e-4)
    assert mesh.volume == pytest.approx(8e-6, rel=1e-3)


def test_bodies_transforms_and_components_of_3mf() -> None:
    """Two cubes side by side through a component, the whole turned by 90 degrees by its build item."""
    turn = "0 1 0 -1 0 0 0 0 1 5 6 7"
    resources = (
        cube(1) + '<object id="2"><components><component objectid="1"/>'
        '<component objectid="1" transform="1 0 0 0 1 0 0 0 1 30 0 0"/></components></object>'
    )
    found = read_3mf(package(resources, f'<item objectid="2" transform="{turn}"/>'), "a.3mf")
    assert found.bodies == 2
    points = found.triangles.reshape(-1, 3)
    assert points.min(axis=0) == pytest.approx([-5.0, 6.0, 7.0])
    assert points.max(axis=0) == pytest.approx([5.0, 46.0, 17.0])
    mesh = read_solid_file(package(resources, f'<item objectid="2" transform="{turn}"/>'), "a.3mf", 0.001)
    assert mesh.volume == pytest.approx(2e-6)
    assert any("2 bodies" in n for n in mesh.notes)


def test_mirrored_bodies_keep_their_outside_outside() -> None:
    mirror = "-1 0 0 0 1 0 0 0 1 0 0 0"
    found = read_3mf(package(cube(1), f'<item objectid="1"/><item objectid="1" transform="{mirror}"/>'), "m.3mf")
    t = found.triangles
    volume = np.einsum("ij,ij->i", t[:, 0], np.cross(t[:, 1], t[:, 2])).sum() / 6.0
    assert volume == pytest.approx(2000.0)


def test_bodies_in_other_parts_of_the_package() -> None:
    other = {"3D/Objects/cube.model": cube(7)}
    resources = (
        '<object id="1"><components><component objectid="7" p:path="/3D/Objects/cube.model"/></components></object>'
    )
    mesh = read_solid_file(package(resources, '<item objectid="1"/>', more=other), "p.3mf", 0.001)
    assert mesh.volume == pytest.approx(1e-6)


@given(st.lists(st.floats(-2.0, 2.0), min_size=9, max_size=9), st.floats(-50, 50))
def test_volume_follows_the_determinant(numbers: list[float], shift: float) -> None:
    m = np.array(numbers).reshape(3, 3)
    if abs(np.linalg.det(m)) < 0.05:
        return
    text = " ".join(f"{v:.9g}" for v in [*m.ravel(), shift, -shift, 0.0])
    t = read_3mf(package(cube(1), f'<item objectid="1" transform="{text}"/>'), "t.3mf").triangles
    t = t - t.reshape(-1, 3).mean(axis=0)
    volume = np.einsum("ij,ij->i", t[:, 0], np.cross(t[:, 1], t[:, 2])).sum() / 6.0
    assert volume == pytest.approx(1000.0 * abs(np.linalg.det(m)), rel=1e-6)


LOOP = '<object id="1"><components><component objectid="1"/></components></object>'
BROKEN = {
    "no build": (package("", '<item objectid="1"/>'), "does not exist"),
    "nothing": (package("", ""), "holds no body"),
    "unit": (package(cube(1), '<item objectid="1"/>', "furlong"), "unit is unknown"),
    "transform": (package(cube(1), '<item objectid="1" transform="1 2 3"/>'), "transform"),
    "loop": (package(LOOP, '<item objectid="1"/>'), "each other"),
    "vertex": (package(cube(1).replace('v1="0"', 'v1="99"', 1), '<item objectid="1"/>'), "vertex that does not exist"),
    "number": (package(cube(1).replace('x="0"', 'x="zero"', 1), '<item objectid="1"/>'), "damaged"),
    "path": (package('<object id="1"><components><component objectid="7" p:path="/gone.model"/></components></object>',
                     '<item objectid="1"/>'), "lacks its part"),
    "not xml": (package(cube(1) + "<oops", '<item objectid="1"/>'), "no XML"),
    "cut": (package(cube(1), '<item objectid="1"/>')[:200], "damaged"),
}  # fmt: skip


@pytest.mark.parametrize("key", sorted(BROKEN))
def test_broken_3mf_is_refused(key: str) -> None:
    data, words = BROKEN[key]
    with pytest.raises(MeshError, match=words):
        read_solid_file(data, "b.3mf", 0.001)


def test_entities_are_refused() -> None:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        archive.writestr("3D/3dmodel.model", '<!DOCTYPE m [<!ENTITY a "aaaa">]><model><resources/></model>')
    with pytest.raises(MeshError, match="entities"):
        read_solid_file(out.getvalue(), "e.3mf", 0.001)


def test_obj_of_a_general_purpose_library_matches_its_stl() -> None:
    body = block(80.0, 40.0, 20.0)
    data = stl(body)
    mesh = trimesh.load(io.BytesIO(data), file_type="stl")
    text = mesh.export(file_type="obj")
    a = read_solid_file(data, "b.stl", 0.001)
    b = read_solid_file(text.encode() if isinstance(text, str) else text, "b.obj", 0.001)
    assert b.volume == pytest.approx(a.volume, rel=1e-6)
    assert b.size == pytest.approx(a.size, rel=1e-6)


SQUARES = """# a cube of four-cornered faces
v 0 0 0
v 10 0 0
v 10 10 0
v 0 10 0
v 0 0 10
v 10 0 10
v 10 10 10
v 0 10 10
vt 0 0
f 4 3 2 1
f 5/1 6/1 7/1 8/1
f 1//1 2//1 6//1 5//1
f -7 -6 -2 -3
f 3 4 8 7
f 4 1 5 8
"""


def test_obj_with_polygons_and_indices_from_either_end() -> None:
    mesh = read_solid_file(SQUARES.encode(), "c.obj", 0.001)
    assert mesh.volume == pytest.approx(1e-6)
    assert len(mesh.faces) == 12


@pytest.mark.parametrize(
    ("text", "words"),
    [
        (SQUARES + "f 1 2 99\n", "line 17"),
        (SQUARES + "f 1 2\n", "2 corners"),
        (SQUARES.replace("v 10 0 0", "v ten 0 0"), "line 3"),
        ("v 0 0 0\n", "no faces"),
        (SQUARES.replace("f 4 1 5 8\n", ""), "not closed"),
        (SQUARES + "f 0 1 2\n", "no vertex 0"),
    ],
)
def test_broken_obj_is_refused(text: str, words: str) -> None:
    with pytest.raises(MeshError, match=words):
        read_solid_file(text.encode(), "c.obj", 0.001)


def test_negative_obj_indices_count_from_the_last_vertex_so_far() -> None:
    """A second cube written after the first: its faces count back from its own vertices, not from the end of the file."""
    corners, faces = SQUARES.split("vt 0 0\n")
    back = "\n".join(
        "f " + " ".join(str(int(word.split("/")[0]) - 9) if word[0] != "-" else word for word in line.split()[1:])
        for line in faces.splitlines()
    )
    second = "\n".join(
        f"v {float(x) + 30} {y} {z}" for _, x, y, z in (line.split() for line in corners.splitlines()[1:])
    )
    mesh = read_solid_file(f"{corners}{back}\n{second}\n{back}\n".encode(), "c.obj", 0.001)
    assert mesh.volume == pytest.approx(2e-6)
    assert mesh.size == pytest.approx([0.04, 0.01, 0.01])


def test_objects_of_equal_numbers_in_different_parts_of_a_package_stay_apart() -> None:
    other = {"3D/a.model": cube(1), "3D/b.model": cube(1, 5.0)}
    resources = "".join(
        f'<object id="{key}"><components><component objectid="1" p:path="/3D/{part}.model" transform="{move}"/>'
        "</components></object>"
        for key, part, move in ((2, "a", "1 0 0 0 1 0 0 0 1 0 0 0"), (3, "b", "1 0 0 0 1 0 0 0 1 30 0 0"))
    )
    found = read_3mf(package(resources, '<item objectid="2"/><item objectid="3"/>', more=other), "p.3mf")
    assert found.bodies == 2
    assert read_solid_file(
        package(resources, '<item objectid="2"/><item objectid="3"/>', more=other), "p.3mf", 0.001
    ).volume == pytest.approx(1.125e-6)


def test_copies_with_one_part_number_all_stand() -> None:
    build = "".join(f'<item objectid="1" partnumber="a" transform="1 0 0 0 1 0 0 0 1 {x} 0 0"/>' for x in (0, 30, 60))
    found = read_3mf(package(cube(1), build), "c.3mf")
    assert (found.bodies, len(found.triangles)) == (3, 36)


def test_components_that_multiply_beyond_all_measure_are_refused_before_they_are_made() -> None:
    levels = "".join(
        f'<object id="{key}"><components>' + f'<component objectid="{key - 1}"/>' * 8 + "</components></object>"
        for key in range(2, 15)
    )
    with pytest.raises(MeshError, match="too large"):
        read_3mf(package(cube(1) + levels, '<item objectid="14"/>'), "many.3mf")


def test_an_oversized_model_is_refused_unread(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("mandorla.core.part.three_mf._LARGEST", 400)
    with pytest.raises(MeshError, match="too large"):
        read_3mf(package(cube(1), '<item objectid="1"/>'), "big.3mf")


@given(st.binary(max_size=300))
def test_any_bytes_are_read_or_refused(data: bytes) -> None:
    for name, start in (("n.obj", b"v 0 0 0\nf 1 1 1\n"), ("n.3mf", b"PK\x03\x04"), ("n.stl", b"solid\nfacet\n")):
        with contextlib.suppress(MeshError):
            read_solid_file(start + data, name, 0.001)
