"""Facts about a machine as they come from a person."""

from __future__ import annotations

from typing import Any

from mandorla.core.project.models import build
from mandorla.core.rig.archetypes import Facts


def facts_of(values: dict[str, Any]) -> Facts:
    """Facts from values. Raises :class:`InputError` with everything that is wrong."""
    found = build(Facts, values, "machine")
    assert isinstance(found, Facts)
    return found
