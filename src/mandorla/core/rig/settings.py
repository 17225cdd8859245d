"""The five thermal settings that are tuned, and the criteria a result is judged by."""

from __future__ import annotations

from typing import Final, Literal

from pydantic import Field

from mandorla.core.model_base import Model
from mandorla.core.quantity_field import quantity
from mandorla.core.rig.tariff import Costs, Farm, Tariff
from mandorla.core.units import OFF

CONSOLE: Final = ("bed_first", "bed_rest", "chamber", "soak_time", "fan")


class Settings(Model):
    """The five settings of the console (K, s, 1), and the side fans.

    A bed at ``OFF`` is not heated; ``chamber`` is ignored by a rig without a chamber heater, ``side_fan`` by one without side fans.
    """

    bed_first: float = quantity("set_point", OFF, 650.0, "Bed, first layers", default=378.15)
    bed_rest: float = quantity("set_point", OFF, 650.0, "Bed, rest", default=373.15)
    chamber: float = quantity("temperature", 288.15, 550.0, "Chamber", default=333.15)
    soak_time: float = quantity("duration", 0.0, 36000.0, "Soak", default=600.0)
    fan: float = quantity("fraction", 0.0, 1.0, "Part fan", default=0.0)
    side_fan: float = quantity("fraction", 0.0, 1.0, "Side fans", default=0.0)

    @property
    def hotter_first(self) -> float:
        """How much hotter (K) the bed is set for the first layers than for the rest; nought where it is off for either."""
        return 0.0 if OFF in (self.bed_first, self.bed_rest) else self.bed_first - self.bed_rest

    def moves(self, present: Settings) -> dict[str, tuple[float, float]]:
        """Every setting of the console in which these differ from the ``present`` ones: old and new in SI."""
        return {
            name: (old, new)
            for name in CONSOLE
            if abs((new := getattr(self, name)) - (old := getattr(present, name))) > 1e-6
        }

    def arguments(self, present: Settings) -> tuple[str, ...]:
        """The moves from the ``present`` ones as ``--set`` arguments of the command line, SI."""
        return tuple(f"--set settings.{name}={new:g}" for name, (_, new) in self.moves(present).items())


class ProgramStep(Model):
    """One step of a set-point program: hold for a time, or wait until the bed is ready and then hold (K, s)."""

    bed: float = quantity("set_point", OFF, 650.0, "Bed")
    chamber: float = quantity("temperature", 288.15, 550.0, "Chamber", default=333.15)
    wait: Literal["time", "ready"] = Field(default="time", title="Goes on")
    hold: float = quantity("duration", 0.0, 86400.0, "Hold", default=600.0)


class Criteria(Model):
    """When something counts as ready, flat or cheap, and what it costs."""

    ready_band: float = quantity("temperature_difference", 0.2, 20.0, "Ready within", default=1.0)
    ready_drift: float = quantity("drift", 0.01 / 60, 5.0 / 60, "Ready below drift", default=0.2 / 60)
    surface_wanted: float = quantity("temperature", 288.15, 650.0, "Surface wanted", default=368.15)
    lift_limit: float = quantity("length", 0.00005, 0.05, "Lift accepted", default=0.0005)
    risk: float = quantity("fraction", 0.001, 0.5, "Chance of failing accepted", default=0.10)
    from_prints: bool = Field(default=True, title="Predict from the logbook's prints")
    taken_off: float = quantity("duration", 0.0, 30 * 86400.0, "Idle until taken off", default=3600.0)
    price: float = quantity("price", 0.0, 5.0 / 3.6e6, "Electricity price", default=0.30 / 3.6e6)
    tariff: Tariff = Tariff()
    costs: Costs = Costs()
    farm: Farm = Farm()
    currency: str = Field(default="€", min_length=1, max_length=6, title="Currency")
