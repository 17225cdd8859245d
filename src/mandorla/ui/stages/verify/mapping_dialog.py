"""How a log is to be read: the dialog with separators, time and columns, and a preview that tells what is odd."""

from __future__ import annotations

from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QVBoxLayout,
    QWidget,
)

from mandorla.core.errors import InputError
from mandorla.core.measure.log_guess import first_lines, propose, unknown_places
from mandorla.core.measure.logs import preview
from mandorla.core.measure.models import LogChannel, LogMapping
from mandorla.core.units import KINDS, parse_quantity
from mandorla.ui.decimal_sign import shown
from mandorla.ui.stages.page import scrolling
from mandorla.ui.widgets.form import answer, heading
from mandorla.ui.widgets.pick_list import TextTable

DELIMITERS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "bar", " ": "space"}
DECIMALS = {".": "point", ",": "comma"}
FORMS = {
    "s": "seconds", "min": "minutes", "h": "hours", "ms": "milliseconds", "unix": "seconds since 1970",
    "iso": "2026-05-31 14:30:00",
    "day first": "31.05.2026 14:30:00", "month first": "05/31/2026 14:30:00", "clock": "14:30:00", "rows": "none: one row each",
}  # fmt: skip
WHAT = {"temperature": "temperature", "power": "power", "energy": "energy", "duty": "duty", "nothing": "leave out"}
PLACES = {
    "surface": "surface", "sensor": "printer's display", "upper air": "air above", "lower air": "air below", "frame": "frame",
    "room": "room", "power": "plug",
}  # fmt: skip
UNITS = {
    "temperature": ("°C", "°F", "K"), "power": ("W", "kW"), "energy": ("kWh", "Wh", "J"), "duty": ("%", "1"), "nothing": ("",),
}  # fmt: skip


def chooser(entries: dict[str, str], current: str, name: str) -> QComboBox:
    """A list of named entries."""
    box = QComboBox()
    box.setAccessibleName(name)
    for key, text in entries.items():
        box.addItem(text, key)
    box.setCurrentIndex(max(0, box.findData(current)))
    return box


