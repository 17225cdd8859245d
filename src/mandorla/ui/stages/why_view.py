"""Why it warps and what would help, in the stage Warp: causes taken away, levers pulled, each by itself, computed and ranked."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QBoxLayout, QHBoxLayout, QPushButton, QWidget

from mandorla.core.project.full_warp import ShapeLever
from mandorla.core.runtime import RunContext
from mandorla.core.tune.levers import Cause, Lever, largest_lift, why_sentence
from mandorla.core.tune.sentences import margin_text
from mandorla.core.units import show, show_duration
from mandorla.ui.document import Document
from mandorla.ui.stages.page import scrolled
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.form import heading, panel, soft
from mandorla.ui.widgets.pick_list import TextTable
from mandorla.ui.workers.jobs import Channel

CAUTION = (
    "Each row is the quick estimate with that one change, limits and heat-up included; two together need not add up. A hotter "
    "bed or chamber needs layers, wiring and people that stand it: look at the checks of the rig first."
)

_WIDE = 960  # pixels from which both tables fit side by side


class WhyView(QWidget):
    """Two tables, computed beside the interface whenever the project has changed and the view is seen."""

    changed = Signal()

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.causes: tuple[Cause, ...] = ()
        self.levers: tuple[Lever, ...] = ()
        self.refusal = ""
        self._of = ""
        self.job = Channel(self)
        self.job.finished.connect(self._take)
        self.job.failed.connect(self._refused)
        self.shapes: tuple[ShapeLever, ...] = ()
        self.shape_job = Channel(self)
        self.shape_job.finished.connect(self._take_shapes)
        self.shape_job.failed.connect(lambda error: self.shape_note.setText(str(error).splitlines()[0]))
        self.shape_job.progressed.connect(lambda f, s: self.shape_note.setText(f"{100 * f:.0f} %, {s}"))
        body = self._body = QBoxLayout(QBoxLayout.Direction.LeftToRight, scrolled(self))
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        column.addWidget(heading("What it comes from: each cause taken away"))
        self.cause_table = TextTable("Causes", ("Without", "Margin", "Lift"))
        self.cause_table.setMinimumHeight(128)
        column.addWidget(self.cause_table, 1)
        column.addWidget(heading("What another shape would do: full simulation, draft"))
        self.shape_table = TextTable("Shapes", ("Shape", "Margin", "Printed", "Released"))
        self.shape_table.setMinimumHeight(104)
        self.shape_table.setMaximumHeight(132)
        column.addWidget(self.shape_table)
        self.shape_button, self.shape_note = QPushButton("Try other shapes"), soft()
        self.shape_button.setToolTip("Rounded corners and relief slots, each built up, cooled and taken off once")
        self.shape_button.clicked.connect(self.try_shapes)
        row = QHBoxLayout()
        row.addWidget(self.shape_button)
        row.addWidget(self.shape_note, 1)
        column.addLayout(row)
        body.addWidget(frame, 5)
        frame, column = panel(8)
        column.addWidget(heading("What would help: each lever pulled"))
        self.lever_table = TextTable("Levers", ("Lever", "Margin", "Lift", "Cracks", "Print time", "Energy"))
        self.lever_table.setMinimumHeight(220)
        column.addWidget(self.lever_table, 1)
        column.addWidget(soft(CAUTION))
        body.addWidget(frame, 6)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """One below the other where both do not fit side by side."""
        side = QBoxLayout.Direction.LeftToRight if self.width() >= _WIDE else QBoxLayout.Direction.TopToBottom
        self._body.setDirection(side)

    def try_shapes(self) -> None:
        """Simulate the part with other shapes; what is edited meanwhile makes the answer void."""
        e, geometry, bundle, units = (
            self.document.evaluation, self.document.geometry, self.document.bundle, self.document.units,
        )  # fmt: skip
        if e is None or geometry is None or e.part is None:
            return

        def work(run: RunContext) -> tuple[ShapeLever, ...]:
            from mandorla.ui.workers import computing  # see its docstring

            return computing.shapes(bundle, geometry, e, units, run)

        self.shape_job.start(work)

    def _take_shapes(self, found: tuple[ShapeLever, ...]) -> None:
        self.shapes = found
        self.shape_note.setText("")
        self._show()

    def headline(self) -> str:
        """The sentence above the view."""
        e = self.document.evaluation
        if e is None or e.warp is None:
            return "Open a part to see why it warps and what would help."
        if self.refusal:
            return self.refusal
        if not self.levers:
            return "Pulling every lever …"
        return why_sentence(e.warp, self.causes, self.levers, self.document.units)

    def refresh(self, theme: Theme) -> None:
        """Compute anew when the project has changed, and show."""
        e, geometry, bundle, units = (
            self.document.evaluation,
            self.document.geometry,
            self.document.bundle,
            self.document.units,
        )
        if e is None or geometry is None or e.part is None:
            self.cause_table.show_rows([])
            self.lever_table.show_rows([])
            return
        p = bundle.project
        mark = repr((p.rig, p.settings, p.process, p.part, p.criteria, units))
        if mark != self._of:
            self._of, self.levers, self.causes, self.refusal, self.shapes = mark, (), (), "", ()
            self.shape_job.cancel()
            self.shape_note.setText("")

            def work(run: RunContext) -> tuple[tuple[Cause, ...], tuple[Lever, ...]]:
                from mandorla.ui.workers import computing  # see its docstring

                return computing.why(bundle, geometry, e, units, run)

            self.job.start(work)
        self._show()

    def _take(self, found: tuple[tuple[Cause, ...], tuple[Lever, ...]]) -> None:
        self.causes, self.levers = found
        self.changed.emit()

    def _refused(self, error: Exception) -> None:
        self.refusal = str(error).splitlines()[0]
        self.changed.emit()

    def _show(self) -> None:
        e, units = self.document.evaluation, self.document.units
        if e is None or e.warp is None or e.part is None or e.energy is None:
            return
        now = ["as it is", margin_text(e.warp.margin), show(largest_lift(e.warp), "length", units)]
        self.cause_table.show_rows(
            [
                now,
                *(
                    [f"{c.name}: {c.without}", margin_text(c.margin), show(c.lift, "length", units)]
                    for c in self.causes
                ),
            ]
        )
        energy = [show_duration(e.part.plan.duration), show(e.energy.total, "energy", units)]
        self.shape_table.show_rows(
            [
                [
                    f"{s.name} ({s.stopped})" if s.stopped else s.name,
                    margin_text(s.margin),
                    show(s.printed, "length", units),
                    show(s.released, "length", units),
                ]
                for s in self.shapes
            ]
        )
        rows = [[*now, f"{e.warp.crack_index:.2f}", *energy]]
        for v in self.levers:
            name = f"{v.name} (barred: {v.barred})" if v.barred else v.name
            rows.append(
                [name, margin_text(v.margin), show(v.lift, "length", units), f"{v.crack:.2f}", show_duration(v.duration),
                 show(v.energy, "energy", units)]
            )  # fmt: skip
        self.lever_table.show_rows(rows)
