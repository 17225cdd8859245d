"""Names written on curves, where they touch neither each other nor a curve nor a line's own text."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import QRectF

Floats = NDArray[np.float64]

_GAP: Final = 3.0  # px between a name and its curve
_PLACES: Final = 41  # along a curve that are tried
_FINE: Final = 400  # points of a curve that are looked at
_FAR: Final = 40.0  # px, what a step away from where it was meant costs beside a touch


@dataclass(frozen=True, slots=True)
class _Name:
    text: pg.TextItem
    words: str
    x: Floats
    y: Floats
    wanted: float
    beside: bool
    first: bool


class CurveNames:
    """The names of a plot's curves, placed anew whenever its range or size changes."""

    def __init__(self, plot: pg.PlotWidget) -> None:
        self._plot = plot
        self._names: list[_Name] = []

    def forget(self) -> None:
        """Begin a new picture."""
        self._names = []

    def add(self, text: pg.TextItem, x: Floats, y: Floats, wanted: float, *, beside: bool, first: bool) -> None:
        """A name for a curve, best at a share of its length: above or below, or ``beside`` one that stands upright; ``first``:
        rather above, or at the right."""
        good = np.isfinite(x) & np.isfinite(y)
        if good.any():
            self._names.append(_Name(text, text.toPlainText(), x[good], y[good], wanted, beside, first))

    def place(self, curves: list[tuple[Floats, Floats]]) -> int:
        """Put every name where it touches least, nearest to where it is meant; how many touch something all the same."""
        box = self._plot.getPlotItem().getViewBox()
        room = box.sceneBoundingRect()
        if room.width() < 20.0 or room.height() < 20.0:
            return 0
        inked = [self._pixels(box, x, y) for x, y in curves]
        taken = self._lines(box, room, inked)
        ink = np.concatenate(inked) if inked else np.zeros((0, 2))
        crowded = 0
        for name in self._names:
            rect, touches = self._broken_where_narrow(box, room, name, ink, taken)
            crowded += touches > 0
            taken.append(rect)
            name.text.setPos(box.mapSceneToView(rect.topLeft()))
        return crowded

    def _broken_where_narrow(
        self, box: pg.ViewBox, room: QRectF, name: _Name, ink: Floats, taken: list[QRectF]
    ) -> tuple[QRectF, int]:
        """The name on one line, or on two or more where it touches less so."""
        words = name.words.split(" ")
        forms = [
            name.words,
            *(f"{' '.join(words[:k])}\n{' '.join(words[k:])}" for k in range(1, len(words))),
            "\n".join(words),
        ]
        tried = []
        for form in forms:
            name.text.setPlainText(form)
            tried.append((*self._best(box, room, name, ink, taken), form))
            if not tried[-1][1]:
                break
        rect, touches, form = min(tried, key=lambda t: t[1])
        name.text.setPlainText(form)
        return rect, touches

    def rects(self) -> list[QRectF]:
        """Where the names are written, in the scene."""
        return [n.text.mapRectToScene(n.text.boundingRect()) for n in self._names]

    def _pixels(self, box: pg.ViewBox, x: Floats, y: Floats) -> Floats:
        """A curve in the scene (k, 2), close enough together to be hit."""
        good = np.isfinite(x) & np.isfinite(y)
        at = self._to_scene(box, x[good], y[good])
        if len(at) < 2:
            return at
        steps = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(at, axis=0).T))])
        fine = np.linspace(0.0, steps[-1], max(_FINE, int(steps[-1] / 2.0)))
        return np.stack([np.interp(fine, steps, at[:, 0]), np.interp(fine, steps, at[:, 1])], axis=1)

    def _to_scene(self, box: pg.ViewBox, x: Floats, y: Floats) -> Floats:
        (left, right), (low, high) = box.viewRange()
        room = box.sceneBoundingRect()
        across = room.left() + (x - left) / max(right - left, 1e-12) * room.width()
        down = room.bottom() - (y - low) / max(high - low, 1e-12) * room.height()
        return np.stack([across, down], axis=1)

    def _lines(self, box: pg.ViewBox, room: QRectF, inked: list[Floats]) -> list[QRectF]:
        """Texts of reference lines: a lying one's goes below it where there is no room above, a standing one's along it to where
        it covers no other; the lines themselves are added to what is drawn."""
        texts: list[QRectF] = []
        for item in self._plot.getPlotItem().items:
            if not isinstance(item, pg.InfiniteLine) or not item.isVisible():
                continue
            label = getattr(item, "label", None)
            if label is None:
                continue
            texts.append(_settled(item, label, room, texts))
            ends = np.linspace(0.0, 1.0, _FINE)[:, None]
            at = self._to_scene(box, np.array([item.value()]), np.array([item.value()]))[0]
            if item.angle == 90:
                one, other = np.array([at[0], room.top()]), np.array([at[0], room.bottom()])
            else:
                one, other = np.array([room.left(), at[1]]), np.array([room.right(), at[1]])
            inked.append(one + ends * (other - one))
        return texts

    def _best(self, box: pg.ViewBox, room: QRectF, name: _Name, ink: Floats, taken: list[QRectF]) -> tuple[QRectF, int]:
        size = name.text.mapRectToScene(name.text.boundingRect())
        wide, high = size.width(), size.height()
        own = self._pixels(box, name.x, name.y)
        shares = np.linspace(0.0, 1.0, _PLACES)
        texts = np.array([(t.left(), t.top(), t.right(), t.bottom()) for t in taken]).reshape(-1, 4)
        ways = _ways(wide, high, beside=name.beside, first=name.first)
        ranks = np.arange(len(ways))
        least = np.array([room.left(), room.top()])
        most = np.maximum(np.array([room.right() - wide, room.bottom() - high]), least)
        best: tuple[float, QRectF, int] | None = None
        for share in sorted(shares, key=lambda s: abs(s - name.wanted)):
            corners = np.clip(own[int(share * (len(own) - 1))] + ways, least, most)
            hits = _touches(corners, (wide, high), ink, texts)
            costs = hits + (abs(share - name.wanted) * _FAR + ranks) * 1e-3
            k = int(np.argmin(costs))
            if best is None or costs[k] < best[0]:
                best = float(costs[k]), QRectF(float(corners[k, 0]), float(corners[k, 1]), wide, high), int(hits[k])
            if best[2] == 0:
                break
        assert best is not None
        return best[1], best[2]


