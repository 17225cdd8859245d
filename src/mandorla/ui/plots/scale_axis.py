"""A plot's scale that is written straight to the picture, all lines of a pen at once, without a third grid that nobody sees."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QLineF
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QStyleOptionGraphicsItem, QWidget


class ScaleAxis(pg.AxisItem):
    """One side's scale. What it draws is worked out once for a range and a size; the base class recorded it and played it back,
    which made every figure's font anew and drew line by line."""

    def __init__(self, side: str) -> None:
        super().__init__(side)
        self.setStyle(maxTickLevel=1)
        self.picture: Any = None

    def paint(self, p: QPainter, option: QStyleOptionGraphicsItem, widget: QWidget | None) -> None:
        """Lines and figures; the base class forgets ``picture`` whenever they change."""
        p.save()
        try:
            if self.picture is None:
                specs = self.generateDrawSpecs(p)
                self.picture = () if specs is None else (specs, _by_pen(specs[1]))
            if self.picture:
                (axis, _, texts), ticks = self.picture
                p.setRenderHint(QPainter.RenderHint.Antialiasing, False)
                for pen, lines in ticks:
                    p.setPen(pen)
                    p.drawLines(lines)
                self.drawPicture(p, axis, (), texts)
        finally:
            p.restore()


def _by_pen(ticks: list[tuple[QPen, pg.Point, pg.Point]]) -> list[tuple[QPen, list[QLineF]]]:
    """The lines of each pen, in the order in which they come."""
    found: list[tuple[QPen, list[QLineF]]] = []
    for pen, start, end in ticks:
        if not found or found[-1][0] != pen:
            found.append((pen, []))
        found[-1][1].append(QLineF(start, end))
    return found


def scales() -> dict[str, ScaleAxis]:
    """The scales of a plot."""
    return {side: ScaleAxis(side) for side in ("left", "bottom")}


def unscaled(axis: pg.AxisItem) -> None:
    """Let the figures at an axis be what they are: small ones were multiplied by a thousand without a word, prefix or not."""
    axis.setSIPrefixEnableRanges(((np.inf, np.inf),))
    axis.enableAutoSIPrefix(False)
