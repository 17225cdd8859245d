"""Across the bed: the surface map at any moment, large, and a section along a line that is drawn on it."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QSlider

from mandorla.core.results.choices import outline_on_bed, section_along, under_part
from mandorla.core.results.key import Key
from mandorla.core.results.keys import EVALUATION, SURFACE_HISTORY
from mandorla.core.units import show, show_duration
from mandorla.ui.document import Document
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.plots.surface_map import Line, SurfaceMap
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.form import answer, heading, panel, soft

_SLIDER = 400


class AcrossView(View):
    """Map with scrubber at the left, the section along its line at the right."""

    key = "across"
    title = "Across the bed"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        self._at: float | None = None
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(8)
        frame, column = panel(8)
        self.map_title = heading("Surface")
        column.addWidget(self.map_title)
        self.map = SurfaceMap(height=None, sections=True)
        self.map.line_drawn.connect(self._show)
        column.addWidget(self.map, 1)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setAccessibleName("Moment of the large surface map")
        self.slider.setRange(0, _SLIDER)
        self.slider.valueChanged.connect(self._scrub)
        column.addWidget(self.slider)
        body.addWidget(frame, 1)
        frame, column = panel(8)
        self.sentence = answer()
        column.addWidget(self.sentence)
        row = QHBoxLayout()
        for text, line in (("Left to right", "across"), ("Front to back", "along"), ("Corner to corner", "corner")):
            button = QPushButton(text)
            button.clicked.connect(lambda _, way=line: self._take(way))
            row.addWidget(button)
        row.addStretch(1)
        column.addLayout(row)
        self.profile = CurvePlot("Surface along the line", "Distance along the line, mm", "Temperature, °C")
        column.addWidget(self.profile, 1)
        column.addWidget(
            soft("Draw a line on the map with the mouse; the dot is its start. Three-dimensional solution.")
        )
        body.addWidget(frame, 1)

    def _take(self, way: str) -> None:
        bed = self.document.project.rig.bed
        x, y = bed.width / 2, bed.depth / 2
        lines: dict[str, Line] = {
            "across": ((-x, 0.0), (x, 0.0)), "along": ((0.0, -y), (0.0, y)), "corner": ((-x, -y), (x, y)),
        }  # fmt: skip
        self.map.set_line(lines[way])
        self._show()

    def _scrub(self, value: int) -> None:
        history = self.results.last(SURFACE_HISTORY)
        if history is not None:
            self._at = value / _SLIDER * float(history.time[-1])
            self._show()

    def uses(self) -> tuple[Key[Any], ...]:
        """What is shown."""
        return (
            EVALUATION,
            SURFACE_HISTORY,
        )

    def draw(self) -> None:
        """Show the newest map, at the soaked moment until another one is chosen."""
        if self.map.line is None:
            self._take("across")
        else:
            self._show()

    def _show(self) -> None:
        history, e, theme = self.results.last(SURFACE_HISTORY), self.results.last(EVALUATION), self.theme
        if history is None or e is None:
            return
        project, units = self.document.project, self.document.units
        end = float(history.time[-1])
        soaked = e.heat.ready_time + project.settings.soak_time
        at = min(self._at if self._at is not None else (soaked if np.isfinite(soaked) else end), end)
        self.slider.blockSignals(True)
        self.slider.setValue(round(_SLIDER * at / end))
        self.slider.blockSignals(False)
        surface, bed = history.map_at(at), project.rig.bed
        outline = None
        if e.part is not None and project.part is not None:
            outline = outline_on_bed(e.part.whole.footprint, project.part.placement)
        found = under_part(history, surface, outline) if outline is not None else None
        self.map_title.setText(f"Surface after {show_duration(at)}")
        self.map.show_map(
            theme,
            units,
            (bed.width, bed.depth),
            surface,
            outline,
            found.coldest_at if found is not None else None,
            rounded=bed.shape == "round",
        )
        line = self.map.line
        if line is None:
            return
        way, T = section_along(history, surface, *line)
        unit, length = units.unit("temperature"), units.unit("large_length")
        self.profile.begin(
            theme, y_label=f"Temperature, {unit.symbol}", x_label=f"Distance along the line, {length.symbol}"
        )
        seen = np.isfinite(T)
        self.profile.add_curve(
            "surface", length.from_si(way[seen]), unit.from_si(T[seen]), theme.curves[0], unit=unit.symbol, width=3.0
        )
        if project.criteria.surface_wanted > 0 and seen.any():
            wanted = project.criteria.surface_wanted
            if float(T[seen].min()) - 8.0 < wanted < float(T[seen].max()) + 8.0:
                self.profile.add_line(unit.from_si(wanted), "wanted", theme.soft, vertical=False, place=0.04)
        spread = show(float(np.nanmax(T) - np.nanmin(T)), "temperature_difference", units)
        low, high = show(float(np.nanmin(T)), "temperature", units), show(float(np.nanmax(T)), "temperature", units)
        whole = show(float(np.nanmax(surface) - np.nanmin(surface)), "temperature_difference", units)
        self.sentence.setText(
            f"Along the line the surface runs from {low} to {high}: {spread}; over the whole bed {whole}."
        )
