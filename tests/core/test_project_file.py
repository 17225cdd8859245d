"""The project file: round trip, refusals with place and reason, atomic saving under a kill, recovery."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import textwrap
import time
import zipfile
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given
from hypothesis import settings as run_with
from hypothesis import strategies as st

from mandorla.core.errors import InputError, MandorlaError, NewerSchemaError, ProjectFileError
from mandorla.core.project.models import SCHEMA_VERSION
from mandorla.core.project.paths import arguments_to, get_value, meaning_at, parse_at, set_value
from mandorla.core.project.recovery import Autosave, discard, find_recoverable, recover
from mandorla.core.project.store import Bundle, json_schema, read_bundle, to_bytes, write_bundle
from mandorla.core.units import UnitPreferences, celsius
from tests.core.asked import geometry_of
from tests.core.bundles import small_bundle
from tests.core.rigs import random_rigs


def test_round_trip_keeps_everything(tmp_path: Path) -> None:
    bundle = small_bundle()
    path = tmp_path / "a.mandorla"
    write_bundle(path, bundle)
    again = read_bundle(path)
    assert again.project == bundle.project
    assert dict(again.originals) == dict(bundle.originals)


@run_with(max_examples=25, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(rig=random_rigs())
def test_any_rig_survives_the_file(tmp_path: Path, rig: Any) -> None:
    bundle = small_bundle()
    path = tmp_path / "b.mandorla"
    write_bundle(path, Bundle(bundle.project.model_copy(update={"rig": rig}), bundle.originals))
    assert read_bundle(path).project.rig == rig


def test_equal_projects_are_equal_files(tmp_path: Path) -> None:
    for name in ("a", "b"):
        write_bundle(tmp_path / f"{name}.mandorla", small_bundle())
    assert (tmp_path / "a.mandorla").read_bytes() == (tmp_path / "b.mandorla").read_bytes()


def changed(tmp_path: Path, change: Any) -> Path:
    """A project file whose JSON was changed by hand."""
    data = json.loads(to_bytes(small_bundle()))
    change(data)
    path = tmp_path / "changed.mandorla"
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("project.json", json.dumps(data))
        archive.writestr("originals/block.stl", small_bundle().originals["block.stl"])
    return path


def test_a_file_of_a_newer_version_is_refused(tmp_path: Path) -> None:
    path = changed(tmp_path, lambda d: d.update(schema_version=SCHEMA_VERSION + 1, new_things=[1]))
    with pytest.raises(NewerSchemaError, match="newer Mandorla"):
        read_bundle(path)


@pytest.mark.parametrize(("change", "where"), [
    (lambda d: d.update(colour="red"), "colour"),
    (lambda d: d["rig"]["bed"]["layers"][0].update(thickness=-0.001), "rig.bed.layers.0.thickness"),
    (lambda d: d["rig"]["bed"]["layers"][0].update(material="moon_rock"), "rig.bed.layers.0"),
    (lambda d: d["settings"].update(bed_first="hot"), "settings.bed_first"),
    (lambda d: d["settings"].update(fan=1e9), "settings.fan"),
    (lambda d: d["rig"]["bed"].update(layers=[]), "rig.bed.layers"),
    (lambda d: d["rig"]["bed"]["heater"].update(layer="nowhere"), "rig.bed"),
    (lambda d: d.pop("rig"), "rig"),
])  # fmt: skip
def test_nonsense_is_refused_with_its_place(tmp_path: Path, change: Any, where: str) -> None:
    with pytest.raises(ProjectFileError) as caught:
        read_bundle(changed(tmp_path, change))
    assert where in [p.where for p in caught.value.problems]


def test_all_problems_are_told_at_once(tmp_path: Path) -> None:
    def change(d: Any) -> None:
        d["settings"]["fan"] = -1.0
        d["rig"]["room_temperature"] = 5.0
        d["process"]["nozzle"] = "big"

    with pytest.raises(ProjectFileError) as caught:
        read_bundle(changed(tmp_path, change))
    assert len(caught.value.problems) == 3


def test_numbers_that_are_not_finite_are_refused(tmp_path: Path) -> None:
    with pytest.raises(ProjectFileError, match=r"settings\.fan"):
        read_bundle(changed(tmp_path, lambda d: d["settings"].update(fan=float("nan"))))


@pytest.mark.parametrize("share", [0.0, 0.2, 0.5, 0.9, 0.999])
def test_a_file_cut_short_is_refused(tmp_path: Path, share: float) -> None:
    path = tmp_path / "whole.mandorla"
    write_bundle(path, small_bundle())
    data = path.read_bytes()
    path.write_bytes(data[: int(share * len(data))])
    with pytest.raises(ProjectFileError, match="cut off"):
        read_bundle(path)


def test_a_flipped_byte_is_found(tmp_path: Path) -> None:
    path = tmp_path / "whole.mandorla"
    write_bundle(path, small_bundle())
    data = bytearray(path.read_bytes())
    data[400] ^= 0xFF
    path.write_bytes(bytes(data))
    with pytest.raises(ProjectFileError):
        read_bundle(path)


def test_broken_json_is_refused_with_line_and_column(tmp_path: Path) -> None:
    path = tmp_path / "json.mandorla"
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("project.json", '{"name": "x",\n "rig": }')
    with pytest.raises(ProjectFileError, match="line 2, column 9"):
        read_bundle(path)


def test_other_files_are_refused(tmp_path: Path) -> None:
    with pytest.raises(ProjectFileError, match="does not exist"):
        read_bundle(tmp_path / "missing.mandorla")
    (tmp_path / "text.mandorla").write_text("hello")
    with pytest.raises(ProjectFileError, match="no project file"):
        read_bundle(tmp_path / "text.mandorla")
    with zipfile.ZipFile(tmp_path / "zip.mandorla", "w") as archive:
        archive.writestr("readme.txt", "hello")
    with pytest.raises(ProjectFileError, match=r"holds no project\.json"):
        read_bundle(tmp_path / "zip.mandorla")
    with zipfile.ZipFile(tmp_path / "lost.mandorla", "w") as archive:
        archive.writestr("project.json", to_bytes(small_bundle()))
    with pytest.raises(ProjectFileError, match="lacks the mesh"):
        read_bundle(tmp_path / "lost.mandorla")


def test_a_folder_that_cannot_be_written_is_said(tmp_path: Path) -> None:
    with pytest.raises(ProjectFileError, match="cannot be written"):
        write_bundle(tmp_path / "no" / "such" / "folder.mandorla", small_bundle())


def test_schema_describes_every_part() -> None:
    schema = json_schema()
    assert {"rig", "part", "process", "settings", "criteria", "scenarios"} <= set(schema["properties"])
    assert schema["additionalProperties"] is False


SAVER = """
    import sys
    from pathlib import Path
    from mandorla.core.project.store import read_bundle, write_bundle, Bundle
    path = Path(sys.argv[1])
    bundle = read_bundle(path)
    print("ready", flush=True)
    for i in range(100000):
        name = f"save {i}"
        write_bundle(path, Bundle(bundle.project.model_copy(update={"name": name}), bundle.originals))
