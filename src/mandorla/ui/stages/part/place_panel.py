"""Where the part stands: what it lies on, turned, copied in a grid, moved; and what its polymer asks for."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QComboBox, QFrame, QPushButton, QVBoxLayout

from mandorla.core.errors import InputError
from mandorla.core.part.arrange import AS_DRAWN, drawn_direction, face_under
from mandorla.core.part.process import own_polymer
from mandorla.core.results.keys import GEOMETRY
from mandorla.core.units import show
from mandorla.ui.decimal_sign import shown
from mandorla.ui.document import Document
from mandorla.ui.widgets.fields import ChoiceEdit
from mandorla.ui.widgets.form import Form, heading, soft

FUMES = "Heated polymers give off fumes and particles: vent or filter, as the filament maker's data sheet says."
_WAYS = (
    ("right", 0, 1.0),
    ("left", 0, -1.0),
    ("rear", 1, 1.0),
    ("front", 1, -1.0),
    ("top", 2, 1.0),
    ("underside", 2, -1.0),
)


def side_name(normal: tuple[float, float, float]) -> str:
    """The side of the drawing that a normal points to, in words."""
    name, axis, sign = max(_WAYS, key=lambda w: w[2] * normal[w[1]])
    return name if sign * normal[axis] > 0.98 else f"slope to the {name}"


class PlacePanel(QFrame):
    """Lies on, turned by, copies, place on the bed."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.setObjectName("panel")
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 10, 12, 12)
        column.setSpacing(6)
        column.addWidget(heading("Place on the bed"))
        form = Form(document)
        self.lies = QComboBox()
        self.lies.setAccessibleName("Lies on")
        self.lies.addItem("as drawn")
        self.lies.activated.connect(self._lay)
        form.add_widget("Lies on", self.lies)
        self.by_click = QPushButton("Place on a face")
        self.by_click.setCheckable(True)
        self.by_click.setToolTip("Then click the face in the picture that should lie on the plate")
        form.add_wide(self.by_click)
        self.turn = ChoiceEdit(
            document, "part.placement.turn", "Turned by", {0: "as drawn", 90: "90°", 180: "180°", 270: "270°"}
        )
        form.add_widget("Turned by", self.turn)
        form.add_field("part.scale", "Scale")
        form.add_field("part.placement.x", "Right of the middle")
        form.add_field("part.placement.y", "Behind the middle")
        form.add_field("part.placement.columns", "Copies side by side")
        form.add_field("part.placement.rows", "Copies one behind another")
        form.add_field("part.placement.gap", "Gap between copies")
        column.addWidget(form)
        column.addWidget(soft(FUMES))
        self._sides: list[tuple[float, float, float]] = []

    def refresh(self) -> None:
        """Offer the faces of the part that is open."""
        geometry, source = self.document.results.last(GEOMETRY), self.document.project.part
        self.by_click.setEnabled(geometry is not None)
        if geometry is None or source is None:
            return
        units = self.document.units
        down = source.placement.down
        self._sides = [AS_DRAWN]
        texts = ["as drawn"]
        for side in geometry.sides:
            if float(np.dot(side.normal, AS_DRAWN)) < 0.9999:
                self._sides.append(side.normal)
                texts.append(f"its {side_name(side.normal)}, {show(side.area, 'area', units)}")
        same = [i for i, n in enumerate(self._sides) if float(np.dot(n, down)) > 0.9999]
        if not same:
            self._sides.append(down)
            texts.append("the clicked face")
            same = [len(texts) - 1]
        if [self.lies.itemText(i) for i in range(self.lies.count())] != [shown(t) for t in texts]:
            self.lies.clear()
            self.lies.addItems(texts)
        self.lies.setCurrentIndex(same[0])

    def _lay(self, index: int) -> None:
        self._put(self._sides[index])

    def take_click(self, x: float, y: float, z: float) -> None:
        """Lay the part on the face at a place (m, on the bed), if one was asked for."""
        geometry, source = self.document.results.last(GEOMETRY), self.document.project.part
        if not self.by_click.isChecked() or geometry is None or source is None:
            return
        self.by_click.setChecked(False)
        p = source.placement
        normal = face_under(geometry.mesh, np.array([x - p.x, y - p.y, z]))
        self._put(drawn_direction(normal, p.down, p.turn))

    def _put(self, down: tuple[float, float, float]) -> None:
        if self.document.project.part is None:
            return
        try:
            self.document.edit("part.placement.down", down, "face it lies on")
        except InputError as error:
            self.document.problem.emit(str(error))


class MaterialNotes(QFrame):
    """Drying and annealing of the polymer, and the user's own figures of it."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.setObjectName("panel")
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(12, 10, 12, 12)
        self._column.setSpacing(6)
        self._column.addWidget(heading("What the polymer asks for"))
        self.notes = soft()
        self._column.addWidget(self.notes)
        self.own = QPushButton("Own figures …")
        self.own.setToolTip("Your own values for this polymer, and adhesion trials")
        self.own.clicked.connect(self._toggle)
        self._column.addWidget(self.own)
        self._form: Form | None = None
        document.project_changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Show the notes, and the own figures where there are some."""
        process = self.document.project.process
        material = process.material()
        plate = process.plate_surface()
        strong = process.polymer in plate.too_strong
        bond = (
            f"\nCaution: {material.name} bonds so strongly to it that it tears or chips: put a release layer under it."
            if strong
            else ""
        )
        self.notes.setText(
            f"Drying. {material.moisture}\nAnnealing. {material.annealing}\n{plate.name}. {plate.wear}{bond}"
        )
        has = process.own is not None
        self.own.setText("Reset to library values" if has else "Own figures …")
        if has and self._form is None:
            form = Form(self.document)
            for name in (
                "name", "modulus", "expansion", "glass_transition", "stress_free_temperature", "strength", "density", "grip",
                "grip_within", "uncertainty",
            ):  # fmt: skip
                form.add_field(f"process.own.{name}")
            self._form = form
            self._column.insertWidget(3, form)
        elif not has and self._form is not None:
            self._form.deleteLater()
            self._form = None

    def _toggle(self) -> None:
        process = self.document.project.process
        value = None if process.own is not None else own_polymer(process.polymer).model_dump()
        self.document.edit("process.own", value, "own figures of the polymer")
