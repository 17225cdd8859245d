"""The run sheet: every step with its clock time, gate, reason; when it starts, who is there, filament; files out."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

from PySide6.QtCore import QTimer
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QCheckBox, QFileDialog, QHBoxLayout, QLineEdit, QPushButton

from mandorla.core.errors import InputError, MandorlaError
from mandorla.core.results.key import Key
from mandorla.core.results.keys import EVALUATION, MASS_COURSE, PLUG_COURSE, RUN_SHEET, STAGGER
from mandorla.core.run.messages import others_lines, run_sentence, spool_lines
from mandorla.core.run.model import Spool, StepEdit
from mandorla.core.run.schedule import moment_text, schedule, with_others
from mandorla.ui.document import Document
from mandorla.ui.stages.page import scrolling, side_column
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.fields import ChoiceEdit, FieldEdit
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import Form, heading, panel, soft
from mandorla.ui.widgets.pick_list import TextTable
from mandorla.ui.widgets.row_list import Column, RowKind, RowList

if TYPE_CHECKING:
    from mandorla.core.results.types import Schedule

_MINUTE: Final = 60000  # ms after which “now” is another time


class SheetView(View):
    """A table of steps, the picked one in words, the plan at the right."""

    key = "sheet"
    title = "Run sheet"
    needs_part = True

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        self._picked = ""
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        self.table = TextTable("Steps of the run", ("Step", "By"))
        self.table.setMinimumHeight(190)
        self.table.itemSelectionChanged.connect(self._pick)
        column.addWidget(self.table, 3)
        row = QHBoxLayout()
        self.name = heading("")
        row.addWidget(self.name)
        row.addStretch(1)
        self.done, self.left_out = QCheckBox("Done"), QCheckBox("Left out")
        for box, field in ((self.done, "done"), (self.left_out, "left_out")):
            box.clicked.connect(lambda on, f=field: self._edit(**{f: on}))
            row.addWidget(box)
        column.addLayout(row)
        self.words = soft()
        column.addWidget(self.words)
        line = QHBoxLayout()
        self.who, self.other = QLineEdit(), QLineEdit()
        for editor, name, field, stretch in ((self.who, "Who", "who", 1), (self.other, "In other words", "words", 3)):
            editor.setPlaceholderText(name)
            editor.setAccessibleName(name)
            editor.setMaxLength(60 if field == "who" else 600)
            editor.editingFinished.connect(lambda e=editor, f=field: self._edit(**{f: e.text()}))
            line.addWidget(editor, stretch)
        column.addLayout(line)
        body.addWidget(scrolling(frame, fill=True), 1)
        area, side = side_column(340)
        frame, column = panel()
        column.addWidget(heading("When"))
        form = Form(document)
        form.add_widget(
            "Planned by",
            ChoiceEdit(document, "run_plan.kind", "Planned by", {"start": "its start", "finish": "its finish"}),
        )
        self.at = FieldEdit(document, "run_plan.at", "Date and time")
        self.at.setPlaceholderText("now, or 2026-11-28 16:30")
        form.add_widget("Date and time", self.at)
        for name in ("there_from", "there_to"):
            form.add_field(f"run_plan.{name}")
        column.addWidget(form)
        self.moments = FigureList("Moments of the run")
        column.addWidget(self.moments)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("Filament"))
        self.spool_note = soft()
        column.addWidget(self.spool_note)
        self.spools = RowList(document, RowKind(
            "run_plan.spools", "spool", (Column("name", "Spool"), Column("left")), Spool, 24, "State what is left on each spool.",
        ))  # fmt: skip
        column.addWidget(self.spools)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("To hang on the machine"))
        self.save_button = QPushButton("Save the sheet …")
        self.save_button.setObjectName("primary")
        self.save_button.setToolTip("PDF, HTML, Markdown, calendar (ics), or the values as CSV or JSON")
        self.save_button.clicked.connect(self._save)
        column.addWidget(self.save_button)
        column.addWidget(soft(
            "Times are the model's, with the range that its unknowns leave; the print's own within 8 %. The sheet certifies "
            "nothing: local codes and the makers' data decide."
        ))  # fmt: skip
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)
        self._clock = QTimer(self, interval=_MINUTE)
        self._clock.timeout.connect(
            lambda: self.refresh() if self.isVisible() and not self.project.run_plan.at else None
        )
        self._clock.start()

    def _sheet(self) -> Key[Any]:
        return RUN_SHEET.of(**dict(self.results.judgement_key().parameters), units=self.units)

    def uses(self) -> tuple[Key[Any], ...]:
        """The sheet, and the mass against time."""
        return EVALUATION, self._sheet(), MASS_COURSE

    def also(self) -> tuple[Key[Any], ...]:
        """The order of machines on one breaker, and power over the job."""
        return STAGGER, PLUG_COURSE

    def schedule(self) -> Schedule | None:
        """Clock times of the newest sheet; None where there is none."""
        steps, course, p = self.results.last(self._sheet()), self.results.last(MASS_COURSE), self.project
        if steps is None or course is None:
            return None
        found = schedule(steps, p.run_plan, datetime.now(UTC), p.criteria.tariff, p.criteria.price, course)
        order, power = self.results.value(STAGGER), self.results.value(PLUG_COURSE)
        return with_others(found, order, power, p.criteria.tariff, p.criteria.price, p.run_plan)

    def headline(self) -> str:
        """When it is ready, printed and off, and what nobody is there for."""
        found, judgement = self.schedule(), self.results.judgement()
        return run_sentence(found, judgement, self.units) if found is not None and judgement is not None else ""

    def draw(self) -> None:
        """Show the newest sheet."""
        found = self.schedule()
        if found is None:
            return
        on = found.switched_on
        self.table.blockSignals(True)
        self.table.show_rows([
            [f"{'☑' if p.step.done else '☐'} {p.step.title}", "left out" if p.step.left_out else moment_text(p.ends, on)]
            for p in found.planned
        ])  # fmt: skip
        for k, p in enumerate(found.planned):
            for c in range(2):
                item = self.table.item(k, c)
                if item is None:
                    continue
                if p.step.done or p.step.left_out:
                    item.setForeground(QColor(self.theme.soft))
                elif p.nobody and c == 1:
                    item.setForeground(QColor(self.theme.marginal))
                    item.setToolTip("Nobody is there at that hour")
        keys = [p.step.key for p in found.planned]
        if self._picked not in keys:
            self._picked = next((p.step.key for p in found.planned if not p.step.done), keys[0])
        self.table.selectRow(keys.index(self._picked))
        self.table.blockSignals(False)
        self._show_picked(found)
        self.moments.show_figures([
            Figure("Switched on", f"{on:%a %H:%M}"),
            Figure("Printed", moment_text(found.printed, on)),
            Figure("May be taken off", moment_text(found.taken_off, on)),
            *(Figure(*row) for row in others_lines(found, self.units)),
        ], self.theme)  # fmt: skip
        self.spool_note.setText("\n".join(spool_lines(found)))
        self.spool_note.setVisible(bool(spool_lines(found)))

    def number(self) -> int:
        """The number of the project's open print in the logbook; 0 where there is none."""
        shown, name = self.document.logbook.shown, self.project.name
        if shown is None:
            return 0
        machine = self.project.rig.name
        own = [p for p in shown.prints if p.name == name and not p.entered and shown.name_of(p.machine) == machine]
        return own[-1].number if own else 0

    def _pick(self) -> None:
        rows, found = self.table.selectionModel().selectedRows(), self.schedule()
        if rows and found is not None and rows[0].row() < len(found.planned):
            self._picked = found.planned[rows[0].row()].step.key
            self._show_picked(found)

    def _show_picked(self, found: Schedule) -> None:
        p = next((p for p in found.planned if p.step.key == self._picked), None)
        if p is None:
            return
        s, edit = p.step, self.project.run_plan.edit(self._picked)
        self.name.setText(s.title)
        lines = [
            s.what,
            *([f"Until: {s.gate}"] if s.gate else []),
            *([f"Why: {s.why}"] if s.why else []),
            *([f"Caution: {s.caution}"] if s.caution else []),
        ]
        if p.nobody:
            lines.append("Nobody is there at that hour: start at another time, or say who comes.")
        self.words.setText("\n".join(lines))
        self.done.setChecked(s.done)
        self.left_out.setChecked(s.left_out)
        for editor, text in ((self.who, edit.who), (self.other, edit.words)):
            if not editor.hasFocus():
                editor.setText(text)

    def _edit(self, **change: object) -> None:
        """Keep what a person made of the picked step."""
        plan, key = self.project.run_plan, self._picked
        if not key:
            return
        now = plan.edit(key)
        edited = StepEdit.model_validate(now.model_dump() | change)
        if edited == now:
            return
        kept = [e for e in plan.steps if e.key != key]
        if edited != StepEdit(key=key):
            kept.append(edited)
        try:
            self.document.edit("run_plan.steps", tuple(e.model_dump() for e in kept), "a step of the run")
        except InputError as error:
            self.document.problem.emit(str(error))

    def _save(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self, "Save the run sheet", "run-sheet.pdf",
            "PDF (*.pdf);;Web page (*.html);;Markdown (*.md);;Calendar (*.ics);;Values (*.csv);;Values (*.json)",
        )  # fmt: skip
        if name:
            self.save(Path(name))

    def save(self, path: Path) -> None:
        """Write the sheet in the form that the file's ending names; what is refused is told."""
        from mandorla.core.report.run_sheet import write_sheet  # the document library loads late: it takes a second

        found = self.schedule()
        if found is None:
            self.document.problem.emit("The sheet is still being made.")
            return
        try:
            write_sheet(path, self.project, found, self.units, self.number())
        except MandorlaError as error:
            self.document.problem.emit(str(error))
            return
        self.document.said.emit(f"Run sheet saved to {path.name}.")