class MappingDialog(QDialog):
    """How a log is to be read: separators, time, what each column is; the preview below tells what is odd."""

    def __init__(self, parent: QWidget, data: bytes, file: str, instruments: list[str], mapping: LogMapping, *,
        proposed: bool = False,
    ) -> None:  # fmt: skip
        """``proposed``: the mapping is a guess, so columns whose heading tells nothing are asked about."""
        super().__init__(parent)
        self.setWindowTitle(f"Read {file}")
        self.setMinimumSize(820, 560)
        self._data, self._file, self._instruments = data, file, ["", *instruments]
        self._mapping = mapping
        self._unknown = unknown_places(mapping) if proposed else ()
        column = QVBoxLayout(self)
        self.sentence = answer()
        column.addWidget(self.sentence)
        row = QHBoxLayout()
        self.delimiter = chooser(DELIMITERS, mapping.delimiter, "Columns are separated by")
        self.decimal = chooser(DECIMALS, mapping.decimal, "Decimals are marked by")
        self.form = chooser(FORMS, mapping.time_form, "Time is written as")
        for text, box in (("Columns by", self.delimiter), ("Decimals by", self.decimal), ("Time as", self.form)):
            row.addWidget(QLabel(text))
            row.addWidget(box)
            box.activated.connect(lambda _: self._changed())
        row.addStretch(1)
        column.addLayout(row)
        row = QHBoxLayout()
        self.start = QLineEdit(shown(f"{mapping.start / 60:g} min"))
        self.start.setAccessibleName("Heating began this long after the first line")
        self.offset = QLineEdit(shown(f"{mapping.clock_offset:g} s"))
        self.offset.setAccessibleName("Seconds to add to this clock")
        for text, edit in (("Heating began after", self.start), ("Clock is behind by", self.offset)):
            row.addWidget(QLabel(text))
            edit.setMaximumWidth(110)
            edit.editingFinished.connect(self._changed)
            row.addWidget(edit)
        row.addStretch(1)
        column.addLayout(row)
        self._grid_host = QWidget()
        self._grid = QGridLayout(self._grid_host)
        column.addWidget(scrolling(self._grid_host), 2)
        column.addWidget(heading("First lines as they are cut"))
        self.table = TextTable("Preview of the log", ("",))
        column.addWidget(self.table, 2)
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        column.addWidget(self.buttons)
        self._rows: list[tuple[QComboBox, QComboBox, QComboBox, QComboBox]] = []
        self._build_rows()
        self._changed()

    @property
    def mapping(self) -> LogMapping:
        """What was chosen."""
        return self._mapping

    def unit_of(self, row: int) -> QComboBox:
        """The list of units of a column."""
        return self._rows[row][1]

    def _build_rows(self) -> None:
        while self._grid.count():
            item = self._grid.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.deleteLater()
        self._rows = []
        for c, text in enumerate(("Column", "is a", "in", "of", "read by")):
            self._grid.addWidget(heading(text), 0, c)
        for r, channel in enumerate(self._mapping.channels, start=1):
            what = chooser(WHAT, channel.what, f"{channel.name} is")
            unit = chooser({u: u or "–" for u in UNITS[channel.what]}, channel.unit, f"Unit of {channel.name}")
            asked = channel.name in self._unknown
            places = {"": "choose …", **PLACES} if asked else PLACES
            place = chooser(places, "" if asked else channel.place, f"Place of {channel.name}")
            by = chooser(
                {n: n or "not named" for n in self._instruments}, channel.instrument, f"Instrument of {channel.name}"
            )
            self._grid.addWidget(QLabel(channel.name), r, 0)
            for c, box in enumerate((what, unit, place, by), start=1):
                self._grid.addWidget(box, r, c)
            what.activated.connect(lambda _, i=r - 1: self._new_kind(i))
            for box in (unit, place, by):
                box.activated.connect(lambda _: self._changed())
            self._rows.append((what, unit, place, by))
        self._grid.setRowStretch(len(self._rows) + 1, 1)

    def _new_kind(self, i: int) -> None:
        what, unit, place, _ = self._rows[i]
        unit.clear()
        for u in UNITS[what.currentData()]:
            unit.addItem(u or "–", u)
        if what.currentData() in ("power", "energy", "duty"):
            place.setCurrentIndex(place.findData("power"))
        self._changed()

    def _changed(self) -> None:
        delimiter, decimal = self.delimiter.currentData(), self.decimal.currentData()
        base = self._mapping
        if delimiter != base.delimiter:
            # other columns altogether
            try:
                base = propose(first_lines(self._data).replace(base.delimiter.encode(), delimiter.encode()), self._file)
            except InputError:
                base = base.model_copy(update={"channels": base.channels[:1]})
            base = base.model_copy(update={"delimiter": delimiter})
            self._mapping, self._unknown = base, unknown_places(base) if self._unknown else ()
            self._build_rows()
        channels = tuple(
            LogChannel(
                column=c.column, name=c.name, what=what.currentData(), unit=unit.currentData(),
                place=place.currentData() or "surface", instrument=by.currentData(), x=c.x, y=c.y,
            )
            for c, (what, unit, place, by) in zip(base.channels, self._rows, strict=True)
        )  # fmt: skip
        try:
            start = parse_quantity(self.start.text(), "duration", _MINUTES, "start")
            offset = parse_quantity(self.offset.text(), "time_constant", _SECONDS, "clock")
        except InputError as error:
            self._tell(str(error).splitlines()[0], good=False)
            return
        self._mapping = base.model_copy(
            update={
                "decimal": decimal, "time_form": self.form.currentData(), "channels": channels, "start": start,
                "clock_offset": offset,
            }
        )  # fmt: skip
        seen = preview(self._data, self._file, self._mapping)
        width = max((len(r) for r in seen.cells), default=1)
        names = {c.column: c.name for c in channels}
        self.table.show_rows(
            seen.cells[:12],
            [
                names.get(
                    i, "time" if i == base.time_column else "date" if i == base.date_column else f"column {i + 1}"
                )
                for i in range(width)
            ],
        )
        unanswered = [
            c.name
            for c, (what, _, place, _) in zip(channels, self._rows, strict=True)
            if what.currentData() == "temperature" and not place.currentData()
        ]
        if seen.refused:
            self._tell(seen.refused, good=False)
        elif unanswered:
            listed = ", ".join(f"“{n}”" for n in unanswered)
            self._tell(
                f"What did {listed} measure? The headings do not say: choose a place, or leave it out.", good=False
            )
        else:
            self._tell("; ".join(seen.problems) or "The first lines are read without anything odd.", good=True)

    def _tell(self, text: str, *, good: bool) -> None:
        self.sentence.setText(text)
        button = self.buttons.button(QDialogButtonBox.StandardButton.Ok)
        button.setText("Import")
        button.setEnabled(good)


_MINUTES = KINDS["duration"][0]
_SECONDS = KINDS["time_constant"][0]
