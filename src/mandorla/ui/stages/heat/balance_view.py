"""Where the heat goes: every watt while it holds, every watt-hour until it is ready, and what changes would save."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QLabel, QVBoxLayout, QWidget

from mandorla.core.results.key import Key
from mandorla.core.results.keys import HEAT_BALANCE, HEAT_UP
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.plots.bars import Bars
from mandorla.ui.stages.page import scrolling
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.form import answer, heading, panel, soft

if TYPE_CHECKING:
    from mandorla.core.results.types import HeatUp

WORDS = {
    "top, to the air": "into the air above it", "top, radiated": "as radiation from the top", "underside": "by the underside",
    "edges": "by the edges", "brackets": "by its brackets",
}  # fmt: skip


def _sorted(ways: dict[str, float]) -> list[tuple[str, float]]:
    return sorted(((k[0].upper() + k[1:], v) for k, v in ways.items()), key=lambda kv: -abs(kv[1]))


class BalanceView(View):
    """Bars of the steady flows and of the warm-up's heat, off the bed and out of the chamber, and of the savings."""

    key = "balance"
    title = "Heat balance"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        column = QVBoxLayout(self.content)
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

    def uses(self) -> tuple[Key[Any], ...]:
        """What is shown."""
        return (
            HEAT_UP,
            HEAT_BALANCE,
        )

    def draw(self) -> None:
        """Show the balance of the newest heat-up."""
        heat, balance, units, project = self.get(HEAT_UP), self.get(HEAT_BALANCE), self.units, self.project
        enclosed = project.rig.chamber.enclosed

        def watts(ways: dict[str, float]) -> list[tuple[str, float, str]]:
            return [(name, v, show(v, "power", units)) for name, v in _sorted(ways)]

        def joules(ways: dict[str, float]) -> list[tuple[str, float, str]]:
            return [(name, v, show(v, "energy", units)) for name, v in _sorted(ways)]

        self.bed_now.show_rows(watts(dict(balance.from_bed)), self.theme)
        self.room_now.show_rows(watts(dict(balance.from_chamber)) if enclosed else [], self.theme)
        self.bed_sum.show_rows(joules(dict(heat.from_bed)), self.theme)
        kept = dict(heat.ledger) if enclosed else {"stored": heat.ledger["stored"]}
        self.room_sum.show_rows(joules(kept), self.theme)
        self.captions[1].setText("Out of the chamber" if enclosed else "")
        self.captions[3].setText("Out of the chamber, and stored" if enclosed else "Stored")
        rows = []
        for s in balance.savings:
            sign = "−" if s.saved >= 0 else "+"
            rows.append((s.what[0].upper() + s.what[1:], s.saved, f"{sign}{show(abs(s.saved), 'power', units)}"))
        self.savings.set_name_width(300)
        self.savings.show_rows(rows, self.theme)
        self.sentence.setText(_sentence(heat, balance.from_bed, rows, lambda v: show(v, "power", units)))
        closure = f"The warm-up's balance closes to {abs(heat.closure):.0e} of the input (solver's own check)."
        words = "Savings are of bed and chamber heater at the rest's set points; figures without a band."
        self.note.setText(" ".join([closure, words, *(n + "." for n in heat.notes)]))


def _sentence(
    heat: HeatUp, ways: Mapping[str, float], savings_rows: list[tuple[str, float, str]], text: Callable[[float], str]
) -> str:
    total = heat.steady.power + heat.steady.chamber_power
    name = max(ways, key=lambda k: ways[k])
    share = 100.0 * ways[name] / max(sum(ways.values()), 1e-9)
    best = savings_rows[0] if savings_rows and savings_rows[0][1] > 0.5 else None
    tail = f" {best[0]} would save most, {best[2].lstrip('−')}." if best is not None else ""
    if not np.isfinite(total):
        return ""
    return f"Holding takes {text(total)}; {share:.0f} % of the bed's heat leaves {WORDS[name]}.{tail}"
