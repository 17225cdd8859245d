"""Tune: what to change."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from mandorla.core.errors import InputError
from mandorla.core.failure.messages import margin_text, plate_sentence, probability_text
from mandorla.core.project.models import Scenario
from mandorla.core.results.key import Key
from mandorla.core.results.keys import EVALUATION, PLATE_LIFT, SCENARIO, WINDOW
from mandorla.core.tune.messages import tune_sentence
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.plots.almond_map import AlmondMap
from mandorla.ui.stages.page import side_column
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.widgets.console import verdict_texts
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import heading, panel, soft

if TYPE_CHECKING:
    from mandorla.core.results.types import Evaluation, Point


class WindowView(View):
    """The operating window and the comparison of pinned scenarios."""

    key = "window"
    title = "Operating window"
    needs_part = True

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        row = QHBoxLayout()
        row.addWidget(heading("Bed against chamber · click to move the settings there"))
        row.addStretch(1)
        column.addLayout(row)
        self.map = AlmondMap()
        self.map.picked.connect(self._pick)
        column.addWidget(self.map, 1)
        self.foot = soft()
        column.addWidget(self.foot)
        body.addWidget(frame, 1)

        area, side = side_column(352)
        self.cards: dict[str, tuple[FigureList, QPushButton | None]] = {}
        for key, title, button_text in (
            ("nearest", "Smallest change that holds", "Use these"),
            ("cheapest", "Cheapest that holds", "Use these "),
        ):
            frame, column = panel()
            head = QHBoxLayout()
            head.addWidget(heading(title))
            head.addStretch(1)
            button = QPushButton(button_text.strip())
            button.setObjectName("primary")
            button.setAccessibleName(f"Use the settings: {title}")
            button.clicked.connect(lambda _=False, k=key: self.use(k))
            head.addWidget(button)
            column.addLayout(head)
            table = FigureList(title)
            column.addWidget(table)
            self.cards[key] = (table, button)
            side.addWidget(frame)
        frame, column = panel()
        head = QHBoxLayout()
        head.addWidget(heading("Scenarios, difference first"))
        head.addStretch(1)
        self.pin_button = QPushButton("Pin now")
        self.pin_button.clicked.connect(self.pin)
        head.addWidget(self.pin_button)
        column.addLayout(head)
        self._compare_host = QVBoxLayout()
        column.addLayout(self._compare_host)
        self.comparison: QWidget | None = None
        self.comparison_texts: list[list[str]] = []
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)

    def use(self, which: str) -> None:
        """Move the settings to the gentlest or the cheapest point."""
        window = self.results.value(WINDOW)
        point = getattr(window, which, None) if window is not None else None
        if point is not None:
            self._pick(point.bed, point.chamber)

    def _pick(self, bed: float, chamber: float) -> None:
        settings, rig = self.document.project.settings, self.document.project.rig
        extra = settings.bed_first - settings.bed_rest
        bed = round(bed - 273.15) + 273.15
        values = {"settings.bed_rest": bed, "settings.bed_first": bed + extra}
        if rig.chamber.enclosed and rig.chamber.heater_power > 0:
            values["settings.chamber"] = max(round(chamber - 273.15) + 273.15, 288.15)
        try:
            self.document.edit_many(values, "Move on the map")
        except InputError as error:
            self.document.problem.emit(str(error))

    def pin(self) -> None:
        """Pin the present settings under the next free letter."""
        taken = {s.name for s in self.document.project.scenarios}
        name = next(n for n in "ABCDEFGHIJKLMNOPQRSTUVWXYZ" if n not in taken)
        try:
            self.document.pin(name)
        except InputError as error:
            self.document.problem.emit(str(error))

    def uses(self) -> tuple[Key[Any], ...]:
        """The window and the present state."""
        return WINDOW, EVALUATION

    def also(self) -> tuple[Key[Any], ...]:
        """Pinned scenarios, and what a loose plate does."""
        return (*(SCENARIO.of(scenario=s.name) for s in self.project.scenarios), PLATE_LIFT)

    def headline(self) -> str:
        """The gentlest change that makes it so, and the cheapest safe settings."""
        w, e = self.results.last(WINDOW), self.results.last(EVALUATION)
        if w is None or e is None or e.part is None:
            return ""
        return tune_sentence(w, e, self.units)

    def _pinned(self) -> dict[str, Evaluation]:
        found = {s.name: self.results.last(SCENARIO.of(scenario=s.name)) for s in self.project.scenarios}
        return {name: e for name, e in found.items() if e is not None}

    def draw(self) -> None:
        """Show window, cards and comparison."""
        w, e, project, units = self.get(WINDOW), self.get(EVALUATION), self.project, self.units
        self._show_comparison()
        if e.part is None:
            return
        self.map.show_window(w, self.theme, units)
        for key, point in (("nearest", w.nearest), ("cheapest", w.cheapest)):
            table, button = self.cards[key]
            table.show_figures(self._rows(point), self.theme)
            if button:
                button.setEnabled(point is not None)
        limit = f"The almond's right and upper edge: {w.binding}. " if w.binding and w.almond.any() else ""
        found = self.results.value(PLATE_LIFT)
        plate = plate_sentence(found, units) if found is not None else ""
        plate = f"The window counts the grip, not a loose plate. {plate} " if plate else ""
        self.foot.setText(
            f"{plate}{limit}Held-back points agree with the map's margin within {100 * w.fit_error:.1f} %. The region drawn uses "
            f"typical figures; a margin of {project.criteria.margin_wanted:.1f} is asked for because grip is known to a factor of "
            "two."
        )

    def _rows(self, p: Point | None) -> list[Figure]:
        units, w = self.units, self.results.last(WINDOW)
        if p is None or w is None:
            return [Figure("None on this map", "–")]
        alone = w.heater_off(p)
        air = show(w.actual_chamber(p), "temperature", units, digits=0)
        saving = p.energy - w.present.energy
        return [
            Figure("Bed, rest", show(p.bed, "temperature", units, digits=0)),
            Figure("Chamber", air, "heater off, by the bed alone" if alone else ""),
            Figure("Hold margin", margin_text(p.margin), f"{probability_text(p.hold_probability)} to hold"),
            Figure("Lift", show(p.lift, "length", units)),
            Figure(
                "Energy",
                show(p.energy, "energy", units),
                f"{'+' if saving >= 0 else '−'}{show(abs(saving), 'energy', units)} against now",
            ),
        ]

    def _show_comparison(self) -> None:
        if self.comparison is not None:
            self._compare_host.removeWidget(self.comparison)
            self.comparison.deleteLater()
        e, project, pinned = self.results.last(EVALUATION), self.project, self._pinned()
        holder = QWidget()
        grid = QGridLayout(holder)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(3)
        self.comparison, self.comparison_texts = holder, []
        self._compare_host.addWidget(holder)
        scenarios = [s for s in project.scenarios if s.name in pinned]
        if not scenarios or e is None:
            grid.addWidget(
                soft(
                    "Pin the present settings, change something, and both stand side by side here; up to four can be pinned."
                ),
                0,
                0,
            )
            return
        columns: list[tuple[str, Scenario | None, Evaluation]] = [(s.name, s, pinned[s.name]) for s in scenarios]
        columns.append(("Now", None, e))
        self._comparison_head(grid, columns)
        rows = comparison_rows(columns, self.document)
        for r, (caption, texts) in enumerate(rows, start=1):
            self.comparison_texts.append([caption, *texts])
            for c, text in enumerate([caption, *texts]):
                label = QLabel(text)
                label.setFont(font(9.0, strong=c > 0))
                if c == 0:
                    label.setWordWrap(True)
                grid.addWidget(label, r, c, Qt.AlignmentFlag.AlignLeft if c == 0 else Qt.AlignmentFlag.AlignRight)

    def _comparison_head(self, grid: QGridLayout, columns: list[tuple[str, Scenario | None, Evaluation]]) -> None:
        for c, (name, scenario, _) in enumerate(columns, start=1):
            if scenario is None:
                label = QLabel(name)
                label.setFont(font(9.5, strong=True))
                grid.addWidget(label, 0, c, Qt.AlignmentFlag.AlignRight)
                continue
            button = QPushButton(f"{name} ×")
            button.setToolTip(f"Forget scenario {name}")
            button.setAccessibleName(f"Forget scenario {name}")
            button.clicked.connect(lambda _=False, n=name: self.document.unpin(n))
            grid.addWidget(button, 0, c, Qt.AlignmentFlag.AlignRight)


def comparison_rows(
    columns: list[tuple[str, Scenario | None, Evaluation]], document: Document
) -> list[tuple[str, list[str]]]:
    """Settings and verdicts of the scenarios, rows that differ first."""
    units, project = document.units, document.project
    rows: list[tuple[str, list[str]]] = []
    for name, caption, kind in (
        ("bed_first", "Bed, first", "temperature"),
        ("bed_rest", "Bed, rest", "temperature"),
        ("chamber", "Chamber", "temperature"),
        ("soak_time", "Soak", "duration"),
        ("fan", "Fan", "fraction"),
    ):
        values = [getattr(s.settings if s else project.settings, name) for _, s, _ in columns]
        absent = name == "chamber" and not project.rig.heats_chamber
        rows.append((caption, ["not heated" if absent else show(v, kind, units, digits=0) for v in values]))
    verdicts = [verdict_texts(e, units, project.criteria.currency) for _, _, e in columns]
    for caption in verdicts[0]:
        rows.append((caption, [v[caption][0] for v in verdicts]))
    return sorted(rows, key=lambda row: len(set(row[1])) == 1)
