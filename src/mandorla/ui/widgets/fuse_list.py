"""The thermal fuses of the bed: where each is clamped, at what it opens; added and removed."""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from mandorla.core.errors import InputError
from mandorla.core.rig.bed import Fuse
from mandorla.ui.document import Document
from mandorla.ui.widgets.fields import ChoiceEdit
from mandorla.ui.widgets.form import Form, soft

MOST = 4


class FuseList(QWidget):
    """Rows of layer and temperature, one a fuse."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._rows: QWidget | None = None
        self._shape: tuple[object, ...] = ()
        row = QHBoxLayout()
        self.add_button, self.remove_button = QPushButton("Add fuse"), QPushButton("Remove last")
        self.add_button.clicked.connect(self._add)
        self.remove_button.clicked.connect(self._remove)
        row.addWidget(self.add_button)
        row.addWidget(self.remove_button)
        row.addStretch(1)
        self._column.addLayout(row)
        document.project_changed.connect(self._sync)
        self._sync()

    def _sync(self) -> None:
        bed = self._document.project.rig.bed
        names = tuple(layer.name for layer in bed.layers)
        shape = (len(bed.fuses), names)
        self.add_button.setEnabled(len(bed.fuses) < MOST)
        self.remove_button.setEnabled(bool(bed.fuses))
        if shape == self._shape:
            return
        self._shape = shape
        if self._rows is not None:
            self._column.removeWidget(self._rows)
            self._rows.hide()
            self._rows.deleteLater()
        form = Form(self._document)
        for i in range(len(bed.fuses)):
            choices: dict[object, str] = {name: name for name in names}
            form.add_widget(
                "On layer", ChoiceEdit(self._document, f"rig.bed.fuses.{i}.layer", "Layer of the fuse", choices)
            )
            form.add_field(f"rig.bed.fuses.{i}.rating")
        if not bed.fuses:
            form.add_wide(soft("None: nothing ends a fault of the controller."))
        self._rows = form
        self._column.insertWidget(0, form)

    def _set(self, fuses: list[Fuse], text: str) -> None:
        try:
            self._document.edit("rig.bed.fuses", tuple(f.model_dump() for f in fuses), text)
        except InputError as error:
            self._document.problem.emit(str(error))

    def _add(self) -> None:
        bed = self._document.project.rig.bed
        self._set([*bed.fuses, Fuse(layer=bed.heater.layer)], "thermal fuses")

    def _remove(self) -> None:
        self._set(list(self._document.project.rig.bed.fuses)[:-1], "thermal fuses")
