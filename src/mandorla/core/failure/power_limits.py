"""What the heaters ask for against what supply and breaker stand: for the judgement and for the checks of a rig alike."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

from mandorla.core.failure.state import LimitCheck, grade_low
from mandorla.core.rig.bed import REFERENCE
from mandorla.core.rig.consumers import Doing, at_plug, drawn
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Settings

if TYPE_CHECKING:  # the numerics load late
    from mandorla.core.thermal.steady import SteadyState

CONTINUOUS: Final = 0.8  # of a breaker's or a supply's rating that may run for hours


def asked_bed_power(rig: Rig) -> float:
    """What the bed's heater (W) takes at most: full and cold."""
    heater = rig.bed.heater
    cold = 1.0 + heater.resistance_coefficient * (rig.start_temperature - REFERENCE)
    return heater.power * rig.bed.control.power_limit / cold


def asked_power(rig: Rig, settings: Settings) -> tuple[float, float]:
    """What the bed's and the chamber's heater (W) take at most."""
    heats = rig.heats_chamber and settings.chamber > rig.start_temperature
    return asked_bed_power(rig), rig.chamber.heater_power if heats else 0.0


def low_voltage_check(rig: Rig) -> LimitCheck | None:
    """The bed at full, cold, against its low-voltage supply; None on mains, or where no such supply is stated."""
    most, heater = rig.limits.low_voltage_supply, rig.bed.heater
    if heater.mains or most <= 0.0:
        return None
    bed = asked_bed_power(rig)
    state = grade_low(bed, CONTINUOUS * most, most)
    return LimitCheck("Low-voltage supply", "power", bed, most, state, "the bed at full")


def mains_checks(rig: Rig, settings: Settings, steady: SteadyState) -> tuple[LimitCheck, ...]:
    """Supply and breaker against what is asked of them at once; the breaker also against what the ``steady`` state takes for hours.

    A supply that is asked for more than it has shuts down, and a breaker opens; only where the controller is said to keep its
    heaters within the supply's limit do they get less instead."""
    limits = rig.limits
    bed, chamber = asked_power(rig, settings)
    most = limits.supply_power
    if limits.shares:  # the bed first
        bed = min(bed, most)
        chamber = min(chamber, most - bed)
    both = bed + chamber
    machine = max(drawn(rig, Doing.WARM_UP), drawn(rig, Doing.PRINT))

    def current(heat: float, chamber_heat: float) -> float:
        return float(at_plug(rig, heat, chamber_heat) + machine) / limits.mains_voltage

    peak, held = current(bed, chamber), current(steady.power, max(steady.chamber_power, 0.0))
    # a short warm-up may use all of a breaker; what runs for hours may not
    state = grade_low(max(peak, held / CONTINUOUS), limits.breaker, limits.breaker)
    return (
        LimitCheck("Supply", "power", both, most, grade_low(both, most, most), "the heaters at full"),
        LimitCheck("Breaker", "current", peak, limits.breaker, state, "bed, chamber heater and machine at once"),
    )


def power_checks(rig: Rig, settings: Settings, steady: SteadyState) -> tuple[LimitCheck, ...]:
    """Everything that the heaters' power is checked against."""
    low = low_voltage_check(rig)
    return (*mains_checks(rig, settings, steady), *((low,) if low is not None else ()))
