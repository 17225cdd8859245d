"""The best settings over what is set free: the front between energy and risk, the best of each combination, the proof."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import numpy as np
from PySide6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QHBoxLayout, QProgressBar, QPushButton, QSizePolicy

from mandorla.core.errors import InputError
from mandorla.core.failure.messages import probability_text
from mandorla.core.results.choices import FREE, OBJECTIVES
from mandorla.core.results.key import Key
from mandorla.core.results.keys import EVALUATION, OPTIMUM
from mandorla.core.results.strategy_words import chosen_text, optimum_sentence
from mandorla.core.units import show, show_duration
from mandorla.ui.document import Document
from mandorla.ui.live_results import Standing, in_words
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.page import scrolling, side_column
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import heading, panel, soft
from mandorla.ui.widgets.pick_list import TextTable

if TYPE_CHECKING:
    from mandorla.core.results.types import Optimum

_SAID: Final = {"front": "by the coarse maps", "evaluated": "by the quick models", "optimum": ""}


class OptimumView(View):
    """What is searched over at the right, the front and the combinations at the left."""

    key = "optimum"
    title = "Optimum"
    needs_part = True

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        column.addWidget(
            heading("Less energy against less risk: the curve by the quick models, the optimum by full simulation")
        )
        self.front = CurvePlot("Front between energy and risk", "Energy at the plug, kWh", "Anything fails, %")
        self.front.setMinimumHeight(190)
        self.front.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Ignored)
        column.addWidget(self.front, 3)
        self.table = TextTable(
            "Points of the front and best combinations",
            ("Settings", "Anything fails", "Energy", "From"),
            "Nothing was searched yet: choose what is free, and Search",
        )
        self.table.setMinimumHeight(150)
        self.table.itemSelectionChanged.connect(self._pick)
        column.addWidget(self.table, 2)
        body.addWidget(scrolling(frame, fill=True), 1)
        area, side = side_column(340)
        frame, column = panel()
        column.addWidget(heading("Bed and chamber are free. Free, too:"))
        grid = QGridLayout()
        self.free: dict[str, QCheckBox] = {}
        for n, (key, name) in enumerate(FREE.items()):
            box = QCheckBox(name)
            box.setAccessibleName(f"{name} is free")
            self.free[key] = box
            grid.addWidget(box, n // 2, n % 2)
        column.addLayout(grid)
        self.objective = QComboBox()
        self.objective.setAccessibleName("What is wanted")
        for key, name in OBJECTIVES.items():
            self.objective.addItem(name, key)
        column.addWidget(self.objective)
        self.search_button = QPushButton("Search")
        self.search_button.setObjectName("primary")
        self.search_button.clicked.connect(self.search)
        column.addWidget(self.search_button)
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setAccessibleName("Progress of the search")
        self.progress.hide()
        column.addWidget(self.progress)
        self.status = soft()
        column.addWidget(self.status)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("The picked point"))
        self.figures = FigureList("The picked point")
        column.addWidget(self.figures)
        self.use_button = QPushButton("Use these")
        self.use_button.setObjectName("primary")
        self.use_button.setAccessibleName("Use the picked point")
        self.use_button.clicked.connect(self.use)
        column.addWidget(self.use_button)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(
            soft(
                "Every combination gets a map of bed against chamber of its own; the best points on it are evaluated as a "
                "whole and refined by whole degrees. The best of all is then run in full; where that fails, the search is "
                "repeated with more in reserve. The front is by the maps: a point taken over is checked in full by itself."
            )
        )
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)
        self._key: Key[Any] = OPTIMUM
        self.results.changed.connect(self._on_search)
        self.results.progressed.connect(self._on_search_progress)

    def uses(self) -> tuple[Key[Any], ...]:
        """The present state."""
        return (EVALUATION,)

    def also(self) -> tuple[Key[Any], ...]:
        """What the last search found."""
        return (self._key,)

    def _found(self) -> Optimum | None:
        found: Optimum | None = self.results.value(self._key)
        return found

    def headline(self) -> str:
        """What was found, and what proves it."""
        found, e = self._found(), self.results.last(EVALUATION)
        if found is None:
            return "Set free what may be chosen, say what is wanted, and search." if e is not None else ""
        now = e.energy.total if e is not None and e.energy is not None else float("nan")
        return optimum_sentence(found, self.project, now, self.units)

    def search(self) -> None:
        """Look for the optimum over what is free."""
        free = tuple(key for key, box in self.free.items() if box.isChecked())
        self._key = OPTIMUM.of(free=free, objective=self.objective.currentData())
        self.results.ask(self._key)
        self.refresh()
        self.changed()

    def _on_search(self, name: str) -> None:
        if name == OPTIMUM.name and self.isVisible():
            self.refresh()
            self.changed()

    def _on_search_progress(self, name: str, fraction: float, stage: str) -> None:
        if name == OPTIMUM.name:
            self.progress.setRange(0, 100)
            self.progress.setValue(round(100 * fraction))
            self.status.setText(stage)

    def draw(self) -> None:
        """Show the newest search."""
        found, standing, units = self._found(), self.results.standing(self._key), self.units
        busy = standing is Standing.COMPUTING
        self.progress.setVisible(busy)
        self.search_button.setEnabled(not busy)
        error = self.results.error(self._key)
        if not busy:
            self.status.setText(in_words(error) if error is not None else "" if found is None else (
                f"{found.combinations} combinations, {found.evaluations} whole evaluations"
            ))  # fmt: skip
        self.free["machine"].setEnabled(bool(self.project.builds))
        self.free["machine"].setToolTip("" if self.project.builds else "Add your other machines as builds first")
        self.front.begin(self.theme)
        rows = self._rows()
        if found is not None and found.front:
            x = np.array([p.energy / 3.6e6 for p in found.front])
            y = np.array([100.0 * p.chance for p in found.front])
            self.front.add_curve("front", x, y, self.theme.accent, unit="%")
            self.front.add_points("front", x, y, self.theme.accent)
            if found.best is not None:
                best = np.array([found.best.energy / 3.6e6]), np.array([100.0 * found.best.chance])
                self.front.add_points("optimum", *best, self.theme.holds)
            self.front.add_line(
                100.0 * self.project.criteria.risk, "accepted", self.theme.soft, vertical=False, place=0.02
            )
            self.front.setYRange(0.0, 105.0)
        self.table.blockSignals(True)
        self.table.show_rows([
            [
                chosen_text(p.names, changes, self.project, units), probability_text(p.chance), show(p.energy, "energy", units),
                source,
            ]
            for p, changes, source in rows
        ])  # fmt: skip
        self.table.selectRow(0)
        self.table.blockSignals(False)
        self._pick()

    def _rows(self) -> list[tuple[Any, dict[str, Any], str]]:
        """Points that can be taken over: the best, that of other combinations, the front."""
        found, p = self._found(), self.project
        if found is None:
            return []
        whole = [] if found.best is None else [(found.best, dict(found.changes), "optimum")]
        whole += [(f, found.changes_from(p.rig, p.settings, p.process, f), "evaluated") for f in found.others]
        return whole + [(f, found.changes_from(p.rig, p.settings, p.process, f), "front") for f in found.front]

    def _picked(self) -> tuple[Any, dict[str, Any], str] | None:
        rows, chosen = self._rows(), self.table.selectionModel().selectedRows()
        return rows[chosen[0].row()] if chosen and chosen[0].row() < len(rows) else None

    def _pick(self) -> None:
        picked, units = self._picked(), self.units
        self.use_button.setEnabled(picked is not None and bool(picked[1]))
        if picked is None:
            self.figures.show_figures([], self.theme)
            return
        (point, changes, source), found = picked, self._found()
        rows = [
            Figure("Changes", "", chosen_text(point.names, changes, self.project, units)),
            Figure(
                "Anything fails",
                probability_text(point.chance),
                _SAID[source] if source != "optimum" or found is None else found.proof,
            ),
            Figure("Energy", show(point.energy, "energy", units)),
        ]
        if hasattr(point, "duration"):
            rows += [
                Figure("Done after", show_duration(point.duration)),
                Figure(
                    "A good part costs",
                    f"{point.cost:.2f} {self.project.criteria.currency}",
                    "energy, filament and hours",
                ),
            ]
        self.figures.show_figures(rows, self.theme)

    def use(self) -> None:
        """Take over everything that the picked point changes."""
        picked = self._picked()
        if picked is None:
            return
        try:
            self.document.edit_many(picked[1], "Take over an optimum")
        except InputError as error:
            self.document.problem.emit(str(error))
