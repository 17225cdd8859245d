"""What each lever buys for energy and time, from the present point, and which two work together."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, Final

from PySide6.QtWidgets import QHBoxLayout, QPushButton

from mandorla.core.errors import InputError
from mandorla.core.results.key import Key
from mandorla.core.results.keys import EVALUATION, FULL_RUN, LEVER_WORTH, SETTINGS_CHECK
from mandorla.core.tune.messages import chance_in_table, worth_sentence
from mandorla.core.units import show, show_duration
from mandorla.ui.document import Document
from mandorla.ui.stages.page import scrolling
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.form import heading, panel, soft
from mandorla.ui.widgets.pick_list import TextTable

if TYPE_CHECKING:
    from mandorla.core.results.types import LeversWorth

_BY_ITSELF: Final = ("Lever", "Anything fails", "Energy", "Time", "A kWh buys", "An hour buys", "Against")
_SETS: Final = "Sets what is picked in the project: settings, machine and print"
_SET_BY_HAND: Final = (
    "No single field says this: a stronger magnet is measured in Verify, another standing is chosen in Part"
)
_NOTHING: Final = 0.005 * 3.6e6  # J
_TOGETHER: Final = ("Two at once", "Anything fails", "Energy", "Time", "Better than one by")


class LeversView(View):
    """A table of levers, what they cost first; a table of pairs."""

    key = "levers"
    title = "Levers"
    needs_part = True

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        self._drawn: LeversWorth | None = None  # what the lines are of; None where they are of the project before
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        frame, column = panel(8)
        head = QHBoxLayout()
        head.addWidget(heading("Each pulled by itself, from the present settings; those that cost nothing come first"))
        head.addStretch(1)
        self.use_button = QPushButton("Set this lever")
        self.use_button.setObjectName("primary")
        self.use_button.setEnabled(False)
        self.use_button.setToolTip(_SETS)
        self.use_button.clicked.connect(self.use)
        head.addWidget(self.use_button)
        column.addLayout(head)
        self.table = TextTable("What levers buy", _BY_ITSELF, "No lever buys anything here")
        self.table.setMinimumHeight(170)
        column.addWidget(self.table, 3)
        column.addWidget(heading("Two that work together: better than either alone"))
        self.pairs = TextTable("Pairs of levers", _TOGETHER, "No two do more together than alone")
        self.pairs.setMinimumHeight(110)
        self.table.itemSelectionChanged.connect(lambda: self._pick(self.table, self.pairs))
        self.pairs.itemSelectionChanged.connect(lambda: self._pick(self.pairs, self.table))
        column.addWidget(self.pairs, 2)
        self.note = soft(
            "Simulated: that lever was run in full. The others: by the quick models, as full simulations correct them. “Buys” is "
            "by how many percentage points anything fails less, for each kWh or hour that it takes more. Changes of the machine "
            "count its limits. What a lever promises is proved once it is set and checked; a machine is changed by whoever may "
            "work on it."
        )
        column.addWidget(self.note)
        body.addWidget(scrolling(frame, fill=True), 1)
        document.results.changed.connect(self._on_judged)

    def uses(self) -> tuple[Key[Any], ...]:
        """What levers buy by the quick models."""
        return EVALUATION, LEVER_WORTH.of(units=self.units)

    def also(self) -> tuple[Key[Any], ...]:
        """The settings, checked in full, what levers buy as that run corrects them, and the best of them run in full."""
        return (SETTINGS_CHECK, self._as_shown, *self._in_full)

    @property
    def _as_shown(self) -> Key[LeversWorth]:
        """What levers buy from the judgement that everybody shows."""
        return self.results.as_judged(LEVER_WORTH.of(units=self.units))

    @property
    def _in_full(self) -> tuple[Key[LeversWorth], ...]:
        """The same with the best of them run in full, once the settings were."""
        return (self._as_shown.of(simulated=True),) if self._as_shown["full"] else ()

    def _on_judged(self, name: str) -> None:
        if name in (FULL_RUN.name, SETTINGS_CHECK.name, LEVER_WORTH.name) and self.isVisible():
            self.wants_changed()
            self.refresh()
            self.changed()

    def _found(self) -> LeversWorth | None:
        return self._now() or self.results.last(LEVER_WORTH.of(units=self.units))

    def _now(self) -> LeversWorth | None:
        """What is known for the project as it is, with the chances of full simulations that are known by now."""
        known = (self.results.value(key) for key in (*self._in_full, self._as_shown, LEVER_WORTH.of(units=self.units)))
        found = next((worth for worth in known if worth is not None), None)
        return found.by_runs(self.results.run_judgement) if found is not None else None

    def headline(self) -> str:
        """The lever that buys most, and the best pair."""
        found = self._found()
        return (
            worth_sentence(found.levers, found.pairs, found.judgement, self.units, self.results.judgement())
            if found is not None
            else ""
        )

    def refresh_after_edit(self) -> None:
        """What is picked was found for the project as it was: it cannot be set any more."""
        self._drawn = None
        super().refresh_after_edit()
        self._offer()

    def draw(self) -> None:
        """Show the newest levers."""
        self._drawn = self._now()
        found, titles = self._drawn or self._found(), self.get(EVALUATION).judgement.titles
        if found is None:
            return
        self.table.show_rows([
            [
                w.lever.name, chance_in_table(w.lever), self._more(w.energy), _later(w.later), _buys(w.per_kwh),
                _buys(w.per_hour), titles.get(w.lever.moves, "").lower(),
            ]
            for w in found.levers
        ])  # fmt: skip
        self.pairs.show_rows([
            [
                f"{p.first.name} and {p.second.name[0].lower()}{p.second.name[1:]}", chance_in_table(p),
                self._more(p.energy), _later(p.later), f"{100.0 * p.better:.0f} points",
            ]
            for p in found.pairs
        ])  # fmt: skip
        self._offer()

    def _more(self, energy: float) -> str:
        if abs(energy) < _NOTHING:
            return "as now"
        return f"{'+' if energy >= 0.0 else '−'}{show(abs(energy), 'energy', self.units)}"

    def _pick(self, here: TextTable, there: TextTable) -> None:
        """One line is picked, of levers or of pairs."""
        if here.selectedItems():
            there.clearSelection()
        self._offer()

    def _offer(self) -> None:
        changes, both = self._changes(), bool(self.pairs.selectedItems())
        picked = both or bool(self.table.selectedItems())
        self.use_button.setEnabled(changes is not None)
        self.use_button.setText("Set both" if both else "Set this lever")
        self.use_button.setToolTip(_SET_BY_HAND if picked and changes is None else _SETS)

    def _changes(self) -> Mapping[str, object] | None:
        """What the picked line sets, by path; None where nothing is picked or no field sets it, or it is of a project before."""
        found = self._drawn
        if found is None:
            return None
        of_levers, of_pairs = (table.selectionModel().selectedRows() for table in (self.table, self.pairs))
        if of_levers and of_levers[0].row() < len(found.levers):
            return found.levers[of_levers[0].row()].lever.changes
        if of_pairs and of_pairs[0].row() < len(found.pairs):
            return found.pairs[of_pairs[0].row()].changes
        return None

    def use(self) -> None:
        """Set what the picked line moves, as one step that can be undone."""
        changes = self._changes()
        if not changes:
            return
        try:
            self.document.edit_many(dict(changes), "Set a lever")
        except InputError as error:
            self.document.problem.emit(str(error))


def _later(duration: float) -> str:
    if abs(duration) < 60.0:
        return "as now"
    return f"{'+' if duration > 0.0 else '−'}{show_duration(abs(duration))}"


def _buys(share: float) -> str:
    return f"{100.0 * share:.0f} points" if math.isfinite(share) else "free"
