"""Energy: a plug meter's log against the predicted power, by phase."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QPushButton

from mandorla.core.errors import InputError
from mandorla.core.results.key import Key
from mandorla.core.units import show, show_duration
from mandorla.ui.document import Document
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.page import side_column
from mandorla.ui.stages.verify.desk import VerifyDesk
from mandorla.ui.stages.verify.verify_view import VerifyView
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import answer, heading, panel, soft
from mandorla.ui.widgets.pick_list import TextTable


def steps(start: np.ndarray, end: np.ndarray, values: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Bins as a stepped line: minutes and values."""
    return np.column_stack([start, end]).ravel() / 60.0, np.repeat(values, 2)


class EnergyView(VerifyView):
    """Power by interval, measured and predicted, and a table of phases."""

    key = "energy"
    title = "Energy"

    def __init__(self, document: Document, theme: Theme, desk: VerifyDesk) -> None:
        super().__init__(document, theme, desk)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        self.sentence = answer()
        column.addWidget(self.sentence)
        self.curves = CurvePlot("Power, measured and predicted", "Time, min", "Power, W")
        column.addWidget(self.curves, 1)
        body.addWidget(frame, 1)
        area, side = side_column(360)
        frame, column = panel()
        column.addWidget(heading("What the meter says"))
        self.figures = FigureList("What the meter says")
        column.addWidget(self.figures)
        self.take_note = soft()
        column.addWidget(self.take_note)
        self.take_button = QPushButton("Take over into the rig")
        self.take_button.setObjectName("primary")
        self.take_button.clicked.connect(self.take_over)
        column.addWidget(self.take_button)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("Energy by phase"))
        self.table = TextTable("Energy by phase", ("Phase", "Measured", "Predicted"), "Open the log of a plug meter")
        self.table.setMinimumHeight(130)
        column.addWidget(self.table)
        column.addWidget(
            soft("Mains meters go between plug and machine; wiring is work for a qualified electrician, by local code.")
        )
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)

    def also(self) -> tuple[Key[Any], ...]:
        """What is shown when it is there."""
        return (self.desk.asked,) if self.desk.asked is not None else ()

    def take_over(self) -> None:
        """Give the rig what the meter found, with where it comes from."""
        comparison = self.desk.comparison
        if comparison is None or comparison.by_meter is None:
            return
        found = comparison.by_meter
        values: dict[str, object] = {"rig.plug": found.plug.model_dump()}
        if math.isfinite(found.power):
            values["rig.bed.heater.power"] = round(found.power, 1)
        try:
            self.document.edit_many(values, "what the plug meter found")
        except InputError as error:
            self.document.problem.emit(str(error))
            return
        self.document.said.emit(f"Taken over: {found.words}")

    def draw(self) -> None:
        """Show the energy check of the session."""
        found, units = self.desk.comparison, self.desk.document.units
        self.curves.begin(self.theme)
        by_meter = found.by_meter if found is not None else None
        self.take_button.setVisible(by_meter is not None)
        self.take_note.setText(by_meter.words[0].upper() + by_meter.words[1:] if by_meter is not None else "")
        if found is None or found.energy is None:
            self.sentence.setText(
                "Open a plug meter's log in the view Logs: W, or kWh as a running total or hour by hour."
            )
            self.figures.show_figures([], self.theme)
            self.table.show_rows([])
            return
        e = found.energy
        gap = e.steady - e.steady_predicted
        way = "more" if gap > 0 else "less"
        self.sentence.setText(
            f"Steady it draws {show(e.steady, 'power', units)}, {show(abs(gap), 'power', units)} {way} than "
            "predicted; all of it took "
            f"{show(e.bins.energy, 'energy', units)}."
            + "".join(
                f" It was interrupted from {show_duration(a)} to {show_duration(b)} after switching on: its energy is of more than "
                "one heat-up."
                for a, b in e.interrupted
            )
        )
        x, y = steps(e.bins.start, e.bins.end, e.bins.power)
        said = steps(e.bins.start, e.bins.end, e.predicted)
        self.curves.add_curve("predicted", *said, self.theme.curves[1], unit="W", dashed=True, label_at=0.4,
                              label_above=False)  # fmt: skip
        self.curves.add_curve("measured", x, y, self.theme.curves[0], unit="W", label_at=0.7, width=1.6)
        self.figures.show_figures(
            [
                Figure("Read as", e.kind),
                Figure("Base load", show(e.base, "power", units), e.base_from),
                Figure(
                    "Peak of the heat-up",
                    show(e.peak, "power", units),
                    f"predicted {show(e.peak_predicted, 'power', units)}",
                ),
                Figure(
                    "Steady", show(e.steady, "power", units), f"predicted {show(e.steady_predicted, 'power', units)}"
                ),
                Figure(
                    "Steady duty of the heaters", f"{100 * e.duty:.0f} %", "of their full power, base load taken off"
                ),
            ],
            self.theme,
        )
        self.table.show_rows(
            [
                [p.name, show(p.measured, "energy", units, digits=3), show(p.predicted, "energy", units, digits=3)]
                for p in e.phases
            ]
        )
