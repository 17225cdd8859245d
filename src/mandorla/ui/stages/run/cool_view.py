"""After the last layer: plate, part and chamber against time, when it may be touched and comes off."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QSizePolicy

from mandorla.core.results.key import Key
from mandorla.core.results.keys import COOL_DOWN, COOLING_STRESS, EVALUATION, PLATE_USE
from mandorla.core.run.messages import cool_sentence
from mandorla.core.run.touch import BURNS, CONTACTS, GRASPED, burns_at, touched
from mandorla.core.units import show, show_duration
from mandorla.ui.document import Document
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.page import scrolling, side_column
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import Form, heading, panel, soft


class CoolView(View):
    """Curves, moments, burn thresholds, the ramp."""

    key = "cool"
    title = "Cool-down"
    needs_part = True

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        column.addWidget(heading("After the last layer"))
        self.curves = CurvePlot("Cool-down", "Minutes after the last layer", "Temperature")
        self.curves.setMinimumHeight(220)
        self.curves.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Ignored)
        column.addWidget(self.curves, 1)
        self.note = soft()
        column.addWidget(self.note)
        body.addWidget(scrolling(frame, fill=True), 1)
        area, side = side_column(340)
        frame, column = panel()
        column.addWidget(heading("When"))
        self.moments = FigureList("Moments of the cool-down")
        column.addWidget(self.moments)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("How"))
        form = Form(document)
        form.add_field("run_plan.ramp")
        column.addWidget(form)
        column.addWidget(
            soft("Switched off, or bed and chamber lowered by so much a minute until they are as cold as the room.")
        )
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("A touch burns from"))
        self.burns = FigureList("Burn thresholds")
        column.addWidget(self.burns)
        column.addWidget(soft(
            "Contact temperatures of EN ISO 13732-1, lower ends, from memory of the standard and not checked against it: keep well "
            "below. Children, and hands that feel little, need colder surfaces."
        ))  # fmt: skip
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)

    def uses(self) -> tuple[Key[Any], ...]:
        """The cool-down, and how the part comes off."""
        return EVALUATION, COOL_DOWN, COOLING_STRESS, PLATE_USE.of(units=self.units)

    def headline(self) -> str:
        """When the plate may be touched, and when the part is loose."""
        cool, plate = self.results.last(COOL_DOWN), self.results.last(PLATE_USE.of(units=self.units))
        if cool is None or plate is None:
            return ""
        return cool_sentence(cool, plate.lets_go, plate.shears, self._material(), self.units)

    def _material(self) -> str:
        return touched(self.project.rig.bed)

    def draw(self) -> None:
        """Show the newest cool-down."""
        cool, plate, units = self.get(COOL_DOWN), self.get(PLATE_USE.of(units=self.units)), self.units
        unit = units.unit("temperature")
        minutes = cool.time / 60.0
        self.curves.begin(self.theme, y_label=f"Temperature, {unit.symbol}")

        def shown(curve: np.ndarray) -> np.ndarray:
            return np.asarray(unit.from_si(curve))

        self.curves.add_band(minutes, shown(cool.part_ends[1]), shown(cool.part_ends[0]), self.theme.curves[2])
        for name, curve, color, at in (
            ("plate", cool.surface, self.theme.curves[0], 0.03), ("part, mean", cool.part, self.theme.curves[2], 0.09),
            ("chamber", cool.air, self.theme.curves[1], 0.2),
        ):  # fmt: skip
            self.curves.add_curve(name, minutes, shown(curve), color, unit=unit.symbol, label_at=at)
        touch = burns_at(self._material(), GRASPED)
        self.curves.add_line(
            float(unit.from_si(touch)), "burns within a minute", self.theme.fails, vertical=False, place=0.6
        )
        if math.isfinite(plate.lets_go):
            self.curves.add_line(
                float(unit.from_si(plate.lets_go)), "comes off by itself", self.theme.soft, vertical=False, place=0.6
            )

        def moment(seconds: float) -> str:
            return show_duration(seconds) if math.isfinite(seconds) else "not within 12 h"

        rows = [
            Figure(
                "Plate may be held",
                moment(cool.below(cool.surface, touch)),
                f"below {show(touch, 'temperature', units, digits=0)}",
            ),
            Figure(
                "Plate as cold as the room", moment(cool.below(cool.surface, float(cool.room[-1]) + 3.0)), "within 3 K"
            ),
        ]
        if math.isfinite(plate.lets_go):
            rows.insert(1, Figure(
                "Part comes off by itself", moment(cool.below(cool.surface, plate.lets_go)),
                f"below {show(plate.lets_go, 'temperature', units, digits=0)}, by the quick estimate",
            ))  # fmt: skip
        else:
            rows.insert(
                1,
                Figure(
                    "Part comes off by itself",
                    "perhaps" if math.isfinite(plate.shears.high) else "no",
                    f"with a weak bond, below {show(plate.shears.high, 'temperature', units, digits=0)}"
                    if math.isfinite(plate.shears.high)
                    else "by the quick estimate, peel and shear",
                ),
            )
        rows.append(Figure("Part cools at most", show(cool.fastest, "drift", units), "its mean, over ten minutes"))
        s = self.get(COOLING_STRESS)
        rows.append(Figure(
            "Its core is warmer by at most", show(s.lag, "temperature_difference", units),
            f"{show(s.load, 'fraction', units, digits=0)} of what joints stand, "
            f"{show(2.0 * s.half, 'length', units, digits=0)} thick as a solid slab; "
            f"all of it where the air falls by {show(s.fastest, 'drift', units)}",
        ))  # fmt: skip
        self.moments.show_figures(rows, self.theme)
        self.burns.show_figures([
            Figure(
                f"{kind[0].upper()}{kind[1:]}",
                ", ".join(show(t, "temperature", units, digits=0) for t in known[:3]),
                "after " + ", ".join(show_duration(c) for c in CONTACTS[:3]),
            )
            for kind, known in BURNS.items()
        ], self.theme)  # fmt: skip
        self.note.setText(
            "Marched from the machine as it stands at the last layer, doors as they are planned. The part's mean follows plate and "
            "air with its heat capacity over its surface; the band is still air at 5 to 14 W/m²K. It stays on the plate."
        )
