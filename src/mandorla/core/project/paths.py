"""Edits by path: ``rig.bed.layers.0.thickness`` = 0.006, checked against the field's kind and limits."""

from __future__ import annotations

import json
import math
import re
import shlex
from collections.abc import Mapping
from typing import Any

from pydantic import BaseModel

from mandorla.core.errors import InputError, Problem
from mandorla.core.project.models import Project, build
from mandorla.core.quantity_field import FieldMeaning, meaning_of
from mandorla.core.units import KINDS, METRIC, UnitPreferences, parse_quantity, show

_JSON = re.compile(r"\s*(\[|\{|null\s*$)")


def _unknown(path: str, name: str, known: list[str]) -> InputError:
    return InputError(
        f"There is no “{name}” at “{path}”.", problems=(Problem(path, f"“{name}”", "one of " + ", ".join(known)),)
    )


def get_value(project: Project, path: str) -> Any:
    """The value at a path. Raises :class:`InputError` naming what exists there."""
    here: Any = project
    for name in path.split("."):
        here = _step(here, name, path)
    return here


def _step(here: Any, name: str, path: str) -> Any:
    if isinstance(here, tuple):
        if not name.isdigit() or int(name) >= len(here):
            raise _unknown(path, name, [str(i) for i in range(len(here))])
        return here[int(name)]
    if isinstance(here, BaseModel):
        if name not in type(here).model_fields:
            raise _unknown(path, name, list(type(here).model_fields))
        return getattr(here, name)
    raise _unknown(path, name, ["nothing further"])


def meaning_at(project: Project, path: str) -> FieldMeaning | None:
    """The physical meaning of the field at a path, None for text, choices and switches."""
    parent_path, _, name = path.rpartition(".")
    parent = get_value(project, parent_path) if parent_path else project
    if not isinstance(parent, BaseModel):
        return None
    _step(parent, name, path)
    return meaning_of(type(parent).model_fields[name], name)


def _replaced(here: Any, names: list[str], value: Any, path: str) -> Any:
    name = names[0]
    child = _step(here, name, path)
    new = value if len(names) == 1 else _replaced(child, names[1:], value, path)
    if isinstance(here, tuple):
        index = int(name)
        return (*here[:index], new, *here[index + 1 :])
    data = {field: getattr(here, field) for field in type(here).model_fields}
    data[name] = new
    return data


def _plain(value: Any) -> Any:
    if isinstance(value, BaseModel):
        return value.model_dump()
    if isinstance(value, dict):
        return {k: _plain(v) for k, v in value.items()}
    if isinstance(value, tuple | list):
        return [_plain(v) for v in value]
    return value


def set_value(project: Project, path: str, value: Any) -> Project:
    """A new project with the SI value at the path. Raises :class:`InputError` and changes nothing when it is refused."""
    data = _plain(_replaced(project, path.split("."), value, path))
    try:
        changed = build(Project, data, path)
    except InputError as error:
        # a complaint about the whole that a value stands in is one about the value
        problems = tuple(Problem(path, repr(value)[:80], p.allowed) if p.value == "dict" else p for p in error.problems)
        raise InputError(error.message, problems=problems) from None
    assert isinstance(changed, Project)
    return changed


def parse_at(project: Project, path: str, text: str, prefs: UnitPreferences = METRIC, *, si: bool = False) -> Any:
    """Read typed text for the field at a path: quantities in the preferred unit (or bare SI), switches, choices, text; lists and
    groups of fields as JSON in SI units, ``null`` for none.

    Raises :class:`InputError` that says the value, the place and the range in the unit the user reads.
    """
    meaning = meaning_at(project, path)
    current = get_value(project, path)
    if meaning is None:
        if isinstance(current, bool):
            if text.strip().lower() not in ("true", "false", "yes", "no", "1", "0"):
                raise InputError(f"{path}: “{text}” is neither yes nor no.")
            return text.strip().lower() in ("true", "yes", "1")
        if isinstance(current, int):
            if not re.fullmatch(r"\s*[+-]?[0-9]{1,18}\s*", text):
                raise InputError(
                    f"{path}: “{text[:40]}” is not a whole number.",
                    problems=(Problem(path, f"“{text[:40]}”", "a whole number"),),
                )
            return int(text)
        return text if isinstance(current, str) or not _JSON.match(text) else _from_json(path, text)
    units = KINDS[meaning.kind]
    default = (
        next((u for u in units if u.scale == 1.0 and u.offset == 0.0), units[0]) if si else prefs.unit(meaning.kind)
    )
    value = parse_quantity(text, meaning.kind, default, meaning.title)
    if not meaning.low * (1 - 1e-12) - 1e-15 <= value <= meaning.high * (1 + 1e-12):
        low, high = (
            show(v, meaning.kind, prefs) if not si else f"{default.from_si(v):.6g} {default.symbol}".strip()
            for v in (meaning.low, meaning.high)
        )
        raise InputError(
            f"{meaning.title}: {text.strip()} is outside {low} to {high}.",
            problems=(Problem(path, text.strip(), f"{low} to {high}"),),
        )
    return min(max(value, meaning.low), meaning.high)


def _from_json(path: str, text: str) -> Any:
    """A list or a group of fields from JSON. Raises :class:`InputError`."""

    def refuse(word: str) -> float:
        raise ValueError(word)

    try:
        return json.loads(text, parse_constant=refuse)
    except (ValueError, RecursionError):
        raise InputError(
            f"{path}: “{text[:40]}” is not JSON.",
            problems=(Problem(path, f"“{text[:40]}”", "a list or a group as JSON"),),
        ) from None


def arguments_to(project: Project, changes: Mapping[str, object]) -> tuple[str, ...]:
    """The ``--set`` arguments of the command line (SI, nine digits, quoted for a shell) that change a project so, in its fields'
    order, lists that grow as JSON; none where no arguments can."""
    found: list[str] = []
    then = project
    try:
        for path, value in changes.items():
            found += _differences(get_value(project, path), value, path)
            then = set_value(then, path, value)
        now = project
        for argument in found:
            path, _, text = argument.partition("=")
            now = set_value(now, path, parse_at(now, path, text, si=True))
    except InputError:
        return ()
    return tuple(f"--set {shlex.quote(argument)}" for argument in found) if not _differences(now, then, "") else ()


def _differences(a: Any, b: Any, path: str) -> list[str]:
    """Where two values differ, as ``path=value``."""
    if isinstance(a, BaseModel) and type(a) is type(b):
        here = f"{path}." if path else ""
        return [d for n in type(a).model_fields for d in _differences(getattr(a, n), getattr(b, n), f"{here}{n}")]
    if isinstance(a, tuple) and isinstance(b, tuple) and len(a) == len(b):
        return [d for k, both in enumerate(zip(a, b, strict=True)) for d in _differences(*both, f"{path}.{k}")]
    if isinstance(a, float) and isinstance(b, float):
        return [] if math.isclose(a, b, rel_tol=1e-8) else [f"{path}={b:.9g}"]
    if isinstance(b, BaseModel | tuple) or b is None:
        return [] if a == b else [f"{path}={json.dumps(_plain(b), ensure_ascii=False)}"]
    return [] if a == b else [f"{path}={b}"]