def _ways(wide: float, high: float, *, beside: bool, first: bool) -> Floats:
    """Where the upper left corner of a name may lie from a point of its curve (8, 2), the best first."""
    above, below = (-0.5 * wide, -high - _GAP), (-0.5 * wide, _GAP)
    right, left = (_GAP, -0.5 * high), (-wide - _GAP, -0.5 * high)
    ways = [right, left, above, below] if beside else [above, below, right, left]
    if not first:
        ways = [ways[1], ways[0], *ways[2:]]
    beside_a_slope = [(dx, dy) for dx in (-wide - _GAP, _GAP) for dy in (-high - _GAP, _GAP)]
    return np.array(ways + beside_a_slope)


def _settled(line: pg.InfiniteLine, label: pg.InfLineLabel, room: QRectF, others: list[QRectF]) -> QRectF:
    """Put a reference line's text inside the plot, where it covers no other text; where it is now."""

    def rect() -> QRectF:
        label.updatePosition()
        return QRectF(label.mapRectToScene(label.boundingRect()))

    if line.angle != 90:
        for down in (1.0, 0.0):
            label.anchors = [(0.0, down), (0.0, down)]
            if rect().top() >= room.top() and not any(rect().intersects(o) for o in others):
                break
        return rect()
    high = rect().height() / max(room.height(), 1.0)
    for place in (label.orthoPos, *np.arange(1.0 - 0.55 * high, 0.5 * high, -0.5 * high)):
        label.orthoPos = float(place)
        at = rect()
        if (
            at.top() >= room.top() - 1.0
            and at.bottom() <= room.bottom() + 1.0
            and not any(at.intersects(o) for o in others)
        ):
            break
    return rect()


def _touches(corners: Floats, size: tuple[float, float], ink: Floats, texts: Floats) -> NDArray[np.int64]:
    """How many points of curves (n, 2) lie in each of some rectangles (k,) of one size (their margin is air), a hundred for each of
    the texts (m, 4) that it would cover."""
    left, top = corners[:, :1], corners[:, 1:]
    right, bottom = left + size[0], top + size[1]
    x, y = ink[:, 0], ink[:, 1]
    inside = (x > left + 1.0) & (x < right - 1.0) & (y > top + 2.0) & (y < bottom - 2.0)
    covers = (texts[:, 0] < right) & (texts[:, 2] > left) & (texts[:, 1] < bottom) & (texts[:, 3] > top)
    return np.asarray(inside.sum(axis=1) + 100 * covers.sum(axis=1))
