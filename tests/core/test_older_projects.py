"""Projects of every schema there was: opened, compared, said what is new; opening changes no file."""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from mandorla.core.errors import NewerSchemaError
from mandorla.core.project.migrations import SINCE, STEPS, changed_since
from mandorla.core.project.models import SCHEMA_VERSION
from mandorla.core.project.store import bundle_bytes, json_schema, read_bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from tests.core.bundles import small_bundle

FIELDS = Path(__file__).with_name("fields_of_schema.json")


@pytest.fixture
def written(tmp_path: Path) -> Callable[[int], Path]:
    """A project as an older schema wrote it, as far as its fields had other names then."""

    def write(version: int) -> Path:
        bundle = small_bundle(f"Of schema {version}")
        data: dict[str, Any] = json.loads(bundle.project.model_dump_json())
        data["schema_version"] = version
        if version < 8:
            data["rig"].pop("plug")
            data["rig"]["chamber"] |= {"machine_heat": 30.0, "hot_end_heat": 0.0}
        if version < 4:
            for layer in data["rig"]["bed"]["layers"]:
                layer.pop("key")
        if version < 3:
            data.pop("measurements")
        if version < 2:
            data["rig"]["chamber"].pop("panels")
            data["rig"]["chamber"]["panel"] = {"conductivity": 0.19, "thickness": 0.004}
        made = io.BytesIO()
        with zipfile.ZipFile(made, "w") as archive:
            archive.writestr("project.json", json.dumps(data))
            for name, content in bundle.originals.items():
                archive.writestr(f"originals/{name}", content)
        path = tmp_path / f"schema-{version}.mandorla"
        path.write_bytes(made.getvalue())
        return path

    return write


@pytest.mark.parametrize("version", range(1, SCHEMA_VERSION + 1))
def test_every_schema_opens_and_its_file_stays(written: Callable[[int], Path], version: int) -> None:
    path = written(version)
    before = path.read_bytes()
    bundle = read_bundle(path)
    assert path.read_bytes() == before
    assert bundle.written_by == version
    assert bundle.project.schema_version == SCHEMA_VERSION
    assert bundle.project.name == f"Of schema {version}"
    assert bundle.project.settings == small_bundle().project.settings
    again = read_bundle(_kept(path, bundle_bytes(bundle)))
    assert again.project == bundle.project
    assert again.written_by == SCHEMA_VERSION
    assert Results(bundle).get(keys.HEAT_UP).steady.surface > 300.0


def _kept(path: Path, data: bytes) -> Path:
    other = path.with_name("again.mandorla")
    other.write_bytes(data)
    return other


def test_a_newer_file_is_refused_with_both_numbers(written: Callable[[int], Path]) -> None:
    with pytest.raises(NewerSchemaError, match=rf"schema {SCHEMA_VERSION + 1}.*schema {SCHEMA_VERSION}"):
        read_bundle(written(SCHEMA_VERSION + 1))


def test_what_is_new_is_said_for_every_step() -> None:
    assert set(SINCE) == set(STEPS) == set(range(1, SCHEMA_VERSION))
    assert changed_since(SCHEMA_VERSION, SCHEMA_VERSION) == ""
    for version in range(1, SCHEMA_VERSION):
        told = changed_since(version, SCHEMA_VERSION)
        assert all(text in told for schema, text in SINCE.items() if schema >= version)
        assert not any(text in told for schema, text in SINCE.items() if schema < version)


def fields_now() -> list[str]:
    """Every field that a project file may hold, by model."""
    schema = json_schema()
    models = {"Project": schema, **schema["$defs"]}
    return sorted(f"{model}.{name}" for model, about in models.items() for name in about.get("properties", {}))


def test_the_schema_number_rises_with_every_field() -> None:
    """A file with a field that an older program does not know has to have a number that it refuses in words. Where this fails:
    raise SCHEMA_VERSION, say what is new in migrations.SINCE, and write the fields of the new number with
    ``python -m tests.core.test_older_projects``."""
    recorded = json.loads(FIELDS.read_text(encoding="utf-8"))
    assert int(recorded["schema"]) == SCHEMA_VERSION, "the fields of this schema number were never written down"
    now = fields_now()
    assert now == recorded["fields"], (sorted(set(now) ^ set(recorded["fields"])), "came or went under the same number")


if __name__ == "__main__":
    FIELDS.write_text(json.dumps({"schema": SCHEMA_VERSION, "fields": fields_now()}, indent=0) + "\n", encoding="utf-8")