"""


@pytest.mark.slow
def test_a_kill_while_saving_leaves_the_old_or_the_new_file(tmp_path: Path) -> None:
    path = tmp_path / "killed.mandorla"
    write_bundle(path, small_bundle())
    for i in range(8):
        saver = subprocess.Popen(
            [sys.executable, "-c", textwrap.dedent(SAVER), str(path)], stdout=subprocess.PIPE, text=True
        )
        assert saver.stdout is not None
        assert saver.stdout.readline() == "ready\n"
        time.sleep(0.01 + 0.013 * i)
        saver.send_signal(signal.SIGKILL)
        saver.wait()
        saver.stdout.close()
        again = read_bundle(path)
        assert again.project.name == "Test project" or again.project.name.startswith("save ")
        assert again.originals["block.stl"] == small_bundle().originals["block.stl"]


def test_work_of_a_dead_process_is_found_recovered_and_forgotten(tmp_path: Path) -> None:
    code = """
        import sys
        from pathlib import Path
        from mandorla.core.project.recovery import Autosave
        from tests.core.bundles import small_bundle
        Autosave(Path(sys.argv[1])).keep(small_bundle("Left behind"), Path("/somewhere/else.mandorla"))
    """
    root = Path(__file__).resolve().parents[2]
    subprocess.run([sys.executable, "-c", textwrap.dedent(code), str(tmp_path)], check=True, cwd=root)
    found = find_recoverable(tmp_path)
    assert [f.project_name for f in found] == ["Left behind"]
    assert found[0].original == Path("/somewhere/else.mandorla")
    assert recover(found[0]).project.name == "Left behind"
    discard(found[0])
    assert find_recoverable(tmp_path) == []


def test_work_of_a_running_process_is_left_alone(tmp_path: Path) -> None:
    autosave = Autosave(tmp_path)
    autosave.keep(small_bundle(), None)
    assert find_recoverable(tmp_path) == []
    assert autosave.copy.exists()
    autosave.clear()
    assert not autosave.copy.exists()
    assert os.listdir(tmp_path) == []


def test_damaged_notes_are_skipped(tmp_path: Path) -> None:
    (tmp_path / "session-1.json").write_text("not json")
    (tmp_path / "session-2.json").write_text('{"pid": 999999999, "at": "x"}')
    assert find_recoverable(tmp_path) == []


# ---- edits by path


def test_paths_reach_every_part() -> None:
    project = small_bundle().project
    assert get_value(project, "rig.bed.layers.1.thickness") == pytest.approx(0.0005)
    assert get_value(project, "settings.chamber") == pytest.approx(celsius(50.0))
    meaning = meaning_at(project, "rig.bed.layers.1.thickness")
    assert meaning is not None
    assert meaning.kind == "length"


@pytest.mark.parametrize(
    "path", ["rig.bad", "rig.bed.layers.99.thickness", "rig.bed.layers.x", "settings.fan.more", ""]
)
def test_unknown_paths_name_what_exists(path: str) -> None:
    with pytest.raises(InputError) as caught:
        get_value(small_bundle().project, path)
    assert caught.value.problems


def test_an_edit_changes_one_field_and_leaves_the_old_project() -> None:
    project = small_bundle().project
    other = set_value(project, "rig.bed.layers.3.thickness", 0.006)
    assert other.rig.bed.layers[3].thickness == 0.006
    assert project.rig.bed.layers[3].thickness == 0.008
    assert other.model_copy(update={"rig": project.rig}) == project


@pytest.mark.parametrize(("path", "text"), [
    ("settings.bed_first", "hot"), ("settings.bed_first", "nan"), ("settings.bed_first", "1e9"), ("settings.fan", "-5"),
    ("rig.bed.layers.0.thickness", "-0.15"), ("rig.bed.layers.0.thickness", "0"), ("process.nozzle", "40 mm"),
    ("process.walls", "2.5"), ("process.walls", "many"), ("rig.chamber.enclosed", "perhaps"), ("rig.bed.heater.power", "1e9 W"),
    ("settings.soak_time", "-1"), ("settings.soak_time", "10 kg"),
])  # fmt: skip
def test_refused_texts_name_the_value_and_what_is_allowed(path: str, text: str) -> None:
    project = small_bundle().project
    with pytest.raises(InputError) as caught:
        set_value(project, path, parse_at(project, path, text))
    assert text.strip() in str(caught.value) or "whole number" in str(caught.value)


def test_a_list_and_a_group_are_typed_as_json() -> None:
    project = small_bundle().project
    path = "rig.bed.layers"
    layers = [layer.model_dump() for layer in project.rig.bed.layers]
    layers[0]["thickness"] = 0.0002
    other = set_value(
        project, path, parse_at(project, path, json.dumps([*layers, layers[0] | {"name": "More", "key": ""}]))
    )
    assert len(other.rig.bed.layers) == len(layers) + 1
    assert other.rig.bed.layers[0].thickness == 0.0002
    assert arguments_to(project, {"rig": other.rig})[0].startswith(f"--set '{path}=[")
    own = "rig.bed.layers.0.own"
    made = set_value(
        project,
        own,
        parse_at(
            project,
            own,
            '{"conductivity": 1.0, "density": 2000.0, "specific_heat": 900.0, "emissivity": 0.9, "rating": 500.0}',
        ),
    )
    assert made.rig.bed.layers[0].own is not None
    assert set_value(made, own, parse_at(made, own, "null")) == project


@pytest.mark.parametrize(
    "text",
    [
        "[",
        "[" * 100000,
        "[NaN]",
        "[1e999]",
        '[{"name": "Bare"}]',
        '{"name": "One"}',
        "null",
        "[]",
        "[" + "9" * 5000 + "]",
    ],
)
def test_a_list_that_is_none_is_refused(text: str) -> None:
    project = small_bundle().project
    with pytest.raises(InputError):
        set_value(project, "rig.bed.layers", parse_at(project, "rig.bed.layers", text))


def test_limits_are_told_in_the_units_the_user_reads() -> None:
    project = small_bundle().project
    with pytest.raises(InputError, match="°F"):
        parse_at(project, "settings.bed_first", "9999", UnitPreferences(fahrenheit=True))
    assert parse_at(project, "settings.bed_first", "212", UnitPreferences(fahrenheit=True)) == pytest.approx(373.15)
    assert parse_at(project, "settings.bed_first", "373.15", si=True) == pytest.approx(373.15)


def test_contradictions_between_fields_are_refused() -> None:
    project = small_bundle().project
    with pytest.raises(InputError, match="larger than the"):
        set_value(project, "rig.bed.heater.width", 1.0)
    with pytest.raises(InputError, match="does not fit into the chamber"):
        set_value(project, "rig.chamber.width", 0.2)
    with pytest.raises(InputError, match="same name"):
        set_value(project, "rig.bed.layers.0.name", "plate")
    with pytest.raises(InputError, match="layer height"):
        set_value(project, "process.layer_height", 0.0015)


@run_with(max_examples=60, deadline=None)
@given(st.text(max_size=12))
def test_any_text_in_any_field_is_read_or_refused(text: str) -> None:
    project = small_bundle().project
    for path in ("settings.chamber", "process.walls", "rig.bed.layers.0.thickness"):
        try:
            value = parse_at(project, path, text)
            again = set_value(project, path, value)
        except MandorlaError:
            continue
        assert get_value(again, path) == value


def test_geometry_follows_unit_and_turn() -> None:
    bundle = small_bundle()
    geometry = geometry_of(bundle)
    assert geometry is not None
    assert geometry.mesh.size[0] == pytest.approx(0.12)
    turned = Bundle(set_value(bundle.project, "part.placement.turn", 90), bundle.originals)
    other = geometry_of(turned)
    assert other is not None
    assert other.mesh.size[0] == pytest.approx(0.06)
    assert geometry_of(Bundle(bundle.project.model_copy(update={"part": None}), {})) is None


def test_schema_in_the_documents_is_current() -> None:
    shipped = Path(__file__).resolve().parents[2] / "docs" / "project.schema.json"
    assert json.loads(shipped.read_text(encoding="utf-8")) == json_schema(), "run tools/make_schema.py"
