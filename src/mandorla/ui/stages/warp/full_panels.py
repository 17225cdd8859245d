"""Beside a full simulation: how flat any face reads, the printed part as measured, the part pre-deformed for export."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QCheckBox, QComboBox, QFileDialog, QFrame, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from mandorla.core.errors import MandorlaError
from mandorla.core.input_file import bytes_of
from mandorla.core.project.atomic import write_atomically
from mandorla.core.results.choices import FACES, peak_to_valley, warped_stl
from mandorla.core.results.key import Key
from mandorla.core.results.keys import AGREEMENT, COMPENSATION, FULL_RUN, GEOMETRY
from mandorla.core.units import show
from mandorla.core.warp.messages import agreement_sentence, compensation_sentence
from mandorla.ui.document import Document
from mandorla.ui.live_results import in_words
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import Form, heading, panel, soft

if TYPE_CHECKING:
    from mandorla.core.results.types import Agreement, Compensated, FullRun

BENT = (
    "A pre-deformed part is bent on purpose; what its grip really does decides how well it works out. Print one, measure it, "
    "then trust it."
)


class FacePanel(QFrame):
    """Peak to valley of any outer face on the plate and off it, as a straightedge would read."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.setObjectName("panel")
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 10, 12, 12)
        column.addWidget(heading("How flat a face reads"))
        self.face = QComboBox()
        self.face.setAccessibleName("Face that is read")
        for name in FACES:
            self.face.addItem(name[0].upper() + name[1:], name)
        self.face.currentIndexChanged.connect(lambda _: self._show())
        column.addWidget(self.face)
        self.figures = FigureList("Flatness of the face")
        column.addWidget(self.figures)
        self._found: FullRun | None = None
        self._theme: Theme | None = None

    def show_run(self, found: FullRun, asked: Key[FullRun], theme: Theme) -> None:
        """Read the faces of a run."""
        self._found, self._theme = found, theme
        self._show()

    def _show(self) -> None:
        if self._found is None or self._theme is None:
            return
        units = self.document.units
        rows = []
        for moment, text in (("cooled", "On the plate, cold"), ("released", "Taken off")):
            value = peak_to_valley(self._found, getattr(self._found, moment), self.face.currentData())
            remark = "peak to valley" if moment == "cooled" else ""
            rows.append(Figure(text, show(value, "length", units), remark))
        self.figures.show_figures(rows, self._theme)


