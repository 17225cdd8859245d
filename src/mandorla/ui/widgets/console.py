"""The console along the bottom: five thermal settings as large steppers, the verdicts that follow from them."""

from __future__ import annotations

import math
import time
from collections.abc import Mapping
from typing import TYPE_CHECKING

from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QResizeEvent, QShowEvent
from PySide6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QLabel, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from mandorla.core.errors import InputError
from mandorla.core.failure.messages import lift_text, margin_text, probability_text, ready_text
from mandorla.core.failure.state import State
from mandorla.core.failure.words import chance_of
from mandorla.core.logbook.messages import counted
from mandorla.core.project.models import Project
from mandorla.core.project.paths import get_value, meaning_at
from mandorla.core.results.keys import EVALUATION, FULL_RUN
from mandorla.core.results.stage_state import heat_state
from mandorla.core.units import OFF, UnitPreferences, show, show_number
from mandorla.ui.document import Document
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.widgets.fields import FieldEdit
from mandorla.ui.widgets.figures import ASK, ask_about
from mandorla.ui.widgets.state_mark import WORDS, StateMark

if TYPE_CHECKING:  # the numerics load after the first picture
    from mandorla.core.results.types import Assessment, EnergyUse, Evaluation, Judgement

LEAST_TARGET = 288.15  # K, the least target that a step reaches before the bed is off
EDIT_PADDING = 10  # px a line editor keeps free on either side (style sheet and its own margin)
# path, caption, step in SI
SETTINGS = (
    ("settings.bed_first", "Bed, first layers", 1.0),
    ("settings.bed_rest", "Bed, rest", 1.0),
    ("settings.chamber", "Chamber", 1.0),
    ("settings.soak_time", "Soak", 60.0),
    ("settings.fan", "Part fan", 0.05),
)


def fit_font(widget: QWidget, text: str, largest: float, room: int, *, strong: bool = True, least: float = 8.5) -> None:
    """Give a widget the largest font in which its text is not cut."""
    size = largest
    widget.setFont(font(size, strong=strong))
    while widget.fontMetrics().horizontalAdvance(text) > room and size > least:
        size -= 0.5
        widget.setFont(font(size, strong=strong))


class Stepper(QFrame):
    """A large value with a step down and a step up; arrow keys and page keys step too."""

    def __init__(self, document: Document, path: str, caption: str, step: float) -> None:
        super().__init__()
        self._document, self._path, self._caption, self._step = document, path, caption, step
        self.setObjectName("panel")
        column = QVBoxLayout(self)
        column.setContentsMargins(6, 5, 6, 6)
        column.setSpacing(3)
        self.caption = QLabel(caption)
        self.caption.setFont(font(9.0))
        self.caption.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.caption.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.editor = FieldEdit(document, path, caption)
        self.editor.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.editor.setMinimumWidth(74)
        self.editor.setFixedHeight(40)
        self.editor.installEventFilter(self)
        self.editor.textChanged.connect(self._fit)
        row = QHBoxLayout()
        row.setSpacing(4)
        self.down, self.up = QPushButton("−"), QPushButton("+")
        for button, sign, word in ((self.down, -1, "lower"), (self.up, 1, "raise")):
            button.setFont(font(13.0, strong=True))
            button.setFixedHeight(38)
            button.setAutoRepeat(True)
            button.setAccessibleName(f"{word} {caption}")
            button.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            button.clicked.connect(lambda _=False, s=sign: self.step(s))
            row.addWidget(button)
        column.addWidget(self.caption)
        column.addWidget(self.editor)
        column.addLayout(row)

    def _fit(self) -> None:
        fit_font(self.editor, self.editor.text(), 14.0, self.editor.width() - 2 * EDIT_PADDING)
        fit_font(self.caption, self.caption.text(), 9.0, self.caption.width() - 2, strong=False, least=7.0)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Fit the value into the new width."""
        super().resizeEvent(event)
        self._fit()

    def showEvent(self, event: QShowEvent) -> None:
        """Fit the value once the width is known."""
        super().showEvent(event)
        self._fit()

    def step(self, count: int) -> None:
        """Move by ``count`` steps, held at the field's limits."""
        project = self._document.project
        meaning = meaning_at(project, self._path)
        assert meaning is not None
        before = float(get_value(project, self._path))
        value = before + count * self._step
        if meaning.kind == "set_point":  # between off and the least that machines take there is nothing to step through
            if before <= OFF and count > 0:
                value = LEAST_TARGET
            elif value < LEAST_TARGET:
                value = OFF
        value = min(max(value, meaning.low), meaning.high)
        try:
            self._document.edit(self._path, value, self._caption.lower())
        except InputError as error:
            self._document.problem.emit(str(error))

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Up, down, page up and page down step while the value has the focus."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            steps = {Qt.Key.Key_Up: 1, Qt.Key.Key_Down: -1, Qt.Key.Key_PageUp: 5, Qt.Key.Key_PageDown: -5}
            if event.key() in steps:
                self.step(steps[Qt.Key(event.key())])
                return True
        return super().eventFilter(watched, event)


