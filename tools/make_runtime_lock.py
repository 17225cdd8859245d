"""Writes packaging/runtime.lock: what the program itself needs of requirements.lock, with the same versions and hashes.

Usage: make_runtime_lock.py [--check]; with --check it only says whether the file is current.
"""

from __future__ import annotations

import re
import sys
from importlib import metadata
from pathlib import Path

from packaging.requirements import Requirement
from packaging.utils import canonicalize_name

ROOT = Path(__file__).resolve().parents[1]
TARGET = ROOT / "packaging" / "runtime.lock"


def needed(name: str, found: set[str] | None = None) -> set[str]:
    """A package and everything that it needs, by canonical name."""
    found = found if found is not None else set()
    for text in metadata.requires(name) or ():
        requirement = Requirement(text)
        if requirement.marker is not None and not requirement.marker.evaluate({"extra": ""}):
            continue
        key = canonicalize_name(requirement.name)
        if key not in found:
            found.add(key)
            needed(key, found)
    return found


def runtime_lock() -> str:
    """The text of the file. Raises KeyError for a package that the whole lock does not have."""
    text = (ROOT / "requirements.lock").read_text(encoding="utf-8")
    entries = {
        canonicalize_name(entry.partition("==")[0]): entry for entry in re.split(r"\n(?=[A-Za-z0-9])", text.strip())
    }
    return "\n".join(entries[name] for name in sorted(needed("mandorla"))) + "\n"


if __name__ == "__main__":
    made = runtime_lock()
    if "--check" in sys.argv:
        raise SystemExit(0 if TARGET.read_text(encoding="utf-8") == made else "packaging/runtime.lock is out of date")
    TARGET.write_text(made, encoding="utf-8")
