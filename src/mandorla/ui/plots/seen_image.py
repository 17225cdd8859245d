"""A radiometric matrix as it was shown: the bed's corners are picked on it with the mouse."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from mandorla.ui.plots.keeping import keepable
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.theme.temperature_map import temperature_colors

NAMES = ("front left", "front right", "rear right", "rear left")


class SeenImage(QWidget):
    """Draws the matrix and its corners; a click picks the next corner, or moves the nearest once there are four."""

    picked = Signal(float, float)

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumSize(220, 180)
        self.setAccessibleName("Image as the instrument shows it")
        keepable(self)
        self.setCursor(Qt.CursorShape.CrossCursor)
        self._theme: Theme | None = None
        self._matrix: NDArray[np.float64] | None = None
        self._corners: tuple[tuple[float, float], ...] = ()

    def show_image(
        self, theme: Theme, matrix: NDArray[np.float64] | None, corners: Sequence[tuple[float, float]]
    ) -> None:
        """Show a matrix (rows, columns) and the corners (column, row) picked so far."""
        self._theme, self._matrix, self._corners = theme, matrix, tuple(corners)
        self.setAccessibleDescription(f"{len(corners)} of 4 corners picked")
        self.update()

    def _box(self) -> QRectF:
        assert self._matrix is not None
        rows, columns = self._matrix.shape
        room = QRectF(self.rect()).adjusted(2, 2, -2, -2)
        scale = min(room.width() / columns, room.height() / rows)
        box = QRectF(0, 0, columns * scale, rows * scale)
        box.moveCenter(room.center())
        return box

    def point_of(self, column: float, row: float) -> QPointF:
        """Where a cell is drawn."""
        assert self._matrix is not None
        box = self._box()
        rows, columns = self._matrix.shape
        return QPointF(
            box.left() + (column + 0.5) / columns * box.width(), box.top() + (row + 0.5) / rows * box.height()
        )

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Tell of the cell under the mouse."""
        if self._matrix is None or not self._box().contains(event.position()):
            return
        box = self._box()
        rows, columns = self._matrix.shape
        u = (event.position().x() - box.left()) / box.width() * columns - 0.5
        v = (event.position().y() - box.top()) / box.height() * rows - 0.5
        self.picked.emit(float(np.clip(u, 0, columns - 1)), float(np.clip(v, 0, rows - 1)))

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw image and corners."""
        if self._theme is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self._matrix is None:
            painter.setPen(self._theme.color("soft"))
            painter.setFont(font(10.0))
            painter.drawText(QRectF(self.rect()), Qt.AlignmentFlag.AlignCenter, "No image in this session yet")
            painter.end()
            return
        m = self._matrix
        low, high = float(np.nanmin(m)), float(np.nanmax(m))
        index = np.clip((np.nan_to_num(m, nan=low) - low) / max(high - low, 0.5) * 255, 0, 255).astype(int)
        alpha = np.where(np.isfinite(m), 255, 0).astype(np.uint8)
        pixels = np.ascontiguousarray(np.dstack([temperature_colors()[index], alpha]))
        image = QImage(pixels.data, pixels.shape[1], pixels.shape[0], pixels.strides[0], QImage.Format.Format_RGBA8888)
        painter.drawImage(self._box(), image)
        points = [self.point_of(*c) for c in self._corners]
        for color, width in (("#1f2629", 3.4), ("#ffffff", 1.7)):
            painter.setPen(QPen(QColor(color), width))
            painter.drawPolyline(QPolygonF([*points, points[0]] if len(points) == 4 else points))
        painter.setFont(font(8.5, strong=True))
        for point, name in zip(points, NAMES, strict=False):
            painter.setPen(QPen(QColor("#1f2629"), 1.4))
            painter.setBrush(QColor("#ffffff"))
            painter.drawEllipse(point, 5.0, 5.0)
            painter.setPen(QColor("#ffffff"))
            width = painter.fontMetrics().horizontalAdvance(name)
            middle = self._box().center()
            left = point.x() + 8 if point.x() < middle.x() else point.x() - width - 8
            painter.drawText(QPointF(left, point.y() + (16 if point.y() < middle.y() else -8)), name)
        painter.end()
