"""What every way to fail looks at: the machine, its settings, and what the models say of them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:  # the numerics load late; the registry and its words do not need them
    from mandorla.core.rig.model import Rig
    from mandorla.core.rig.settings import Criteria, Settings
    from mandorla.core.thermal.heatup import HeatUp
    from mandorla.core.thermal.steady import SteadyState
    from mandorla.core.warp.condensed_plate import PlateLift
    from mandorla.core.warp.estimate import Conditions, PartToPrint, WarpEstimate
    from mandorla.core.warp.fe_result import FullRun
    from mandorla.core.warp.first_layer import FirstLayerState


@dataclass(frozen=True, slots=True)
class FailureCase:
    """One rig with its settings, and what was computed for them; without a part only the thermal side.

    ``heat`` is at the first layers' set points, ``rest`` the steady state at the rest's; ``plate`` what a loose plate does
    (None: nothing lies loose); ``full`` a full simulation of the same state, which then takes the quick estimate's place;
    ``fit_problem`` is empty where the part stands on the bed; ``first`` is None where nothing is known of the first layer's gap.
    """

    rig: Rig
    settings: Settings
    criteria: Criteria
    heat: HeatUp
    rest: SteadyState
    part: PartToPrint | None = None
    conditions: Conditions | None = None
    warp: WarpEstimate | None = None
    plate: PlateLift | None = None
    fit_problem: str = ""
    full: FullRun | None = None
    first: FirstLayerState | None = None
