"""A full simulation as a map keeps it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from mandorla.core.failure.state import State
from mandorla.core.rig.settings import Settings


@dataclass(frozen=True, slots=True)
class SimulatedPoint:
    """A full simulation at some ``settings``: the ``state`` it found, and by how much it is off the quick margins, ln by way."""

    settings: Settings
    state: State
    off: Mapping[str, float]
