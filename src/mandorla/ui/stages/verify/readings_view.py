"""Readings: places clicked on the bed, surveys, what each reading comes to and why, several instruments on one place."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Any

from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from mandorla.core.errors import InputError
from mandorla.core.materials.library_data import seen_surfaces
from mandorla.core.measure.models import CONTACT, INFRARED, Reading
from mandorla.core.results.choices import CORRECTION_SHARES as SHARES
from mandorla.core.results.key import Key
from mandorla.core.results.keys import READINGS
from mandorla.core.units import UnitPreferences, parse_quantity, show, show_number
from mandorla.ui.document import Document
from mandorla.ui.plots.bed_survey import BedSurvey, Dot
from mandorla.ui.stages.page import side_column
from mandorla.ui.stages.verify.desk import VerifyDesk
from mandorla.ui.stages.verify.verify_view import VerifyView
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.fields import ChoiceEdit
from mandorla.ui.widgets.form import Form, answer, heading, panel, soft
from mandorla.ui.widgets.pick_list import PickList, TextTable

PLACES: dict[object, str] = {
    "surface": "the surface", "upper air": "air above the bed", "lower air": "air below the bed",
    "frame": "the frame", "room": "the room",    "sensor": "what the display shows",
}  # fmt: skip
GRIDS: dict[object, str] = {"free": "Free places", "3": "Survey of 3 × 3", "5": "Survey of 5 × 5"}


def grid_places(count: int, width: float, depth: float) -> tuple[tuple[float, float], ...]:
    """Places (m) of a survey, from the front left on, a tenth of the bed inside its edges."""
    xs = [round((i / (count - 1) - 0.5) * 0.8 * width, 4) for i in range(count)]
    ys = [round((i / (count - 1) - 0.5) * 0.8 * depth, 4) for i in range(count)]
    return tuple((x, y) for y in ys for x in xs)


def place_text(x: float, y: float, units: UnitPreferences) -> str:
    """A place on the bed in words: the middle, or its coordinates."""
    if abs(x) < 0.0005 and abs(y) < 0.0005:
        return "the middle"
    return f"{show_number(x, 'position', units, digits=0)}, {show(y, 'position', units, digits=0)}"


if TYPE_CHECKING:
    from mandorla.core.results.types import Corrected, ReadingsTable, SurfacePlace

    Corrections = tuple[tuple[Reading, Corrected | None, str], ...]


class ReadingsView(VerifyView):
    """The bed and the entry below it; the list, the picked reading's fields and budget, and what all say together."""

    key = "readings"
    title = "Readings"

    def __init__(self, document: Document, theme: Theme, desk: VerifyDesk) -> None:
        super().__init__(document, theme, desk)
        self.index = -1
        self.here = (0.0, 0.0)
        self.spots: tuple[SurfacePlace, ...] = ()
        self.elsewhere: frozenset[Reading] = frozenset()
        self._shape: object = None
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        left = QVBoxLayout()
        left.setSpacing(8)
        frame, column = panel(8)
        row = QHBoxLayout()
        row.addWidget(heading("Click where the next reading is taken"))
        row.addStretch(1)
        self.grid = QComboBox()
        self.grid.setAccessibleName("Survey")
        for key, text in GRIDS.items():
            self.grid.addItem(text, key)
        self.grid.activated.connect(self._choose_grid)
        row.addWidget(self.grid)
        column.addLayout(row)
        self.bed = BedSurvey("Readings on the bed")
        self.bed.placed.connect(self._place)
        column.addWidget(self.bed, 1)
        row = QHBoxLayout()
        self.instrument, self.place, self.surface = QComboBox(), QComboBox(), QComboBox()
        self.instrument.setAccessibleName("Instrument of the next reading")
        self.instrument.activated.connect(lambda _: self._show_surface())
        self.place.setAccessibleName("What is read")
        for key, text in PLACES.items():
            self.place.addItem(text, key)
        self.surface.setAccessibleName("Surface that an infrared instrument sees")
        for name, seen in seen_surfaces().items():
            self.surface.addItem(seen.name, name)
        for box in (self.instrument, self.place, self.surface):
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.setMinimumContentsLength(12)
            row.addWidget(box, 1)
        column.addLayout(row)
        row = QHBoxLayout()
        self.shown = QLineEdit()
        self.shown.setObjectName("reading.shown")
        self.shown.setAccessibleName("Shown by the instrument, several figures apart by spaces")
        self.shown.returnPressed.connect(self._add)
        self.time = QLineEdit("60 min")
        self.time.setObjectName("reading.time")
        self.time.setAccessibleName("Time after switching on")
        self.time.setMaximumWidth(90)
        self.add_button = QPushButton("Add reading")
        self.add_button.setObjectName("primary")
        self.add_button.clicked.connect(self._add)
        row.addWidget(self.shown, 1)
        row.addWidget(soft("after"))
        row.addWidget(self.time)
        row.addWidget(self.add_button)
        column.addLayout(row)
        left.addWidget(frame, 1)
        body.addLayout(left, 1)
        area, side = side_column(404)
        frame, column = panel()
        self.together = answer()
        column.addWidget(self.together)
        self.reasons = soft()
        column.addWidget(self.reasons)
        side.addWidget(frame)
        frame, column = panel(8)
        column.addWidget(heading("Readings of this session; what was shown is kept as it was"))
        self.list = PickList("Readings")
        self.list.setMinimumHeight(190)
        self.list.picked.connect(self._pick)
        column.addWidget(self.list)
        self.remove_button = QPushButton("Remove reading")
        self.remove_button.clicked.connect(self._remove)
        column.addWidget(self.remove_button)
        side.addWidget(frame)
        frame, column = panel(8)
        column.addWidget(heading("Where its uncertainty comes from (picked reading)"))
        self.budget = TextTable("Uncertainty budget", ("Source", "Type", "Standard", "Adds"))
        self.budget.setMinimumHeight(170)
        column.addWidget(self.budget)
        side.addWidget(frame)
        self._side = side
        self._form: QWidget | None = None
        frame, column = panel()
        column.addWidget(heading("This session, and how the rig was set"))
        self._state_host = QVBoxLayout()
        column.addLayout(self._state_host)
        self._state: QWidget | None = None
        self.drop_button = QPushButton("Remove session")
        self.drop_button.clicked.connect(desk.remove_session)
        column.addWidget(self.drop_button)
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)

    # ---- doing
    def _choose_grid(self, _: int) -> None:
        left = self._left_over()
        if left:
            self.here = left[0]
        self.refresh()

    def _grid(self) -> tuple[tuple[float, float], ...]:
        key = self.grid.currentData()
        bed = self.desk.document.project.rig.bed
        return () if key == "free" else grid_places(int(key), bed.width, bed.depth)

    def _left_over(self) -> list[tuple[float, float]]:
        session, name = self.desk.session, self.grid.currentText()
        done = {(round(r.x, 4), round(r.y, 4)) for r in session.readings if r.survey == name} if session else set()
        return [p for p in self._grid() if p not in done]

    def _place(self, x: float, y: float) -> None:
        self.here = (x, y)
        self.refresh()
        self.shown.setFocus()

    def _add(self) -> None:
        session, units = self.desk.session_for_input, self.desk.document.units
        instrument = self.desk.measurements.instrument(self.instrument.currentData() or "")

        def work() -> None:
            if instrument is None:
                raise InputError("Add the instrument first, in the view Instruments.")
            words = re.findall(r"[-−+]?\d+(?:[.,]\d+)?\s*(?:°?[CFK])?", self.shown.text())
            if not words:
                raise InputError(
                    f"“{self.shown.text().strip()}” holds no figure: write what the instrument shows, several apart by spaces."
                )
            raw = tuple(parse_quantity(w, "temperature", units.unit("temperature"), "shown") for w in words)
            if min(raw) < 0.0:
                raise InputError(f"{show(min(raw), 'temperature', units)} lies below absolute zero.")
            place = "sensor" if instrument.kind == "printer sensor" else self.place.currentData()
            reading = Reading(
                instrument=instrument.name, place=place, raw=raw, x=self.here[0], y=self.here[1],
                time=parse_quantity(self.time.text(), "duration", units.unit("duration"), "time"),
                surface=self.surface.currentData() if instrument.kind in INFRARED else "", reflected=session.room,
                **self._lies_on(place),
                survey=self.grid.currentText() if self.grid.currentData() != "free" and place == "surface" else "",
            )  # fmt: skip
            self.index = len(session.readings)
            if self.desk.put_in("readings", (*session.readings, reading), "Add reading"):
                self.shown.clear()
                left = self._left_over()
                if left:
                    self.here = left[0]
                self.refresh()

        self.desk.attempt(work)

    def _lies_on(self, place: str) -> dict[str, Any]:
        """Which side of which plate is read, with what on it: the project's as it is now."""
        process = self.document.project.process
        return {} if place != "surface" else {"plate": process.plate, "side": process.side, "coating": process.coating}

    def _remove(self) -> None:
        session = self.desk.session
        if session is not None and 0 <= self.index < len(session.readings):
            items = list(session.readings)
            del items[self.index]
            self.index = min(self.index, len(items) - 1)
            self.desk.put(self.desk.path("readings"), tuple(items), "Remove reading")

    def _pick(self, index: int) -> None:
        self.index = index
        self.refresh()

    # ---- showing
    def _show_surface(self) -> None:
        instrument = self.desk.measurements.instrument(self.instrument.currentData() or "")
        infrared = instrument is not None and instrument.kind in INFRARED
        self.surface.setVisible(infrared)
        unit = self.desk.document.units.unit("temperature").symbol
        self.shown.setPlaceholderText(f"shown, {unit}; several figures apart by spaces")

    @property
    def _asked(self) -> Key[ReadingsTable] | None:
        session = self.desk.session
        return None if session is None else READINGS.of(session=session.key, units=self.units)

    def also(self) -> tuple[Key[Any], ...]:
        """What is shown when it is there."""
        return (self._asked,) if self._asked is not None else ()

    def draw(self) -> None:
        """Show the session's readings."""
        desk, units = self.desk, self.desk.document.units
        project, session = desk.document.project, desk.session
        names = [i.name for i in desk.measurements.instruments if i.kind in (*CONTACT, *INFRARED, "printer sensor")]
        if [self.instrument.itemData(i) for i in range(self.instrument.count())] != names:
            self.instrument.clear()
            for name in names:
                self.instrument.addItem(name, name)
        self._show_surface()
        bed = project.rig.bed
        readings = session.readings if session is not None else ()
        table = self.results.last(self._asked) if self._asked is not None else None
        found = table.corrected if table is not None else ()
        self.spots = table.places if table is not None else ()
        self.elsewhere = table.elsewhere if table is not None else frozenset()
        if not 0 <= self.index < len(readings):
            self.index = next((i for i, r in enumerate(readings) if r.place == "surface"), len(readings) - 1)
        texts = []
        for reading, corrected, reason in found:
            shown = show(sum(reading.raw) / len(reading.raw), "temperature", units)
            value = (
                f"{show(corrected.value, 'temperature', units)} ± "
                f"{show(corrected.budget.expanded, 'temperature_difference', units)}"
                if corrected is not None
                else reason
            )
            where = (
                f"{place_text(reading.x, reading.y, units)}"
                if reading.place == "surface"
                else str(PLACES[reading.place])
            )
            texts.append(f"{reading.instrument} · {where}\nshown {shown}  →  {value}")
        self.list.show_items(texts, self.index)
        dots = [
            Dot(s.x, s.y, show(s.estimate.value, "temperature", units), state="marginal" if s.estimate.left_out else "accent")
            for s in self.spots if s.place == "surface"
        ]  # fmt: skip
        self.bed.show_dots(
            self.theme, (bed.width, bed.depth), dots, self._left_over(), self.here, rounded=bed.shape == "round"
        )
        self._show_budget(found)
        self._say_together(found)
        self._build_forms()

    def _show_budget(self, found: Corrections) -> None:
        units = self.desk.document.units
        if not 0 <= self.index < len(found):
            self.budget.show_rows([])
            return
        corrected = found[self.index][1]
        if corrected is None:
            self.budget.show_rows([[found[self.index][2], "", "", ""]])
            return
        b = corrected.budget
        rows = [
            [
                c.name,
                c.kind,
                f"{c.u:.3f}" if c.name in SHARES else show(c.u, "temperature_difference", units, digits=2),
                show(c.amount, "temperature_difference", units, digits=2),
            ]
            for c in sorted(b.contributions, key=lambda c: -c.amount)
        ]
        rows.append(["all together, standard", "", "", show(b.u, "temperature_difference", units, digits=2)])
        rows.append(
            [f"95 %, coverage factor {b.k:.2f}", "", "", show(b.expanded, "temperature_difference", units, digits=2)]
        )
        moved = [(name, v) for name, v in corrected.steps if abs(v) > 0.005]
        rows += [[f"moved by {name}", "", "", show(v, "temperature_difference", units, digits=2)] for name, v in moved]
        self.budget.show_rows(rows)

    def _say_together(self, found: Corrections) -> None:
        units, session = self.desk.document.units, self.desk.session
        middle = [s for s in self.spots if s.place == "surface"]
        if session is None or not middle:
            self.together.setText("Read one place with two unlike instruments: a touch probe, and an imager on tape.")
            self.reasons.setText("")
            return
        best = max(middle, key=lambda s: (len(s.estimate.used) + len(s.estimate.left_out), -abs(s.x) - abs(s.y)))
        e = best.estimate
        display = next((s for s in self.spots if s.place == "sensor"), None)
        parts = [
            f"The surface at {place_text(best.x, best.y, units)} is {show(e.value, 'temperature', units)} "
            f"± {show(e.expanded, 'temperature_difference', units)}."
        ]
        if display is not None:
            parts.append(
                f"The set point is {show(session.bed, 'temperature', units)}, the display shows "
                f"{show(display.estimate.value, 'temperature', units)}: neither is the surface."
            )
        self.together.setText(" ".join(parts))
        named = [(w.instrument.kind not in INFRARED, text) for s in middle for w, _, text in s.estimate.left_out]
        reasons = [text for _, text in sorted(named, key=lambda pair: pair[0])]
        if 0 <= self.index < len(found):
            picked = found[self.index][1]
            reasons += list(picked.warnings) if picked is not None else []
            reading = found[self.index][0]
            if reading in self.elsewhere:
                on = [w for w in (reading.plate, f"{reading.side} side", reading.coating) if w]
                reasons.append(
                    f"The picked reading was taken on another plate, side or coating ({', '.join(on)}) than is printed on now."
                )
        self.reasons.setText("\n".join(dict.fromkeys(reasons)))

    def _build_forms(self) -> None:
        desk, session = self.desk, self.desk.session
        count = len(session.readings) if session is not None else 0
        instrument = None
        if session is not None and 0 <= self.index < count:
            instrument = desk.measurements.instrument(session.readings[self.index].instrument)
        shape = (desk.index, self.index, count, instrument.kind if instrument else None, session is None)
        if shape == self._shape:
            return
        self._shape = shape
        for old in (self._form, self._state):
            if old is not None:
                old.hide()
                old.setParent(None)
                old.deleteLater()
        self._form = self._state = None
        self.drop_button.setEnabled(session is not None)
        if session is None:
            return
        form = Form(desk.document)
        form.add_field(desk.path("name"), "Session")
        form.add_field(desk.path("date"), "Date")
        for name in ("bed", "chamber", "room"):
            form.add_field(desk.path(name))
        form.add_field(desk.path("note"), "Note")
        self._state_host.addWidget(form)
        self._state = form
        if instrument is None:
            return
        frame, column = panel()
        column.addWidget(heading("The picked reading"))
        form = Form(desk.document)
        base = desk.path(f"readings.{self.index}")
        form.add_widget("Of", ChoiceEdit(desk.document, f"{base}.place", "Of", PLACES))
        for name in ("x", "y", "time"):
            form.add_field(f"{base}.{name}")
        if instrument.kind in INFRARED:
            surfaces: dict[object, str] = {k: s.name for k, s in seen_surfaces().items()}
            form.add_widget("Surface seen", ChoiceEdit(desk.document, f"{base}.surface", "Surface seen", surfaces))
            for name in ("emissivity", "reflected", "angle", "setting"):
                form.add_field(f"{base}.{name}")
        form.add_field(f"{base}.lid_open")
        form.add_field(f"{base}.note", "Note")
        column.addWidget(form)
        self._form = frame
        self._side.insertWidget(2, frame)
