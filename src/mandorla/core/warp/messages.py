"""What comparisons and compensation of a full run say, in words."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from mandorla.core.units import METRIC, UnitPreferences, show

if TYPE_CHECKING:
    from mandorla.core.warp.compensate import Checked, Compensation
    from mandorla.core.warp.measured_part import Agreement


def compensation_sentence(made: Compensation, c: Checked, prefs: UnitPreferences = METRIC) -> str:
    """What compensating brings, in words."""
    before, after = (show(v, "length", prefs, digits=3) for v in (c.plain_rms, c.rms))
    top = ", ".join(show(v, "length", prefs, digits=3) for v in (c.plain_top, c.top))
    return (
        f"Pre-deformed by up to {show(made.largest, 'length', prefs)}, the released part is {after} off the drawing (rms) instead "
        f"of {before}, as a second simulation finds; its top is {top} out of flat, before and after."
    )


def agreement_sentence(a: Agreement) -> str:
    """What the comparison says, in words."""
    factor = a.factor if np.isfinite(a.factor) else a.map_factor
    if not np.isfinite(factor):
        return "All measured lifts are too small to be told from nothing."
    text = f"The printed part lifted {factor:.2f} times as far as simulated"
    if np.isfinite(a.scatter) and a.scatter > 1.5:
        text += f", but its corners differ {a.scatter:.1f} times among themselves: a cold or dirty spot of the plate does that"
    unknown = (
        "within the factor of two that is not known beforehand"
        if a.within
        else "more than the unknown grip explains alone"
    )
    text += f": {unknown}."
    if np.isfinite(a.map_alike) and a.map_alike < 0.7:
        text += (
            f" The shapes are not alike (correlation {a.map_alike:.2f}): look whether the map lies the right way round."
        )
    return text
