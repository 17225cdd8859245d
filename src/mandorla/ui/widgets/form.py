"""A compact form: captions above or beside editors, built from paths."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QFrame, QGridLayout, QLabel, QSizePolicy, QVBoxLayout, QWidget

from mandorla.core.project.paths import meaning_at
from mandorla.ui.document import Document
from mandorla.ui.theme.palette import font
from mandorla.ui.widgets.fields import FieldEdit


def beside(text: str) -> QLabel:
    """A caption beside its box, on one line."""
    label = soft(text)
    label.setWordWrap(False)
    return label


def panel(layout_margin: int = 12) -> tuple[QFrame, QVBoxLayout]:
    """A raised panel with a column layout."""
    frame = QFrame()
    frame.setObjectName("panel")
    column = QVBoxLayout(frame)
    column.setContentsMargins(layout_margin, layout_margin - 2, layout_margin, layout_margin)
    column.setSpacing(6)
    return frame, column


def heading(text: str) -> QLabel:
    """A small heading."""
    label = QLabel(text)
    label.setObjectName("heading")
    label.setFont(font(9.5, strong=True))
    return label


def soft(text: str = "") -> QLabel:
    """Secondary text that wraps."""
    label = QLabel(text)
    label.setObjectName("soft")
    label.setWordWrap(True)
    label.setFont(font(9.0))
    return label


def answer() -> QLabel:
    """The answer of a view inside a stage: a sentence that wraps."""
    label = QLabel()
    label.setWordWrap(True)
    label.setFont(font(10.5, strong=True))
    label.setMinimumHeight(36)
    return label


class Form(QWidget):
    """Rows of caption and editor, two columns."""

    def __init__(self, document: Document, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._document = document
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(8)
        self._grid.setVerticalSpacing(5)
        self._grid.setColumnStretch(0, 1)
        self._row = 0

    def add_field(self, path: str, caption: str | None = None, without: str = "") -> FieldEdit:
        """A quantity or text at a path; the caption defaults to the field's title. ``without`` says what is taken where none is
        stated."""
        text = caption
        if text is None:
            meaning = meaning_at(self._document.project, path)
            text = meaning.title if meaning else path.rpartition(".")[2]
        editor = FieldEdit(self._document, path, text, without=without)
        editor.setMinimumWidth(104)
        editor.setMaximumWidth(150)
        self.add_widget(text, editor)
        return editor

    def add_widget(self, caption: str, editor: QWidget) -> None:
        """Any editor with a caption."""
        label = QLabel(caption)
        label.setFont(font(9.5))
        label.setWordWrap(True)
        label.setBuddy(editor)
        editor.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        if isinstance(editor, QComboBox):
            # long names are cut in the box, not the form by the box; the list shows them whole
            editor.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            editor.setMinimumContentsLength(14)
            widest = max(
                (editor.fontMetrics().horizontalAdvance(editor.itemText(i)) for i in range(editor.count())), default=0
            )
            editor.view().setMinimumWidth(widest + 40)
        self._grid.addWidget(label, self._row, 0, Qt.AlignmentFlag.AlignVCenter)
        self._grid.addWidget(editor, self._row, 1)
        self._row += 1

    def add_wide(self, widget: QWidget) -> None:
        """A widget over both columns."""
        self._grid.addWidget(widget, self._row, 0, 1, 2)
        self._row += 1
