"""A list of like things under a path of the project, a few fields each; added, removed and edited in place."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from mandorla.core.errors import InputError
from mandorla.core.model_base import Model
from mandorla.core.project.paths import get_value
from mandorla.ui.document import Document
from mandorla.ui.widgets.fields import ChoiceEdit
from mandorla.ui.widgets.form import Form, heading, soft

Choices = Callable[[], Mapping[object, str]]


@dataclass(frozen=True, slots=True)
class Column:
    """One field of each row: its name below the row's path, a caption, and the choices where it is one of several."""

    name: str
    caption: str | None = None
    choices: Choices | None = None


@dataclass(frozen=True, slots=True)
class RowKind:
    """What the rows are: path, noun for the buttons, columns, how a new one is made, how many there may be, words for none."""

    path: str
    noun: str
    columns: tuple[Column, ...]
    new: Callable[[], Model]
    most: int
    none: str
    shape: Callable[[], object] = field(default=lambda: None)


class RowList(QWidget):
    """Rows of editors, one set a thing."""

    def __init__(self, document: Document, kind: RowKind) -> None:
        super().__init__()
        self._document, self._kind = document, kind
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._rows: QWidget | None = None
        self._shape: object = object()
        row = QHBoxLayout()
        self.add_button, self.remove_button = QPushButton(f"Add {kind.noun}"), QPushButton("Remove last")
        self.remove_button.setAccessibleName(f"Remove last {kind.noun}")
        self.add_button.clicked.connect(self._add)
        self.remove_button.clicked.connect(self._remove)
        row.addWidget(self.add_button)
        row.addWidget(self.remove_button)
        row.addStretch(1)
        self._column.addLayout(row)
        document.project_changed.connect(self._sync)
        self._sync()

    def _values(self) -> tuple[Model, ...]:
        found = get_value(self._document.project, self._kind.path)
        assert isinstance(found, tuple)
        return found

    def _sync(self) -> None:
        try:
            values, kind = self._values(), self._kind
        except InputError:  # what the rows belong to was removed; whoever shows them takes them away
            self.setEnabled(False)
            return
        self.setEnabled(True)
        shape = (len(values), kind.shape())
        self.add_button.setEnabled(len(values) < kind.most)
        self.remove_button.setEnabled(bool(values))
        if shape == self._shape:
            return
        self._shape = shape
        if self._rows is not None:
            self._column.removeWidget(self._rows)
            self._rows.hide()
            self._rows.deleteLater()
        form = Form(self._document)
        for i in range(len(values)):
            if len(kind.columns) > 2:
                form.add_wide(heading(f"{kind.noun[0].upper()}{kind.noun[1:]} {i + 1}"))
            for column in kind.columns:
                path = f"{kind.path}.{i}.{column.name}"
                if column.choices is None:
                    form.add_field(path, column.caption)
                else:
                    caption = column.caption or column.name
                    form.add_widget(caption, ChoiceEdit(self._document, path, f"{caption} {i + 1}", column.choices()))
        if not values:
            form.add_wide(soft(kind.none))
        self._rows = form
        self._column.insertWidget(0, form)

    def _set(self, values: tuple[Model, ...]) -> None:
        try:
            self._document.edit(self._kind.path, tuple(v.model_dump() for v in values), f"{self._kind.noun}s")
        except InputError as error:
            self._document.problem.emit(str(error))

    def _add(self) -> None:
        self._set((*self._values(), self._kind.new()))

    def _remove(self) -> None:
        self._set(self._values()[:-1])
