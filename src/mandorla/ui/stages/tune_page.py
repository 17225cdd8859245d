"""Tune: what to change."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QProgressBar, QPushButton, QVBoxLayout, QWidget

from mandorla.core.errors import InputError
from mandorla.core.project.models import Scenario
from mandorla.core.project.plate_look import plate_sentence
from mandorla.core.tune.evaluate import Evaluation
from mandorla.core.tune.sentences import margin_text, probability_text, tune_sentence
from mandorla.core.tune.window import Point
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.plots.almond_map import AlmondMap
from mandorla.ui.stages.page import StagePage, side_column
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.widgets.console import verdict_texts
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import heading, panel, soft


class TunePage(StagePage):
    """The operating window and the comparison of pinned scenarios."""

    def __init__(self, document: Document, theme: Theme, title: str) -> None:
        super().__init__(document, theme, title)
        frame, column = panel(8)
        row = QHBoxLayout()
        row.addWidget(heading("Bed against chamber · click to move the settings there"))
        row.addStretch(1)
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setRange(0, 100)
        self.progress.setFixedWidth(140)
        self.progress.setAccessibleName("Progress of the operating window")
        row.addWidget(self.progress)
        column.addLayout(row)
        self.map = AlmondMap()
        self.map.picked.connect(self._pick)
        column.addWidget(self.map, 1)
        self.foot = soft()
        column.addWidget(self.foot)
        self.body.addWidget(frame, 1)

        area, side = side_column(352)
        self.cards: dict[str, tuple[FigureList, QPushButton | None]] = {}
        for key, title, button_text in (
            ("nearest", "Gentlest change that holds", "Use these"),
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
        self.body.addWidget(area)
        document.window_progress.connect(lambda f: self.progress.setValue(int(100 * f)))
        document.window_computed.connect(self.refresh)
        document.plate_computed.connect(self.refresh)

    def use(self, which: str) -> None:
        """Move the settings to the gentlest or the cheapest point."""
        window = self.document.window
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
        self.document.pin(name)

    def refresh(self) -> None:
        """Show window, cards and comparison."""
        e, w, project = self.document.evaluation, self.document.window, self.document.project
        self.progress.setVisible(self.document.window_busy and e is not None and e.part is not None)
        self._show_comparison()
        if e is None or e.part is None or w is None:
            text = (
                "Open a part to see where it holds." if e is not None and e.part is None else "Computing the window …"
            )
            self.say(text)
            for table, button in self.cards.values():
                table.show_figures([], self.theme)
                if button:
                    button.setEnabled(False)
            return
        units = self.document.units
        self.say(tune_sentence(w, e, project.settings, project.criteria, units))
        self.map.show_window(w, self.theme, units)
        for key, point in (("nearest", w.nearest), ("cheapest", w.cheapest)):
            table, button = self.cards[key]
            table.show_figures(self._rows(point), self.theme)
            if button:
                button.setEnabled(point is not None)
        limit = f"The almond's right and upper edge: {w.binding}. " if w.binding and w.almond.any() else ""
        look = self.document.plate
        plate = plate_sentence(look, units) if look is not None and self.document.plate_is_present else ""
        plate = f"The window counts the grip, not a loose plate. {plate} " if plate else ""
        self.foot.setText(
            f"{plate}{limit}Held-back points agree with the map's margin within {100 * w.fit_error:.1f} %. The region drawn uses "
            f"typical figures; a margin of {project.criteria.margin_wanted:.1f} is asked for because grip is known to a factor of "
            "two."
        )

    def _rows(self, p: Point | None) -> list[Figure]:
        units, w = self.document.units, self.document.window
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
        e, project = self.document.evaluation, self.document.project
        holder = QWidget()
        grid = QGridLayout(holder)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(3)
        self.comparison, self.comparison_texts = holder, []
        self._compare_host.addWidget(holder)
        scenarios = [s for s in project.scenarios if s.name in self.document.pinned]
        if not scenarios or e is None:
            grid.addWidget(
                soft(
                    "Pin the present settings, change something, and both stand side by side here; two can be pinned."
                ),
                0,
                0,
            )
            return
        columns: list[tuple[str, Scenario | None, Evaluation]] = [
            (s.name, s, self.document.pinned[s.name]) for s in scenarios
        ]
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
        rows.append((caption, [show(v, kind, units, digits=0) for v in values]))
    verdicts = [verdict_texts(e, units, project.criteria.currency) for _, _, e in columns]
    for caption in verdicts[0]:
        rows.append((caption, [v[caption][0] for v in verdicts]))
    return sorted(rows, key=lambda row: len(set(row[1])) == 1)
