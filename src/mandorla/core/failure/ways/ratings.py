"""What machine, layers, supply, chamber and plate surface are rated for, against what they see."""

from __future__ import annotations

import numpy as np

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.power_limits import power_checks
from mandorla.core.failure.registry import QUICK, Assessment, way_to_fail
from mandorla.core.failure.state import LimitCheck, State, grade_low, worst
from mandorla.core.failure.temperatures import hottest_foot, rated
from mandorla.core.units import OFF, show

INSISTED = 2.0  # K above the room that a machine takes as a target without heating much
HELD_OVER = 0.3  # K that a regulated chamber may stand over its limit before it counts


@way_to_fail("set_point_limit", "Set point beyond the machine's limit", order=10)
def set_point_limit(case: FailureCase) -> Assessment:
    """The higher bed set point against the machine's own limit."""
    if case.rig.limits.insists and OFF in (case.settings.bed_first, case.settings.bed_rest):
        least = case.rig.room_temperature + INSISTED
        reason = f"this machine insists on a target: set it just above the room, {show(least, 'temperature', digits=0)}"
        check = LimitCheck("Bed set point", "temperature", OFF, least, State.FAILS, reason)
        return Assessment(
            State.FAILS, -1.0, {}, QUICK, "the machine waits for a target for ever", levers=("bed_first", "bed_rest"),
            checks=(check,),
        )  # fmt: skip
    hottest, most = max(case.settings.bed_first, case.settings.bed_rest), case.rig.limits.bed_max
    check = LimitCheck(
        "Bed set point", "temperature", hottest, most, grade_low(hottest, most, most), "the highest set point this machine accepts"
    )  # fmt: skip
    return Assessment(  # a set point is what one types: nothing is uncertain about it
        check.state, check.left, {}, QUICK, "the machine refuses the set point", levers=("bed_first", "bed_rest"), checks=(check,)
    )  # fmt: skip


@way_to_fail("layer_rating", "A layer beyond its rating", order=20)
def layer_rating(case: FailureCase) -> Assessment:
    """The hottest moment of every layer against its material's rating."""
    limits, checks = case.rig.limits, []
    for layer, peak in zip(case.rig.bed.layers, case.heat.peak, strict=True):
        rating = layer.properties().rating
        reason = (
            f"rated to {show(rating, 'temperature', digits=0)}; {limits.layer_margin:.0f} K should be kept in reserve"
        )
        state = grade_low(float(peak), rating - limits.layer_margin, rating)
        checks.append(LimitCheck(layer.name, "temperature", float(peak), rating, state, reason))
    return rated(case, tuple(checks), "the layer ages, delaminates or chars", ("bed_first", "bed_rest", "power"))


@way_to_fail("supply", "Supply or breaker overloaded", order=40)
def supply(case: FailureCase) -> Assessment:
    """What the heaters ask for, full and cold, against supply and breaker (ln ratio of the tightest)."""
    checks = power_checks(case.rig, case.settings, case.heat.steady)
    margin = min(float(np.log(c.limit / max(c.value, 1e-9))) for c in checks)
    consequence = "the supply shuts down or the breaker opens, and the print is lost"
    return Assessment(worst(checks), margin, {}, QUICK, consequence, levers=("power",), checks=checks)


@way_to_fail("chamber_rating", "Chamber beyond its limit", order=50)
def chamber_rating(case: FailureCase) -> Assessment | None:
    """The chamber's air against what the machine's parts inside stand."""
    if not case.rig.chamber.enclosed:
        return None
    air, most = case.heat.steady.air, case.rig.limits.chamber_max
    state = grade_low(air, most + HELD_OVER, most + HELD_OVER)
    check = LimitCheck("Chamber", "temperature", air, most, state, "what the machine's parts inside stand")
    consequence, levers = "parts of the machine inside fail", ("chamber", "bed_rest")
    if (
        case.rig.heats_chamber and air <= case.settings.chamber + HELD_OVER
    ):  # held there by its heater: nothing is uncertain about it
        return Assessment(state, check.left, {}, QUICK, consequence, levers=levers, checks=(check,))
    return rated(case, (check,), consequence, levers, "air")


@way_to_fail("surface_rating", "Plate surface beyond its range", order=80)
def surface_rating(case: FailureCase) -> Assessment | None:
    """The hottest place under the part against the surface's range of use."""
    if case.part is None or case.conditions is None:
        return None
    hot, surface = hottest_foot(case.conditions), case.part.surface
    most = surface.highest
    check = LimitCheck(
        surface.name, "temperature", hot, most.typical, grade_low(hot, most.low, most.high),
        f"used up to about {show(most.typical, 'temperature', digits=0)}; hotter it ages and gives way",
    )  # fmt: skip
    return rated(case, (check,), "the surface ages and gives way", ("bed_first", "bed_rest", "surface"))
