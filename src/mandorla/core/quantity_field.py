"""Fields that carry their physical kind and limits, so that every edge can show, parse and refuse them alike."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from pydantic import Field
from pydantic.fields import FieldInfo


@dataclass(frozen=True, slots=True)
class FieldMeaning:
    """What a numeric field is: its kind (see units.KINDS), SI limits, step in display units and its title."""

    kind: str
    low: float
    high: float
    title: str


def quantity(kind: str, low: float, high: float, title: str, *, default: Any = ...) -> Any:
    """A pydantic number with a kind and SI limits (inclusive)."""
    return Field(default, ge=low, le=high, title=title, json_schema_extra={"kind": kind})


def meaning_of(info: FieldInfo, name: str) -> FieldMeaning | None:
    """The meaning of a pydantic field made by :func:`quantity`, or None for other fields."""
    extra = info.json_schema_extra
    if not isinstance(extra, dict) or "kind" not in extra:
        return None
    low = next(float(m.ge) for m in info.metadata if hasattr(m, "ge"))
    high = next(float(m.le) for m in info.metadata if hasattr(m, "le"))
    return FieldMeaning(str(extra["kind"]), low, high, info.title or name)
