"""The verdict: measured against predicted, where the misfit lies, which assumption is likely wrong, the record of the day."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QPushButton, QVBoxLayout

from mandorla.core.failure.state import State
from mandorla.core.measure.records import VERDICTS, record_of, record_text, row_text
from mandorla.core.results.key import Key
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.plots.bed_survey import BedSurvey, Dot
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.page import side_column
from mandorla.ui.stages.verify.desk import VerifyDesk, today
from mandorla.ui.stages.verify.verify_view import VerifyView
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import Form, heading, panel, soft

if TYPE_CHECKING:
    from mandorla.core.results.types import Comparison, Series

NOTHING = "Nothing to compare yet: read the surface, or import a log."


class CompareView(VerifyView):
    """Rows with marks at the left, a series with both bands and the misfit on the bed, suspects and records at the right."""

    key = "verdict"
    title = "Verdict"

    def __init__(self, document: Document, theme: Theme, desk: VerifyDesk) -> None:
        super().__init__(document, theme, desk)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        left = QVBoxLayout()
        left.setSpacing(8)
        frame, column = panel(8)
        head = QHBoxLayout()
        head.addWidget(heading("Measured, predicted"))
        head.addStretch(1)
        self.choice = QComboBox()
        self.choice.setAccessibleName("Series that is drawn")
        self.choice.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.choice.activated.connect(lambda _: self._draw())
        self.difference = QCheckBox("difference only")
        self.difference.toggled.connect(lambda _: self._draw())
        head.addWidget(self.difference)
        head.addWidget(self.choice)
        column.addLayout(head)
        self.curves = CurvePlot("Measured and predicted", "Time, min", "Temperature, °C")
        self.curves.setMinimumHeight(90)
        column.addWidget(self.curves, 1)
        left.addWidget(frame, 44)
        frame, column = panel(8)
        self.bed_title = heading("Measured minus predicted on the surface")
        column.addWidget(self.bed_title)
        self.bed = BedSurvey("Misfit on the bed")
        column.addWidget(self.bed, 1)
        left.addWidget(frame, 55)
        body.addLayout(left, 1)
        area, side = side_column(392)
        frame, column = panel()
        column.addWidget(heading("Figure by figure"))
        self.rows = FigureList("Measured against predicted")
        column.addWidget(self.rows)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("Which assumption would explain it"))
        self.suspects = FigureList("Suspected assumptions")
        column.addWidget(self.suspects)
        self.mind = soft()
        column.addWidget(self.mind)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("Accepted as agreeing"))
        form = Form(desk.document)
        for name in ("offset", "spread", "drift", "ready"):
            form.add_field(f"measurements.acceptance.{name}")
        column.addWidget(form)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("Record"))
        self.record_text = soft()
        column.addWidget(self.record_text)
        self.record_button = QPushButton("Record this verdict")
        self.record_button.setObjectName("primary")
        self.record_button.clicked.connect(self._record)
        column.addWidget(self.record_button)
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)

    def also(self) -> tuple[Key[Any], ...]:
        """What is shown when it is there."""
        return (self.desk.asked,) if self.desk.asked is not None else ()

    def draw(self) -> None:
        """Show the comparison."""
        found = self.desk.comparison
        project, units = self.desk.document.project, self.desk.document.units
        records = project.measurements.records
        self.record_text.setText(
            record_text(records[-1], project.rig)
            if records
            else "No verdict was recorded yet. Records go into the report."
        )
        self.record_button.setEnabled(found is not None)
        if found is None:
            self.rows.show_figures([], self.theme)
            self.suspects.show_figures([], self.theme)
            self.mind.setText(self.desk.refusal or ("Comparing …" if self.desk.asked is not None else NOTHING))
            self.choice.clear()
            self.curves.begin(self.theme)
            self.bed.show_dots(self.theme, (project.rig.bed.width, project.rig.bed.depth), ())
            return
        figures = []
        for r in found.rows:
            measured, predicted = row_text(r, units)
            figures.append(Figure(r.what, measured, f"predicted {predicted}; {VERDICTS[r.state]}", State(r.state)))
        self.rows.show_figures(figures, self.theme)
        self.suspects.show_figures(
            [
                Figure(
                    s.name[0].upper() + s.name[1:],
                    s.after,
                    f"believed {s.before}; explains {100 * s.explained:.0f} % by itself",
                )
                for s in found.suspects
            ]
            or [Figure("None: the figures agree", "")],
            self.theme,
        )
        soaked = found.soak
        said = list(found.oddities)
        if found.suspects:
            said.insert(0, "Fit it to be sure: the Fit view says how well it can be told apart.")
        if soaked is not None and not soaked.settled:
            said.append("The log ends before the bed was soaked.")
        self.mind.setText("\n".join(said))
        self._fill_choice(found)
        self._draw()
        self._show_bed(found)

    def _fill_choice(self, found: Comparison) -> None:
        names = [s.observation.name for s in found.series if s.observation.value.size > 1]
        if [self.choice.itemData(i) for i in range(self.choice.count())] != names:
            self.choice.clear()
            for name in names:
                self.choice.addItem(name, name)
            surface = [i for i, n in enumerate(names) if "surface" in n]
            self.choice.setCurrentIndex(surface[0] if surface else 0)

    def _draw(self) -> None:
        found, t = self.desk.comparison, self.theme
        if found is None:
            return
        name = self.choice.currentData()
        series = next((s for s in found.series if s.observation.name == name), None)
        if series is None:
            self.curves.begin(t)
            return
        o = series.observation
        unit = self.desk.document.units.unit("power" if o.role == "power" else "temperature")
        self.curves.begin(t, y_label=f"{'Power' if o.role == 'power' else 'Temperature'}, {unit.symbol}")
        minutes = o.time / 60
        if self.difference.isChecked():
            self._draw_difference(series)
            return
        self.curves.add_band(minutes, unit.from_si(series.band[0]), unit.from_si(series.band[1]), t.curves[1])
        half = 2.0 * np.hypot(o.common, min(o.noise, 0.5) if o.role != "power" else 2.0)
        self.curves.add_band(minutes, unit.from_si(o.value - half), unit.from_si(o.value + half), t.curves[0])
        self.curves.add_curve("predicted", minutes, unit.from_si(series.predicted), t.curves[1], unit=unit.symbol, dashed=True,
                              label_at=0.45, label_above=False)  # fmt: skip
        self.curves.add_curve("measured", minutes, unit.from_si(o.value), t.curves[0], unit=unit.symbol, label_at=0.75)

    def _draw_difference(self, series: Series) -> None:
        o, t, units = series.observation, self.theme, self.desk.document.units
        unit = units.unit("power" if o.role == "power" else "temperature_difference")
        self.curves.begin(t, y_label=f"Measured minus predicted, {unit.symbol}")
        minutes, gap = o.time / 60, o.value - series.predicted
        self.curves.add_band(
            minutes,
            unit.from_si(series.band[0] - series.predicted),
            unit.from_si(series.band[1] - series.predicted),
            t.curves[1],
        )
        half = 2.0 * np.hypot(o.common, min(o.noise, 0.5) if o.role != "power" else 2.0)
        self.curves.add_band(minutes, unit.from_si(gap - half), unit.from_si(gap + half), t.curves[0])
        self.curves.add_line(0.0, "as predicted", t.curves[1], vertical=False)
        self.curves.add_curve("measured", minutes, unit.from_si(gap), t.curves[0], unit=unit.symbol, label_at=0.7)

    def _show_bed(self, found: Comparison) -> None:
        bed, units = self.desk.document.project.rig.bed, self.desk.document.units
        limit = self.desk.measurements.acceptance.offset
        # what an instrument says that contradicts another one is no verdict on the rig
        doubtful = found.distrusted
        bad = "marginal" if doubtful else "fails"
        self.bed_title.setText(
            "Measured minus predicted" + (f" · {', '.join(sorted(doubtful))} does not count yet" if doubtful else "")
        )
        dots = [
            Dot(x, y, show(gap, "temperature_difference", units), state="holds" if abs(gap) <= limit else bad)
            for x, y, gap in found.residuals[:64]
        ]
        self.bed.show_dots(self.theme, (bed.width, bed.depth), dots, rounded=bed.shape == "round")

    def _record(self) -> None:
        found = self.desk.comparison
        if found is None:
            return
        document = self.desk.document
        record = record_of(found, document.project.rig, today(), document.units)
        self.desk.put("measurements.records", (*self.desk.measurements.records, record), "Record verdict")
