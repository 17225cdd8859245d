"""A full simulation as a map keeps it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from mandorla.core.failure.state import State
from mandorla.core.rig.settings import Settings


@dataclass(frozen=True, slots=True)
class SimulatedPoint:
    """A full simulation at some ``settings``: the ``state`` it found, by how much it is ``off`` the quick margins, ln by way, and
    the ``order`` of its judgement among others, the likeliest to hold first."""

    settings: Settings
    state: State
    off: Mapping[str, float]
    order: tuple[bool, float, float] = (True, 1.0, 0.0)
