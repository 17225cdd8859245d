"""Infrared: an image as it was shown, its corners, the true map over the bed, patches with their own emissivity."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QComboBox, QFileDialog, QHBoxLayout, QPushButton, QWidget

from mandorla.core.input_file import bytes_of
from mandorla.core.materials.library_data import seen_surfaces
from mandorla.core.measure.matrix_file import shown_matrix, suspected_unit
from mandorla.core.measure.models import INFRARED, Instrument, Patch, StoredImage
from mandorla.core.results.choices import IMAGE_INSIDE
from mandorla.core.results.key import Key
from mandorla.core.results.keys import IMAGE
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.live_results import in_words
from mandorla.ui.plots.seen_image import NAMES, SeenImage
from mandorla.ui.plots.surface_map import SurfaceMap
from mandorla.ui.stages.page import side_column
from mandorla.ui.stages.verify.desk import VerifyDesk
from mandorla.ui.stages.verify.verify_view import VerifyView
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.charts import column_that_scrolls
from mandorla.ui.widgets.fields import ChoiceEdit
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import Form, answer, heading, panel, soft

UNITS: dict[object, str] = {"°C": "°C", "°F": "°F", "K": "K"}


class PatchMap(SurfaceMap):
    """A map on which patches are drawn as frames; dragging with the mouse draws a new one."""

    def __init__(self) -> None:
        super().__init__(height=None, sections=True)
        self.setAccessibleName("True surface map; drag a frame around a patch")
        self.patches: tuple[Patch, ...] = ()

    def paintEvent(self, event: QPaintEvent) -> None:
        """The map, and frames on it."""
        super().paintEvent(event)
        if self._map is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for p in self.patches:
            a, b = (self.point_of(p.x + s * p.width / 2, p.y + s * p.depth / 2) for s in (-1, 1))
            for color, width in (("#1f2629", 3.4), ("#ffffff", 1.6)):
                painter.setPen(QPen(QColor(color), width))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(QRectF(a, b).normalized())
        painter.end()


if TYPE_CHECKING:
    from mandorla.core.results.types import ImageOnBed, MiddleOfImage, SeenMap

PICK = "Pick the four corners of the bed in the image: front left, front right, rear right, rear left."


class ImageView(VerifyView):
    """Image and true map side by side, what was found, and the settings."""

    key = "infrared"
    title = "Infrared"

    def __init__(self, document: Document, theme: Theme, desk: VerifyDesk) -> None:
        super().__init__(document, theme, desk)
        self.index = 0
        self.seen: SeenMap | None = None
        self._shape: object = None
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        room, left = column_that_scrolls()
        frame, column = panel(8)
        row = QHBoxLayout()
        self.image_title = heading("As it was shown")
        self.image_title.setWordWrap(True)
        row.addWidget(self.image_title, 1)
        self.corner_button = QPushButton("Pick corners again")
        self.corner_button.clicked.connect(self._forget_corners)
        self.open_button = QPushButton("Open image …")
        self.open_button.clicked.connect(self._ask)
        row.addWidget(self.corner_button)
        row.addWidget(self.open_button)
        column.addLayout(row)
        self.image = SeenImage()
        self.image.picked.connect(self._pick_corner)
        self.image.setMinimumHeight(280)
        column.addWidget(self.image, 1)
        left.addWidget(frame, 1)
        frame, column = panel(8)
        above = heading("True temperature over the bed · drag a frame around a patch of tape or paint")
        above.setWordWrap(True)
        column.addWidget(above)
        self.map = PatchMap()
        self.map.line_drawn.connect(self._draw_patch)
        self.map.setMinimumHeight(280)
        column.addWidget(self.map, 1)
        left.addWidget(frame, 1)
        body.addWidget(room, 1)
        area, side = side_column(372)
        frame, column = panel()
        self.sentence = answer()
        column.addWidget(self.sentence)
        self.figures = FigureList("What the image says")
        column.addWidget(self.figures)
        self.warnings = soft()
        column.addWidget(self.warnings)
        self.use_button = QPushButton("Use this emissivity for the readings")
        self.use_button.setObjectName("primary")
        self.use_button.clicked.connect(self._use)
        column.addWidget(self.use_button)
        side.addWidget(frame)
        self._side = side
        self._form: QWidget | None = None
        side.addStretch(1)
        body.addWidget(area)

    @property
    def stored(self) -> StoredImage | None:
        """The image on the desk."""
        session = self.desk.session
        return session.images[min(self.index, len(session.images) - 1)] if session and session.images else None

    def _path(self, name: str = "") -> str:
        session = self.desk.session
        count = len(session.images) if session else 1
        base = self.desk.path(f"images.{min(self.index, count - 1)}")
        return f"{base}.{name}" if name else base

    # ---- doing
    def _ask(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Import a radiometric image", "", "CSV (*.csv *.txt)")
        if name:
            self.open_image(Path(name))

    def open_image(self, path: Path) -> None:
        """Take a matrix in; an unreadable one is refused with its line."""
        desk = self.desk
        session = desk.session_for_input

        def work() -> None:
            data = bytes_of(path)
            unit = suspected_unit(data, path.name)
            file = desk.document.free_name(path.name)
            imagers = [i.name for i in desk.measurements.instruments if i.kind in INFRARED]
            stored = StoredImage(
                name=path.stem[:80], file=file, unit=unit, instrument=imagers[0] if imagers else "", reflected=session.room,
            )  # fmt: skip
            shown_matrix(stored, data)
            self.index = len(session.images)
            desk.put_in("images", (*session.images, stored), f"Import image {path.name}", {file: data})
            if unit != "°C":
                desk.document.said.emit(
                    f"{path.name}: its figures look like {unit}; the unit can be changed beside it."
                )

        desk.attempt(work)

    def _forget_corners(self) -> None:
        if self.stored is not None:
            self.desk.put(self._path("corners"), (), "Pick corners again")

    def _pick_corner(self, u: float, v: float) -> None:
        stored = self.stored
        if stored is None:
            return
        corners = list(stored.corners)
        if len(corners) < 4:
            corners.append((u, v))
        else:
            near = min(range(4), key=lambda i: (corners[i][0] - u) ** 2 + (corners[i][1] - v) ** 2)
            corners[near] = (u, v)
        self.desk.put(self._path("corners"), tuple(corners), "Pick corner")

    def _draw_patch(self) -> None:
        stored, line = self.stored, self.map.line
        self.map.set_line(None)
        if stored is None or line is None:
            return
        (xa, ya), (xb, yb) = line
        patch = Patch(
            name=f"Patch {len(stored.patches) + 1}", x=round(0.5 * (xa + xb), 4), y=round(0.5 * (ya + yb), 4),
            width=max(0.004, round(abs(xb - xa), 4)), depth=max(0.004, round(abs(yb - ya), 4)),
        )  # fmt: skip
        self.desk.put(self._path("patches"), (*stored.patches, patch), "Draw patch")

    def _use(self) -> None:
        session, stored, seen = self.desk.session, self.stored, self.seen
        if session is None or stored is None or seen is None or seen.found_emissivity is None:
            return
        e = round(seen.found_emissivity[0], 3)
        changed = tuple(
            r.model_copy(update={"emissivity": e})
            if r.instrument == stored.instrument and r.surface == stored.surface
            else r
            for r in session.readings
        )
        count = sum(a is not b for a, b in zip(changed, session.readings, strict=True))
        if self.desk.put(self.desk.path("readings"), changed, "Use emissivity"):
            self.desk.document.said.emit(f"{count} readings of “{stored.instrument}” now use an emissivity of {e:.2f}.")

    # ---- showing
    @property
    def _asked(self) -> Key[ImageOnBed] | None:
        session = self.desk.session
        if session is None or not session.images:
            return None
        return IMAGE.of(session=session.key, index=min(self.index, len(session.images) - 1))

    def also(self) -> tuple[Key[Any], ...]:
        """What is shown when it is there."""
        return (self._asked,) if self._asked is not None else ()

    def draw(self) -> None:
        """Show the image and what it comes to."""
        desk, units, stored = self.desk, self.desk.document.units, self.stored
        bed = desk.document.project.rig.bed
        self._build_form()
        self.seen = None
        self.corner_button.setEnabled(stored is not None)
        self.use_button.setVisible(False)
        if stored is None:
            self.image.show_image(self.theme, None, ())
            self.map.setVisible(False)
            self.sentence.setText("Open a matrix of temperatures that the imager has saved as CSV.")
            self.figures.show_figures([], self.theme)
            self.warnings.setText(
                "Stick a piece of matt black tape beside the place that matters before taking the image."
            )
            return
        instrument = desk.measurements.instrument(stored.instrument)
        asked = self._asked
        found = self.results.last(asked) if asked is not None else None
        error = self.results.error(asked) if asked is not None else None
        missing = 4 - len(stored.corners)
        refusal = in_words(error) if error is not None else "" if found is None else found.refusal
        if found is not None:
            self.image.show_image(self.theme, found.matrix, stored.corners)
            self.image_title.setText(
                f"Click the {NAMES[len(stored.corners)]} corner of the bed"
                if missing
                else f"As it was shown · {stored.name}"
            )
        if found is None or missing or instrument is None or refusal or found.seen is None or found.middle is None:
            self.map.setVisible(False)
            text = refusal or "Reading the image …"
            if not refusal and found is not None:
                text = (
                    PICK
                    if missing
                    else "Name the imager of this image, at the right: what it is set to decides what is true."
                )
            self.sentence.setText(text)
            self.figures.show_figures([], self.theme)
            self.warnings.setText("")
            return
        self.seen = found.seen
        self.map.setVisible(True)
        self.map.patches = stored.patches
        self.map.show_map(
            self.theme, units, (IMAGE_INSIDE * bed.width, IMAGE_INSIDE * bed.depth), found.seen.true, None, None
        )
        self._tell(found.seen, found.middle, stored, instrument)

    def _tell(self, seen: SeenMap, middle: MiddleOfImage, stored: StoredImage, instrument: Instrument) -> None:
        units, instrument = self.units, instrument.as_set(stored.setting)
        self.sentence.setText(
            f"In the middle it shows {show(middle.shown, 'temperature', units)}; true is {show(middle.true, 'temperature', units)} "
            f"± {show(2.0 * middle.u, 'temperature_difference', units)}."
        )
        rows = [
            Figure(
                "Emissivity used for the bed",
                f"{seen.emissivity:.2f}",
                f"the instrument was set to {instrument.emissivity:.2f}",
            )
        ]
        if seen.found_emissivity is not None:
            e, ue = seen.found_emissivity
            rows[0] = Figure(
                "Emissivity of the bed, from the patch",
                f"{e:.2f} ± {2 * ue:.2f}",
                f"was set to {instrument.emissivity:.2f}",
            )
        own = [p.name for p in stored.patches]
        for name, here, true in seen.patches:
            if name in own:
                rows.append(Figure(name, show(true, "temperature", units), f"shown {show(here, 'temperature', units)}"))
        rows += [
            Figure(
                "By the T⁴ shortcut", show(middle.by_fourth_power, "temperature", units),
                f"in its band {show(middle.in_band, 'temperature', units)}",
            ),
            Figure("Tape beside it would show", show(middle.on_tape, "temperature", units)),
            Figure("Spread over the bed", show(middle.high - middle.low, "temperature_difference", units)),
        ]  # fmt: skip
        self.figures.show_figures(rows, self.theme)
        self.warnings.setText("\n".join(seen.warnings))
        self.use_button.setVisible(seen.found_emissivity is not None)

    def _build_form(self) -> None:
        desk, stored = self.desk, self.stored
        count = len(desk.session.images) if desk.session else 0
        shape = (desk.index, self.index, count, stored.file if stored else None, len(stored.patches) if stored else 0,
                 tuple(i.name for i in desk.measurements.instruments))  # fmt: skip
        if shape == self._shape:
            return
        self._shape = shape
        if self._form is not None:
            self._form.hide()
            self._form.setParent(None)
            self._form.deleteLater()
            self._form = None
        if stored is None:
            return
        frame, column = panel()
        column.addWidget(heading("How it was taken"))
        if count > 1 and desk.session is not None:
            box = QComboBox()
            box.setAccessibleName("Image on the desk")
            box.addItems([i.name for i in desk.session.images])
            box.setCurrentIndex(min(self.index, count - 1))
            box.activated.connect(self._choose)
            column.addWidget(box)
        form = Form(desk.document)
        imagers: dict[object, str] = {i.name: i.name for i in desk.measurements.instruments if i.kind in INFRARED}
        surfaces: dict[object, str] = {k: s.name for k, s in seen_surfaces().items()}
        form.add_widget("Instrument", ChoiceEdit(desk.document, self._path("instrument"), "Instrument", imagers))
        form.add_widget("Its figures are in", ChoiceEdit(desk.document, self._path("unit"), "Unit", UNITS))
        form.add_widget(
            "Surface of the bed", ChoiceEdit(desk.document, self._path("surface"), "Surface of the bed", surfaces)
        )
        for name in ("emissivity", "reflected", "angle", "time", "setting", "lid_open"):
            form.add_field(self._path(name))
        column.addWidget(form)
        for i, patch in enumerate(stored.patches):
            column.addWidget(heading(patch.name))
            form = Form(desk.document)
            base = self._path(f"patches.{i}")
            form.add_widget("Surface", ChoiceEdit(desk.document, f"{base}.surface", "Surface", surfaces))
            form.add_field(f"{base}.emissivity")
            column.addWidget(form)
        if stored.patches:
            remove = QPushButton("Remove last patch")
            remove.clicked.connect(self._remove_patch)
            column.addWidget(remove)
        self._form = frame
        self._side.insertWidget(1, frame)

    def _choose(self, index: int) -> None:
        self.index = index
        self.refresh()

    def _remove_patch(self) -> None:
        stored = self.stored
        if stored is not None:
            self.desk.put(self._path("patches"), stored.patches[:-1], "Remove patch")
