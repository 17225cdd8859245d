"""Strategies: what different schools would do with this part on this machine, each at its best, energy against risk."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy

from mandorla.core.errors import InputError
from mandorla.core.failure.messages import lift_text, probability_text
from mandorla.core.results.key import Key
from mandorla.core.results.keys import EVALUATION, MACHINES, STRATEGIES
from mandorla.core.results.strategy_words import changes_text, machine_text, machines_by, strategies_sentence
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.page import scrolling, side_column
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import heading, panel, soft
from mandorla.ui.widgets.pick_list import TextTable

if TYPE_CHECKING:
    from mandorla.core.results.types import MachineRank, StrategyFound


class StrategiesView(View):
    """Every candidate as a point of energy and chance, the best of each strategy named; a table; the picked one's figures."""

    key = "strategies"
    title = "Strategies"
    needs_part = True

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        self._picked = 0
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        column.addWidget(heading("Energy against chance of failing: all that was tried, by the quick models"))
        self.points = CurvePlot("Energy against chance of failing", "Energy at the plug, kWh", "Anything fails, %")
        self.points.setMinimumHeight(190)
        self.points.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Ignored)
        column.addWidget(self.points, 3)
        self.table = TextTable(
            "Strategies at their best",
            ("Strategy", "Anything fails", "Energy", "Lift", "Proof"),
            "No strategy was tried yet",
        )
        self.table.setMinimumHeight(160)
        self.table.itemSelectionChanged.connect(self._pick)
        column.addWidget(self.table, 2)
        body.addWidget(scrolling(frame, fill=True), 1)
        area, side = side_column(340)
        frame, column = panel()
        self.name = heading("")
        column.addWidget(self.name)
        self.reason = soft()
        column.addWidget(self.reason)
        self.figures = FigureList("The picked strategy")
        column.addWidget(self.figures)
        self.use_button = QPushButton("Use this strategy")
        self.use_button.setObjectName("primary")
        self.use_button.clicked.connect(self.use)
        column.addWidget(self.use_button)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("On which machine"))
        self.machines = FigureList("The part on one's own machines")
        column.addWidget(self.machines)
        self.machine_note = soft()
        column.addWidget(self.machine_note)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(
            soft(
                "Each strategy has its own candidates; of those within the accepted chance the one that takes least energy is its "
                "best, else the likeliest to hold. Points are by the quick models; the best of each is run in full beside the "
                "interface. No strategy is preferred beforehand."
            )
        )
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)

    def uses(self) -> tuple[Key[Any], ...]:
        """The strategies by the quick models."""
        return EVALUATION, STRATEGIES.of(check=False)

    def also(self) -> tuple[Key[Any], ...]:
        """The same, each best one run in full; the part on other machines."""
        return (STRATEGIES, *((MACHINES.of(check=False), MACHINES) if self.project.builds else ()))

    def _found(self) -> tuple[StrategyFound, ...]:
        checked = self.results.value(STRATEGIES)
        return checked if checked is not None else self.results.last(STRATEGIES.of(check=False)) or ()

    def _ranks(self) -> tuple[MachineRank, ...]:
        """The machines, judged in full once they were."""
        if not self.project.builds:
            return ()
        checked = self.results.value(MACHINES)
        return checked if checked is not None else self.results.last(MACHINES.of(check=False)) or ()

    def headline(self) -> str:
        """Which strategies hold."""
        found = self._found()
        return strategies_sentence(found, self.project.criteria.risk, self.units) if found else ""

    def draw(self) -> None:
        """Show the newest comparison."""
        found, units = self._found(), self.units
        self.points.begin(self.theme)
        colors = self.theme.curves
        for k, f in enumerate(found):
            if f.best is None:
                continue
            color = colors[k % len(colors)]
            tried = np.array(f.tried)
            self.points.add_points(f.strategy.title, tried[:, 0] / 3.6e6, 100.0 * tried[:, 1], color)
        self.points.add_line(
            100.0 * self.project.criteria.risk, "accepted", self.theme.soft, vertical=False, place=0.02
        )
        self.points.setYRange(0.0, 105.0)
        rows = []
        for f in found:
            if f.best is None:
                rows.append([f.strategy.title, "–", "–", "–", f.problem])
                continue
            b = f.best
            rows.append(
                [
                    f.strategy.title, probability_text(b.judgement.anything), show(b.energy.total, "energy", units),
                    lift_text(b.judgement, self.project.criteria.lift_limit, units), b.proof,
                ]
            )  # fmt: skip
        self.table.blockSignals(True)
        self.table.show_rows(rows)
        for k in range(len(rows)):
            item = self.table.item(k, 0)
            if item is not None:
                item.setText(f"● {item.text()}")
                item.setForeground(QColor(colors[k % len(colors)]))
        self._picked = min(self._picked, max(0, len(rows) - 1))
        self.table.selectRow(self._picked)
        self.table.blockSignals(False)
        self._show_picked()
        ranks = self._ranks()
        self.machines.show_figures(
            [
                Figure(
                    f"{n}. {m.name}", probability_text(m.judgement.anything), machine_text(m, self.project.settings, units),
                    m.judgement.whole,
                )
                for n, m in enumerate(ranks, start=1)
            ],
            self.theme,
        )  # fmt: skip
        self.machine_note.setText(
            f"At the present settings, {machines_by(ranks)}: the chance that anything fails."
            if ranks
            else "Being computed …"
            if self.project.builds
            else "Add your other machines as builds (Heat-up, Compare builds): they are ranked here for this part."
        )

    def _pick(self) -> None:
        rows = self.table.selectionModel().selectedRows()
        if rows:
            self._picked = rows[0].row()
            self._show_picked()

    def _show_picked(self) -> None:
        found, units = self._found(), self.units
        if not found:
            return
        f = found[self._picked]
        self.name.setText(f.strategy.title)
        self.reason.setText(f.strategy.reason)
        self.use_button.setEnabled(f.best is not None)
        if f.best is None:
            self.figures.show_figures([Figure("Cannot be tried", "", f.problem)], self.theme)
            return
        b = f.best
        first = b.judgement.titles.get(b.judgement.first, "") if b.judgement.first else "nothing"
        self.figures.show_figures(
            [
                Figure("Changes", "", changes_text(b.changes, self.project, units)),
                Figure(
                    "Fails first",
                    first,
                    f"{probability_text(b.judgement.anything)} that anything fails",
                    b.judgement.whole,
                ),
                Figure(
                    "Energy",
                    show(b.energy.total, "energy", units),
                    f"{b.energy.cost:.2f} {self.project.criteria.currency} a job",
                ),
                Figure("Settings tried", str(len(f.tried))),
            ],
            self.theme,
        )

    def use(self) -> None:
        """Take over everything that the picked strategy changes."""
        found = self._found()
        best = found[self._picked].best if self._picked < len(found) else None
        if best is None:
            return
        try:
            self.document.edit_many(dict(best.changes), "a strategy")
        except InputError as error:
            self.document.problem.emit(str(error))
