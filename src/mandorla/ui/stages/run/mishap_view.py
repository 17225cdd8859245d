"""When it goes wrong: what a power cut does to this part, and whether a print that lifts is worth going on."""

from __future__ import annotations

import math
from typing import Any

from PySide6.QtWidgets import QHBoxLayout, QHeaderView

from mandorla.core.failure.messages import probability_text
from mandorla.core.results.key import Key
from mandorla.core.results.keys import EVALUATION, GO_ON, POWER_CUT
from mandorla.core.run.mishaps import (
    AFTER,
    SOUND_JOINT,
    WEAK_JOINT,
    cut_sentence,
    go_on_sentence,
    lift_text,
    still_to_do,
)
from mandorla.core.units import show, show_duration
from mandorla.ui.document import Document
from mandorla.ui.stages.page import scrolling, side_column
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import Form, answer, heading, panel, soft
from mandorla.ui.widgets.pick_list import TextTable


class MishapView(View):
    """Power cut at the left, a corner that lifts at the right."""

    key = "mishap"
    title = "When it goes wrong"
    needs_part = True

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        column.addWidget(heading("Power cut, jam, filament out: everything cools, doors shut"))
        self.table = TextTable(
            "What a power cut does", ("Cut at", "Comes off", *(f"Joint after {show_duration(t)}" for t in AFTER))
        )
        self.table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.ResizeToContents)
        column.addWidget(self.table, 1)
        self.cut_words = soft()
        column.addWidget(self.cut_words)
        column.addWidget(soft(
            f"Joint: strength of the one that is resumed over the others; from {100 * SOUND_JOINT:.0f} % as good as they, below "
            f"{100 * WEAK_JOINT:.0f} % it will part there. Before it goes on: the machine has lost its place unless it says "
            "otherwise; home only where the part is not in the way, heat the plate first, look at every corner."
        ))  # fmt: skip
        column.addWidget(soft(
            "Nobody resumes from afar: a machine that comes back by itself heats with nobody there. A battery on a mains bed is an "
            "electrician's work, and lithium batteries near hot machines are a fire load."
        ))  # fmt: skip
        body.addWidget(scrolling(frame, fill=True), 1)
        area, side = side_column(360)
        frame, column = panel()
        column.addWidget(heading("A corner lifts: continue?"))
        form = Form(document)
        form.add_field("run_plan.seen_lift")
        form.add_field("run_plan.seen_at")
        column.addWidget(form)
        self.answer = answer()
        column.addWidget(self.answer)
        self.figures = FigureList("Whether to go on")
        column.addWidget(self.figures)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("What can still be done"))
        self.advice = soft()
        column.addWidget(self.advice)
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)

    def uses(self) -> tuple[Key[Any], ...]:
        """What a power cut does."""
        return EVALUATION, POWER_CUT

    def also(self) -> tuple[Key[Any], ...]:
        """Whether to go on, where a lift is stated."""
        return (GO_ON,)

    def headline(self) -> str:
        """What a power cut does; whether to go on stands beside its question."""
        cut = self.results.last(POWER_CUT)
        return cut_sentence(cut) if cut is not None else ""

    def draw(self) -> None:
        """Show the newest answers."""
        cut, g, units = self.get(POWER_CUT), self.results.value(GO_ON), self.units

        def off(typical: float, weak: float) -> str:
            if math.isfinite(typical):
                return f"after {show_duration(typical)}"
            return f"weak bond: {show_duration(weak)}" if math.isfinite(weak) else "stays on"

        rows = [
            [show(v.height, "length", units, digits=0), off(v.off, v.off_weak)]
            + [show(j, "fraction", units, digits=0) for j in v.joint]
            for v in cut.at
        ]
        self.table.show_rows(rows)
        power, hour = show(cut.holds, "power", units, digits=0), show(cut.holds * 3600.0, "energy", units)
        self.cut_words.setText(
            f"A supply that holds the bed alone has to give {power}, {hour} an hour."
            if cut.heated
            else "The plate is not heated while it prints: a cut takes nothing from its grip."
        )
        self.answer.setText(
            go_on_sentence(g, units)
            if g is not None
            else "State how far a corner is up and at which height you saw it."
        )
        ends = [] if g is None else [
            Figure("Lift at the end", lift_text(g, units), f"limit {show(g.limit, 'length', units, digits=1)}"),
            Figure("Still good at the end", probability_text(g.chance), "if nothing is changed"),
        ]  # fmt: skip
        self.figures.show_figures(ends, self.theme)
        self.advice.setText("\n".join(f"• {line}" for line in still_to_do(self.project.rig.heats_chamber)))
