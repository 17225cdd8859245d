"""Instruments: what they are, how they are set, what their calibrations say, when the next is due."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QPushButton, QWidget

from mandorla.core.errors import InputError
from mandorla.core.measure.calibration import boil, correction_of, ice_point, is_due, limit_of
from mandorla.core.measure.models import CONTACT, INFRARED, Calibration, Instrument
from mandorla.core.units import parse_quantity, show
from mandorla.ui.document import Document
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.page import side_column
from mandorla.ui.stages.verify.desk import VerifyDesk, today
from mandorla.ui.stages.verify.verify_view import VerifyView
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.charts import column_that_scrolls
from mandorla.ui.widgets.fields import ChoiceEdit
from mandorla.ui.widgets.flow import FlowRow, growing
from mandorla.ui.widgets.form import Form, answer, heading, panel, soft
from mandorla.ui.widgets.pick_list import PickList, TextTable

KINDS: dict[object, str] = {
    "thermocouple": "Touch probe, thermocouple", "resistance probe": "Touch probe, resistance", "infrared spot": "Infrared, spot",
    "imager": "Infrared, imager", "printer sensor": "Printer's display", "logger": "Data logger", "plug meter": "Plug meter",
    "straightedge": "Straightedge", "feeler": "Feeler gauge", "height probe": "Height probe",
}  # fmt: skip
AGAINST: dict[str, str] = {
    "ice point": "Ice bath", "boiling altitude": "Boiling water, altitude known", "boiling pressure": "Boiling water, barometer",
    "other instrument": "A better instrument", "soaked surface": "A soaked reference surface",
}  # fmt: skip
CAUTION = (
    "Boiling water and hot beds burn; keep mains leads and meters dry; work on mains wiring belongs to a qualified electrician, by "
    "local code."
)


class InstrumentsView(VerifyView):
    """List at the left, error with its band and the calibrations in the middle, settings at the right."""

    key = "instruments"
    title = "Instruments"

    def __init__(self, document: Document, theme: Theme, desk: VerifyDesk) -> None:
        super().__init__(document, theme, desk)
        self.index = 0
        self._shape: object = None
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        frame.setFixedWidth(216)
        column.addWidget(heading("On the bench"))
        self.list = PickList("Instruments")
        self.list.picked.connect(self._pick)
        column.addWidget(self.list, 1)
        self.kind = QComboBox()
        self.kind.setAccessibleName("Kind of the new instrument")
        for key, text in KINDS.items():
            self.kind.addItem(text, key)
        column.addWidget(self.kind)
        self.add_button, self.remove_button = QPushButton("Add instrument"), QPushButton("Remove instrument")
        self.add_button.clicked.connect(self._add)
        self.remove_button.clicked.connect(self._remove)
        column.addWidget(self.add_button)
        column.addWidget(self.remove_button)
        body.addWidget(frame)
        frame, column = panel(8)
        self.sentence = answer()
        column.addWidget(self.sentence)
        self.plot = CurvePlot("Error of the instrument", "Shown, °C", "Reads too high by")
        self.plot.setMinimumHeight(170)
        column.addWidget(self.plot, 3)
        self.table = TextTable(
            "Calibrations", ("Against", "Date", "Shown", "True", "Known to"), "No comparison was entered yet"
        )
        self.table.setMinimumHeight(110)
        column.addWidget(self.table, 2)
        self.against = QComboBox()
        self.against.setAccessibleName("Calibrated against")
        for name, text in AGAINST.items():
            self.against.addItem(text, name)
        self.against.activated.connect(lambda _: self._hints())
        self.shown, self.reference = QLineEdit(), QLineEdit()
        self.shown.setObjectName("calibration.shown")
        self.reference.setObjectName("calibration.reference")
        self.shown.setAccessibleName("Shown by the instrument")
        self.calibrate_button = QPushButton("Add calibration")
        self.calibrate_button.clicked.connect(self._calibrate)
        for edit in (self.shown, self.reference):
            edit.setMinimumWidth(90)
        column.addLayout(FlowRow(self.against, growing(self.shown), growing(self.reference), self.calibrate_button))
        self.forget_button = QPushButton("Remove last calibration")
        self.forget_button.clicked.connect(self._forget)
        column.addWidget(soft(CAUTION))
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(self.forget_button)
        column.addLayout(row)
        scrolled, middle = column_that_scrolls()
        middle.addWidget(frame, 1)
        body.addWidget(scrolled, 1)
        area, self._side = side_column(306)
        self._form: QWidget | None = None
        self._side.addStretch(1)
        body.addWidget(area)
        self._hints()

    @property
    def instrument(self) -> Instrument | None:
        """The picked instrument."""
        items = self.desk.measurements.instruments
        return items[self.index] if self.index < len(items) else None

    def _pick(self, index: int) -> None:
        self.index = index
        self.refresh()

    def _add(self) -> None:
        kind = self.kind.currentData()
        names = {i.name for i in self.desk.measurements.instruments}
        base = KINDS[kind].split(",")[0]
        name, n = base, 2
        while name in names:
            name, n = f"{base} {n}", n + 1
        new = Instrument(name=name, kind=kind)
        if kind == "plug meter":
            new = new.model_copy(update={"accuracy": 0.0, "accuracy_of_reading": 0.02})
        self.index = len(names)
        self.desk.put("measurements.instruments", (*self.desk.measurements.instruments, new), f"Add {name}")

    def _remove(self) -> None:
        items = list(self.desk.measurements.instruments)
        if self.index < len(items):
            del items[self.index]
            self.index = max(0, self.index - 1)
            self.desk.put("measurements.instruments", tuple(items), "Remove instrument")

    def _hints(self) -> None:
        key = self.against.currentData()
        unit = self.desk.document.units.unit("temperature").symbol
        self.shown.setPlaceholderText(f"shown, {unit}")
        words = {
            "ice point": (f"{show(273.15, 'temperature', self.desk.document.units)} by itself", False),
            "boiling altitude": ("altitude, m", True),
            "boiling pressure": ("pressure, hPa", True),
        }  # fmt: skip
        text, on = words.get(key, (f"true, {unit}", True))
        self.reference.setPlaceholderText(text)
        self.reference.setAccessibleName(f"Reference: {text}")
        self.reference.setEnabled(on)

    def _calibrate(self) -> None:
        instrument, key, units = self.instrument, self.against.currentData(), self.desk.document.units
        if instrument is None:
            return

        def work() -> None:
            shown = parse_quantity(self.shown.text(), "temperature", units.unit("temperature"), "shown")
            if key == "ice point":
                done = ice_point(today(), shown)
            elif key == "boiling altitude":
                height = parse_quantity(self.reference.text(), "altitude", units.unit("altitude"), "altitude")
                done = boil(today(), shown, altitude=height)
            elif key == "boiling pressure":
                pressure = parse_quantity(self.reference.text(), "pressure", units.unit("pressure"), "pressure")
                done = boil(today(), shown, pressure=pressure)
            else:
                true = parse_quantity(self.reference.text(), "temperature", units.unit("temperature"), "true")
                done = Calibration(date=today(), kind=key, shown=shown, reference=true, uncertainty=0.3)
            if abs(done.shown - done.reference) > 25.0:
                raise InputError(
                    f"{show(done.shown, 'temperature', units)} shown where "
                    f"{show(done.reference, 'temperature', units)} is true: that is "
                    "no calibration, the instrument or the unit is wrong."
                )
            path = f"measurements.instruments.{self.index}.calibrations"
            if self.desk.put(path, (*instrument.calibrations, done), f"Calibrate {instrument.name}"):
                self.shown.clear()
                self.reference.clear()

        self.desk.attempt(work)

    def _forget(self) -> None:
        instrument = self.instrument
        if instrument is not None and instrument.calibrations:
            path = f"measurements.instruments.{self.index}.calibrations"
            self.desk.put(path, instrument.calibrations[:-1], "Remove calibration")

    def draw(self) -> None:
        """Show the picked instrument."""
        items = self.desk.measurements.instruments
        self.index = min(self.index, max(0, len(items) - 1))
        day = self.desk.session.date if self.desk.session else today()
        self.list.show_items([f"{i.name}\n{_standing(i, day)}" for i in items], self.index)
        instrument = self.instrument
        self._build_form()
        for widget in (self.remove_button, self.calibrate_button, self.forget_button):
            widget.setEnabled(instrument is not None)
        units = self.desk.document.units
        self.plot.begin(
            self.theme,
            x_label=f"Shown, {units.unit('temperature').symbol}",
            y_label=f"Reads too high by, {units.unit('temperature_difference').symbol}",
        )
        if instrument is None:
            self.sentence.setText(
                "Add the instruments that you measure with: a touch probe, an imager, the printer's own display."
            )
            self.table.show_rows([])
            return
        self._show_error(instrument, day)

    def _show_error(self, instrument: Instrument, day: str) -> None:
        units, t = self.desk.document.units, self.theme
        show_t = units.unit("temperature")
        difference = units.unit("temperature_difference")
        c = correction_of(instrument, day)
        self.table.show_rows(
            [
                [
                    "Boiling water" if p.kind == "boiling point" else AGAINST.get(p.kind, p.kind), p.date,
                    show(p.shown, "temperature", units),
                    show(p.reference, "temperature", units),
                    show(p.uncertainty, "temperature_difference", units, digits=2),
                ]
                for p in instrument.calibrations
            ]
        )  # fmt: skip
        if instrument.kind not in (*CONTACT, *INFRARED, "printer sensor"):
            self.sentence.setText(
                f"{instrument.name}: ± {100 * instrument.accuracy_of_reading:.1f} % of its reading by its maker."
            )
            return
        T = np.linspace(273.15, 423.15, 61)
        error = np.array([c.error(float(v)) for v in T])
        u = np.array([2.0 * c.u(float(v)) for v in T])
        limit = np.array([limit_of(instrument, float(v)) for v in T])
        x = show_t.from_si(T)
        self.plot.add_band(x, difference.from_si(error - u), difference.from_si(error + u), t.curves[1])
        self.plot.add_curve("error", x, difference.from_si(error), t.curves[1], unit=difference.symbol, label_at=0.7)
        for sign in (-1.0, 1.0):
            self.plot.add_curve(
                "maker's limit", x, difference.from_si(sign * limit), t.soft, dashed=True, width=1.2, label_at=0.3
            )
        hot = 373.15
        said = (
            f"{instrument.name} reads {show(abs(c.error(hot)), 'temperature_difference', units)} too "
            f"{'high' if c.error(hot) > 0 else 'low'} at {show(hot, 'temperature', units, digits=0)}, known to "
            f"± {show(2.0 * c.u(hot), 'temperature_difference', units)}."
        )
        if not c.points:
            said = (
                f"{instrument.name} was never calibrated: it may be off by "
                f"{show(limit_of(instrument, hot), 'temperature_difference', units)} "
                "by its maker's own figures, and by more if it is damaged. Try it in ice and in boiling water."
            )
        elif is_due(instrument, day):
            said += f" Its calibration was due on {c.due}."
        self.sentence.setText(said)

    def _build_form(self) -> None:
        instrument = self.instrument
        shape = (self.index, instrument.kind if instrument else None)
        if shape == self._shape:
            return
        self._shape = shape
        if self._form is not None:
            self._side.removeWidget(self._form)
            self._form.hide()
            self._form.deleteLater()
        frame, column = panel()
        if instrument is not None:
            form = Form(self.desk.document)
            path = f"measurements.instruments.{self.index}"
            form.add_field(f"{path}.name", "Name")
            form.add_widget("Kind", ChoiceEdit(self.desk.document, f"{path}.kind", "Kind", KINDS))
            names = ["accuracy_of_reading", "accuracy", "resolution"]
            if instrument.kind in INFRARED:
                names += ["emissivity", "band_low", "band_high"]
            if instrument.kind in CONTACT:
                names += ["stem_conductance", "tip_radius"]
            for name in (*names, "interval"):
                form.add_field(f"{path}.{name}")
            column.addWidget(heading("What it is and how it is set"))
            column.addWidget(form)
            column.addWidget(
                soft("Limits as the maker states them; the larger part counts until a calibration says better.")
            )
        self._form = frame
        self._side.insertWidget(0, frame)


def _standing(instrument: Instrument, day: str) -> str:
    """In a line: what the instrument is and whether it needs a calibration."""
    if instrument.kind in ("printer sensor", "straightedge", "feeler", "height probe", "plug meter"):
        return str(KINDS[instrument.kind]).lower()
    c = correction_of(instrument, day)
    if not c.points:
        return "never calibrated"
    return f"due since {c.due}" if is_due(instrument, day) else f"calibrated to {c.due}"
