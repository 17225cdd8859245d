"""What stands on the page about the program: version, packages with their licences, sources of its data."""

from __future__ import annotations

import re
import tomllib
from importlib import metadata, resources
from typing import Final

from packaging.requirements import Requirement
from packaging.utils import canonicalize_name

from mandorla import __version__

_TABLES: Final = "mandorla.core.materials.library"


def packages_needed(name: str = "mandorla", found: dict[str, str] | None = None) -> dict[str, str]:
    """Every package that the program needs, directly or not, with its version; empty for one that is missing."""
    found = found if found is not None else {}
    try:
        wanted = metadata.requires(name) or ()
    except metadata.PackageNotFoundError:
        return found
    for text in wanted:
        requirement = Requirement(text)
        key = canonicalize_name(requirement.name)
        if key in found or (requirement.marker is not None and not requirement.marker.evaluate({"extra": ""})):
            continue
        try:
            found[key] = metadata.version(requirement.name)
        except metadata.PackageNotFoundError:
            found[key] = ""
        packages_needed(requirement.name, found)
    return found


def licence_of(name: str) -> str:
    """A package's licence as it states it, in a few words."""
    try:
        about = metadata.metadata(name).json
    except metadata.PackageNotFoundError:
        return "not installed"
    classes = about.get("classifier") or []
    kinds = [str(c).rpartition(" :: ")[2] for c in classes if str(c).startswith("License ::")]
    first = str(about.get("license") or "").strip().splitlines()[:1]
    stated = str(about.get("license_expression") or "") or "; ".join(kinds) or "".join(first) or "not stated"
    return re.sub(r"\s+", " ", stated)[:80]


def data_sources() -> dict[str, list[str]]:
    """Where the figures of the library come from, by table."""
    found = {}
    for file in sorted(resources.files(_TABLES).iterdir(), key=lambda f: f.name):
        if file.name.endswith(".toml"):
            sources = tomllib.loads(file.read_text(encoding="utf-8")).get("sources", {})
            found[file.name.removesuffix(".toml").replace("_", " ")] = [str(v) for v in sources.values()]
    return found


def about_text() -> str:
    """The page, in Markdown."""
    lines = [
        "# About Mandorla", "",
        f"Mandorla {__version__}, MIT licence. Thermal design, warp prediction and tuning for large or hot 3D-printed parts.", "",
        "It certifies nothing: local codes, the makers' data and a qualified electrician decide.", "",
        "## Packages", "", "| package | version | licence |", "|---|---|---|",
        *(f"| {name} | {version or 'missing'} | {licence_of(name)} |" for name, version in sorted(packages_needed().items())),
        "", "The font is Inter, SIL Open Font License 1.1.", "", "## Sources of the material library", "",
    ]  # fmt: skip
    for table, sources in data_sources().items():
        lines += [f"**{table[0].upper()}{table[1:]}**", "", *(f"- {source}" for source in sources), ""]
    return "\n".join(lines)
