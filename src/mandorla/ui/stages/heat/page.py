"""Heat-up: how the machine warms."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QPushButton, QSlider, QStackedWidget, QTabBar, QVBoxLayout, QWidget

from mandorla.core.errors import InputError, SolverError
from mandorla.core.thermal.advice import SetPoints, savings, set_points_for
from mandorla.core.thermal.steady import CONVECTION_UNKNOWN, SENSOR_UNKNOWN
from mandorla.core.thermal.surface_history import ready_time, under_part
from mandorla.core.tune.evaluate import place_on_bed
from mandorla.core.tune.sentences import band_text, heat_up_sentence
from mandorla.core.tune.verdict import State
from mandorla.core.units import show, show_duration
from mandorla.ui.document import Document
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.plots.surface_map import SurfaceMap
from mandorla.ui.stages.heat.builds_view import BuildsView
from mandorla.ui.stages.heat.fault_view import FaultView
from mandorla.ui.stages.heat.flatness_view import FlatnessView
from mandorla.ui.stages.page import StagePage, side_column
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import Form, heading, panel, soft

_SLIDER = 400
NO_BAND = "Times, energies, spread and savings are typical figures without a band."


class HeatPage(StagePage):
    """Temperatures and power against time, the surface map, where the heat goes."""

    def __init__(self, document: Document, theme: Theme, title: str) -> None:
        super().__init__(document, theme, title)
        self._scrubbed, self._moment_at = False, 0.0
        self.points: SetPoints | None = None
        whole = QVBoxLayout()
        whole.setSpacing(6)
        self.views = QTabBar()
        self.views.setDrawBase(False)
        self.views.addTab("Warming up")
        self.views.addTab("Flatness")
        self.views.addTab("Builds compared")
        self.views.addTab("When something breaks")
        self.views.setAccessibleName("View of the stage Heat-up")
        self.views.currentChanged.connect(self._show_view)
        whole.addWidget(self.views)
        self.stack = QStackedWidget()
        whole.addWidget(self.stack, 1)
        self.body.addLayout(whole, 1)
        holder = QWidget()
        left = QVBoxLayout(holder)
        left.setContentsMargins(0, 0, 0, 0)
        left.setSpacing(8)
        self.stack.addWidget(holder)
        self.flatness = FlatnessView(document)
        self.stack.addWidget(self.flatness)
        self.builds = BuildsView(document)
        self.stack.addWidget(self.builds)
        self.faults = FaultView(document, theme)
        self.stack.addWidget(self.faults)
        frame, column = panel(8)
        column.addWidget(heading("From the room's temperature on"))
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
        column.addWidget(heading("What it comes to"))
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
        frame, column = panel()
        column.addWidget(heading("Where the heat went until the end of the curves"))
        self.balance = FigureList("Heat balance")
        column.addWidget(self.balance)
        column.addWidget(heading("What would save power while printing"))
        self.savings = FigureList("Savings")
        column.addWidget(self.savings)
        self.notes = soft()
        column.addWidget(self.notes)
        side.addWidget(frame)
        side.addStretch(1)
        self.body.addWidget(area)
        document.surface_computed.connect(self._on_surface)

    def _show_view(self, index: int) -> None:
        self.stack.setCurrentIndex(index)
        self._refresh_view()

    def _refresh_view(self) -> None:
        view = self.stack.currentWidget()
        if isinstance(view, FaultView | FlatnessView | BuildsView) and self.document.evaluation is not None:
            view.refresh(self.theme)

    def _on_surface(self) -> None:
        if self.isVisible() and self.document.evaluation is not None:
            self._show_map()

    def refresh(self) -> None:
        """Show the newest heat-up."""
        e = self.document.evaluation
        if e is None:
            return
        heat, units, t = e.heat, self.document.units, self.theme
        self.say(heat_up_sentence(heat))
        self._refresh_view()
        unit = units.unit("temperature")
        end = heat.shown_until(self.document.project.settings.soak_time)
        pick = heat.time <= end
        minutes = heat.time[pick] / 60

        def shown(curve: np.ndarray) -> np.ndarray:
            return np.asarray(unit.from_si(curve[pick]))

        self.curves.begin(t, y_label=f"Temperature, {unit.symbol}")
        band = heat.bands.get("surface")
        if band is not None:
            # the band of the steady surface, scaled with the rise that is reached
            room = self.document.project.rig.room_temperature
            rise = np.clip((heat.surface[pick] - room) / (heat.steady.surface - room), 0.0, 1.2)
            low = heat.surface[pick] + (band.low - band.value) * rise
            high = heat.surface[pick] + (band.high - band.value) * rise
            self.curves.add_band(minutes, unit.from_si(low), unit.from_si(high), t.curves[0])
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
        self.curves.setXRange(0.0, float(minutes[-1]), padding=0.01)
        self.power.begin(t)
        self.power.setXRange(0.0, float(minutes[-1]), padding=0.01)
        self.power.add_curve("bed", minutes, heat.power[pick], t.curves[0], unit="W", label_at=0.12, label_above=False)
        if heat.chamber_power.max() > 0:
            self.power.add_curve(
                "chamber heater", minutes, heat.chamber_power[pick], t.curves[4], unit="W", label_at=0.25
            )
        self.moment = self.curves.add_moment(t)
        self.moment.setVisible(self.document.surface is not None)
        self._show_figures()
        self._show_map()

    def _show_figures(self) -> None:
        e = self.document.evaluation
        assert e is not None
        heat, units = e.heat, self.document.units
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
                    f"90 % band of an unverified rig: {unknowns}",
                )
            )
        rows.append(Figure("Set point minus surface", show(heat.offset, "temperature_difference", units)))
        if np.isfinite(heat.ready_time):
            c = self.document.project.criteria
            near = show(c.ready_band, "temperature_difference", units)
            rule = f"sensor within {near}, surface under {show(c.ready_drift, 'drift', units)}"
            rows.append(Figure("Ready in", show_duration(heat.ready_time), rule))
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
                    )
                )
        until = heat.ready_time if np.isfinite(heat.ready_time) else float(heat.time[-1])
        rows.append(Figure("Energy until ready", show(heat.at(until, heat.energy), "energy", units)))
        rows.append(Figure("Peak power", show(float((heat.power + heat.chamber_power).max()), "power", units)))
        if power:
            rows.append(Figure("Bed power to hold", band_text(power.value, power.low, power.high, "power", units)))
        if heat.steady.chamber_power > 0.5:
            rows.append(Figure("Chamber power to hold", show(heat.steady.chamber_power, "power", units)))
        self.figures.show_figures(rows, self.theme)
        self._show_advice()
        total = sum(heat.ledger.values())
        balance = [
            Figure(name[0].upper() + name[1:], f"{100 * value / total:.0f} %", show(value, "energy", units))
            for name, value in sorted(heat.ledger.items(), key=lambda kv: -kv[1])
        ]
        self.balance.show_figures(balance, self.theme)
        text = f"The balance closes to {abs(heat.closure):.0e} of the energy put in (solver's own check)."
        self.notes.setText(" ".join([text, NO_BAND, *(n + "." for n in heat.notes)]))

    def _show_advice(self) -> None:
        """Set points for the wanted surface, and what would save power."""
        e = self.document.evaluation
        assert e is not None
        project, units = self.document.project, self.document.units
        self.points = None
        try:
            self.points = set_points_for(project.rig, project.settings, e.heat, project.criteria.surface_wanted)
        except SolverError as error:
            self.advice.show_figures([Figure("No set point", "–", str(error))], self.theme)
        if self.points is not None:
            state = None if self.points.within else State.FAILS
            limit = "" if self.points.within else "beyond the machine's limit or its power"
            rows = [
                Figure(
                    "Bed, first layers", show(self.points.first, "temperature", units), "after ready and soak", state
                ),
                Figure("Bed, rest", show(self.points.rest, "temperature", units), limit or "soaked", state),
            ]
            self.advice.show_figures(rows, self.theme)
        self.use_button.setEnabled(self.points is not None and self.points.within)
        rows = []
        for s in savings(project.rig, project.settings):
            sign = "−" if s.saved >= 0 else "+"
            air = f"chamber {show(s.chamber, 'temperature', units, digits=0)}"
            rows.append(Figure(s.what[0].upper() + s.what[1:], f"{sign}{show(abs(s.saved), 'power', units)}", air))
        self.savings.show_figures(rows, self.theme)

    def _use_set_points(self) -> None:
        if self.points is None:
            return
        values = {"settings.bed_first": self.points.first, "settings.bed_rest": self.points.rest}
        try:
            self.document.edit_many(values, "Set points for the wanted surface")
        except InputError as error:
            self.document.problem.emit(str(error))

    def _outline(self) -> np.ndarray | None:
        e, part = self.document.evaluation, self.document.project.part
        if e is None or e.part is None or part is None:
            return None
        return place_on_bed(e.part.sections.footprint, part.placement)

    def _show_map(self) -> None:
        """The map over time once it is solved, the soaked shape of the quick model until then."""
        e, history = self.document.evaluation, self.document.surface
        assert e is not None
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
        self.map.show_map(self.theme, self.document.units, (bed.width, bed.depth), values, self._outline(), coldest)
        self.under.show_figures([], self.theme)

    def _scrub(self, value: int) -> None:
        history = self.document.surface
        if history is not None:
            self._scrubbed = True
            self._show_moment(value / _SLIDER * float(history.time[-1]))

    def _show_moment(self, at: float) -> None:
        e, history = self.document.evaluation, self.document.surface
        assert e is not None
        assert history is not None
        self._moment_at = at
        units, outline, bed = self.document.units, self._outline(), self.document.project.rig.bed
        surface = history.map_at(at)
        found = under_part(history, surface, outline) if outline is not None else None
        coldest = found.coldest_at if found is not None else None
        self.map_title.setText(f"Surface after {show_duration(at)} (three-dimensional)")
        self.map.show_map(self.theme, units, (bed.width, bed.depth), surface, outline, coldest)
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
        solved = ready_time(history, project.settings.bed_first, project.criteria)
        later = "later than shown" if not np.isfinite(solved) else show_duration(solved)
        rows.append(Figure("Ready in, three-dimensional", later, "the middle of the bed, same rule as below"))
        self.under.show_figures(rows, self.theme)
