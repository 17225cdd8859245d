"""The bed's surface map with the footprint of the part on it, seen from above, front edge below."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from mandorla.core.units import UnitPreferences, show, show_number
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.theme.temperature_map import temperature_colors


class SurfaceMap(QWidget):
    """Draws a temperature map (ny, nx) K over the bed, with a scale in words and figures."""

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumSize(190, 236)
        self.setMaximumHeight(236)
        self.setAccessibleName("Surface map of the bed")
        self._theme: Theme | None = None
        self._map: NDArray[np.float64] | None = None
        self._units = UnitPreferences()
        self._size = (1.0, 1.0)
        self._outline: NDArray[np.float64] | None = None
        self._cold: tuple[float, float] | None = None

    def show_map(
        self, theme: Theme, units: UnitPreferences, size: tuple[float, float], values: NDArray[np.float64],
        outline: NDArray[np.float64] | None, coldest: tuple[float, float] | None,
    ) -> None:  # fmt: skip
        """Show a map (K) over a bed of ``size`` (m) with a footprint (k, 2) and the coldest corner under it (m)."""
        self._theme, self._units, self._size, self._map = theme, units, size, values
        self._outline, self._cold = outline, coldest
        low, high = show(float(values.min()), "temperature", units), show(float(values.max()), "temperature", units)
        self.setAccessibleDescription(f"from {low} at the coldest to {high} at the hottest")
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw map, footprint and scale."""
        if self._map is None or self._theme is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = self._theme
        width, depth = self._size
        room = QRectF(self.rect()).adjusted(2, 2, -2, -40)
        scale = min(room.width() / width, room.height() / depth)
        box = QRectF(0, 0, width * scale, depth * scale)
        box.moveCenter(room.center())
        low, high = float(self._map.min()), float(self._map.max())
        span = max(high - low, 0.5)
        colors = temperature_colors()
        index = np.clip((self._map[::-1] - low) / span * 255, 0, 255).astype(int)
        pixels = np.ascontiguousarray(np.dstack([colors[index], np.full(index.shape, 255, np.uint8)]))
        image = QImage(pixels.data, pixels.shape[1], pixels.shape[0], pixels.strides[0], QImage.Format.Format_RGBA8888)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawImage(box, image)
        painter.setPen(QPen(t.color("line"), 1))
        painter.drawRect(box)

        def at(x: float, y: float) -> QPointF:
            return QPointF(box.center().x() + x * scale, box.center().y() - y * scale)

        if self._outline is not None:
            polygon = QPolygonF([at(x, y) for x, y in self._outline])
            painter.setPen(QPen(QColor("#1f2629"), 3.2))
            painter.drawPolygon(polygon)
            painter.setPen(QPen(QColor("#ffffff"), 1.6))
            painter.drawPolygon(polygon)
        if self._cold is not None:
            place = at(*self._cold)
            painter.setPen(QPen(QColor("#1f2629"), 1.5))
            painter.setBrush(QColor("#ffffff"))
            painter.drawEllipse(place, 4.5, 4.5)
        bar = QRectF(box.left(), box.bottom() + 9, box.width(), 8)
        for i in range(64):
            r, g, b = colors[i * 4]
            step = QRectF(bar.left() + bar.width() * i / 64, bar.top(), bar.width() / 64 + 1, bar.height())
            painter.fillRect(step, QColor(int(r), int(g), int(b)))
        painter.setPen(t.color("soft"))
        painter.setFont(font(8.5))
        text = QRectF(bar.left(), bar.bottom() + 2, bar.width(), 16)
        painter.drawText(text, Qt.AlignmentFlag.AlignLeft, show_number(low, "temperature", self._units))
        painter.drawText(text, Qt.AlignmentFlag.AlignRight, show(high, "temperature", self._units))
        between = show(high - low, "temperature_difference", self._units)
        painter.drawText(text, Qt.AlignmentFlag.AlignHCenter, f"{between} between")
        painter.end()
