"""What a machine draws at the plug besides its heaters: consumers with their ranges and the states that they work in. SI units.

Figures that nobody stated are assumed by size and kind of the machine, and say so: orders of magnitude of small machines' drives,
controllers and fans, not checked against one machine.
"""

from __future__ import annotations

import math
from enum import StrEnum
from functools import lru_cache
from typing import TYPE_CHECKING, Any, Final, NamedTuple, Self

from pydantic import Field, model_validator

from mandorla.core.model_base import Model
from mandorla.core.quantity_field import quantity

if TYPE_CHECKING:
    from mandorla.core.rig.model import Rig


class Doing(StrEnum):
    """What the machine is doing; the values are the consumers' fields."""

    OFF = "off"
    IDLE = "idle"
    WARM_UP = "warm_up"
    SOAK = "soak"
    PRINT = "printing"
    COOL_DOWN = "cool_down"


DOING_NAMES: Final = {
    Doing.OFF: "off", Doing.IDLE: "idle", Doing.WARM_UP: "warm-up", Doing.SOAK: "soak", Doing.PRINT: "print",
    Doing.COOL_DOWN: "cool-down",
}  # fmt: skip
ASSUMED: Final = "assumed by size and kind"
STATED: Final = "stated"
FITTED: Final = "fitted to measurements"


class Spread(Model):
    """A figure between the ends of its 90 % range; what it is of, its field says."""

    low: float = quantity("ratio", 0.0, 1e5, "At least")
    typical: float = quantity("ratio", 0.0, 1e5, "Typically")
    high: float = quantity("ratio", 0.0, 1e5, "At most")

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        if not self.low <= self.typical <= self.high:
            raise ValueError("low, typical and high must rise in this order")
        return self

    def times(self, factor: float) -> Spread:
        """All three figures times a factor."""
        # a product is no figure that somebody typed: the limits of the fields are not its own
        return self.model_copy(update={n: factor * getattr(self, n) for n in ("low", "typical", "high")})


class Consumer(Model):
    """Something that draws power at the plug: its ``power_low``, ``power`` and ``power_high`` (W, 90 % range) while it works, the
    share of it in each state, which share it gives off ``inside`` the chamber, and how much of that to the ``upper`` air."""

    key: str = Field(min_length=1, max_length=60)
    name: str = Field(min_length=1, max_length=60, title="Name")
    power_low: float = quantity("power", 0.0, 20000.0, "At least")
    power: float = quantity("power", 0.0, 20000.0, "Draws")
    power_high: float = quantity("power", 0.0, 20000.0, "At most")
    off: float = quantity("fraction", 0.0, 1.0, "Switched off", default=0.0)
    idle: float = quantity("fraction", 0.0, 1.0, "Idle", default=0.0)
    warm_up: float = quantity("fraction", 0.0, 1.0, "Warm-up", default=0.0)
    soak: float = quantity("fraction", 0.0, 1.0, "Soak", default=0.0)
    printing: float = quantity("fraction", 0.0, 1.0, "Print", default=1.0)
    cool_down: float = quantity("fraction", 0.0, 1.0, "Cool-down", default=0.0)
    inside: float = quantity("fraction", 0.0, 1.0, "Heat inside the chamber", default=0.0)
    upper: float = quantity("fraction", 0.0, 1.0, "Of that, to the upper air", default=0.5)
    origin: str = Field(default=STATED, min_length=1, max_length=120, title="Comes from")

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        if not self.power_low <= self.power <= self.power_high:
            raise ValueError(f"“{self.name}” must draw at least, typically and at most rising figures")
        return self

    def share(self, doing: Doing) -> float:
        """The share of its power that it draws in a state."""
        return float(getattr(self, doing.value))

    def scaled(self, factor: float, within: float, origin: str) -> Consumer:
        """The same consumer drawing ``factor`` times as much, known to ``within`` a share of it."""
        power = self.power * factor
        return self.model_copy(
            update={
                "power": power, "power_low": power * (1.0 - within), "power_high": power * (1.0 + within), "origin": origin
            }
        )  # fmt: skip


class Plug(Model):
    """What the machine draws at the plug. ``consumers``, ``bed_supply`` and ``chamber_supply`` (share of the plug's power that
    becomes heat of that heater) that are not stated are assumed; ``hot_end`` is what the hot end loses (W/K over the air around
    it), drawn through a low-voltage supply, ``hot_end_inside`` the share of it that stays in the chamber."""

    consumers: tuple[Consumer, ...] | None = Field(default=None, max_length=24)
    bed_supply: Spread | None = None
    chamber_supply: Spread | None = None
    hot_end: Spread = Spread(low=0.05, typical=0.08, high=0.13)
    hot_end_inside: float = quantity("fraction", 0.0, 1.0, "Heat of the hot end inside", default=1.0)

    @model_validator(mode="after")
    def _sound(self) -> Self:
        for name in ("bed_supply", "chamber_supply"):
            supply = getattr(self, name)
            if supply is not None and not 0.3 <= supply.low <= supply.high <= 1.0:
                raise ValueError("the efficiency of a heater's supply lies between 30 and 100 %")
        keys = [c.key for c in self.consumers or ()]
        if len(set(keys)) < len(keys):
            raise ValueError("two consumers have the same key")
        return self


