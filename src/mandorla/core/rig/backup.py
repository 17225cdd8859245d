"""A battery or a generator that the machine may have to run on. SI units and kelvin."""

from __future__ import annotations

from typing import Literal, Self

from pydantic import Field, model_validator

from mandorla.core.model_base import Model
from mandorla.core.quantity_field import quantity


class Backup(Model):
    """What takes over when the mains are not there: its ``capacity`` (J; a generator's: what a tank gives), the ``usable`` share of
    it, the converter's ``efficiency`` and ``own`` draw (W), the ``most`` it gives (W), how cold it stands."""

    kind: Literal["none", "battery", "generator"] = Field(default="none", title="Kind")
    chemistry: Literal["lithium", "lead"] = Field(default="lithium", title="Battery")
    capacity: float = quantity("energy", 0.0, 1e10, "Capacity", default=2.0 * 3.6e6)
    usable: float = quantity("fraction", 0.1, 1.0, "Usable share", default=0.85)
    efficiency: float = quantity("fraction", 0.3, 1.0, "Converter's efficiency", default=0.90)
    own: float = quantity("power", 0.0, 500.0, "Converter draws by itself", default=12.0)
    most: float = quantity("power", 0.0, 100000.0, "Gives at most", default=1500.0)
    temperature: float = quantity("temperature", 233.15, 333.15, "It stands at", default=293.15)
    takes_over: Literal["start", "print"] = Field(default="print", title="It takes over")

    @model_validator(mode="after")
    def _gives_something(self) -> Self:
        if self.kind != "none" and self.capacity <= 0.0:
            raise ValueError(
                "a battery or tank of no capacity runs nothing: state what it holds, or that there is none"
            )
        return self
