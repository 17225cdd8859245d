"""Which rating a thermal fuse may have: above all of normal use, below what damages anything."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.faults import FAULTS, FaultRun, run_fault
from mandorla.core.thermal.heatup import HeatUp, march, time_steps
from mandorla.core.thermal.network_solver import FUSE_LAG
from mandorla.core.thermal.stack import build_stack

TOLERANCE: Final = 10.0  # K by which a thermal fuse may open early: common catalogue tolerance, +0/-10 K
RUNAWAYS: Final = ("relay-on", "sensor-loose", "mat-loose")


@dataclass(frozen=True, slots=True)
class FuseRange:
    """Ratings (K) for a fuse on a layer, ``least`` to ``most``; it is empty where ``most`` is below ``least``.

    ``normal`` is the layer's hottest moment of warm-up and regulation, ``worst_joint`` the same with the joint between heater and
    plate at the bad end of its range.
    """

    layer: str
    normal: float
    worst_joint: float
    least: float
    most: float

    @property
    def possible(self) -> bool:
        """Whether any rating does both."""
        return self.most >= self.least


def without_fuses(rig: Rig) -> Rig:
    """The rig with no thermal fuse, in which nothing ends a runaway."""
    return rig.model_copy(update={"bed": rig.bed.model_copy(update={"fuses": ()})})


def fuse_range(
    rig: Rig, settings: Settings, criteria: Criteria, heat: HeatUp, layer: str, run: RunContext | None = None
) -> FuseRange:
    """Ratings that a fuse on a layer may have.

    Parameters
    ----------
    heat
        The rig's heat-up at these settings.
    layer
        Key of the layer that it is clamped to.

    Returns
    -------
    FuseRange
        At least the hottest moment of normal use with a bad joint at the heater, and a fuse's own tolerance; at most what the
        layer has a fuse's lag before the first layer passes its rating, in the worst of the faults that overheat anything.
    """
    bare, bed, index = without_fuses(rig), rig.bed, rig.bed.layer_index(layer)
    heater = bed.layer_index(bed.heater.layer)
    until = heat.ready_time if np.isfinite(heat.ready_time) else 5400.0
    steps = time_steps(max(until + settings.soak_time, 600.0))

    def hottest(joints: list[float]) -> float:
        stack = build_stack(bed, joint_scale=joints)
        cells = march(bare, settings, steps, stack).run.cells
        return float(cells[:, stack.layer == index].max())

    joints = [1.0] * len(bed.layers)
    normal = hottest(joints)
    if heater > 0 and bed.layers[heater - 1].contact_resistance > 0.0:
        joints[heater - 1] = bed.layers[heater - 1].joint_range()[1]
    worst_joint = max(normal, hottest(joints))
    harm = np.inf
    for key in RUNAWAYS:
        if FAULTS[key].apply(bare) is None:
            continue
        worst = run_fault(bare, settings, criteria, key, "holding", run=run)
        for course in (worst, *worst.milder):
            harm = min(harm, _when_it_must_open(course, index))
    return FuseRange(bed.layers[index].name, normal, worst_joint, worst_joint + TOLERANCE, float(harm))


def _when_it_must_open(run: FaultRun, index: int) -> float:
    """Temperature (K) that a fuse on a layer feels two of its lags before the first damage of a fault; infinite where nothing is
    damaged."""
    if not run.damaged:
        return float("inf")
    return float(np.interp(max(run.first_damage - 2.0 * FUSE_LAG, 0.0), run.time, run.felt[:, index]))