class MeasuredPanel(QFrame):
    """Corner lifts and a height map of the printed part, and how they compare with the run."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.setObjectName("panel")
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(12, 10, 12, 12)
        self._column.addWidget(heading("The printed part beside it"))
        self.sentence = soft()
        self._column.addWidget(self.sentence)
        self._form: QWidget | None = None
        self._names: tuple[str, ...] = ()
        self.figures = FigureList("Measured and simulated corners")
        self._column.addWidget(self.figures)
        row = QHBoxLayout()
        self.enter, self.map, self.forget = (
            QPushButton("Enter lifts"),
            QPushButton("Import height map …"),
            QPushButton("Forget"),
        )
        self.enter.setToolTip("What a feeler finds under each corner of the part on a flat table")
        self.map.setToolTip(
            "Heights of the underside as it stood on the plate, a matrix in mm as CSV, its front row first"
        )
        self.enter.clicked.connect(self._enter)
        self.map.clicked.connect(self.choose_map)
        self.forget.clicked.connect(lambda: self.document.edit_with_files({"part.measured": None}, {}, "Forget"))
        for button in (self.enter, self.map, self.forget):
            row.addWidget(button)
        self._column.addLayout(row)
        self._found: FullRun | None = None
        self._theme: Theme | None = None
        self._asked: Key[Agreement] | None = None
        document.project_changed.connect(self._show)
        document.results.changed.connect(self._on_result)

    def _enter(self) -> None:
        if self._found is None:
            return
        names = [c.name for c in self._found.corners]
        now = self.document.project.part.measured if self.document.project.part is not None else None
        data = {"corners": [{"name": n} for n in names], "map": now.map if now is not None else ""}
        self.document.edit("part.measured", data, "measured part")

    def choose_map(self) -> None:
        """Ask for a height map of the underside."""
        name, _ = QFileDialog.getOpenFileName(self, "Open a height map of the underside", "", "CSV (*.csv *.txt)")
        if name:
            self.open_map(Path(name))

    def open_map(self, path: Path) -> None:
        """Take a height map in; one that is refused changes nothing and says why."""
        from mandorla.core.measure.heights import read_matrix  # loads the numerics

        try:
            data = bytes_of(path)
            read_matrix(data, path.name)
        except MandorlaError as error:
            self.document.problem.emit(str(error))
            return
        source = self.document.project.part
        now = source.measured if source is not None else None
        corners = [c.model_dump() for c in now.corners] if now is not None else []
        file = self.document.free_name(path.name)
        self.document.edit_with_files(
            {"part.measured": {"corners": corners, "map": file}}, {file: data}, f"Open height map {path.name}"
        )

    def show_run(self, found: FullRun, asked: Key[FullRun], theme: Theme) -> None:
        """Compare with a run."""
        self._found, self._theme = found, theme
        self._asked = AGREEMENT.of(resolution=asked["resolution"], bodies=asked["bodies"])
        self._show()

    def _on_result(self, name: str) -> None:
        if name == AGREEMENT.name and self.isVisible():
            self._show()

    def _show(self) -> None:
        if self._found is None or self._theme is None:
            return
        source, units = self.document.project.part, self.document.units
        measured = source.measured if source is not None else None
        names = tuple(c.name for c in measured.corners) if measured is not None else ()
        if names != self._names:
            self._names = names
            if self._form is not None:
                self._form.deleteLater()
                self._form = None
            if names:
                form = Form(self.document)
                for i, name in enumerate(names):
                    form.add_field(f"part.measured.corners.{i}.lift", f"Lift, {name}")
                self._form = form
                self._column.insertWidget(2, form)
        self.enter.setVisible(not names)
        self.forget.setVisible(measured is not None)
        if measured is None or not (measured.map or any(c.lift > 0.0 for c in measured.corners)):
            self.sentence.setText(
                "Printed it? Lay it on a flat table and enter what a feeler finds under its corners, or open a map of its foot."
            )
            self.figures.show_figures([], self._theme)
            return
        results = self.document.results
        results.want("measured part", (self._asked,) if self._asked is not None else ())
        found = results.value(self._asked) if self._asked is not None else None
        if found is None:
            error = results.error(self._asked) if self._asked is not None else None
            self.sentence.setText(in_words(error) if error is not None else "Comparing …")
            return
        self.sentence.setText(agreement_sentence(found))
        rows = [
            Figure(c.name, show(c.measured, "length", units), f"simulated {show(c.predicted, 'length', units)}")
            for c in found.corners
        ]
        if measured.map:
            left = show(found.map_left, "length", units, digits=3)
            remark = f"shape correlates {found.map_alike:.2f}, {left} left over (rms)"
            rows.append(Figure("Height map", f"{found.map_factor:.2f} times", remark))
        self.figures.show_figures(rows, self._theme)


class DeformPanel(QFrame):
    """Exports the part as it comes out, or pre-deformed against that and checked by a second run."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        frame, column = panel()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(frame)
        column.addWidget(heading("Pre-deform it"))
        self.sentence = soft(BENT)
        column.addWidget(self.sentence)
        self.flat = QCheckBox("The foot stays flat")
        self.flat.setChecked(True)
        self.flat.setToolTip("A curved underside can only be printed on supports")
        column.addWidget(self.flat)
        row = QHBoxLayout()
        self.make, self.shape = QPushButton("Pre-deformed STL …"), QPushButton("Warped STL …")
        self.make.setToolTip("The part with the simulated release taken off; a second simulation checks it first")
        self.shape.setToolTip("The part as the simulation has it after release, for a look in any viewer")
        self.make.clicked.connect(self._choose_made)
        self.shape.clicked.connect(self._choose_shape)
        row.addWidget(self.make)
        row.addWidget(self.shape)
        column.addLayout(row)
        document.results.changed.connect(self._on_result)
        document.results.progressed.connect(self._on_progress)
        self._asked: Key[Compensated] | None = None
        self._waiting = False
        self._found: FullRun | None = None
        self._path = Path()
        self._run: Key[FullRun] = FULL_RUN

    def show_run(self, found: FullRun, asked: Key[FullRun], theme: Theme) -> None:
        """Work on a run."""
        if found is not self._found:
            self._found = found
            self.sentence.setText(BENT)
        self._run = asked
        ready = not found.stopped and bool(found.released.any())
        self.make.setEnabled(ready and not self._waiting)
        self.shape.setEnabled(ready)

    def _choose_made(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Save the pre-deformed part", "pre-deformed.stl", "STL (*.stl)")
        if name:
            self.compensate(Path(name))

    def _choose_shape(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Save the warped part", "warped.stl", "STL (*.stl)")
        if name:
            self.save_shape(Path(name))

    def compensate(self, path: Path) -> None:
        """Pre-deform, check by a second run, then write."""
        self._path, self._waiting = path, True
        self._asked = COMPENSATION.of(
            resolution=self._run["resolution"], bodies=self._run["bodies"], foot_flat=self.flat.isChecked()
        )
        self.make.setEnabled(False)
        if self.document.results.known(self._asked):
            self._on_result(COMPENSATION.name)
        else:
            self.document.results.ask(self._asked)

    def _on_progress(self, name: str, fraction: float, stage: str) -> None:
        if name == COMPENSATION.name:
            self.sentence.setText(f"Simulating the pre-deformed part: {100 * fraction:.0f} %")

    def _on_result(self, name: str) -> None:
        results = self.document.results
        if name != COMPENSATION.name or not self._waiting or self._asked is None or results.busy(self._asked):
            return
        self._waiting = False
        self.make.setEnabled(True)
        found, error = results.value(self._asked), results.error(self._asked)
        if found is None:
            self.sentence.setText(in_words(error) if error is not None else "Stopped.")
            return
        if self._write(self._path, found.stl()):
            text = compensation_sentence(found.made, found.checked, self.document.units)
            self.sentence.setText(f"{text} Written to {self._path.name}.")

    def save_shape(self, path: Path) -> None:
        """Write the part as it is after release."""
        geometry, found = self.document.results.last(GEOMETRY), self._found
        if geometry is not None and found is not None and self._write(path, warped_stl(geometry, found)):
            self.sentence.setText(f"The warped part is written to {path.name}.")

    def _write(self, path: Path, data: bytes) -> bool:
        try:
            write_atomically(path, data)
        except MandorlaError as error:
            self.document.problem.emit(str(error))
            return False
        return True
