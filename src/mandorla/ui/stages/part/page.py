"""Part: what is printed."""

from __future__ import annotations

from mandorla.ui.stages.page import StagePage
from mandorla.ui.stages.part.plates_view import PlatesView
from mandorla.ui.stages.part.shape_view import ShapeView


class PartPage(StagePage):
    """The part, how it stands, what it is made of and how it is printed; the plates that it can be printed on."""

    views = (ShapeView, PlatesView)

    def act(self, action: str) -> None:
        """Open a part from the window's menu."""
        if action != "open part":
            raise KeyError(action)
        self.open_view(ShapeView.key)
        view = self.view
        assert isinstance(view, ShapeView)
        view.choose_file()


PAGE = PartPage
