"""The bed from above with measured places on it: a click puts the next reading there; figures and misfits stand beside the dots."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from mandorla.ui.plots.keeping import keepable
from mandorla.ui.theme.palette import Theme, font


@dataclass(frozen=True, slots=True)
class Dot:
    """A place (m from the bed's middle), what stands beside it, and whether it is the picked one."""

    x: float
    y: float
    text: str
    picked: bool = False
    state: str = ""


class BedSurvey(QWidget):
    """Draws outline, grid places still to be read, and read places; tells of clicks as places on the bed."""

    placed = Signal(float, float)

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        keepable(self)
        self.setMinimumSize(180, 130)
        self.setCursor(Qt.CursorShape.CrossCursor)
        self._theme: Theme | None = None
        self._size = (0.3, 0.3)
        self._rounded = False
        self._dots: tuple[Dot, ...] = ()
        self._grid: tuple[tuple[float, float], ...] = ()
        self._next = (0.0, 0.0)

    @property
    def dots(self) -> tuple[Dot, ...]:
        """The places that are drawn."""
        return self._dots

    def show_dots(
        self, theme: Theme, size: tuple[float, float], dots: Sequence[Dot], grid: Sequence[tuple[float, float]] = (),
        here: tuple[float, float] = (0.0, 0.0), *, rounded: bool = False,
    ) -> None:  # fmt: skip
        """Show places on a bed of ``size`` m; ``grid`` places are still to be read, ``here`` is where the next reading goes."""
        self._theme, self._size, self._dots, self._grid = theme, size, tuple(dots), tuple(grid)
        self._next, self._rounded = here, rounded
        self.setAccessibleDescription("; ".join(d.text for d in dots) or "nothing was read yet")
        self.update()

    def _box(self) -> tuple[QRectF, float]:
        room = QRectF(self.rect()).adjusted(12, 12, -12, -30)
        scale = min(room.width() / self._size[0], room.height() / self._size[1])
        box = QRectF(0, 0, self._size[0] * scale, self._size[1] * scale)
        box.moveCenter(room.center())
        return box, scale

    def point_of(self, x: float, y: float) -> QPointF:
        """Where a place is drawn."""
        box, scale = self._box()
        return QPointF(box.center().x() + x * scale, box.center().y() - y * scale)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Tell of a place on the bed; near a grid place it is that one."""
        box, scale = self._box()
        p = event.position()
        if not box.contains(p):
            return
        x, y = (p.x() - box.center().x()) / scale, (box.center().y() - p.y()) / scale
        for gx, gy in self._grid:
            if abs(gx - x) * scale < 12 and abs(gy - y) * scale < 12:
                x, y = gx, gy
        self.placed.emit(round(x, 4), round(y, 4))

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw it."""
        if self._theme is None:
            return
        t = self._theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box, _ = self._box()
        painter.setPen(QPen(t.color("line"), 1.5))
        painter.setBrush(t.color("raised"))
        if self._rounded:
            painter.drawEllipse(box)
        else:
            painter.drawRoundedRect(box, 6, 6)
        painter.setPen(QPen(t.color("line"), 1, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(box.left(), box.center().y()), QPointF(box.right(), box.center().y()))
        painter.drawLine(QPointF(box.center().x(), box.top()), QPointF(box.center().x(), box.bottom()))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(t.color("soft"), 1.2, Qt.PenStyle.DashLine))
        for x, y in self._grid:
            painter.drawEllipse(self.point_of(x, y), 9, 9)
        here = self.point_of(*self._next)
        painter.setPen(QPen(t.color("accent"), 1.6))
        for dx, dy in ((-9, 0), (9, 0), (0, -9), (0, 9)):
            painter.drawLine(QPointF(here.x() + 0.4 * dx, here.y() + 0.4 * dy), QPointF(here.x() + dx, here.y() + dy))
        painter.setFont(font(8.6, strong=True))
        taken: list[QRectF] = []
        for dot in sorted(self._dots, key=lambda d: not d.picked):
            p = self.point_of(dot.x, dot.y)
            color = t.color(dot.state) if dot.state else t.color("accent")
            painter.setPen(QPen(t.color("ink"), 1.8 if dot.picked else 0.8))
            painter.setBrush(color)
            painter.drawEllipse(p, 6.5 if dot.picked else 5.0, 6.5 if dot.picked else 5.0)
            width = painter.fontMetrics().horizontalAdvance(dot.text)
            left = min(max(p.x() - width / 2, 2.0), self.width() - width - 2.0)
            room = QRectF(left, p.y() - 21, width, 13)
            if any(room.intersects(other) for other in taken):
                continue  # a figure over another one can be read by nobody; the dot says enough
            taken.append(room)
            painter.setPen(t.color("ink"))
            painter.drawText(QPointF(left, p.y() - 10), dot.text)
        painter.setPen(t.color("soft"))
        painter.setFont(font(8.5))
        painter.drawText(QRectF(box.left(), box.bottom() + 3, box.width(), 16), Qt.AlignmentFlag.AlignHCenter, "front")
        painter.end()
