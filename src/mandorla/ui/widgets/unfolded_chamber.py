"""The chamber unfolded: its six panels to scale with how warm each is inside and what it lets through; a click picks one."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from mandorla.core.rig.chamber import SIDES
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.theme.temperature_map import temperature_colors

if TYPE_CHECKING:  # the numerics load after the first picture
    from mandorla.core.results.types import Evaluation

_GAP = 7.0


class ChamberNet(QWidget):
    """Roof, back, floor and front in a column, left and right beside the floor; arrow keys and clicks pick a panel."""

    picked = Signal(str)

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        self._theme: Theme | None = None
        self._evaluation: Evaluation | None = None
        self._side = "front"
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("The chamber's panels, unfolded")
        self.setMinimumSize(420, 330)
        document.project_changed.connect(self.update)

    @property
    def side(self) -> str:
        """The picked panel."""
        return self._side

    def show_evaluation(self, evaluation: Evaluation | None, theme: Theme) -> None:
        """Draw with the newest temperatures."""
        self._evaluation, self._theme = evaluation, theme
        self.update()

    def boxes(self) -> dict[str, QRectF]:
        """Where each panel is drawn: the floor in the middle, its four neighbours folded out, the roof above the back."""
        c = self._document.project.rig.chamber
        room = QRectF(self.rect()).adjusted(10, 8, -10, -30)
        wide, high = c.width + 2 * c.height, c.depth + 2 * c.height
        scale = min((room.width() - 2 * _GAP) / (wide + c.width), (room.height() - 2 * _GAP) / high)
        w, d, h = c.width * scale, c.depth * scale, c.height * scale
        left = room.center().x() - (wide + c.width) * scale / 2 - _GAP
        top = room.center().y() - high * scale / 2 - _GAP
        x, y = left + h + _GAP, top + h + _GAP
        return {
            "back": QRectF(x, top, w, h),
            "floor": QRectF(x, y, w, d),
            "front": QRectF(x, y + d + _GAP, w, h),
            "left": QRectF(left, y, h, d),
            "right": QRectF(x + w + _GAP, y, h, d),
            "roof": QRectF(x + w + h + 2 * _GAP, y, w, d),
        }

    def _color(self, inside: float, low: float, high: float) -> QColor:
        r, g, b = temperature_colors()[int(255 * min(max((inside - low) / max(high - low, 1.0), 0.0), 1.0))]
        return QColor(int(r), int(g), int(b))

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the net."""
        t = self._theme
        if t is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        rig, units = self._document.project.rig, self._document.units
        if not rig.chamber.enclosed:
            painter.setPen(t.color("soft"))
            painter.setFont(font(11.0))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "An open frame: the bed stands in the room.")
            painter.end()
            return
        steady = self._evaluation.heat.steady if self._evaluation is not None else None
        for side, box in self.boxes().items():
            index = SIDES.index(side)
            panel = getattr(rig.chamber.panels, side)
            mine = side == self._side
            painter.setBrush(t.color("ink", 0.05))
            painter.setPen(QPen(t.color("accent") if mine else t.color("line"), 3.0 if mine else 1.2))
            painter.drawRoundedRect(box, 4, 4)
            lines = [side.capitalize()]
            if steady is not None:
                inside, flow = float(steady.panel_inside[index]), float(steady.panel_flow[index])
                stripe = QRectF(box.left() + 5, box.top() + 5, 7, box.height() - 10)
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(self._color(inside, rig.start_temperature, max(steady.air, steady.lower_air)))
                painter.drawRoundedRect(stripe, 3, 3)
                lines += [show(inside, "temperature", units, digits=0), show(flow, "power", units)]
            thin = " + ".join(_short(layer.material) for layer in panel.layers) + (" + foil" if panel.foil else "")
            self._write(painter, t, box, lines, thin)
        if steady is not None:
            painter.setPen(t.color("soft"))
            painter.setFont(font(9.0))
            text = (
                f"air above the bed {show(steady.air, 'temperature', units)}, below {show(steady.lower_air, 'temperature', units)}"
                f" · each panel: inside face and heat let through, soaked"
            )
            painter.drawText(
                QRectF(self.rect()).adjusted(0, self.height() - 24, 0, 0), Qt.AlignmentFlag.AlignCenter, text
            )
        painter.end()

    def _write(self, painter: QPainter, t: Theme, box: QRectF, lines: list[str], thin: str) -> None:
        painter.setPen(t.color("ink"))
        y = box.center().y() - 9.0 * len(lines) - 8
        for k, line in enumerate(lines):
            painter.setFont(font(9.5, strong=k == 0))
            painter.drawText(QRectF(box.left() + 14, y, box.width() - 16, 18), Qt.AlignmentFlag.AlignCenter, line)
            y += 18
        painter.setFont(font(8.0))
        painter.setPen(t.color("soft"))
        painter.drawText(QRectF(box.left() + 14, y, box.width() - 16, 30),
                         Qt.AlignmentFlag.AlignHCenter | Qt.TextFlag.TextWordWrap, thin)  # fmt: skip

    def pick(self, side: str) -> None:
        """Pick a panel."""
        self._side = side
        self.picked.emit(side)
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Pick the panel under the mouse."""
        self.setFocus()
        at = QPointF(event.position())
        for side, box in self.boxes().items():
            if box.contains(at):
                self.pick(side)
                return

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Arrow keys go through the panels."""
        step = {Qt.Key.Key_Right: 1, Qt.Key.Key_Down: 1, Qt.Key.Key_Left: -1, Qt.Key.Key_Up: -1}.get(
            Qt.Key(event.key())
        )
        if step is None:
            super().keyPressEvent(event)
            return
        self.pick(SIDES[(SIDES.index(self._side) + step) % len(SIDES)])


def _short(material: str) -> str:
    """A wall material in a word."""
    return material.split("_")[-1]
