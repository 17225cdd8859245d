"""Regulation: terms from the model with what they change, and a set-point program of several steps, simulated."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QPushButton

from mandorla.core.errors import InputError
from mandorla.core.results.choices import PROGRAMS
from mandorla.core.results.key import Key
from mandorla.core.results.keys import REGULATION
from mandorla.core.rig.settings import ProgramStep
from mandorla.core.units import OFF, show, show_duration
from mandorla.ui.document import Document
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.page import side_column
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import answer, heading, panel, soft
from mandorla.ui.widgets.row_list import Column, RowKind, RowList

if TYPE_CHECKING:
    from mandorla.core.results.types import PidTuning, Regulated


class RegulationView(View):
    """The program's curves at the left; tuning and the program's steps at the right."""

    key = "regulation"
    title = "Regulation"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(8)
        frame, column = panel(8)
        self.sentence = answer()
        column.addWidget(self.sentence)
        self.curves = CurvePlot("Temperatures along the program", "Time, min", "Temperature, °C")
        column.addWidget(self.curves, 3)
        self.power = CurvePlot("Power along the program", "Time, min", "Power, W")
        column.addWidget(self.power, 2)
        body.addWidget(frame, 1)
        area, side = side_column(338)
        frame, column = panel()
        column.addWidget(heading("Terms from the model"))
        self.figures = FigureList("Regulator terms")
        column.addWidget(self.figures)
        self.use_button = QPushButton("Use these terms")
        self.use_button.setObjectName("primary")
        self.use_button.clicked.connect(self._use)
        column.addWidget(self.use_button)
        column.addWidget(
            soft(
                "Tangent of the answer to a 5 % step of power, Skogestad's rules, the quickest of five closing times that stays "
                "within the ready band. A controller's own autotune sees what no model knows: compare."
            )
        )
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("Program"))
        row = QHBoxLayout()
        for text, program in (("Soak", "soak"), ("Two stages", "two-stage"), ("None", "")):
            button = QPushButton(text)
            button.setAccessibleName(f"Program: {text}")
            button.clicked.connect(lambda _, key=program: self._take(key))
            row.addWidget(button)
        row.addStretch(1)
        column.addLayout(row)
        kind = RowKind(
            "program", "step",
            (Column("bed"), Column("chamber"), Column("wait", "Goes on", lambda: {"time": "after the hold",
             "ready": "when ready, then hold"}), Column("hold")),
            self._new_step, 12, "None: warm-up, soak and the rest's set points as they stand below.",
        )  # fmt: skip
        self.steps = RowList(document, kind)
        column.addWidget(self.steps)
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)

    def _new_step(self) -> ProgramStep:
        project = self.document.project
        last = project.program[-1] if project.program else None
        return ProgramStep(
            bed=last.bed if last else project.settings.bed_first,
            chamber=last.chamber if last else project.settings.chamber,
        )

    def _take(self, key: str) -> None:
        steps = PROGRAMS[key](self.project.settings) if key else ()
        self._edit({"program": tuple(s.model_dump() for s in steps)}, "Program")

    def _use(self) -> None:
        found = self.results.value(REGULATION)
        if found is None:
            return
        t = found.tuning
        base = "rig.bed.control"
        self._edit(
            {
                f"{base}.kind": "steady", f"{base}.proportional_band": t.proportional_band,
                f"{base}.integral_time": t.integral_time, f"{base}.derivative_time": t.derivative_time,
            },
            "Regulator terms",
        )  # fmt: skip

    def _edit(self, values: dict[str, object], text: str) -> None:
        try:
            self.document.edit_many(values, text)
        except InputError as error:
            self.document.problem.emit(str(error))

    def uses(self) -> tuple[Key[Any], ...]:
        """What is shown."""
        return (REGULATION,)

    def draw(self) -> None:
        """Show the terms, and the program as it runs on the present rig."""
        found, t, units = self.get(REGULATION), self.theme, self.units
        run = found.program
        unit = units.unit("temperature")
        minutes = run.time / 60
        self.curves.begin(t, y_label=f"Temperature, {unit.symbol}")
        heats = run.bed_set > OFF
        if heats.any():
            name_at = 0.97 * float(np.flatnonzero(heats)[-1]) / heats.size
            wanted = unit.from_si(np.where(heats, run.bed_set, np.nan))
            self.curves.add_curve(
                "set", minutes, wanted, t.soft, unit=unit.symbol, dashed=True, width=1.4, label_at=name_at
            )
        self.curves.add_curve("sensor", minutes, unit.from_si(run.reading), t.curves[1], unit=unit.symbol, label_at=0.3)
        self.curves.add_curve(
            "surface", minutes, unit.from_si(run.surface), t.curves[0], unit=unit.symbol, width=3.0, label_at=0.6,
            label_above=False,
        )  # fmt: skip
        if self.document.project.rig.chamber.enclosed:
            self.curves.add_curve(
                "chamber", minutes, unit.from_si(run.air), t.curves[4], unit=unit.symbol, label_at=0.8
            )
        for end in run.ends[:-1]:
            self.curves.add_line(end / 60, "", t.accent, vertical=True)
        self.power.begin(t)
        self.power.add_curve("bed and chamber", minutes, run.power, t.curves[0], unit="W", label_at=0.2)
        for plot in (self.curves, self.power):
            plot.setXRange(0.0, float(minutes[-1]), padding=0.01)
        missed = [i + 1 for i, there in enumerate(run.reached) if not there]
        words = "every set point is met" if not missed else "not met: step " + ", ".join(str(i) for i in missed)
        self.sentence.setText(
            f"{len(run.ends)} steps in {show_duration(run.ends[-1])} with {show(run.energy, 'energy', units)}; {words}."
        )
        self._show_tuning(found.tuning)

    def _show_tuning(self, tuning: PidTuning) -> None:
        units = self.document.units

        def told(r: Regulated) -> str:
            ready = show_duration(r.ready_time) if np.isfinite(r.ready_time) else "not ready"
            return f"overshoots {show(r.overshoot, 'temperature_difference', units)}, ready in {ready}"

        self.figures.show_figures(
            [
                Figure("Proportional band", show(tuning.proportional_band, "temperature_difference", units)),
                Figure("Integral time", show(tuning.integral_time, "time_constant", units)),
                Figure("Derivative time", show(tuning.derivative_time, "time_constant", units)),
                Figure("As regulated now", "", told(tuning.now)),
                Figure("With these terms", "", told(tuning.then)),
            ],
            self.theme,
        )
