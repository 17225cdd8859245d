"""Heat-up: how the machine warms."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QPushButton, QSlider, QVBoxLayout

from mandorla.core.errors import InputError
from mandorla.core.failure.messages import band_text, heat_up_sentence
from mandorla.core.failure.print_words import STARTS
from mandorla.core.failure.state import State
from mandorla.core.results.choices import (
    CONVECTION_UNKNOWN,
    SENSOR_UNKNOWN,
    outline_on_bed,
    ready_time,
    under_part,
)
from mandorla.core.results.key import Key
from mandorla.core.results.keys import CURVE_BANDS, EVALUATION, HEAT_UP, SET_POINTS, SURFACE_HISTORY
from mandorla.core.units import show, show_duration
from mandorla.ui.document import Document
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.plots.surface_map import SurfaceMap
from mandorla.ui.stages.page import side_column
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import Form, heading, panel, soft

_SLIDER = 400
NO_BAND = "Energies, spread and peak power are typical figures without a band."


class WarmingView(View):
    """Temperatures and power against time, the surface map, the figures, set points for a wanted surface."""

    key = "warming"
    title = "Warming up"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        self._scrubbed, self._moment_at = False, 0.0
        below = QHBoxLayout(self.content)
        below.setContentsMargins(0, 0, 0, 0)
        below.setSpacing(10)
        left = QVBoxLayout()
        left.setSpacing(8)
        below.addLayout(left, 1)
        frame, column = panel(8)
        head = QHBoxLayout()
        self.start = heading("")
        head.addWidget(self.start)
        head.addStretch(1)
        self.layers = QCheckBox("every layer")
        self.layers.toggled.connect(lambda _: self.refresh())
        head.addWidget(self.layers)
        column.addLayout(head)
        self.curves = CurvePlot("Temperatures while warming up", "Time, min", "Temperature, °C")
        column.addWidget(self.curves, 1)
        left.addWidget(frame, 5)
        frame, column = panel(8)
        column.addWidget(heading("Electrical power"))
        self.power = CurvePlot("Power while warming up", "Time, min", "Power, W")
        column.addWidget(self.power, 1)
        left.addWidget(frame, 3)

        area, side = side_column(338)
        frame, column = panel()
        self.map_title = heading("Surface, part's outline on it")
        column.addWidget(self.map_title)
        self.map = SurfaceMap()
        column.addWidget(self.map)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setAccessibleName("Moment of the surface map")
        self.slider.setRange(0, _SLIDER)
        self.slider.setValue(_SLIDER)
        self.slider.setEnabled(False)
        self.slider.valueChanged.connect(self._scrub)
        column.addWidget(self.slider)
        self.under = FigureList("Under the part at this moment")
        column.addWidget(self.under)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("Key figures"))
        self.figures = FigureList("Heat-up figures")
        column.addWidget(self.figures)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("Set point for a wanted surface"))
        form = Form(document)
        form.add_field("criteria.surface_wanted")
        column.addWidget(form)
        self.advice = FigureList("Recommended set points")
        column.addWidget(self.advice)
        self.use_button = QPushButton("Use these")
        self.use_button.setObjectName("primary")
        self.use_button.clicked.connect(self._use_set_points)
        column.addWidget(self.use_button)
        side.addWidget(frame)
        self.notes = soft()
        side.addWidget(self.notes)
        side.addStretch(1)
        below.addWidget(area)

    def uses(self) -> tuple[Key[Any], ...]:
        """The heat-up."""
        return HEAT_UP, EVALUATION

    def also(self) -> tuple[Key[Any], ...]:
        """Bands, the surface in three dimensions, set points for the wanted surface."""
        return CURVE_BANDS, SURFACE_HISTORY, SET_POINTS

    def headline(self) -> str:
        """Whether and when the rig is ready."""
        heat = self.results.last(HEAT_UP)
        return heat_up_sentence(heat, self.units) if heat is not None else ""

    def draw(self) -> None:
        """Show the newest heat-up."""
        heat, units, t = self.get(HEAT_UP), self.units, self.theme
        unit = units.unit("temperature")
        end = heat.shown_until(self.document.project.settings.soak_time)
        pick = heat.time <= end
        minutes = heat.time[pick] / 60

        def shown(curve: np.ndarray) -> np.ndarray:
            return np.asarray(unit.from_si(curve[pick]))

        self.start.setText(f"The machine starts {STARTS[self.project.rig.start.kind]}")
        self.curves.begin(t, y_label=f"Temperature, {unit.symbol}")
        self.curves.right_margin()
        self._draw_bands(end)
        self.curves.add_line(unit.from_si(heat.set_point), "set point", t.soft, vertical=False, place=0.08)
        self.curves.add_curve(
            "sensor reading", minutes, shown(heat.reading), t.curves[1], unit=unit.symbol, label_at=0.33
        )
        self.curves.add_curve(
            "surface",
            minutes,
            shown(heat.surface),
            t.curves[0],
            unit=unit.symbol,
            width=3.0,
            label_at=0.72,
            label_above=False,
        )
        if self.document.project.rig.chamber.enclosed:
            self.curves.add_curve("chamber air", minutes, shown(heat.air), t.curves[4], unit=unit.symbol, label_at=0.8)
            self.curves.add_curve(
                "frame",
                minutes,
                shown(heat.frame),
                t.curves[5],
                unit=unit.symbol,
                dashed=True,
                width=1.6,
                label_at=0.92,
                label_above=False,
            )
        if np.isfinite(heat.ready_time):
            self.curves.add_line(
                heat.ready_time / 60, f"ready {show_duration(heat.ready_time)}", t.accent, vertical=True, place=0.62
            )
            start = (heat.ready_time + self.document.project.settings.soak_time) / 60
            if start < minutes[-1]:
                self.curves.add_line(start, "soaked, print starts", t.holds, vertical=True, place=0.5)
        if self.layers.isChecked():
            for i, layer in enumerate(self.document.project.rig.bed.layers):
                self.curves.add_curve(
                    layer.name, minutes, shown(heat.layer(i)), t.curves[i % len(t.curves)], unit=unit.symbol, width=1.2,
                    label_at=0.12 + 0.1 * i,
                )  # fmt: skip
        self.curves.setXRange(0.0, float(minutes[-1]), padding=0.01)
        self.power.begin(t)
        bands = self.results.value(CURVE_BANDS)
        if bands is not None:
            seen = bands.time <= end
            low, high = bands.curves["power"][:, seen]
            self.power.add_band(bands.time[seen] / 60, low, high, t.curves[0])
        self.power.setXRange(0.0, float(minutes[-1]), padding=0.01)
        self.power.add_curve("bed", minutes, heat.power[pick], t.curves[0], unit="W", label_at=0.12, label_above=False)
        if heat.chamber_power.max() > 0:
            self.power.add_curve(
                "chamber heater", minutes, heat.chamber_power[pick], t.curves[4], unit="W", label_at=0.25
            )
        full = self.document.project.rig.bed.heater.power
        self.power.right_scale("Bed duty, %", 100.0 / full, t)
        self.moment = self.curves.add_moment(t)
        self.moment.setVisible(self.results.value(SURFACE_HISTORY) is not None)
        self._show_figures()
        self._show_map()

    def _draw_bands(self, end: float) -> None:
        """The sampled bands once they are computed, until then the steady surface's, scaled with the rise that is reached."""
        heat, t, unit = self.get(HEAT_UP), self.theme, self.units.unit("temperature")
        bands = self.results.value(CURVE_BANDS)
        if bands is not None:
            pick = bands.time <= end
            colors = {"surface": t.curves[0], "reading": t.curves[1]}
            if self.document.project.rig.chamber.enclosed:
                colors |= {"air": t.curves[4], "frame": t.curves[5]}
            for name, color in colors.items():
                low, high = (unit.from_si(edge[pick]) for edge in bands.curves[name])
                self.curves.add_band(bands.time[pick] / 60, low, high, color)
            return
        band = heat.bands.get("surface")
        if band is not None:
            pick = heat.time <= end
            room = self.document.project.rig.start_temperature
            rise = np.clip((heat.surface[pick] - room) / (heat.steady.surface - room), 0.0, 1.2)
            low = heat.surface[pick] + (band.low - band.value) * rise
            high = heat.surface[pick] + (band.high - band.value) * rise
            self.curves.add_band(heat.time[pick] / 60, unit.from_si(low), unit.from_si(high), t.curves[0])

    def _show_figures(self) -> None:
        heat, units, fitted = self.get(HEAT_UP), self.units, self.project.rig.fitted
        sampled = self.results.value(CURVE_BANDS)
        surface, power, air = (heat.bands.get(k) for k in ("surface", "power", "air"))
        rows = []
        if surface:
            unknowns = (
                f"sensor ±{SENSOR_UNKNOWN:.0f} K, layers and joints, convection ±{100 * CONVECTION_UNKNOWN:.0f} %"
            )
            rows.append(
                Figure(
                    "Surface, centre, soaked",
                    band_text(surface.value, surface.low, surface.high, "temperature", units, 0),
                    f"90 % band of a rig fitted on {fitted.date}"
                    if fitted
                    else f"90 % band of an unverified rig: {unknowns}",
                    key="surface",
                )
            )
        rows.append(Figure("Set point minus surface", show(heat.offset, "temperature_difference", units), key="offset"))
        if np.isfinite(heat.ready_time):
            c = self.document.project.criteria
            near = show(c.ready_band, "temperature_difference", units)
            rule = f"sensor within {near}, surface under {show(c.ready_drift, 'drift', units)}"
            if sampled is not None and np.isfinite(sampled.ready[0]):
                low, high = show_duration(sampled.ready[0]), show_duration(sampled.ready[2])
                rule += f"; 90 % of sampled rigs: {low} to {high}"
            rows.append(Figure("Ready in", show_duration(heat.ready_time), rule, key="ready"))
            if np.isfinite(heat.plate_ready_time):
                rows.append(
                    Figure("Plate calm after", show_duration(heat.plate_ready_time), "the sensor's layer, same rule")
                )
        if self.document.project.rig.chamber.enclosed:
            calm = (
                show_duration(heat.chamber_ready_time) if np.isfinite(heat.chamber_ready_time) else "later than shown"
            )
            later = show_duration(heat.frame_ready_time) if np.isfinite(heat.frame_ready_time) else "later than shown"
            rows.append(Figure("Frame calm after", later, "drifts less than the limit over five minutes"))
            if air:
                rows.append(
                    Figure(
                        "Chamber air, soaked",
                        band_text(air.value, air.low, air.high, "temperature", units, 0),
                        f"drifts less than the limit after {calm}",
                        key="air",
                    )
                )
        until = heat.ready_time if np.isfinite(heat.ready_time) else float(heat.time[-1])
        ends = ""
        if sampled is not None and np.isfinite(sampled.energy[0]):
            low, high = (show(v, "energy", units) for v in (sampled.energy[0], sampled.energy[2]))
            ends = f"90 % of sampled rigs: {low} to {high}"
        rows.append(
            Figure("Energy until ready", show(heat.at(until, heat.energy), "energy", units), ends, key="energy_ready")
        )
        if sampled is not None:
            s = sampled.spread
            text = band_text(s.value, s.low, s.high, "temperature_difference", units)
            rows.append(Figure("Spread of the surface", text, "middle minus coldest place, soaked; 90 % band"))
        rows.append(
            Figure("Peak power", show(float((heat.power + heat.chamber_power).max()), "power", units), key="peak_power")
        )
        if power:
            rows.append(
                Figure(
                    "Bed power to hold", band_text(power.value, power.low, power.high, "power", units), key="power_hold"
                )
            )
        full = self.document.project.rig.bed.heater.power
        rows.append(
            Figure(
                "Bed duty to hold",
                show(heat.steady.power / full, "fraction", units, digits=0),
                "of its full, cold power",
                key="power_hold",
            )
        )
        if heat.steady.chamber_power > 0.5:
            rows.append(
                Figure("Chamber power to hold", show(heat.steady.chamber_power, "power", units), key="chamber_power")
            )
        if sampled is not None:
            name, coldest, hottest = sampled.one_at_a_time[0]
            by = show(abs(hottest - coldest), "temperature_difference", units)
            rows.append(Figure("Least known", by, f"{name}: moves the surface by this over its range", key="surface"))
        self.figures.show_figures(rows, self.theme)
        self._show_advice()
        self.notes.setText(NO_BAND)

    def _show_advice(self) -> None:
        """Set points for the wanted surface."""
        points, units = self.results.value(SET_POINTS), self.units
        known = self.results.known(SET_POINTS)
        self.use_button.setEnabled(points is not None and points.within)
        if points is None:
            text = "no set point reaches it" if known else "being computed …"
            self.advice.show_figures([Figure("Set point", "–", text)], self.theme)
            return
        state = None if points.within else State.FAILS
        limit = "" if points.within else "beyond the machine's limit or its power"
        self.advice.show_figures(
            [
                Figure("Bed, first layers", show(points.first, "temperature", units), "after ready and soak", state),
                Figure("Bed, rest", show(points.rest, "temperature", units), limit or "soaked", state),
            ],
            self.theme,
        )

    def _use_set_points(self) -> None:
        points = self.results.value(SET_POINTS)
        if points is None:
            return
        values = {"settings.bed_first": points.first, "settings.bed_rest": points.rest}
        try:
            self.document.edit_many(values, "Set points for the wanted surface")
        except InputError as error:
            self.document.problem.emit(str(error))

    def _outline(self) -> np.ndarray | None:
        e, part = self.results.last(EVALUATION), self.project.part
        if e is None or e.part is None or part is None:
            return None
        return outline_on_bed(e.part.whole.footprint, part.placement)

    def _show_map(self) -> None:
        """The map over time once it is solved, the soaked shape of the quick model until then."""
        e, history = self.get(EVALUATION), self.results.value(SURFACE_HISTORY)
        self.slider.setEnabled(history is not None)
        if history is not None:
            soaked = e.heat.ready_time + self.document.project.settings.soak_time
            at = soaked if np.isfinite(soaked) and not self._scrubbed else self._moment_at
            self.slider.blockSignals(True)
            self.slider.setValue(round(_SLIDER * min(1.0, at / float(history.time[-1]))))
            self.slider.blockSignals(False)
            self._show_moment(min(at, float(history.time[-1])))
            return
        project, heat = self.document.project, e.heat
        self.map_title.setText("Surface once soaked, part's outline on it")
        values = heat.spread.surface(heat.steady.surface, heat.steady.air)
        coldest = None
        if e.part is not None and project.part is not None and e.conditions is not None:
            corner = e.part.sections.corners[int(np.argmin(e.conditions.corner_plate))]
            coldest = (corner.x + project.part.placement.x, corner.y + project.part.placement.y)
        bed = project.rig.bed
        self.map.show_map(
            self.theme,
            self.document.units,
            (bed.width, bed.depth),
            values,
            self._outline(),
            coldest,
            rounded=bed.shape == "round",
        )
        self.under.show_figures([], self.theme)

    def _scrub(self, value: int) -> None:
        history = self.results.value(SURFACE_HISTORY)
        if history is not None:
            self._scrubbed = True
            self._show_moment(value / _SLIDER * float(history.time[-1]))

    def _show_moment(self, at: float) -> None:
        history = self.results.value(SURFACE_HISTORY)
        assert history is not None
        self._moment_at = at
        units, outline, bed = self.document.units, self._outline(), self.document.project.rig.bed
        surface = history.map_at(at)
        found = under_part(history, surface, outline) if outline is not None else None
        coldest = found.coldest_at if found is not None else None
        self.map_title.setText(f"Surface after {show_duration(at)} (three-dimensional)")
        self.map.show_map(
            self.theme, units, (bed.width, bed.depth), surface, outline, coldest, rounded=bed.shape == "round"
        )
        self.moment.show()
        self.moment.setValue(at / 60)
        rows = []
        if found is not None:
            spread = show(found.hottest - found.coldest, "temperature_difference", units)
            rows = [
                Figure(
                    "Coldest under the part",
                    show(found.coldest, "temperature", units),
                    "the white dot on the map; first-layer set point",
                ),
                Figure("Hottest under the part", show(found.hottest, "temperature", units), f"{spread} between them"),
            ]
        project = self.document.project
        on_off = project.rig.bed.control.kind == "on-off"
        solved = ready_time(history, project.settings.bed_first, project.criteria, on_off=on_off)
        later = "later than shown" if not np.isfinite(solved) else show_duration(solved)
        rows.append(Figure("Ready in, three-dimensional", later, "the middle of the bed, same rule as below"))
        self.under.show_figures(rows, self.theme)
