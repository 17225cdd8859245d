"""What electricity, filament and machine hours cost, and how many machines share a supply. SI; money in the project's currency."""

from __future__ import annotations

from typing import Final, Self

from pydantic import Field, model_validator

from mandorla.core.model_base import Model
from mandorla.core.quantity_field import quantity

DAY: Final = 86400.0
_NEAR: Final = 1.0  # s


class TariffBand(Model):
    """A price (per J) between two times of the day (s after midnight); one that ends before it starts runs over midnight."""

    starts: float = quantity("clock", 0.0, DAY, "From")
    ends: float = quantity("clock", 0.0, DAY, "To")
    price: float = quantity("price", -1.0 / 3.6e6, 5.0 / 3.6e6, "Price")


class Tariff(Model):
    """Prices by time of day (none: the flat one), what the highest quarter of an hour costs a month (per W), carbon dioxide (kg/J),
    the time of day (s) at which a job is switched on."""

    bands: tuple[TariffBand, ...] = Field(default=(), max_length=8)
    demand: float = quantity("demand_price", 0.0, 0.2, "Demand charge, a month", default=0.0)
    carbon: float = quantity("carbon", 0.0, 2.0 / 3.6e6, "Carbon dioxide", default=0.35 / 3.6e6)
    starts_at: float = quantity("clock", 0.0, DAY, "Jobs are switched on at", default=8 * 3600.0)

    @model_validator(mode="after")
    def _whole_day(self) -> Self:
        """Every moment of the day has one price."""
        if not self.bands:
            return self
        pieces = sorted(p for b in self.bands for p in _pieces(b))
        at = 0.0
        for start, end in pieces:
            if start > at + _NEAR:
                raise ValueError(f"there is no price from {_clock(at)} to {_clock(start)}")
            if start < at - _NEAR:
                raise ValueError(f"there are two prices from {_clock(start)} to {_clock(min(at, end))}")
            at = end
        if at < DAY - _NEAR:
            raise ValueError(f"there is no price from {_clock(at)} to 24:00")
        return self

    def price_at(self, clock: float, flat: float) -> float:
        """The price (per J) at a time of day (s)."""
        at = clock % DAY
        return next((b.price for b in self.bands for s, e in _pieces(b) if s <= at < e), flat)

    @property
    def changes(self) -> tuple[float, ...]:
        """The times of the day (s) at which the price changes."""
        return tuple(sorted({0.0, *(s for b in self.bands for s, _ in _pieces(b))}))


def _pieces(b: TariffBand) -> list[tuple[float, float]]:
    if b.starts < b.ends:
        return [(b.starts, b.ends)]
    if b.starts == b.ends:
        return [(0.0, DAY)]
    return [p for p in ((b.starts, DAY), (0.0, b.ends)) if p[1] > p[0]]


def _clock(seconds: float) -> str:
    minutes = round(seconds / 60.0)
    return f"{minutes // 60:02d}:{minutes % 60:02d}"


class Costs(Model):
    """What a job costs besides its energy: filament (per kg) and an hour of the machine (per s); jobs in a year."""

    filament: float = quantity("mass_price", 0.0, 1000.0, "Filament", default=25.0)
    hour: float = quantity("hour_price", 0.0, 1.0, "Machine and care", default=0.0)
    jobs: float = quantity("count", 1.0, 100000.0, "Jobs a year", default=200.0)


class Farm(Model):
    """Machines alike on one breaker that are switched on together."""

    machines: int = Field(default=1, ge=1, le=60, title="Machines alike")
    breaker: float = quantity("current", 1.0, 400.0, "Their breaker", default=16.0)
    latest: float = quantity("duration", 0.0, 86400.0, "The last one is switched on within", default=4 * 3600.0)
