"""The chamber and its room: six panels unfolded, air paths, door, heater, what stands inside, the room's course."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtWidgets import QComboBox, QFileDialog, QHBoxLayout, QPushButton, QTabWidget, QVBoxLayout, QWidget

from mandorla.core.errors import InputError
from mandorla.core.input_file import text_of
from mandorla.core.materials.library_data import wall_builds, wall_materials
from mandorla.core.results.key import Key
from mandorla.core.results.keys import EVALUATION
from mandorla.core.rig.chamber import SIDES, panel_of
from mandorla.core.rig.room_log import read_room_log
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.stages.page import scrolling
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.fields import ChoiceEdit, SwitchEdit
from mandorla.ui.widgets.form import Form, heading, panel, soft
from mandorla.ui.widgets.unfolded_chamber import ChamberNet

CHAMBER_CAUTION = (
    "A closed, heated chamber is hot inside and holds fumes: no flammable panels, blankets or tents near heaters, a way "
    "out for the "
    "air, electronics kept below their ratings, never unattended without a fault cut-out."
)
AIRS: dict[object, str] = {"lower": "below the bed", "upper": "above the bed"}
COURSES: dict[object, str] = {"constant": "Constant", "daily": "Daily variation", "log": "From a log"}
DRAFTS: dict[object, str] = {
    "around": "all around", "left": "the left", "right": "the right", "front": "the front", "back": "the back",
}  # fmt: skip
NO_BUILD = "As entered below"


class ChamberView(View):
    """The unfolded panels and the forms of panel, air, heat and room."""

    key = "chamber"
    title = "Chamber and room"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        column.addWidget(heading("Chamber unfolded, to scale · select a panel"))
        self.net = ChamberNet(document)
        self.net.picked.connect(lambda _: self._panel_form())
        column.addWidget(self.net, 1)
        body.addWidget(frame, 1)
        self.tabs = QTabWidget()
        self.tabs.setFixedWidth(350)
        self.tabs.setDocumentMode(True)
        self.tabs.tabBar().setDrawBase(False)
        self._host = QVBoxLayout()
        holder = QWidget()
        holder.setLayout(self._host)
        self._form: Form | None = None
        self._shape: object = None
        for text, widget in (
            ("Panel", holder), ("Size and air", self._air_form()), ("Heat", self._heat_form()), ("Room", self._room_form()),
        ):  # fmt: skip
            box, inner = panel(8)
            inner.addWidget(scrolling(widget))
            self.tabs.addTab(box, text)
        body.addWidget(self.tabs)
        document.project_changed.connect(self._sync)
        self._panel_form()

    # ---- forms
    def _panel_form(self) -> None:
        if self._form is not None:
            self._host.removeWidget(self._form)
            self._form.hide()
            self._form.deleteLater()
        side = self.net.side
        form = Form(self.document)
        form.add_wide(heading(f"Panel: {side}"))
        here = getattr(self.document.project.rig.chamber.panels, side)
        self.build = QComboBox()
        self.build.setAccessibleName("Build of the panel")
        self.build.setObjectName(f"rig.chamber.panels.{side}.build")
        self.build.addItem(NO_BUILD, "")
        for key, build in wall_builds().items():
            self.build.addItem(build.name, key)
        same = next((k for k in wall_builds() if panel_of(k).layers == here.layers), "")
        self.build.setCurrentIndex(self.build.findData(same))
        self.build.activated.connect(self._set_build)
        form.add_widget("Build", self.build)
        materials: dict[object, str] = {k: m.name for k, m in wall_materials().items()}
        base = f"rig.chamber.panels.{side}"
        for i in range(len(here.layers)):
            where = "inside" if i == 0 else "outside" if i == len(here.layers) - 1 else "between"
            if len(here.layers) == 1:
                where = "sheet"
            path = f"{base}.layers.{i}"
            form.add_widget(
                f"Material, {where}", ChoiceEdit(self.document, f"{path}.material", f"Material, {where}", materials)
            )
            form.add_field(f"{path}.thickness", f"Thickness, {where}")
        form.add_wide(SwitchEdit(self.document, f"{base}.foil", "Reflective foil inside"))
        self.all_button = QPushButton("Apply to all six panels")
        self.all_button.clicked.connect(self._all_alike)
        form.add_wide(self.all_button)
        self.resistance = soft()
        form.add_wide(self.resistance)
        form.add_wide(soft(CHAMBER_CAUTION))
        self._form = form
        self._host.addWidget(form)
        self._say_resistance()

    def _say_resistance(self) -> None:
        here = getattr(self.document.project.rig.chamber.panels, self.net.side)
        r = show(here.resistance, "contact_resistance", self.document.units)
        rating = show(here.rating, "temperature", self.document.units, digits=0)
        self.resistance.setText(
            f"Face to face {r}; inner face usually rated to {rating}. Closed air by ISO 6946 with its radiation; the "
            "maker's rating wins."
        )

    def _air_form(self) -> Form:
        form = Form(self.document)
        form.add_wide(SwitchEdit(self.document, "rig.chamber.enclosed", "Enclosed chamber"))
        for name in ("width", "depth", "height", "bed_height"):
            form.add_field(f"rig.chamber.{name}")
        form.add_wide(heading("Fresh air"))
        for name in ("air_changes", "vent_area", "exhaust_flow", "exhaust_fraction"):
            form.add_field(f"rig.chamber.{name}")
        form.add_wide(SwitchEdit(self.document, "rig.chamber.exhaust_by_air", "Exhaust only runs above"))
        form.add_field("rig.chamber.exhaust_above")
        form.add_wide(heading("Air inside"))
        for name in ("circulation", "circulation_flow"):
            form.add_field(f"rig.chamber.{name}")
        form.add_wide(heading("Door"))
        for name in ("width", "height", "opens_at", "open_for"):
            form.add_field(f"rig.chamber.door.{name}")
        return form

    def _heat_form(self) -> Form:
        form = Form(self.document)
        form.add_field("rig.chamber.heater_power")
        form.add_widget(
            "It warms the air", ChoiceEdit(self.document, "rig.chamber.heater_air", "Air that is heated", AIRS)
        )
        form.add_widget(
            "Its sensor is", ChoiceEdit(self.document, "rig.chamber.sensor_air", "Air that is sensed", AIRS)
        )
        for name in ("sensor_bias", "sensor_time_constant"):
            form.add_field(f"rig.chamber.{name}")
        form.add_wide(heading("What stands inside"))
        for name in ("internal_mass", "internal_area"):
            form.add_field(f"rig.chamber.{name}")
        return form

    def _room_form(self) -> Form:
        form = Form(self.document)
        form.add_field("rig.room_temperature")
        form.add_widget("It is", ChoiceEdit(self.document, "rig.room.kind", "Course of the room", COURSES))
        for name in ("swing", "warmest", "start"):
            form.add_field(f"rig.room.{name}")
        self.log_button = QPushButton("Room log from CSV …")
        self.log_button.clicked.connect(self._open_log)
        form.add_wide(self.log_button)
        self.log_note = soft()
        form.add_wide(self.log_note)
        form.add_wide(heading("Draft on an open bed"))
        form.add_field("rig.draft", "Air speed")
        form.add_field("rig.room.draft_cooler", "Colder than the room by")
        form.add_widget("It comes from", ChoiceEdit(self.document, "rig.room.draft_from", "Side of the draft", DRAFTS))
        form.add_wide(heading("Air conditioner"))
        form.add_wide(SwitchEdit(self.document, "rig.room.cooler", "It blows at times"))
        for name in ("cooler_colder", "cooler_speed", "cooler_every", "cooler_for"):
            form.add_field(f"rig.room.{name}")
        form.add_wide(heading("Side fans"))
        form.add_field("rig.side_fans", "Air speed over the part, full")
        form.add_field("settings.side_fan", "They run at")
        return form

    # ---- actions
    def _try(self, values: dict[str, object], text: str) -> None:
        try:
            self.document.edit_many(values, text)
        except InputError as error:
            self.document.problem.emit(str(error))

    def _set_build(self) -> None:
        key = self.build.currentData()
        if key:
            layers = tuple(layer.model_dump() for layer in panel_of(key).layers)
            self._try({f"rig.chamber.panels.{self.net.side}.layers": layers}, f"Build of the {self.net.side} panel")
            self.build.setFocus()  # the form was built anew

    def _all_alike(self) -> None:
        panels = self.document.project.rig.chamber.panels
        here = getattr(panels, self.net.side).model_dump()
        self._try({f"rig.chamber.panels.{side}": here for side in SIDES}, "All panels alike")

    def _open_log(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Open a log of the room", "", "CSV (*.csv *.txt)")
        if name:
            self.open_room_log(Path(name))

    def open_room_log(self, path: Path) -> None:
        """Take the room's course from a CSV file; a bad one is refused with its line."""
        try:
            log = read_room_log(text_of(path), path.name)
            room = self.document.project.rig.room.model_dump() | {"kind": "log", "log": log, "log_name": path.name}
            self.document.edit("rig.room", room, "room log")
        except InputError as error:
            self.document.problem.emit(f"{path.name}: {error}")

    def _sync(self) -> None:
        c, room = self.document.project.rig.chamber, self.document.project.rig.room
        shape = tuple(
            (tuple(layer.material for layer in p.layers), p.foil, len(p.layers)) for p in c.panels.each()
        )  # fmt: skip
        if shape != self._shape:
            self._shape = shape
            self._panel_form()
        self._say_resistance()
        if room.log:
            span = show(room.log[-1][0], "duration", self.document.units)
            self.log_note.setText(f"“{room.log_name}”: {len(room.log)} readings over {span}.")
        else:
            self.log_note.setText("No log: two columns, time and temperature; s, min, h or dates; °C, °F or K.")

    def also(self) -> tuple[Key[Any], ...]:
        """What is shown when it is there."""
        return (EVALUATION,)

    def draw(self) -> None:
        """Show the newest temperatures of the panels."""
        self._sync()
        self.net.show_evaluation(self.results.last(EVALUATION), self.theme)
