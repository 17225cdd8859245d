"""What pictures write on themselves: names at the end of curves, a map's scale where there is room, the part before a run."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
import pytest
from PySide6.QtCore import QPointF
from pytestqt.qtbot import QtBot

from mandorla.core.units import METRIC, UnitPreferences
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.plots.surface_map import SurfaceMap
from mandorla.ui.theme.palette import LIGHT

X = np.linspace(0.0, 10.0, 21)


def texts(plot: CurvePlot) -> dict[str, pg.TextItem]:
    """Names written into a plot."""
    return {i.textItem.toPlainText(): i for i in plot.getPlotItem().items if isinstance(i, pg.TextItem)}


def test_a_name_at_the_end_of_a_curve_stands_there_inside_the_plot(qtbot: QtBot) -> None:
    plot = CurvePlot("Lift", "Height, mm", "Lift, mm")
    qtbot.addWidget(plot)
    plot.resize(420, 260)
    plot.begin(LIGHT)
    plot.add_curve("over", X, 2.0 * X, LIGHT.curves[0], label_at=1.0)
    plot.add_curve("middle", X, 0.5 * X, LIGHT.curves[2], label_at=0.5)
    plot.show()
    qtbot.waitExposed(plot)
    plot.grab()  # the range follows the curves with the first paint
    assert plot.place_names() == 0
    assert {"over", "middle"} <= set(texts(plot))
    box = plot.getPlotItem().getViewBox()
    room = box.sceneBoundingRect().adjusted(-1, -1, 1, 1)
    over, middle = plot.names
    assert room.contains(over)
    assert room.contains(middle)
    end, half = box.mapViewToScene(QPointF(X[-1], 2.0 * X[-1])), box.mapViewToScene(QPointF(5.0, 2.5))
    assert abs(over.center().x() - end.x()) < 0.3 * room.width(), "near the end that it names"
    assert abs(middle.center().x() - half.x()) < 0.3 * room.width()


def painted(widget: SurfaceMap, width: int, height: int, monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """What a map writes while it is painted at a size."""
    from PySide6.QtGui import QPainter

    written: list[str] = []
    draw = QPainter.drawText

    def note(self: QPainter, *arguments: object) -> object:
        written.extend(a for a in arguments if isinstance(a, str))
        return draw(self, *arguments)

    monkeypatch.setattr(QPainter, "drawText", note)
    widget.setMinimumSize(50, 50)
    widget.resize(width, height)
    widget.grab()
    monkeypatch.setattr(QPainter, "drawText", draw)
    return written


@pytest.mark.parametrize(("units", "symbol"), [(METRIC, "mm"), (UnitPreferences(inches=True), "in")])
def test_a_maps_scale_says_the_difference_only_where_it_fits(
    qtbot: QtBot, monkeypatch: pytest.MonkeyPatch, units, symbol: str
) -> None:  # type: ignore[no-untyped-def]
    widget = SurfaceMap(height=None)
    qtbot.addWidget(widget)
    values = np.linspace(0.0, 0.01031, 30).reshape(5, 6)
    widget.show_map(LIGHT, units, (0.3, 0.25), values, None, None, ("length", "length"))
    wide = painted(widget, 500, 460, monkeypatch)
    narrow = painted(widget, 150, 140, monkeypatch)
    assert any(t.endswith("between") for t in wide)
    assert not any(t.endswith("between") for t in narrow)
    for ends in (wide, narrow):
        assert any(t.endswith(symbol) and "between" not in t for t in ends), "both ends stay"
    assert widget.accessibleDescription().startswith("from ")
    assert symbol in widget.accessibleDescription()


def test_a_place_on_a_map_is_found_again(qtbot: QtBot) -> None:
    widget = SurfaceMap(height=None)
    qtbot.addWidget(widget)
    widget.resize(400, 300)
    widget.show_map(LIGHT, METRIC, (0.3, 0.2), np.ones((4, 5)), None, None, ("length", "length"))
    for place in ((0.0, 0.0), (0.1, -0.05), (-0.149, 0.099)):
        assert widget.place_of(widget.point_of(*place)) == pytest.approx(place, abs=1e-9)
    assert widget.place_of(widget.point_of(0.5, 0.5)) == pytest.approx((0.15, 0.1)), (
        "what lies outside is brought to the edge"
    )


def test_a_plot_without_curves_says_so_instead_of_showing_bare_axes(qtbot: QtBot) -> None:
    plot = CurvePlot("Lift", "Height, mm", "Lift, mm")
    qtbot.addWidget(plot)
    plot.resize(300, 200)
    plot.show()
    plot.begin(LIGHT)
    assert plot.is_empty
    qtbot.waitUntil(lambda: not plot.getAxis("left").isVisible())
    plot.add_curve("lift", X, X, LIGHT.curves[0])
    assert not plot.is_empty
    assert plot.getAxis("left").isVisible()
