"""Names on curves: they touch neither each other nor a curve nor the text of a line, at any size of the plot."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from itertools import combinations

import numpy as np
import pytest
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtWidgets import QApplication, QPushButton, QWidget

from mandorla.core.project.samples import sample
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.theme.palette import DARK, LIGHT
from mandorla.ui.widgets.flow import FlowRow, growing
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui


@pytest.fixture
def plot(qapp: QApplication) -> Iterator[CurvePlot]:
    made = CurvePlot("Test", "Time, min", "Temperature, °C")
    yield made
    made.close()


def inked(plot: CurvePlot) -> np.ndarray:
    """Every curve in the scene, point by point."""
    box = plot.getPlotItem().getViewBox()
    points = []
    for _, x, y, _ in plot.series:
        fine = np.linspace(0.0, len(x) - 1.0, 900)
        for a, b in zip(np.interp(fine, range(len(x)), x), np.interp(fine, range(len(x)), y), strict=True):
            at = box.mapViewToScene(QPointF(a, b))
            points.append((at.x(), at.y()))
    return np.array(points)


def covering(plot: CurvePlot) -> list[str]:
    """What a name covers: another name, or a curve."""
    rects = [r.adjusted(2, 3, -2, -3) for r in plot.names]
    found = [f"names {a} and {b}" for (a, x), (b, y) in combinations(enumerate(rects), 2) if x.intersects(y)]
    ink = inked(plot)
    for k, r in enumerate(rects):
        hit = (ink[:, 0] > r.left()) & (ink[:, 0] < r.right()) & (ink[:, 1] > r.top()) & (ink[:, 1] < r.bottom())
        if hit.any():
            found.append(f"name {k} and a curve")
    return found


@pytest.mark.parametrize("size", [(720, 320), (430, 190), (260, 150)])
@pytest.mark.parametrize("upright", [False, True])
def test_names_find_free_places(plot: CurvePlot, size: tuple[int, int], upright: bool) -> None:
    plot.resize(*size)
    plot.begin(LIGHT, upright=upright)
    t = np.linspace(0.0, 60.0, 200)
    curves = {
        "sensor": 100.0 - 79.0 * np.exp(-t / 6.0),
        "surface": 96.0 - 75.0 * np.exp(-t / 8.0),
        "air": 45.0 - 20.0 * np.exp(-t / 3.0),
    }
    for k, (name, y) in enumerate(curves.items()):
        x, y = (y, t) if upright else (t, y)
        plot.add_curve(name, x, y, LIGHT.curves[k], label_at=0.5)
    plot.add_line(100.0, "set point", LIGHT.soft, vertical=upright)
    plot.show()
    for _ in range(5):
        QApplication.processEvents()
    assert plot.place_names() == 0
    assert covering(plot) == []
    room = plot.getPlotItem().getViewBox().sceneBoundingRect().adjusted(-1, -1, 1, 1)
    assert all(room.contains(r) for r in plot.names)


def test_where_there_is_no_free_place_it_is_said(plot: CurvePlot) -> None:
    """A plot full of ink has none: the name is written all the same, and counted."""
    plot.resize(220, 130)
    plot.begin(DARK)
    t = np.linspace(0.0, 1.0, 4000)
    plot.add_curve("noise", t, np.sin(900.0 * t), DARK.curves[0], label_at=0.5)
    plot.show()
    QApplication.processEvents()
    assert plot.place_names() == 1
    assert len(plot.names) == 1


@pytest.mark.parametrize("size", [(1280, 800), (960, 640)])
def test_the_curves_of_the_demo_can_be_told_apart(open_window: Callable[..., Hands], size: tuple[int, int]) -> None:
    hands = open_window(sample("boathouse"))
    hands.window.resize(*size)
    for stage, views in (
        ("heat", ("warming", "print", "regulation", "fault")),
        ("part", ("plates",)),
        ("run", ("cool",)),
    ):
        hands.stage(stage)
        for view in views:
            hands.view(view)
            hands.settled()
            for _ in range(3):
                QApplication.processEvents()
            for plot in hands.page.stage_page.view.findChildren(CurvePlot):
                if plot.isVisible() and not plot.is_empty:
                    plot.place_names()
                    between = [r.adjusted(2, 3, -2, -3) for r in plot.names]
                    assert not any(a.intersects(b) for a, b in combinations(between, 2)), (
                        stage,
                        view,
                        plot.accessibleName(),
                    )


def test_a_row_goes_on_in_the_next_line(qapp: QApplication) -> None:
    host = QWidget()
    buttons = [QPushButton(f"Button {k}") for k in range(4)]
    row = FlowRow(*buttons[:3], growing(buttons[3]))
    host.setLayout(row)
    wide, high = row.sizeHint().width(), row.sizeHint().height()
    assert row.heightForWidth(wide + 40) == high
    narrow = buttons[0].sizeHint().width() + 10
    assert row.heightForWidth(narrow) == 4 * high + 3 * 6
    row.setGeometry(QRectF(0, 0, narrow, 200).toRect())
    assert [b.y() for b in buttons] == sorted({b.y() for b in buttons}), "each in a line of its own"
    row.setGeometry(QRectF(0, 0, wide + 40, 40).toRect())
    assert {b.y() for b in buttons} == {0}
    assert buttons[3].width() > buttons[2].width(), "what may grow takes the rest"
    assert row.count() == 4
    assert row.itemAt(9) is None
    assert row.takeAt(0) is not None
    assert row.count() == 3


def test_a_name_is_broken_where_a_line_has_no_room_and_put_together_again(plot: CurvePlot) -> None:
    """Three upright curves close together: between them there is room for words one below the other only."""
    plot.begin(LIGHT, upright=True)
    y = np.linspace(0.0, 46.0, 120)
    for k, name in enumerate(("when it ends here", "next layer lands", "where layers meet")):
        plot.add_curve(name, np.full(120, 50.0 + 40.0 * k), y, LIGHT.curves[k], label_at=0.5)
    plot.setXRange(20.0, 160.0)
    plot.resize(330, 220)
    plot.show()
    QApplication.processEvents()
    plot.place_names()
    assert covering(plot) == []
    high = max(r.height() for r in plot.names)
    plot.resize(1400, 220)
    QApplication.processEvents()
    plot.place_names()
    assert covering(plot) == []
    assert max(r.height() for r in plot.names) < high
