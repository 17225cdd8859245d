"""Energy and cost of one print: warm-up, soak and print."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class EnergyUse:
    """Energies in J (heaters and ``melt``: what the nozzle puts into the polymer), mean electrical power while printing in W,
    cost in the currency of the price."""

    warm_up: float
    soak: float
    printing: float
    power: float
    cost: float
    melt: float = 0.0

    @property
    def total(self) -> float:
        """Whole energy in J."""
        return self.warm_up + self.soak + self.printing + self.melt


def energy_use(
    to_ready: float, to_start: float, power: float, duration: float, price: float, melt: float = 0.0
) -> EnergyUse:
    """From cumulative heat-up energy at ready and at the start (J), steady power (W), print duration (s), price (per J), and
    the heat (J) that melts the polymer; the hot end's own losses are not part of it."""
    printing = power * duration
    return EnergyUse(to_ready, to_start - to_ready, printing, power, (to_start + printing + melt) * price, melt)


def melt_energy(mass: float, specific_heat: float, nozzle: float, room: float) -> float:
    """Heat (J) that takes a mass (kg) of polymer from the room to the nozzle's temperature (K)."""
    return max(0.0, mass * specific_heat * (nozzle - room))