MAINS_SWITCH: Final = Spread(low=0.98, typical=0.99, high=1.0)  # a solid-state relay drops a volt or so
LOW_VOLTAGE: Final = Spread(low=0.82, typical=0.88, high=0.94)  # a switched supply from a third of its load on


def assumed_consumers(rig: Rig) -> tuple[Consumer, ...]:
    """What a machine of this size and kind usually has."""
    c = rig.chamber
    return _usual(
        math.sqrt(rig.bed.area), c.enclosed, c.circulation_flow > 0.0, c.exhaust_flow * c.exhaust_fraction > 0.0
    )


@lru_cache(maxsize=64)
def _usual(span: float, enclosed: bool, circulates: bool, exhausts: bool) -> tuple[Consumer, ...]:
    """The consumers of a machine by the root of its bed's area (m) and what its chamber has."""
    closed = 1.0 if enclosed else 0.0

    def consumer(key: str, name: str, power: float, inside: float, upper: float, **states: float) -> Consumer:
        return Consumer(
            key=key, name=name, power_low=0.6 * power, power=power, power_high=1.6 * power, inside=inside * closed, upper=upper,
            origin=ASSUMED, **states,
        )  # fmt: skip

    held = {"warm_up": 0.6, "soak": 0.6, "printing": 1.0}
    on = {"idle": 1.0, "warm_up": 1.0, "soak": 1.0, "printing": 1.0, "cool_down": 1.0}
    found = [
        consumer("electronics", "Controller and display", 10.0, 0.3, 0.0, off=0.05, **on),
        consumer("drives", "Motors and drives", 10.0 + 45.0 * span, 0.8, 0.5, **held),
        consumer("part_fans", "Part and hot-end fans", 5.0, 1.0, 1.0, printing=1.0),
        consumer("lights", "Lights", 4.0, 1.0, 1.0, **on),
    ]
    if enclosed and circulates:
        blown = {"warm_up": 1.0, "soak": 1.0, "printing": 1.0}
        found.append(consumer("circulation", "Circulation fan", 8.0, 1.0, 0.5, **blown))
    if enclosed and exhausts:
        found.append(
            consumer("exhaust", "Exhaust fan", 8.0, 0.0, 0.0, warm_up=1.0, soak=1.0, printing=1.0, cool_down=1.0)
        )
    return tuple(found)


def consumers_of(rig: Rig) -> tuple[Consumer, ...]:
    """The stated consumers, or the assumed ones."""
    return rig.plug.consumers if rig.plug.consumers is not None else assumed_consumers(rig)


def bed_supply(rig: Rig) -> Spread:
    """Share of the plug's power that becomes heat of the bed."""
    return rig.plug.bed_supply or (MAINS_SWITCH if rig.bed.heater.mains else LOW_VOLTAGE)


def chamber_supply(rig: Rig) -> Spread:
    """Share of the plug's power that becomes heat of the chamber's heater."""
    return rig.plug.chamber_supply or MAINS_SWITCH


def drawn(rig: Rig, doing: Doing) -> float:
    """Power (W) at the plug of all consumers but heaters and hot end in a state."""
    return sum(c.power * c.share(doing) for c in consumers_of(rig))


def at_plug(rig: Rig, bed: Any, chamber: Any) -> Any:
    """What heat or power of bed and chamber heater takes at the plug; numbers or arrays."""
    return bed / bed_supply(rig).typical + chamber / chamber_supply(rig).typical


class OwnHeat(NamedTuple):
    """What a machine's consumers give off inside its chamber in a state (W), to the ``lower`` and the ``upper`` air."""

    lower: float
    upper: float


def own_heat(rig: Rig, doing: Doing) -> OwnHeat:
    """What the consumers give off inside a closed chamber in a state; the hot end not counted."""
    lower = upper = 0.0
    for c in consumers_of(rig):
        heat = c.power * c.share(doing) * c.inside
        lower += heat * (1.0 - c.upper)
        upper += heat * c.upper
    return OwnHeat(lower, upper)


def own_heat_within(rig: Rig, doing: Doing) -> float:
    """How far the heat given off inside may lie off its typical figure, as a share of it (90 %): the consumers' ranges,
    independent."""
    heats = [(c, c.share(doing) * c.inside) for c in consumers_of(rig)]
    total = sum(c.power * share for c, share in heats)
    spread = math.sqrt(sum((0.5 * (c.power_high - c.power_low) * share) ** 2 for c, share in heats))
    return min(0.9, spread / total) if total > 0.0 else 0.0
