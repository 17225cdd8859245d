"""When something breaks: the temperatures of every layer after a fault, the order of events, what ends it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QVBoxLayout

from mandorla.core.failure.cautions import FAULT_CAUTION
from mandorla.core.failure.messages import event_text, fault_sentence, fault_state
from mandorla.core.failure.state import State
from mandorla.core.results.choices import FAULTS
from mandorla.core.results.key import Key
from mandorla.core.results.keys import FAULT
from mandorla.core.units import show, show_moment
from mandorla.ui.document import Document
from mandorla.ui.live_results import in_words
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import answer, heading, panel, soft
from mandorla.ui.widgets.state_mark import StateMark

if TYPE_CHECKING:
    from mandorla.core.results.types import FaultRun


class FaultView(View):
    """Choice of fault and start, answer, curves, events in their order, advice and caution."""

    key = "fault"
    title = "When something breaks"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        self.document, self._theme = document, theme
        column = QVBoxLayout(self.content)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        frame, inner = panel(8)
        row = QHBoxLayout()
        self.choice, self.start = QComboBox(), QComboBox()
        self.choice.setAccessibleName("What breaks")
        self.start.setAccessibleName("When it breaks")
        for key, name in FAULTS.items():
            self.choice.addItem(name, key)
        self.start.addItem("while it holds the set point", "holding")
        self.start.addItem("in a cold rig, switched on", "cold")
        for box in (self.choice, self.start):
            box.activated.connect(lambda _: self._choose())
            row.addWidget(box)
        row.addStretch(1)
        inner.addLayout(row)
        line = QHBoxLayout()
        self.mark = StateMark(size=22)
        self.sentence = answer()
        line.addWidget(self.mark, 0, Qt.AlignmentFlag.AlignVCenter)
        line.addWidget(self.sentence, 1)
        inner.addLayout(line)
        self.curves = CurvePlot("Temperatures after the fault", "Time, min", "Temperature, °C")
        inner.addWidget(self.curves, 1)
        column.addWidget(frame, 1)
        frame, inner = panel(8)
        inner.addWidget(heading("In this order"))
        self.events = FigureList("Events after the fault")
        inner.addWidget(self.events)
        self.advice = soft()
        inner.addWidget(self.advice)
        inner.addWidget(soft(FAULT_CAUTION))
        column.addWidget(frame)

    @property
    def asked(self) -> Key[FaultRun]:
        """The fault that is chosen."""
        return FAULT.of(fault=self.choice.currentData(), start=self.start.currentData())

    def also(self) -> tuple[Key[Any], ...]:
        """The fault that is chosen; a rig may be such that it cannot have it."""
        return (self.asked,)

    def _choose(self) -> None:
        self.refresh()
        self.wants_changed()

    def draw(self) -> None:
        """Show the chosen fault on the present rig, or why it cannot be."""
        found, error = self.results.last(self.asked), self.results.error(self.asked)
        if error is None and found is not None:
            self._show(found)
            return
        self.sentence.setText(in_words(error) if error is not None else "The fault is being simulated …")
        self.mark.set_state(State.NOT_COMPUTED, self.theme.state_color(State.NOT_COMPUTED))
        self.curves.begin(self.theme)
        self.events.show_figures([], self.theme)
        self.advice.setText("")

    def _show(self, run: FaultRun) -> None:
        t, units = self.theme, self.units
        state = fault_state(run)
        self.mark.set_state(state, t.state_color(state))
        self.sentence.setText(fault_sentence(run, units))
        unit = units.unit("temperature")
        last = max((e.time for e in run.events), default=float(run.time[-1]) / 2)
        seen = run.time <= max(300.0, 1.8 * last)
        minutes = run.time[seen] / 60
        self.curves.begin(t, y_label=f"Temperature, {unit.symbol}")
        order = np.argsort(-run.peak)
        for place, i in enumerate(order):
            self.curves.add_curve(
                run.names[i], minutes, unit.from_si(run.layers[seen, i]), t.curves[int(i) % len(t.curves)], unit=unit.symbol,
                label_at=0.1 + 0.8 * place / max(1, len(order) - 1), width=2.2 if place == 0 else 1.6,
            )  # fmt: skip
        self.curves.add_curve(
            "sensor shows", minutes, unit.from_si(run.reading[seen]), t.soft, unit=unit.symbol, dashed=True, width=1.4
        )
        for event in run.events:
            if event.kind == "fuse":
                self.curves.add_line(event.time / 60, "fuse opens", t.accent, vertical=True, place=0.96)
        for over in (e for e in run.events if e.kind == "rating"):
            self.curves.add_line(over.time / 60, f"{over.layer} over", t.fails, vertical=True, place=0.05)
        self.curves.setXRange(0.0, float(minutes[-1]), padding=0.01)
        kinds = {"fuse": State.HOLDS, "rating": State.FAILS, "shown": State.MARGINAL}
        rows = [Figure(event_text(e, units), show_moment(e.time), "", kinds[e.kind]) for e in run.events[:6]]
        if not rows:
            hottest = int(run.peak.argmax())
            peak = show(float(run.peak[hottest]), "temperature", units, digits=0)
            rows = [Figure("Nothing passes a limit", peak, f"hottest: {run.names[hottest]}")]
        self.events.show_figures(rows, t)
        self.advice.setText(" ".join(f"{text[0].upper()}{text[1:]}." for text in (run.fault.what, run.fault.advice)))
