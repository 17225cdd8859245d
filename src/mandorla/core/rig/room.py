"""The room around the machine: constant, swinging over the day, or from a log."""

from __future__ import annotations

import math
from itertools import pairwise
from typing import Literal, Self

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from mandorla.core.model_base import Model
from mandorla.core.quantity_field import quantity

DAY = 86400.0  # s


class Room(Model):
    """Course of the room's temperature about the rig's room temperature, and a cold draft on an open bed.

    ``swing`` is half of the daily range; ``log`` holds (s from the start, K) and is extended by its ends.
    """

    kind: Literal["constant", "daily", "log"] = Field(default="constant", title="Room temperature is")
    swing: float = quantity("temperature_difference", 0.0, 30.0, "Swings by ±", default=3.0)
    warmest: float = quantity("clock", 0.0, DAY, "Warmest at", default=15 * 3600.0)
    start: float = quantity("clock", 0.0, DAY, "Heat-up starts at", default=7 * 3600.0)
    log: tuple[tuple[float, float], ...] = Field(default=(), max_length=20000)
    log_name: str = Field(default="", max_length=120, title="Log")
    draft_cooler: float = quantity("temperature_difference", 0.0, 30.0, "Draft is colder by", default=0.0)
    draft_from: Literal["around", "left", "right", "front", "back"] = Field(default="around", title="Draft comes from")

    @model_validator(mode="after")
    def _log_in_order(self) -> Self:
        times = [t for t, _ in self.log]
        if any(b <= a for a, b in pairwise(times)):
            raise ValueError("the times of the room's log must increase")
        if any(not 200.0 < T < 350.0 for _, T in self.log):
            raise ValueError("the room's log holds temperatures that no room has")
        if self.kind == "log" and len(self.log) < 2:
            raise ValueError("a room from a log needs a log of two readings or more")
        return self

    def course(self, mean: float, times: NDArray[np.float64]) -> NDArray[np.float64]:
        """Room temperature (m,) in K at ``times`` (m,) s from the start; ``mean`` K is the rig's room temperature."""
        if self.kind == "log":
            known = np.array(self.log)
            return np.asarray(np.interp(times, known[:, 0], known[:, 1]))
        if self.kind == "daily":
            phase = 2.0 * math.pi * (self.start + times - self.warmest) / DAY
            return np.asarray(mean + self.swing * np.cos(phase))
        return np.full(times.shape, mean)
