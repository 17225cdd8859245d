"""The bed from above: outlines of its layers, heated zones, sensor, holes and brackets; what has a place can be dragged."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from mandorla.core.errors import InputError
from mandorla.core.project.paths import get_value
from mandorla.core.rig.bed import Outline
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.theme.palette import Theme, font

_REACH = 12.0  # px within which a click picks
_ROOM = 34.0  # px around the bed

MOUNTS: dict[object, str] = {"free": "Nothing, it lies loose", "corners": "Its corners", "rim": "Its whole rim"}


class BedPlan(QWidget):
    """Draws the bed in plan, front edge below. Places of sensor, zones, holes and brackets follow the mouse or the arrow keys."""

    picked = Signal(str)

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        self._theme: Theme | None = None
        self._layer = 0
        self._pick = "rig.bed.sensor"
        self._drag: tuple[QPointF, float, float] | None = None
        self._ghost: tuple[float, float] | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("The bed from above")
        self.setMinimumSize(420, 320)
        document.project_changed.connect(self.update)

    @property
    def picked_path(self) -> str:
        """The path of the thing that is picked."""
        return self._pick

    def set_theme(self, theme: Theme) -> None:
        """Draw in a theme."""
        self._theme = theme
        self.update()

    def set_layer(self, index: int) -> None:
        """Emphasise the outline of a layer."""
        self._layer = index
        self.update()

    def places(self) -> dict[str, tuple[float, float]]:
        """Everything that has a place, by path, with its middle (m)."""
        bed = self._document.project.rig.bed
        found = {"rig.bed.sensor": (bed.sensor.x, bed.sensor.y)}
        found |= {f"rig.bed.spots.{i}": (s.x, s.y) for i, s in enumerate(bed.spots)}
        found |= {f"rig.bed.magnets.{i}": (m.x, m.y) for i, m in enumerate(bed.magnets)}
        found |= {
            f"rig.bed.heater.zones.{i}.outline": (z.outline.x, z.outline.y) for i, z in enumerate(bed.heater.zones)
        }
        return found

    def _scale(self) -> tuple[float, QPointF]:
        bed = self._document.project.rig.bed
        room = QRectF(self.rect()).adjusted(_ROOM, 14, -_ROOM, -_ROOM)
        return min(room.width() / bed.width, room.height() / bed.depth), room.center()

    def point_of(self, x: float, y: float) -> QPointF:
        """Where a place (m from the bed's middle) is drawn."""
        scale, middle = self._scale()
        return QPointF(middle.x() + x * scale, middle.y() - y * scale)

    def _box(self, o: Outline) -> QRectF:
        scale, _ = self._scale()
        box = QRectF(0, 0, o.width * scale, o.depth * scale)
        box.moveCenter(self.point_of(o.x, o.y))
        return box

    def _draw(self, painter: QPainter, o: Outline) -> None:
        if o.shape == "round":
            painter.drawEllipse(self._box(o))
        else:
            painter.drawRoundedRect(self._box(o), 2, 2)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw everything."""
        t = self._theme
        if t is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        bed = self._document.project.rig.bed
        painter.setPen(QPen(t.color("ink", 0.75), 1.8))
        painter.setBrush(t.color("ink", 0.05))
        self._draw(painter, bed.outline)
        heater = bed.heater
        if heater.power_map and not heater.zones:
            self._draw_power_map(painter, t)
        else:
            shares = [z.share / z.outline.area for z in heater.zones] or [1.0]
            for i, (outline, share) in enumerate(zip(heater.outlines(), shares, strict=True)):
                fill = QColor(t.curves[0])
                fill.setAlphaF(0.12 + 0.30 * share / max(shares))
                painter.setBrush(fill)
                here = f"rig.bed.heater.zones.{i}.outline" == self._pick
                painter.setPen(QPen(QColor(t.curves[0]), 2.4 if here else 1.2))
                self._draw(painter, outline)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for i, layer in enumerate(bed.layers):
            if layer.outline is not None or i == self._layer:
                mine = i == self._layer
                pen = QPen(t.color("accent", 0.95) if mine else t.color("soft"), 2.0 if mine else 1.0)
                pen.setStyle(Qt.PenStyle.DashLine)
                painter.setPen(pen)
                self._draw(painter, bed.outline_of(i))
        self._draw_spots(painter, t)
        self._draw_magnets(painter, t)
        self._draw_sensor(painter, t)
        painter.setPen(t.color("soft"))
        painter.setFont(font(9.0))
        units = self._document.units
        box = self._box(bed.outline)
        painter.drawText(QRectF(box.left(), box.bottom() + 6, box.width(), 18), Qt.AlignmentFlag.AlignCenter,
                         f"front · {show(bed.width, 'large_length', units)}")  # fmt: skip
        painter.save()
        painter.translate(box.right() + 20, box.center().y())
        painter.rotate(-90)
        painter.drawText(QRectF(-box.height() / 2, -9, box.height(), 18), Qt.AlignmentFlag.AlignCenter,
                         show(bed.depth, "large_length", units))  # fmt: skip
        painter.restore()
        painter.end()

    def _draw_power_map(self, painter: QPainter, t: Theme) -> None:
        heater = self._document.project.rig.bed.heater
        rows, top = heater.power_map, max(max(r) for r in heater.power_map)
        box = self._box(Outline(width=heater.width, depth=heater.depth))
        w, h = box.width() / len(rows[0]), box.height() / len(rows)
        painter.setPen(Qt.PenStyle.NoPen)
        for r, row in enumerate(rows):
            for c, value in enumerate(row):
                fill = QColor(t.curves[0])
                fill.setAlphaF(0.05 + 0.4 * value / top)
                painter.fillRect(QRectF(box.left() + c * w, box.top() + r * h, w + 0.5, h + 0.5), fill)
        painter.setPen(QPen(QColor(t.curves[0]), 1.2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(box)

    def _draw_spots(self, painter: QPainter, t: Theme) -> None:
        scale, _ = self._scale()
        painter.setFont(font(8.5))
        for i, spot in enumerate(self._document.project.rig.bed.spots):
            path = f"rig.bed.spots.{i}"
            x, y = self._ghost if self._ghost is not None and path == self._pick else (spot.x, spot.y)
            at, radius = self.point_of(x, y), max(5.0, 0.5 * spot.diameter * scale)
            painter.setPen(
                QPen(t.color("accent") if path == self._pick else t.color("ink"), 2.4 if path == self._pick else 1.4)
            )
            painter.setBrush(t.color("panel") if spot.kind == "hole" else t.color("ink", 0.25))
            painter.drawEllipse(at, radius, radius)
            if spot.kind == "bracket":
                painter.drawLine(QPointF(at.x() - radius, at.y()), QPointF(at.x() + radius, at.y()))
                painter.drawLine(QPointF(at.x(), at.y() - radius), QPointF(at.x(), at.y() + radius))
            painter.drawText(QPointF(at.x() + radius + 3, at.y() - 3), f"{spot.kind} {i + 1}")

    def _draw_magnets(self, painter: QPainter, t: Theme) -> None:
        scale, _ = self._scale()
        for i, magnet in enumerate(self._document.project.rig.bed.magnets):
            path = f"rig.bed.magnets.{i}"
            x, y = self._ghost if self._ghost is not None and path == self._pick else (magnet.x, magnet.y)
            radius = max(4.0, 0.5 * magnet.diameter * scale)
            painter.setPen(QPen(t.color("accent"), 2.4 if path == self._pick else 1.2))
            painter.setBrush(t.color("accent", 0.35))
            painter.drawEllipse(self.point_of(x, y), radius, radius)

    def _draw_sensor(self, painter: QPainter, t: Theme) -> None:
        sensor = self._document.project.rig.bed.sensor
        mine = self._pick == "rig.bed.sensor"
        at = self.point_of(*(self._ghost if self._ghost is not None and mine else (sensor.x, sensor.y)))
        painter.setPen(QPen(t.color("accent") if mine else t.color("ink"), 2.4 if mine else 1.6))
        painter.setBrush(t.color("panel"))
        painter.drawPolygon(
            [QPointF(at.x(), at.y() - 8), QPointF(at.x() + 7, at.y() + 5), QPointF(at.x() - 7, at.y() + 5)]
        )
        painter.setFont(font(9.0, strong=True))
        painter.setPen(t.color("ink"))
        painter.drawText(QPointF(at.x() + 11, at.y() + 5), "sensor")

    def _nearest(self, place: QPointF) -> str | None:
        best, found = _REACH, None
        for path, (x, y) in self.places().items():
            away = self.point_of(x, y) - place
            distance = (away.x() ** 2 + away.y() ** 2) ** 0.5
            if distance < best:
                best, found = distance, path
        return found

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Pick what lies under the mouse."""
        self.setFocus()
        found = self._nearest(event.position())
        if found is not None:
            self._pick = found
            self._drag = (event.position(), *self.places()[found])
            self.picked.emit(found)
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Drag it along."""
        if self._drag is None:
            return
        start, x, y = self._drag
        scale, _ = self._scale()
        moved = event.position() - start
        self._ghost = (round(x + moved.x() / scale, 3), round(y - moved.y() / scale, 3))
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Put it down."""
        if self._ghost is not None:
            self._move_to(*self._ghost)
        self._drag, self._ghost = None, None
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Arrow keys move what is picked by 5 mm, with Shift by 1 mm; Tab goes on to the next widget."""
        step = 0.001 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 0.005
        ways = {Qt.Key.Key_Left: (-step, 0.0), Qt.Key.Key_Right: (step, 0.0), Qt.Key.Key_Up: (0.0, step),
                Qt.Key.Key_Down: (0.0, -step)}  # fmt: skip
        way = ways.get(Qt.Key(event.key()))
        if way is None or self._pick not in self.places():
            super().keyPressEvent(event)
            return
        x, y = self.places()[self._pick]
        self._move_to(x + way[0], y + way[1])

    def _move_to(self, x: float, y: float) -> None:
        try:
            get_value(self._document.project, self._pick)
            self._document.edit_many(
                {f"{self._pick}.x": round(x, 4), f"{self._pick}.y": round(y, 4)}, "Move on the bed"
            )
        except InputError as error:
            self._document.problem.emit(str(error))
