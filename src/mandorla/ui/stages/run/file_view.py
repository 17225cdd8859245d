"""The sliced file that will really be printed, held against the plan line by line; a corrected copy; the plan's own blocks."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QPushButton

from mandorla.core.errors import InputError, MandorlaError
from mandorla.core.input_file import bytes_of
from mandorla.core.project.atomic import write_atomically
from mandorla.core.results.key import Key
from mandorla.core.results.keys import EVALUATION, PLANNED_TARGETS
from mandorla.core.run.messages import sliced_sentence
from mandorla.core.run.sliced import Deviation, compare, corrected, ending, preamble
from mandorla.core.runtime import RunContext
from mandorla.ui.document import Document
from mandorla.ui.jobs import Lane
from mandorla.ui.live_results import in_words
from mandorla.ui.stages.page import scrolling, side_column
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import heading, panel, soft
from mandorla.ui.widgets.pick_list import TextTable

NO_FILE = "Open the G-code that will be printed: every line that is not as planned stands here"
AS_PLANNED = "Every line is as planned"
_LARGEST = 400_000_000  # bytes


class FileView(View):
    """A table of lines that are not as planned; buttons to open, correct, and to write preamble and end."""

    key = "file"
    title = "Sliced file"
    needs_part = True

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        self._path: Path | None = None
        self._data = b""
        self._found: tuple[Deviation, ...] | None = None
        self._problem = ""
        self._compared: object = None  # the plan that was compared with
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        row = QHBoxLayout()
        self.name = heading("No file is open")
        row.addWidget(self.name)
        row.addStretch(1)
        self.open_button, self.correct_button = QPushButton("Open G-code …"), QPushButton("Save a corrected copy …")
        self.open_button.setObjectName("primary")
        self.open_button.clicked.connect(self._choose)
        self.correct_button.clicked.connect(self._save_corrected)
        row.addWidget(self.correct_button)
        row.addWidget(self.open_button)
        column.addLayout(row)
        self.table = TextTable(
            "Lines that are not as planned", ("What", "Line", "In the file", "Planned", "Blocks"), NO_FILE
        )
        column.addWidget(self.table, 1)
        self.note = soft(
            "Bed, chamber, nozzle, fan, speed and acceleration of the first layer, for every tool; waits that no heater can end. A "
            "corrected copy has only the lines that are named here put right, and keeps what they were as comments."
        )
        column.addWidget(self.note)
        body.addWidget(scrolling(frame, fill=True), 1)
        area, side = side_column(340)
        frame, column = panel()
        column.addWidget(heading("What the plan sets"))
        self.plan = FigureList("What the plan sets")
        column.addWidget(self.plan)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("Blocks for the slicer"))
        self.preamble_button, self.ending_button = QPushButton("Save the preamble …"), QPushButton("Save the end …")
        self.preamble_button.clicked.connect(lambda: self._save_block("preamble"))
        self.ending_button.clicked.connect(lambda: self._save_block("end"))
        column.addWidget(self.preamble_button)
        column.addWidget(self.ending_button)
        column.addWidget(soft(
            "Heat, wait, soak, stop for levelling; at the end the ramp. A wait that could not end is not written. Read them before "
            "you use them: machines differ in what they understand."
        ))  # fmt: skip
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)

    def uses(self) -> tuple[Key[Any], ...]:
        """What the plan sets, and what the heaters reach."""
        return EVALUATION, PLANNED_TARGETS

    def headline(self) -> str:
        """Whether the file is as planned."""
        if self._problem:
            return self._problem
        return sliced_sentence(self._path.name if self._path is not None else "", self._found)

    def draw(self) -> None:
        """Show the plan, and the file against it; a plan that has changed is compared anew."""
        w, units = self.get(PLANNED_TARGETS), self.units
        self.plan.show_figures([Figure(name, value) for name, value in w.lines(units)], self.theme)
        if self._path is not None and self._compared is not w:
            self._compare()
        found = self._found or ()
        self.name.setText(self._path.name if self._path is not None else "No file is open")
        waits = "" if self._problem else "Comparing …"
        self.table.say_empty(NO_FILE if self._path is None else waits if self._found is None else AS_PLANNED)
        self.table.show_rows([
            [f.what, str(f.line) if f.line else "–", f.found, f.planned, "until settled" if f.blocks else ""] for f in found
        ])  # fmt: skip
        self.correct_button.setEnabled(any(f.instead for f in found))

    def _choose(self) -> None:
        name, _ = QFileDialog.getOpenFileName(
            self, "Open the file that will be printed", "", "G-code (*.gcode *.g *.gco *.nc)"
        )
        if name:
            self.open(Path(name))

    def open(self, path: Path) -> None:
        """Read a sliced file and compare it beside the interface; what cannot be read is told."""
        try:
            self._data = bytes_of(path, _LARGEST)
        except InputError as error:
            self.document.problem.emit(str(error))
            return
        self._path, self._found, self._problem = path, None, ""
        self._compare()

    def _compare(self) -> None:
        w, data, units = self.results.value(PLANNED_TARGETS), self._data, self.units
        if w is None:
            return
        self._compared = w

        def work(_: RunContext) -> tuple[Deviation, ...]:
            return compare(data, w, units)

        self.document.jobs.start(
            "Sliced file", work, Lane.FILES, done=self._on_compared, failed=self._on_failed, shown=False
        )

    def _on_compared(self, found: tuple[Deviation, ...]) -> None:
        self._found, self._problem = found, ""
        self._show()

    def _on_failed(self, error: BaseException) -> None:
        self._found, self._problem = (), in_words(error)
        self._show()

    def _show(self) -> None:
        if self.isVisible():
            self.refresh()
            self.changed()

    def _save_corrected(self) -> None:
        if self._path is None:
            return
        beside = self._path.with_name(f"{self._path.stem}-planned{self._path.suffix}")
        name, _ = QFileDialog.getSaveFileName(self, "Save a corrected copy", str(beside), "G-code (*.gcode *.g)")
        if name:
            self.save_corrected(Path(name))

    def save_corrected(self, path: Path) -> None:
        """Write the copy with the named lines put right; never over the file itself."""
        if self._path is not None and path.resolve() == self._path.resolve():
            self.document.problem.emit("The copy is written beside the file, not over it: choose another name.")
            return
        self._write(path, corrected(self._data, self._found or ()))

    def _save_block(self, which: str) -> None:
        name, _ = QFileDialog.getSaveFileName(self, f"Save the {which}", f"{which}.gcode", "G-code (*.gcode *.g)")
        if name:
            self.save_block(which, Path(name))

    def save_block(self, which: str, path: Path) -> None:
        """Write the preamble or the end; a target that cannot be reached is refused in words."""
        w, p = self.get(PLANNED_TARGETS), self.project
        try:
            text = preamble(w, p.settings.soak_time) if which == "preamble" else ending(w, p.run_plan.ramp)
        except InputError as error:
            self.document.problem.emit(str(error))
            return
        self._write(path, text.encode())

    def _write(self, path: Path, data: bytes) -> None:
        try:
            write_atomically(path, data)
        except MandorlaError as error:
            self.document.problem.emit(str(error))
            return
        self.document.said.emit(f"Saved to {path.name}.")
