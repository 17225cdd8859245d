"""Prints: what was predicted of each and what came out; the next one is begun here, and its end entered in seconds."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any, Final

import numpy as np
from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QColor, QImage
from PySide6.QtWidgets import (
    QCheckBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from mandorla.core.errors import MandorlaError
from mandorla.core.input_file import bytes_of
from mandorla.core.logbook.messages import SEEN, chance_text, counted, missing_sentence, outcome_text, way_name
from mandorla.core.logbook.records import Effect, KeptProject, Outcome, Picture, Print, checked
from mandorla.core.project.atomic import write_atomically
from mandorla.core.project.store import bundle_bytes
from mandorla.core.results.key import Key
from mandorla.core.results.keys import GEOMETRY, PRINT_ENTRY, SETTINGS_CHECK
from mandorla.core.units import KINDS, parse_quantity
from mandorla.ui.document import Document
from mandorla.ui.live_results import in_words
from mandorla.ui.stages.logbook.foot_click import FootClick
from mandorla.ui.stages.logbook.log_view import LogView, button, choice, fill, line
from mandorla.ui.stages.logbook.pictures import SMALL, PictureRow, picture_of
from mandorla.ui.stages.page import side_column
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.widgets.form import heading, panel, soft
from mandorla.ui.widgets.pick_list import TextTable

PREPARED = (
    ("not stated", ""),
    ("washed", "washed"),
    ("wiped", "wiped"),
    ("coated", "coated"),
    ("nothing done", "nothing"),
)
_NEW = "new"
_LARGEST_PICTURE: Final = 50_000_000  # bytes


class PrintsView(LogView):
    """All prints at the left, newest first; the one that begins, and how the picked one ended, at the right."""

    key = "prints"
    title = "Prints"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        self._picked = ""
        self._wanted: Key[Print] | None = None
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        top = QHBoxLayout()
        self.search = line("Search the prints", "Search")
        self.search.textChanged.connect(self._show_table)
        top.addWidget(self.search, 1)
        self.export = button("Export …", self._export)
        top.addWidget(self.export)
        column.addLayout(top)
        self.table = TextTable("Prints", ("Print", "Day", "Plate", "Predicted", "Came out"), "No print fits")
        self.table.itemSelectionChanged.connect(self._pick)
        header = self.table.horizontalHeader()
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.ResizeToContents)
        header.setSectionResizeMode(4, QHeaderView.ResizeMode.Stretch)
        came_out = self.table.horizontalHeaderItem(4)
        if came_out is not None:
            came_out.setTextAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        column.addWidget(self.table, 1)
        self.about = soft()
        column.addWidget(self.about)
        self.pictures = PictureRow(self._load_picture, self._save_picture, self._remove_picture)
        column.addWidget(self.pictures)
        body.addWidget(frame, 1)
        area, side = side_column(372)
        side.addWidget(self._beginning())
        side.addWidget(self._ending())
        side.addStretch(1)
        body.addWidget(area)

    # ---- what it is made of
    def _beginning(self) -> QWidget:
        frame, column = panel()
        column.addWidget(heading("The project is printed now"))
        grid = QGridLayout()
        self.plate, self.spool, self.prepared, self.trial = (
            choice("Plate"), choice("Spool"), choice("Plate was"), choice("Trial")
        )  # fmt: skip
        self.new_plate, self.new_spool = line("Name of the new plate", "Name"), line("Name of the new spool", "Name")
        for r, (caption, box, more) in enumerate((
            ("Plate", self.plate, self.new_plate), ("Spool", self.spool, self.new_spool), ("Plate was", self.prepared, None),
            ("For a trial", self.trial, None),
        )):  # fmt: skip
            label = QLabel(caption)
            label.setFont(font(9.5))
            grid.addWidget(label, r, 0)
            grid.addWidget(box, r, 1)
            if more is not None:
                grid.addWidget(more, r, 2)
                box.currentIndexChanged.connect(partial(self._show_new, box, more))
        grid.setColumnStretch(1, 1)
        column.addLayout(grid)
        fill(self.prepared, [*PREPARED])
        self.begin_button = button("Begin a print", self.begin, first=True)
        column.addWidget(self.begin_button)
        self.begin_note = soft()
        column.addWidget(self.begin_note)
        return frame

    def _ending(self) -> QWidget:
        frame, column = panel()
        self.end_title = heading("How it ended")
        column.addWidget(self.end_title)
        self.held = button("Held: nothing to be seen", self._enter_held, first=True)
        column.addWidget(self.held)
        self.seen: dict[str, QCheckBox] = {}
        grid = QGridLayout()
        grid.setVerticalSpacing(2)
        for n, way in enumerate(SEEN):
            box = self.seen[way] = QCheckBox(way_name(way))
            box.setFont(font(9.0))
            grid.addWidget(box, n, 0)
        column.addLayout(grid)
        fields = QGridLayout()
        self.low, self.high, self.lift = (
            line("Still sound at", "sound at"), line("Seen at", "seen at"), line("Lift", "lift")
        )  # fmt: skip
        self.finish = line("Finish and imprints", "finish, imprints")
        self.accident, self.energy, self.note = (
            line("Accident of another cause", "power cut, jam, …"), line("Energy at the plug", "kWh"), line("Note", "Note")
        )  # fmt: skip
        rows: tuple[tuple[str, tuple[QWidget, ...]], ...] = (
            ("Height", (self.low, self.high)), ("By", (self.lift,)), ("Accident", (self.accident,)),
            ("Finish", (self.finish,)), ("Metered", (self.energy,)),
            ("Note", (self.note,)),
        )  # fmt: skip
        for r, (caption, widgets) in enumerate(rows):
            label = QLabel(caption)
            label.setFont(font(9.5))
            fields.addWidget(label, r, 0)
            for c, widget in enumerate(widgets):
                fields.addWidget(widget, r, 1 + c, 1, 3 - len(widgets))
        column.addLayout(fields)
        counts = QHBoxLayout()
        self.good, self.copies = QSpinBox(), QSpinBox()
        for spin, name in ((self.good, "Good copies"), (self.copies, "All copies")):
            spin.setRange(0 if spin is self.good else 1, 10000)
            spin.setValue(1)
            spin.setAccessibleName(name)
        self.sellable = QCheckBox("can be used")
        self.sellable.setChecked(True)
        for widget in (self.good, QLabel("good of"), self.copies, self.sellable):
            counts.addWidget(widget)
        counts.addStretch(1)
        column.addLayout(counts)
        column.addWidget(soft("Click where it was seen:"))
        self.foot = FootClick("Where it was seen, from above")
        column.addWidget(self.foot)
        row = QVBoxLayout()
        self.enter = button("Enter what was seen", self._enter_seen)
        self.picture = button("Add a picture …", self._add_picture)
        self.as_was = button("Save its project as it was …", self._save_project)
        row.addWidget(self.enter)
        row.addWidget(self.picture)
        row.addWidget(self.as_was)
        column.addLayout(row)
        self.refusal = soft()
        self.refusal.setObjectName("stale")
        self.refusal.hide()
        column.addWidget(self.refusal)
        self.ending = frame
        return frame

    def _show_new(self, box: Any, more: QWidget, _: int = 0) -> None:
        more.setVisible(box.currentData() == _NEW)

    # ---- what it shows
    def also(self) -> tuple[Key[Any], ...]:
        """The project's entry and its outline, where it has a part; the check by a full simulation that the entry then keeps."""
        return (GEOMETRY, PRINT_ENTRY, self.entry_key(), SETTINGS_CHECK) if self.project.part is not None else ()

    def entry(self) -> Print | None:
        """What is kept of the project: by the full simulation where there is one, else by the quick estimate."""
        if self.project.part is None:
            return None
        return self.results.value(self.entry_key()) or self.results.value(PRINT_ENTRY)

    def headline(self) -> str:
        """How many prints there are, and what is missing."""
        shown = self.logbook.shown
        if shown is None:
            return "The logbook keeps what was predicted and what came out."
        weak = [f"{shown.name_of(w.plate)}, {w.side}, grips less than it did" for w in shown.weaker]
        failed = sum(p.outcome is not None and p.outcome.failed for p in shown.prints)
        entered = sum(p.entered for p in shown.prints)
        text = f"{counted(len(shown.prints))}; of {entered} whose end is known {failed} failed."
        return " ".join(t for t in (text, *(f"{w}." for w in weak), missing_sentence(shown.prints)) if t)

    def draw(self) -> None:
        """Show the book."""
        if self.entry_key() != self._wanted:
            self._wanted = self.entry_key()
            self.wants_changed()
        s, process = self.shown, self.project.process
        own = process.own_plate
        plates = [(p.name, p.key) for p in s.plates if not p.retired]
        current = next((k for n, k in plates if own is not None and n == own.name), None)
        fill(self.plate, [("not stated", ""), *plates, ("new …", _NEW)], current if self.plate.count() == 0 else None)
        spools = [(v.name, v.key) for v in s.spools if not v.retired and v.polymer == process.polymer]
        fill(self.spool, [("not stated", ""), *spools, ("new …", _NEW)])
        for box, more in ((self.plate, self.new_plate), (self.spool, self.new_spool)):
            self._show_new(box, more)
        open_trials = [t for t in s.trials if not t.closed]
        arms = [(f"{t.name}: {arm}", f"{t.key}|{arm}") for t in open_trials for arm in (t.arms or ("",))]
        fill(self.trial, [("none", ""), *((text.rstrip(": "), key) for text, key in arms)])
        entry = self.entry()
        self.begin_button.setEnabled(entry is not None)
        number = max((p.number for p in s.prints), default=0) + 1
        self.begin_button.setText(f"Begin print {number}")
        if self.project.part is None:
            note = "There is no part: open one to print it."
        elif entry is None:
            note = "The prediction is being computed …"
        else:
            checked_by = (
                ""
                if self.entry_key().parameters != PRINT_ENTRY.parameters
                else " (quick estimate; it is being checked)"
            )
            note = f"Predicted: {chance_text(entry)} that anything fails{checked_by}. Kept with the project as it is."
        self.begin_note.setText(note)
        geometry = self.results.value(GEOMETRY) if self.project.part is not None else None
        outline = geometry.sections.footprint if geometry is not None else np.zeros((0, 2))
        self.foot.show_outline(outline, self.theme)
        self._show_table()

    def _rows(self) -> list[Print]:
        text = self.search.text().strip().lower()
        found = [p for p in reversed(self.shown.prints)]
        if text:
            found = [p for p in found if text in self._text(p).lower()]
        return found

    def _text(self, p: Print) -> str:
        names = " ".join(self.shown.name_of(k) for k in (p.machine, p.plate, p.spool, p.trial))
        return f"{p.number} {p.at} {p.name} {p.polymer} {names} {p.note} {outcome_text(p.outcome, self.units)}"

    def _show_table(self) -> None:
        if self.logbook.shown is None:
            return
        prints = self._rows()
        self.table.blockSignals(True)
        self.table.show_rows([
            [
                f"{p.number}  {p.name}", p.at[:10], self.shown.name_of(p.plate), chance_text(p),
                outcome_text(p.outcome, self.units),
            ]
            for p in prints
        ])  # fmt: skip
        for r, p in enumerate(prints):
            item = self.table.item(r, 4)
            if item is not None:
                item.setToolTip(item.text())
                item.setTextAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
                o = p.outcome
                color = self.theme.marginal if o is None else self.theme.fails if o.failed else self.theme.ink
                item.setForeground(QColor(color))
        keys = [p.key for p in prints]
        if self._picked not in keys:
            self._picked = next((p.key for p in prints if not p.entered), keys[0] if keys else "")
        if self._picked in keys:
            self.table.selectRow(keys.index(self._picked))
        self.table.blockSignals(False)
        self._show_picked()

    def _pick(self) -> None:
        rows, prints = self.table.selectionModel().selectedRows(), self._rows()
        if rows and rows[0].row() < len(prints):
            self._picked = prints[rows[0].row()].key
            self._show_picked()

    def picked(self) -> Print | None:
        """The print that is picked."""
        return next((p for p in self.shown.prints if p.key == self._picked), None)

    def _show_picked(self) -> None:
        p = self.picked()
        self.ending.setVisible(p is not None)
        if p is None:
            self.about.setText("No print yet: begin one when the project is printed.")
            self.pictures.show_pictures(())
            return
        self.pictures.show_pictures(self.shown.pictures_of(p.key))
        self.end_title.setText(f"How print {p.number} ended" if not p.entered else f"Print {p.number} ended: change it")
        self.as_was.setEnabled(bool(p.project))
        use, s = self.shown.used.get(p.key), self.shown
        parts = [
            s.name_of(p.machine),
            f"{s.name_of(p.plate)}, {p.side}" if p.plate else "",
            s.name_of(p.spool),
            p.polymer.upper(),
        ]
        if use is not None and p.plate:
            parts.append(f"{counted(use.since_wash)} since the plate was washed")
        likely = max(p.predicted.items(), key=lambda kv: kv[1].probability or 0.0, default=None)
        if likely is not None and (likely[1].probability or 0.0) > 0.01:
            parts.append(f"likeliest: {way_name(likely[0]).lower()}")
        if p.trial:
            parts.append(f"trial {s.name_of(p.trial)} {p.arm}".rstrip())
        if p.note:
            parts.append(p.note)
        self.about.setText(" · ".join(t for t in parts if t))

    # ---- what a person does
    def begin(self) -> None:
        """Begin a print of the project as it is."""
        entry = self.entry()
        if entry is None:
            return
        data, project = bundle_bytes(self.document.bundle), self.project
        own = project.process.own_plate
        plate_key, spool_key = self.plate.currentData(), self.spool.currentData()
        plate = self.new_plate.text().strip() if plate_key == _NEW else self.shown.name_of(plate_key or "")
        spool = self.new_spool.text().strip() if spool_key == _NEW else self.shown.name_of(spool_key or "")
        trial_key, _, arm = (self.trial.currentData() or "").partition("|")
        trial = next((t for t in self.shown.trials if t.key == trial_key), None)
        prepared = self.prepared.currentData() or ""
        back = own.back.surface if own is not None and own.back is not None else ""

        def write(shop: Any) -> Print:
            begun = shop.begin(
                entry,
                data,
                machine=project.rig.name,
                plate=plate,
                back=back,
                spool=spool,
                prepared=prepared,
                trial=trial,
                arm=arm,
            )
            assert isinstance(begun, Print)
            return begun

        self.write("Beginning a print", write, self._begun)

    def _begun(self, p: Print) -> None:
        self._picked = p.key
        for edit in (self.new_plate, self.new_spool):
            edit.clear()
        fill(self.plate, [], None)
        self.document.said.emit(f"Print {p.number} is in the book; its number stands on the run sheet.")

    def _enter_held(self) -> None:
        self._enter(())

    def _enter_seen(self) -> None:
        try:
            low, high, lift = (
                self.length(self.low, "Still sound at"),
                self.length(self.high, "Seen at"),
                self.length(self.lift, "By"),
            )
            places = self.foot.places
            values = [
                {
                    "way": way, "low": low or 0.0, "high": high,
                    "lift": lift if way in ("adhesion", "flatness", "loose_plate") else None,
                    "count": max(1, self.copies.value() - self.good.value() if self.copies.value() > 1 else len(places)),
                    "x": places[0][0] if places else None, "y": places[0][1] if places else None,
                }
                for way, box in self.seen.items() if box.isChecked()
            ]  # fmt: skip
            effects = tuple(checked(Effect, v) for v in values)
        except MandorlaError as error:
            self._refuse(in_words(error))
            return
        self._enter(effects)

    def _refuse(self, text: str) -> None:
        self.refusal.setText(text)
        self.refusal.setVisible(bool(text))

    def _enter(self, effects: tuple[Any, ...]) -> None:
        p = self.picked()
        if p is None:
            return
        copies, good = self.copies.value(), self.good.value()
        if copies == 1:
            good = 0 if effects else 1
        values = {
            "held": not effects, "effects": effects, "accident": self.accident.text().strip(), "good": good, "copies": copies,
            "sellable": self.sellable.isChecked() and not (effects and copies == 1), "note": self.note.text().strip(),
            "finish": self.finish.text().strip(), "signs": p.outcome.signs if p.outcome is not None else (),
        }  # fmt: skip
        try:
            outcome = checked(Outcome, values)
            text = self.energy.text().strip()
            energy = parse_quantity(text, "energy", KINDS["energy"][0], "Energy at the plug") if text else None
            high = self.length(self.high, "Seen at")
        except MandorlaError as error:
            self._refuse(in_words(error))
            return
        if outcome.accident and not effects:
            outcome = outcome.model_copy(update={"accident_at": high})
        self._refuse("")
        self.write("Entering how a print ended", lambda shop: shop.end(p.key, outcome, energy=energy), self._entered)

    def _entered(self, p: Print) -> None:
        for box in self.seen.values():
            box.setChecked(False)
        for edit in (self.low, self.high, self.lift, self.accident, self.energy, self.note, self.finish):
            edit.clear()
        self.foot.clear()
        self.good.setValue(1)
        self.copies.setValue(1)
        self.document.said.emit(
            f"Print {p.number}: {outcome_text(p.outcome, self.units)}. Predictions follow what is in the book."
        )

    def _add_picture(self) -> None:
        p = self.picked()
        name, _ = QFileDialog.getOpenFileName(self, "A picture of the part", "", "Pictures (*.png *.jpg *.jpeg)")
        if p is None or not name:
            return

        def write(shop: Any) -> None:
            data = bytes_of(Path(name), _LARGEST_PICTURE)
            picture_of(data, SMALL)  # what is no picture is refused before it is kept
            shop.book.put(Picture(name=Path(name).name[:120], of=p.key), data)

        self.write("Adding a picture", write)

    def _load_picture(self, picture: Picture, size: QSize, done: Callable[[QImage | None], None]) -> None:
        self.logbook.fetch("Reading a picture", lambda shop: picture_of(shop.book.bytes_of(picture), size), done)

    def _save_picture(self, picture: Picture) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self, "A copy of the picture", picture.name, "Pictures (*.png *.jpg *.jpeg)"
        )
        if not name:
            return

        def write(shop: Any) -> None:
            write_atomically(Path(name), shop.book.bytes_of(picture))

        self.write("Saving a picture", write, lambda _: self.document.said.emit(f"Written: {name}"))

    def _remove_picture(self, picture: Picture) -> None:
        self.write("Taking a picture out", lambda shop: shop.book.remove(picture))

    def _save_project(self) -> None:
        p = self.picked()
        if p is None or not p.project:
            return
        name, _ = QFileDialog.getSaveFileName(
            self, "The project as it was", f"print-{p.number}.mandorla", "Mandorla (*.mandorla)"
        )
        if not name:
            return

        def write(shop: Any) -> None:
            write_atomically(Path(name), shop.book.bytes_of(shop.book.get(KeptProject, p.project)))

        self.write("Saving a project", write, lambda _: self.document.said.emit(f"Written: {name}"))

    def _export(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Export the logbook", "logbook.json", "JSON (*.json)")
        if not name:
            return

        def write(shop: Any) -> None:
            from mandorla.core.logbook.interchange import export  # loads late, on its thread

            export(shop.book, Path(name))

        self.write("Exporting the logbook", write, lambda _: self.document.said.emit(f"Written: {name}"))
