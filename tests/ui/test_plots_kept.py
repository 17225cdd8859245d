"""Plots are copied, and saved as PNG, SVG and CSV."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from lxml import etree
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QApplication, QWidget

from mandorla.ui.plots.almond_map import AlmondMap
from mandorla.ui.plots.bars import Bars
from mandorla.ui.plots.keeping import kept_as, menu_of, save
from mandorla.ui.plots.surface_map import SurfaceMap
from tests.core.bundles import small_bundle
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui


@pytest.fixture
def hands(open_window: Callable[..., Hands]) -> Hands:
    return open_window(small_bundle())


def test_curves_are_saved_in_every_form(hands: Hands, tmp_path: Path) -> None:
    hands.stage("heat")
    hands.settled()
    plot = hands.page.curves
    for kind in ("png", "svg", "csv"):
        save(plot, tmp_path / "heat-up", kind)
        assert f"heat-up.{kind}" in hands.message
    image = QImage(str(tmp_path / "heat-up.png"))
    assert image.width() == plot.width()
    assert etree.fromstring((tmp_path / "heat-up.svg").read_bytes()).tag.endswith("svg")
    rows = list(csv.reader(io.StringIO((tmp_path / "heat-up.csv").read_text(encoding="utf-8"))))
    names = {name for name, _, _, _ in plot.series}
    assert {row[0] for row in rows[1:]} == names
    name, x, y, _ = plot.series[0]
    mine = np.array([[float(r[1]), float(r[2])] for r in rows[1:] if r[0] == name])
    assert np.allclose(mine[:, 0], x)
    assert np.allclose(mine[:, 1], y)


def test_where_it_cannot_be_written_it_is_said(hands: Hands, tmp_path: Path) -> None:
    hands.stage("heat")
    hands.settled()
    save(hands.page.curves, tmp_path / "no" / "such.png", "png")
    assert "no such folder" in hands.message


def test_the_menu_offers_what_a_plot_has_and_copies(hands: Hands) -> None:
    hands.stage("heat")
    hands.settled()
    menu = menu_of(hands.page.curves)
    texts = [a.text() for a in menu.actions()]
    assert texts == ["Copy the picture", "Save as PNG …", "Save as SVG …", "Save as CSV …"]
    menu.actions()[0].trigger()
    assert not QApplication.clipboard().pixmap().isNull()
    menu.close()
    maps: list[QWidget] = [*hands.window.findChildren(SurfaceMap), *hands.window.findChildren(Bars)]
    assert maps
    for widget in maps:
        assert [a.text() for a in menu_of(widget).actions()][-1] == "Save as SVG …"
        with pytest.raises(KeyError):
            kept_as(widget, "csv")


def test_the_almond_is_kept_as_a_picture(hands: Hands) -> None:
    hands.stage("tune")
    hands.settled()
    shown = hands.window.findChildren(AlmondMap)[0]
    assert len(kept_as(shown, "png")) > 1000
    assert b"<svg" in kept_as(shown, "svg")
