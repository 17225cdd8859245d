"""What worked, what is due, and the workshop's machines, plates, spools and instruments over time."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtWidgets import QFileDialog, QGridLayout, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from mandorla.core.errors import InputError, MandorlaError
from mandorla.core.logbook.evidence_sheet import plate_sheet
from mandorla.core.logbook.latent import Use
from mandorla.core.logbook.records import Instrument, PlateEvent, Spool, checked
from mandorla.core.logbook.worked import SETTINGS, Worked
from mandorla.core.project.atomic import write_atomically
from mandorla.core.project.paths import meaning_at, parse_at
from mandorla.core.results.key import Key
from mandorla.core.results.keys import CARRIED_OVER
from mandorla.core.units import show, show_number
from mandorla.ui.document import Document
from mandorla.ui.live_results import in_words
from mandorla.ui.stages.logbook.log_view import LogView, button, choice, fill, line
from mandorla.ui.stages.page import scrolling, side_column
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.widgets.form import heading, panel, soft
from mandorla.ui.widgets.pick_list import TextTable

EVENTS = (("washed", "washed"), ("wiped", "wiped"), ("scuffed lightly", "scuffed"), ("marked", "marked"), ("damaged", "damaged"),
          ("renewed", "renewed"))  # fmt: skip


class ThingsView(LogView):
    """What worked in the middle; plates, spools, instruments and energy below and beside it."""

    key = "things"
    title = "What worked"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        inner = QWidget()
        left = QVBoxLayout(inner)
        left.setContentsMargins(0, 0, 0, 0)
        left.setSpacing(10)
        frame, column = panel(8)
        column.addWidget(heading("Best-proven settings"))
        self.table = TextTable(
            "Best-proven settings",
            ("Machine, surface, polymer", "Bed, chamber", "Good", "Good at least"),
            "No print has ended yet",
        )
        self.table.setMinimumHeight(150)
        self.table.itemSelectionChanged.connect(self._picked_changed)
        column.addWidget(self.table, 1)
        row = QHBoxLayout()
        self.take_button = button("Take into the project", self.take, first=True)
        row.addWidget(self.take_button)
        self.take_note = soft()
        row.addWidget(self.take_note, 1)
        column.addLayout(row)
        left.addWidget(frame, 1)
        frame, column = panel(8)
        column.addWidget(heading("Energy by month, at the plug"))
        self.energy = TextTable(
            "Energy by month",
            ("Month and machine", "Prints", "Predicted", "Metered", "Ratio", "Cost", "Share"),
            "No print yet",
        )
        self.energy.setMinimumHeight(110)
        column.addWidget(self.energy)
        left.addWidget(frame)
        body.addWidget(scrolling(inner, fill=True), 1)
        area, side = side_column(372)
        frame, column = panel()
        column.addWidget(heading("Due"))
        self.due = soft()
        column.addWidget(self.due)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("Plates"))
        self.plates = TextTable("Plates", ("Plate and side", "Prints", "Since wash", "Hours"), "No plate yet")
        self.plates.setMinimumHeight(110)
        column.addWidget(self.plates)
        grid = QGridLayout()
        self.plate, self.side_up, self.what = choice("Plate"), choice("Side"), choice("What was done")
        fill(self.side_up, [("front", "front"), ("back", "back")])
        fill(self.what, [*EVENTS])
        for r, (caption, box) in enumerate((("Plate", self.plate), ("Side", self.side_up), ("It was", self.what))):
            label = QLabel(caption)
            label.setFont(font(9.5))
            grid.addWidget(label, r, 0)
            grid.addWidget(box, r, 1)
        column.addLayout(grid)
        column.addWidget(button("Note it", self.note_event))
        column.addWidget(button("Evidence sheet …", self.write_sheet))
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("Spools and instruments"))
        self.spools = TextTable("Spools", ("Spool", "Lot", "Opened", "Dried"), "No spool yet")
        self.spools.setMinimumHeight(80)
        column.addWidget(self.spools)
        self.spool, self.lot, self.opened = (
            line("Spool's name", "new or known spool"),
            line("Lot", "lot"),
            line("Opened or dried on", "opened on, 2026-11-28"),
        )
        for edit in (self.spool, self.lot, self.opened):
            column.addWidget(edit)
        column.addWidget(button("Enter the spool", self.enter_spool))
        self.instruments = TextTable("Instruments", ("Instrument", "Calibrated"), "No instrument yet")
        self.instruments.setMinimumHeight(60)
        column.addWidget(self.instruments)
        self.instrument, self.calibrated = (
            line("Instrument's name", "new or known instrument"),
            line("Calibrated on", "calibrated on"),
        )
        column.addWidget(self.instrument)
        column.addWidget(self.calibrated)
        column.addWidget(button("Enter the instrument", self.enter_instrument))
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)

    # ---- what it shows
    def _chosen(self) -> Worked | None:
        row = self.table.currentRow()
        return self.shown.worked[row] if self.logbook.shown is not None and 0 <= row < len(self.shown.worked) else None

    def _carried_key(self) -> Key[dict[str, float]] | None:
        """Set points at which plate and air are as they were on another machine; None where it is this one."""
        w = self._chosen()
        if w is None or self.project.part is None or self.shown.name_of(w.machine) == self.project.rig.name:
            return None
        newest = next((p for p in self.shown.prints if p.key == w.newest), None)
        if newest is None or newest.plate_at is None or newest.air_at is None:
            return None
        return CARRIED_OVER.of(plate=newest.plate_at, air=newest.air_at)

    def also(self) -> tuple[Key[Any], ...]:
        """What would have to change on this machine."""
        key = self._carried_key()
        return (key,) if key is not None else ()

    def headline(self) -> str:
        """The best proven for this machine, surface and polymer."""
        s = self.logbook.shown
        if s is None or not s.worked:
            return "What worked is listed here, with how often."
        p = self.project
        own = [
            w for w in s.worked
            if (s.name_of(w.machine), w.surface, w.polymer) == (p.rig.name, p.process.surface_key, p.process.polymer)
        ]  # fmt: skip
        if not own:
            return "Nothing was printed yet on this machine with this surface and polymer; others may be carried over."
        w = own[0]
        return (
            f"Best proven here: {self._settings(w)}, {w.good} of {w.parts} parts good in {w.prints} prints, at least "
            f"{100 * w.at_least:.0f} % (90 % sure)."
        )

    def _set(self, w: Worked, path: str) -> str:
        text = w.settings.get(path, "")
        try:
            meaning = meaning_at(self.project, path)
            return show(float(text), meaning.kind, self.units) if meaning is not None else text
        except (ValueError, InputError):
            return text or "–"

    def _short(self, w: Worked) -> str:
        """Bed and chamber in a cell."""
        values = [w.settings.get(f"settings.{k}", "") for k in ("bed_first", "bed_rest", "chamber")]
        texts = [show_number(float(v), "set_point", self.units, digits=0) if v else "–" for v in values]
        return f"{texts[0]} / {texts[1]}, {texts[2]} {self.units.unit('temperature').symbol}"

    def _settings(self, w: Worked) -> str:
        chamber = f", chamber {self._set(w, 'settings.chamber')}" if w.settings.get("settings.chamber") else ""
        return f"bed {self._set(w, 'settings.bed_first')}, then {self._set(w, 'settings.bed_rest')}{chamber}"

    def draw(self) -> None:
        """Show the workshop."""
        s = self.shown
        row = self.table.currentRow()
        self.table.blockSignals(True)
        self.table.show_rows([
            [
                f"{s.name_of(w.machine)}, {w.surface.replace('_', ' ')}, {w.polymer.upper()}",
                self._short(w), f"{w.good} of {w.parts} in {w.prints}", f"{100 * w.at_least:.0f} %",
            ]
            for w in s.worked
        ])  # fmt: skip
        if s.worked:
            self.table.selectRow(min(max(row, 0), len(s.worked) - 1))
        self.table.blockSignals(False)
        self._show_take()
        self.due.setText("\n".join(f"• {d.words}" for d in s.due) or "Nothing is due.")
        used = dict(s.experience.used) if s.experience is not None else {}
        plates = [
            (p, side) for p in s.plates if not p.retired for side in ("front", "back") if side == "front" or p.back
        ]
        rows = [(p, side, used.get((p.key, side), Use(0, 0))) for p, side in plates]
        hours = {
            (p.key, side): sum(q.duration for q in s.prints if (q.plate, q.side) == (p.key, side))
            for p, side, _ in rows
        }
        self.plates.show_rows([
            [f"{p.name}, {side}", str(use.ever), str(use.since_wash), f"{hours[p.key, side] / 3600.0:.0f}"] for p, side, use in rows
        ])  # fmt: skip
        fill(self.plate, [(p.name, p.key) for p in s.plates if not p.retired])
        self.spools.show_rows([[v.name, v.lot, v.opened[:10], v.dried[:10]] for v in s.spools if not v.retired])
        self.instruments.show_rows([[i.name, i.calibrated[:10] or "never"] for i in s.instruments])
        self.energy.show_rows([
            [
                f"{m.month}, {s.name_of(m.machine)}", str(m.prints), show(m.predicted, "energy", self.units),
                show(m.metered, "energy", self.units) if m.metered else "–",
                f"{m.metered / m.predicted_of_metered:.2f}" if m.metered and m.predicted_of_metered else "–",
                f"{m.cost:.2f} {self.project.criteria.currency}", show(m.share, "fraction", self.units, digits=0),
            ]
            for m in s.months
        ])  # fmt: skip

    def _picked_changed(self) -> None:
        self.wants_changed()
        self._show_take()

    def _show_take(self) -> None:
        w, key = self._chosen(), self._carried_key() if self.logbook.shown is not None else None
        self.take_button.setEnabled(w is not None and (key is None or self.results.value(key) is not None))
        if w is None:
            self.take_note.setText("")
        elif self.shown.name_of(w.machine) == self.project.rig.name:
            self.take_note.setText("This machine: taken as it was.")
        elif key is None:
            self.take_note.setText(
                "Another machine, and nothing is known of its plate: taken as it was, check it in Warp."
            )
        else:
            carried = self.results.value(key)
            texts = [
                f"{'bed' if 'bed' in p else 'chamber'} {show(v, 'set_point', self.units)}"
                for p, v in (carried or {}).items()
            ]
            self.take_note.setText(
                f"Another machine: for the same plate and air, {', '.join(texts)} here."
                if carried is not None
                else "Another machine: what has to change here is being computed …"
            )

    # ---- what a person does
    def take(self) -> None:
        """Take the chosen settings into the project, carried over where they are another machine's."""
        w = self._chosen()
        if w is None:
            return
        key = self._carried_key()
        carried = self.results.value(key) if key is not None else None
        values: dict[str, Any] = {}
        try:
            for path in SETTINGS:
                if path in w.settings and path != "process.coating":
                    values[path] = parse_at(self.project, path, w.settings[path], si=True)
            if carried is not None:
                first, rest = values.get("settings.bed_first"), values.get("settings.bed_rest")
                values |= carried
                if first is not None and rest is not None:
                    values["settings.bed_first"] = min(
                        first + carried["settings.bed_rest"] - rest, self.project.rig.limits.bed_max
                    )
            self.document.edit_many(values, "Take what worked")
        except MandorlaError as error:
            self.document.problem.emit(str(error))
            return
        self.document.said.emit(f"Taken: {self._settings(w)}. Undo brings the old settings back.")

    def note_event(self) -> None:
        """Note what was done to a plate's side."""
        plate = self.plate.currentData()
        if not plate:
            return
        made = PlateEvent(plate=plate, side=self.side_up.currentData(), what=self.what.currentData())
        self.write("Noting what was done to a plate", lambda shop: shop.book.put(made))

    def write_sheet(self) -> None:
        """Write what the prints say of a plate's side, to hand in with one that is returned."""
        plate, side, s = self.plate.currentData(), self.side_up.currentData(), self.shown
        found = next((p for p in s.plates if p.key == plate), None)
        if found is None or s.experience is None:
            return
        name, _ = QFileDialog.getSaveFileName(self, "Evidence sheet", f"{found.name}-{side}.md", "Markdown (*.md)")
        if not name:
            return
        try:
            text = plate_sheet(found, side, s.prints, s.events, s.trials, s.experience, self.units)
            write_atomically(Path(name), text.encode())
        except MandorlaError as error:
            self.document.problem.emit(in_words(error))
            return
        self.document.said.emit(f"Written: {name}")

    def enter_spool(self) -> None:
        """Enter a spool, or that a known one was dried."""
        name, day = self.spool.text().strip(), self.opened.text().strip()
        known = next((s for s in self.shown.spools if s.name == name), None)
        try:
            if not name:
                raise InputError("Give the spool a name.")
            if known is not None:
                made = Spool.model_validate(
                    known.model_dump() | {"dried": day, "lot": self.lot.text().strip() or known.lot}
                )
            else:
                values = {
                    "name": name,
                    "polymer": self.project.process.polymer,
                    "lot": self.lot.text().strip(),
                    "opened": day,
                }
                made = checked(Spool, values)
        except InputError as error:
            self.document.problem.emit(in_words(error))
            return
        self.write("Entering a spool", lambda shop: shop.book.put(made), lambda _: self._clear())

    def enter_instrument(self) -> None:
        """Enter an instrument, or a new calibration of a known one."""
        name = self.instrument.text().strip()
        known = next((i for i in self.shown.instruments if i.name == name), None)
        try:
            if not name:
                raise InputError("Give the instrument a name.")
            values = (known.model_dump() if known is not None else {"name": name}) | {
                "calibrated": self.calibrated.text().strip()
            }
            made = checked(Instrument, values)
        except InputError as error:
            self.document.problem.emit(in_words(error))
            return
        self.write("Entering an instrument", lambda shop: shop.book.put(made), lambda _: self._clear())

    def _clear(self) -> None:
        for edit in (self.spool, self.lot, self.opened, self.instrument, self.calibrated):
            edit.clear()
