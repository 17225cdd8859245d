"""What each lever buys for energy and time, from the present point, and which two work together."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any, Final

from PySide6.QtWidgets import QHBoxLayout, QPushButton

from mandorla.core.errors import InputError
from mandorla.core.failure.messages import probability_text
from mandorla.core.results.key import Key
from mandorla.core.results.keys import EVALUATION, LEVER_WORTH
from mandorla.core.tune.messages import worth_sentence
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
_NOTHING: Final = 0.005 * 3.6e6  # J
_TOGETHER: Final = ("Two at once", "Anything fails", "Energy", "Time", "Better than one by")


class LeversView(View):
    """A table of levers, what they cost first; a table of pairs."""

    key = "levers"
    title = "Levers"
    needs_part = True

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        frame, column = panel(8)
        head = QHBoxLayout()
        head.addWidget(heading("Each pulled by itself, from the present settings; those that cost nothing come first"))
        head.addStretch(1)
        self.use_button = QPushButton("Set this lever")
        self.use_button.setObjectName("primary")
        self.use_button.setEnabled(False)
        self.use_button.setToolTip(
            "Levers that move settings only can be set from here; the others are changes of machine or part"
        )
        self.use_button.clicked.connect(self.use)
        head.addWidget(self.use_button)
        column.addLayout(head)
        self.table = TextTable("What levers buy", _BY_ITSELF, "No lever buys anything here")
        self.table.setMinimumHeight(170)
        self.table.itemSelectionChanged.connect(self._pick)
        column.addWidget(self.table, 3)
        column.addWidget(heading("Two that work together: better than either alone"))
        self.pairs = TextTable("Pairs of levers", _TOGETHER, "No two do more together than alone")
        self.pairs.setMinimumHeight(110)
        column.addWidget(self.pairs, 2)
        self.note = soft(
            "By the quick models, from the present point; “buys” is by how many percentage points anything fails less, for each "
            "kWh or hour that it takes more. Changes of the machine count its limits. What a lever promises is proved once it is "
            "set and checked in full."
        )
        column.addWidget(self.note)
        body.addWidget(scrolling(frame, fill=True), 1)

    def uses(self) -> tuple[Key[Any], ...]:
        """What levers buy."""
        return EVALUATION, LEVER_WORTH.of(units=self.units)

    def _found(self) -> LeversWorth | None:
        return self.results.last(LEVER_WORTH.of(units=self.units))

    def headline(self) -> str:
        """The lever that buys most, and the best pair."""
        found, e = self._found(), self.results.last(EVALUATION)
        return (
            worth_sentence(found.levers, found.pairs, e.judgement, self.units, self.results.judgement())
            if found is not None and e is not None
            else ""
        )

    def draw(self) -> None:
        """Show the newest levers."""
        found, titles = self._found(), self.get(EVALUATION).judgement.titles
        if found is None:
            return
        self.table.show_rows([
            [
                w.lever.name, probability_text(w.lever.chance), self._more(w.energy), _later(w.later), _buys(w.per_kwh),
                _buys(w.per_hour), titles.get(w.lever.moves, "").lower(),
            ]
            for w in found.levers
        ])  # fmt: skip
        self.pairs.show_rows([
            [
                f"{p.first.name} and {p.second.name[0].lower()}{p.second.name[1:]}", probability_text(p.chance),
                self._more(p.energy), _later(p.later), f"{100.0 * p.better:.0f} points",
            ]
            for p in found.pairs
        ])  # fmt: skip
        self._pick()

    def _more(self, energy: float) -> str:
        if abs(energy) < _NOTHING:
            return "as now"
        return f"{'+' if energy >= 0.0 else '−'}{show(abs(energy), 'energy', self.units)}"

    def _pick(self) -> None:
        self.use_button.setEnabled(self._put() is not None)

    def _put(self) -> dict[str, float] | None:
        """What the picked lever sets, by path; None where it is no matter of settings."""
        found, rows = self._found(), self.table.selectionModel().selectedRows()
        if found is None or not rows or rows[0].row() >= len(found.levers):
            return None
        put = found.levers[rows[0].row()].lever.put
        if put is None:
            return None
        return {f"settings.{name}": new for name, (_, new) in put.moves(self.project.settings).items()}

    def use(self) -> None:
        """Set what the picked lever moves."""
        values = self._put()
        if not values:
            return
        try:
            self.document.edit_many(dict(values), "Set a lever")
        except InputError as error:
            self.document.problem.emit(str(error))


def _later(duration: float) -> str:
    if abs(duration) < 60.0:
        return "as now"
    return f"{'+' if duration > 0.0 else '−'}{show_duration(abs(duration))}"


def _buys(share: float) -> str:
    return f"{100.0 * share:.0f} points" if math.isfinite(share) else "free"
