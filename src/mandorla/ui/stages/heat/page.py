"""Heat-up: how the machine warms."""

from __future__ import annotations

from typing import Any

from mandorla.core.failure.messages import heat_up_sentence
from mandorla.core.results.key import Key
from mandorla.core.results.keys import HEAT_UP
from mandorla.ui.stages.heat.across_view import AcrossView
from mandorla.ui.stages.heat.air_view import AirView
from mandorla.ui.stages.heat.balance_view import BalanceView
from mandorla.ui.stages.heat.builds_view import BuildsView
from mandorla.ui.stages.heat.fault_view import FaultView
from mandorla.ui.stages.heat.flatness_view import FlatnessView
from mandorla.ui.stages.heat.print_view import PrintView
from mandorla.ui.stages.heat.regulation_view import RegulationView
from mandorla.ui.stages.heat.warming_view import WarmingView
from mandorla.ui.stages.page import StagePage


class HeatPage(StagePage):
    """Curves, the surface, the balance, flatness, regulation, builds compared, faults."""

    views = (
        WarmingView,
        PrintView,
        AcrossView,
        BalanceView,
        FlatnessView,
        AirView,
        RegulationView,
        BuildsView,
        FaultView,
    )

    def uses(self) -> tuple[Key[Any], ...]:
        """The heat-up, for the answer above every view."""
        return (HEAT_UP,)

    def answer(self) -> str:
        """Whether and when the rig is ready."""
        heat = self.document.results.last(HEAT_UP)
        return heat_up_sentence(heat, self.document.units) if heat is not None else ""


PAGE = HeatPage
