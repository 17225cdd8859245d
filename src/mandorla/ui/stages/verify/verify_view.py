"""The base of Verify's views: they share the chosen session."""

from __future__ import annotations

from mandorla.ui.document import Document
from mandorla.ui.stages.verify.desk import VerifyDesk
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme


class VerifyView(View):
    """A view of the chosen session."""

    def __init__(self, document: Document, theme: Theme, desk: VerifyDesk) -> None:
        super().__init__(document, theme)
        self.desk = desk
