"""What differs between two states of a project, in words: before somebody brings one back, or asks what a copy holds."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from pydantic import BaseModel

from mandorla.core.project.models import Project
from mandorla.core.quantity_field import meaning_of
from mandorla.core.units import METRIC, UnitPreferences, show


def _text(kind: str, value: Any, prefs: UnitPreferences) -> str:
    if value is None:
        return "none"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int | float):
        return show(float(value), kind, prefs) if kind else f"{value:g}"
    if isinstance(value, str):
        return f"“{value[:40]}”"
    if isinstance(value, tuple):
        return f"{len(value)} entries"
    name = getattr(value, "name", "")
    return f"“{str(name)[:40]}”" if name else "there"


def _walk(before: Any, after: Any, place: str, prefs: UnitPreferences) -> Iterator[str]:
    for name, info in type(after).model_fields.items():
        old, new = getattr(before, name), getattr(after, name)
        if old == new:
            continue
        meaning = meaning_of(info, name)
        title = meaning.title if meaning is not None else info.title or name.replace("_", " ").capitalize()
        here = f"{place}{title}"
        if isinstance(new, BaseModel) and type(old) is type(new):
            yield from _walk(
                old, new, "" if not place and name in ("settings", "process", "criteria") else f"{here}, ", prefs
            )
        elif isinstance(new, tuple) and isinstance(old, tuple) and len(old) == len(new):
            for n, (one, other) in enumerate(zip(old, new, strict=True), start=1):
                if isinstance(other, BaseModel) and type(one) is type(other) and one != other:
                    label = str(getattr(other, "name", "") or n)
                    yield from _walk(one, other, f"{here} {label}, ", prefs)
                elif one != other:
                    yield f"{here} {n}: changed"
        else:
            kind = meaning.kind if meaning is not None else ""
            yield f"{here}: {_text(kind, old, prefs)} → {_text(kind, new, prefs)}"


def changes(before: Project, after: Project, prefs: UnitPreferences = METRIC) -> tuple[str, ...]:
    """Every field that differs, a line each: where, what it was, what it is (in the units that are liked)."""
    return tuple(_walk(before, after, "", prefs))
