"""Editors of one field of the project: quantities, choices, switches, whole numbers, text."""

from __future__ import annotations

from collections.abc import Mapping

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QKeySequence, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QCheckBox, QComboBox, QLineEdit, QStyle, QStyleOptionButton, QWidget

from mandorla.core.errors import InputError
from mandorla.core.project.paths import get_value, meaning_at, parse_at
from mandorla.core.units import KINDS, show
from mandorla.ui.document import Document


def refuse(widget: QWidget, refused: bool) -> None:
    """Mark an editor whose text was refused."""
    if widget.property("refused") is refused:
        return
    kept = widget.font()  # the style puts back the font it found when it was applied first
    widget.setProperty("refused", refused)
    widget.style().unpolish(widget)
    widget.style().polish(widget)
    widget.setFont(kept)


class FieldEdit(QLineEdit):
    """A text editor bound to a path of the project; a refused text stays, marked, with the reason beside it.

    Where a figure need not be stated, ``without`` says what is taken then, and an emptied field states none.
    """

    refused = Signal(str)

    def __init__(
        self, document: Document, path: str, label: str, parent: QWidget | None = None, without: str = ""
    ) -> None:
        super().__init__(parent)
        self._document, self._path, self._label = document, path, label
        self._absent = ""
        self._optional = bool(without)
        self.setPlaceholderText(without)
        self.setAccessibleName(label)
        self.setObjectName(path)
        self.editingFinished.connect(self._commit)
        self._stored: tuple[object, str] | None = None  # the value that is shown, and as what
        document.project_changed.connect(self._follow)
        document.units_changed.connect(self.load)
        self.load()

    @property
    def path(self) -> str:
        """The field it edits."""
        return self._path

    def set_absent(self, word: str) -> None:
        """Show a word in place of a value that the machine does not have; empty where it has it."""
        if word != self._absent:
            self._absent = word
            self.load()

    def shown_text(self) -> str:
        """The stored value as it is shown."""
        project = self._document.project
        value = get_value(project, self._path)
        meaning = meaning_at(project, self._path)
        if value is None:
            return ""
        if meaning is None:
            return str(value)
        if meaning.kind == "set_point":
            return show(float(value), meaning.kind, self._document.units)
        unit = self._document.units.unit(meaning.kind)
        shown = unit.from_si(float(value))
        digits = 5 if meaning.kind == "contact_resistance" else max(unit.digits, 3 if meaning.kind == "length" else 0)
        text = f"{shown:.{digits}f}"
        if "." in text and meaning.kind != "temperature":
            text = text.rstrip("0").rstrip(".")
        return self._document.units.read(f"{text} {unit.symbol}".strip())

    def _follow(self) -> None:
        """Show the stored value after an edit; what the edit did not change stays as it is, for there are hundreds of fields."""
        if self._stored is not None and self.text() == self._stored[1] and not self.property("refused"):
            try:
                value = get_value(self._document.project, self._path)
            except InputError:
                pass
            else:
                if type(value) is type(self._stored[0]) and value == self._stored[0]:
                    return
        self.load()

    def load(self) -> None:
        """Show the stored value; a field that no longer exists shows nothing."""
        self._stored = None
        try:
            value = get_value(self._document.project, self._path)
            text = self.shown_text()
            meaning = meaning_at(self._document.project, self._path)
        except InputError:
            self.setEnabled(False)
            self.clear()
            return
        self._stored = value, self._absent or text
        self.setEnabled(not self._absent)
        self.setText(self._absent or text)
        self.setCursorPosition(0)
        if meaning is not None:
            units = " or ".join(u.symbol for u in KINDS[meaning.kind] if u.symbol)
            low, high = (show(v, meaning.kind, self._document.units) for v in (meaning.low, meaning.high))
            self.setToolTip(f"{meaning.title}: {low} to {high}" + (f" · type {units}" if units else ""))
        refuse(self, False)

    def _commit(self) -> None:
        if not self.isModified():
            return
        if self.text().strip() == self.shown_text():
            self.load()
            return
        try:
            empty = self._optional and not self.text().strip()
            value = None if empty else parse_at(self._document.project, self._path, self.text(), self._document.units)
            self._document.edit(self._path, value, self._label.lower())
        except InputError as error:
            self.setModified(False)
            refuse(self, True)
            self.refused.emit(str(error))
            self._document.problem.emit(str(error))
            return
        self.load()

    def event(self, event: QEvent) -> bool:
        """Leave undo and redo to the window while nothing is being typed."""
        if (
            event.type() == QEvent.Type.ShortcutOverride
            and isinstance(event, QKeyEvent)
            and not self.isModified()
            and (event.matches(QKeySequence.StandardKey.Undo) or event.matches(QKeySequence.StandardKey.Redo))
        ):
            event.ignore()
            return False
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape puts the stored value back."""
        if event.key() == Qt.Key.Key_Escape:
            self.load()
            return
        super().keyPressEvent(event)


class ChoiceEdit(QComboBox):
    """A choice among named values, bound to a path."""

    def __init__(
        self, document: Document, path: str, label: str, choices: Mapping[object, str], parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self._document, self._path, self._label = document, path, label
        self.setAccessibleName(label)
        self.setObjectName(path)
        for key, text in choices.items():
            self.addItem(text, key)
        self.activated.connect(self._commit)
        document.project_changed.connect(self.load)
        self.load()

    def load(self) -> None:
        """Show the stored choice."""
        try:
            value = get_value(self._document.project, self._path)
        except InputError:
            self.setEnabled(False)
            return
        self.setEnabled(True)
        self.setCurrentIndex(self.findData(value))

    def _commit(self) -> None:
        try:
            self._document.edit(self._path, self.currentData(), self._label.lower())
        except InputError as error:
            self._document.problem.emit(str(error))
            self.load()

    def wheelEvent(self, event: object) -> None:
        """The wheel scrolls the page, it does not change choices by accident."""
        event.ignore()  # type: ignore[attr-defined]


class SwitchEdit(QCheckBox):
    """A switch bound to a path."""

    def __init__(self, document: Document, path: str, label: str, parent: QWidget | None = None) -> None:
        super().__init__(label, parent)
        self._document, self._path, self._label = document, path, label
        self.setObjectName(path)
        self.clicked.connect(self._commit)
        document.project_changed.connect(self.load)
        self.load()

    def load(self) -> None:
        """Show the stored state; a field that no longer exists shows nothing."""
        try:
            value = get_value(self._document.project, self._path)
        except InputError:
            self.setEnabled(False)
            return
        self.setEnabled(True)
        self.setChecked(bool(value))

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw a tick, so that colour is not all that tells on from off."""
        super().paintEvent(event)
        if not self.isChecked():
            return
        option = QStyleOptionButton()
        self.initStyleOption(option)
        box = QRectF(self.style().subElementRect(QStyle.SubElement.SE_CheckBoxIndicator, option, self))
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        light = self.palette().color(self.foregroundRole()).lightness() < 128
        painter.setPen(QPen(QColor("#ffffff" if light else "#10201d"), 2.2, c=Qt.PenCapStyle.RoundCap))
        tick = [(0.24, 0.52), (0.43, 0.72), (0.77, 0.30)]
        painter.drawPolyline([QPointF(box.left() + x * box.width(), box.top() + y * box.height()) for x, y in tick])
        painter.end()

    def _commit(self, on: bool) -> None:
        try:
            self._document.edit(self._path, on, self._label.lower())
        except InputError as error:
            self._document.problem.emit(str(error))
            self.load()
