"""Warp: what will happen."""

from __future__ import annotations

from mandorla.ui.stages.page import StagePage
from mandorla.ui.stages.warp.causes_view import CausesView
from mandorla.ui.stages.warp.estimate_view import EstimateView
from mandorla.ui.stages.warp.first_layer_view import FirstLayerView
from mandorla.ui.stages.warp.full_view import FullView
from mandorla.ui.stages.warp.probability_view import ProbabilityView


class WarpPage(StagePage):
    """The quick estimate, the full simulation, causes and levers, probabilities, the first layer."""

    views = (EstimateView, FullView, CausesView, ProbabilityView, FirstLayerView)


PAGE = WarpPage
