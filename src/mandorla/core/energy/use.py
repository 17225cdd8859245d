"""Energy and cost of one print: warm-up, soak and print."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class EnergyUse:
    """Energies in J (heaters only), mean electrical power while printing in W, cost in the currency of the price."""

    warm_up: float
    soak: float
    printing: float
    power: float
    cost: float

    @property
    def total(self) -> float:
        """Whole energy in J."""
        return self.warm_up + self.soak + self.printing


def energy_use(to_ready: float, to_start: float, power: float, duration: float, price: float) -> EnergyUse:
    """From cumulative heat-up energy at ready and at the start (J), steady power (W), print duration (s), price (per J)."""
    printing = power * duration
    return EnergyUse(to_ready, to_start - to_ready, printing, power, (to_start + printing) * price)
