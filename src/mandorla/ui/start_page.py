"""What is seen with nothing open: describe a machine with a few facts, open a project, take the demo workshop."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

from PySide6.QtCore import QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QWidget,
)

from mandorla.core.errors import InputError, MandorlaError
from mandorla.core.input_file import bytes_of
from mandorla.core.materials.library_data import polymers
from mandorla.core.materials.plate_library import plate_surfaces
from mandorla.core.measure.log_guess import open_questions, propose
from mandorla.core.measure.models import LogMapping
from mandorla.core.part.mesh import UNITS
from mandorla.core.project.facts import facts_of
from mandorla.core.project.own_machines import kept, load
from mandorla.core.quantity_field import meaning_of
from mandorla.core.rig.archetypes import ARCHETYPES, USUAL_POLYMER, Assumption, Facts, Kind, assumptions, machine_of
from mandorla.core.rig.model import Rig
from mandorla.core.units import UnitPreferences, parse_quantity, show, show_number
from mandorla.ui.live_results import in_words
from mandorla.ui.stages.verify.mapping_dialog import MappingDialog
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.widgets.charts import column_that_scrolls
from mandorla.ui.widgets.fields import refuse
from mandorla.ui.widgets.form import heading, panel, soft

if TYPE_CHECKING:
    from mandorla.core.project.begin import LogBeginning  # the numerics load with it

_SETTLED: Final = 500  # ms after the last edit, when a log is read again
# facts that are asked for, by kind of machine
ASKED: dict[Kind, tuple[str, ...]] = {
    "open": ("width", "depth", "plate", "heater", "bed_max", "room"),
    "closed": ("width", "depth", "plate", "heater", "bed_max", "chamber_height", "chamber_heater", "room"),
    "hot": ("width", "depth", "plate", "heater", "bed_max", "chamber_height", "chamber_heater", "chamber_max", "room"),
}


class MachineSketch(QWidget):
    """A machine as it grows while its facts are typed: the bed in its chamber to scale, and its layers by name."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("The machine as described")
        self.setMinimumSize(250, 200)
        self._rig: Rig | None = None
        self._theme: Theme | None = None

    def show_rig(self, rig: Rig | None, theme: Theme) -> None:
        """Draw a machine; None where the facts make none."""
        self._rig, self._theme = rig, theme
        if rig is not None:
            self.setAccessibleDescription(", ".join(layer.name for layer in rig.bed.layers))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw."""
        rig, t = self._rig, self._theme
        if rig is None or t is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        c, bed = rig.chamber, rig.bed
        wide, high = (c.width, c.height) if c.enclosed else (1.25 * bed.width, 0.7 * bed.width)
        room = QRectF(self.rect()).adjusted(8, 8, -8, -8)
        names = 130.0
        scale = min((room.width() - names - 16.0) / wide, room.height() / high)
        box = QRectF(room.left(), room.bottom() - high * scale, wide * scale, high * scale)
        if c.enclosed:
            painter.setPen(QPen(t.color("ink"), 2.0))
            painter.setBrush(t.color("accent", 0.05 if not rig.heats_chamber else 0.14))
            painter.drawRect(box)
        width = bed.width * scale
        left, top = box.center().x() - width / 2, box.bottom() - 0.3 * box.height()
        painter.setFont(font(9.0))
        tall = min(14.0, 0.28 * box.height() / max(len(bed.layers), 1))
        for n, layer in enumerate(bed.layers):
            y = top + n * tall
            painter.setPen(QPen(t.color("panel"), 1.0))
            painter.setBrush(QColor(t.curves[n % len(t.curves)]))
            painter.drawRect(QRectF(left, y, width, tall))
            at = room.top() + 14.0 + n * (room.height() - 28.0) / max(len(bed.layers) - 1, 1)
            text_left = box.right() + 22.0
            painter.setPen(QPen(t.color("line"), 1.0))
            painter.drawLine(int(left + width), int(y + tall / 2), int(text_left - 4), int(at))
            painter.setPen(t.color("ink"))
            label = f"{layer.name}, {1e3 * layer.thickness:.3g} mm"
            painter.drawText(QRectF(text_left, at - 10.0, names, 20.0), Qt.AlignmentFlag.AlignVCenter, label)
        painter.setPen(t.color("soft"))
        said = f"{1e3 * bed.width:.0f} × {1e3 * bed.depth:.0f} mm, {bed.heater.power:.0f} W"
        painter.drawText(QRectF(box.left() + 6.0, top - 22.0, 150.0, 18.0), Qt.AlignmentFlag.AlignLeft, said)


class StartPage(QWidget):
    """Facts at the left, the machine as it grows in the middle, other beginnings at the right."""

    begin_asked = Signal(object, str, str, object, object)  # machine, polymer, surface, part (name, bytes, unit), log
    reading_asked = Signal(
        object, object, str, bytes, object
    )  # facts, what of them is stated, the log: name, bytes, mapping
    open_asked = Signal()
    demo_asked = Signal()
    tour_asked = Signal()
    recent_asked = Signal(str)
    empty_asked = Signal()

    def __init__(self, theme: Theme, units: UnitPreferences, recent: list[str]) -> None:
        super().__init__()
        self.theme, self.units = theme, units
        self._part: tuple[str, bytes] | None = None
        self._log: tuple[str, bytes, LogMapping] | None = None
        self._read: LogBeginning | None = None
        self._again = QTimer(self)
        self._again.setSingleShot(True)
        self._again.setInterval(_SETTLED)
        self._again.timeout.connect(self._ask_log)
        self.setAccessibleName("Start")
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 8, 16, 12)
        row.setSpacing(12)
        frame, column = panel(14)
        title = QLabel("Describe your machine")
        title.setFont(font(14.0, strong=True))
        column.addWidget(title)
        column.addWidget(
            soft("A few facts are enough for a first answer; the rest is assumed by kind and size, and said to be.")
        )
        own = [(path.stem.replace("-", " "), str(path)) for path in kept()]
        self.kind = self._choice("Kind of machine", [*((text, key) for key, text in ARCHETYPES.items()), *own])
        self.kind.setCurrentIndex(1)
        self.kind.currentIndexChanged.connect(self._usual)
        column.addWidget(self.kind)
        self.grid = QGridLayout()
        self.grid.setVerticalSpacing(5)
        self.fields: dict[str, QLineEdit] = {}
        self._labels: dict[str, QLabel] = {}
        for r, name in enumerate(dict.fromkeys(n for names in ASKED.values() for n in names)):
            meaning = meaning_of(Facts.model_fields[name], name)
            assert meaning is not None
            label, edit = QLabel(meaning.title), QLineEdit()
            label.setFont(font(9.5))
            edit.setAccessibleName(meaning.title)
            edit.setObjectName(f"facts.{name}")
            edit.setMaximumWidth(112)
            edit.textEdited.connect(self._show)
            label.setBuddy(edit)
            self.grid.addWidget(label, r, 0)
            self.grid.addWidget(edit, r, 1)
            self.fields[name], self._labels[name] = edit, label
        column.addLayout(self.grid)
        more = QGridLayout()
        self.surface = self._choice("Printed on", sorted((s.name, k) for k, s in plate_surfaces().items()))
        self.polymer = self._choice("Polymer", sorted((p.name, k) for k, p in polymers().items()))
        self.part_button = QPushButton("Mesh …")
        self.part_button.clicked.connect(self._choose_part)
        self.unit = self._choice("Unit of the mesh", [(name, name) for name in UNITS])
        self.log_button = QPushButton("None; open one …")
        self.log_button.setAccessibleName("Log of one heat-up")
        self.log_button.setToolTip("What a log says of heater, plate and losses takes the place of what is assumed")
        self.log_button.clicked.connect(self._choose_log)
        rows: tuple[tuple[str, tuple[QWidget, ...]], ...] = (
            ("Printed on", (self.surface,)), ("Polymer", (self.polymer,)), ("Part", (self.part_button, self.unit)),
            ("Heat-up log", (self.log_button,)),
        )  # fmt: skip
        for r, (caption, widgets) in enumerate(rows):
            of_row = QLabel(caption)
            of_row.setFont(font(9.5))
            more.addWidget(of_row, r, 0)
            for k, widget in enumerate(widgets):
                more.addWidget(widget, r, 1 + k, 1, 3 - len(widgets))
        more.setColumnStretch(1, 1)
        column.addLayout(more)
        self.begin_button = QPushButton("Show the first answer")
        self.begin_button.setObjectName("primary")
        self.begin_button.clicked.connect(self.begin)
        column.addWidget(self.begin_button)
        self.refusal = soft()
        self.refusal.setObjectName("stale")
        self.refusal.hide()
        column.addWidget(self.refusal)
        column.addStretch(1)
        frame.setFixedWidth(352)
        row.addWidget(frame)
        frame, column = panel(14)
        column.addWidget(heading("The machine as described"))
        self.sketch = MachineSketch()
        column.addWidget(self.sketch, 1)
        scrolled, texts = column_that_scrolls()
        column.addWidget(scrolled, 1)
        self.log_heading = heading("What the log says")
        self.log_says = soft()
        for widget in (self.log_heading, self.log_says):
            widget.hide()
            texts.addWidget(widget)
        texts.addWidget(heading("Assumed until you state or measure it"))
        self.assumed = soft()
        texts.addWidget(self.assumed)
        texts.addStretch(1)
        row.addWidget(frame, 1)
        row.addWidget(self._others(recent))
        self._usual()

    def _others(self, recent: list[str]) -> QWidget:
        frame, column = panel(14)
        frame.setFixedWidth(214)
        column.addWidget(heading("Or"))
        for text, signal in (
            ("Open a project …", self.open_asked), ("Demo workshop", self.demo_asked), ("Tour of the demo", self.tour_asked),
            ("An empty project", self.empty_asked),
        ):  # fmt: skip
            made = QPushButton(text)
            made.clicked.connect(signal.emit)
            column.addWidget(made)
        column.addSpacing(8)
        column.addWidget(heading("Recent projects"))
        there = [p for p in recent if Path(p).exists()][:6]
        for path in there:
            made = QPushButton(Path(path).stem)
            made.setToolTip(path)
            made.clicked.connect(lambda _=False, p=path: self.recent_asked.emit(p))
            column.addWidget(made)
        if not there:
            column.addWidget(soft("None yet. A project, a mesh or G-code may also be dropped onto the window."))
        column.addStretch(1)
        column.addWidget(soft(
            "Heated beds on mains voltage, hot chambers and unattended prints can burn and kill. What is computed here "
            "certifies nothing: local code, the makers' data and a qualified electrician decide."
        ))  # fmt: skip
        return frame

    def _choice(self, name: str, rows: list[tuple[str, str]]) -> QComboBox:
        box = QComboBox()
        box.setAccessibleName(name)
        box.setFont(font(9.5))
        box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        box.setMinimumContentsLength(10)
        for text, key in rows:
            box.addItem(text, key)
        box.currentIndexChanged.connect(self._show)
        return box

    # ---- facts
    def _usual(self) -> None:
        """Put what is usual for a kind into the fields; a machine that was kept asks for nothing."""
        if self.kind.currentData() not in ARCHETYPES:
            for widget in (*self.fields.values(), *self._labels.values()):
                widget.hide()
            self._show()
            return
        kind: Kind = self.kind.currentData()
        usual = facts_of({"kind": kind})
        for name, edit in self.fields.items():
            there = name in ASKED[kind]
            edit.setVisible(there)
            self._labels[name].setVisible(there)
            meaning = meaning_of(Facts.model_fields[name], name)
            assert meaning is not None
            value = getattr(usual, name)
            edit.setText("" if value == 0.0 else show(value, meaning.kind, self.units))
            edit.setPlaceholderText("none" if name == "chamber_heater" else "usual" if value == 0.0 else "")
        self.surface.setCurrentIndex(max(self.surface.findData(usual.surface), 0))
        self.polymer.setCurrentIndex(max(self.polymer.findData(USUAL_POLYMER[kind]), 0))
        self._show()

    def machine(self) -> Facts | Rig:
        """What is described, or the machine that was kept. Raises :class:`MandorlaError`."""
        chosen = self.kind.currentData()
        return self.facts() if chosen in ARCHETYPES else load(Path(chosen))

    def facts(self) -> Facts:
        """The facts as they are typed. Raises :class:`MandorlaError` and marks the field that is wrong."""
        kind: Kind = self.kind.currentData()
        values: dict[str, Any] = {"kind": kind, "surface": self.surface.currentData()}
        for name in ASKED[kind]:
            edit, meaning = self.fields[name], meaning_of(Facts.model_fields[name], name)
            assert meaning is not None
            refuse(edit, False)
            text = edit.text().strip()
            if not text:
                continue
            try:
                values[name] = parse_quantity(text, meaning.kind, self.units.unit(meaning.kind), meaning.title)
                if not meaning.low <= values[name] <= meaning.high:
                    ends = [show_number(v, meaning.kind, self.units) for v in (meaning.low, meaning.high)]
                    raise InputError(f"{meaning.title}: {text} is outside {ends[0]} to {ends[1]}.")
            except MandorlaError:
                refuse(edit, True)
                raise
        return facts_of(values)

    def _show(self) -> None:
        """Draw the machine as it is described now."""
        if not hasattr(self, "assumed"):
            return  # while the page is built
        try:
            machine = self.machine()
            rig = machine_of(machine) if isinstance(machine, Facts) else machine
        except (MandorlaError, ValueError) as error:
            self.refuse(in_words(error) if isinstance(error, MandorlaError) else "These facts do not make a machine.")
            return
        self.refuse("")
        self.sketch.show_rig(rig, self.theme)
        self._show_assumed(assumptions(machine, rig) if isinstance(machine, Facts) else ())
        self.log_button.setEnabled(isinstance(machine, Facts))
        if self._log is not None:
            self._read = None
            self.begin_button.setEnabled(not isinstance(machine, Facts))
            self.log_says.setText(
                "Reading …" if isinstance(machine, Facts) else "A machine that was kept is taken as it is."
            )
            self._again.start()

    def _show_assumed(self, found: tuple[Assumption, ...]) -> None:
        text = "\n".join(f"• {a.what} ({a.why})" for a in found)
        self.assumed.setText(text or "Nothing: it is the machine as you kept it.")

    def refuse(self, text: str) -> None:
        """Say why it cannot begin; empty: it can."""
        self.refusal.setText(text)
        self.refusal.setVisible(bool(text))
        self.begin_button.setEnabled(not text)

    # ---- beginning
    def _choose_part(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "A part's mesh", "", "Meshes (*.stl *.obj *.3mf)")
        if name:
            self.take_part(Path(name))

    def take_part(self, path: Path) -> None:
        """Take a mesh for the part."""
        try:
            self._part = (path.name, bytes_of(path))
        except InputError as error:
            self.refuse(in_words(error))
            return
        self.part_button.setText(path.name[:24])

    def _choose_log(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Log of one heat-up", "", "CSV (*.csv *.txt *.log)")
        if name:
            self.take_log(Path(name))

    def take_log(self, path: Path) -> None:
        """Take the log of one heat-up, after its columns were looked at; the machine then follows it."""
        try:
            data = bytes_of(path)
            mapping = propose(data, path.name)
            if open_questions(mapping, data, path.name):
                dialog = MappingDialog(self, data, path.name, [], mapping, proposed=True)
                if dialog.exec() != QDialog.DialogCode.Accepted:
                    return
                mapping = dialog.mapping
        except InputError as error:
            self.refuse(in_words(error))
            return
        self._log = path.name, data, mapping
        self.log_button.setText(path.name[:24])
        self.log_heading.show()
        self.log_says.show()
        self._show()

    def _ask_log(self) -> None:
        """Have the log read for the facts as they are."""
        try:
            machine = self.machine()
        except MandorlaError:
            return  # told beside the fields
        if self._log is None or not isinstance(machine, Facts):
            return
        stated = {"heater"} if machine.heater > 0.0 else set()
        if self.fields["plate"].isModified():
            stated.add("plate")
        self.reading_asked.emit(machine, frozenset(stated), *self._log)

    def show_log(self, facts: Facts, read: LogBeginning | None, says: str) -> None:
        """Show what a log says of a machine, or why it says nothing; facts that have changed since are being read again."""
        try:
            if self.machine() != facts:
                return
        except MandorlaError:
            return
        self._read = read
        self.log_says.setText(says)
        if read is not None:
            self.sketch.show_rig(read.rig, self.theme)
            self._show_assumed(assumptions(facts, read.rig, read.told))
        self.begin_button.setEnabled(read is not None)

    def begin(self) -> None:
        """Ask for the project of these facts."""
        try:
            machine = self.machine()
        except MandorlaError as error:
            self.refuse(in_words(error))
            return
        part = (*self._part, UNITS[self.unit.currentData()]) if self._part is not None else None
        self.begin_button.setEnabled(False)
        self.begin_asked.emit(machine, self.polymer.currentData(), self.surface.currentData(), part, self._read)
