"""A cold pane laid on a hot bed: the sudden difference against what its glass stands."""

from __future__ import annotations

import numpy as np

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.registry import QUICK, Assessment, way_to_fail
from mandorla.core.failure.state import LimitCheck, grade_low
from mandorla.core.materials.plate_library import plate_bodies
from mandorla.core.materials.values import Value
from mandorla.core.rig.start import SWAPPED
from mandorla.core.units import show


def _stands(case: FailureCase) -> Value | None:
    """The sudden change (K) that the loose plate stands: its own body's, or the lowest of a body of its glass; None: any."""
    process = case.part.process if case.part is not None else None
    plate = next((p for p in process.plates if p.key == process.plate), None) if process is not None else None
    if plate is not None:
        return plate.of_library().shock
    loose = case.rig.bed.loose_plate
    materials = {layer.material for layer in case.rig.bed.layers[: (-1 if loose is None else loose) + 1]}
    known = [b.shock for b in plate_bodies().values() if b.shock is not None and materials & {m for m, *_ in b.layers}]
    return min(known, key=lambda v: v.low, default=None)


@way_to_fail("thermal_shock", "Cold glass on a hot bed", order=75)
def thermal_shock(case: FailureCase) -> Assessment | None:
    """What the bed below is hotter by than the pane that is laid on it, against the change that its glass stands."""
    lowest, stands = case.rig.bed.loose_plate, _stands(case)
    if case.rig.start.kind != SWAPPED or lowest is None or stands is None:
        return None
    heat = case.heat
    first = heat.cells[0]
    hotter = float(np.max(first[heat.stack.layer > lowest]) - first[0])
    reason = (
        f"glass of this kind stands a sudden change of some {show(stands.typical, 'temperature_difference', digits=0)}; let "
        "the bed cool, or warm the pane first; eye protection"
    )
    state = grade_low(hotter, stands.low, stands.high)
    check = LimitCheck("Cold pane", "temperature_difference", hotter, stands.typical, state, reason)
    return Assessment(
        state, check.left, {}, QUICK, "the pane may break, at once or later", levers=("start", "plate"), checks=(check,)
    )  # fmt: skip
