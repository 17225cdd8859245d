"""Machines of one's own: rigs kept as JSON files in the user's data folder, to begin other projects with."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Final

from mandorla.core.errors import InputError
from mandorla.core.input_file import bytes_of
from mandorla.core.json_text import json_of
from mandorla.core.logbook.place import default_path
from mandorla.core.project.atomic import write_atomically
from mandorla.core.project.models import build
from mandorla.core.rig.model import Rig

LARGEST: Final = 2 * 1024 * 1024


def folder() -> Path:
    """Where they are kept, beside the workshop's logbook."""
    return default_path().parent / "machines"


def file_of(name: str) -> Path:
    """The file of a machine by its name."""
    return folder() / f"{re.sub(r'[^A-Za-z0-9._-]+', '-', name).strip('-.')[:60] or 'machine'}.json"


def keep(rig: Rig) -> Path:
    """Keep a machine under its name; one of the same name is replaced. Raises :class:`InputError` where that cannot be written."""
    path = file_of(rig.name)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputError(f"“{path.parent}” cannot be made: {error.strerror}.") from None
    write_atomically(path, json.dumps(rig.model_dump(mode="json"), indent=1, ensure_ascii=False).encode())
    return path


def kept() -> list[Path]:
    """Files of all machines that are kept, by name."""
    return sorted(folder().glob("*.json"))


def load(path: Path) -> Rig:
    """A machine that was kept. Raises :class:`InputError` for a file that is none."""
    try:
        if path.stat().st_size > LARGEST:
            raise InputError(f"“{path.name}” is too large for a machine.")
        data = json_of(bytes_of(path), f"“{path.name}”")
    except OSError as error:
        raise InputError(f"“{path}” cannot be read: {error.strerror}.") from None
    found = build(Rig, data, f"“{path.name}”")
    assert isinstance(found, Rig)
    return found
