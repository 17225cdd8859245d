"""Will the print end on a battery or a generator, and when are machines alike switched on that share a breaker."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

from PySide6.QtWidgets import QHBoxLayout, QPushButton

from mandorla.core.energy.messages import backup_sentence, stagger_sentence
from mandorla.core.errors import InputError
from mandorla.core.failure.state import State
from mandorla.core.results.key import Key
from mandorla.core.results.keys import BACKUP_IN_FULL, EVALUATION, ON_BACKUP, PLUG_COURSE, STAGGER
from mandorla.core.rig.consumers import DOING_NAMES
from mandorla.core.tune.messages import chance_in_table
from mandorla.core.units import show, show_duration
from mandorla.ui.document import Document
from mandorla.ui.stages.page import scrolling, side_column
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.fields import ChoiceEdit
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import Form, answer, heading, panel, soft
from mandorla.ui.widgets.pick_list import TextTable

if TYPE_CHECKING:
    from mandorla.core.results.types import OnBackup

KINDS: Final[dict[object, str]] = {"none": "None", "battery": "Battery", "generator": "Generator"}
CELLS: Final[dict[object, str]] = {"lithium": "Lithium", "lead": "Lead"}
WHEN: Final[dict[object, str]] = {"print": "with the first layer", "start": "when it is switched on"}
CAUTION: Final = (
    "Batteries burn and gas, generators give carbon monoxide and never run indoors. Converter, fuses, cable and earth belong to a "
    "qualified electrician and to local code; a machine that heats is not left alone on a supply that may stop, and one whose "
    "supply has stopped stays hot."
)
BREAKER_CAUTION: Final = (
    "Sockets, cables and breakers carry other things, too: a qualified electrician and local code decide."
)


class BackupView(View):
    """A table of ways to run the job on the backup, and the order of starts of machines alike."""

    key = "backup"
    title = "Battery and breaker"
    needs_part = True

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        column.addWidget(heading("On a battery or a generator"))
        self.sentence = answer()
        column.addWidget(self.sentence)
        self.ways = TextTable(
            "Ways to run the job on the backup",
            ("Heated", "Takes of it", "Ends", "Anything fails"),
            "State what the backup holds",
        )
        self.ways.setMinimumHeight(160)
        column.addWidget(self.ways, 2)
        self.use_button = QPushButton("Use the picked way")
        self.use_button.clicked.connect(self.use)
        row = QHBoxLayout()
        row.addWidget(self.use_button)
        row.addStretch(1)
        column.addLayout(row)
        self.caution = soft(CAUTION)
        column.addWidget(self.caution)
        column.addWidget(heading("Machines alike on one breaker"))
        self.order = answer()
        column.addWidget(self.order)
        self.starts = TextTable(
            "Starts of the machines", ("Machine", "Switched on after"), "State how many machines share a breaker"
        )
        self.starts.setMinimumHeight(90)
        column.addWidget(self.starts, 1)
        column.addWidget(soft(BREAKER_CAUTION))
        body.addWidget(scrolling(frame, fill=True), 1)
        area, side = side_column(340)
        frame, column = panel()
        column.addWidget(heading("Battery or generator"))
        form = Form(document)
        base = "rig.backup"
        form.add_widget("Kind", ChoiceEdit(document, f"{base}.kind", "Kind of backup", KINDS))
        form.add_widget("Cells", ChoiceEdit(document, f"{base}.chemistry", "Cells of the battery", CELLS))
        for name in ("capacity", "usable", "efficiency", "own", "most", "temperature"):
            form.add_field(f"{base}.{name}")
        form.add_widget("It takes over", ChoiceEdit(document, f"{base}.takes_over", "When it takes over", WHEN))
        column.addWidget(form)
        self.held = FigureList("What the backup gives")
        column.addWidget(self.held)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("Machines on one breaker"))
        form = Form(document)
        for name, caption in (("machines", "Machines alike"), ("breaker", None), ("latest", None)):
            form.add_field(f"criteria.farm.{name}", caption)
        column.addWidget(form)
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)

    def uses(self) -> tuple[Key[Any], ...]:
        """The evaluation and the course of power."""
        return EVALUATION, PLUG_COURSE

    def also(self) -> tuple[Key[Any], ...]:
        """Backup and order of starts."""
        return ON_BACKUP, STAGGER, BACKUP_IN_FULL

    def _ways(self) -> tuple[OnBackup, ...] | None:
        """The ways to run the job on the backup, judged in full once they were."""
        checked = self.results.value(BACKUP_IN_FULL)
        return checked if checked is not None else self.results.value(ON_BACKUP)

    def use(self) -> None:
        """Take over the settings of the picked way."""
        rows, ways = self.ways.selectionModel().selectedRows(), self._ways() or ()
        if not rows or rows[0].row() >= len(ways):
            self.document.problem.emit("Pick a way in the table first.")
            return
        moved = ways[rows[0].row()].settings.moves(self.project.settings)
        try:
            self.document.edit_many({f"settings.{k}": new for k, (_, new) in moved.items()}, "heat less on the backup")
        except InputError as error:
            self.document.problem.emit(str(error))

    def headline(self) -> str:
        """Whether the print ends on the backup; without one, the order of starts."""
        if self.project.rig.backup.kind == "none" and self.project.criteria.farm.machines > 1:
            return self._order()
        return self._on_backup()

    def _on_backup(self) -> str:
        ways, project = self._ways(), self.project
        if ways is None:
            return ""
        return backup_sentence(ways, project.rig.backup, project.criteria.risk, self.units)

    def _order(self) -> str:
        known = self.results.known(STAGGER)
        return (
            stagger_sentence(self.results.value(STAGGER), self.project.criteria.farm.machines, self.units)
            if known
            else ""
        )

    def draw(self) -> None:
        """Show what is known of backup and order."""
        units, ways = self.units, self._ways() or self.results.last(ON_BACKUP) or ()
        for label, text in ((self.sentence, self._on_backup()), (self.order, self._order())):
            label.setText(text or "Being computed …")
            label.setVisible(text != self.headline())  # it stands above already
        self.ways.show_rows(
            [
                [
                    w.name[0].upper() + w.name[1:],
                    show(w.run.asked, "energy", units),
                    "switches off: too much asked"
                    if w.run.overloaded
                    else "lasts"
                    if w.run.lasts
                    else f"after {show_duration(w.run.stops)}, {DOING_NAMES[w.run.doing] if w.run.doing else 'print'}",
                    chance_in_table(w),
                ]
                for w in ways
            ]
        )
        self.held.show_figures(
            [
                Figure("Gives", show(ways[0].run.holds, "energy", units), "usable, at its temperature"),
                Figure(
                    "Asked for at most", show(ways[0].run.peak, "power", units),
                    f"it gives {show(self.project.rig.backup.most, 'power', units)}",
                    State.FAILS if ways[0].run.overloaded else None,
                ),
            ]
            if ways
            else [],
            self.theme,
        )  # fmt: skip
        self.use_button.setVisible(bool(ways))
        found = self.results.value(STAGGER)
        self.starts.show_rows(
            [
                [f"{k + 1}", show_duration(s) if s > 0.0 else "at once"]
                for k, s in enumerate(found.starts if found is not None else ())
            ]
        )
