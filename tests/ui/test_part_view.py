"""The picture of a part: all of it is seen, as large as it can be, whatever its shape and the room for it."""

from __future__ import annotations

from itertools import product

import numpy as np
import pytest
import trimesh
from pytestqt.qtbot import QtBot

from mandorla.ui.plots.part_view import FILLED, PartView
from mandorla.ui.theme.palette import LIGHT

pytestmark = pytest.mark.gui


@pytest.mark.parametrize("size", [(620, 260), (300, 520)])
@pytest.mark.parametrize("box", [(200.0, 180.0, 20.0), (40.0, 40.0, 170.0), (236.0, 30.0, 90.0)])
def test_every_corner_is_in_the_picture_and_fills_it(
    qtbot: QtBot, box: tuple[float, float, float], size: tuple[int, int]
) -> None:
    view = PartView("Part")
    qtbot.addWidget(view)
    view.resize(*size)
    view.show()
    mesh = trimesh.creation.box(extents=box)
    mesh.apply_translation((0.0, 0.0, 0.5 * box[2]))
    vertices = 1e-3 * np.asarray(mesh.vertices)
    view.show_mesh(LIGHT, vertices, np.asarray(mesh.faces, dtype=np.int64), (0.3, 0.3))
    qtbot.waitUntil(lambda: view.image is not None)
    corners = 1e-3 * np.array(list(product((-0.5, 0.5), (-0.5, 0.5), (0.0, 1.0)))) * box
    at = np.array([(p.x(), p.y()) for p in (view.place_of(tuple(c)) for c in corners)])
    off = np.abs(at / size - 0.5) * 2.0  # share of the half picture
    assert off.max() == pytest.approx(FILLED, abs=0.02)
    view.resize(size[1], size[0])
    qtbot.wait(120)
    again = np.array([(p.x(), p.y()) for p in (view.place_of(tuple(c)) for c in corners)])
    assert (np.abs(again / size[::-1] - 0.5) * 2.0).max() == pytest.approx(FILLED, abs=0.02)