class Verdict(QFrame):
    """One verdict: caption, figure, remark, state mark with its word."""

    def __init__(self, caption: str) -> None:
        super().__init__()
        self.topic = VERDICT_KEYS[caption]
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setObjectName("panel")
        grid = QGridLayout(self)
        grid.setContentsMargins(9, 4, 8, 4)
        grid.setHorizontalSpacing(5)
        grid.setVerticalSpacing(0)
        grid.setColumnStretch(0, 1)
        grid.setRowMinimumHeight(0, 18)  # with a mark or without, the figures stand on one line
        self._caption, self._remark, self._short = caption, "", ""
        label = QLabel(caption)
        label.setFont(font(8.8))
        label.setObjectName("soft")
        self.label = label
        self.value = QLabel("–")
        self.value.setFont(font(13.0, strong=True))
        self.remark = QLabel("")
        self.remark.setFont(font(8.3))
        self.remark.setObjectName("soft")
        self.mark = StateMark(size=18)
        self.mark.hide()
        for text in (label, self.value, self.remark):
            # never wider than its column: long remarks are cut by the layout of a narrow window, not the figures
            text.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        grid.addWidget(label, 0, 0)
        grid.addWidget(self.value, 1, 0, 1, 2)
        grid.addWidget(self.remark, 2, 0, 1, 2)
        grid.addWidget(self.mark, 0, 1, Qt.AlignmentFlag.AlignVCenter)

    def show_verdict(self, value: str, remark: str, state: State | None, theme: Theme) -> None:
        """Show a figure with its remark and state."""
        self.value.setText(value)
        word = ""
        self.mark.setVisible(state is not None)
        if state is not None:
            self.mark.set_state(state, theme.state_color(state))
            word = WORDS[state]
        self._remark = f"{word} · {remark}" if word and remark else word or remark
        self._short = remark or word  # the mark tells the state as well
        self._fit()
        self.setToolTip(f"{self._caption}: {value} · {self._remark}\n{ASK}")
        self.setAccessibleName(f"{self._caption}: {value}, {self._remark}")

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """A click asks where the figure comes from."""
        super().mouseReleaseEvent(event)
        ask_about(self)

    def _fit(self) -> None:
        room = self.width() - 18
        fit_font(self.value, self.value.text(), 13.0, room)
        fits = self.remark.fontMetrics().horizontalAdvance(self._remark) <= room
        for label, text, less in (
            (self.label, self._caption, 0 if self.mark.isHidden() else 23),
            (self.remark, self._remark if fits else self._short, 0),
        ):
            label.setText(label.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, room - less))

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Fit the figure into the new width."""
        super().resizeEvent(event)
        self._fit()


VERDICT_KEYS = {
    "Surface, centre": "surface", "Coldest under part": "coldest", "Ready in": "ready", "Energy, cost": "energy",
    "Fails first": "anything", "Hold margin": "hold_margin", "Lift": "lift", "Crack index": "crack_index",
}  # fmt: skip
VERDICTS = tuple(VERDICT_KEYS)
# verdicts of the folded console, and what they begin with
IN_SHORT = {
    "Surface, centre": "surface",
    "Ready in": "ready in",
    "Energy, cost": "",
    "Hold margin": "hold",
    "Fails first": "",
}


class Chip(QLabel):
    """A verdict of the folded console; a click asks where it comes from."""

    def __init__(self, caption: str) -> None:
        super().__init__()
        self.topic = VERDICT_KEYS[caption]
        self.setFont(font(9.5, strong=True))
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Ask about it."""
        super().mouseReleaseEvent(event)
        ask_about(self)


