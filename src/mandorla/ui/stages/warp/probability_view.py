"""How likely each failure is, in the stage Warp: the judgement's own chances, what decides them, and the test that would tell."""

from __future__ import annotations

import math
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QVBoxLayout

from mandorla.core.failure.chances import batch_sentence, chances_sentence, deciding_unknowns, factor_range
from mandorla.core.failure.messages import margin_text, probability_text
from mandorla.core.failure.registry import Assessment, Judgement
from mandorla.core.failure.words import chance_of, clause
from mandorla.core.logbook.messages import counted
from mandorla.core.measure.heights import place_name
from mandorla.core.results.figures import key_of_way
from mandorla.core.results.key import Key
from mandorla.core.results.keys import BATCH, EVALUATION, FULL_RUN
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.plots.bars import Bars
from mandorla.ui.stages.page import scrolled
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.fields import SwitchEdit
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import heading, panel, soft
from mandorla.ui.widgets.pick_list import TextTable

_COPIES = 6  # that are listed, the likeliest to be lost first
HOW = (
    "Every failure has a margin, the logarithm of what is stood over what acts. Each unknown moves it by so much for a standard "
    "deviation, found by moving that unknown alone through the quick models; together they make its scatter. The chance that "
    "anything fails comes from common samples of all unknowns, so that failures with one cause come together. {source}"
)
BY_FULL = "The margins are those of the full simulation of this state."
BY_QUICK = "The margins are the quick estimate's: run the full simulation, and its own error goes out of these figures."


