"""What a plot has drawn, taken up again by its next picture: making a curve, its name and its line costs more than moving them."""

from __future__ import annotations

from typing import Any

import pyqtgraph as pg


class KeptItems:
    """The items of a plot in the order in which they were drawn. A picture takes up those of the one before as long as it draws
    the same kinds in the same order; from the first that differs on they are made anew, so that what lies above what stays."""

    def __init__(self, plot: pg.PlotWidget) -> None:
        self._plot = plot
        self._items: list[tuple[object, Any]] = []
        self._next = 0

    def begin(self) -> None:
        """Start a picture: nothing is seen until it is taken up."""
        self._next = 0
        for _, item in self._items:
            item.hide()

    def take(self, kind: object) -> Any | None:
        """The next item of the picture before where it is of this kind, visible again; else nothing: a new one is to be added."""
        if self._next < len(self._items) and self._items[self._next][0] == kind:
            item = self._items[self._next][1]
            self._next += 1
            item.show()
            return item
        for _, item in self._items[self._next :]:
            self._plot.removeItem(item)
        del self._items[self._next :]
        return None

    def add(self, kind: object, item: Any, *, bounds: bool) -> None:
        """A new item of a kind; ``bounds``: whether the plot's range follows it."""
        self._plot.addItem(item, ignoreBounds=not bounds)
        self._items.append((kind, item))
        self._next += 1
