"""What the heaters ask for against what supply and breaker stand: for the judgement and for the checks of a rig alike."""

from __future__ import annotations

from typing import Final

from mandorla.core.failure.state import LimitCheck, grade_low
from mandorla.core.rig.bed import REFERENCE
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Settings

CONTINUOUS: Final = 0.8  # of a breaker's or a supply's rating that may run for hours
CONVERTED: Final = 0.88  # of mains power that a low-voltage supply gives its heater


def asked_power(rig: Rig, settings: Settings) -> tuple[float, float]:
    """What the bed's and the chamber's heater (W) take at most: both full, the bed's cold."""
    heater = rig.bed.heater
    cold = 1.0 + heater.resistance_coefficient * (rig.start_temperature - REFERENCE)
    bed = heater.power * rig.bed.control.power_limit / cold
    return bed, rig.chamber.heater_power if rig.heats_chamber and settings.chamber > rig.start_temperature else 0.0


def power_checks(rig: Rig, settings: Settings, held: float) -> tuple[LimitCheck, ...]:
    """Supply, breaker and low-voltage supply against what is asked of them; ``held`` W is what both heaters take for hours.

    A supply that is asked for more than it has shuts down or is throttled; either way the set points are not what was counted on.
    """
    limits, heater = rig.limits, rig.bed.heater
    bed, chamber = asked_power(rig, settings)
    both, most = bed + chamber, limits.supply_power
    checks = [LimitCheck("Supply", "power", both, most, grade_low(both, most, most), "the heaters at full")]
    if not heater.mains and limits.low_voltage_supply > 0.0:
        most = limits.low_voltage_supply
        checks.append(
            LimitCheck(
                "Low-voltage supply", "power", bed, most, grade_low(bed, CONTINUOUS * most, most), "the bed at full"
            )
        )

    def current(heat: float, chamber_heat: float) -> float:
        on_mains = heat if heater.mains else heat / CONVERTED
        machine = rig.chamber.machine_heat if rig.chamber.enclosed else 0.0
        return (on_mains + chamber_heat + machine) / limits.mains_voltage

    peak = current(bed, chamber)
    # a short warm-up may use all of a breaker; what runs for hours may not
    steady = current(max(held - chamber, 0.0), min(held, chamber))
    state = grade_low(max(peak, steady / CONTINUOUS), limits.breaker, limits.breaker)
    checks.append(
        LimitCheck("Breaker", "current", peak, limits.breaker, state, "bed, chamber heater and machine at once")
    )
    return tuple(checks)
