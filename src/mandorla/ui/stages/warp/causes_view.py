"""Why it warps and what would help, in the stage Warp: causes taken away, levers pulled, each by itself, computed and ranked."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QBoxLayout, QHBoxLayout, QPushButton

from mandorla.core.failure.messages import lift_figure, margin_text, probability_text
from mandorla.core.results.key import Key
from mandorla.core.results.keys import (
    CAUSES_AND_LEVERS,
    EVALUATION,
    FULL_RUN,
    LEVERS_IN_FULL,
    SETTINGS_CHECK,
    SHAPE_VARIANTS,
)
from mandorla.core.tune.messages import chance_in_table, why_sentence
from mandorla.core.units import show, show_duration
from mandorla.ui.document import Document
from mandorla.ui.live_results import Standing, in_words
from mandorla.ui.stages.page import scrolled
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.form import heading, panel, soft
from mandorla.ui.widgets.pick_list import TextTable

if TYPE_CHECKING:
    from mandorla.core.results.types import CausesAndLevers, ShapeVariant

CAUTION = (
    "Each row is judged as a whole with that one change, limits and heat-up included: by its own full simulation where it says so, "
    "else by the quick models as the full simulation of the present settings corrects them. Two together need not add up. A hotter "
    "bed or chamber needs layers, wiring and people that stand it: look at the checks of the rig first."
)

_WIDE = 960  # pixels from which both tables fit side by side


class CausesView(View):
    """Two tables of causes and levers, and other shapes that are tried on demand."""

    key = "causes"
    title = "Causes and levers"
    needs_part = True

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        self.results.changed.connect(self._on_shapes)
        self.results.changed.connect(self._on_judged)
        self.results.progressed.connect(self._on_shape_progress)
        body = self._body = QBoxLayout(QBoxLayout.Direction.LeftToRight, scrolled(self.content))
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        column.addWidget(heading("What it comes from: each cause taken away"))
        self.cause_table = TextTable("Causes", ("Without", "Margin", "Lift"))
        self.cause_table.setMinimumHeight(128)
        column.addWidget(self.cause_table, 1)
        column.addWidget(heading("What another shape would do: full simulation, draft"))
        self.shape_table = TextTable(
            "Shapes", ("Shape", "Margin", "Printed", "Released"), "“Try other shapes” builds each of them up once"
        )
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
        self.lever_table = TextTable("Levers", ("Lever", "Fails", "Margin", "Lift", "Cracks", "Print time", "Energy"))
        self.lever_table.setMinimumHeight(220)
        column.addWidget(self.lever_table, 1)
        column.addWidget(soft(CAUTION))
        body.addWidget(frame, 6)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """One below the other where both do not fit side by side."""
        side = QBoxLayout.Direction.LeftToRight if self.width() >= _WIDE else QBoxLayout.Direction.TopToBottom
        self._body.setDirection(side)

    @property
    def _shapes(self) -> Key[tuple[ShapeVariant, ...]]:
        return SHAPE_VARIANTS.of(units=self.units)

    def uses(self) -> tuple[Key[Any], ...]:
        """Causes and levers."""
        return EVALUATION, CAUSES_AND_LEVERS.of(units=self.units)

    def also(self) -> tuple[Key[Any], ...]:
        """The settings, checked in full, levers as that run corrects them, and the best of them run in full."""
        return (SETTINGS_CHECK, self._as_shown, *self._in_full)

    @property
    def _as_shown(self) -> Key[CausesAndLevers]:
        """Levers from the judgement that everybody shows."""
        return self.results.as_judged(CAUSES_AND_LEVERS.of(units=self.units))

    @property
    def _in_full(self) -> tuple[Key[CausesAndLevers], ...]:
        """The same with the best of them run in full, once the settings were."""
        by = self._as_shown
        return (LEVERS_IN_FULL.of(units=self.units, full=by["full"], bodies=by["bodies"]),) if by["full"] else ()

    def _found(self) -> CausesAndLevers | None:
        """The newest that is known, with the chances of full simulations that are known by now."""
        known = (self.results.value(key) for key in (*self._in_full, self._as_shown))
        found = next((f for f in known if f is not None), None)
        if found is None:
            return self.results.last(CAUSES_AND_LEVERS.of(units=self.units))
        return found.by_runs(self.results.run_judgement)

    def _on_judged(self, name: str) -> None:
        if (
            name in (FULL_RUN.name, SETTINGS_CHECK.name, CAUSES_AND_LEVERS.name, LEVERS_IN_FULL.name)
            and self.isVisible()
        ):
            self.wants_changed()
            self.refresh()
            self.changed()

    def try_shapes(self) -> None:
        """Simulate the part with other shapes; an edit makes the answer out of date."""
        if self.results.standing(self._shapes) is not Standing.READY:
            self.results.ask(self._shapes)
            self.shape_note.setText("Simulating …")

    def _on_shapes(self, name: str) -> None:
        if name != SHAPE_VARIANTS.name:
            return
        error = self.results.error(self._shapes)
        if not self.results.busy(self._shapes):
            self.shape_note.setText(in_words(error) if error is not None else "")
        if self.isVisible():
            self.refresh()

    def _on_shape_progress(self, name: str, fraction: float, stage: str) -> None:
        if name == SHAPE_VARIANTS.name:
            self.shape_note.setText(f"{100 * fraction:.0f} %, {stage}")

    def headline(self) -> str:
        """The largest cause and the best levers."""
        found = self._found()
        if found is None:
            return "Every lever is being tried …"
        return why_sentence(found.now.margin, found.judgement.anything, found.causes, found.levers, self.units)

    def draw(self) -> None:
        """Show causes, levers and shapes."""
        self._show()

    def _show(self) -> None:
        e, units = self.get(EVALUATION), self.units
        found, shapes = self._found(), self.results.value(self._shapes) or ()
        if found is None or e.part is None or e.energy is None:
            return
        now = ["as it is", margin_text(found.now.margin), lift_figure(found.now.lift, units)]
        self.cause_table.show_rows(
            [
                now,
                *([f"{c.name}: {c.without}", margin_text(c.margin), lift_figure(c.lift, units)] for c in found.causes),
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
                for s in shapes
            ]
        )
        judgement = found.judgement
        any_fails = probability_text(judgement.anything) if np.isfinite(judgement.anything) else "–"
        rows = [[now[0], any_fails, *now[1:], _index(found.now.crack), *energy]]
        for v in found.levers:
            name = f"{v.name} (barred: {v.barred})" if v.barred else v.name
            rows.append(
                [name, chance_in_table(v), margin_text(v.margin), lift_figure(v.lift, units),
                 _index(v.crack), show_duration(v.duration), show(v.energy, "energy", units)]
            )  # fmt: skip
        self.lever_table.show_rows(rows)


def _index(crack: float) -> str:
    return f"{crack:.2f}" if np.isfinite(crack) else "–"
