"""Printed lines of the first layer cut across, as they should look to the eye at the machine: apart, as meant, piled up."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Final

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPainterPath, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from mandorla.core.units import UnitPreferences, show
from mandorla.ui.plots.keeping import keepable
from mandorla.ui.theme.palette import Theme, font

if TYPE_CHECKING:
    from mandorla.core.results.types import LineLook

_LINES: Final = 4
_TEETH: Final = 14  # of a texture, per picture
_TALLER: Final = 1.6  # heights are drawn taller than widths, and it is said


class LineSections(QWidget):
    """One picture a place, beside each other, all to one scale."""

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumHeight(150)
        self.setAccessibleName("Lines of the first layer, cut across")
        keepable(self)
        self._looks: tuple[LineLook, ...] = ()
        self._theme: Theme | None = None
        self._units = UnitPreferences()
        self._texture = 0.0

    @property
    def words(self) -> tuple[str, ...]:
        """What is written under each picture."""
        return tuple(words_of(look, self._units) for look in self._looks)

    def show_looks(self, theme: Theme, units: UnitPreferences, looks: Sequence[LineLook], texture: float) -> None:
        """Draw the lines at some places on a texture (m deep)."""
        self._theme, self._units, self._looks, self._texture = theme, units, tuple(looks), texture
        self.setAccessibleDescription("; ".join(self.words))
        self.update()

    def paintEvent(self, _: QPaintEvent) -> None:
        """Draw."""
        if self._theme is None or not self._looks:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        each = self.width() / len(self._looks)
        span = (_LINES + 0.6) * self._looks[0].spacing
        scale = (each - 24) / span
        for n, look in enumerate(self._looks):
            self._draw(painter, look, QRectF(n * each + 12, 0, each - 24, self.height()), scale)
        painter.end()

    def _draw(self, painter: QPainter, look: LineLook, box: QRectF, scale: float) -> None:
        t = self._theme
        assert t is not None
        tall = _TALLER * scale
        plate = box.bottom() - 62
        line = t.color("fails" if look.apart else "marginal" if look.ridge > 0.2 * look.gap else "accent")
        fill = t.color("fails" if look.apart else "marginal" if look.ridge > 0.2 * look.gap else "accent", 0.28)
        height = look.gap * tall
        for k in range(_LINES):
            middle = box.left() + (k + 0.8) * look.spacing * scale
            width = look.width * scale
            body = QRectF(middle - width / 2, plate - height, width, height)
            painter.setPen(QPen(line, 1.6))
            painter.setBrush(fill)
            round_end = min(height, width) / 2
            painter.drawRoundedRect(body, round_end, round_end)
            if look.ridge > 0.05 * look.gap and k + 1 < _LINES:
                between = middle + 0.5 * look.spacing * scale
                half, top = 0.22 * look.spacing * scale, plate - height - 2.0 * look.ridge * tall
                painter.drawPolygon(
                    QPolygonF(
                        [
                            QPointF(between - half, plate - height),
                            QPointF(between, top),
                            QPointF(between + half, plate - height),
                        ]
                    )
                )
        painter.setPen(QPen(t.color("ink"), 1.4))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        depth = self._texture * tall
        path = QPainterPath(QPointF(box.left(), plate))
        for k in range(1, 2 * _TEETH + 1):
            path.lineTo(box.left() + k * box.width() / (2 * _TEETH), plate + (depth if k % 2 else 0.0))
        painter.drawPath(path)
        painter.setFont(font(9.0, strong=True))
        painter.setPen(t.color("ink"))
        text = QRectF(box.left() - 10, plate + depth + 4, box.width() + 20, 58)
        flags = Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap
        painter.drawText(text, int(flags), words_of(look, self._units))


def words_of(look: LineLook, units: UnitPreferences) -> str:
    """A place, its gap and what is seen there."""
    if look.apart:
        seen = "gaps between the lines"
    elif look.ridge > 0.2 * look.gap:
        seen = "ripples, the plate shows through"
    elif look.ridge > 0.05 * look.gap:
        seen = "pressed, smooth and shiny"
    elif math.isclose(look.ridge, 0.0) and look.contact < 0.5 * look.spacing:
        seen = "round, touching only just"
    else:
        seen = "closed, slightly flattened"
    return f"{look.where[0].upper()}{look.where[1:]}: {show(look.gap, 'length', units)}\n{seen}"
