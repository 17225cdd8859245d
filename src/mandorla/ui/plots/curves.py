"""Curves with direct labels, on pyqtgraph, in the house's colours."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import QRectF, Qt, QTimer
from PySide6.QtGui import QColor, QResizeEvent
from PySide6.QtWidgets import QGraphicsPathItem, QLabel

from mandorla.ui.plots.curve_names import CurveNames
from mandorla.ui.plots.keeping import keepable
from mandorla.ui.plots.kept_items import KeptItems
from mandorla.ui.plots.scale_axis import scales, unscaled
from mandorla.ui.theme.palette import Theme, font

_NOISY = 300  # turns of a curve from which it is drawn with a plain pen, which takes a fraction of the time
_NOTHING = "No data yet"
_RIGHT = 54  # px of a scale at the right


class CurvePlot(pg.PlotWidget):
    """A plot of named curves, bands and reference lines; a hover line reads the values off."""

    def __init__(self, name: str, x_label: str, y_label: str) -> None:
        super().__init__(axisItems=scales())
        self.setAccessibleName(name)
        keepable(self)
        self._x_label, self._y_label = x_label, y_label
        item = self.getPlotItem()
        item.setMenuEnabled(False)
        item.hideButtons()
        item.setMouseEnabled(x=False, y=False)
        item.getViewBox().setDefaultPadding(0.04)
        self.setMinimumHeight(120)
        self._theme: Theme | None = None
        self._dressed: tuple[Theme, str, str] | None = None
        self._items = KeptItems(self)
        self._hover = pg.InfiniteLine(angle=90, movable=False)
        self._readout = pg.TextItem(anchor=(0, 0))
        self._series: list[tuple[str, NDArray[np.float64], NDArray[np.float64], str]] = []
        self._names = CurveNames(self)
        self._placing = QTimer(self, singleShot=True, interval=0)
        self._placing.timeout.connect(self.place_names)
        item.getViewBox().sigRangeChanged.connect(self._place_soon)
        self._upright = False
        self._filled, self._axes_shown = True, True
        self._emptying = QTimer(self, singleShot=True, interval=0)  # a picture that stays empty has no axes
        self._emptying.timeout.connect(lambda: self._show_axes(self._filled))
        self._nothing = QLabel(_NOTHING, self)
        self._nothing.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._nothing.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self._nothing.setFont(font(10.0))
        self._nothing.hide()
        self.scene().sigMouseMoved.connect(self.hover)

    def begin(
        self, theme: Theme, *, x_label: str | None = None, y_label: str | None = None, upright: bool = False,
        nothing: str = "",
    ) -> None:  # fmt: skip
        """Start a new picture; ``upright`` plots carry the common coordinate on y (heights), ``nothing`` is said of one that stays
        empty."""
        self._theme, self._upright = theme, upright
        self._items.begin()
        self._series = []
        self._names.forget()
        dressed = (theme, self._x_label if x_label is None else x_label, y_label or self._y_label)
        if dressed != self._dressed:
            self._dress(*dressed)
        self._filled = False
        self._nothing.setText(nothing or _NOTHING)
        self._emptying.start()
        self._hover = self._hover_line(theme, 0 if upright else 90)
        self._hover.hide()
        self._readout = self._hover_text(theme)
        self._readout.hide()

    def _hover_line(self, theme: Theme, angle: int) -> pg.InfiniteLine:
        line = self._items.take(("hover", theme, angle))
        if line is None:
            line = pg.InfiniteLine(angle=angle, movable=False, pen=pg.mkPen(theme.soft, style=Qt.PenStyle.DotLine))
            self._items.add(("hover", theme, angle), line, bounds=False)
        return line

    def _hover_text(self, theme: Theme) -> pg.TextItem:
        text = self._items.take(("readout", theme))
        if text is None:
            text = pg.TextItem(
                anchor=(0, 0), color=theme.ink, fill=theme.color("raised", 0.92), border=theme.color("line")
            )
            text.setFont(font(9.0))
            text.setZValue(50)
            self._items.add(("readout", theme), text, bounds=False)
        return text

    def _put(self, kind: str, x: NDArray[np.float64], y: NDArray[np.float64], **look: object) -> None:
        """Curve or points, taken up from the picture before where there is one."""
        item = self._items.take(kind)
        if item is None:
            self._items.add(kind, pg.PlotDataItem(x, y, **look), bounds=True)
        else:
            item.setData(x, y, **look)

    def _dress(self, theme: Theme, x_label: str, y_label: str) -> None:
        """Colours and names of the axes."""
        self._dressed = theme, x_label, y_label
        self.setBackground(QColor(theme.panel))
        for side, text in (("bottom", x_label), ("left", y_label)):
            axis = self.getAxis(side)
            axis.setPen(theme.color("line"))
            axis.setTextPen(theme.color("soft"))
            axis.setTickFont(font(9.0))
            axis.setLabel(text, color=theme.soft)
            axis.resizeEvent()  # a shorter name stood off the middle until the window's next size
            unscaled(axis)
        self._nothing.setStyleSheet(f"color: {theme.soft}; background: transparent;")
        self.showGrid(x=True, y=True, alpha=0.12)

    def _fill(self) -> None:
        """Something is drawn: axes to read it by, at once."""
        self._filled = True
        self._show_axes(True)

    def _show_axes(self, there: bool) -> None:
        """Axes where there is a curve to read; a word where there is none."""
        if there is self._axes_shown:
            return  # showing them lays everything out anew
        self._axes_shown = there
        for side in ("bottom", "left"):
            self.getPlotItem().showAxis(side, there)
        self._nothing.setVisible(not there)

    @property
    def is_empty(self) -> bool:
        """Whether nothing is drawn but the word that says so."""
        return not self._filled

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Keep the word in the middle."""
        super().resizeEvent(event)
        label = self.__dict__.get("_nothing")  # the base class sizes itself before it is made
        if label is not None:
            label.setGeometry(self.rect())
            self._place_soon()

    def _place_soon(self) -> None:
        self._placing.start()

    def place_names(self) -> int:
        """Write the curves' names where they touch neither each other nor a curve; how many found no such place."""
        if self.getPlotItem() is None:
            return 0  # closed meanwhile
        return self._names.place([(x, y) for _, x, y, _ in self._series])

    @property
    def names(self) -> list[QRectF]:
        """Where the curves' names are written, in the scene."""
        return self._names.rects()

    def add_curve(
        self, name: str, x: NDArray[np.float64], y: NDArray[np.float64], color: str, *, unit: str = "", dashed: bool = False,
        width: float = 2.2, label_at: float | None = None, label_above: bool = True,
    ) -> None:  # fmt: skip
        """A curve with its name written on it at a share of its length."""
        self._fill()
        style = Qt.PenStyle.DashLine if dashed else Qt.PenStyle.SolidLine
        rises = np.diff(y) > 0.0
        noisy = np.count_nonzero(rises[1:] != rises[:-1]) > _NOISY  # a stroke that fills its column needs no soft edges
        self._put("curve", x, y, pen=pg.mkPen(color, width=1.0 if noisy else width, style=style), antialias=not noisy)
        self._series.append((name, x, y, unit))
        if label_at is not None and len(x):
            i = int(np.clip(label_at * (len(x) - 1), 0, len(x) - 1))
            text = self._items.take("name")
            if text is None:
                text = pg.TextItem(name, color=color, anchor=(0.0, 0.0))
                text.setFont(font(9.0, strong=True))
                self._items.add("name", text, bounds=False)
            else:
                text.setText(name, color)
            text.setPos(float(x[i]), float(y[i]))
            self._names.add(text, x, y, label_at, beside=self._upright, first=label_above)
            self._place_soon()

    def add_points(self, name: str, x: NDArray[np.float64], y: NDArray[np.float64], color: str) -> None:
        """Single readings, as open circles."""
        self._fill()
        self._put(
            "points", x, y, pen=None, symbol="o", symbolSize=8, symbolPen=pg.mkPen(color, width=2.0), symbolBrush=None
        )
        self._series.append((name, x, y, ""))

    def add_cloud(self, name: str, x: NDArray[np.float64], y: NDArray[np.float64], color: str) -> None:
        """Hundreds of draws, as small dots that are darker where they lie dense."""
        self._fill()
        fill = QColor(color)
        fill.setAlphaF(0.4)
        self._put("cloud", x, y, pen=None, symbol="o", symbolSize=4.5, symbolPen=pg.mkPen(None), symbolBrush=fill)
        self._series.append((name, x, y, ""))

    def add_band(self, x: NDArray[np.float64], low: NDArray[np.float64], high: NDArray[np.float64], color: str) -> None:
        """A band of uncertainty between two curves."""
        self._fill()
        known = np.isfinite(x) & np.isfinite(low) & np.isfinite(high)
        along, bottom, top = x[known], low[known], high[known]
        if along.size < 2:
            return
        around = np.concatenate([along, along[::-1]]), np.concatenate([bottom, top[::-1]])
        path, area = pg.arrayToQPath(*around), self._items.take("band")
        if area is None:
            area = QGraphicsPathItem(path)
            area.setPen(pg.mkPen(None))
            self._items.add("band", area, bounds=True)
        else:
            area.setPath(path)
        fill = QColor(color)
        fill.setAlphaF(0.18)
        area.setBrush(fill)

    def right_margin(self) -> None:
        """Leave the room of a right scale empty, so that a plot above or below one shares its time axis."""
        axis = self.getAxis("right")
        axis.setPen(pg.mkPen(None))
        axis.setStyle(showValues=False, tickLength=0)
        axis.setWidth(_RIGHT)
        self.showAxis("right")

    def right_scale(self, text: str, factor: float, theme: Theme) -> None:
        """A second scale at the right: the left one times a factor."""
        axis = self.getAxis("right")
        axis.setScale(factor)
        axis.setPen(theme.color("line"))
        axis.setTextPen(theme.color("soft"))
        axis.setTickFont(font(9.0))
        axis.setLabel(text, color=theme.soft)
        unscaled(axis)
        axis.setGrid(False)
        axis.setWidth(_RIGHT)
        self.showAxis("right")

    def add_line(self, at: float, text: str, color: str, *, vertical: bool, place: float = 0.95) -> None:
        """A reference line with its text: on a standing line, above a lying one."""
        kind = ("line", text, color, vertical, self._theme)
        line = self._items.take(kind)
        if line is not None:
            line.setValue(at)
            line.label.setPosition(place)
            return
        options: dict[str, object] = {"position": place, "color": color, "movable": False}
        if vertical:
            options["fill"] = QColor(self._theme.panel) if self._theme else None
        else:
            options["anchors"] = [(0.0, 1.0), (0.0, 1.0)]
        line = pg.InfiniteLine(
            at, angle=90 if vertical else 0, pen=pg.mkPen(color, width=1.3, style=Qt.PenStyle.DashLine), label=text,
            labelOpts=options,
        )  # fmt: skip
        line.label.setFont(font(8.8))
        self._items.add(kind, line, bounds=True)

    def add_moment(self, theme: Theme) -> pg.InfiniteLine:
        """A line that marks a moment chosen elsewhere; its value is set by the caller."""
        line = self._items.take(("moment", theme))
        if line is None:
            line = pg.InfiniteLine(0.0, angle=90, movable=False, pen=pg.mkPen(theme.color("ink", 0.6), width=1.6))
            self._items.add(("moment", theme), line, bounds=False)
        line.setValue(0.0)
        return line

    @property
    def readout(self) -> str:
        """What is read out beside the pointer; empty where nothing is."""
        return str(self._readout.textItem.toPlainText()) if self._readout.isVisible() else ""

    @property
    def series(self) -> tuple[tuple[str, NDArray[np.float64], NDArray[np.float64], str], ...]:
        """Every curve that is drawn: name, x, y, unit."""
        return tuple(self._series)

    def hover(self, position: object) -> None:
        """Read out what lies under a place of the scene."""
        box = self.getPlotItem().getViewBox()
        if not self._series or not box.sceneBoundingRect().contains(position):
            self._hover.hide()
            self._readout.hide()
            return
        point = box.mapSceneToView(position)
        at = point.y() if self._upright else point.x()
        lines = [f"{(self._y_label if self._upright else self._x_label).split(',')[0]} {at:.1f}"]
        for name, x, y, unit in self._series:
            along, across = (y, x) if self._upright else (x, y)
            order = np.argsort(along)
            lines.append(f"{name} {np.interp(at, along[order], across[order]):.2f} {unit}".rstrip())
        self._hover.setPos(at)
        self._hover.show()
        self._readout.setText("\n".join(lines))
        (left, right), (bottom, top) = box.viewRange()
        self._readout.setAnchor(
            (1.0 if point.x() > 0.5 * (left + right) else 0.0, 0.0 if point.y() > 0.5 * (bottom + top) else 1.0)
        )
        self._readout.setPos(point.x(), point.y())
        self._readout.show()
