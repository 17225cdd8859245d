"""The bed x chamber map: two regions, what the part needs and what machine, plate and polymer stand; the almond between."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import contourpy
import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QPainterPath, QPen
from PySide6.QtWidgets import QGraphicsPathItem

from mandorla.core.failure.messages import margin_text, probability_text
from mandorla.core.units import UnitPreferences, show
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
    from mandorla.core.results.types import Point, Window


class AlmondMap(pg.PlotWidget):
    """A click on the map moves the settings."""

    picked = Signal(float, float)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Operating window, bed against chamber")
        item = self.getPlotItem()
        item.setMenuEnabled(False)
        item.hideButtons()
        item.setMouseEnabled(x=False, y=False)
        item.getViewBox().setDefaultPadding(0.0)
        self.scene().sigMouseClicked.connect(self._on_click)
        self.scene().sigMouseMoved.connect(self.hover)
        self._window: Window | None = None
        self._offered: dict[str, Point] = {}
        self._units = UnitPreferences()
        self._readout = pg.TextItem()
        self._words: list[tuple[int, pg.TextItem]] = []
        item.getViewBox().sigResized.connect(self._make_room)
        item.getViewBox().sigTransformChanged.connect(self._make_room)

    def show_window(
        self, window: Window, theme: Theme, units: UnitPreferences, offered: Mapping[str, Point] | None = None
    ) -> None:
        """Draw a computed window with the points that are offered, by key."""
        self._offered = dict(offered or {})
        self._window, self._units = window, units
        self.clear()
        self._words.clear()
        self.setBackground(QColor(theme.panel))
        unit = units.unit("temperature")
        x = np.array([unit.from_si(v) for v in window.bed])
        y = np.array([unit.from_si(v) for v in window.chamber])
        for side, text in (
            ("bottom", f"Bed set point, rest of the print ({unit.symbol})"),
            ("left", f"Chamber set point ({unit.symbol})" if window.heated else f"Room temperature ({unit.symbol})"),
        ):
            axis = self.getAxis(side)
            axis.setPen(theme.color("line"))
            axis.setTextPen(theme.color("soft"))
            axis.setTickFont(font(9.5))
            axis.setLabel(text, color=theme.soft)
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
            scales = (float(np.median(np.abs(v))) for v in (window.part_level, window.machine_level))
            need, stand = (
                v / max(k, 1e-9) for v, k in zip((window.part_level, window.machine_level), scales, strict=True)
            )
            almond = region_path(x, y, np.minimum(need, stand))
            fill = theme.color("almond", 0.62)
            pen = QPen(theme.color("almond"), 3.0)
            pen.setCosmetic(True)
            self._add_path(almond, pen, fill)
        self._add_energy(x, y, window, theme)
        self._add_passive(x, window, theme)
        self._add_names(x, y, window, theme)
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

    def _add_words(self, text: pg.TextItem, rank: int, px: float, py: float) -> None:
        """Write words at a place; where they would lie on others, the lower rank is the one that stays."""
        text.setPos(px, py)
        self.addItem(text, ignoreBounds=True)
        self._words.append((rank, text))

    def _make_room(self, _: object = None) -> None:
        """Move words into the map and hide those that would cover others that say more."""
        box = self.getPlotItem().getViewBox()
        inside = box.sceneBoundingRect()
        taken: list[QRectF] = []
        for rank, text in sorted(self._words, key=lambda w: w[0]):
            text.setVisible(True)
            text.updateTransform(force=True)
            rect = text.mapRectToScene(text.boundingRect())
            over = max(rect.right() - inside.right(), 0.0) + min(rect.left() - inside.left(), 0.0)
            if over and rect.width() < inside.width():
                step = box.mapSceneToView(QPointF(over, 0.0)).x() - box.mapSceneToView(QPointF(0.0, 0.0)).x()
                text.setPos(text.pos().x() - step, text.pos().y())
                rect.translate(-over, 0.0)
            free = rank == 0 or not any(rect.intersects(other) for other in taken)
            text.setVisible(free)
            if free:
                taken.append(rect)

    def _add_path(self, path: QPainterPath, pen: QPen, fill: QColor | None) -> None:
        item = QGraphicsPathItem(path)
        item.setPen(pen)
        if fill is not None:
            item.setBrush(fill)
        self.addItem(item, ignoreBounds=True)

    def _add_energy(self, x: np.ndarray, y: np.ndarray, window: Window, theme: Theme) -> None:
        energy = window.energy / 3.6e6
        levels = np.linspace(energy.min(), energy.max(), 7)[1:-1]
        step = 10.0 ** np.floor(np.log10(max(levels[-1], 1e-6))) / 10
        generator = contourpy.contour_generator(x, y, energy)
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
                    f"{level:.2g} kWh", color=theme.color("soft"), anchor=(0.5, 0.5), fill=theme.color("panel", 0.7)
                )
                text.setFont(font(8.3))
                self._add_words(text, 3, float(np.clip(place[0], x[2], x[-3])), float(np.clip(place[1], y[2], y[-3])))

    def _add_passive(self, x: np.ndarray, window: Window, theme: Theme) -> None:
        unit = self._units.unit("temperature")
        passive = np.array([unit.from_si(v) for v in window.passive])
        self.plot(
            x, passive, pen=pg.mkPen(theme.color("ink", 0.7), width=1.4, style=Qt.PenStyle.DashLine), antialias=True
        )
        words = "the chamber by the bed alone" if window.heated else "the room as it is: what can be had"
        text = pg.TextItem(words, color=theme.color("ink"), anchor=(1.0, 1.0))
        text.setFont(font(8.5))
        self._add_words(text, 2, float(x[-1]), float(passive[-1]))

    def _add_names(self, x: np.ndarray, y: np.ndarray, window: Window, theme: Theme) -> None:
        # names keep clear of the line that runs across the map
        clear = np.abs(window.chamber[:, None] - window.passive[None, :]) > 0.08 * np.ptp(window.chamber)
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
            self._add_words(text, 1, float(x[j]), float(y[i]))

    def _add_marks(self, window: Window, theme: Theme) -> None:
        # each name has a side of its own, so that marks may lie close together
        marks: list[tuple[Point | None, str, str, str, tuple[float, float]]] = [
            (self._offered.get("nearest"), "d", theme.accent, "smallest change", (-0.18, 0.5)),
            (self._offered.get("cheapest"), "t", theme.holds, "cheapest", (0.5, -0.55)),
            (window.present, "o", theme.ink, "now", (0.5, 1.55)),
        ]
        unit = self._units.unit("temperature")
        for point, symbol, color, word, anchor in marks:
            if point is None:
                continue
            low, high = unit.from_si(float(window.chamber[0])), unit.from_si(float(window.chamber[-1]))
            px = unit.from_si(point.bed)
            chamber = window.shown_at(point)
            py = float(np.clip(unit.from_si(chamber), low + 0.02 * (high - low), high))
            spot = pg.ScatterPlotItem(
                [px], [py], symbol=symbol, size=15, brush=QColor(color), pen=pg.mkPen(theme.raised, width=2)
            )
            self.addItem(spot, ignoreBounds=True)
            text = pg.TextItem(word, color=color, anchor=anchor, fill=theme.color("panel", 0.75))
            text.setFont(font(9.5, strong=True))
            self._add_words(text, 0, px, py)

    def _set_points(self, position: object) -> tuple[float, float] | None:
        box = self.getPlotItem().getViewBox()
        if self._window is None or not box.sceneBoundingRect().contains(position):
            return None
        point = box.mapSceneToView(position)
        unit = self._units.unit("temperature")
        return unit.to_si(point.x()), unit.to_si(point.y())

    def _on_click(self, event: object) -> None:
        where = self._set_points(event.scenePos())  # type: ignore[attr-defined]
        if where is not None:
            self.picked.emit(*where)

    @property
    def written(self) -> tuple[tuple[str, int, QRectF], ...]:
        """The words that are seen on the map: text, rank, place in the scene."""
        return tuple(
            (str(t.textItem.toPlainText()), rank, t.mapRectToScene(t.boundingRect()))
            for rank, t in self._words
            if t.isVisible()
        )

    @property
    def readout(self) -> str:
        """What is read out beside the pointer; empty where nothing is."""
        return str(self._readout.textItem.toPlainText()) if self._readout.isVisible() else ""

    def hover(self, position: object) -> None:
        """Read out what lies under a place of the scene."""
        where = self._set_points(position)
        if where is None or self._window is None:
            self._readout.hide()
            return
        p = self._window.nearest_point(*where)
        unit = self._units.unit("temperature")
        self._readout.setText(
            f"bed {show(p.bed, 'temperature', self._units, digits=0)}, "
            f"{'chamber' if self._window.heated else 'room'} {show(p.chamber, 'temperature', self._units, digits=0)}\n"
            f"{probability_text(p.chance)} that anything fails\n"
            f"hold margin {margin_text(p.margin)}, lift {show(p.lift, 'length', self._units)}\n"
            f"{show(p.energy, 'energy', self._units)}"
        )
        right = p.bed > 0.5 * (self._window.bed[0] + self._window.bed[-1])
        top = p.chamber > 0.5 * (self._window.chamber[0] + self._window.chamber[-1])
        self._readout.setAnchor((1.05 if right else -0.05, -0.1 if top else 1.1))
        self._readout.setPos(unit.from_si(p.bed), unit.from_si(p.chamber))
        self._readout.show()


def _deepest(field: np.ndarray) -> tuple[int, int]:
    """Index of the point farthest from the outside of a region."""
    from scipy.ndimage import distance_transform_edt  # loads late: only maps need it

    depth = distance_transform_edt(np.pad(field, 1))[1:-1, 1:-1]
    i, j = np.unravel_index(int(np.argmax(depth)), depth.shape)
    return int(i), int(j)
