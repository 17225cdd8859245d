"""Where the heat goes: every watt while it holds, every watt-hour until it is ready, and what changes would save."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QLabel, QVBoxLayout, QWidget

from mandorla.core.thermal.advice import savings
from mandorla.core.thermal.heatup import HeatUp, from_bed, from_chamber
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.plots.bars import Bars
from mandorla.ui.stages.page import scrolling
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.form import answer, heading, panel, soft

WORDS = {
    "top, to the air": "into the air above it", "top, radiated": "as radiation from the top", "underside": "by the underside",
    "edges": "by the edges", "brackets": "by its brackets",
}  # fmt: skip


def _sorted(ways: dict[str, float]) -> list[tuple[str, float]]:
    return sorted(((k[0].upper() + k[1:], v) for k, v in ways.items()), key=lambda kv: -abs(kv[1]))


class BalanceView(QWidget):
    """Bars of the steady flows and of the warm-up's heat, off the bed and out of the chamber, and of the savings."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        frame, inner = panel(8)
        self.sentence = answer()
        inner.addWidget(self.sentence)
        column.addWidget(frame)
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(8)
        self.bed_now, self.room_now = Bars("Heat off the bed, soaked"), Bars("Heat out of the chamber, soaked")
        self.bed_sum, self.room_sum = Bars("Heat off the bed, warm-up"), Bars("Where the heat of the warm-up went")
        self.savings = Bars("What changes would save")
        self.captions: list[QLabel] = []
        for title, parts in (
            (
                "While it holds the first-layer set point",
                (("Off the bed", self.bed_now), ("Out of the chamber", self.room_now)),
            ),
            (
                "Until the end of the curves",
                (("Off the bed", self.bed_sum), ("Out of the chamber, and stored", self.room_sum)),
            ),
        ):
            frame, inner = panel(10)
            inner.addWidget(heading(title))
            for text, bars in parts:
                caption = soft(text)
                self.captions.append(caption)
                inner.addWidget(caption)
                inner.addWidget(bars)
            inner.addStretch(1)
            row.addWidget(frame, 1)
        inside = QVBoxLayout()
        inside.setContentsMargins(0, 0, 0, 0)
        both = QWidget()
        both.setLayout(inside)
        inside.addWidget(holder)
        frame, inner = panel(10)
        inner.addWidget(heading("What would save power while printing"))
        inner.addWidget(self.savings)
        self.note = soft()
        inner.addWidget(self.note)
        inside.addWidget(frame)
        column.addWidget(scrolling(both), 1)

    def refresh(self, theme: Theme) -> None:
        """Show the balance of the newest heat-up."""
        e = self._document.evaluation
        if e is None:
            return
        heat, units, project = e.heat, self._document.units, self._document.project
        flows = heat.steady.flows
        enclosed = project.rig.chamber.enclosed

        def watts(ways: dict[str, float]) -> list[tuple[str, float, str]]:
            return [(name, v, show(v, "power", units)) for name, v in _sorted(ways)]

        def joules(ways: dict[str, float]) -> list[tuple[str, float, str]]:
            return [(name, v, show(v, "energy", units)) for name, v in _sorted(ways)]

        self.bed_now.show_rows(watts(from_bed(flows)), theme)
        self.room_now.show_rows(watts(from_chamber(flows)) if enclosed else [], theme)
        self.bed_sum.show_rows(joules(dict(heat.from_bed)), theme)
        kept = dict(heat.ledger) if enclosed else {"stored": heat.ledger["stored"]}
        self.room_sum.show_rows(joules(kept), theme)
        self.captions[1].setText("Out of the chamber" if enclosed else "")
        self.captions[3].setText("Out of the chamber, and stored" if enclosed else "Stored")
        rows = []
        for s in savings(project.rig, project.settings):
            sign = "−" if s.saved >= 0 else "+"
            rows.append((s.what[0].upper() + s.what[1:], s.saved, f"{sign}{show(abs(s.saved), 'power', units)}"))
        self.savings.set_name_width(300)
        self.savings.show_rows(rows, theme)
        self.sentence.setText(_sentence(heat, rows, units_text=lambda v: show(v, "power", units)))
        closure = f"The warm-up's balance closes to {abs(heat.closure):.0e} of what was put in (solver's own check)."
        words = "Savings are of bed and chamber heater at the rest's set points; figures without a band."
        self.note.setText(" ".join([closure, words, *(n + "." for n in heat.notes)]))


def _sentence(heat: HeatUp, savings_rows: list[tuple[str, float, str]], units_text: object) -> str:
    text = units_text
    assert callable(text)
    total = heat.steady.power + heat.steady.chamber_power
    ways = from_bed(heat.steady.flows)
    name = max(ways, key=lambda k: ways[k])
    share = 100.0 * ways[name] / max(sum(ways.values()), 1e-9)
    best = savings_rows[0] if savings_rows and savings_rows[0][1] > 0.5 else None
    tail = f" {best[0]} would save most, {best[2].lstrip('−')}." if best is not None else ""
    if not np.isfinite(total):
        return ""
    return f"Holding takes {text(total)}; {share:.0f} % of the bed's heat leaves {WORDS[name]}.{tail}"
