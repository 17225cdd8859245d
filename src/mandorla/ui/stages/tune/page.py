"""Tune: what to change."""

from __future__ import annotations

from mandorla.ui.stages.page import StagePage
from mandorla.ui.stages.tune.backup_view import BackupView
from mandorla.ui.stages.tune.cost_view import CostView
from mandorla.ui.stages.tune.energy_view import EnergyView
from mandorla.ui.stages.tune.levers_view import LeversView
from mandorla.ui.stages.tune.optimum_view import OptimumView
from mandorla.ui.stages.tune.strategies_view import StrategiesView
from mandorla.ui.stages.tune.window_view import WindowView


class TunePage(StagePage):
    """The operating window, suggestions, scenarios, levers, the optimum, strategies, energy, cost, backup."""

    views = (WindowView, LeversView, OptimumView, StrategiesView, EnergyView, CostView, BackupView)


PAGE = TunePage
