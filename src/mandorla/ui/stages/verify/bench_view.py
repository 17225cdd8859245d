"""The bench exercise: a mystery rig, instruments that mislead, and the truth at the end."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QPushButton, QSpinBox

from mandorla.core.errors import InputError
from mandorla.core.results.choices import begin_exercise
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.jobs import Lane
from mandorla.ui.live_results import in_words
from mandorla.ui.stages.page import side_column
from mandorla.ui.stages.verify.desk import VerifyDesk
from mandorla.ui.stages.verify.verify_view import VerifyView
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.charts import column_that_scrolls
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import answer, heading, panel, soft
from mandorla.ui.widgets.pick_list import PickList

if TYPE_CHECKING:
    from mandorla.core.results.types import Exercise

STORY = (
    "Your rig stands on the bench, soaked, but it is not quite the rig you believe it to be: joints, power and sensor are drawn "
    "at random. The touch probe, the imager and the display each have a fault of their own. Find the true temperature of the "
    "middle of the surface. Nothing here changes your project."
)


class BenchView(VerifyView):
    """Actions at the left, what was seen in the middle, the estimate and the truth at the right."""

    key = "exercise"
    title = "Exercise"

    def __init__(self, document: Document, theme: Theme, desk: VerifyDesk) -> None:
        super().__init__(document, theme, desk)
        self.exercise: Exercise | None = None
        self._told = False
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(10)
        column.addWidget(soft(STORY))
        row = QHBoxLayout()
        row.addWidget(heading("Mystery number"))
        self.seed = QSpinBox()
        self.seed.setAccessibleName("Mystery number")
        self.seed.setRange(1, 9999)
        self.begin_button = QPushButton("Begin")
        self.begin_button.setObjectName("primary")
        self.begin_button.clicked.connect(self._begin)
        row.addWidget(self.seed)
        row.addWidget(self.begin_button)
        row.addStretch(1)
        column.addLayout(row)
        self.advice = answer()
        column.addWidget(self.advice)
        grid = QGridLayout()
        self.buttons: dict[str, QPushButton] = {}
        actions: tuple[tuple[str, Callable[[Exercise], object]], ...] = (
            ("Read the display", lambda e: e.display()), ("Probe in ice", lambda e: e.ice()),
            ("Probe in boiling water", lambda e: e.boiling()), ("Probe in the air above", lambda e: e.air()),
            ("Press the probe on", lambda e: e.press_probe()), ("Imager on the bare surface", lambda e: e.look(tape=False)),
            ("Imager on tape", lambda e: e.look(tape=True)), ("Tell the truth", self._tell),
        )  # fmt: skip
        for i, (text, action) in enumerate(actions):
            button = QPushButton(text)
            button.clicked.connect(lambda _, a=action: self._do(a))
            grid.addWidget(button, i // 2, i % 2)
            self.buttons[text] = button
        column.addLayout(grid)
        column.addWidget(heading("What was seen"))
        self.list = PickList("What was seen")
        column.addWidget(self.list, 1)
        self.list.setMinimumHeight(90)
        room, left = column_that_scrolls()
        left.addWidget(frame, 1)
        body.addWidget(room, 1)
        area, side = side_column(380)
        frame, inner = panel()
        inner.addWidget(heading("What the instruments say together"))
        self.figures = FigureList("Estimate of the exercise")
        inner.addWidget(self.figures)
        self.reasons = soft()
        inner.addWidget(self.reasons)
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)

    def _begin(self) -> None:
        bundle, seed = self.document.bundle, self.seed.value()
        self._told = False
        self.document.jobs.start(
            "Mystery rig", lambda _: begin_exercise(bundle, seed), Lane.SLOW, done=self._begun,
            failed=lambda error: self.document.problem.emit(in_words(error)),
        )  # fmt: skip

    def _begun(self, exercise: Exercise) -> None:
        self.exercise = exercise
        self.refresh()

    def _do(self, action: Callable[[Exercise], object]) -> None:
        if self.exercise is not None:
            action(self.exercise)
            self.refresh()

    def _tell(self, _: Exercise) -> None:
        self._told = True

    def draw(self) -> None:
        """Show where the exercise stands."""
        e, units = self.exercise, self.desk.document.units
        for button in self.buttons.values():
            button.setEnabled(e is not None)
        if e is None:
            self.advice.setText("Choose a number and begin.")
            self.list.show_items([], -1)
            self.figures.show_figures([], self.theme)
            self.reasons.setText("")
            return
        self.advice.setText(e.next_step())
        seen = [
            f"{c.kind}: the probe shows {show(c.shown, 'temperature', units)}, true is {show(c.reference, 'temperature', units)}"
            for c in e.probe.calibrations
        ]
        for r in e.readings:
            where = {"matt_black_tape": "on tape", "polyetherimide_sheet": "on the bare surface"}.get(
                r.surface, f"of the {r.place}"
            )
            seen.append(f"{r.instrument} {where}: {', '.join(show(v, 'temperature', units) for v in r.raw)}")
        self.list.show_items(seen, len(seen) - 1)
        rows = []
        self.reasons.setText("")
        try:
            found = e.answer()
            rows.append(
                Figure(
                    "Estimate",
                    show(found.value, "temperature", units),
                    f"± {show(found.expanded, 'temperature_difference', units)} at 95 %",
                )
            )
            self.reasons.setText("\n".join(text for _, _, text in found.left_out))
            if self._told:
                off = found.value - e.truth
                inside = abs(off) <= found.expanded
                rows.append(
                    Figure(
                        "Truth",
                        show(e.truth, "temperature", units),
                        "inside the range" if inside else "outside the range",
                    )
                )
                rows.append(Figure("The estimate is off by", show(off, "temperature_difference", units)))
        except InputError as error:
            rows.append(Figure("No estimate yet", "–", str(error).splitlines()[0]))
            if self._told:
                rows.append(Figure("Truth", show(e.truth, "temperature", units)))
        if self._told:
            f = e.faults
            rows.append(
                Figure(
                    "The probe read too high by", show(f.probe_offset, "temperature_difference", units), "its offset"
                )
            )
            rows.append(
                Figure(
                    "Emissivity of the surface",
                    f"{f.emissivity:.2f}",
                    f"the imager is set to {e.imager.emissivity:.2f}",
                )
            )
            rows.append(Figure("The imager's offset", show(f.imager_offset, "temperature_difference", units)))
        self.figures.show_figures(rows, self.theme)
