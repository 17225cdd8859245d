"""A list of named things to pick one of, and a plain table of text."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QLabel, QListWidget, QTableWidget, QTableWidgetItem

from mandorla.ui.decimal_sign import shown
from mandorla.ui.theme.palette import font


class PickList(QListWidget):
    """Rows of text; the picked one is told by its number."""

    picked = Signal(int)

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setFont(font(9.5))
        self.setWordWrap(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.currentRowChanged.connect(self._tell)

    def _tell(self, row: int) -> None:
        if row >= 0:
            self.picked.emit(row)

    def show_items(self, texts: Sequence[str], current: int) -> None:
        """Replace the rows and mark the current one, without telling of it."""
        self.blockSignals(True)
        if [self.item(i).text() for i in range(self.count())] != [shown(t) for t in texts]:
            self.clear()
            self.addItems(list(texts))
        self.setCurrentRow(current if 0 <= current < len(texts) else -1)
        self.blockSignals(False)


class TextTable(QTableWidget):
    """A table of text to read, its first column left, the others right aligned; without rows it says what would fill it."""

    def __init__(self, name: str, columns: Sequence[str], empty: str = "") -> None:
        super().__init__(0, len(columns))
        self._empty = QLabel(empty, self.viewport())
        self._empty.setObjectName("soft")
        self._empty.setFont(font(9.5))
        self._empty.setWordWrap(True)
        self._empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._empty.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.setTabKeyNavigation(False)  # Tab leaves the table; the arrow keys walk in it
        self.setAccessibleName(name)
        self.setFont(font(9.0))
        self.setHorizontalHeaderLabels(list(columns))
        self.horizontalHeader().setFont(font(8.8, strong=True))
        self.horizontalHeader().setHighlightSections(False)  # a picked row is no reason for bold headings
        self.verticalHeader().hide()
        self.setShowGrid(False)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.verticalHeader().setDefaultSectionSize(24)
        self._fit()

    def _fit(self) -> None:
        header = self.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        for c in range(self.columnCount()):
            side = Qt.AlignmentFlag.AlignLeft if c == 0 else Qt.AlignmentFlag.AlignRight
            item = self.horizontalHeaderItem(c)
            if item is not None:
                item.setTextAlignment(side | Qt.AlignmentFlag.AlignVCenter)

    @property
    def empty(self) -> str:
        """What is said where there are no rows."""
        return self._empty.text()

    def say_empty(self, text: str) -> None:
        """Say something else where there are no rows."""
        self._empty.setText(text)
        self._place_empty()

    def _place_empty(self) -> None:
        self._empty.setVisible(self.rowCount() == 0)
        self._empty.setGeometry(self.viewport().rect().adjusted(12, 4, -12, -4))

    def resizeEvent(self, event: QResizeEvent) -> None:
        """What is said of an empty table stays in its middle."""
        super().resizeEvent(event)
        self._place_empty()

    @property
    def rows(self) -> list[list[str]]:
        """What is shown."""
        cells = [[self.item(r, c) for c in range(self.columnCount())] for r in range(self.rowCount())]
        return [[cell.text() if cell is not None else "" for cell in row] for row in cells]

    def show_rows(self, rows: Sequence[Sequence[str]], columns: Sequence[str] | None = None) -> None:
        """Replace the rows, and the headings where they change."""
        if columns is not None:
            self.setColumnCount(len(columns))
            self.setHorizontalHeaderLabels(list(columns))
            self._fit()
        self.setRowCount(len(rows))
        for r, row in enumerate(rows):
            for c in range(self.columnCount()):
                item = QTableWidgetItem(row[c] if c < len(row) else "")
                side = Qt.AlignmentFlag.AlignLeft if c == 0 else Qt.AlignmentFlag.AlignRight
                item.setTextAlignment(side | Qt.AlignmentFlag.AlignVCenter)
                self.setItem(r, c, item)
        self._place_empty()
