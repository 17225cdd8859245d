"""Whether the part pulls its loose plate off the seat, at a glance: the full simulation in few boxes, all bodies together.

The quick estimate's plate cannot lift. In about a second this finds the gap within a factor of 1.5 of a standard run
(benchmarks/plate_glance.py); magnets themselves are known to a factor of two.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Final

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.project.answers import quantity
from mandorla.core.project.full_warp import simulate_bundle
from mandorla.core.project.session import PartGeometry
from mandorla.core.project.store import Bundle
from mandorla.core.runtime import RunContext
from mandorla.core.tune.evaluate import Evaluation
from mandorla.core.tune.verdict import State
from mandorla.core.units import METRIC, UnitPreferences, show
from mandorla.core.warp.full_case import hold_of
from mandorla.core.warp.full_result import NOTICED

WITHIN: Final = 1.5  # of a standard run's gap


@dataclass(frozen=True, slots=True)
class PlateLook:
    """Largest ``gap`` (m) under the plate by the end of the print (NaN: the foot is too small for so few boxes), the height (m)
    from which it is noticed (inf: never), whether the plate comes ``off`` altogether; what it is called and held by; ``boxes`` of
    the run."""

    gap: float
    height: float
    off: bool
    name: str
    keeper: str
    bodies: int
    boxes: int

    @property
    def known(self) -> bool:
        """Whether the glance told anything."""
        return bool(np.isfinite(self.gap))

    def state(self, lift_limit: float) -> State:
        """Fails where the plate comes off or stands twice as high as a corner may; marginal where it is noticed at all."""
        if not self.known:
            return State.NOT_COMPUTED
        if self.off or self.gap > 2.0 * lift_limit:
            return State.FAILS
        return State.MARGINAL if self.gap > NOTICED else State.HOLDS


def look_at_plate(
    bundle: Bundle, geometry: PartGeometry | None, e: Evaluation, run: RunContext | None = None
) -> PlateLook | None:
    """Look at a project's plate; None where nothing lies loose, without a part, or where the part does not fit the bed.

    Raises :class:`Cancelled`.
    """
    hold = hold_of(bundle.project.rig.bed)
    if hold is None or geometry is None or e.part is None or e.fit_problem:
        return None
    keeper = "magnet" if hold.pull > 0.0 else "clips"
    try:
        found = simulate_bundle(bundle, geometry, e, "glance", run, together=True)
    except (
        InputError
    ):  # no box of the foot is full: the quick estimate stands, and it is said that the plate is not known
        return PlateLook(float("nan"), float("inf"), False, hold.name, keeper, geometry.sections.bodies, 0)
    lifted = np.flatnonzero(found.plate_lift > NOTICED)
    return PlateLook(
        float(found.plate_lift.max()), float(found.height[lifted[0]]) if lifted.size else float("inf"), found.plate_off,
        hold.name, keeper, found.bodies, found.voxels.count,
    )  # fmt: skip


def plate_sentence(look: PlateLook, prefs: UnitPreferences = METRIC) -> str:
    """What the plate does, in words; empty where it stays down."""
    if not look.known:
        return f"Whether {look.name} stays on its {look.keeper}, only a finer full simulation tells."
    if look.gap <= NOTICED:
        return ""
    who = "the part" if look.bodies == 1 else f"the {look.bodies} bodies together"
    height = show(look.height, "length", prefs, digits=0)
    gap = show(look.gap, "length", prefs, digits=1)
    does = f"pull{'s' if look.bodies == 1 else ''} {look.name} off its {look.keeper}"
    far = "" if look.off else f" by {gap}"
    return f"At a glance {who} {does}{far}, beginning at {height} of height: run the full simulation."


def plate_answer(look: PlateLook, lift_limit: float) -> dict[str, Any]:
    """The same for ``mandorla warp --json``."""
    return {
        "status": look.state(lift_limit).value,
        "sentence": plate_sentence(look) or f"{look.name} stays on its {look.keeper}.",
        "gap": quantity(look.gap, "m"),
        "within_factor": WITHIN,
        "noticed_from": quantity(look.height, "m"),
        "comes_off": look.off,
        "bodies": look.bodies,
        "boxes": look.boxes,
    }
