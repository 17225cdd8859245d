"""Reads and writes ``.mandorla`` files: a zip of ``project.json`` and the imported originals, written atomically."""

from __future__ import annotations

import io
import json
import stat
import zipfile
import zlib
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Final

from pydantic import ValidationError

from mandorla.core.archives import check_archive
from mandorla.core.errors import InputError, NewerSchemaError, Problem, ProjectFileError
from mandorla.core.json_text import json_of
from mandorla.core.project.atomic import Linked, write_atomically
from mandorla.core.project.migrations import brought_up
from mandorla.core.project.models import SCHEMA_VERSION, Project, problems_of

PROJECT_ENTRY: Final = "project.json"
ORIGINALS: Final = "originals/"
LARGEST_FILE: Final = 512 * 1024 * 1024
_QUICK: Final = 1  # deflate level of originals: a large mesh is saved in a third of the time and little larger
_EPOCH: Final = (2020, 1, 1, 0, 0, 0)  # fixed times make equal projects equal files


@dataclass(frozen=True, slots=True)
class Bundle:
    """A project with the bytes of its imported originals by file name; the schema that it was ``written_by``."""

    project: Project
    originals: Mapping[str, bytes]
    written_by: int = SCHEMA_VERSION

    def check_originals(self) -> None:
        """Refuse a project that refers to files which are not there. Raises :class:`InputError` with all of them."""
        part, there = self.project.part, set(self.originals)
        wanted: list[tuple[str, str, str]] = []
        if part is not None:
            wanted += [
                ("part.file", part.file, "the mesh of its part"),
                ("part.gcode", part.gcode, "the G-code of its part"),
            ]
            if part.measured is not None:
                wanted.append(("part.measured.map", part.measured.map, "the height map of its measured part"))
        wanted += [("runs", run.file, "a full simulation that is kept in it") for run in self.project.runs]
        lost = [(where, file, what) for where, file, what in wanted if file and file not in there]
        missing = sorted(self.project.measurements.originals() - there)
        lost += [("measurements", file, f"{len(missing)} files of its measurements") for file in missing]
        if lost:
            raise InputError(
                f"The project lacks {lost[0][2]}.",
                problems=tuple(
                    Problem(where, file, "a file under originals/ in the project") for where, file, _ in lost
                ),
            )


def to_bytes(bundle: Bundle) -> str:
    """The project as the JSON text that is stored."""
    return json.dumps(bundle.project.model_dump(mode="json"), indent=1, ensure_ascii=False)


def write_bundle(path: Path, bundle: Bundle, *, mode: int | None = None, linked: Linked = "refuse") -> None:
    """Write a project file so that a kill at any moment leaves the old or the new file (see :func:`write_atomically` for ``mode``
    and ``linked``). Raises :class:`ProjectFileError`, and :class:`InputError` for a project that refers to files which are not in
    the bundle."""
    bundle.check_originals()
    write_atomically(path, bundle_bytes(bundle), mode=mode, linked=linked)


def bundle_bytes(bundle: Bundle) -> bytes:
    """A project as the bytes of its file; equal projects give equal bytes."""
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(zipfile.ZipInfo(PROJECT_ENTRY, _EPOCH), to_bytes(bundle), zipfile.ZIP_DEFLATED)
        for name, data in sorted(bundle.originals.items()):
            archive.writestr(zipfile.ZipInfo(ORIGINALS + name, _EPOCH), data, zipfile.ZIP_DEFLATED, _QUICK)
    return made.getvalue()


def with_ending(path: Path) -> Path:
    """A path with the project file's ending."""
    return path if path.suffix == ".mandorla" else path.with_name(path.name + ".mandorla")


def read_bundle(path: Path) -> Bundle:
    """Read a project file. Raises :class:`ProjectFileError` with the place and the reason when it is not acceptable."""
    path = Path(path)
    name = path.name
    try:
        found = path.stat()
        if not stat.S_ISREG(found.st_mode):
            raise ProjectFileError(f"“{path}” cannot be read: it is no ordinary file.")
        if found.st_size > LARGEST_FILE:
            raise ProjectFileError(f"“{name}” is larger than {LARGEST_FILE // 2**20} MB.")
        with zipfile.ZipFile(path) as archive:
            check_archive(archive, f"“{name}”")
            text = archive.read(PROJECT_ENTRY).decode("utf-8")
            originals = {
                entry.removeprefix(ORIGINALS): archive.read(entry)
                for entry in archive.namelist()
                if entry.startswith(ORIGINALS) and entry != ORIGINALS
            }
    except FileNotFoundError as error:
        raise ProjectFileError(f"“{path}” does not exist.") from error
    except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError, ValueError) as error:
        if isinstance(error, UnicodeDecodeError):
            raise ProjectFileError(f"“{name}”: {PROJECT_ENTRY} is not UTF-8 at byte {error.start}.") from None
        raise ProjectFileError(f"“{name}” is cut off, damaged or no project file: {str(error)[:120]}.") from error
    except InputError as error:
        raise ProjectFileError(error.message) from None
    except KeyError as error:
        raise ProjectFileError(f"“{name}” holds no {PROJECT_ENTRY}.") from error
    except OSError as error:
        raise ProjectFileError(f"“{path}” cannot be read: {error.strerror}.") from error
    project, version = _parsed(text, name)
    bundle = Bundle(project, originals, version)
    try:
        bundle.check_originals()
    except InputError as error:
        raise ProjectFileError(f"“{name}”: {error.message}", problems=error.problems) from None
    return bundle


def parse_project(text: str, name: str) -> Project:
    """A project from its JSON text. Raises :class:`ProjectFileError` with line or field and the reason."""
    return _parsed(text, name)[0]


def _parsed(text: str, name: str) -> tuple[Project, int]:
    """The same, with the schema that it was written by."""
    try:
        data = json_of(text, f"“{name}”, {PROJECT_ENTRY}")
    except InputError as error:
        raise ProjectFileError(error.message) from None
    version = data.get("schema_version") if isinstance(data, dict) else None
    if isinstance(version, int) and version > SCHEMA_VERSION:
        raise NewerSchemaError(
            f"“{name}” was written by a newer Mandorla (schema {version}); this one reads up to schema {SCHEMA_VERSION}."
        )
    if isinstance(data, dict):
        brought_up(data, SCHEMA_VERSION)
    try:
        return Project.model_validate(data), version if isinstance(version, int) else SCHEMA_VERSION
    except ValidationError as error:
        raise ProjectFileError(f"“{name}” has fields that are not acceptable.", problems=problems_of(error)) from None


def json_schema() -> dict[str, Any]:
    """JSON Schema of ``project.json``, generated from the models."""
    return Project.model_json_schema()
