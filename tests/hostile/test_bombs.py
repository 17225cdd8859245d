"""Files made to hurt: refused before they cost time or memory, in words that say why."""

from __future__ import annotations

import io
import json
import resource
import time
import zipfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
import pytest
import trimesh

from mandorla.core.archives import MOST_ENTRIES
from mandorla.core.errors import LONGEST, InputError, MandorlaError, MeshError, ProjectFileError
from mandorla.core.json_text import json_of
from mandorla.core.part.gcode import read_gcode
from mandorla.core.part.mesh import MAX_TRIANGLES
from mandorla.core.part.solid_file import read_solid_file
from mandorla.core.project.own_machines import load
from mandorla.core.project.store import bundle_bytes, read_bundle
from tests.core.bundles import block_gcode, small_bundle
from tests.hostile.test_sample import within

BOX = (
    '<mesh><vertices><vertex x="0" y="0" z="0"/><vertex x="9" y="0" z="0"/><vertex x="0" y="9" z="0"/><vertex x="0" y="0" z="9"/>'
    '</vertices><triangles><triangle v1="0" v2="2" v3="1"/><triangle v1="0" v2="1" v3="3"/><triangle v1="0" v2="3" v3="2"/>'
    '<triangle v1="1" v2="2" v3="3"/></triangles></mesh>'
)
NAMESPACE = 'xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02"'


@contextmanager
def little(megabytes: int = 300, seconds: float = 5.0) -> Iterator[None]:
    """What is done in here takes no more memory and time than this."""
    base = int(Path("/proc/self/statm").read_text(encoding="ascii").split()[0]) * resource.getpagesize()
    before = resource.getrlimit(resource.RLIMIT_AS)
    resource.setrlimit(resource.RLIMIT_AS, (base + (megabytes << 20), before[1]))
    try:
        with within(seconds):
            yield
    finally:
        resource.setrlimit(resource.RLIMIT_AS, before)


def packed(*entries: tuple[str, bytes]) -> bytes:
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in entries:
            archive.writestr(name, data)
    return made.getvalue()


def model(objects: str, build: str, head: str = "") -> bytes:
    inside = f"<resources>{objects}</resources><build>{build}</build>"
    text = f'<?xml version="1.0"?>{head}<model unit="millimeter" {NAMESPACE}>{inside}</model>'
    return packed(("3D/3dmodel.model", text.encode()))


def zeros(size: int) -> bytes:
    """A deflated entry of nothing but noughts, made without holding them."""
    made = io.BytesIO()
    with (
        zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as archive,
        archive.open("project.json", "w", force_zip64=True) as entry,
    ):
        for _ in range(size >> 20):
            entry.write(b"\0" * (1 << 20))
    return made.getvalue()


@pytest.fixture
def written(tmp_path: Path) -> Callable[[bytes], Path]:
    def write(data: bytes) -> Path:
        path = tmp_path / "bomb.mandorla"
        path.write_bytes(data)
        return path

    return write


def test_a_gigabyte_of_noughts_is_refused_unread(written: Callable[[bytes], Path]) -> None:
    path = written(zeros(1 << 30))
    with little(100), pytest.raises(ProjectFileError, match="unpacks to"):
        read_bundle(path)
    with little(100), pytest.raises(MeshError, match="unpacks to"):
        read_solid_file(path.read_bytes(), "bomb.3mf", 1e-3)


def test_entries_without_number_or_twice_are_refused(written: Callable[[bytes], Path]) -> None:
    many = written(packed(*((f"originals/{n}", b"") for n in range(MOST_ENTRIES + 1))))
    with pytest.raises(ProjectFileError, match="entries"):
        read_bundle(many)
    text = bundle_bytes(small_bundle())
    with zipfile.ZipFile(io.BytesIO(text)) as archive:
        project = archive.read("project.json")
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w") as archive:
        archive.writestr("project.json", project)
        with pytest.warns(UserWarning, match="Duplicate"):
            archive.writestr("project.json", project)
    with pytest.raises(ProjectFileError, match="twice"):
        read_bundle(written(made.getvalue()))


@pytest.mark.parametrize(
    ("offset", "value", "said"), [(8, 1, "encrypted"), (10, 99, "packed in a way"), (10, 12, "packed in a way")]
)
def test_encryption_and_other_packing_are_told(
    written: Callable[[bytes], Path], offset: int, value: int, said: str
) -> None:
    data = bytearray(bundle_bytes(small_bundle()))
    at = data.find(b"PK\x01\x02")
    data[at + offset] = value
    with pytest.raises(ProjectFileError, match=said):
        read_bundle(written(bytes(data)))


def test_a_body_that_is_listed_very_often_is_counted_first() -> None:
    item = '<item objectid="1"/>'
    assert read_solid_file(model(f'<object id="1">{BOX}</object>', item), "ok.3mf", 1e-3).volume > 0.0
    with little(), pytest.raises(MeshError, match="too large"):
        read_solid_file(model(f'<object id="1">{BOX}</object>', item * 3000), "often.3mf", 1e-3)


