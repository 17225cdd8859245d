"""Look and diagnose: from what is seen on the part to its causes, by probability, each with its cheapest test."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QCheckBox, QHBoxLayout

from mandorla.core.failure.messages import probability_text
from mandorla.core.logbook.diagnosis import SIGNS, Context, Ranked, diagnose
from mandorla.core.logbook.latent import Use
from mandorla.core.logbook.records import Print
from mandorla.core.results.key import Key
from mandorla.ui.document import Document
from mandorla.ui.stages.logbook.log_view import LogView, button, choice, fill
from mandorla.ui.stages.page import scrolling, side_column
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.widgets.form import answer, heading, panel, soft
from mandorla.ui.widgets.pick_list import TextTable

_MOST = 8
_PROJECT = ""


class DiagnoseView(LogView):
    """Signs at the left, causes at the right."""

    key = "diagnose"
    title = "Diagnose"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        self._found: list[Ranked] = []
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        area, side = side_column(360)
        frame, column = panel()
        column.addWidget(heading("What is seen"))
        self.about = choice("Which print")
        self.about.currentIndexChanged.connect(self._pick)
        column.addWidget(self.about)
        self.signs: dict[str, QCheckBox] = {}
        for key, text in SIGNS.items():
            box = self.signs[key] = QCheckBox(text)
            box.setFont(font(9.0))
            box.toggled.connect(self._tell)
            column.addWidget(box)
        self.keep_button = button("Keep with the print", self.keep)
        column.addWidget(self.keep_button)
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)
        frame, column = panel()
        column.addWidget(heading("Causes"))
        self.answer = answer()
        column.addWidget(self.answer)
        self.table = TextTable("Causes by probability", ("Cause", "Chance"))
        self.table.itemSelectionChanged.connect(self._show_words)
        column.addWidget(self.table, 1)
        self.words = soft()
        column.addWidget(self.words)
        column.addWidget(soft(
            "Chances before looking come from this project's prediction and the plate's history; how often a sign goes with a "
            "cause is experience of the trade in three steps, and unchecked."
        ))  # fmt: skip
        body.addWidget(scrolling(frame, fill=True), 1)

    def also(self) -> tuple[Key[Any], ...]:
        """The project's prediction, where it has a part."""
        return (self.entry_key(),) if self.project.part is not None else ()

    def headline(self) -> str:
        """The likeliest cause, and the test that tells it from the next one."""
        if not self._found or not any(b.isChecked() for b in self.signs.values()):
            return "Tick what is seen on the part: causes follow, each with its cheapest test."
        first, second = self._found[:2]
        other = f"{second.cause.name[0].lower()}{second.cause.name[1:]}"
        text = f"{first.cause.name} ({probability_text(first.probability)}), else {other}"
        return f"{text} ({probability_text(second.probability)})." + (f" Test: {first.test}" if first.test else "")

    def draw(self) -> None:
        """Show the prints to ask about, and the causes."""
        rows = [("the project as it is", _PROJECT)]
        rows += [(f"print {p.number}, {p.name}", p.key) for p in reversed(self.shown.prints)]
        fill(self.about, rows)
        self._tell()

    def context(self) -> Context:
        """What is known before anybody looks."""
        key, rig = self.about.currentData(), self.project.rig
        p = next((q for q in self.shown.prints if q.key == key), None)
        if p is None and self.project.part is not None:
            p = self.results.value(self.entry_key())
        use = self.shown.used.get(key or "", Use(0, 0))
        loose = not all(layer.bonded for layer in rig.bed.layers)
        return Context(p.predicted if p is not None else {}, use, rig.chamber.enclosed, loose)

    def picked(self) -> Print | None:
        """The print that is asked about; None where it is the project."""
        return next((p for p in self.shown.prints if p.key == self.about.currentData()), None)

    def keep(self) -> None:
        """Keep what is ticked with the end of the print."""
        p, ticked = self.picked(), tuple(key for key, box in self.signs.items() if box.isChecked())
        if p is None or p.outcome is None:
            return
        outcome = p.outcome.model_copy(update={"signs": ticked})
        self.write("Keeping what was seen", lambda shop: shop.end(p.key, outcome))

    def _pick(self) -> None:
        p = self.picked() if self.logbook.shown is not None else None
        if p is not None and p.outcome is not None and p.outcome.signs:
            for key, box in self.signs.items():
                box.setChecked(key in p.outcome.signs)
        self._tell()

    def _tell(self) -> None:
        if self.logbook.shown is None:
            return
        ticked = [key for key, box in self.signs.items() if box.isChecked()]
        p = self.picked()
        self.keep_button.setEnabled(p is not None and p.entered)
        self._found = diagnose(ticked, self.context())
        self.table.blockSignals(True)
        self.table.show_rows([[r.cause.name, probability_text(r.probability)] for r in self._found[:_MOST]])
        self.table.selectRow(0)
        self.table.blockSignals(False)
        self.answer.setText(
            "Before anything is ticked: what this project's prediction says."
            if not ticked
            else f"From {len(ticked)} signs:"
        )
        self._show_words()
        self.changed()

    def _show_words(self) -> None:
        row = max(self.table.currentRow(), 0)
        if row < len(self._found):
            r = self._found[row]
            test = f" Tells it from the next: {r.test}" if r.test else " No cheap test tells it from the next one."
            self.words.setText(f"{r.cause.remedy}{test}")
