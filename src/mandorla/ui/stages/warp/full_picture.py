"""The picture of a full simulation: the part in 3-D, whole or cut open, at any moment; its foot and the plate seen from above."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QSlider, QStackedWidget, QVBoxLayout, QWidget

from mandorla.core.part.mesh import Floats, Ints
from mandorla.core.results.keys import GEOMETRY
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.plots.part_view import PartView
from mandorla.ui.plots.surface_map import SurfaceMap
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.form import soft

if TYPE_CHECKING:
    from mandorla.core.results.types import FullRun

MOMENTS = (
    ("growing", "while it is printed"),
    ("printed", "at the end of the print"),
    ("cooled", "cooled down on the plate"),
    ("released", "taken off the plate"),
)
SIGHTS = (
    ("whole", "The part"),
    ("cut x", "Cut open across x"),
    ("cut y", "Cut open across y"),
    ("peel", "Foot: peel over grip"),
    ("loose", "Foot: detached area"),
    ("plate", "Gap under the plate"),
)


def skin(solid: np.ndarray) -> Ints:
    """Triangles (m, 3) of the faces between solid boxes (nz, ny, nx) and nothing, as flat indices of nodes, facing outwards."""
    nz, ny, nx = solid.shape
    padded = np.pad(solid, 1)
    node = np.arange((nz + 1) * (ny + 1) * (nx + 1)).reshape(nz + 1, ny + 1, nx + 1)
    faces = []
    for axis, (du, dv) in enumerate((((0, 1, 0), (0, 0, 1)), ((0, 0, 1), (1, 0, 0)), ((1, 0, 0), (0, 1, 0)))):
        for side in (0, 1):
            shift = [slice(1, -1)] * 3
            shift[axis] = slice(2, None) if side else slice(0, -2)
            k, j, i = np.nonzero(solid & ~padded[tuple(shift)])
            at = np.stack([k, j, i], axis=1)
            at[:, axis] += side
            a, b = at + du, at + dv
            c = a + dv
            corners = [node[tuple(p.T)] for p in (at, a, c, b)]
            if side:
                corners = corners[::-1]
            faces += [
                np.stack([corners[0], corners[1], corners[2]], axis=1),
                np.stack([corners[0], corners[2], corners[3]], axis=1),
            ]
    return np.concatenate(faces).astype(np.int64)


class FullPicture(QWidget):
    """Shows one run; a click on the part reads the movement there."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self._found: FullRun | None = None
        self._theme: Theme | None = None
        self._shown: tuple[Floats, Floats, Floats] | None = (
            None  # drawn, shown and moved places of the nodes on the skin
        )
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        row = QHBoxLayout()
        self.sight, self.which = QComboBox(), QComboBox()
        self.sight.setAccessibleName("What is shown")
        for key, text in SIGHTS:
            self.sight.addItem(text, key)
        self.which.setAccessibleName("Moment that is shown")
        for key, text in MOMENTS:
            self.which.addItem(text, key)
        self.which.setCurrentIndex(3)
        self.place = self._slider("Height printed so far", 100, 100)
        self.cut = self._slider("Place of the cut", 100, 50)
        self.slider = self._slider("Exaggeration of the shape", 100, 10)
        self.slider.setMinimum(1)
        self.place_text, self.cut_text, self.factor = soft(), soft(), soft("10 times")
        for caption in (self.place_text, self.cut_text, self.factor):
            caption.setWordWrap(False)
        for box in (self.sight, self.which):
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.setMinimumContentsLength(14)
            row.addWidget(box)
        row.addStretch(1)
        row.addWidget(self.slider)
        row.addWidget(self.factor)
        column.addLayout(row)
        where = QHBoxLayout()  # which height, which cut: only where there is one to choose
        for widget in (self.place, self.place_text, self.cut, self.cut_text):
            where.addWidget(widget)
        where.addStretch(1)
        column.addLayout(where)
        self.view, self.map = PartView("The simulated part"), SurfaceMap(height=None)
        self.view.clicked.connect(self._probe)
        for pane in (self.view, self.map):
            pane.setMinimumSize(190, 132)  # a low window leaves them no more
        self.stack = QStackedWidget()
        self.stack.addWidget(self.view)
        self.stack.addWidget(self.map)
        column.addWidget(self.stack, 1)
        self.reading = soft()
        column.addWidget(self.reading)
        for combo in (self.sight, self.which):
            combo.currentIndexChanged.connect(self.draw)

    def _slider(self, name: str, most: int, value: int) -> QSlider:
        slider = QSlider(Qt.Orientation.Horizontal)
        slider.setRange(0, most)
        slider.setValue(value)
        slider.setMinimumWidth(70)
        slider.setMaximumWidth(130)
        slider.setAccessibleName(name)
        slider.valueChanged.connect(self.draw)
        return slider

    @property
    def shown_points(self) -> Floats:
        """The points (n, 3) m of the skin that is drawn."""
        assert self._shown is not None
        return self._shown[1]

    def show_run(self, found: FullRun | None, theme: Theme) -> None:
        """Show a run; None shows the part as drawn, on its plate."""
        if found is not self._found:
            self.reading.setText("Click on the part to read how far it moved there." if found is not None else "")
        self._found, self._theme = found, theme
        if found is None:
            self._draw_as_drawn(theme)
        known = found is None or not found.stopped  # what follows a run that stopped is not known, and is not shown
        for index, (key, _) in enumerate(MOMENTS):
            self.which.model().item(index).setEnabled(known or key in ("growing", "printed"))  # type: ignore[attr-defined]
        if not known and self.which.currentData() not in ("growing", "printed"):
            self.which.setCurrentIndex(0)
        self.draw()

    def _draw_as_drawn(self, theme: Theme) -> None:
        geometry, source, bed = (
            self.document.results.last(GEOMETRY),
            self.document.project.part,
            self.document.project.rig.bed,
        )
        self._shown = None
        if geometry is None or source is None:
            self.view.clear()
            return
        place = (source.placement.x, source.placement.y)
        caption = "as drawn, not yet simulated"
        self.view.show_mesh(
            theme, geometry.shown.vertices, geometry.shown.faces, (bed.width, bed.depth), place, None, caption
        )

    def look_anew(self) -> None:
        """Frame the part as it is now."""
        self.view.look_anew()

    def draw(self) -> None:
        """Draw what is chosen."""
        found, t = self._found, self._theme
        sight, moment = self.sight.currentData(), self.which.currentData()
        solid_sight = sight in ("whole", "cut x", "cut y")
        growing = solid_sight and moment == "growing"
        for widget, on in (
            (self.which, solid_sight), (self.place, growing), (self.place_text, growing), (self.cut, "cut" in sight),
            (self.cut_text, "cut" in sight), (self.slider, solid_sight), (self.factor, solid_sight),
        ):  # fmt: skip
            widget.setVisible(on and found is not None)
        self.sight.setVisible(found is not None)
        self.stack.setCurrentWidget(self.view if solid_sight or found is None else self.map)
        if found is None or t is None:
            return
        if solid_sight:
            self._draw_part(found, t, sight, moment)
        else:
            self._draw_map(found, t, sight)

    def _moved(self, found: FullRun, moment: str) -> tuple[Floats, float]:
        """Displacements (nz+1, ny+1, nx+1, 3) m and the height (m) that stands."""
        if moment != "growing":
            return np.asarray(getattr(found, moment), dtype=np.float64), float(found.height[-1])
        k = round(self.place.value() / 100 * (len(found.growth) - 1)) if found.growth else 0
        u = np.zeros(found.printed.shape)
        if found.growth:
            u[: len(found.growth[k]), ..., 2] = found.growth[k]
        height = float(found.height[k])
        units = self.document.units
        self.place_text.setText(
            f"{show(height, 'length', units, digits=1)} printed, corner {show(float(found.lift[k].max()), 'length', units)} up"
        )
        return u, height

    def _draw_part(self, found: FullRun, t: Theme, sight: str, moment: str) -> None:
        units, times, v = self.document.units, self.slider.value(), found.voxels
        self.factor.setText(f"{times} times")
        u, top = self._moved(found, moment)
        z, y, x = np.meshgrid(v.z, v.y, v.x, indexing="ij")
        standing = v.solid & (v.z[1:, None, None] <= top + 1e-9)
        if "cut" in sight:
            lines = v.x if sight == "cut x" else v.y
            at = float(lines[0] + self.cut.value() / 100 * (lines[-1] - lines[0]))
            beyond = 0.5 * (lines[1:] + lines[:-1]) >= at
            # the half towards the eye goes: the right one of a cut across x, the front one of a cut across y
            keep = ~beyond[None, None, :] if sight == "cut x" else beyond[None, :, None]
            if (standing & keep).any():
                standing = standing & keep
            self.cut_text.setText(f"at {sight[-1]} = {show(at, 'length', units, digits=0)}")
        faces = skin(standing)
        w = u[..., 2].ravel()
        used = np.unique(faces)
        low, high = float(w[used].min()), float(w[used].max())
        base: Floats = np.column_stack([x.ravel(), y.ravel(), z.ravel()])
        shown = base + times * u.reshape(-1, 3)
        shown[:, 2] -= min(float(shown[used, 2].min()), 0.0)
        source, bed = self.document.project.part, self.document.project.rig.bed
        place = (source.placement.x, source.placement.y) if source is not None else (0.0, 0.0)
        self._shown = (base[used], shown[used] + np.array([*place, 0.0]), u.reshape(-1, 3)[used])
        values = np.clip((w - low) / max(high - low, 1e-9), 0.0, 1.0)
        caption = f"dark {show(low, 'length', units)}, light {show(high, 'length', units)} above where it was laid"
        self.view.show_mesh(t, shown, faces, (bed.width, bed.depth), place, values, caption)

    def _probe(self, x: float, y: float, z: float) -> None:
        """Read the movement where the part was clicked."""
        if self._shown is None:
            return
        drawn, shown, moved = self._shown
        k = int(np.argmin(((shown - np.array([x, y, z])) ** 2).sum(axis=1)))
        units = self.document.units
        at = ", ".join(show(float(p), "length", units, digits=0) for p in drawn[k])
        across, along, up = (show(float(m), "length", units, digits=3) for m in moved[k])
        self.view.show_marks([tuple(float(p) for p in shown[k])])  # type: ignore[list-item]
        self.reading.setText(f"At x, y, z = {at}: up {up}, to the right {across}, to the rear {along}.")

    def _draw_map(self, found: FullRun, t: Theme, sight: str) -> None:
        units, v = self.document.units, found.voxels
        there = found.foot > 0.0
        bed, source = self.document.project.rig.bed, self.document.project.part
        if sight == "plate":
            if found.plate is None:
                values = np.where(there, 0.0, np.nan)
                self.reading.setText("Nothing lies loose on this bed: the plate cannot come off.")
                size, outline = (float(np.ptp(v.x)), float(np.ptp(v.y))), None
            else:
                values = found.plate.gap
                size = (bed.width, bed.depth)
                place = (source.placement.x, source.placement.y) if source is not None else (0.0, 0.0)
                box = np.array([[v.x[i], v.y[j]] for i, j in ((0, 0), (-1, 0), (-1, -1), (0, -1))])
                outline = box + np.array(place)
                frame = "the part's foot" if found.owner is None else "where the bodies stand"
                self.reading.setText(
                    f"At the end of the print, up to {show(float(values.max()), 'length', units)}; the frame is {frame}."
                )
            self.map.show_map(t, units, size, values, outline, None, ("length", "length"))
            return
        values = np.where(there, found.utilisation if sight == "peel" else found.damage, np.nan)
        if sight == "peel":
            text = "Pull over grip at the end of the print, averaged over 10 mm: at 100 % the grip begins to give."
        else:
            text = f"Damage of the grip at the end of the print: 100 % is detached: {100 * found.detached[-1]:.1f} % of the foot."
        self.reading.setText(text)
        size = (float(np.ptp(v.x)), float(np.ptp(v.y)))
        self.map.show_map(t, units, size, values, None, None, ("fraction", "fraction"))
