"""Heat-up: air below a loose plate that does not lie flat, the cold islands over it, and what can be done."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QPushButton

from mandorla.core.errors import InputError
from mandorla.core.measure.models import StoredHeights
from mandorla.core.results.choices import REMEDIES, air_from_maps, outline_on_bed
from mandorla.core.results.key import Key
from mandorla.core.results.keys import EVALUATION, OVER_AIR
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.plots.surface_map import SurfaceMap
from mandorla.ui.stages.page import side_column
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.fields import ChoiceEdit
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import Form, heading, panel, soft

NAMES = {
    "none": "As it lies",
    "shims": "Shims in the hollows",
    "pane": "Rigid pane instead",
    "flat": "A plate that lies flat",
}
_REMARKS = {
    "none": "the plate as it was probed",
    "shims": "foil until no more than 0.03 mm is open",
    "pane": "rests on the bed's three highest places and bridges the rest",
    "flat": "new or straightened, on a bed that it follows",
}
_NONE = (
    "No air is known below the plate. Probe the bed without its plate, then the plate as it lies on it, both in one state, import "
    "both maps in Verify, Heights, and take the air between them."
)
_NOTE = (
    "Air conducts as it does when still, and radiates. This map lets the plate's heat flow straight up; the three-dimensional "
    "surface of Warming up has the spreading along the sheet in it, which makes small islands milder. A mesh makes the nozzle "
    "follow the plate: it mends the first layer's gap, not the cold."
)


class AirView(View):
    """The air from the height maps of bed and plate, the surface over it, and the remedies compared."""

    key = "air"
    title = "Air below the plate"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        left = QHBoxLayout()
        left.setSpacing(8)
        frame, column = panel(8)
        column.addWidget(heading("Air between bed and plate, from above"))
        self.gap = SurfaceMap(height=None)
        self.gap.setAccessibleName("Air below the plate")
        column.addWidget(self.gap, 1)
        left.addWidget(frame, 1)
        frame, column = panel(8)
        column.addWidget(heading("Surface over it, soaked"))
        self.map = SurfaceMap(height=None)
        self.map.setAccessibleName("Surface over the air")
        column.addWidget(self.map, 1)
        left.addWidget(frame, 1)
        body.addLayout(left, 1)
        area, side = side_column(338)
        frame, column = panel()
        column.addWidget(heading("Height maps, from Verify"))
        form = Form(document)
        self.bed, self.plate = QComboBox(), QComboBox()
        for box, name in ((self.bed, "Bed without its plate"), (self.plate, "Plate as it lies")):
            box.setAccessibleName(name)
            box.setMaximumWidth(170)
            form.add_widget(name, box)
        column.addWidget(form)
        self.take = QPushButton("Take the air between them")
        self.take.setObjectName("primary")
        self.take.clicked.connect(self._take)
        column.addWidget(self.take)
        self.forget = QPushButton("Forget the air")
        self.forget.clicked.connect(lambda: self._edit("rig.bed.air_gap", None, "air below the plate"))
        column.addWidget(self.forget)
        self.known = soft()
        column.addWidget(self.known)
        side.addWidget(frame)
        self.compared, column = panel()
        column.addWidget(heading("Coldest under the part, by what is done"))
        self.figures = FigureList("What can be done about the air")
        column.addWidget(self.figures)
        self._remedy_host = column
        self._remedy: Form | None = None
        side.addWidget(self.compared)
        side.addWidget(soft(_NOTE))
        side.addStretch(1)
        body.addWidget(area)
        document.project_changed.connect(self._sync)
        self._maps: list[StoredHeights] = []
        self._sync()

    def uses(self) -> tuple[Key[Any], ...]:
        """The surface over the air, and where the part stands."""
        return EVALUATION, OVER_AIR

    def headline(self) -> str:
        """The coldest island, and what would mend it most."""
        cases, gap = self.results.last(OVER_AIR), self.project.rig.bed.air_gap
        if not cases or gap is None:
            return "The plate is taken to lie flat on the bed."
        now = cases[gap.remedy]
        best = max(cases, key=lambda k: cases[k].coldest)
        colder = show(now.hottest - now.coldest, "temperature_difference", self.units)
        text = f"Up to {show(now.most, 'length', self.units)} of air below the plate: the surface is {colder} colder there."
        gain = cases[best].coldest - now.coldest
        if best != gap.remedy and gain > 0.3:
            text += f" {NAMES[best]}: the coldest place gains {show(gain, 'temperature_difference', self.units)}."
        return text

    def _sync(self) -> None:
        offered = [
            (f"{s.name}, {h.name}, {h.state}", h)
            for s in self.document.project.measurements.sessions
            for h in s.heights
        ]
        self._maps = [h for _, h in offered]
        for box in (self.bed, self.plate):
            at = max(0, box.currentIndex())
            box.clear()
            box.addItems([text for text, _ in offered] or ["no height map is imported"])
            box.setCurrentIndex(min(at, box.count() - 1))
        gap = self.document.project.rig.bed.air_gap
        self.take.setEnabled(len(offered) > 1)
        self.forget.setVisible(gap is not None)
        self.known.setText(_NONE if gap is None else f"{gap.name}.")
        if gap is not None and self._remedy is None:
            form = Form(self.document)
            form.add_widget(
                "Done about it",
                ChoiceEdit(self.document, "rig.bed.air_gap.remedy", "Done about it", dict(NAMES.items())),
            )
            self._remedy = form
            self._remedy_host.addWidget(form)
        elif gap is None and self._remedy is not None:
            self._remedy_host.removeWidget(self._remedy)
            self._remedy.hide()
            self._remedy.deleteLater()
            self._remedy = None
        self.compared.setVisible(gap is not None)

    def _take(self) -> None:
        maps = [self._maps[box.currentIndex()] for box in (self.bed, self.plate)]
        try:
            if maps[0] is maps[1]:
                raise InputError("Bed and plate need a height map each: two different ones.")
            found = air_from_maps(self.document.bundle, *maps)
        except InputError as error:
            self.document.problem.emit(str(error))
            return
        self._edit("rig.bed.air_gap", found.model_dump(), "air below the plate")

    def _edit(self, path: str, value: object, text: str) -> None:
        try:
            self.document.edit(path, value, text)
        except InputError as error:
            self.document.problem.emit(str(error))

    def draw(self) -> None:
        """Show the maps and the remedies."""
        cases, e, units, t = self.get(OVER_AIR), self.get(EVALUATION), self.units, self.theme
        bed, part = self.project.rig.bed, self.project.part
        gap = bed.air_gap
        outline = None
        if e.part is not None and part is not None:
            outline = outline_on_bed(e.part.whole.footprint, part.placement)
        size, round_bed = (bed.width, bed.depth), bed.shape == "round"
        if gap is None or not cases:
            surface = e.heat.spread.surface(e.rest.surface, e.rest.air)
            self.gap.show_map(
                t, units, size, np.zeros_like(surface), outline, None, kinds=("length", "length"), rounded=round_bed
            )
            self.map.show_map(t, units, size, surface, outline, None, rounded=round_bed)
            return
        now = cases[gap.remedy]
        air = gap.over(now.x, now.y)
        self.gap.show_map(t, units, size, air, outline, None, kinds=("length", "length"), rounded=round_bed)
        self.map.show_map(t, units, size, now.surface, outline, None, rounded=round_bed)
        rows = []
        for key in REMEDIES:
            case = cases[key]
            spread = show(case.hottest - case.coldest, "temperature_difference", units)
            rows.append(
                Figure(
                    NAMES[key] + (" (now)" if key == gap.remedy else ""),
                    show(case.coldest, "temperature", units),
                    f"{spread} below the warmest; air up to {show(case.most, 'length', units)}; {_REMARKS[key]}",
                )
            )
        as_it_lies = cases["none"]
        made_up = show(as_it_lies.most, "length", units)
        rows.append(
            Figure(
                "Mesh that the nozzle follows",
                show(as_it_lies.coldest, "temperature", units),
                f"as cold as it lies; the first layer's gap no longer differs by the {made_up} that the plate stands up",
            )
        )
        self.figures.show_figures(rows, t)
