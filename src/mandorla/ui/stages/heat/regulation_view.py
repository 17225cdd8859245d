"""Regulation: terms from the model with what they change, and a set-point program of several steps, simulated."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from mandorla.core.errors import InputError
from mandorla.core.rig.settings import ProgramStep
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.program import ProgramRun, soak, two_stage
from mandorla.core.thermal.tuning import Regulated, Tuning
from mandorla.core.units import show, show_duration
from mandorla.ui.document import Document
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.page import side_column
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import answer, heading, panel, soft
from mandorla.ui.widgets.row_list import Column, RowKind, RowList
from mandorla.ui.workers.jobs import Channel

Both = tuple[Tuning, ProgramRun]


class RegulationView(QWidget):
    """The program's curves at the left; tuning and the program's steps at the right."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        self._theme: Theme | None = None
        self.tuning: Tuning | None = None
        self.program: ProgramRun | None = None
        self._channel = Channel(self)
        self._channel.finished.connect(self._show)
        self._channel.failed.connect(lambda e: self.sentence.setText(str(e).splitlines()[0]))
        body = QHBoxLayout(self)
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
        for text, steps in (("Soak", soak), ("Two stages", two_stage), ("None", None)):
            button = QPushButton(text)
            button.setAccessibleName(f"Program: {text}")
            button.clicked.connect(lambda _, make=steps: self._take(make))
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
        project = self._document.project
        last = project.program[-1] if project.program else None
        return ProgramStep(
            bed=last.bed if last else project.settings.bed_first,
            chamber=last.chamber if last else project.settings.chamber,
        )

    def _take(self, make: object) -> None:
        steps = make(self._document.project.settings) if callable(make) else ()
        self._edit({"program": tuple(s.model_dump() for s in steps)}, "Program")

    def _use(self) -> None:
        t = self.tuning
        if t is None:
            return
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
            self._document.edit_many(values, text)
        except InputError as error:
            self._document.problem.emit(str(error))

    def refresh(self, theme: Theme) -> None:
        """Tune and run the program on the present rig, beside the interface."""
        self._theme = theme
        project, e = self._document.project, self._document.evaluation
        if e is None:
            return

        def work(_: RunContext) -> Both:
            from mandorla.ui.workers import computing  # see its docstring

            return computing.tuning_of(project, e), computing.program_of(project, e)

        self._channel.start(work)

    def _show(self, result: Both) -> None:
        self.tuning, self.program = result
        t, units, run = self._theme, self._document.units, self.program
        assert t is not None
        unit = units.unit("temperature")
        minutes = run.time / 60
        self.curves.begin(t, y_label=f"Temperature, {unit.symbol}")
        self.curves.add_curve(
            "set", minutes, unit.from_si(run.bed_set), t.soft, unit=unit.symbol, dashed=True, width=1.4, label_at=0.97
        )
        self.curves.add_curve("sensor", minutes, unit.from_si(run.reading), t.curves[1], unit=unit.symbol, label_at=0.3)
        self.curves.add_curve(
            "surface", minutes, unit.from_si(run.surface), t.curves[0], unit=unit.symbol, width=3.0, label_at=0.6,
            label_above=False,
        )  # fmt: skip
        if self._document.project.rig.chamber.enclosed:
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
        self._show_tuning(self.tuning)

    def _show_tuning(self, tuning: Tuning) -> None:
        assert self._theme is not None
        units = self._document.units

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
            self._theme,
        )
