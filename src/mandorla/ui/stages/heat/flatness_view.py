"""Flatness: how the bed's plate bows while it warms, when it has settled, what a height map taken too early is wrong by."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QSlider, QVBoxLayout, QWidget

from mandorla.core.failure.messages import bow_sentence
from mandorla.core.results.key import Key
from mandorla.core.results.keys import HEAT_UP, PLATE_FLATNESS
from mandorla.core.units import show, show_duration
from mandorla.ui.document import Document
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.plots.surface_map import SurfaceMap
from mandorla.ui.stages.page import scrolling
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.bed_plan import MOUNTS
from mandorla.ui.widgets.fields import ChoiceEdit
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import Form, answer, heading, panel, soft

_SLIDER = 200


class FlatnessView(View):
    """The bow over time with its settling, and the figures that follow."""

    key = "flatness"
    title = "Flatness"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(8)
        column = QVBoxLayout()
        column.setSpacing(8)
        body.addLayout(column, 3)
        side, inner = panel(8)
        self.map_title = heading("Heights of the plate")
        inner.addWidget(self.map_title)
        self.map = SurfaceMap(height=None)
        self.map.setAccessibleName("Height map of the bed")
        inner.addWidget(self.map, 1)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setAccessibleName("Moment of the height map")
        self.slider.setRange(0, _SLIDER)
        self.slider.setValue(_SLIDER)
        self.slider.valueChanged.connect(lambda _: self._show_map())
        inner.addWidget(self.slider)
        form = Form(document)
        form.add_widget("Held at", ChoiceEdit(document, "rig.bed.mounts", "Bed held at", MOUNTS))
        inner.addWidget(form)
        self.mounts_note = soft()
        inner.addWidget(self.mounts_note)
        body.addWidget(side, 2)
        frame, inner = panel(8)
        self.sentence = answer()
        inner.addWidget(self.sentence)
        self.curve = CurvePlot("Bow of the plate while warming up", "Time, min", "Middle above corners, µm")
        inner.addWidget(self.curve, 1)
        column.addWidget(frame, 1)
        self.curve.setMinimumHeight(140)
        frame, inner = panel(8)
        inner.addWidget(heading("Effect on a height map"))
        holder = QWidget()
        below = QVBoxLayout(holder)
        below.setContentsMargins(0, 0, 0, 0)
        self.figures = FigureList("Flatness figures")
        below.addWidget(self.figures)
        self.note = soft()
        below.addWidget(self.note)
        area = scrolling(holder)
        area.setMinimumHeight(128)  # three figures are seen without scrolling
        inner.addWidget(area, 1)
        column.addWidget(frame, 1)

    def uses(self) -> tuple[Key[Any], ...]:
        """What is shown."""
        return (
            HEAT_UP,
            PLATE_FLATNESS,
        )

    def draw(self) -> None:
        """Show the bow of the newest heat-up."""
        heat, flat, theme = self.get(HEAT_UP), self.get(PLATE_FLATNESS), self.theme
        project, units, bow = self.project, self.units, flat.bow
        until = heat.ready_time if np.isfinite(heat.ready_time) else float(heat.time[-1])
        soaked = until + project.settings.soak_time
        self.sentence.setText(bow_sentence(bow, soaked, units))
        unit = units.unit("bow")
        pick = bow.time <= heat.shown_until(project.settings.soak_time)
        minutes = bow.time[pick] / 60
        edge = "rim" if project.rig.bed.shape == "round" else "corners"
        self.curve.begin(theme, y_label=f"Middle above {edge}, {unit.symbol}")
        near = np.full(minutes.size, bow.end)
        self.curve.add_band(
            minutes, unit.from_si(near - flat.settled_within), unit.from_si(near + flat.settled_within), theme.curves[1]
        )
        self.curve.add_line(unit.from_si(bow.end), "soaked", theme.soft, vertical=False, place=0.02)
        self.curve.add_curve(
            "bow", minutes, unit.from_si(bow.bow[pick]), theme.curves[0], unit=unit.symbol, width=3.0, label_at=0.4
        )
        if np.isfinite(bow.settled) and bow.settled / 60 < minutes[-1]:
            self.curve.add_line(
                bow.settled / 60, f"settled {show_duration(bow.settled)}", theme.accent, vertical=True, place=0.9
            )
        if soaked / 60 < minutes[-1]:
            self.curve.add_line(soaked / 60, "soaked, print starts", theme.holds, vertical=True, place=0.1)
        self.curve.setXRange(0.0, float(minutes[-1]), padding=0.01)
        layer = project.process.layer_height
        rows = []
        moments = (
            ("a third of the way to ready", until / 3),
            ("when the sensor first says ready", until),
            ("after the soak", soaked),
        )
        for name, at in moments:
            error = bow.error_of_map(at)
            share = f"{100 * abs(error) / layer:.0f} % of the first layer"
            rows.append(Figure(f"Mapped {name} ({show_duration(at)})", f"{show(abs(error), 'bow', units)} off", share))
        self.figures.show_figures(rows, theme)
        self.note.setText(
            f"Acting as one plate: {', '.join(bow.names)}. The curve is a free plate's middle over its corners by "
            "laminate theory; the "
            "map has the differences across the bed and its mounts in it. Sag under its own weight is not part of either."
        )
        self._show_map()

    def _show_map(self) -> None:
        """The height map at the slider's moment, the rightmost being soaked."""
        heat, flat, theme = self.results.last(HEAT_UP), self.results.last(PLATE_FLATNESS), self.theme
        if heat is None or flat is None:
            return
        rig, units = self.document.project.rig, self.document.units
        end = heat.shown_until(self.document.project.settings.soak_time)
        at = self.slider.value() / _SLIDER * end
        heights = flat.map_at(at)
        self.map_title.setText(f"Heights of the plate after {show_duration(at)}")
        self.map.show_map(
            theme,
            units,
            (rig.bed.width, rig.bed.depth),
            heights,
            None,
            None,
            kinds=("bow", "bow"),
            rounded=rig.bed.shape == "round",
        )
        valley = show(float(np.nanmax(heights) - np.nanmin(heights)), "bow", units)
        held = {"free": "lies loose", "corners": "is held at its corners", "rim": "is held along its rim"}[
            rig.bed.mounts
        ]
        self.mounts_note.setText(
            f"Peak to valley {valley}; the plate {held}. Heights count from the mean of "
            f"{'the rim' if rig.bed.shape == 'round' else 'the corners'}."
        )
