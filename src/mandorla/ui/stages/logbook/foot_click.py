"""The part seen from above: a click says where something was seen."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from mandorla.ui.theme.palette import Theme, font

_EDGE = 14


class FootClick(QWidget):
    """Draws an outline (n, 2) m and the places that were marked on it; a click marks one, a second click on it takes it away."""

    marked = Signal()

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setMinimumHeight(90)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._outline: NDArray[np.float64] = np.zeros((0, 2))
        self._theme: Theme | None = None
        self.places: list[tuple[float, float]] = []

    def show_outline(self, outline: NDArray[np.float64], theme: Theme) -> None:
        """Draw another outline."""
        self._outline, self._theme = outline, theme
        self.update()

    def clear(self) -> None:
        """Take all marks away."""
        self.places = []
        self.update()

    def _scale(self) -> tuple[float, NDArray[np.float64]]:
        low, high = self._outline.min(axis=0), self._outline.max(axis=0)
        size = np.maximum(high - low, 1e-6)
        scale = float(min((self.width() - 2 * _EDGE) / size[0], (self.height() - 2 * _EDGE) / size[1]))
        return scale, 0.5 * (low + high)

    def _point(self, x: float, y: float) -> QPointF:
        scale, middle = self._scale()
        return QPointF(self.width() / 2 + scale * (x - middle[0]), self.height() / 2 - scale * (y - middle[1]))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Mark a place, or take a mark away."""
        if self._outline.size == 0:
            return
        scale, middle = self._scale()
        at = event.position()
        x = float((at.x() - self.width() / 2) / scale + middle[0])
        y = float(-(at.y() - self.height() / 2) / scale + middle[1])
        near = [p for p in self.places if np.hypot(p[0] - x, p[1] - y) * scale < 12]
        self.places = [p for p in self.places if p not in near] if near else [*self.places, (x, y)]
        self.update()
        self.marked.emit()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw outline and marks."""
        t = self._theme
        if t is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(8.5))
        if self._outline.size == 0:
            painter.setPen(t.color("soft"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "No part is open")
            return
        painter.setPen(QPen(t.color("ink"), 1.4))
        painter.setBrush(t.color("accent", 0.10))
        painter.drawPolygon(QPolygonF([self._point(float(x), float(y)) for x, y in self._outline]))
        painter.setPen(QPen(t.color("fails"), 2.0))
        painter.setBrush(t.color("fails", 0.25))
        for x, y in self.places:
            painter.drawEllipse(self._point(x, y), 6, 6)
