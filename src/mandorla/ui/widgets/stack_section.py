"""The bed stack drawn as a section, the steady temperature running through it, every rating marked, thickness editable."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QWidget

from mandorla.core.failure.state import State
from mandorla.core.materials.library_data import bed_materials
from mandorla.core.units import show, show_number
from mandorla.ui.document import Document
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.widgets.fields import FieldEdit

if TYPE_CHECKING:  # the numerics load after the first picture
    from mandorla.core.results.types import Evaluation

_LEAST = 36.0  # px, so that every layer can be read and picked
_AIR = 34.0
_AXIS = 26.0
_EDIT_WIDTH = 84
_RATINGS = 96.0  # px at the right kept for the ratings
# quiet fills by nature of the material, light and dark theme
_FILLS = {
    "cast_aluminium": ("#c9ced1", "#4a5459"), "spring_steel": ("#aab4ba", "#59656b"),
    "polyetherimide_film": ("#e8c98b", "#7b6330"), "magnet_sheet": ("#8f7f76", "#5d5049"),
    "borosilicate_glass": ("#c4dde0", "#3f5f64"),
    "soda_lime_glass": ("#bcdcd3", "#3b625b"), "glass_fibre_laminate": ("#c8d0a4", "#5a6338"),
    "silicone_mat": ("#d99a78", "#7a4a33"), "cork": ("#d3b088", "#6e5536"), "silicone_foam": ("#e6dccb", "#50493d"),
    "mica_laminate": ("#cdb58a", "#65583c"), "mineral_wool": ("#e3e0c8", "#4d4b3d"), "stainless_steel": ("#bcc6c9", "#515c60"),
}  # fmt: skip


class StackSection(QWidget):
    """Layers from the print surface (top) to the insulation; a click or the arrow keys select one."""

    selected = Signal(int)

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        self._theme: Theme | None = None
        self._evaluation: Evaluation | None = None
        self._index = 0
        self._editors: list[FieldEdit] = []
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Section through the bed stack")
        self.setMinimumSize(430, 300)
        document.project_changed.connect(self._sync)
        self._sync()

    @property
    def index(self) -> int:
        """The selected layer."""
        return self._index

    def select(self, index: int) -> None:
        """Select a layer."""
        count = len(self._document.project.rig.bed.layers)
        self._index = min(max(index, 0), count - 1)
        self.selected.emit(self._index)
        self.update()

    def show_evaluation(self, evaluation: Evaluation | None, theme: Theme) -> None:
        """Draw with the newest temperatures."""
        self._evaluation, self._theme = evaluation, theme
        self.update()

    def editor(self, index: int) -> FieldEdit:
        """The in-place thickness editor of a layer."""
        return self._editors[index]

    def _sync(self) -> None:
        layers = self._document.project.rig.bed.layers
        self.setMinimumHeight(int(2 * _AIR + _AXIS + _LEAST * len(layers)))
        while len(self._editors) < len(layers):
            i = len(self._editors)
            editor = FieldEdit(self._document, f"rig.bed.layers.{i}.thickness", "Thickness", self)
            editor.setFixedWidth(_EDIT_WIDTH)
            editor.setFont(font(9.5))
            editor.setAlignment(Qt.AlignmentFlag.AlignRight)
            self._editors.append(editor)
        for i, editor in enumerate(self._editors):
            editor.setVisible(i < len(layers))
            if i < len(layers):
                editor.setAccessibleName(f"Thickness of {layers[i].name}")
        self._index = min(self._index, len(layers) - 1)
        self._place()
        self.update()

    def boxes(self) -> list[QRectF]:
        """Where every layer is drawn."""
        layers = self._document.project.rig.bed.layers
        room = self.height() - 2 * _AIR - _AXIS - _LEAST * len(layers)
        total = sum(layer.thickness for layer in layers)
        boxes, y = [], _AIR
        for layer in layers:
            height = _LEAST + max(room, 0.0) * layer.thickness / total
            boxes.append(QRectF(6, y, self.width() - 12, height))
            y += height
        return boxes

    def _place(self) -> None:
        for editor, box in zip(self._editors, self.boxes(), strict=False):
            editor.move(int(box.left() + 8), int(box.center().y() - editor.sizeHint().height() / 2))

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Keep the editors on their layers."""
        self._place()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Select the layer under the pointer."""
        for i, box in enumerate(self.boxes()):
            if box.contains(event.position()):
                self.select(i)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Up and down select the neighbouring layer."""
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()), 0)
        if step:
            self.select(self._index + step)
            return
        super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the section."""
        if self._theme is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        boxes = self.boxes()
        self._paint_layers(painter, boxes)
        if self._evaluation is not None and len(self._evaluation.heat.peak) == len(boxes):
            self._paint_temperatures(painter, boxes)
        painter.end()

    def _paint_layers(self, painter: QPainter, boxes: list[QRectF]) -> None:
        t = self._theme
        assert t is not None
        bed = self._document.project.rig.bed
        dark = t.name == "dark"
        for layer, box in zip(bed.layers, boxes, strict=True):
            fill = QColor(_FILLS.get(layer.material, ("#d8d2c8", "#454b4e"))[dark])
            painter.setPen(QPen(t.color("panel"), 1.5))
            painter.setBrush(fill)
            painter.drawRect(box)
            if layer.key == bed.heater.layer:
                painter.setPen(QPen(t.color("fails"), 2.2))
                y = box.center().y()
                path = QPainterPath(QPointF(box.left() + 108 + 150, y))
                x = box.left() + 258
                while x < self._axis_left() - 16:
                    path.cubicTo(QPointF(x + 4, y - 7), QPointF(x + 8, y - 7), QPointF(x + 12, y))
                    path.cubicTo(QPointF(x + 16, y + 7), QPointF(x + 20, y + 7), QPointF(x + 24, y))
                    x += 24
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawPath(path)
            painter.setPen(t.color("ink"))
            painter.setFont(font(10.0, strong=True))
            text = QRectF(box.left() + 102, box.center().y() - 17, 200, 18)
            painter.drawText(text, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, layer.name)
            painter.setFont(font(8.5))
            name = "own properties" if layer.own else bed_materials()[layer.material].name
            painter.drawText(text.translated(0, 17), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, name)
        chosen = boxes[self._index]
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(t.color("accent"), 3 if self.hasFocus() else 2))
        painter.drawRoundedRect(chosen.adjusted(1, 1, -1, -1), 4, 4)

    def _axis_left(self) -> float:
        return max(236.0, self.width() * 0.44)

    def _paint_temperatures(self, painter: QPainter, boxes: list[QRectF]) -> None:
        t, e = self._theme, self._evaluation
        assert t is not None
        assert e is not None
        heat, bed = e.heat, self._document.project.rig.bed
        units = self._document.units
        state, stack = heat.steady, heat.stack
        left, right = self._axis_left(), float(self.width() - 12) - _RATINGS
        cold = min(self._document.project.rig.room_temperature, state.air) - 4.0
        hot = max(float(heat.peak.max()), float(state.cells.max())) + 22.0

        def x(T: float) -> float:
            return left + (T - cold) / (hot - cold) * (right - left)

        bottom = boxes[-1].bottom()
        painter.setFont(font(8.5))
        unit = units.unit("temperature")
        span = unit.scale * (hot - cold)
        step = next((s for s in (10.0, 20.0, 50.0, 100.0) if (right - left) * s / span > 40.0), 200.0)
        first = int(np.ceil(unit.from_si(cold) / step))
        for k in range(first, int(np.floor(unit.from_si(hot) / step)) + 1):
            T = unit.to_si(k * step)
            painter.setPen(QPen(t.color("ink", 0.13), 1))
            painter.drawLine(QPointF(x(T), boxes[0].top()), QPointF(x(T), bottom))
            painter.setPen(t.color("soft"))
            label = QRectF(x(T) - 24, bottom + _AIR - 6, 48, 16)
            painter.drawText(label, Qt.AlignmentFlag.AlignCenter, show_number(T, "temperature", units, digits=0))
        painter.drawText(QRectF(right + 8, bottom + _AIR - 6, 30, 16), Qt.AlignmentFlag.AlignLeft, unit.symbol)
        for i, (layer, box) in enumerate(zip(bed.layers, boxes, strict=True)):
            self._paint_rating(painter, box, layer.properties().rating, float(heat.peak[i]), x, hot, right)
        path = QPainterPath(QPointF(x(state.air), boxes[0].top() - _AIR + 8))
        path.cubicTo(
            QPointF(x(state.air), boxes[0].top() - 8), QPointF(x(state.surface), boxes[0].top() - 12),
            QPointF(x(state.surface), boxes[0].top()),
        )  # fmt: skip
        total = 0.0
        tops = []
        for layer in bed.layers:
            tops.append(total)
            total += layer.thickness
        for i, depth in enumerate(stack.depth):
            owner = int(stack.layer[i])
            box = boxes[owner]
            share = (float(depth) - tops[owner]) / bed.layers[owner].thickness
            path.lineTo(QPointF(x(float(state.cells[i])), box.top() + share * box.height()))
        path.lineTo(QPointF(x(state.underside), bottom))
        path.cubicTo(
            QPointF(x(state.underside), bottom + 12), QPointF(x(state.air), bottom + 8),
            QPointF(x(state.air), bottom + _AIR - 10),
        )  # fmt: skip
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(t.color("panel"), 5.5))
        painter.drawPath(path)
        painter.setPen(QPen(QColor(t.curves[0]), 2.6))
        painter.drawPath(path)
        painter.setFont(font(9.5, strong=True))
        painter.setPen(QColor(t.curves[0]))
        words = f"surface {show(state.surface, 'temperature', units)}"
        # beside the line, on the side that the way down to the air leaves free
        free_right = state.surface >= state.air and x(state.surface) + 150 < self.width()
        where = QRectF(x(state.surface) + (8 if free_right else -158), 4, 150, 18)
        painter.drawText(where, Qt.AlignmentFlag.AlignLeft if free_right else Qt.AlignmentFlag.AlignRight, words)
        painter.setPen(t.color("soft"))
        painter.setFont(font(8.5))
        place = "chamber" if self._document.project.rig.chamber.enclosed else "room"
        air = f"{place} {show(state.air, 'temperature', units, digits=0)}"
        painter.drawText(
            QRectF(10, bottom + 10, left - 20, 16),
            Qt.AlignmentFlag.AlignLeft,
            air + ", steady at the first-layer set point",
        )
        sensor = boxes[bed.layer_index(bed.sensor.layer)]
        truth = float(stack.sensor @ state.cells)
        spot = QPointF(x(truth), sensor.top() + bed.sensor.depth_fraction * sensor.height())
        painter.setPen(QPen(t.color("panel"), 2))
        painter.setBrush(t.color("accent"))
        painter.drawEllipse(spot, 6, 6)
        painter.setPen(t.color("ink"))
        where = QRectF(spot.x() - 174, spot.y() - 8, 160, 16)
        words = f"sensor {show(truth, 'temperature', units)}"
        painter.drawText(where, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, words)

    def _paint_rating(
        self, painter: QPainter, box: QRectF, rating: float, peak: float, x: object, hot: float, right: float
    ) -> None:
        t = self._theme
        assert t is not None
        units = self._document.units
        margin = self._document.project.rig.limits.layer_margin
        state = State.FAILS if peak > rating else State.MARGINAL if peak > rating - margin else State.HOLDS
        color = t.state_color(state) if state is not State.HOLDS else t.color("ink")
        painter.setPen(QPen(color, 2.0))
        painter.setFont(font(8.3, strong=state is not State.HOLDS))
        words = f"rated {show(rating, 'temperature', units, digits=0)}"
        if rating < hot - 3:
            at = x(rating)  # type: ignore[operator]
            painter.drawLine(QPointF(at, box.top() + 3), QPointF(at, box.bottom() - 3))
        else:
            words += " →"
        area = QRectF(right + 4, box.center().y() - 8, _RATINGS - 10, 16)
        painter.drawText(area, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, words)
