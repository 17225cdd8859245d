"""A map over the bed, seen from above, front edge below: temperatures or heights, the part's footprint and a section line on it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from mandorla.core.units import UnitPreferences, show, show_number
from mandorla.ui.plots.keeping import keepable
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.theme.temperature_map import temperature_colors

Line = tuple[tuple[float, float], tuple[float, float]]


def grown(values: NDArray[np.float64], steps: int = 4) -> NDArray[np.float64]:
    """A map (ny, nx) whose known cells have grown outwards into the NaN by a few cells, for drawing up to a curved edge."""
    found = values.copy()
    for _ in range(steps):
        missing = ~np.isfinite(found)
        if not missing.any():
            break
        padded = np.pad(found, 1, constant_values=np.nan)
        near = np.stack([padded[1:-1, 2:], padded[1:-1, :-2], padded[2:, 1:-1], padded[:-2, 1:-1]])
        known = np.isfinite(near)
        total, count = np.where(known, near, 0.0).sum(axis=0), known.sum(axis=0)
        fill = missing & (count > 0)
        found[fill] = total[fill] / count[fill]
    return found


class SurfaceMap(QWidget):
    """Draws a map (ny, nx) over the bed, with a scale in words and figures; where it may, the mouse draws a section line on it."""

    line_drawn = Signal()

    def __init__(self, *, height: int | None = 236, sections: bool = False) -> None:
        super().__init__()
        self.setMinimumSize(190, 236)
        if height is not None:
            self.setMaximumHeight(height)
        self.setAccessibleName("Surface map of the bed")
        keepable(self)
        self._theme: Theme | None = None
        self._map: NDArray[np.float64] | None = None
        self._units = UnitPreferences()
        self._size = (1.0, 1.0)
        self._outline: NDArray[np.float64] | None = None
        self._cold: tuple[float, float] | None = None
        self._kinds = ("temperature", "temperature_difference")
        self._sections = sections
        self._rounded = False
        self._line: Line | None = None
        self._from: tuple[float, float] | None = None
        if sections:
            self.setCursor(Qt.CursorShape.CrossCursor)

    @property
    def line(self) -> Line | None:
        """The section line: its ends in m from the bed's middle."""
        return self._line

    @property
    def values(self) -> NDArray[np.float64]:
        """The map (ny, nx) that is shown."""
        assert self._map is not None
        return self._map

    def set_line(self, line: Line | None) -> None:
        """Show a section line."""
        self._line = line
        self.update()

    def show_map(
        self, theme: Theme, units: UnitPreferences, size: tuple[float, float], values: NDArray[np.float64],
        outline: NDArray[np.float64] | None, coldest: tuple[float, float] | None,
        kinds: tuple[str, str] = ("temperature", "temperature_difference"), rounded: bool = False,
    ) -> None:  # fmt: skip
        """Show a map (NaN where there is no bed) over a bed of ``size`` (m) with a footprint (k, 2) and a marked place (m).

        ``kinds`` are those of a value and of a difference (units.KINDS); ``rounded`` clips the picture to the bed's ellipse.
        """
        self._theme, self._units, self._size, self._map, self._kinds = theme, units, size, values, kinds
        self._outline, self._cold, self._rounded = outline, coldest, rounded
        low, high = (show(float(v), kinds[0], units) for v in (np.nanmin(values), np.nanmax(values)))
        self.setAccessibleDescription(f"from {low} to {high}")
        self.update()

    def _box(self) -> tuple[QRectF, float]:
        width, depth = self._size
        room = QRectF(self.rect()).adjusted(2, 2, -2, -40)
        scale = min(room.width() / width, room.height() / depth)
        box = QRectF(0, 0, width * scale, depth * scale)
        box.moveCenter(room.center())
        return box, scale

    def point_of(self, x: float, y: float) -> QPointF:
        """Where a place (m from the bed's middle) is drawn."""
        box, scale = self._box()
        return QPointF(box.center().x() + x * scale, box.center().y() - y * scale)

    def place_of(self, point: QPointF) -> tuple[float, float]:
        """The place (m) under a point, on the bed."""
        box, scale = self._box()
        half_x, half_y = self._size[0] / 2, self._size[1] / 2
        x, y = (point.x() - box.center().x()) / scale, (box.center().y() - point.y()) / scale
        return min(max(x, -half_x), half_x), min(max(y, -half_y), half_y)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Begin a section line."""
        if self._sections and self._map is not None:
            self._from = self.place_of(event.position())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Draw it along."""
        if self._from is not None:
            self._line = (self._from, self.place_of(event.position()))
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Take it."""
        if self._from is None:
            return
        end = self.place_of(event.position())
        if np.hypot(end[0] - self._from[0], end[1] - self._from[1]) > 0.02 * max(self._size):
            self._line = (self._from, end)
            self.line_drawn.emit()
        self._from = None
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw map, footprint, line and scale."""
        if self._map is None or self._theme is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = self._theme
        box, _ = self._box()
        low, high = float(np.nanmin(self._map)), float(np.nanmax(self._map))
        span = max(high - low, 0.5 if self._kinds[0] == "temperature" else 1e-9)
        colors = temperature_colors()
        shown = grown(self._map[::-1]) if self._rounded else self._map[::-1]
        there = np.isfinite(shown)
        index = np.clip((np.where(there, shown, low) - low) / span * 255, 0, 255).astype(int)
        pixels = np.ascontiguousarray(np.dstack([colors[index], np.where(there, 255, 0).astype(np.uint8)]))
        image = QImage(pixels.data, pixels.shape[1], pixels.shape[0], pixels.strides[0], QImage.Format.Format_RGBA8888)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        if self._rounded:
            disc = QPainterPath()
            disc.addEllipse(box)
            painter.setClipPath(disc)
        painter.drawImage(box, image)
        painter.setClipping(False)
        painter.setPen(QPen(t.color("line"), 1))
        if self._rounded:
            painter.drawEllipse(box)
        elif there.all():
            painter.drawRect(box)
        if self._outline is not None:
            polygon = QPolygonF([self.point_of(x, y) for x, y in self._outline])
            for color, width in (("#1f2629", 3.2), ("#ffffff", 1.6)):
                painter.setPen(QPen(QColor(color), width))
                painter.drawPolygon(polygon)
        if self._line is not None:
            ends = [self.point_of(*end) for end in self._line]
            for color, width in (("#1f2629", 4.2), ("#ffffff", 2.0)):
                painter.setPen(QPen(QColor(color), width))
                painter.drawLine(*ends)
            painter.setBrush(QColor("#ffffff"))
            painter.setPen(QPen(QColor("#1f2629"), 1.4))
            painter.drawEllipse(ends[0], 4.0, 4.0)
        if self._cold is not None:
            painter.setPen(QPen(QColor("#1f2629"), 1.5))
            painter.setBrush(QColor("#ffffff"))
            painter.drawEllipse(self.point_of(*self._cold), 4.5, 4.5)
        self._draw_scale(painter, t, box, low, high)
        painter.end()

    def _draw_scale(self, painter: QPainter, t: Theme, box: QRectF, low: float, high: float) -> None:
        colors = temperature_colors()
        bar = QRectF(box.left(), box.bottom() + 9, box.width(), 8)
        for i in range(64):
            r, g, b = colors[i * 4]
            step = QRectF(bar.left() + bar.width() * i / 64, bar.top(), bar.width() / 64 + 1, bar.height())
            painter.fillRect(step, QColor(int(r), int(g), int(b)))
        painter.setPen(t.color("soft"))
        painter.setFont(font(8.5))
        text = QRectF(bar.left(), bar.bottom() + 2, bar.width(), 16)
        least, most = show_number(low, self._kinds[0], self._units), show(high, self._kinds[0], self._units)
        between = f"{show(high - low, self._kinds[1], self._units)} between"
        painter.drawText(text, Qt.AlignmentFlag.AlignLeft, least)
        painter.drawText(text, Qt.AlignmentFlag.AlignRight, most)
        width = painter.fontMetrics().horizontalAdvance
        # in the middle, where the ends leave room for it
        if width(between) + 2 * max(width(least), width(most)) + 16 < text.width():
            painter.drawText(text, Qt.AlignmentFlag.AlignHCenter, between)