class ProbabilityView(View):
    """Chances of the failures, by the finest model that is there for this state."""

    key = "probability"
    title = "Probability of failure"
    needs_part = True

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(scrolled(self.content))
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        left, right = QVBoxLayout(), QVBoxLayout()
        left.setSpacing(8)
        right.setSpacing(8)
        frame, column = panel()
        column.addWidget(heading("What can go wrong, and how likely"))
        self.failures = Bars("Probability of each failure")
        self.failures.set_name_width(238)
        column.addWidget(self.failures)
        left.addWidget(frame)
        self.copies_frame, column = panel()
        column.addWidget(heading("Copies on the plate"))
        self.copies_text = soft()
        column.addWidget(self.copies_text)
        self.copies = FigureList("Copies on the plate")
        column.addWidget(self.copies)
        column.addWidget(
            SwitchEdit(document, "process.linked", "One copy lost ruins all (articulated, fitted together)")
        )
        left.addWidget(self.copies_frame)
        frame, column = panel()
        column.addWidget(heading("How far each is from its limit, at 90 %"))
        self.ranges = FigureList("Ranges of the figures")
        column.addWidget(self.ranges)
        left.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("How this is computed"))
        self.how = soft()
        column.addWidget(self.how)
        left.addWidget(frame)
        left.addStretch(1)
        frame, column = panel()
        row = QHBoxLayout()
        row.addWidget(heading("What decides"))
        self.which = QComboBox()
        self.which.setAccessibleName("Failure whose unknowns are listed")
        self.which.activated.connect(lambda _: self._show_unknowns())
        row.addWidget(self.which, 1, Qt.AlignmentFlag.AlignLeft)
        column.addLayout(row)
        self.unknowns = Bars("Share of the scatter by unknown")
        self.unknowns.set_name_width(176)
        column.addWidget(self.unknowns)
        self.range = soft()
        column.addWidget(self.range)
        right.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("Which test would tell most"))
        self.tests = TextTable("Tests", ("Test", "Would explain"), "Nothing that can be measured would narrow it")
        self.tests.setWordWrap(True)
        self.tests.setMinimumHeight(176)
        column.addWidget(self.tests)
        column.addWidget(
            soft("Hot plates and freshly printed parts burn; pull sheets and break bars with gloves and glasses on.")
        )
        right.addWidget(frame, 1)
        body.addLayout(left, 1)
        body.addLayout(right, 1)
        document.results.changed.connect(self._on_judged)

    def _on_judged(self, name: str) -> None:
        if name == FULL_RUN.name and self.isVisible():
            self.wants_changed()  # the copies are judged by that run from now on
            self.refresh()
            self.changed()

    def also(self) -> tuple[Key[Any], ...]:
        """The copies, by the finest full run of all of them that is there."""
        return (self._batch(),)

    def _batch(self) -> Key[Any]:
        by = self.results.results.judgement_key()
        return BATCH.of(full=by["full"] if by["bodies"] == "all" else "")

    def _show_copies(self) -> None:
        batch = self.results.value(self._batch())
        self.copies_frame.setVisible(batch is not None)
        if batch is None:
            return
        linked = self.document.project.process.linked
        self.copies_text.setText(batch_sentence(batch, linked))
        worst = sorted(batch.copies, key=lambda c: -c.chance)[:_COPIES]
        self.copies.show_figures(
            [
                Figure(
                    f"Number {c.number}, {place_name(c.x, c.y)}", probability_text(c.chance),
                    f"hold margin {margin_text(c.margin)}, plate {show(c.plate, 'temperature', self.units)} at its coldest corner",
                )
                for c in worst
            ],
            self.theme,
        )  # fmt: skip

    def uses(self) -> tuple[Key[Any], ...]:
        """The evaluation that is judged."""
        return (EVALUATION,)

    def _judged(self) -> Judgement | None:
        e = self.results.last(EVALUATION)
        return self.results.judgement() or (e.judgement if e is not None else None)

    def headline(self) -> str:
        """The likeliest failure and what decides it."""
        judgement = self._judged()
        return chances_sentence(judgement) if judgement is not None else ""

    def draw(self) -> None:
        """Show chances, what decides, and which test would tell."""
        j, theme = self._judged(), self.theme
        assert j is not None
        known = self._with_chance(j)
        rows = [(j.titles[k], a.probability, chance_of(a)) for k, a in known.items()]
        any_fails = j.anything if math.isfinite(j.anything) else 0.0
        self.failures.show_rows([*rows, ("Anything fails", any_fails, probability_text(any_fails))], theme, 1.0)
        self.ranges.show_figures([self._range(j, k, a) for k, a in known.items()], theme)
        full = any(a.source == "full" for a in known.values())
        part = self.get(EVALUATION).part
        prints = part.learned.prints if part is not None else 0
        learned = f" They count what {counted(prints)} of this workshop taught (Logbook, Learned)." if prints else ""
        self.how.setText(HOW.format(source=BY_FULL if full else BY_QUICK) + learned)
        before = self.which.currentData()
        self.which.clear()
        for key in known:
            self.which.addItem(j.titles[key], key)
        wanted = before if before in known else j.likeliest
        self.which.setCurrentIndex(max(0, self.which.findData(wanted)))
        self._show_unknowns()
        self._show_copies()

    def _with_chance(self, j: Judgement) -> dict[str, Assessment]:
        """Failures with a chance, the likeliest first."""
        return dict(sorted(((k, a) for k, a in j.counted.items() if a.parts), key=lambda kv: -kv[1].probability))

    def _range(self, j: Judgement, key: str, a: Assessment) -> Figure:
        if a.checks:
            low, high = a.margin - 1.645 * a.spread, a.margin + 1.645 * a.spread
            return Figure(
                j.titles[key], f"{low:.0f} to {high:.0f} K left", clause(j, key, self.units), a.state, key_of_way(key)
            )
        low, high = (min(v, 99.0) for v in factor_range(a))
        return Figure(
            j.titles[key], f"{low:.2g} to {high:.2g} times", clause(j, key, self.units), a.state, key_of_way(key)
        )

    def _show_unknowns(self) -> None:
        j = self._judged()
        key = self.which.currentData()
        if j is None or key not in j.counted:
            return
        a = j.counted[key]
        unknowns = deciding_unknowns(a)
        self.unknowns.show_rows(
            [(u.name[0].upper() + u.name[1:], u.share, f"{100 * u.share:.0f} %") for u in unknowns], self.theme, 1.0
        )
        if unknowns:
            left = a.spread * math.sqrt(max(1.0 - unknowns[0].share, 0.0))
            p = 0.5 * math.erfc(a.margin / left / math.sqrt(2.0)) if left > 0.0 else float(a.margin < 0.0)
            self.range.setText(
                f"Its chance is {chance_of(a)}; were {unknowns[0].name} known to be typical, {probability_text(p)}."
            )
        self.tests.show_rows(
            [[u.test[0].upper() + u.test[1:], f"{100 * u.share:.0f} %"] for u in unknowns if u.share > 0.01]
        )
        self.tests.resizeRowsToContents()
