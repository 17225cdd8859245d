"""The whole machine as data: room, bed, chamber and limits. SI and kelvin."""

from __future__ import annotations

from typing import Self

import numpy as np
from pydantic import Field, model_validator

from mandorla.core.model_base import Model
from mandorla.core.quantity_field import quantity
from mandorla.core.rig.backup import Backup
from mandorla.core.rig.bed import Bed
from mandorla.core.rig.chamber import Chamber
from mandorla.core.rig.consumers import Plug
from mandorla.core.rig.fitted import Corrections, Fitted
from mandorla.core.rig.prices import Price
from mandorla.core.rig.room import Room
from mandorla.core.rig.start import SWAPPED, Start


class Limits(Model):
    """What the machine may be asked for, and what its supply stands."""

    bed_max: float = quantity("temperature", 300.0, 700.0, "Bed set point limit", default=393.15)
    chamber_max: float = quantity("temperature", 290.0, 600.0, "Chamber limit", default=343.15)
    supply_power: float = quantity("power", 10.0, 50000.0, "Supply limit", default=3000.0)
    breaker: float = quantity("current", 0.5, 125.0, "Breaker", default=16.0)
    mains_voltage: float = quantity("voltage", 90.0, 480.0, "Mains voltage", default=230.0)
    low_voltage_supply: float = quantity("power", 0.0, 20000.0, "Low-voltage supply", default=0.0)
    print_width: float = quantity("large_length", 0.0, 3.0, "Printable width, 0: the bed's", default=0.0)
    print_depth: float = quantity("large_length", 0.0, 3.0, "Printable depth, 0: the bed's", default=0.0)
    guide_width: float = quantity("large_length", 0.0, 3.0, "Room between guides, 0: not known", default=0.0)
    drive_force: float = quantity("force", 0.0, 5000.0, "Drive moves the bed with, 0: not known", default=0.0)
    insists: bool = Field(default=False, title="Insists on a target for the bed")
    shares: bool = Field(default=False, title="Controller keeps its heaters within the supply's limit")
    layer_margin: float = quantity("temperature_difference", 0.0, 50.0, "Margin below ratings", default=10.0)


class Rig(Model):
    """The whole machine."""

    name: str = Field(min_length=1, max_length=80, title="Name")
    room_temperature: float = quantity("temperature", 223.15, 333.15, "Room temperature", default=295.15)
    room: Room = Room()
    draft: float = quantity("air_speed", 0.0, 10.0, "Draft over an open bed", default=0.05)
    side_fans: float = quantity("air_speed", 0.0, 10.0, "Side fans, full, over the part", default=0.0)
    start: Start = Start()
    prices: tuple[Price, ...] = Field(default=(), max_length=80)
    bed: Bed
    chamber: Chamber = Chamber()
    limits: Limits = Limits()
    plug: Plug = Plug()
    backup: Backup = Backup()
    corrections: Corrections = Corrections()
    fitted: Fitted | None = Field(default=None, title="Fitted to measurements")

    @model_validator(mode="after")
    def _bed_fits(self) -> Self:
        c = self.chamber
        if c.enclosed and (self.bed.width > c.width or self.bed.depth > c.depth):
            raise ValueError(
                f"the bed ({1e3 * self.bed.width:.0f} × {1e3 * self.bed.depth:.0f} mm) does not fit into the chamber "
                f"({1e3 * c.width:.0f} × {1e3 * c.depth:.0f} mm)"
            )
        if self.start.kind == SWAPPED and self.bed.loose_plate is None:
            raise ValueError("no plate lies loose on this bed: none can be swapped between two jobs")
        return self

    @property
    def printable(self) -> tuple[float, float]:
        """Width and depth (m) of what the nozzle reaches, about the bed's middle."""
        w, d = self.limits.print_width, self.limits.print_depth
        return (
            min(w, self.bed.width) if w > 0.0 else self.bed.width,
            min(d, self.bed.depth) if d > 0.0 else self.bed.depth,
        )

    @property
    def start_temperature(self) -> float:
        """Temperature (K) of the cold machine: that of the room at the start."""
        return float(self.room.course(self.room_temperature, np.zeros(1))[0])

    @property
    def heats_chamber(self) -> bool:
        """Whether the machine can choose its chamber temperature."""
        return self.chamber.enclosed and self.chamber.heater_power > 0.0
