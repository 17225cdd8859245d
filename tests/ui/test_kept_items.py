"""A plot takes up again what it drew before: the same picture comes out as from a new plot, and nothing is left over."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
import pyqtgraph as pg
import pytest
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QApplication

from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.plots.keeping import as_svg
from mandorla.ui.theme.palette import DARK, LIGHT, Theme

pytestmark = pytest.mark.gui
T = np.linspace(0.0, 60.0, 80)


@pytest.fixture
def new_plot(qapp: QApplication) -> Iterator[Callable[[], CurvePlot]]:
    made: list[CurvePlot] = []

    def make() -> CurvePlot:
        plot = CurvePlot("Test", "Time, min", "Temperature, °C")
        plot.resize(430, 220)
        plot.getAxis("left").setWidth(58)  # else as wide as its longest figure so far
        plot.show()
        made.append(plot)
        return plot

    yield make
    for plot in made:
        plot.close()


def warming(plot: CurvePlot, theme: Theme = LIGHT) -> None:
    plot.begin(theme)
    plot.add_band(T, 60.0 + 0.1 * T, 70.0 + 0.2 * T, theme.curves[0])
    plot.add_curve("sensor", T, 65.0 + 0.15 * T, theme.curves[0], label_at=0.4)
    plot.add_curve("air", T, 25.0 + 0.3 * T, theme.curves[1], label_at=0.6, dashed=True)
    plot.add_line(50.0, "limit", theme.fails, vertical=False)
    plot.add_points("read", T[::20], 60.0 + 0.3 * T[::20], theme.curves[2])


def power(plot: CurvePlot, theme: Theme = LIGHT) -> None:
    plot.begin(theme, y_label="Power, W")
    plot.add_curve("bed", T, 300.0 - 2.0 * T, theme.curves[2], label_at=0.3)
    plot.add_line(20.0, "door open", theme.marginal, vertical=True)
    plot.add_line(40.0, "door closed", theme.marginal, vertical=True)


def pixels(plot: CurvePlot) -> bytes:
    QApplication.processEvents()
    plot.place_names()
    image = plot.grab().toImage()  # its bits live as long as it does
    return bytes(image.constBits())


@pytest.mark.parametrize("between", [power, lambda p: warming(p, DARK), lambda p: p.begin(LIGHT)])
def test_a_picture_drawn_over_others_is_the_one_of_a_new_plot(
    new_plot: Callable[[], CurvePlot], between: Callable[[CurvePlot], None]
) -> None:
    fresh, used = new_plot(), new_plot()
    warming(fresh)
    expected = pixels(fresh)
    for draw in (power, warming, between):
        draw(used)
        pixels(used)
    assert pixels(used) != expected  # something else was there
    warming(used)
    assert pixels(used) == expected


def test_a_picture_that_is_drawn_again_and_again_makes_nothing_new(new_plot: Callable[[], CurvePlot]) -> None:
    plot = new_plot()
    warming(plot)
    once = set(map(id, plot.scene().items()))
    for k in range(5):
        warming(plot)
        plot.add_curve("late", T, 30.0 + k + 0.0 * T, LIGHT.curves[2])  # one more than before, then the same again
    more = set(map(id, plot.scene().items())) - once
    warming(plot)
    assert {id(i) for i in plot.scene().items()} <= once | more
    assert len(more) <= 3  # one curve with its line and its points
    plot.begin(LIGHT)
    assert plot.is_empty
    assert not [i for i in plot.getPlotItem().listDataItems() if i.isVisible()]


def test_figures_of_a_scale_are_in_the_saved_picture(new_plot: Callable[[], CurvePlot]) -> None:
    plot = new_plot()
    warming(plot)
    QApplication.processEvents()
    svg = as_svg(plot, "Test").decode()
    assert all(f">{figure}</text>" in svg for figure in ("20", "40", "60"))


@pytest.mark.parametrize("theme", [LIGHT, DARK])
def test_the_grid_lies_below_what_is_drawn(new_plot: Callable[[], CurvePlot], theme: Theme) -> None:
    """Along a level curve no line of the grid is seen, and beside it those of both directions are, in one colour."""
    plot = new_plot()
    plot.begin(theme)
    plot.add_curve("level", T, 47.0 + 0.0 * T, theme.curves[0], label_at=2.0)
    plot.add_band(T, 20.0 + 0.0 * T, 30.0 + 0.0 * T, theme.curves[1])
    QApplication.processEvents()
    image = plot.grab().toImage()
    own = plot.mapFromScene(plot.getViewBox().mapViewToScene(pg.Point(30.0, 47.0)))
    left, right = (plot.mapFromScene(plot.getViewBox().mapViewToScene(pg.Point(x, 47.0))).x() for x in (2.0, 58.0))
    rows = [[image.pixel(x, y) for x in range(left, right)] for y in range(own.y() - 2, own.y() + 3)]
    assert any(set(row) == {QColor(theme.curves[0]).rgb()} for row in rows)
    beside = [image.pixel(x, own.y() + 6) for x in range(left, right)]
    behind = max(set(beside), key=beside.count)
    lines = {c for c in beside if c != behind}
    assert 1 <= len(lines) <= 2, "lines between figures are fainter than those at them"
