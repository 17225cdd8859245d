"""Run: do the print as planned, end it well."""

from __future__ import annotations

from mandorla.ui.stages.page import StagePage
from mandorla.ui.stages.run.cool_view import CoolView
from mandorla.ui.stages.run.file_view import FileView
from mandorla.ui.stages.run.live_view import LiveView
from mandorla.ui.stages.run.mishap_view import MishapView
from mandorla.ui.stages.run.noticed_view import NoticedView
from mandorla.ui.stages.run.sheet_view import SheetView


class RunPage(StagePage):
    """The run sheet with its clock times, and what comes after the last layer."""

    views = (SheetView, FileView, LiveView, NoticedView, MishapView, CoolView)


PAGE = RunPage
