"""The map of an operating window: what the part needs, what machine, plate and polymer stand; the almond between."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Final

import contourpy
import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QBrush, QColor, QKeyEvent, QPainter, QPainterPath, QPen
from PySide6.QtWidgets import QGraphicsPathItem, QStyleOptionGraphicsItem, QWidget

from mandorla.core.failure.messages import margin_text, probability_text
from mandorla.core.failure.state import State
from mandorla.core.units import UnitPreferences, show, show_duration
from mandorla.ui.plots.keeping import keepable
from mandorla.ui.plots.scale_axis import scales
from mandorla.ui.theme.palette import Theme, font


def region_path(x: np.ndarray, y: np.ndarray, level: np.ndarray) -> QPainterPath:
    """Outline of where a field is at or above zero, as a filled path that closes along the map's border."""
    clipped = np.clip(level / max(float(np.median(np.abs(level))), 1e-9), -3.0, 3.0)
    padded = np.pad(clipped, 1, constant_values=-1e-3)
    dx, dy = x[1] - x[0], y[1] - y[0]
    px = np.concatenate([[x[0] - dx * 0.02], x, [x[-1] + dx * 0.02]])
    py = np.concatenate([[y[0] - dy * 0.02], y, [y[-1] + dy * 0.02]])
    path = QPainterPath()
    path.setFillRule(Qt.FillRule.OddEvenFill)
    for found in contourpy.contour_generator(px, py, padded).lines(0.0):
        line = np.asarray(found)
        path.moveTo(QPointF(float(line[0, 0]), float(line[0, 1])))
        for along, up in line[1:]:
            path.lineTo(QPointF(float(along), float(up)))
        path.closeSubpath()
    return path


if TYPE_CHECKING:
    from mandorla.core.results.types import Axis, Point, SimulatedPoint, Window

CONTOURS: Final = {"energy": "Energy", "duration": "Hours", "cost": "Cost of a good part"}
_CHANCES: Final = (0.1, 0.5, 0.9)
_SPOT: Final = 8.0  # px about a mark that no word covers
_NAME_WIDE: Final = 0.27  # of the map's width, and of its height, that the name beside a mark takes
_NAME_HIGH: Final = 0.07
_LEAST_EDGE: Final = 0.12  # of the map's size that an edge has to be long to be named


class Hatched(QGraphicsPathItem):
    """A path whose brush keeps its pattern as it is on the screen, however the map is stretched."""

    def paint(self, painter: QPainter, option: QStyleOptionGraphicsItem, widget: QWidget | None = None) -> None:
        """Paint it with the pattern as wide as on the screen."""
        brush, stretched = self.brush(), painter.worldTransform()
        back, possible = stretched.inverted()
        if possible:
            brush.setTransform(back)
            painter.fillPath(self.path(), brush)


