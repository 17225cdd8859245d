"""A row of controls that goes on in the next line where it has no room."""

from __future__ import annotations

from PySide6.QtCore import QRect, QSize, Qt
from PySide6.QtWidgets import QLayout, QLayoutItem, QSizePolicy, QWidget

_GAP = 6


class FlowRow(QLayout):
    """Lays its widgets out from the left, each as wide as it wants to be, line under line."""

    def __init__(self, *widgets: QWidget) -> None:
        super().__init__()
        self._items: list[QLayoutItem] = []
        self.setContentsMargins(0, 0, 0, 0)
        for widget in widgets:
            self.addWidget(widget)

    def addItem(self, item: QLayoutItem) -> None:
        """Take an item at the end."""
        self._items.append(item)

    def count(self) -> int:
        """How many items there are."""
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        """The item at a place."""
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        """Take the item at a place out."""
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        """It wants no more room than it needs."""
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        """Narrower is higher."""
        return True

    def heightForWidth(self, width: int) -> int:
        """How high it is at a width."""
        return self._arrange(QRect(0, 0, width, 0), move=False)

    def setGeometry(self, rect: QRect) -> None:
        """Put the widgets where they belong."""
        super().setGeometry(rect)
        self._arrange(rect, move=True)

    def sizeHint(self) -> QSize:
        """All in one line."""
        sizes = [i.sizeHint() for i in self._seen()]
        wide = sum(s.width() for s in sizes) + _GAP * max(len(sizes) - 1, 0)
        return QSize(wide, max((s.height() for s in sizes), default=0))

    def minimumSize(self) -> QSize:
        """The widest in a line of its own."""
        size = QSize()
        for item in self._seen():
            size = size.expandedTo(item.minimumSize())
        return size

    def _seen(self) -> list[QLayoutItem]:
        return [i for i in self._items if not i.isEmpty()]

    def _arrange(self, rect: QRect, *, move: bool) -> int:
        """Lay out inside a rectangle; the height that was used. What may grow shares what a line has left."""
        lines: list[list[QLayoutItem]] = [[]]
        used = 0
        for item in self._seen():
            wide = min(item.sizeHint().width(), rect.width())
            if lines[-1] and used + _GAP + wide > rect.width():
                lines.append([])
                used = 0
            used += wide + (_GAP if lines[-1] else 0)
            lines[-1].append(item)
        y = rect.y()
        for line in lines:
            high = max((i.sizeHint().height() for i in line), default=0)
            wides = [min(i.sizeHint().width(), rect.width()) for i in line]
            growing = [k for k, i in enumerate(line) if i.expandingDirections() & Qt.Orientation.Horizontal]
            spare = rect.width() - sum(wides) - _GAP * (len(line) - 1)
            for k in growing:
                wides[k] += max(spare, 0) // len(growing)
            x = rect.x()
            for item, wide in zip(line, wides, strict=True):
                if move:
                    item.setGeometry(QRect(x, y, wide, high))
                x += wide + _GAP
            y += high + _GAP
        return y - rect.y() - _GAP


def growing(widget: QWidget) -> QWidget:
    """A widget that takes what its line has left."""
    widget.setSizePolicy(QSizePolicy.Policy.Expanding, widget.sizePolicy().verticalPolicy())
    return widget