def test_components_are_totalled_before_they_are_expanded() -> None:
    """Ten levels of ten: ten thousand million bodies."""
    objects = f'<object id="0">{BOX}</object>'
    for level in range(1, 11):
        inside = f'<component objectid="{level - 1}"/>' * 10
        objects += f'<object id="{level}"><components>{inside}</components></object>'
    with little(), pytest.raises(MeshError, match="too large"):
        read_solid_file(model(objects, '<item objectid="10"/>'), "nested.3mf", 1e-3)


@pytest.mark.parametrize("encoding", ["utf-8", "utf-16", "utf-16-le", "utf-16-be"])
def test_a_document_type_is_seen_in_every_encoding(encoding: str) -> None:
    text = f'<!DOCTYPE m [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;">]><model {NAMESPACE}><resources>&b;</resources><build/></model>'
    data = packed(("3D/3dmodel.model", text.encode(encoding)))
    with little(), pytest.raises(MeshError):
        read_solid_file(data, "entities.3mf", 1e-3)


def test_deep_xml_is_refused() -> None:
    deep = "<a>" * 100_000 + "</a>" * 100_000
    with little(), pytest.raises(MeshError, match="too large"):
        read_solid_file(model(deep, ""), "deep.3mf", 1e-3)


@pytest.mark.parametrize("comment", ["(" * 200_000, "(" * 100_000 + ")" * 100_000, ";" + "(" * 200_000])
def test_comments_of_gcode_cost_no_more_than_their_length(comment: str) -> None:
    data = block_gcode(30.0, 20.0, 1.0) + f"\nG1 X1 {comment}\n".encode()
    with within(2.0):
        try:
            read_gcode(data, "comment.gcode")
        except MandorlaError as error:
            assert len(str(error)) < 4000  # noqa: PT017  it may be refused, soon and shortly


@pytest.mark.parametrize(
    "line", ["G4 P-500", "M104 S9000", "M140 S99999", "G1 X9999999 Y0 E1", "G1 X1 Y1 Z9999999 E4", "G4 S1000000000"]
)
def test_gcode_that_no_machine_prints_is_refused(line: str) -> None:
    with pytest.raises(MeshError):
        read_gcode(block_gcode(30.0, 20.0, 1.0) + f"\n{line}\nG1 X5 Y9 E9\nG1 X0 Y0 E9\n".encode(), "odd.gcode")


def test_a_turned_face_in_a_large_mesh_is_found_in_time() -> None:
    ball = trimesh.creation.icosphere(subdivisions=7, radius=40.0)
    faces = np.array(ball.faces)
    faces[1234] = faces[1234][::-1]
    data = trimesh.Trimesh(ball.vertices, faces, process=False).export(file_type="stl")
    assert 100_000 < len(faces) < MAX_TRIANGLES
    began = time.process_time()
    with within(60.0):
        mesh = read_solid_file(bytes(data), "ball.stl", 1e-3)
    assert mesh.volume == pytest.approx(4.0 / 3.0 * np.pi * 0.04**3, rel=1e-3)
    assert time.process_time() - began < 60.0


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("[" * 100_000 + "]" * 100_000, "deeply"), ("9" * 5000, "thousands of digits"), ('"\\ud800"', "half of a character"),
        ('"\\udc00x"', "half of a character"), ("{", "line 1"), ("", "line 1"),
    ],
)  # fmt: skip
def test_json_that_nobody_writes_is_refused(tmp_path: Path, text: str, said: str) -> None:
    with little(), pytest.raises(InputError, match=said):
        json_of(text, "it")
    (tmp_path / "machine.json").write_text(text, encoding="utf-8")
    with pytest.raises(InputError):
        load(tmp_path / "machine.json")


def test_json_with_whole_characters_is_read() -> None:
    assert json_of('"\\ud83d\\ude00 \\u00e9"', "it") == "\U0001f600 é"
    assert json_of(b'\xef\xbb\xbf{"a": 1}', "it") == {"a": 1}
    with pytest.raises(InputError, match="byte 1"):
        json_of(b'"\xff"', "it")


def test_no_message_is_longer_than_anybody_reads() -> None:
    assert len(InputError("x" * 10**6).message) < LONGEST + 5
    bundle = small_bundle()
    data = json.loads(bundle.project.model_dump_json())
    data["name"] = "x" * 10**6
    made = packed(("project.json", json.dumps(data).encode()))
    with pytest.raises(MandorlaError) as refused:
        read_solid_file(made, "p.3mf", 1e-3)
    assert len(str(refused.value)) < 3 * LONGEST


def test_an_entry_that_says_it_is_longer_than_its_file_makes_no_room_for_it(written: Callable[[bytes], Path]) -> None:
    data = bytearray(packed(("project.json", json.dumps({"a": list(range(2000))}).encode())))
    at = data.index(b"PK\x01\x02")
    data[at + 20 : at + 24] = (2147485752).to_bytes(4, "little")
    with little(), pytest.raises(ProjectFileError, match="longer than the file"):
        read_bundle(written(bytes(data)))
