"""The room around the machine: constant, swinging over the day, or from a log; what blows into it from time to time."""

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

    cooler: bool = Field(default=False, title="An air conditioner blows at times")
    cooler_colder: float = quantity("temperature_difference", 0.0, 30.0, "Its air is colder by", default=5.0)
    cooler_speed: float = quantity("air_speed", 0.0, 10.0, "Its air speed over an open bed", default=0.3)
    cooler_every: float = quantity("duration", 120.0, DAY, "It blows every", default=1800.0)
    cooler_for: float = quantity("duration", 60.0, DAY, "It blows for", default=600.0)

    @model_validator(mode="after")
    def _log_in_order(self) -> Self:
        times = [t for t, _ in self.log]
        if any(b <= a for a, b in pairwise(times)):
            raise ValueError("the times of the room's log must increase")
        if any(not 200.0 < T < 350.0 for _, T in self.log):
            raise ValueError("the room's log holds temperatures that no room has")
        if self.kind == "log" and len(self.log) < 2:
            raise ValueError("a room from a log needs a log of two readings or more")
        if self.cooler_for > self.cooler_every:
            raise ValueError("an air conditioner cannot blow for longer than the time from one blow to the next")
        return self

    def blowing(self, times: NDArray[np.float64], steps: NDArray[np.float64] | float = 0.0) -> NDArray[np.float64]:
        """Share (m,) of the steps (s) that end at ``times`` (m,) s during which the air conditioner blows: at the end of each
        period."""
        if not self.cooler:
            return np.zeros(times.shape)
        every, silent = self.cooler_every, self.cooler_every - self.cooler_for

        def blown(t: NDArray[np.float64]) -> NDArray[np.float64]:
            return np.asarray(np.floor(t / every) * self.cooler_for + np.maximum(np.mod(t, every) - silent, 0.0))

        begun = np.maximum(times - np.maximum(np.asarray(steps, dtype=np.float64), 1e-3), 0.0)
        width = np.maximum(times - begun, 1e-9)  # nothing blows before the start
        return np.asarray(np.clip((blown(times) - blown(begun)) / width, 0.0, 1.0))

    @property
    def known_until(self) -> float:
        """How far (s from the start) the room's course is known: a log ends, everything else goes on."""
        return self.log[-1][0] if self.kind == "log" else math.inf

    def course(
        self, mean: float, times: NDArray[np.float64], steps: NDArray[np.float64] | float = 0.0
    ) -> NDArray[np.float64]:
        """Temperature (m,) in K of the air that reaches the machine at ``times`` (m,) s from the start, over the ``steps`` (s) that
        end there; ``mean`` K is the rig's room temperature."""
        return self._room(mean, times) - self.cooler_colder * self.blowing(times, steps)

    def _room(self, mean: float, times: NDArray[np.float64]) -> NDArray[np.float64]:
        if self.kind == "log":
            known = np.array(self.log)
            return np.asarray(np.interp(times, known[:, 0], known[:, 1]))
        if self.kind == "daily":
            phase = 2.0 * math.pi * (self.start + times - self.warmest) / DAY
            return np.asarray(mean + self.swing * np.cos(phase))
        return np.full(times.shape, mean)
