"""Logbook: learn from every print."""

from __future__ import annotations

from mandorla.ui.stages.logbook.compare_view import CompareView
from mandorla.ui.stages.logbook.diagnose_view import DiagnoseView
from mandorla.ui.stages.logbook.learned_view import LearnedView
from mandorla.ui.stages.logbook.prints_view import PrintsView
from mandorla.ui.stages.logbook.things_view import ThingsView
from mandorla.ui.stages.logbook.trials_view import TrialsView
from mandorla.ui.stages.page import StagePage


class LogbookPage(StagePage):
    """Prints, what they teach, what may be concluded from them."""

    views = (PrintsView, DiagnoseView, CompareView, TrialsView, LearnedView, ThingsView)


PAGE = LogbookPage
