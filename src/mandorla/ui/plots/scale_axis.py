"""A plot's scale that is written straight to the picture, all lines of a pen at once, without a third grid that nobody sees."""

from __future__ import annotations

from typing import Any, Final

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QLineF
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QStyleOptionGraphicsItem, QWidget

_BELOW: Final = -100.0


class ScaleAxis(pg.AxisItem):
    """One side's scale. What it draws is worked out once for a range and a size; the base class recorded it and played it back,
    which made every figure's font anew and drew line by line."""

    def __init__(self, side: str) -> None:
        super().__init__(side)
        self.setStyle(maxTickLevel=1)
        self.picture: Any = None

    def setZValue(self, _: float) -> None:
        """Below all that is drawn on it, whatever the plot would have."""
        super().setZValue(_BELOW)

    def paint(self, p: QPainter, option: QStyleOptionGraphicsItem, widget: QWidget | None) -> None:
        """Lines and figures; the base class forgets ``picture`` whenever they change."""
        p.save()
        try:
            if self.picture is None:
                specs = self.generateDrawSpecs(p)
                self.picture = () if specs is None else (specs, _by_pen(specs[1], self._behind()))
            if self.picture:
                (axis, _, texts), ticks = self.picture
                p.setRenderHint(QPainter.RenderHint.Antialiasing, False)
                for pen, lines in ticks:
                    p.setPen(pen)
                    p.drawLines(lines)
                self.drawPicture(p, axis, (), texts)
        finally:
            p.restore()

    def _behind(self) -> QColor | None:
        """The colour that a scale's lines lie on: nothing is drawn before them."""
        view = self.getViewWidget()
        return None if view is None else view.backgroundBrush().color()


def _by_pen(ticks: list[tuple[QPen, pg.Point, pg.Point]], behind: QColor | None) -> list[tuple[QPen, list[QLineF]]]:
    """The lines of each pen, in the order in which they come, in the colours that they have on what is ``behind``: lines that let
    it shine through take five times as long to draw."""
    found: list[tuple[QPen, list[QLineF]]] = []
    of: QPen | None = None
    for pen, start, end in ticks:
        if of is None or of != pen:
            of = pen
            found.append((pen if behind is None else _opaque(pen, behind), []))
        found[-1][1].append(QLineF(start, end))
    return found


def _opaque(pen: QPen, behind: QColor) -> QPen:
    """A pen that draws on a colour as another one does that lets it shine through."""
    own, found = pen.color(), QPen(pen)
    a = own.alphaF()
    pairs = ((own.redF(), behind.redF()), (own.greenF(), behind.greenF()), (own.blueF(), behind.blueF()))
    found.setColor(QColor.fromRgbF(*(a * front + (1.0 - a) * back for front, back in pairs)))
    return found


def scales() -> dict[str, ScaleAxis]:
    """The scales of a plot."""
    return {side: ScaleAxis(side) for side in ("left", "bottom")}


def unscaled(axis: pg.AxisItem) -> None:
    """Let the figures at an axis be what they are: small ones were multiplied by a thousand without a word, prefix or not."""
    axis.setSIPrefixEnableRanges(((np.inf, np.inf),))
    axis.enableAutoSIPrefix(False)
