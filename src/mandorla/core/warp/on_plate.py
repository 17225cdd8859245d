"""The quick estimate on a plate that lies loose: a corner rises with the sheet under it, as the full simulation has it too."""

from __future__ import annotations

from dataclasses import replace
from typing import Final

import numpy as np

from mandorla.core.warp.condensed_plate import PlateLift
from mandorla.core.warp.estimate import WarpEstimate
from mandorla.core.warp.learned import Learned, magnet_of
from mandorla.core.warp.unknowns import MAGNET, Z90

BY_MOMENT: Final = 2.0  # a held plate's gap goes about with the square of the films' moment


def magnet_part(learned: Learned) -> float:
    """What one standard deviation of a magnet's pull does to ln of the moment that it holds: its root, and less by its reach."""
    known = magnet_of(learned)
    pull, width = known.pull, known.pole_width
    return float((0.5 * np.log(pull.high / pull.typical) + 0.25 * np.log(width.high / width.typical)) / Z90)


def lifted_with_plate(w: WarpEstimate, plate: PlateLift | None, learned: Learned) -> WarpEstimate:
    """An estimate whose lifts at the end of the print count what its loose plate rises by, and whose ranges what moves that.

    A plate that comes off altogether is a failure of its own; nothing is added for it. What the part springs to after release
    stays.

    Parameters
    ----------
    w
        The estimate on a plate that stays down.
    plate
        What the plate does; None where nothing lies loose.
    learned
        What trials have taught of the magnet.
    """
    if plate is None or plate.off or plate.gap <= 0.0:
        return w
    total = w.printed_lift + plate.gap
    own, rise = w.printed_lift / total, plate.gap / total
    top = float(w.height[-1])
    spreads = w.spreads
    if spreads:
        lift, pull = spreads["lift"], spreads["pull"]
        merged = {name: own * lift.get(name, 0.0) + rise * BY_MOMENT * pull.get(name, 0.0) for name in {**lift, **pull}}
        if plate.magnet:
            merged[MAGNET] = -rise * BY_MOMENT * magnet_part(learned)
        spreads = {**spreads, "lift": merged}
    return replace(
        w, printed_lift=total, spreads=spreads,
        corners=tuple(replace(c, lift=c.lift + plate.gap) for c in w.corners),
        lift_by_height=w.lift_by_height + plate.gap * (w.height / top) ** 2,
    )  # fmt: skip
