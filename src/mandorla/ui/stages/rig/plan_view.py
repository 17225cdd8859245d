"""The bed from above: outline, heated zones and their density map, sensor, holes and brackets."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QPushButton, QWidget

from mandorla.core.errors import InputError
from mandorla.core.input_file import text_of
from mandorla.core.rig.bed import ContactSpot, HoldMagnet, Outline, Zone
from mandorla.core.rig.power_map import read_power_map
from mandorla.ui.document import Document
from mandorla.ui.stages.page import scrolling
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.bed_plan import MOUNTS, BedPlan
from mandorla.ui.widgets.fields import ChoiceEdit, SwitchEdit
from mandorla.ui.widgets.form import Form, heading, panel, soft
from mandorla.ui.widgets.row_list import Column, RowKind, RowList

SHAPES: dict[object, str] = {"rectangle": "Rectangle", "round": "Round"}


class PlanView(View):
    """The drawn plan and the fields of what lies in it."""

    key = "plan"
    title = "Bed from above"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        column.addWidget(heading("Top view, front edge at the bottom · drag items, or use the arrow keys"))
        self.plan = BedPlan(document)
        column.addWidget(self.plan, 1)
        body.addWidget(frame, 1)
        side, column = panel(8)
        side.setFixedWidth(350)
        column.addWidget(scrolling(self._form()))
        body.addWidget(side)

    def _form(self) -> Form:
        document = self.document
        form = Form(document)
        form.add_wide(heading("The bed"))
        form.add_widget("Outline", ChoiceEdit(document, "rig.bed.shape", "Outline of the bed", SHAPES))
        form.add_field("rig.bed.width")
        form.add_field("rig.bed.depth")
        form.add_widget("Held at", ChoiceEdit(document, "rig.bed.mounts", "Held at", MOUNTS))
        form.add_field("rig.bed.screw_pitch")
        form.add_wide(SwitchEdit(document, "rig.bed.clockwise_raises", "Clockwise, from above, raises the bed"))
        form.add_wide(SwitchEdit(document, "rig.bed.moves", "The bed moves while printing"))
        form.add_wide(heading("Sensor"))
        form.add_field("rig.bed.sensor.x")
        form.add_field("rig.bed.sensor.y")
        form.add_wide(heading("Heated zones"))
        zones = RowKind(
            "rig.bed.heater.zones", "zone",
            (Column("outline.shape", "Shape", lambda: SHAPES), Column("outline.width"), Column("outline.depth"),
             Column("outline.x"), Column("outline.y"), Column("share")),
            self._new_zone, 12, "One zone: the rectangle of the heated area.",
        )  # fmt: skip
        self.zones = RowList(document, zones)
        form.add_wide(self.zones)
        row = QHBoxLayout()
        self.map_button, self.no_map_button = QPushButton("Power map from CSV …"), QPushButton("No map")
        self.map_button.clicked.connect(self._open_map)
        self.no_map_button.clicked.connect(lambda: self.set_power_map(()))
        row.addWidget(self.map_button)
        row.addWidget(self.no_map_button)
        row.addStretch(1)
        holder = QWidget()
        holder.setLayout(row)
        row.setContentsMargins(0, 0, 0, 0)
        form.add_wide(holder)
        form.add_wide(
            soft("Relative densities over the heated area, a line a row, the back row first; used without zones.")
        )
        form.add_wide(heading("Holes and brackets"))
        spots = RowKind(
            "rig.bed.spots", "spot",
            (Column("kind", "Kind", lambda: {"hole": "Hole", "bracket": "Bracket"}), Column("layer", "Layer", self._layers),
             Column("x"), Column("y"), Column("diameter"), Column("conductance")),
            self._new_spot, 24, "None.", lambda: tuple(self._layers()),
        )  # fmt: skip
        self.spots = RowList(document, spots)
        form.add_wide(self.spots)
        form.add_wide(heading("Magnets below a loose plate"))
        magnets = RowKind(
            "rig.bed.magnets", "magnet", (Column("x"), Column("y"), Column("diameter"), Column("force")),
            self._new_magnet, 64, "None set in: a magnet sheet pulls everywhere alike.",
        )  # fmt: skip
        self.magnets = RowList(document, magnets)
        form.add_wide(self.magnets)
        form.add_wide(soft("Single magnets take the place of a magnet sheet's pull: it holds where they are."))
        return form

    def _layers(self) -> dict[object, str]:
        return {layer.key: layer.name for layer in self.document.project.rig.bed.layers}

    def _new_zone(self) -> Zone:
        heater = self.document.project.rig.bed.heater
        n = len(heater.zones)
        half = 0.5 * heater.width
        return Zone(outline=Outline(width=0.96 * half, depth=heater.depth, x=(-0.5 if n % 2 == 0 else 0.5) * half))

    def _new_spot(self) -> ContactSpot:
        bed = self.document.project.rig.bed
        plate = max(bed.layers, key=lambda a: a.properties().conductivity * a.thickness).name
        n = len(bed.spots)
        return ContactSpot(
            layer=plate,
            x=(0.4 if n % 2 else -0.4) * bed.width,
            y=(0.4 if n // 2 % 2 else -0.4) * bed.depth,
            diameter=0.02,
        )

    def _new_magnet(self) -> HoldMagnet:
        bed = self.document.project.rig.bed
        n = len(bed.magnets)
        return HoldMagnet(x=(0.35 if n % 2 else -0.35) * bed.width, y=(0.35 if n // 2 % 2 else -0.35) * bed.depth)

    def _open_map(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Open a power map", "", "CSV (*.csv *.txt)")
        if name:
            self.open_power_map(Path(name))

    def open_power_map(self, path: Path) -> None:
        """Take the power map from a CSV file; a bad one is refused with its line."""
        try:
            self.set_power_map(read_power_map(text_of(path)))
        except InputError as error:
            self.document.problem.emit(f"{path.name}: {error}")

    def set_power_map(self, rows: tuple[tuple[float, ...], ...]) -> None:
        """Set or clear the power map."""
        try:
            self.document.edit("rig.bed.heater.power_map", rows, "power map")
        except InputError as error:
            self.document.problem.emit(str(error))

    def draw(self) -> None:
        """Draw with the present theme."""
        self.no_map_button.setEnabled(bool(self.document.project.rig.bed.heater.power_map))
        self.plan.set_theme(self.theme)
