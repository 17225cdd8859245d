"""Heights: maps cold, warm and soaked, what changed between them against the predicted bow; the feeler at three or four points."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtWidgets import QComboBox, QFileDialog, QHBoxLayout, QLineEdit, QPushButton, QWidget

from mandorla.core.errors import InputError
from mandorla.core.failure.messages import band_text
from mandorla.core.input_file import bytes_of
from mandorla.core.measure.heights import ORDER, HeightMap, height_map, judge_feeler, place_name, screw_words
from mandorla.core.measure.models import Gap, StoredHeights
from mandorla.core.results.key import Key
from mandorla.core.results.keys import HEIGHTS, PLATE_FLATNESS
from mandorla.core.units import parse_quantity, show
from mandorla.ui.decimal_sign import shown
from mandorla.ui.document import Document
from mandorla.ui.plots.bed_survey import BedSurvey, Dot
from mandorla.ui.plots.surface_map import SurfaceMap
from mandorla.ui.stages.page import side_column
from mandorla.ui.stages.verify.desk import VerifyDesk
from mandorla.ui.stages.verify.verify_view import VerifyView
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.fields import ChoiceEdit
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import Form, answer, heading, panel, soft

STATES: dict[object, str] = {
    "cold": "cold",
    "warm": "warm",
    "soaked": "soaked",
    "levelled": "soaked, after levelling hot",
}
UNITS: dict[object, str] = {"mm": "mm", "µm": "µm", "in": "in"}

if TYPE_CHECKING:
    from mandorla.core.results.types import SessionHeights


class HeightsView(VerifyView):
    """A map or a difference of two; figures of every map; the feeler routine below."""

    key = "heights"
    title = "Heights"

    def __init__(self, document: Document, theme: Theme, desk: VerifyDesk) -> None:
        super().__init__(document, theme, desk)
        self._shape: object = None
        self.here = (0.0, 0.0)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        row = QHBoxLayout()
        self.choice = QComboBox()
        self.choice.setAccessibleName("Map that is shown")
        self.choice.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.choice.activated.connect(lambda _: self._show_map())
        row.addWidget(self.choice)
        row.addStretch(1)
        self.open_button = QPushButton("Import height map …")
        self.open_button.clicked.connect(self._ask)
        row.addWidget(self.open_button)
        column.addLayout(row)
        self.sentence = answer()
        column.addWidget(self.sentence)
        self.map = SurfaceMap(height=None)
        column.addWidget(self.map, 1)
        body.addWidget(frame, 1)
        frame, column = panel(8)
        column.addWidget(heading("Feeler or straightedge: click a place, enter the gap"))
        self.bed = BedSurvey("Places of the feeler")
        self.bed.placed.connect(self._place)
        column.addWidget(self.bed, 1)
        row = QHBoxLayout()
        self.gap = QLineEdit()
        self.gap.setObjectName("feeler.gap")
        self.gap.setAccessibleName("Gap at the place")
        self.gap.returnPressed.connect(self._add_gap)
        self.gap_button, self.clear_button = QPushButton("Add gap"), QPushButton("Clear")
        self.gap_button.clicked.connect(self._add_gap)
        self.clear_button.clicked.connect(lambda: self.desk.put(self.desk.path("gaps"), (), "Clear feeler gaps"))
        for widget in (self.gap, self.gap_button, self.clear_button):
            row.addWidget(widget)
        column.addLayout(row)
        self.feeler = soft()
        column.addWidget(self.feeler)
        body.addWidget(frame, 1)
        area, side = side_column(300)
        frame, column = panel()
        column.addWidget(heading("Figures of the maps"))
        self.figures = FigureList("Figures of the height maps")
        column.addWidget(self.figures)
        side.addWidget(frame)
        self._side = side
        self._form: QWidget | None = None
        side.addStretch(1)
        body.addWidget(area)
        self.maps: list[tuple[StoredHeights, HeightMap]] = []
        self.differences: dict[tuple[int, int], HeightMap] = {}

    def _ask(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Import a height map", "", "CSV (*.csv *.txt)")
        if name:
            self.open_map(Path(name))

    def open_map(self, path: Path) -> None:
        """Take a height map in; an unreadable one is refused with its line."""
        desk = self.desk
        session = desk.session_for_input

        def work() -> None:
            data = bytes_of(path)
            bed = desk.document.project.rig.bed
            state = ("cold", "soaked", "levelled")[min(len(session.heights), 2)]
            low = path.stem.lower()
            state = next((s for s in ORDER[::-1] if s in low), state)
            file = desk.document.free_name(path.name)
            stored = StoredHeights(
                name=path.stem[:80], file=file, state=state, width=0.85 * bed.width, depth=0.85 * bed.depth
            )
            height_map(stored, data)
            desk.put_in("heights", (*session.heights, stored), f"Import height map {path.name}", {file: data})

        desk.attempt(work)

    def _place(self, x: float, y: float) -> None:
        self.here = (x, y)
        self.refresh()
        self.gap.setFocus()

    def _add_gap(self) -> None:
        desk = self.desk
        session = desk.session_for_input

        def work() -> None:
            value = parse_quantity(self.gap.text(), "length", desk.document.units.unit("length"), "gap")
            gap = Gap(x=self.here[0], y=self.here[1], gap=value)
            kept = [g for g in session.gaps if (g.x, g.y) != self.here]
            if desk.put_in("gaps", (*kept, gap), "Add gap"):
                self.gap.clear()

        desk.attempt(work)

    @property
    def _asked(self) -> Key[SessionHeights] | None:
        session = self.desk.session
        return HEIGHTS.of(session=session.key) if session is not None and session.heights else None

    def also(self) -> tuple[Key[Any], ...]:
        """What is shown when it is there."""
        return (*((self._asked,) if self._asked is not None else ()), PLATE_FLATNESS)

    def draw(self) -> None:
        """Show maps and gaps."""
        self._build_form()
        found = self.results.last(self._asked) if self._asked is not None else None
        self.maps = list(found.maps) if found is not None else []
        self.differences = dict(found.differences) if found is not None else {}
        refusal = found.refusals[-1] if found is not None and found.refusals else ""
        names = [f"{m[0].name} ({STATES[m[0].state]})" for m in self.maps]
        pairs = list(self.differences)
        entries = [f"{self.maps[a][0].name} minus {self.maps[b][0].name}" for a, b in pairs] + names
        if [self.choice.itemText(i) for i in range(self.choice.count())] != [shown(e) for e in entries]:
            self.choice.clear()
            for text, data in zip(entries, [*pairs, *range(len(names))], strict=True):
                self.choice.addItem(text, data)
        self._show_figures()
        self._show_map()
        if refusal:
            self.sentence.setText(refusal)
        self._show_feeler()

    def _show_figures(self) -> None:
        units = self.desk.document.units
        rows = []
        for stored, found in self.maps:
            left, deep = found.tilt
            rows.append(
                Figure(
                    stored.name, show(found.bow, "bow", units),
                    f"bow in the middle; without tilt {show(found.peak_to_valley, 'bow', units)} from lowest to highest; tilt "
                    f"{show(left, 'bow', units)} to the right, {show(deep, 'bow', units)} to the rear",
                )
            )  # fmt: skip
        self.figures.show_figures(rows or [Figure("No height map yet", "")], self.theme)

    def _show_map(self) -> None:
        desk, units, t = self.desk, self.desk.document.units, self.theme
        data = self.choice.currentData()
        self.map.setVisible(data is not None)
        if data is None:
            self.sentence.setText(
                "Probe the bed cold, warm and soaked, and open the maps: what changes is the bow that heat makes."
            )
            return
        bed = desk.document.project.rig.bed
        if isinstance(data, int):
            stored, found = self.maps[data]
            text = f"{stored.name}: {show(found.bow, 'bow', units)} up in the middle, tilt taken out."
            if stored.state == "levelled":
                left, deep = (abs(v) for v in found.tilt)
                text = (
                    f"{stored.name}: levelling left a tilt of {show(max(left, deep), 'bow', units)}; the "
                    f"{show(found.peak_to_valley, 'bow', units)} from lowest to highest "
                    "that remain are shape, and stay with any levelling."
                )
            self.sentence.setText(text)
        else:
            later, earlier = self.maps[data[0]], self.maps[data[1]]
            found = self.differences[data]
            flat = self.results.value(PLATE_FLATNESS)
            states = f"From {STATES[earlier[0].state]} to {STATES[later[0].state]}"
            text = f"{states} the middle rises by {show(found.bow, 'bow', units)}"
            if earlier[0].state == later[0].state:
                text = (
                    f"Two maps of the same state repeat to {show(found.peak_to_valley, 'bow', units)}, tilt removed: smaller "
                    "changes are not significant"
                )
            elif earlier[0].state == "soaked" and later[0].state == "levelled":
                (a, b), (c, d) = later[1].tilt, earlier[1].tilt
                text = (
                    f"Levelling hot took the tilt from {show(c, 'bow', units)} to {show(a, 'bow', units)} to the right and from "
                    f"{show(d, 'bow', units)} to {show(b, 'bow', units)} to the rear; the shape changed by "
                    f"{show(found.peak_to_valley, 'bow', units)}"
                )
            elif (earlier[0].state, later[0].state) in (("cold", "soaked"), ("cold", "levelled")) and flat is not None:
                bow = flat.bow
                text += f"; predicted {band_text(bow.end, bow.low, bow.high, 'bow', units)}"
                inside = bow.low <= found.bow <= bow.high
                text += (
                    ", as predicted" if inside else ", not as predicted: an unlike layer, or mounts that hold the plate"
                )
            self.sentence.setText(text + ".")
        size = (float(found.x[-1] - found.x[0]) or bed.width, float(found.y[-1] - found.y[0]) or bed.depth)
        self.map.show_map(t, units, size, found.without_plane(), None, None, kinds=("bow", "bow"))

    def _show_feeler(self) -> None:
        desk, units, session = self.desk, self.desk.document.units, self.desk.session
        self.gap.setPlaceholderText(f"gap, {units.unit('length').symbol}")
        bed = desk.document.project.rig.bed
        gaps = session.gaps if session else ()
        corners = [(sx * 0.4 * bed.width, sy * 0.4 * bed.depth) for sx, sy in ((-1, -1), (1, -1), (1, 1), (-1, 1))]
        dots = [Dot(g.x, g.y, show(g.gap, "length", units)) for g in gaps]
        done = {(g.x, g.y) for g in gaps}
        grid = [(round(x, 4), round(y, 4)) for x, y in corners if (round(x, 4), round(y, 4)) not in done]
        self.bed.show_dots(self.theme, (bed.width, bed.depth), dots, grid, self.here, rounded=bed.shape == "round")
        if len(gaps) < 3:
            self.feeler.setText(
                "Three places tell the tilt, four also the twist that no levelling removes. Level hot, after the soak."
            )
            return
        try:
            found = judge_feeler(gaps, sum(g.gap for g in gaps) / len(gaps))
        except InputError as error:
            self.feeler.setText(str(error).splitlines()[0])
            return
        turns = ", ".join(
            f"{place_name(g.x, g.y)} {'up' if turn > 0 else 'down'} {show(abs(turn), 'bow', units)}"
            + (f" ({words})" if (words := screw_words(turn, bed.screw_pitch, clockwise_raises=bed.clockwise_raises)) else "")
            for g, (_, turn) in zip(gaps, found.turns, strict=True) if abs(turn) > 2e-6
        )  # fmt: skip
        text = f"To make all gaps alike: {turns or 'nothing to turn'}."
        if len(gaps) > 3:
            text += f" A twist of {show(found.twist, 'bow', units)} stays."
        self.feeler.setText(text)

    def _build_form(self) -> None:
        desk, session = self.desk, self.desk.session
        count = len(session.heights) if session else 0
        shape = (desk.index, count, tuple(h.file for h in session.heights) if session else ())
        if shape == self._shape:
            return
        self._shape = shape
        if self._form is not None:
            self._form.hide()
            self._form.setParent(None)
            self._form.deleteLater()
            self._form = None
        if not count or session is None:
            return
        frame, column = panel()
        for i, stored in enumerate(session.heights):
            column.addWidget(heading(stored.name))
            form = Form(desk.document)
            base = desk.path(f"heights.{i}")
            form.add_widget("Taken", ChoiceEdit(desk.document, f"{base}.state", "Taken", STATES))
            form.add_widget("Its figures are in", ChoiceEdit(desk.document, f"{base}.unit", "Unit", UNITS))
            form.add_field(f"{base}.width")
            form.add_field(f"{base}.depth")
            column.addWidget(form)
        self._form = frame
        self._side.insertWidget(1, frame)