class AlmondMap(pg.PlotWidget):
    """A click on the map moves the settings, arrow keys by a step of an axis."""

    picked = Signal(float, float)

    def __init__(self) -> None:
        super().__init__(axisItems=scales())
        keepable(self)
        item = self.getPlotItem()
        item.setMenuEnabled(False)
        item.hideButtons()
        item.setMouseEnabled(x=False, y=False)
        item.getViewBox().setDefaultPadding(0.0)
        item.layout.setContentsMargins(0, 8, 8, 0)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.scene().sigMouseClicked.connect(self._on_click)
        self.scene().sigMouseMoved.connect(self.hover)
        self._window: Window | None = None
        self._offered: dict[str, Point] = {}
        self._runs: Sequence[tuple[float, float, State]] = ()
        self._titles: Mapping[str, str] = {}
        self._contours, self._currency = "energy", "€"
        self._units = UnitPreferences()
        self._readout = pg.TextItem()
        self._now: list[pg.GraphicsObject] = []
        self._words: list[tuple[int, pg.TextItem, list[tuple[float, float]]]] = []
        self._spots: list[tuple[float, float]] = []  # of marks, which no word may cover
        item.getViewBox().sigResized.connect(self._make_room)
        item.getViewBox().sigTransformChanged.connect(self._make_room)

    def show_window(
        self, window: Window, theme: Theme, units: UnitPreferences, offered: Mapping[str, Point] | None = None, *,
        runs: Sequence[SimulatedPoint] = (), titles: Mapping[str, str] | None = None, contours: str = "energy", currency: str = "€",
    ) -> None:  # fmt: skip
        """Draw a computed window with the points that are offered, by key, and those that were simulated in full; ``titles`` of
        the ways to fail name its edges."""
        self._offered, self._titles = dict(offered or {}), titles or {}
        self._window, self._units, self._contours, self._currency = window, units, contours, currency
        self._runs = window.places_of(runs)
        x_axis, y_axis = window.axes
        self.setAccessibleName(f"Operating window, {x_axis.title} against {y_axis.title}")
        self.clear()
        self._words.clear()
        self._spots.clear()
        self._now.clear()
        self.setBackground(QColor(theme.panel))
        x, y = (self._shown(a, v) for a, v in zip(window.axes, (window.x, window.y), strict=True))
        for side, a in (("bottom", x_axis), ("left", y_axis)):
            symbol, axis = units.unit(a.kind).symbol, self.getAxis(side)
            axis.setPen(theme.color("line"))
            axis.setTextPen(theme.color("soft"))
            axis.setTickFont(font(9.5))
            axis.setLabel(f"{a.title} ({symbol})" if symbol else a.title, color=theme.soft)
        for field, color in (
            (window.part_level, theme.color("need")),
            (window.machine_level, theme.color("stand")),
        ):
            path = region_path(x, y, field)
            wash = QColor(color)
            wash.setAlphaF(0.16)
            self._add_path(path, QPen(Qt.PenStyle.NoPen), wash)
            edge = QPen(color, 2.0)
            edge.setCosmetic(True)
            self._add_path(path, edge, None)
        if window.almond.any():
            almond = region_path(x, y, window.level)
            fill = theme.color("almond", 0.62)
            pen = QPen(theme.color("almond"), 3.0)
            pen.setCosmetic(True)
            self._add_path(almond, pen, fill)
            self._name_edges(x, y, window, theme)
        self._add_doubt(x, y, window, theme)
        self._add_chances(x, y, window, theme)
        self._add_contours(x, y, window, theme)
        self._add_passive(x, window, theme)
        self._add_names(x, y, window, theme)
        self._add_runs(window, theme)
        self._add_marks(window, theme)
        self._readout = pg.TextItem(
            anchor=(0, 1), color=theme.ink, fill=theme.color("raised", 0.94), border=theme.color("line")
        )
        self._readout.setFont(font(9.0))
        self._readout.setZValue(60)
        self._readout.hide()
        self.addItem(self._readout, ignoreBounds=True)
        self.setXRange(float(x[0]), float(x[-1]), padding=0)
        self.setYRange(float(y[0]), float(y[-1]), padding=0)
        self._make_room()

    @property
    def window(self) -> Window | None:
        """What is drawn; None before anything is."""
        return self._window

    def move_present(self, x: float, y: float) -> None:
        """Move the present point at once, while the map for it is on its way."""
        if self._window is None:
            return
        px, py = (self._shown(a, np.array([v]))[0] for a, v in zip(self._window.axes, (x, y), strict=True))
        for item in self._now:
            if isinstance(item, pg.ScatterPlotItem):
                item.setData([px], [py])
            else:
                item.setPos(px, py)
                for _, text, places in self._words:
                    if text is item:
                        places[:] = [(float(px), float(py))]

    @property
    def present_at(self) -> tuple[float, float] | None:
        """Where the present point is drawn, as the axes show it."""
        drawn = next((item for item in self._now if isinstance(item, pg.ScatterPlotItem)), None)
        return None if drawn is None else (float(drawn.data["x"][0]), float(drawn.data["y"][0]))

    def _shown(self, axis: Axis, values: np.ndarray) -> np.ndarray:
        """SI values as the axis shows them."""
        unit = self._units.unit(axis.kind)
        return np.array([unit.from_si(float(v)) for v in values])

    def _add_words(self, text: pg.TextItem, rank: int, *places: tuple[float, float]) -> None:
        """Write words at the first of some places that is free; where none is, the lower rank is the one that stays."""
        text.setPos(*places[0])
        self.addItem(text, ignoreBounds=True)
        self._words.append((rank, text, list(places)))

    def _make_room(self, _: object = None) -> None:
        """Move words into the map and to where they cover nothing; hide those that would cover others that say more."""
        box = self.getPlotItem().getViewBox()
        inside = box.sceneBoundingRect()
        taken = [
            QRectF(-_SPOT, -_SPOT, 2 * _SPOT, 2 * _SPOT).translated(box.mapViewToScene(QPointF(*at)))
            for at in self._spots
        ]
        for rank, text, places in sorted(self._words, key=lambda w: w[0]):
            text.setVisible(True)
            for place in places:
                text.setPos(*place)
                text.updateTransform(force=True)
                rect = text.mapRectToScene(text.boundingRect())
                over = max(rect.right() - inside.right(), 0.0) + min(rect.left() - inside.left(), 0.0)
                if over and rect.width() < inside.width():
                    step = box.mapSceneToView(QPointF(over, 0.0)).x() - box.mapSceneToView(QPointF(0.0, 0.0)).x()
                    text.setPos(text.pos().x() - step, text.pos().y())
                    rect.translate(-over, 0.0)
                free = rank == 0 or not any(rect.intersects(other) for other in taken)
                if free:
                    break
            text.setVisible(free)
            if free:
                taken.append(rect)

    def _add_path(self, path: QPainterPath, pen: QPen, fill: QColor | None) -> None:
        item = QGraphicsPathItem(path)
        item.setPen(pen)
        if fill is not None:
            item.setBrush(fill)
        self.addItem(item, ignoreBounds=True)

    def _add_doubt(self, x: np.ndarray, y: np.ndarray, window: Window, theme: Theme) -> None:
        """Hatch where a full simulation may say otherwise than the map."""
        if not window.not_sure.any():
            return
        hatch = Hatched(region_path(x, y, window.doubt_level))
        hatch.setPen(QPen(Qt.PenStyle.NoPen))
        hatch.setBrush(QBrush(theme.color("ink", 0.28), Qt.BrushStyle.BDiagPattern))
        self.addItem(hatch, ignoreBounds=True)

    def _add_chances(self, x: np.ndarray, y: np.ndarray, window: Window, theme: Theme) -> None:
        """Where the chance that anything fails is 10, 50 and 90 %."""
        generator = contourpy.contour_generator(x, y, window.chance)
        for chance in _CHANCES:
            lines = [np.asarray(line) for line in generator.lines(chance)]
            pen = pg.mkPen(theme.color("fails", 0.75), width=1.1)
            for line in lines:
                if len(line) > 5:
                    self.plot(line[:, 0], line[:, 1], pen=pen, antialias=True)
            longest = max(lines, key=len, default=None)
            if longest is not None and len(longest) > 12:
                text = pg.TextItem(
                    f"{100 * chance:.0f} %",
                    color=theme.color("fails"),
                    anchor=(0.5, 0.5),
                    fill=theme.color("panel", 0.7),
                )
                text.setFont(font(8.3, strong=True))
                self._add_words(
                    text,
                    2,
                    *[(float(longest[k][0]), float(longest[k][1])) for k in _along(len(longest), 0.2 + 0.3 * chance)],
                )

    def _name_edges(self, x: np.ndarray, y: np.ndarray, window: Window, theme: Theme) -> None:
        """What gives out at each edge of the almond: named where the edge that it makes is longest."""
        found: dict[str, list[tuple[float, float, float]]] = {}
        for line in contourpy.contour_generator(x, y, np.clip(window.level, -2.0, 2.0)).lines(0.0):
            points = np.asarray(line)
            scaled = points / np.array([np.ptp(x), np.ptp(y)])
            lengths = np.hypot(*np.diff(scaled, axis=0).T)
            for (px, py), length in zip(0.5 * (points[1:] + points[:-1]), lengths, strict=True):
                i, j = int(np.argmin(np.abs(y - py))), int(np.argmin(np.abs(x - px)))
                way = window.ways[int(window.tightest[i, j])]
                found.setdefault(way, []).append((float(px), float(py), float(length)))
        for way, places in found.items():
            if sum(p[2] for p in places) < _LEAST_EDGE:
                continue
            text = pg.TextItem(
                self._titles.get(way, way).lower(), color=theme.ink, anchor=(0.5, 0.5), fill=theme.color("panel", 0.8)
            )
            text.setFont(font(8.6))
            self._add_words(text, 1, *[places[k][:2] for k in _along(len(places), 0.5)])

    def _add_contours(self, x: np.ndarray, y: np.ndarray, window: Window, theme: Theme) -> None:
        """Dotted lines of energy, hours or the cost of a good part."""
        values, words = {
            "energy": (window.energy / 3.6e6, "{} kWh"), "duration": (window.duration / 3600.0, "{} h"),
            "cost": (window.cost, "{} " + self._currency),
        }[self._contours]  # fmt: skip
        # what fails nearly always has no price worth a line
        values = np.where(window.chance < 0.95, values, np.nan) if self._contours == "cost" else values
        if not np.isfinite(values).any() or np.nanmax(values) - np.nanmin(values) < 1e-3 * abs(np.nanmax(values)):
            return
        levels = np.linspace(np.nanmin(values), np.nanmax(values), 7)[1:-1]
        step = 10.0 ** np.floor(np.log10(max(levels[-1], 1e-6))) / 10
        generator = contourpy.contour_generator(x, y, np.ma.masked_invalid(values))
        for level in sorted({float(round(v / step) * step) for v in levels}):
            lines = [np.asarray(line) for line in generator.lines(level)]
            for line in lines:
                if len(line) < 6:
                    continue
                self.plot(
                    line[:, 0], line[:, 1], pen=pg.mkPen(theme.color("ink", 0.45), width=1.0, style=Qt.PenStyle.DotLine)
                )
            longest = max(lines, key=len, default=None)
            if longest is not None and len(longest) > 8:
                place = (
                    longest[int(0.9 * len(longest))]
                    if longest[0][0] < longest[-1][0]
                    else longest[int(0.1 * len(longest))]
                )
                text = pg.TextItem(
                    words.format(f"{level:.3g}"),
                    color=theme.color("soft"),
                    anchor=(0.5, 0.5),
                    fill=theme.color("panel", 0.7),
                )
                text.setFont(font(8.3))
                self._add_words(text, 3, (float(np.clip(place[0], x[2], x[-3])), float(np.clip(place[1], y[2], y[-3]))))

    def _add_passive(self, x: np.ndarray, window: Window, theme: Theme) -> None:
        if window.passive is None:
            return
        passive = self._shown(window.axes[1], window.passive)
        self.plot(
            x, passive, pen=pg.mkPen(theme.color("ink", 0.7), width=1.4, style=Qt.PenStyle.DashLine), antialias=True
        )
        words = "the chamber by the bed alone" if window.heated else "the room as it is: what can be had"
        text = pg.TextItem(words, color=theme.color("ink"), anchor=(1.0, 1.0))
        text.setFont(font(8.5))
        self._add_words(text, 2, (float(x[-1]), float(passive[-1])))

    def _add_runs(self, window: Window, theme: Theme) -> None:
        """Points that were simulated in full: squares, filled where they hold."""
        for px, py, state in self._runs:
            sx, sy = (self._shown(a, np.array([v])) for a, v in zip(window.axes, (px, py), strict=True))
            color = theme.state_color(state)
            fill = QColor(color) if state is State.HOLDS else QColor(theme.panel)
            self.addItem(
                pg.ScatterPlotItem(sx, sy, symbol="s", size=9, brush=fill, pen=pg.mkPen(color, width=1.8)),
                ignoreBounds=True,
            )

    def _add_names(self, x: np.ndarray, y: np.ndarray, window: Window, theme: Theme) -> None:
        # names keep clear of the line that runs across the map
        clear = np.ones_like(window.almond)
        if window.passive is not None:
            clear = np.abs(window.y[:, None] - window.passive[None, :]) > 0.08 * np.ptp(window.y)
        for field, words, color in (
            (window.part_ok & ~window.almond, "what the part needs", theme.need),
            (window.machine_ok & ~window.almond, "what machine, plate\nand polymer allow", theme.stand),
            (window.almond, "" if self._offered else "holds", theme.ink),
        ):
            if not words or field.sum() < 60:
                continue
            i, j = _deepest(field & clear if (field & clear).sum() > 60 else field)
            text = pg.TextItem(words, color=color, anchor=(0.5, 0.5))
            text.setFont(font(10.5, strong=True))
            self._add_words(text, 1, (float(x[j]), float(y[i])))

    def _add_marks(self, window: Window, theme: Theme) -> None:
        # each name has a side of its own, so that marks may lie close together
        marks: list[tuple[Point | None, str, str, str, tuple[float, float]]] = [
            (self._offered.get("nearest"), "d", theme.accent, "smallest change", (-0.18, 0.5)),
            (self._offered.get("cheapest"), "t", theme.holds, "cheapest", (0.5, -0.55)),
            (window.present, "o", theme.ink, "now", (0.5, 1.55)),
        ]
        low, high = self._shown(window.axes[1], window.y[[0, -1]])
        nearest, others = marks[0][0], [p for p in (marks[1][0], window.present) if p is not None]
        wide, tall = float(np.ptp(window.x)), float(np.ptp(window.y))
        if nearest is not None and any(
            0.0 <= other.x - nearest.x < _NAME_WIDE * wide
            and abs(window.shown_at(other) - window.shown_at(nearest)) < _NAME_HIGH * tall
            for other in others
        ):  # another mark stands where its name would be: to the other side
            marks[0] = (*marks[0][:4], (1.18, 0.5))
        for point, symbol, color, word, anchor in marks:
            if point is None:
                continue
            px = float(self._shown(window.axes[0], np.array([point.x]))[0])
            py = float(self._shown(window.axes[1], np.array([window.shown_at(point)]))[0])
            py = float(np.clip(py, low + 0.02 * (high - low), high))
            spot = pg.ScatterPlotItem(
                [px], [py], symbol=symbol, size=15, brush=QColor(color), pen=pg.mkPen(theme.raised, width=2)
            )
            self.addItem(spot, ignoreBounds=True)
            text = pg.TextItem(word, color=color, anchor=anchor, fill=theme.color("panel", 0.75))
            text.setFont(font(9.5, strong=True))
            self._add_words(text, 0, (px, py))
            self._spots.append((px, py))
            if point is window.present:
                self._now = [spot, text]

    def _place(self, position: object) -> tuple[float, float] | None:
        """A place of the scene on the axes, SI."""
        box = self.getPlotItem().getViewBox()
        if self._window is None or not box.sceneBoundingRect().contains(position):
            return None
        point = box.mapSceneToView(position)
        x, y = (self._units.unit(a.kind) for a in self._window.axes)
        return x.to_si(point.x()), y.to_si(point.y())

    def _on_click(self, event: object) -> None:
        where = self._place(event.scenePos())  # type: ignore[attr-defined]
        if where is not None:
            self.picked.emit(*where)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Arrow keys move the present point by a step of its axis."""
        ways = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Down: (0, -1), Qt.Key.Key_Up: (0, 1)}
        way = ways.get(Qt.Key(event.key()))
        if way is None or self._window is None:
            super().keyPressEvent(event)
            return
        x_axis, y_axis = self._window.axes
        now = self._window.present
        self.picked.emit(now.x + way[0] * x_axis.step, now.y + way[1] * y_axis.step)

    @property
    def written(self) -> tuple[tuple[str, int, QRectF], ...]:
        """The words that are seen on the map: text, rank, place in the scene."""
        return tuple(
            (str(t.textItem.toPlainText()), rank, t.mapRectToScene(t.boundingRect()))
            for rank, t, _ in self._words
            if t.isVisible()
        )

    @property
    def readout(self) -> str:
        """What is read out beside the pointer; empty where nothing is."""
        return str(self._readout.textItem.toPlainText()) if self._readout.isVisible() else ""

    def hover(self, position: object) -> None:
        """Read out what lies under a place of the scene."""
        where, w = self._place(position), self._window
        if where is None or w is None:
            self._readout.hide()
            return
        p, way = w.nearest_point(*where), w.gives_out(*where)
        first = ", ".join(
            f"{a.title.split(',')[0].lower()} {show(v, a.kind, self._units)}"
            for a, v in zip(w.axes, (p.x, p.y), strict=True)
        )
        nearest = f"nearest to giving out: {self._titles.get(way, way).lower()}\n" if way else ""
        doubt = "not sure: a full simulation may say otherwise\n" if w.not_sure[w.index_of(*where)] else ""
        self._readout.setText(
            f"{first}\n{probability_text(p.chance)} that anything fails\n{doubt}{nearest}"
            f"hold margin {margin_text(p.margin)}, lift {show(p.lift, 'length', self._units)}\n"
            f"{show(p.energy, 'energy', self._units)}, {show_duration(p.duration)}"
        )
        right, top = p.x > 0.5 * (w.x[0] + w.x[-1]), p.y > 0.5 * (w.y[0] + w.y[-1])
        self._readout.setAnchor((1.05 if right else -0.05, -0.1 if top else 1.1))
        px, py = (float(self._shown(a, np.array([v]))[0]) for a, v in zip(w.axes, (p.x, p.y), strict=True))
        self._readout.setPos(px, py)
        self._readout.show()


def _deepest(field: np.ndarray) -> tuple[int, int]:
    """Index of the point farthest from the outside of a region."""
    from scipy.ndimage import distance_transform_edt  # loads late: only maps need it

    depth = distance_transform_edt(np.pad(field, 1))[1:-1, 1:-1]
    i, j = np.unravel_index(int(np.argmax(depth)), depth.shape)
    return int(i), int(j)


def _along(count: int, first: float) -> list[int]:
    """Indices along a line of so many points at which words may stand: the ``first`` share, then others."""
    shares = (first, *(s for s in (0.5, 0.3, 0.7, 0.15, 0.85) if abs(s - first) > 0.05))
    return [min(int(s * count), count - 1) for s in shares]
