"""Facts about a machine as they come from a person."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Final

from mandorla.core.project.models import build
from mandorla.core.quantity_field import meaning_of
from mandorla.core.rig.archetypes import USUAL, Assumption, Facts
from mandorla.core.units import show

# where a fact stands in the project
_PATHS: Final = {
    "width": "rig.bed.width", "depth": "rig.bed.depth", "plate": "rig.bed.layers", "bed_max": "rig.limits.bed_max",
    "chamber_heater": "rig.chamber.heater_power", "chamber_max": "rig.limits.chamber_max",
}  # fmt: skip


def unstated(facts: Facts, values: Mapping[str, Any]) -> tuple[Assumption, ...]:
    """What was taken as usual for the kind because it was not among the values that somebody stated or a log has told."""
    found = []
    for name in USUAL[facts.kind]:
        meaning = meaning_of(Facts.model_fields[name], name)
        if name in values or meaning is None:
            continue
        title = f"{meaning.title[0].lower()}{meaning.title[1:]}"
        found.append(
            Assumption(_PATHS[name], f"{title} {show(getattr(facts, name), meaning.kind)}", "usual for its kind")
        )
    return tuple(found)


def facts_of(values: dict[str, Any]) -> Facts:
    """Facts from values; those that are not stated are usual for the kind. Raises :class:`InputError` with everything that is
    wrong."""
    kind = values.get("kind", Facts.model_fields["kind"].default)
    usual = next((facts for known, facts in USUAL.items() if known == kind), {})  # another kind is refused below
    found = build(Facts, {**usual, **values}, "machine")
    assert isinstance(found, Facts)
    return found
