"""Heat-up: how the machine goes on while it prints."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout

from mandorla.core.failure.print_words import STARTS, log_ends, moments_of, print_sentence
from mandorla.core.results.key import Key
from mandorla.core.results.keys import EVALUATION
from mandorla.core.rig.start import COLD
from mandorla.core.units import show, show_duration, show_number
from mandorla.ui.document import Document
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.page import side_column
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.fields import ChoiceEdit, SwitchEdit
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import Form, heading, panel, soft

_HOUR = 3600.0
_NOTE = (
    "The machine is marched through the whole print: the bed's set point after the first layers, the room's course and the door "
    "are in Rig, Chamber and room. The part is printed in these temperatures, layer by layer. A thermostat's swing is averaged "
    "once the bed has settled."
)


class PrintView(View):
    """Surface, air and room against the time since the first layer; the moments worth looking at; how the job starts."""

    key = "print"
    title = "While it prints"
    needs_part = True

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        left = QVBoxLayout()
        left.setSpacing(8)
        body.addLayout(left, 1)
        frame, column = panel(8)
        column.addWidget(heading("Temperatures from the first layer to the last"))
        self.curves = CurvePlot("Temperatures while printing", "Time, h", "Temperature, °C")
        column.addWidget(self.curves, 1)
        left.addWidget(frame, 5)
        frame, column = panel(8)
        column.addWidget(heading("Electrical power of the heaters"))
        self.power = CurvePlot("Power while printing", "Time, h", "Power, W")
        column.addWidget(self.power, 1)
        left.addWidget(frame, 3)
        area, side = side_column(338)
        frame, column = panel()
        column.addWidget(heading("Surface in the bed's middle, by moment"))
        self.moments = FigureList("Moments of the print")
        column.addWidget(self.moments)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("How the job starts"))
        form = Form(document)
        start = ChoiceEdit(document, "rig.start.kind", "How the machine starts", {k: v for k, v in STARTS.items()})
        form.add_wide(start)
        column.addWidget(form)
        self.between = Form(document)
        self.between.add_field("rig.start.bed", "Its bed")
        self.between.add_field("rig.start.chamber", "Its chamber")
        self.between.add_field("rig.start.since")
        self.between.add_field("rig.start.door_open")
        self.between.add_wide(SwitchEdit(document, "rig.start.held", "Heaters stay on in between"))
        column.addWidget(self.between)
        self.ready = FigureList("Ready from this start")
        column.addWidget(self.ready)
        side.addWidget(frame)
        self.note = soft()
        side.addWidget(self.note)
        side.addStretch(1)
        body.addWidget(area)

    def uses(self) -> tuple[Key[Any], ...]:
        """The evaluation, with the march through the print."""
        return (EVALUATION,)

    def headline(self) -> str:
        """How surface and air go while it prints."""
        e = self.results.last(EVALUATION)
        if e is None or e.course is None or e.part is None:
            return ""
        return print_sentence(e.course, e.part, self.project.rig.chamber.enclosed, self.units)

    def draw(self) -> None:
        """Show the newest march."""
        e, t, units = self.get(EVALUATION), self.theme, self.units
        course, part = e.course, e.part
        assert course is not None
        assert part is not None
        unit, hours = units.unit("temperature"), course.time / _HOUR
        self.curves.begin(t, y_label=f"Temperature, {unit.symbol}")
        self.curves.right_margin()

        def add(
            name: str, curve: np.ndarray, color: str, place: float, *, above: bool = True, width: float = 2.2
        ) -> None:
            shown = np.asarray(unit.from_si(curve))
            place = float(np.searchsorted(hours, place * hours[-1])) / hours.size  # short steps stand close together
            self.curves.add_curve(
                name, hours, shown, color, unit=unit.symbol, label_at=place, label_above=above, width=width
            )

        add("surface", course.surface, t.curves[0], 0.72, width=3.0)
        enclosed = self.project.rig.chamber.enclosed
        add("chamber air" if enclosed else "air over the bed", course.air, t.curves[4], 0.8)
        if enclosed:
            add("room", course.room, t.curves[5], 0.6, above=False, width=1.6)
        if course.lowered < course.time[-1]:
            self.curves.add_line(course.lowered / _HOUR, "first layers done", t.accent, vertical=True, place=0.95)
        if np.isfinite(course.follows):
            at = (course.lowered + course.follows) / _HOUR
            self.curves.add_line(
                at, f"followed, {show_duration(course.follows)} later", t.holds, vertical=True, place=0.86
            )
        self.curves.setXRange(0.0, float(hours[-1]), padding=0.01)
        self.power.begin(t)
        self.power.right_margin()
        late = float(np.searchsorted(hours, 0.7 * hours[-1])) / hours.size
        self.power.add_curve("bed", hours, course.power, t.curves[0], unit="W", label_at=late)
        if course.chamber_power.max() > 0.0:
            self.power.add_curve("chamber heater", hours, course.chamber_power, t.curves[4], unit="W", label_at=late)
        self.power.setXRange(0.0, float(hours[-1]), padding=0.01)
        kind = self.project.rig.start.kind
        self.between.setVisible(kind != COLD)
        rows = []
        for m in moments_of(course, part):
            air, room = (show_number(v, "temperature", units, digits=0) for v in (m.air, m.room))
            where = f"{show_duration(m.time)}, " if m.time > 0.0 else ""
            rows.append(
                Figure(
                    m.what,
                    show(m.surface, "temperature", units),
                    f"{where}{show(m.height, 'length', units)} high; air {air}, room {room} {unit.symbol}",
                )
            )
        self.moments.show_figures(rows, t)
        heat = e.heat
        ready = show_duration(heat.ready_time) if np.isfinite(heat.ready_time) else "not within the time shown"
        self.ready.show_figures(
            [Figure("Ready in", ready, f"then {show_duration(self.project.settings.soak_time)} of soak")], t
        )
        short = log_ends(course)
        self.note.setText(f"{short[0].upper()}{short[1:]}. {_NOTE}" if short else _NOTE)
