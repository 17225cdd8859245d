"""The project's state code as a drawn mark: closed almond, half almond, parted arcs, outline."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from mandorla.core.failure.state import State

WORDS = {
    State.HOLDS: "holds",
    State.MARGINAL: "marginal",
    State.FAILS: "fails",
    State.NOT_COMPUTED: "not computed",
}


def _arc(rect: QRectF, side: float, gap: float = 0.0) -> QPainterPath:
    """One bow of the almond, standing upright; ``side`` -1 left, +1 right."""
    middle = rect.center().x() + side * gap
    path = QPainterPath(QPointF(middle, rect.top()))
    reach = side * rect.width() * 0.72
    path.quadTo(QPointF(middle + reach, rect.center().y()), QPointF(middle, rect.bottom()))
    return path


def paint_state(painter: QPainter, rect: QRectF, state: State, color: QColor) -> None:
    """Draw the mark of a state into a rectangle."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    pen = QPen(color, max(1.6, rect.height() / 11))
    pen.setCapStyle(Qt.PenCapStyle.RoundCap)
    painter.setPen(pen)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    left, right = _arc(rect, -1), _arc(rect, 1)
    if state is State.FAILS:
        gap = rect.width() * 0.2
        # parted: the bows turn their backs to each other
        painter.drawPath(_arc(rect, 1, -2.2 * gap))
        painter.drawPath(_arc(rect, -1, -2.2 * gap))
        painter.restore()
        return
    almond = QPainterPath(left)
    almond.connectPath(right.toReversed())
    if state is State.HOLDS:
        painter.setBrush(color)
        painter.drawPath(almond)
    elif state is State.MARGINAL:
        half = QPainterPath(left)
        half.closeSubpath()
        painter.setBrush(color)
        painter.drawPath(half)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(almond)
    else:
        pen.setStyle(Qt.PenStyle.DotLine)
        painter.setPen(pen)
        painter.drawPath(almond)
    painter.restore()


class StateMark(QWidget):
    """A small widget that shows one state."""

    def __init__(self, parent: QWidget | None = None, size: int = 18) -> None:
        super().__init__(parent)
        self._state = State.NOT_COMPUTED
        self._color = QColor("#888888")
        self._size = size
        self.setFixedSize(QSize(size, size))
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)

    def set_state(self, state: State, color: QColor) -> None:
        """Show a state in its colour."""
        self._state, self._color = state, color
        self.setAccessibleName(WORDS[state])
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the mark."""
        painter = QPainter(self)
        inset = self._size * 0.12
        paint_state(painter, QRectF(self.rect()).adjusted(inset, inset, -inset, -inset), self._state, self._color)
        painter.end()
