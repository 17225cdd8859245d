"""Every figure that is shown, as data: what it says, by which model, what goes into it, how it is measured."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache
from importlib import resources
from typing import Any, Final

from mandorla.core.errors import InputError, LibraryDataError, Problem

WAY: Final = "way."  # begins the key of the chance of one way to fail
_OF_WAYS: Final = {
    "adhesion": "hold_margin",
    "flatness": "lift",
    "cracks": "crack_index",
    "loose_plate": "plate_lift",
}  # ways to fail whose margin is a figure of its own
_MUST: Final = ("title", "what", "model", "theory", "inputs", "measure")


@dataclass(frozen=True, slots=True)
class FigureMeaning:
    """What a figure is: ``key``, ``title``, unit ``kind`` (empty: it is not one number), ``what`` it says, by which ``model``, the
    heading of docs/theory.md that it stands under, its ``inputs`` (paths of the project, or ``library:NAME``), how to ``measure``
    it; the ``stage`` that it belongs to; for what a view shows, the computed figure that is ``near``."""

    key: str
    title: str
    what: str
    model: str
    theory: str
    inputs: tuple[str, ...]
    measure: str
    kind: str = ""
    stage: str = ""
    near: str = ""


def _read(key: str, row: Mapping[str, Any], stage: str = "") -> FigureMeaning:
    missing = [name for name in _MUST if not row.get(name)]
    unknown = set(row) - {*_MUST, "kind", "stage", "near"}
    if missing or unknown:
        raise LibraryDataError(
            f"figure {key}: missing {', '.join(missing) or '–'}; unknown {', '.join(unknown) or '–'}"
        )
    given = {name: row[name] for name in ("title", "what", "model", "theory", "measure")}
    return FigureMeaning(
        key, **given, inputs=tuple(row["inputs"]), kind=row.get("kind", ""), stage=stage or row.get("stage", ""),
        near=row.get("near", ""),
    )  # fmt: skip


@cache
def figure_meanings() -> Mapping[str, FigureMeaning]:
    """All figures by key: the computed ones, then those of the views as ``STAGE.VIEW``. Raises LibraryDataError."""
    text = resources.files("mandorla.data").joinpath("figures.toml").read_text(encoding="utf-8")
    data = tomllib.loads(text)
    found = {key: _read(key, row) for key, row in data["figure"].items()}
    for stage, views in data["view"].items():
        for view, row in views.items():
            found[f"{stage}.{view}"] = _read(f"{stage}.{view}", row, stage)
    for meaning in found.values():
        if meaning.near and meaning.near not in data["figure"]:
            raise LibraryDataError(f"figure {meaning.key}: there is no figure {meaning.near!r}")
    return found


def key_of_way(way: str) -> str:
    """The figure that a way to fail is explained by."""
    return _OF_WAYS.get(way, WAY + way)


def meaning_of_figure(key: str) -> FigureMeaning:
    """What a figure is. Raises InputError naming the keys that exist."""
    known = figure_meanings()
    if key in known:
        return known[key]
    if key.startswith(WAY):
        return FigureMeaning(
            key, "Chance of this way to fail",
            "How likely this happens with these settings, by itself.",
            "The margin over its spread, by the normal distribution; a single rating fails when its temperature passes it.",
            "8. Operating window", ("criteria.risk", "settings.bed_first", "settings.bed_rest", "settings.chamber"),
            "What the view Probability of failure names beside each unknown.", "chance", "warp",
        )  # fmt: skip
    raise InputError(
        f"There is no figure “{key[:60]}”.",
        problems=(Problem("KEY", f"“{key[:60]}”", "one of " + ", ".join(sorted(known))),),
    )
