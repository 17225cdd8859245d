"""Part: what is printed."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from mandorla.core.errors import InputError
from mandorla.core.failure.grades import even_foot_state
from mandorla.core.materials.library_data import polymers
from mandorla.core.materials.plate_library import plate_surfaces
from mandorla.core.part.mesh import UNITS
from mandorla.core.part.solid_file import STATES_ITS_UNIT
from mandorla.core.results.choices import EVEN
from mandorla.core.results.key import Key
from mandorla.core.results.keys import EVALUATION, GEOMETRY
from mandorla.core.units import show, show_duration
from mandorla.ui.document import Document
from mandorla.ui.live_results import in_words
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.plots.part_view import PartView
from mandorla.ui.stages.page import side_column
from mandorla.ui.stages.part.place_panel import MaterialNotes, PlacePanel
from mandorla.ui.stages.view import Missing, Notice, View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.fields import ChoiceEdit, SwitchEdit
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.flow import FlowRow
from mandorla.ui.widgets.form import Form, heading, panel, soft

if TYPE_CHECKING:
    from mandorla.core.results.types import Evaluation, Feature, PartGeometry, PrintFile

EMPTY = "Open an STL, OBJ or 3MF file to see whether it stays flat on this machine."


class ShapeView(View):
    """Mesh, its sections along the height, material and process."""

    key = "shape"
    title = "Part"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        left = QVBoxLayout()
        left.setSpacing(8)
        frame, column = panel(8)
        self.open_button = QPushButton("Open part …")
        self.open_button.setObjectName("primary")
        self.open_button.clicked.connect(self.choose_file)
        self.unit_choice = QComboBox()
        self.unit_choice.setAccessibleName("Unit of the mesh file")
        for name in UNITS:
            self.unit_choice.addItem(f"numbers are {name}", name)
        self.unit_choice.setToolTip(
            "The unit of the mesh file: for the part to be opened, and for the one that is open"
        )
        self.unit_choice.activated.connect(self._use_unit)
        self.gcode_button, self.forget_button = QPushButton("Open G-code …"), QPushButton("Forget G-code")
        self.gcode_button.setToolTip(
            "The file that prints this part: its layer times and volumes then count, not those of the process"
        )
        self.gcode_button.clicked.connect(self.choose_gcode)
        self.forget_button.clicked.connect(document.forget_gcode)
        hint = heading("drag to rotate · scroll to zoom")
        column.addLayout(FlowRow(self.open_button, self.unit_choice, self.gcode_button, self.forget_button, hint))
        self.view = PartView("The part on the plate")
        empty = Notice()
        empty.tell(Missing(EMPTY, "Open part …", self.choose_file))
        self.picture = QStackedWidget()
        self.picture.addWidget(empty)
        self.picture.addWidget(self.view)
        column.addWidget(self.picture, 1)
        left.addWidget(frame, 5)
        self.charts = QWidget()
        charts = QHBoxLayout(self.charts)
        charts.setContentsMargins(0, 0, 0, 0)
        charts.setSpacing(8)
        frame, column = panel(8)
        column.addWidget(heading("Section area along the height"))
        self.sections = CurvePlot("Section area along the height", "Height, mm", "Area, cm²")
        column.addWidget(self.sections)
        charts.addWidget(frame, 1)
        frame, column = panel(8)
        column.addWidget(heading("Length of all outlines along the height"))
        self.outline = CurvePlot("Perimeter along the height", "Height, mm", "Perimeter, mm")
        column.addWidget(self.outline)
        charts.addWidget(frame, 1)
        left.addWidget(self.charts, 3)
        body.addLayout(left, 1)

        document.project_changed.connect(self._show_unit)
        self._show_unit()
        document.project_changed.connect(self._show_plate)
        area, side = side_column(338)
        frame, column = panel()
        column.addWidget(heading("The part"))
        self.figures = FigureList("Part figures")
        column.addWidget(self.figures)
        side.addWidget(frame)
        self.shape, column = panel()
        column.addWidget(heading("Features that drive failure"))
        self.features = FigureList("Features that drive failure")
        column.addWidget(self.features)
        side.addWidget(self.shape)
        self.commanded, column = panel()
        column.addWidget(heading("What the G-code commands"))
        self.orders = FigureList("What the G-code commands")
        column.addWidget(self.orders)
        self.gcode_notes = soft()
        column.addWidget(self.gcode_notes)
        self.use_button = QPushButton("Use its temperatures and fan")
        self.use_button.clicked.connect(self._use_commanded)
        column.addWidget(self.use_button)
        self.commanded.hide()
        side.addWidget(self.commanded)
        frame, column = panel()
        column.addWidget(heading("Material and process"))
        form = Form(document)
        names: dict[object, str] = {k: p.name for k, p in polymers().items()}
        editor = ChoiceEdit(document, "process.polymer", "Polymer", names)
        editor.setMaximumWidth(190)
        form.add_widget("Polymer", editor)
        surfaces: dict[object, str] = {k: s.name for k, s in plate_surfaces().items()}
        self.surface = ChoiceEdit(document, "process.surface", "Plate surface", surfaces)
        self.surface.setMaximumWidth(190)
        form.add_widget("Plate surface", self.surface)
        self.on_plate = QLabel()
        self.on_plate.setWordWrap(True)
        form.add_widget("Plate, chosen in Plates", self.on_plate)
        form.add_field("process.nozzle_temperature", without="as usual for it")
        form.add_field("process.nozzle_first", without="as the rest")
        for name in (
            "layer_height",
            "line_width",
            "nozzle",
            "speed",
            "first_speed",
            "acceleration",
            "first_acceleration",
            "flow_limit",
            "infill",
            "walls",
            "solid_layers",
            "minimum_layer_time",
            "overhead",
            "fan_from",
            "brim",
            "raft",
            "raft_margin",
        ):
            form.add_field(f"process.{name}", without="as the rest" if name == "first_acceleration" else "")
        form.add_wide(SwitchEdit(document, "process.draft_shield", "Draft shield around the part"))
        form.add_field("part.filament", "Filament of the G-code")
        column.addWidget(form)
        side.addWidget(frame)
        self._show_plate()
        self.material_notes = MaterialNotes(document)
        side.addWidget(self.material_notes)
        self.place = PlacePanel(document)
        self.view.clicked.connect(self.place.take_click)
        side.addWidget(self.place)
        side.addStretch(1)
        body.addWidget(area)

    def _use_unit(self) -> None:
        """Read the open part's numbers in another unit."""
        if self.document.project.part is None:
            return
        try:
            self.document.edit("part.unit_scale", UNITS[self.unit_choice.currentData()], "unit of the mesh")
        except InputError as error:
            self.document.problem.emit(str(error))
            self._show_unit()

    def _show_plate(self) -> None:
        """The surface of the library is chosen here while no plate of one's own is in use; coating and state are shown."""
        process = self.document.project.process
        self.surface.setEnabled(process.own_plate is None)
        self.on_plate.setText(process.plate_name)

    def _show_unit(self) -> None:
        part = self.document.project.part
        if part is not None:
            unit = next((n for n, v in UNITS.items() if abs(v - part.unit_scale) < 1e-9), None)
            self.unit_choice.setCurrentIndex(self.unit_choice.findData(unit))

    def choose_file(self) -> None:
        """Ask for a mesh file and open it."""
        path, _ = QFileDialog.getOpenFileName(
            self, "Open part", "", "Meshes (*.stl *.obj *.3mf *.STL *.OBJ *.3MF);;All files (*)"
        )
        if path:
            self.open_file(Path(path))

    def choose_gcode(self) -> None:
        """Ask for the G-code that prints the part."""
        path, _ = QFileDialog.getOpenFileName(
            self, "Open G-code", "", "G-code (*.gcode *.gco *.g *.nc *.txt);;All files (*)"
        )
        if path:
            self.document.import_gcode(Path(path))

    def _use_commanded(self) -> None:
        """Take over what the G-code commands: bed for the first layers and the rest, chamber, fan."""
        geometry = self.results.value(GEOMETRY)
        file = geometry.file if geometry is not None else None
        if file is None:
            return
        found = {
            "settings.bed_first": file.bed[0], "settings.bed_rest": file.bed[-1], "settings.chamber": file.chamber[-1],
            "settings.fan": float(np.average(file.fan, weights=file.time)),
        }  # fmt: skip
        values = {k: float(v) for k, v in found.items() if np.isfinite(v)}
        try:
            self.document.edit_many(values, "Use the temperatures of the G-code")
        except InputError as error:
            self.document.problem.emit(str(error))

    def open_file(self, path: Path) -> None:
        """Open a mesh file; a refused one leaves the part in place and says why. A 3MF file states its own unit."""
        unit = self.unit_choice.currentData()
        if path.suffix.lower() == STATES_ITS_UNIT:
            unit = "mm"
        self.document.import_part(path, UNITS[unit], unit)

    def _show_part(self) -> None:
        geometry = self.results.last(GEOMETRY)
        if geometry is None:
            self.view.clear()
            return
        bed, source = self.document.project.rig.bed, self.document.project.part
        place = (source.placement.x, source.placement.y) if source is not None else (0.0, 0.0)
        self.view.show_mesh(self.theme, geometry.shown.vertices, geometry.shown.faces, (bed.width, bed.depth), place)
        self._show_features(geometry.features, place)

    def _show_features(self, features: tuple[Feature, ...], place: tuple[float, float]) -> None:
        shown = features[:9]
        rows = []
        last = ""
        for number, f in enumerate(shown, start=1):
            rows.append(Figure(f"{number}  {f.kind}", f.size, f.why if f.kind != last else ""))
            last = f.kind
        if len(features) > len(shown):
            rows.append(Figure(f"and {len(features) - len(shown)} more", ""))
        self.features.show_figures(rows or [Figure("Nothing that stands out", "")], self.theme)
        self.view.show_marks([(f.x + place[0], f.y + place[1], f.z) for f in shown])

    def _show_orders(self, file: PrintFile) -> None:
        units = self.document.units

        def temperature(value: float) -> str:
            return show(value, "temperature", units) if np.isfinite(value) else "not commanded"

        self.orders.show_figures(
            [
                Figure("Bed, first layer", temperature(float(file.bed[0]))),
                Figure("Bed, last layer", temperature(float(file.bed[-1]))),
                Figure("Chamber", temperature(float(file.chamber[-1]))),
                Figure("Nozzle", temperature(float(file.nozzle[-1]))),
                Figure("Fan, mean over time", show(float(np.average(file.fan, weights=file.time)), "fraction", units, digits=0)),
                Figure(
                    "Layers", str(file.z.size),
                    f"{show(float(np.median(file.height)), 'length', units)} thick; "
                    f"{show(float(file.volume.sum()), 'volume', units)} extruded",
                ),
            ],
            self.theme,
        )  # fmt: skip
        self.gcode_notes.setText("; ".join(file.notes) + ".")

    def uses(self) -> tuple[Key[Any], ...]:
        """Nothing: a part can be opened before anything is computed."""
        return ()

    def also(self) -> tuple[Key[Any], ...]:
        """The part and its evaluation."""
        return GEOMETRY, EVALUATION

    def headline(self) -> str:
        """What it is and whether it fits."""
        e, part, units = self.results.last(EVALUATION), self.project.part, self.units
        geometry, error = self.results.last(GEOMETRY), self.results.error(EVALUATION)
        if part is None:
            return EMPTY
        if error is not None:
            return in_words(error)
        if e is None or e.part is None or geometry is None:
            return ""
        if e.fit_problem:
            return f"{e.fit_problem} Turn or move it, or choose a larger machine."
        plan = e.part.plan
        size = " × ".join(show(v, "large_length", units).split()[0] for v in geometry.mesh.size)
        mass = f"{show(plan.mass, 'mass', units)} of {e.part.polymer.name}"
        what = f"{part.name}: {size} {units.unit('large_length').symbol}"
        return f"{what}, {mass}, {show_duration(plan.duration)} to print; {self._pace(geometry, e)}."

    def _pace(self, geometry: PartGeometry, e: Evaluation) -> str:
        if geometry.file is not None:
            return "times and volumes are those of the G-code"
        assert e.part is not None
        return "the flow limit sets the pace" if e.part.plan.flow_limited else "the speed sets the pace"

    def draw(self) -> None:
        """Show the part's figures and sections."""
        e, geometry = self.results.last(EVALUATION), self.results.last(GEOMETRY)
        there = self.project.part is not None
        file = geometry.file if geometry is not None and there else None
        self.gcode_button.setEnabled(there)
        self.forget_button.setVisible(file is not None)
        self.commanded.setVisible(file is not None)
        self.shape.setVisible(there)
        self.charts.setVisible(there)
        self.place.refresh()
        self.picture.setCurrentIndex(1 if there else 0)
        if file is not None:
            self._show_orders(file)
        if geometry is None or e is None or e.part is None or not there:
            self.figures.show_figures([Figure("No part yet", "")] if not there else [], self.theme)
            return
        self._show_part()
        units, plan, t = self.units, e.part.plan, self.theme
        sections, mesh = geometry.sections, geometry.mesh
        size = " × ".join(show(v, "large_length", units).split()[0] for v in mesh.size)
        pace = self._pace(geometry, e)
        several = [
            Figure("Bodies", str(sections.bodies), "the longest foot, farthest out, is the one that is estimated")
        ]
        rows = [
            *(several if sections.bodies > 1 else []),
            Figure("Size, x × y × z", f"{size} {units.unit('large_length').symbol}"),
            Figure(
                "Volume of the solid",
                show(mesh.volume, "volume", units),
                f"{len(mesh.faces)} triangles; " + ("; ".join(mesh.notes) or "closed, nothing mended"),
            ),
            Figure(
                "Mass as printed",
                show(plan.mass, "mass", units),
                "extruded by the G-code; typical density"
                if geometry.file
                else "walls, infill and solid layers; typical density",
                key="mass",
            ),
            Figure(
                "Print time",
                show_duration(plan.duration),
                f"{plan.layers} layers, {show(plan.flow, 'volume_flow', units)}; {pace}",
                key="print_time",
            ),
            Figure(
                "Layer time",
                f"{show_duration(float(plan.layer_time.min()))} to {show_duration(float(plan.layer_time.max()))}",
            ),
            Figure(
                "Foot on the plate",
                show(float(sections.area[0]), "area", units),
                f"corners: {', '.join(c.name for c in sections.corners)}",
            ),
        ]
        rows.append(
            Figure(
                "Foot on the even zone", f"{100 * e.even_foot:.0f} %",
                f"within {show(EVEN, 'temperature_difference', units, digits=0)} of the bed's middle, soaked; the rest is colder",
                even_foot_state(e.even_foot),
                "even_foot",
            )
        )  # fmt: skip
        self.figures.show_figures(rows, t)
        unit = units.unit("length")
        height = unit.from_si(sections.z)
        self.sections.begin(t, x_label=f"Height, {unit.symbol}")
        self.sections.add_curve(
            "whole outline", height, 1e4 * sections.area, t.curves[5], unit="cm²", dashed=True, width=1.5, label_at=0.1
        )
        self.sections.add_curve("polymer", height, 1e4 * plan.solid_area, t.curves[0], unit="cm²", label_at=0.5)
        self.sections.setYRange(0, float(np.max(sections.area)) * 1.15e4)
        self.outline.begin(t, x_label=f"Height, {unit.symbol}", y_label=f"Perimeter, {unit.symbol}")
        around = unit.from_si(sections.perimeter)
        self.outline.add_curve("perimeter", height, around, t.curves[4], unit=unit.symbol)
        self.outline.setYRange(0, float(np.max(around)) * 1.15)
