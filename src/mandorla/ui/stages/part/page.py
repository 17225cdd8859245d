"""Part: what is printed."""

from __future__ import annotations

from mandorla.ui.stages.page import StagePage
from mandorla.ui.stages.part.shape_view import ShapeView


class PartPage(StagePage):
    """The part, how it stands, what it is made of and how it is printed."""

    views = (ShapeView,)

    def act(self, action: str) -> None:
        """Open a part from the window's menu."""
        view = self.view
        if action != "open part" or not isinstance(view, ShapeView):
            raise KeyError(action)
        view.choose_file()


PAGE = PartPage
