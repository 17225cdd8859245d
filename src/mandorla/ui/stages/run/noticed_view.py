"""What a watch notices: from which size on each thing that goes wrong is told in time, from phase to phase."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QHBoxLayout, QHeaderView

from mandorla.core.results.key import Key
from mandorla.core.results.keys import NOTICED
from mandorla.core.run.alarm_words import noticed_sentence, noticed_text
from mandorla.core.run.disturbances import DISTURBANCES
from mandorla.core.run.noticed import PHASES
from mandorla.core.units import show_duration
from mandorla.ui.document import Document
from mandorla.ui.stages.page import scrolling
from mandorla.ui.stages.view import Missing, View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.form import heading, panel, soft
from mandorla.ui.widgets.pick_list import TextTable


class NoticedView(View):
    """A table of what goes wrong against the phases of a run."""

    key = "noticed"
    title = "What is noticed"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        frame, column = panel(8)
        column.addWidget(heading("Told in time, from which size on, while the machine …"))
        self.table = TextTable("What a watch notices in time", ("What goes wrong", "Within", *PHASES.values()))
        self.table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.ResizeToContents)
        column.addWidget(self.table, 1)
        column.addWidget(soft(
            "Three machines drawn about this project, simulated, print as it plans and are broken once in every phase; a size "
            "counts when all three show it in time. Smaller ones may be told later, or never. A real machine differs by more than "
            "a simulated one."
        ))  # fmt: skip
        column.addWidget(soft(
            "Do not rely on software: a thermal fuse on the heater and a smoke alarm in the room do what no watch can. What heats "
            "with nobody there needs both."
        ))  # fmt: skip
        body.addWidget(scrolling(frame, fill=True), 1)

    def uses(self) -> tuple[Key[Any], ...]:
        """What is noticed, which a person asks for."""
        return (NOTICED,)

    def headline(self) -> str:
        """What is not noticed."""
        found = self.results.last(NOTICED)
        return noticed_sentence(found, self.units) if found is not None else ""

    def missing(self) -> Missing | None:
        """Nothing: it takes no part."""
        return None

    def draw(self) -> None:
        """Show the table."""
        found = {(n.key, n.phase): n for n in self.get(NOTICED)}
        rows = []
        for d in DISTURBANCES.values():
            own = [found.get((d.key, phase)) for phase in PHASES]
            if any(own):
                cells = [noticed_text(n, self.units, lead="") if n is not None else "" for n in own]
                rows.append([d.name, show_duration(d.within), *cells])
        self.table.show_rows(rows)
