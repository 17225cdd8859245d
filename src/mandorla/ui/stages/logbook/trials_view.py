"""Trials: pairs of prints in random order, and ladders; where each stands and what is printed next."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QSpinBox

from mandorla.core.errors import MandorlaError
from mandorla.core.logbook.ladder import HOLDS
from mandorla.core.logbook.messages import outcome_text
from mandorla.core.logbook.records import Trial
from mandorla.core.logbook.trials import climbed, ladder_ends, plan_ladder, plan_pairs, prints_of, trial_sentence
from mandorla.core.project.paths import get_value
from mandorla.core.results.key import Key
from mandorla.core.results.keys import LADDER_PRIOR
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.logbook.log_view import LogView, button, choice, fill, line
from mandorla.ui.stages.page import scrolling, side_column
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.widgets.form import heading, panel, soft
from mandorla.ui.widgets.pick_list import PickList, TextTable

LADDERS = (
    ("bed, rest: lowest that holds", ("settings.bed_rest", "up")),
    ("bed, rest: highest that is not too soft", ("settings.bed_rest", "down")),
    ("bed, first layers: lowest that holds", ("settings.bed_first", "up")),
)  # fmt: skip


class TrialsView(LogView):
    """Trials at the left, where the picked one stands in the middle, new ones at the right."""

    key = "trials"
    title = "Trials"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        self._picked = ""
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        self.list = PickList("Trials")
        self.list.setFixedHeight(76)
        self.list.picked.connect(self._pick)
        column.addWidget(self.list)
        self.curve = CurvePlot("Chance that it holds", "Set point", "Chance that it holds, %")
        self.curve.setFixedHeight(230)
        column.addWidget(self.curve)
        self.table = TextTable(
            "Prints of the trial", ("Print", "Arm", "Came out"), "No print of this trial yet: begin one in Prints"
        )
        self.table.setFixedHeight(120)
        column.addWidget(self.table, 1)
        self.preparation = soft()
        column.addWidget(self.preparation)
        self.close_button = button("Close this trial", self.close_trial)
        column.addWidget(self.close_button)
        column.addStretch(1)
        body.addWidget(scrolling(frame, fill=True), 1)
        area, side = side_column(352)
        side.addWidget(self._pairs())
        side.addWidget(self._ladder())
        side.addStretch(1)
        body.addWidget(area)

    def _pairs(self) -> Any:
        frame, column = panel()
        column.addWidget(heading("New trial of pairs"))
        grid = QGridLayout()
        self.name, self.a, self.b = (
            line("Name of the trial", "Name"),
            line("First arm", "first arm"),
            line("Second arm", "second arm"),
        )
        self.pairs = QSpinBox()
        self.pairs.setRange(2, 40)
        self.pairs.setValue(10)
        self.pairs.setAccessibleName("Pairs at most")
        for r, (caption, widget) in enumerate(
            (("Name", self.name), ("A", self.a), ("B", self.b), ("Pairs at most", self.pairs))
        ):
            label = QLabel(caption)
            label.setFont(font(9.5))
            grid.addWidget(label, r, 0)
            grid.addWidget(widget, r, 1)
        column.addLayout(grid)
        column.addWidget(button("Plan it", self.plan_pairs, first=True))
        column.addWidget(soft(
            "One print of each arm a pair, which comes first by chance, prepared alike. The print is the unit: parts of one print "
            "share their fate. It may be looked at after every pair; of trials without a difference at most 5 % decide for one."
        ))  # fmt: skip
        return frame

    def _ladder(self) -> Any:
        frame, column = panel()
        column.addWidget(heading("New ladder"))
        self.ladder_name = line("Name of the ladder", "Name")
        self.climbs = choice("What is climbed")
        fill(self.climbs, [(text, str(n)) for n, (text, _) in enumerate(LADDERS)])
        self.climbs.currentIndexChanged.connect(lambda _: self.wants_changed())
        column.addWidget(self.ladder_name)
        column.addWidget(self.climbs)
        self.ladder_button = button("Plan it", self.plan_ladder, first=True)
        column.addWidget(self.ladder_button)
        column.addWidget(soft(
            "Each next step is the one that tells most; it begins with the model's curve, and ends when the temperature that holds "
            "nine times of ten is known to 5 K (80 %), or after eight prints. All other settings stay."
        ))  # fmt: skip
        return frame

    # ---- what it shows
    def prior_key(self) -> Key[Any]:
        """The model's curve of what is to be climbed."""
        _, (setting, direction) = LADDERS[int(self.climbs.currentData() or 0)]
        return LADDER_PRIOR.of(setting=setting, direction=direction)

    def also(self) -> tuple[Key[Any], ...]:
        """Where a ladder would begin."""
        return (self.prior_key(),) if self.project.part is not None else ()

    def picked(self) -> Trial | None:
        """The trial that is picked."""
        return next((t for t in self.shown.trials if t.key == self._picked), None)

    def headline(self) -> str:
        """Where the picked trial stands."""
        t = self.picked() if self.logbook.shown is not None else None
        return (
            f"{t.name}: {trial_sentence(t, self.shown.prints, self.units)}"
            if t is not None
            else "Plan a trial before anything is concluded: pairs, or a ladder."
        )

    def draw(self) -> None:
        """Show the trials."""
        trials = list(reversed(self.shown.trials))
        if self.picked() is None:
            self._picked = trials[0].key if trials else ""
        keys = [t.key for t in trials]
        self.list.show_items(
            [f"{t.name}{' (closed)' if t.closed else ''}" for t in trials],
            keys.index(self._picked) if self._picked in keys else -1,
        )
        self.ladder_button.setEnabled(
            self.project.part is not None and self.results.value(self.prior_key()) is not None
        )
        self._show_picked()

    def _pick(self, row: int) -> None:
        trials = list(reversed(self.shown.trials))
        if 0 <= row < len(trials):
            self._picked = trials[row].key
            self._show_picked()
            self.changed()

    def _show_picked(self) -> None:
        t = self.picked()
        for widget in (self.table, self.preparation):
            widget.setVisible(t is not None)
        self.close_button.setVisible(t is not None)
        self.close_button.setText("Open this trial again" if t is not None and t.closed else "Close this trial")
        self.curve.setVisible(t is not None and t.kind == "ladder")
        if t is None:
            return
        self.preparation.setText(f"{t.question} {t.preparation}".strip())
        own = prints_of(t, self.shown.prints)

        def arm(p: Any) -> str:
            at = p.setup.get(t.setting)
            return p.arm if t.kind == "ab" else show(float(at), "set_point", self.units) if at is not None else "–"

        head = "Arm" if t.kind == "ab" else "Set point"
        self.table.show_rows(
            [[f"{p.number}  {p.name}", arm(p), outcome_text(p.outcome, self.units)] for p in own],
            ("Print", head, "Came out"),
        )
        if t.kind == "ladder":
            self._draw_ladder(t)

    def _draw_ladder(self, t: Trial) -> None:
        state, unit = climbed(t, self.shown.prints), self.units.unit("temperature")
        x = unit.from_si(state.temperatures)
        self.curve.begin(self.theme, x_label=f"Set point, {unit.symbol}")
        self.curve.add_band(x, 100.0 * state.holds[1], 100.0 * state.holds[2], self.theme.curves[0])
        self.curve.add_curve(
            "holds", x, 100.0 * state.holds[0], self.theme.curves[0], unit="%", label_at=0.55, label_above=False
        )
        self.curve.add_line(100.0 * HOLDS, "9 of 10", self.theme.soft, vertical=False, place=0.8)
        self.curve.add_line(float(unit.from_si(state.answer)), "answer", self.theme.holds, vertical=True)
        if not state.ended:
            self.curve.add_line(float(unit.from_si(state.next)), "next", self.theme.marginal, vertical=True, place=0.6)
        for p in prints_of(t, self.shown.prints):
            at = p.setup.get(t.setting)
            if p.outcome is None or at is None:
                continue
            share = 100.0 * p.outcome.good / p.outcome.copies
            color = self.theme.holds if share > 50.0 else self.theme.fails
            self.curve.add_points(f"print {p.number}", unit.from_si(np.array([float(at)])), np.array([share]), color)

    # ---- what a person does
    def plan_pairs(self) -> None:
        """Plan a trial of pairs."""
        try:
            made = plan_pairs(
                self.name.text().strip() or "Trial", (self.a.text().strip(), self.b.text().strip()), self.pairs.value()
            )
        except MandorlaError as error:
            self.document.problem.emit(str(error))
            return
        self._put(made)

    def close_trial(self) -> None:
        """Close the picked trial, so that no print is offered for it any more; or open it again."""
        t = self.picked()
        if t is not None:
            self.write(
                "Closing or opening a trial", lambda shop: shop.book.put(t.model_copy(update={"closed": not t.closed}))
            )

    def plan_ladder(self) -> None:
        """Plan a ladder from the model's curve."""
        prior = self.results.value(self.prior_key())
        _, (setting, _) = LADDERS[int(self.climbs.currentData() or 0)]
        if prior is None:
            return
        here = float(get_value(self.project, setting))
        try:
            made = plan_ladder(self.ladder_name.text().strip() or "Ladder", setting, prior, ladder_ends(prior, here))
        except MandorlaError as error:
            self.document.problem.emit(str(error))
            return
        self._put(made)

    def _put(self, made: Trial) -> None:
        self._picked = made.key
        self.write("Planning a trial", lambda shop: shop.book.put(made))
        for edit in (self.name, self.a, self.b, self.ladder_name):
            edit.clear()
