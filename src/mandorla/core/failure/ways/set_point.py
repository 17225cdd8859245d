"""Set points that are never met: a fuse that opens, the bed's heater too weak or not needed, the chamber's heater too weak."""

from __future__ import annotations

import math

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.registry import QUICK, Assessment, way_to_fail
from mandorla.core.failure.state import LimitCheck, State, worst
from mandorla.core.units import OFF, show, show_moment

SHORT = 1.0  # K below its set point from which a chamber counts as not reached


@way_to_fail("fuse_trip", "Fuse opens in normal use", order=25)
def fuse_trip(case: FailureCase) -> Assessment | None:
    """A thermal fuse that opens in the warm-up without any fault: the bed stays cold for good."""
    if not case.heat.trips:
        return None
    trip = case.heat.trips[0]
    reason = f"it opens after {show_moment(trip.time)} of the warm-up, without any fault"
    check = LimitCheck(f"Fuse on {trip.layer}", "temperature", trip.rating, trip.rating, State.FAILS, reason)
    return Assessment(
        State.FAILS, -1.0, {}, QUICK, "the bed goes cold and stays cold until the fuse is replaced",
        levers=("fuse", "power", "bed_first"), checks=(check,),
    )  # fmt: skip


@way_to_fail("bed_set_point", "Bed not at its set point", order=30)
def bed_set_point(case: FailureCase) -> Assessment | None:
    """The sensor's reading at the end against the first layers' set point; a plate warmer without any heating is marginal."""
    heat = case.heat
    if heat.steady.reachable:
        return None
    reading = float(heat.reading[-1])
    if not heat.short_of_power:
        if case.settings.bed_first <= OFF:
            return None  # a bed that is off is where it is meant to be
        reason = f"no heating is needed: with the heater off the sensor shows {show(reading, 'temperature')}"
        check = LimitCheck("Bed set point", "temperature", reading, case.settings.bed_first, State.MARGINAL, reason)
        return Assessment(
            State.MARGINAL, -abs(check.left), {}, QUICK, "the plate is warmer than it is set to", levers=("bed_first", "chamber"),
            checks=(check,),
        )  # fmt: skip
    reason = f"the heater is too weak for this set point: the sensor stays at {show(reading, 'temperature')}"
    check = LimitCheck("Bed heater", "temperature", case.settings.bed_first, reading, State.FAILS, reason)
    return _unreached(check)


@way_to_fail("chamber_set_point", "Chamber not at its set point", order=60)
def chamber_set_point(case: FailureCase) -> Assessment | None:
    """What the chamber's sensor shows at full power against its set point; one that settles above it is said, and holds."""
    chamber, shown = case.rig.chamber, case.heat.steady.sensed_air
    if case.rig.heats_chamber and shown - case.settings.chamber > SHORT:
        reason = f"settles at {show(shown, 'temperature')} without its heater: bed and machine alone make that"
        check = LimitCheck("Chamber set point", "temperature", shown, case.settings.chamber, State.HOLDS, reason)
        return Assessment(
            State.HOLDS, math.nan, {}, QUICK, "the chamber is warmer than it is set to", levers=("chamber", "bed_rest"),
            checks=(check,),
        )  # fmt: skip
    if not chamber.enclosed or chamber.heater_power <= 0.0 or case.settings.chamber - shown <= SHORT:
        return None
    reason = f"at full power the chamber reaches {show(shown, 'temperature')} only"
    return _unreached(LimitCheck("Chamber heater", "temperature", case.settings.chamber, shown, State.MARGINAL, reason))


def _unreached(check: LimitCheck) -> Assessment:
    return Assessment(
        worst((check,)), -abs(check.left), {}, QUICK, "the machine never gets ready",
        levers=("bed_first", "bed_rest", "chamber", "power", "insulation"), checks=(check,),
    )  # fmt: skip