class Console(QWidget):
    """Settings at the left, verdicts at the right, on every stage."""

    refreshed = Signal(float)

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__()
        self._document, self._theme = document, theme
        self._told_of = document.edited_at  # the edit whose verdicts were shown last
        outer = QVBoxLayout(self)
        outer.setContentsMargins(12, 4, 12, 10)
        outer.setSpacing(0)
        self._open, self._line = QWidget(), QFrame()
        outer.addWidget(self._open)
        outer.addWidget(self._line)
        self._line.setObjectName("panel")
        line = QHBoxLayout(self._line)
        line.setContentsMargins(12, 5, 12, 5)
        line.setSpacing(16)
        self.in_short = QLabel()
        self.in_short.setFont(font(9.5))
        self.in_short.setAccessibleName("Settings")
        line.addWidget(self.in_short)
        line.addStretch(1)
        self.first_mark = StateMark(size=17)
        self.chips = {name: Chip(name) for name in IN_SHORT}
        for name, chip in self.chips.items():
            if name == "Fails first":
                line.addWidget(self.first_mark)
            line.addWidget(chip)
        self._line.hide()
        row = QHBoxLayout(self._open)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(6)
        self.steppers = {path: Stepper(document, path, caption, step) for path, caption, step in SETTINGS}
        for stepper in self.steppers.values():
            row.addWidget(stepper, 9)
        row.addSpacing(6)
        grid = QGridLayout()
        grid.setSpacing(5)
        self.verdicts = {name: Verdict(name) for name in VERDICTS}
        for i, verdict in enumerate(self.verdicts.values()):
            grid.addWidget(verdict, i // 4, i % 4)
            grid.setColumnStretch(i % 4, 1)
        row.addLayout(grid, 64)
        document.project_changed.connect(self._on_edit)
        document.results.changed.connect(self._on_result)
        document.units_changed.connect(self.refresh)
        self._on_edit()

    def set_theme(self, theme: Theme) -> None:
        """Use another theme."""
        self._theme = theme
        self.refresh()

    def fold(self, folded: bool) -> None:
        """Keep to one line of figures, or show steppers and verdicts again."""
        self._open.setHidden(folded)
        self._line.setHidden(not folded)
        self.refresh()

    def _show_in_short(self, texts: Mapping[str, tuple[str, str, State | None]]) -> None:
        units, s = self._document.units, self._document.project.settings
        bed = " then ".join(show(v, "set_point", units, digits=0) for v in (s.bed_first, s.bed_rest))
        chamber = f"chamber {show(s.chamber, 'temperature', units, digits=0)}, "
        self.in_short.setText(
            f"Bed {bed}, {chamber if self._document.project.rig.heats_chamber else ''}"
            f"soak {show(s.soak_time, 'duration', units, digits=0)}, fan {show(s.fan, 'fraction', units, digits=0)}"
        )
        for name, chip in self.chips.items():
            value, remark, state = texts[name]
            word = WORDS[state] if state is not None else ""
            if name == "Fails first" and state is not None:
                self.first_mark.set_state(state, self._theme.state_color(state))
                value = f"{word[0].upper()}{word[1:]}: {value.lower()}, {remark}"
            chip.setText(value if name == "Fails first" else f"{IN_SHORT[name]} {value}")
            chip.setToolTip(f"{name}: {value} · {word} {remark}\n{ASK}")
            chip.setAccessibleName(f"{name}: {value}, {word} {remark}")

    def _on_edit(self) -> None:
        rig = self._document.project.rig
        heated = rig.heats_chamber
        chamber = self.steppers["settings.chamber"]
        chamber.setEnabled(heated)
        chamber.editor.set_absent("" if heated else "not heated")
        chamber.setToolTip("" if heated else "This machine cannot choose its chamber temperature")

    def _on_result(self, name: str) -> None:
        if name in (EVALUATION.name, FULL_RUN.name):
            self.refresh()

    def refresh(self) -> None:
        """Show the newest evaluation; where there is none for the project as it is, no verdict of another state stays."""
        e = self._document.results.value(EVALUATION)
        if e is None:
            if self._document.results.error(EVALUATION) is not None:
                for verdict in self.verdicts.values():
                    verdict.show_verdict("–", "not computed", State.NOT_COMPUTED, self._theme)
            return
        judgement = self._document.results.judgement() or e.judgement
        texts = verdict_texts(self._document.project, e, judgement, self._document.units)
        for name, (value, remark, state) in texts.items():
            self.verdicts[name].show_verdict(value, remark, state, self._theme)
        self._show_in_short(texts)
        if self._told_of != self._document.edited_at:
            self._told_of = self._document.edited_at
            self.refreshed.emit(time.perf_counter() - self._told_of)


def verdict_texts(
    project: Project, e: Evaluation, judgement: Judgement, units: UnitPreferences
) -> dict[str, tuple[str, str, State | None]]:
    """Value, remark and state of every verdict."""
    heat = e.heat
    band = heat.bands.get("surface")
    around = (
        f"{show_number(band.low, 'temperature', units, digits=0)}–{show(band.high, 'temperature', units, digits=0)}"
        if band
        else ""
    )
    reached = heat_state(e)
    around_it = "chamber" if project.rig.chamber.enclosed else "air"
    chamber = f"{around_it} {show(heat.steady.air, 'temperature', units, digits=0)}"
    texts: dict[str, tuple[str, str, State | None]] = {
        "Surface, centre": (show(heat.steady.surface, "temperature", units), around, None),
        "Coldest under part": ("–", "no part", None),
        "Ready in": (ready_text(heat), chamber, reached if heat.status != "ready" else None),
    }
    none = State.NOT_COMPUTED
    w, use = e.warp, e.energy
    if w is None or use is None or e.part is None:
        for name in VERDICTS[3:]:
            texts[name] = ("–", "no part", None if name == "Energy, cost" else none)
        return texts
    corner = w.corners[min(range(len(w.corners)), key=lambda i: w.corners[i].plate)].corner.name
    texts["Coldest under part"] = (show(e.coldest, "temperature", units), corner, None)
    texts["Energy, cost"] = (
        f"{show(use.total, 'energy', units)}, {use.cost:.2f} {project.criteria.currency}", energy_remark(use, units), None
    )  # fmt: skip
    name, remark, state = first_failure(judgement)
    prints = e.part.learned.prints
    texts["Fails first"] = (name, f"{remark} · {counted(prints)}" if prints else remark, state)
    ways = judgement.assessed
    hold, flat, crack = (ways.get(key) for key in ("adhesion", "flatness", "cracks"))
    limit = judgement.risk

    def chance(a: Assessment | None) -> str:
        return f"{chance_of(a)} fails" if a is not None and chance_of(a) else f"limit {100 * limit:.0f} %"

    # margins are logarithms of ratios: the figures that the models, quick or full, stand for
    index = math.exp(-crack.margin) if crack is not None else float("nan")
    texts["Hold margin"] = (
        (margin_text(math.exp(hold.margin)), chance(hold), hold.state) if hold is not None else ("–", "not known", none)
    )
    texts["Lift"] = (
        (lift_text(judgement, e.lift_limit, units), chance(flat), flat.state)
        if flat is not None
        else ("–", "not known", none)
    )
    texts["Crack index"] = (
        (f"{index:.2f}", chance(crack), crack.state) if crack is not None else ("–", "not known", none)
    )
    return texts


def energy_remark(use: EnergyUse, units: UnitPreferences) -> str:
    """Where the energy is taken, and its range."""
    low, high = use.within
    if not math.isfinite(low):
        return "at the plug"
    return f"{show_number(low, 'energy', units)}–{show(high, 'energy', units)} at the plug"


SHORT_NAMES = {
    "adhesion": "Corner off", "flatness": "Flatness", "cracks": "Cracks", "loose_plate": "Plate off",
    "first_too_far": "Lines apart", "first_too_near": "Lines piled up", "tipping": "Knocked loose",
    "soft_foot": "Soft foot", "soft_feed": "Soft feed", "layer_rating": "Layer rating", "chamber_rating": "Chamber limit",
    "surface_rating": "Surface limit", "set_point_limit": "Set point", "supply": "Supply", "bed_set_point": "Bed heater",
    "chamber_set_point": "Chamber heater", "placement": "Does not fit",
}  # fmt: skip


def first_failure(judgement: Judgement) -> tuple[str, str, State]:
    """The verdict on the whole: what fails first by its name, and its chance; nothing only where nothing fails."""
    any_text = probability_text(judgement.anything) if math.isfinite(judgement.anything) else ""
    if judgement.unknown and judgement.whole is not State.FAILS:
        return "Not known", "not determined", State.NOT_COMPUTED
    first = judgement.first
    if not first:
        return "Nothing", f"{any_text} anything fails" if any_text else "", judgement.whole
    chance = chance_of(judgement.counted[first])
    return SHORT_NAMES.get(first, judgement.titles[first]), chance or "", judgement.whole
