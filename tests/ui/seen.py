"""What stands on a window, widget by widget."""

from __future__ import annotations

import re
from collections.abc import Iterator

from PySide6.QtWidgets import (
    QAbstractButton,
    QComboBox,
    QGraphicsTextItem,
    QGraphicsView,
    QLabel,
    QLineEdit,
    QListWidget,
    QTableWidget,
    QTextBrowser,
    QWidget,
)

from mandorla.core.decimal_sign import with_comma


def texts(root: QWidget) -> Iterator[str]:
    """Everything that stands in visible widgets or is read aloud for them, painted plots apart."""
    for w in (w for w in root.findChildren(QWidget) if w.isVisible()):
        yield from (w.toolTip(), w.accessibleName(), w.accessibleDescription())
        if isinstance(w, QLabel | QAbstractButton):
            yield w.text()
        elif isinstance(w, QLineEdit):
            yield from (w.text(), w.placeholderText())
        elif isinstance(w, QComboBox):
            yield from (w.itemText(i) for i in range(w.count()))
        elif isinstance(w, QListWidget):
            yield from (w.item(i).text() for i in range(w.count()))
        elif isinstance(w, QTableWidget):
            cells = (w.item(r, c) for r in range(w.rowCount()) for c in range(w.columnCount()))
            yield from (cell.text() for cell in cells if cell is not None)
        elif isinstance(w, QTextBrowser):
            yield w.toPlainText()
        elif isinstance(w, QGraphicsView) and w.scene() is not None:
            yield from (i.toPlainText() for i in w.scene().items() if isinstance(i, QGraphicsTextItem))


def with_points(window: QWidget) -> set[str]:
    """Texts with a decimal point."""
    return {t for t in texts(window) if with_comma(t) != t}


def with_commas(window: QWidget) -> set[str]:
    """Texts with a comma between digits."""
    return {t for t in texts(window) if re.search(r"\d,\d", t)}
