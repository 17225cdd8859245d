"""The bed stack: its section with the temperature running through it, the picked layer, heater, sensor, regulation, limits."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QPushButton, QTabWidget, QVBoxLayout, QWidget

from mandorla.core.errors import InputError
from mandorla.core.materials.library_data import bed_materials, joint_kinds
from mandorla.core.results.key import Key
from mandorla.core.results.keys import EVALUATION
from mandorla.core.rig.bed import OWN_JOINT, BedLayer, Fuse, free_key
from mandorla.core.rig.schools import school
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.stages.page import scrolling
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.widgets.charts import column_that_scrolls
from mandorla.ui.widgets.fields import ChoiceEdit, SwitchEdit
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.flow import FlowRow
from mandorla.ui.widgets.form import Form, heading, panel, soft
from mandorla.ui.widgets.row_list import Column, RowKind, RowList
from mandorla.ui.widgets.stack_section import StackSection

MAINS_CAUTION = (
    "Mains voltage on a bed: earthed plate, strain relief, a thermal fuse on the mat and on the plate. Local electrical "
    "code and a qualified electrician decide; Mandorla certifies nothing."
)

PLACES = {"in the plate": "plate", "on the heater": "on", "in the heater's middle": "in"}


class StackView(View):
    """The drawn section of the stack, the selected layer's fields, heater, sensor and limits."""

    key = "stack"
    title = "Bed stack"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        self.body = QHBoxLayout(self.content)
        self.body.setContentsMargins(0, 0, 0, 0)
        self.body.setSpacing(10)
        frame, column = panel(8)
        head = QHBoxLayout()
        head.addWidget(heading("Bed stack, print surface on top · thin layers enlarged"))
        head.addStretch(1)
        column.addLayout(head)
        self.section = StackSection(document)
        self.section.selected.connect(self._build_layer_form)
        column.addWidget(self.section, 1)
        self.add_button = QPushButton("Add layer below")
        self.remove_button = QPushButton("Remove layer")
        self.up_button, self.down_button = QPushButton("Move up"), QPushButton("Move down")
        self.add_button.clicked.connect(self._add)
        self.remove_button.clicked.connect(self._remove)
        self.up_button.clicked.connect(lambda: self._move(-1))
        self.down_button.clicked.connect(lambda: self._move(1))
        column.addLayout(FlowRow(self.add_button, self.remove_button, self.up_button, self.down_button))
        scrolled, left = column_that_scrolls()
        left.addWidget(frame)
        self.body.addWidget(scrolled, 1)

        self.tabs = QTabWidget()
        self.tabs.setFixedWidth(350)
        self.tabs.setDocumentMode(True)
        self.tabs.tabBar().setDrawBase(False)
        self._layer_host = QVBoxLayout()
        layer_tab = QWidget()
        layer_tab.setLayout(self._layer_host)
        self._layer_form: QWidget | None = None
        self.checks = FigureList("Ratings")
        self.tabs.addTab(self._boxed(layer_tab), "Layer")
        self.tabs.addTab(self._boxed(self._bed_form()), "Heater")
        self.tabs.addTab(self._boxed(self._limits_form()), "Limits")
        self.tabs.addTab(self._boxed(self._checks_tab()), "Ratings")
        self.body.addWidget(self.tabs)
        document.project_changed.connect(self._on_project)
        self._shape: tuple[object, ...] = ()
        self._on_project()

    def _boxed(self, widget: QWidget) -> QWidget:
        frame, column = panel(8)
        column.addWidget(scrolling(widget))
        return frame

    def _bed_form(self) -> QWidget:
        form = Form(self.document)
        for path in (
            "rig.name", "rig.bed.width", "rig.bed.depth", "rig.bed.heater.power", "rig.bed.heater.width",
            "rig.bed.heater.depth",
        ):  # fmt: skip
            form.add_field(path, "Rig name" if path == "rig.name" else None)
        self.heater_layer = ChoiceEdit(self.document, "rig.bed.heater.layer", "Heater in layer", {})
        form.add_widget("Heater in layer", self.heater_layer)
        kinds: dict[object, str] = {"mat": "Silicone mat", "trace": "Printed trace"}
        form.add_widget("Kind of heater", ChoiceEdit(self.document, "rig.bed.heater.kind", "Kind of heater", kinds))
        form.add_wide(SwitchEdit(self.document, "rig.bed.heater.mains", "Mains voltage at the bed"))
        form.add_field("rig.bed.heater.voltage")
        form.add_field("rig.bed.heater.resistance_coefficient")
        form.add_wide(SwitchEdit(self.document, "rig.bed.earthed", "Plate is earthed"))
        self.density = QLabel()
        self.density.setWordWrap(True)
        self.density.setFont(font(9.0))
        form.add_wide(self.density)
        self.mains_note = soft(MAINS_CAUTION)
        form.add_wide(self.mains_note)
        form.add_wide(heading("Thermal fuses"))
        fuses = RowKind(
            "rig.bed.fuses", "fuse", (Column("layer", "On layer", self._layer_names), Column("rating")),
            lambda: Fuse(layer=self.document.project.rig.bed.heater.layer), 4,
            "None: nothing ends a fault of the controller.", self._names,
        )  # fmt: skip
        self.fuses = RowList(self.document, fuses)
        form.add_wide(self.fuses)
        form.add_wide(heading("Sensor"))
        self.sensor_layer = ChoiceEdit(self.document, "rig.bed.sensor.layer", "Sensor in layer", {})
        form.add_widget("Sensor in layer", self.sensor_layer)
        self.place = QComboBox()
        self.place.setAccessibleName("Place of the sensor")
        for text, place in PLACES.items():
            self.place.addItem(text, place)
        self.place.setCurrentIndex(-1)
        self.place.activated.connect(self._place_sensor)
        form.add_widget("Put it", self.place)
        sensors: dict[object, str] = {
            "thermistor": "Thermistor",
            "platinum": "Platinum resistor",
            "thermocouple": "Thermocouple",
        }
        form.add_widget("Sensor is a", ChoiceEdit(self.document, "rig.bed.sensor.kind", "Kind of sensor", sensors))
        for path in ("rig.bed.sensor.depth_fraction", "rig.bed.sensor.bias", "rig.bed.sensor.time_constant"):
            form.add_field(path)
        form.add_wide(heading("Regulation"))
        kinds = {"steady": "Steady power", "on-off": "On and off"}
        form.add_widget("Regulation", ChoiceEdit(self.document, "rig.bed.control.kind", "Regulation", kinds))
        for name in ("proportional_band", "integral_time", "derivative_time", "hysteresis", "power_limit"):
            form.add_field(f"rig.bed.control.{name}")
        return form

    def _limits_form(self) -> QWidget:
        form = Form(self.document)
        for name in (
            "bed_max",
            "chamber_max",
            "supply_power",
            "low_voltage_supply",
            "breaker",
            "mains_voltage",
            "layer_margin",
            "print_width",
            "print_depth",
            "guide_width",
            "drive_force",
        ):
            form.add_field(f"rig.limits.{name}")
        form.add_wide(SwitchEdit(self.document, "rig.limits.insists", "Insists on a target for the bed"))
        for name in ("ready_band", "ready_drift", "risk", "lift_limit", "price"):
            form.add_field(f"criteria.{name}")
        form.add_field("criteria.currency", "Currency")
        form.add_wide(
            soft("Ready: the sensor reads within the band of the set point and the surface drifts less than the limit.")
        )
        return form

    def _checks_tab(self) -> QWidget:
        holder = QWidget()
        column = QVBoxLayout(holder)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.checks)
        column.addWidget(
            soft("Ratings are usual figures of the material's class; the maker's figure for the very product wins.")
        )
        return holder

    def _build_layer_form(self, index: int) -> None:
        if self._layer_form is not None:
            self._layer_host.removeWidget(self._layer_form)
            self._layer_form.hide()
            self._layer_form.deleteLater()
        form = Form(self.document)
        base = f"rig.bed.layers.{index}"
        layer = self.document.project.rig.bed.layers[index]
        name = form.add_field(f"{base}.name", "Name")
        name.editingFinished.connect(self._on_project)
        materials: dict[object, str] = {k: m.name for k, m in bed_materials().items()}
        form.add_widget("Material", ChoiceEdit(self.document, f"{base}.material", "Material", materials))
        form.add_field(f"{base}.thickness")
        self.joint = QComboBox()
        self.joint.setAccessibleName("Kind of joint below")
        self.joint.setObjectName(f"{base}.joint")
        self.joint.addItem("Own figure", OWN_JOINT)
        for key, kind in joint_kinds().items():
            self.joint.addItem(kind.name, key)
        self.joint.setCurrentIndex(self.joint.findData(layer.joint))
        self.joint.activated.connect(lambda: self._set_joint(index))
        form.add_widget("Joint below", self.joint)
        form.add_field(f"{base}.contact_resistance", "Its resistance")
        form.add_wide(SwitchEdit(self.document, f"{base}.bonded", "Bonded to the layer below"))
        if layer.joint != OWN_JOINT:
            r = joint_kinds()[layer.joint]
            low, high = (
                show(v, "contact_resistance", self.document.units) for v in (r.resistance.low, r.resistance.high)
            )
            form.add_wide(soft(f"Usually {low} to {high}. {r.care[0].upper()}{r.care[1:]}."))
        outline = QPushButton("Use the bed's outline" if layer.outline else "Enter an own outline")
        outline.clicked.connect(lambda: self._toggle_outline(index))
        form.add_wide(outline)
        if layer.outline is not None:
            shapes: dict[object, str] = {"rectangle": "Rectangle", "round": "Round"}
            form.add_widget("Shape", ChoiceEdit(self.document, f"{base}.outline.shape", "Shape of the layer", shapes))
            for field in ("width", "depth", "x", "y"):
                form.add_field(f"{base}.outline.{field}")
        own = QPushButton("Use library figures" if layer.own else "Enter own properties")
        own.clicked.connect(lambda: self._toggle_own(index))
        form.add_wide(own)
        if layer.own is not None:
            for field in (
                "conductivity",
                "density",
                "specific_heat",
                "emissivity",
                "rating",
                "modulus",
                "poisson",
                "expansion",
                "uncertainty",
            ):
                form.add_field(f"{base}.own.{field}")
        else:
            material = bed_materials()[layer.material]
            rows = (("Conductivity", material.conductivity, "conductivity"), ("Density", material.density, "density"),
                    ("Specific heat", material.specific_heat, "specific_heat"), ("Emissivity", material.emissivity, "ratio"),
                    ("Usually rated to", material.rating, "temperature"))  # fmt: skip
            figures = FigureList("Library figures")
            units = self.document.units
            figures.show_figures(
                [
                    Figure(n, show(v.typical, k, units), f"{show(v.low, k, units)} to {show(v.high, k, units)}")
                    for n, v, k in rows
                ],
                self.theme,
            )
            form.add_wide(figures)
            form.add_wide(soft("Source: " + material.conductivity.source))
        self._layer_form = form
        self._layer_host.addWidget(form)

    def _toggle_own(self, index: int) -> None:
        layer = self.document.project.rig.bed.layers[index]
        own = None if layer.own is not None else layer.properties().model_dump()
        self._try(lambda: self.document.edit(f"rig.bed.layers.{index}.own", own, f"properties of {layer.name}"))
        self._build_layer_form(index)

    def _set_joint(self, index: int) -> None:
        key, base = self.joint.currentData(), f"rig.bed.layers.{index}"
        values: dict[str, object] = {f"{base}.joint": key}
        if key != OWN_JOINT:
            kind = joint_kinds()[key]
            values |= {f"{base}.contact_resistance": kind.resistance.typical, f"{base}.bonded": kind.bonded}
        self._try(lambda: self.document.edit_many(values, "Change joint"))
        self.joint.setFocus()  # the form was built anew

    def _toggle_outline(self, index: int) -> None:
        bed = self.document.project.rig.bed
        layer = bed.layers[index]
        own = None if layer.outline is not None else bed.outline.model_dump()
        self._try(lambda: self.document.edit(f"rig.bed.layers.{index}.outline", own, f"outline of {layer.name}"))

    def _place_sensor(self) -> None:
        bed = self.document.project.rig.bed
        where = self.place.currentData()
        plate = max(bed.layers, key=lambda a: a.properties().conductivity * a.thickness).name
        values = {
            "rig.bed.sensor.layer": plate if where == "plate" else bed.heater.layer,
            "rig.bed.sensor.depth_fraction": {"plate": 0.5, "on": 0.0, "in": 0.5}[where],
        }
        self._try(lambda: self.document.edit_many(values, "Place the sensor"))
        self.place.setCurrentIndex(-1)

    def _names(self) -> object:
        return tuple(layer.name for layer in self.document.project.rig.bed.layers)

    def _layer_names(self) -> dict[object, str]:
        return {layer.key: layer.name for layer in self.document.project.rig.bed.layers}

    def _try(self, action: object) -> None:
        try:
            action()  # type: ignore[operator]
        except InputError as error:
            self.document.problem.emit(str(error))

    def _set_layers(self, layers: list[BedLayer], text: str, select: int) -> None:
        values = tuple(layer.model_dump() for layer in layers)
        self._try(lambda: self.document.edit("rig.bed.layers", values, text))
        self.section.select(min(select, len(self.document.project.rig.bed.layers) - 1))

    def _add(self) -> None:
        layers, index = list(self.document.project.rig.bed.layers), self.section.index
        names = {layer.name for layer in layers}
        keys = {layer.key for layer in layers}
        name = next(n for n in (f"New layer {i}" for i in range(1, 99)) if n not in names)
        layers.insert(
            index + 1,
            BedLayer(key=free_key(name, keys), name=name, material="cork", thickness=0.003, contact_resistance=3e-4),
        )
        self._set_layers(layers, "the stack", index + 1)

    def _remove(self) -> None:
        layers, index = list(self.document.project.rig.bed.layers), self.section.index
        bed = self.document.project.rig.bed
        gone = layers.pop(index)
        if gone.key in (bed.heater.layer, bed.sensor.layer):
            what = "heater" if gone.key == bed.heater.layer else "sensor"
            self.document.problem.emit(f"“{gone.name}” carries the {what}: move the {what} to another layer first.")
            return
        if not layers:
            self.document.problem.emit("The stack needs at least one layer.")
            return
        self._set_layers(layers, "the stack", index)

    def _move(self, step: int) -> None:
        layers, index = list(self.document.project.rig.bed.layers), self.section.index
        if 0 <= index + step < len(layers):
            layers[index], layers[index + step] = layers[index + step], layers[index]
            self._set_layers(layers, "the stack", index + step)

    def _on_project(self) -> None:
        bed = self.document.project.rig.bed
        shape = tuple((a.key, a.name, a.material, a.own is None, a.outline is None, a.joint) for a in bed.layers)
        if shape != self._shape:
            self._shape = shape
            for editor in (self.heater_layer, self.sensor_layer):
                editor.clear()
                for layer in bed.layers:
                    editor.addItem(layer.name, layer.key)
                editor.load()
            self._build_layer_form(self.section.index)
        density = show(bed.power_density, "power_density", self.document.units)
        self.density.setText(
            f"Power density {density} over the heated area: {school(bed.power_density)}. Checks tell what it costs."
        )
        self.mains_note.setVisible(bed.heater.mains)

    def also(self) -> tuple[Key[Any], ...]:
        """What is shown when it is there."""
        return (EVALUATION,)

    def draw(self) -> None:
        """Show temperatures and ratings."""
        e, units = self.results.last(EVALUATION), self.units
        self.section.show_evaluation(e, self.theme)
        if e is None or len(e.heat.peak) != len(self.project.rig.bed.layers):
            return
        figures = []
        for c in e.limits:
            value, limit = show(c.value, c.kind, units, digits=0), show(c.limit, c.kind, units, digits=0)
            figures.append(Figure(c.name, f"{value} of {limit}", c.reason, c.state))
        self.checks.show_figures(figures, self.theme)
