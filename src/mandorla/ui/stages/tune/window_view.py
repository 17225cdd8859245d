"""Tune: what to change."""

from __future__ import annotations

import csv
import io
import math
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from mandorla.core.errors import InputError
from mandorla.core.failure.messages import probability_text
from mandorla.core.failure.state import State
from mandorla.core.failure.words import clause
from mandorla.core.project.models import Scenario
from mandorla.core.results.choices import axis_choices, second_axis
from mandorla.core.results.key import Key
from mandorla.core.results.keys import (
    EVALUATION,
    FULL_RUN,
    MEASURING,
    OPENERS,
    SCENARIO,
    SCENARIO_JUDGEMENT,
    SETTINGS_CHECK,
    SUGGESTIONS,
    WINDOW,
    WINDOW_AT_BEST,
    WINDOW_AT_ONCE,
    WINDOW_THROUGH_RUNS,
)
from mandorla.core.tune.messages import doubt_of, lever_remark, offered, place_by, tune_sentence
from mandorla.core.units import show, show_duration
from mandorla.ui.document import Document
from mandorla.ui.plots.almond_map import CONTOURS, AlmondMap
from mandorla.ui.stages.page import side_column
from mandorla.ui.stages.tune.comparison import comparison_rows
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import beside, heading, panel, soft

if TYPE_CHECKING:
    from mandorla.core.results.types import Evaluation, Judgement, Openers, Suggested, Suggestion, Window
    from mandorla.core.rig.settings import Settings


_NAMES = {
    "bed_first": "Bed, first layers", "bed_rest": "Bed, rest", "chamber": "Chamber", "soak_time": "Soak", "fan": "Part fan",
}  # fmt: skip
_KINDS = {"soak_time": "duration", "fan": "fraction", "bed_first": "set_point", "bed_rest": "set_point"}
WIDEST_NAME: Final = 120  # pixels that the names of the scenarios share


class WindowView(View):
    """The operating window and the comparison of pinned scenarios."""

    key = "window"
    title = "Operating window"
    needs_part = True

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        row = QHBoxLayout()
        row.addWidget(heading("What holds"))
        row.addStretch(1)
        column.addLayout(row)
        self._axes = ("", "")  # as chosen; empty: the usual ones
        self.choices = QHBoxLayout()
        self.choices.setSpacing(6)
        self.across, self.up = (_axis_box(name) for name in ("Across", "Upwards"))
        self.contours = QComboBox()
        self.contours.setAccessibleName("Dotted lines")
        for key, name in CONTOURS.items():
            self.contours.addItem(name, key)
        self.contours.currentIndexChanged.connect(lambda _: self.refresh())
        self.others = QComboBox()
        self.others.setAccessibleName("What is no axis is")
        self.others.addItem("held", "held")
        self.others.addItem("at its best", "best")
        self.others.setToolTip("Whether what is no axis stays as it is, or is at its best at each point of the map")
        self.others.activated.connect(lambda _: self._choose_axes())
        for caption, box in (("Others", self.others), ("Dotted", self.contours)):
            row.addWidget(beside(caption))
            row.addWidget(box)
        for caption, box in (("Across", self.across), ("Upwards", self.up)):
            self.choices.addWidget(beside(caption))
            self.choices.addWidget(box, 1)
        for box in (self.across, self.up):
            box.activated.connect(lambda _: self._choose_axes())
        column.addLayout(self.choices)
        self.map = AlmondMap()
        self.map.picked.connect(self._pick)
        column.addWidget(self.map, 1)
        self.foot = soft()
        column.addWidget(self.foot)
        body.addWidget(frame, 1)

        area, side = side_column(352)
        hand, inside = panel()
        inside.addWidget(heading("In hand from here"))
        self.hand = FigureList("In hand from here")
        inside.addWidget(self.hand)
        side.addWidget(hand)
        self.measure_frame, inside = panel()
        inside.addWidget(heading("What measuring would widen"))
        self.measuring = FigureList("What measuring would widen")
        inside.addWidget(self.measuring)
        self.cards: dict[str, tuple[FigureList, QPushButton | None]] = {}
        self.frames: dict[str, QWidget] = {}
        for key, title, button_text in (
            ("nearest", "Smallest change", "Use these"),
            ("cheapest", "Cheapest", "Use these "),
            ("safest", "Safest", "Use these  "),
            ("fastest", "Done soonest", "Use these   "),
        ):
            frame, column = panel()
            head = QHBoxLayout()
            head.addWidget(heading(title))
            head.addStretch(1)
            button = QPushButton(button_text.strip())
            button.setObjectName("primary")
            button.setAccessibleName(f"Use the settings: {title}")
            button.clicked.connect(lambda _=False, k=key: self.use(k))
            head.addWidget(button)
            column.addLayout(head)
            table = FigureList(title)
            column.addWidget(table)
            self.cards[key] = (table, button)
            self.frames[key] = frame
            side.addWidget(frame)
        frame, column = panel()
        head = QHBoxLayout()
        head.addWidget(heading("Scenarios, difference first"))
        head.addStretch(1)
        self.pin_button = QPushButton("Pin now")
        self.pin_button.clicked.connect(self.pin)
        head.addWidget(self.pin_button)
        self.save_button = QPushButton("Save …")
        self.save_button.setAccessibleName("Save the comparison of scenarios as CSV")
        self.save_button.clicked.connect(self._save)
        head.addWidget(self.save_button)
        column.addLayout(head)
        self._compare_host = QVBoxLayout()
        column.addLayout(self._compare_host)
        self.comparison: QWidget | None = None
        self.comparison_texts: list[list[str]] = []
        side.addWidget(frame)
        side.addWidget(self.measure_frame)
        side.addStretch(1)
        body.addWidget(area)
        document.results.changed.connect(self._on_judged)

    def _on_judged(self, name: str) -> None:
        if name in (FULL_RUN.name, SUGGESTIONS.name, OPENERS.name, SCENARIO_JUDGEMENT.name) and self.isVisible():
            self.refresh()
            self.changed()

    def use(self, which: str) -> None:
        """Take over a suggestion with every setting that it moves; where there is none, those of the likeliest place."""
        found, openers = self._suggestion(which), self._opened()
        settings = found.settings if found is not None else openers.settings if openers is not None else None
        if settings is None:
            return
        values = {f"settings.{name}": new for name, (_, new) in settings.moves(self.project.settings).items()}
        try:
            self.document.edit_many(values, "Take over a suggestion" if found else "Go to the likeliest place")
        except InputError as error:
            self.document.problem.emit(str(error))

    def _suggestion(self, which: str) -> Suggestion | None:
        return next((s for s in self._offers() or () if s.key == which), None)

    def _opened(self) -> Openers | None:
        """What would open the window, where it is known that nothing is offered."""
        return None if self._offers() is None or self._offers() else self._openers_now()

    def _openers_now(self) -> Openers | None:
        """What would open the map, with the chances of full simulations that are known by now."""
        found = self.results.value(OPENERS.of(units=self.units))
        return found.by_runs(self.results.run_judgement) if found is not None else None

    def _pick(self, x: float, y: float) -> None:
        window, p = self._map(), self.project
        values = window.set_at(x, y, p.rig, p.settings, p.process) if window is not None else {}
        if not values:
            return
        try:
            self.document.edit_many(values, "Move on the map")
        except InputError as error:
            self.document.problem.emit(str(error))

    def _choose_axes(self) -> None:
        """Another map: over the axes that were picked; one that is picked twice gives way."""
        x, y = self.across.currentData(), self.up.currentData()
        clash = x == y or ("bed" in (x, y) and {x, y} <= {"bed", "bed_first", "bed_rest"})
        if clash:
            moved, kept = (self.up, x) if x != self._axes[0] else (self.across, y)
            other = next(
                key for key, _, missing in axis_choices(self.document.bundle)
                if not missing and key != kept and not {key, kept} <= {"bed", "bed_first", "bed_rest"}
            )  # fmt: skip
            moved.setCurrentIndex(moved.findData(other))
            x, y = self.across.currentData(), self.up.currentData()
        usual = ("bed", second_axis(self.project.rig))
        self._axes = ("", "") if (x, y) == usual else (x, y)
        self.wants_changed()
        self.refresh()

    def _show_axes(self) -> None:
        """What can be chosen on this machine; what has no effect is said and cannot be picked."""
        now = (self._axes[0] or "bed", self._axes[1] or second_axis(self.project.rig))
        choices = axis_choices(self.document.bundle)
        without = {key for key, _, missing in choices if missing}
        if without & set(now):
            self._axes, now = ("", ""), ("bed", second_axis(self.project.rig))
            self.wants_changed()
        for box, chosen in ((self.across, now[0]), (self.up, now[1])):
            if [box.itemData(i) for i in range(box.count())] != [key for key, _, _ in choices]:
                box.clear()
                for key, name, _ in choices:
                    box.addItem(name, key)
            for i, (_, _, missing) in enumerate(choices):
                box.model().item(i).setEnabled(not missing)  # type: ignore[attr-defined]
                box.setItemData(i, missing, Qt.ItemDataRole.ToolTipRole)
            box.setCurrentIndex(box.findData(chosen))

    def _save(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Save the comparison of scenarios", "scenarios.csv", "CSV (*.csv)")
        if name:
            self.save(Path(name))

    def save(self, path: Path) -> None:
        """Write the comparison of scenarios as CSV, as it is shown; a full or forbidden place is told."""
        if not self.comparison_texts:
            self.document.problem.emit("Pin a scenario first: there is nothing to compare yet.")
            return
        out = io.StringIO()
        names = [s.name for s in self.project.scenarios if s.name in self._pinned()]
        csv.writer(out).writerows([["", *names, "Now"], *self.comparison_texts])
        try:
            path.write_text(out.getvalue(), encoding="utf-8")
        except OSError as error:
            self.document.problem.emit(f"“{path}” cannot be written: {error.strerror}.")
            return
        self.document.said.emit(f"Comparison saved to {path.name}.")

    def pin(self) -> None:
        """Pin the present settings under the next free letter."""
        taken = {s.name for s in self.document.project.scenarios}
        name = next(n for n in "ABCDEFGHIJKLMNOPQRSTUVWXYZ" if n not in taken)
        try:
            self.document.pin(name)
        except InputError as error:
            self.document.problem.emit(str(error))

    def uses(self) -> tuple[Key[Any], ...]:
        """The present state, and the coarse map of it."""
        return EVALUATION, WINDOW_AT_ONCE.of(x=self._axes[0], y=self._axes[1])

    def also(self) -> tuple[Key[Any], ...]:
        """Pinned scenarios, suggestions quick and checked, and what would open a window on which nothing holds."""
        pinned = (SCENARIO.of(scenario=s.name) for s in self.project.scenarios)
        x, y = self._axes
        maps = (WINDOW, WINDOW.of(x=x, y=y), *((WINDOW_THROUGH_RUNS.of(x=x, y=y),) if x or y else ()))
        if self._at_best:
            maps = (WINDOW, WINDOW_AT_BEST.of(x=x, y=y))
        return (
            *pinned,
            *maps,
            MEASURING,
            SUGGESTIONS.of(check=False),
            SETTINGS_CHECK,
            SUGGESTIONS,
            OPENERS.of(units=self.units),
            *(SCENARIO_JUDGEMENT.of(scenario=s.name) for s in self.project.scenarios),
        )

    def refresh_after_edit(self) -> None:
        """The present point follows an edit at once; what is computed for it comes when it is there."""
        drawn, p = self.map.window, self.project
        if drawn is not None and p.part is not None:
            self.map.move_present(*drawn.place_of(p.rig, p.settings, p.process))
        super().refresh_after_edit()

    def headline(self) -> str:
        """Whether the settings hold, the smallest change that makes them hold, the cheapest settings."""
        w, judgement = self._window(), self._judgement()
        if w is None or judgement is None:
            return ""
        found, openers = self._offers(), self._openers_now()
        return tune_sentence(w, judgement, found, openers, self.project.rig, self.project.settings, self.units)

    def _judgement(self) -> Judgement | None:
        e = self.results.last(EVALUATION)
        if e is None or e.part is None:
            return None
        return self.results.judgement() or e.judgement

    def _suggested(self) -> Suggested | None:
        checked = self.results.value(SUGGESTIONS)
        return checked if checked is not None else self.results.value(SUGGESTIONS.of(check=False))

    def _offers(self) -> tuple[Suggestion, ...] | None:
        found = self._suggested()
        return None if found is None else found.offers

    def _window(self) -> Window | None:
        """The usual map of the project as it is, moved by the full simulations that have been run for it."""
        found = self._suggested()
        return self.results.value(WINDOW) if found is None else found.window

    @property
    def _at_best(self) -> bool:
        return str(self.others.currentData()) == "best"

    def _map(self) -> Window | None:
        """The map over the chosen axes: the best that is there for the project as it is, else the newest."""
        x, y = self._axes
        if self._at_best:
            return self.results.value(WINDOW_AT_BEST.of(x=x, y=y)) or self.results.last(WINDOW_AT_ONCE.of(x=x, y=y))
        if not x and not y:
            found = self._window()
        else:
            found = self.results.value(WINDOW_THROUGH_RUNS.of(x=x, y=y)) or self.results.value(WINDOW.of(x=x, y=y))
        if found is None:
            coarse = WINDOW_AT_ONCE.of(x=x, y=y)
            found = self.results.value(coarse) or self.results.last(WINDOW.of(x=x, y=y)) or self.results.last(coarse)
        return found

    def _pinned(self) -> dict[str, Evaluation]:
        found = {s.name: self.results.last(SCENARIO.of(scenario=s.name)) for s in self.project.scenarios}
        return {name: e for name, e in found.items() if e is not None}

    def draw(self) -> None:
        """Show window, cards and comparison."""
        w, e, project, units = self._map(), self.get(EVALUATION), self.project, self.units
        self._show_comparison()
        self._show_axes()
        if e.part is None or w is None:
            return
        usual = not any(self._axes) and not self._at_best
        found = self._offers()
        judgement = self._judgement()
        by_key = offered(found or (), judgement)
        holds = judgement is not None and judgement.whole is State.HOLDS
        self.map.show_window(
            w,
            self.theme,
            units,
            {k: s.point for k, s in by_key.items() if usual and s.settings.fan == project.settings.fan},
            runs=getattr(self._suggested(), "runs", ()),
            titles=e.judgement.titles,
            contours=self.contours.currentData(),
            currency=project.criteria.currency,
        )
        self._show_hand(w)
        self._show_measuring()
        for key in self.cards:
            table, button = self.cards[key]
            s = by_key.get(key)
            self.frames[key].setVisible(s is not None or key in ("nearest", "cheapest"))
            table.show_figures(self._rows(key, s, holds=holds, looked=found is not None), self.theme)
            if button:
                openers = self._opened() if key == "nearest" and not holds else None
                put = s.settings if s is not None else openers.settings if openers is not None else None
                button.setText("Use these" if openers is None else "Go there")
                button.setEnabled(put is not None and bool(put.moves(project.settings)))
        given = [a.title.split(",")[0].lower() for a in w.axes if a.given]
        axis = f"The {given[0]} is found, not set: only the line of what it is now can be had. " if given else ""
        limit = f"What cuts most off: {w.binding}. " if w.binding and w.almond.any() and usual else ""
        best = (
            "What is no axis is at its best at each point, by coarse maps: a click takes it over, too. "
            if w.best
            else ""
        )
        kept = "" if w.best else "A coarse map, the fine one is being computed …" if w.coarse else (
            f"Error at points held back: {w.fit_error:.2f} standard deviations." if math.isfinite(w.fit_error) else ""
        )  # fmt: skip
        unsure = float(w.not_sure.mean())
        hatched = f"Hatched ({100 * unsure:.0f} %): a full simulation may say otherwise. " if unsure > 0.0 else ""
        squares = "Squares: simulated in full. " if w.places_of(getattr(self._suggested(), "runs", ())) else ""
        risk = f"Inside: at most {100 * project.criteria.risk:.0f} % that anything fails. "
        self.foot.setText(
            f"{best}{axis}{limit}{risk}{hatched}{squares}{kept} A click or an arrow key moves the settings."
        )

    def _show_measuring(self) -> None:
        """What would widen the almond, or lower the present chance, the best three."""
        found = [m for m in self.results.last(MEASURING) or () if m.after - m.before > 0.002 or m.now - m.then > 0.005][
            :3
        ]
        rows = []
        for m in found:
            wider = m.after - m.before > 0.002
            text = f"{100 * m.before:.1f} → {100 * m.after:.1f} % of the map" if wider else (
                f"{probability_text(m.now)} → {probability_text(m.then)} now"
            )  # fmt: skip
            rows.append(Figure(f"{m.name[0].upper()}{m.name[1:]}", text, m.test))
        self.measure_frame.setVisible(bool(rows))
        self.measuring.show_figures(rows, self.theme)

    def _show_hand(self, w: Window) -> None:
        """How far the settings can be off along each axis before something gives out."""
        titles, rows = self.get(EVALUATION).judgement.titles, []
        for n, axis in enumerate(w.axes):
            hand, kind = (
                w.in_hand(n),
                "temperature_difference" if axis.kind in ("set_point", "temperature") else axis.kind,
            )
            name = axis.title.split(",")[0]
            if hand.down == hand.up == 0.0:
                judged = self._judgement()  # a full simulation may hold where the map does not
                word = "nothing" if judged is not None and judged.whole is State.HOLDS else "outside"
                rows.append(Figure(name, word, titles.get(hand.below, "").lower()))
                continue
            for word, much, way in (("downwards", hand.down, hand.below), ("upwards", hand.up, hand.above)):
                text = show(much, kind, self.units) if math.isfinite(much) else "to the map's end"
                rows.append(Figure(f"{name}, {word}", text, titles.get(way, "").lower()))
        self.hand.show_figures(rows, self.theme)

    def _rows(self, key: str, s: Suggestion | None, *, holds: bool, looked: bool) -> list[Figure]:
        units = self.units
        if key == "nearest" and holds:
            return [Figure("No change needed", "–", "these settings hold")]
        if s is None:
            first, openers = Figure("None found", "–", "" if looked else "being looked for"), self._opened()
            return [first, *self._openers(openers)] if key == "nearest" and openers is not None else [first]
        now = self.get(EVALUATION).energy
        saving = s.energy - (now.total if now is not None else math.nan)
        worst = s.judgement.likeliest
        proved, doubt = s.proved, doubt_of(s.judgement, units)
        doubted = [Figure("In doubt", "", doubt, State.MARGINAL)] if doubt else []
        return [
            Figure(
                "Full simulation",
                "holds" if proved else s.proof,
                s.wrong,
                State.HOLDS if proved else State.NOT_COMPUTED,
            ),
            *doubted,
            *self._moves(s.settings),
            Figure(
                "Anything fails",
                probability_text(s.judgement.anything),
                clause(s.judgement, worst, units) if worst else "",
                key="anything",
            ),
            Figure(
                "Energy",
                show(s.energy, "energy", units),
                f"{'+' if saving >= 0 else '−'}{show(abs(saving), 'energy', units)} against now",
                key="energy",
            ),
            Figure("Done after", show_duration(s.duration), self._against_now(s.duration)),
        ]

    def _against_now(self, duration: float) -> str:
        """How much sooner or later than now a job is done."""
        e = self.results.last(EVALUATION)
        if e is None or e.energy is None:
            return ""
        more = duration - sum(p.duration for p in e.energy.phases[:3])
        if abs(more) < 60.0:
            return "as now"
        return f"{show_duration(abs(more))} {'later' if more > 0.0 else 'sooner'} than now"

    def _moves(self, settings: Settings) -> list[Figure]:
        units = self.units
        return [
            Figure(
                _NAMES[name],
                show(new, _KINDS.get(name, "temperature"), units, digits=0),
                f"now {show(old, _KINDS.get(name, 'temperature'), units, digits=0)}",
            )
            for name, (old, new) in settings.moves(self.project.settings).items()
        ]

    def _openers(self, openers: Openers) -> list[Figure]:
        """What would open the window, and the settings at which it is pulled."""
        last = self.results.last(EVALUATION)
        titles = last.judgement.titles if last is not None else {}
        pulled = [
            Figure(v.name, probability_text(v.chance), lever_remark(v, titles))
            for v in openers.levers[: 3 if openers.pairs else 5]
        ]
        pulled += [
            Figure(
                q.first.name,
                probability_text(q.chance),
                f"with {q.second.name[0].lower()}{q.second.name[1:]}{'; simulated' if q.simulated else ''}",
            )
            for q in openers.pairs
        ]
        if not pulled:
            return []
        place = Figure("Likeliest place", probability_text(openers.chance), f"that anything fails, {place_by(openers)}")
        return [place, *self._moves(openers.settings), Figure("What would help there", "", ""), *pulled]

    def _show_comparison(self) -> None:
        if self.comparison is not None:
            self._compare_host.removeWidget(self.comparison)
            self.comparison.deleteLater()
        e, project, pinned = self.results.last(EVALUATION), self.project, self._pinned()
        holder = QWidget()
        grid = QGridLayout(holder)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(3)
        self.comparison, self.comparison_texts = holder, []
        self._compare_host.addWidget(holder)
        scenarios = [s for s in project.scenarios if s.name in pinned]
        if not scenarios or e is None:
            grid.addWidget(
                soft(
                    "Pin the present settings, change something, and both stand side by side here; up to four can be pinned."
                ),
                0,
                0,
            )
            return
        columns: list[tuple[str, Scenario | None, Evaluation]] = [(s.name, s, pinned[s.name]) for s in scenarios]
        columns.append(("Now", None, e))
        self._comparison_head(grid, columns)
        rows = comparison_rows(columns, self.document)
        for r, (caption, texts) in enumerate(rows, start=1):
            self.comparison_texts.append([caption, *texts])
            for c, text in enumerate([caption, *texts]):
                label = QLabel(text)
                label.setFont(font(9.0, strong=c > 0))
                label.setWordWrap(True)
                label.setAlignment(Qt.AlignmentFlag.AlignLeft if c == 0 else Qt.AlignmentFlag.AlignRight)
                grid.addWidget(label, r, c)

    def _comparison_head(self, grid: QGridLayout, columns: list[tuple[str, Scenario | None, Evaluation]]) -> None:
        for c, (name, scenario, _) in enumerate(columns, start=1):
            grid.setColumnStretch(c, 1)
            if scenario is None:
                label = QLabel(name)
                label.setFont(font(9.5, strong=True))
                grid.addWidget(label, 0, c, Qt.AlignmentFlag.AlignRight)
                continue
            button = QPushButton()
            button.setText(
                f"{button.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, WIDEST_NAME // len(columns))} ×"
            )
            button.setToolTip(f"Forget scenario {name}")
            button.setAccessibleName(f"Forget scenario {name}")
            button.clicked.connect(lambda _=False, n=name: self.document.unpin(n))
            grid.addWidget(button, 0, c, Qt.AlignmentFlag.AlignRight)


def _axis_box(name: str) -> QComboBox:
    box = QComboBox()
    box.setAccessibleName(f"{name} on the map")
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    box.setMinimumContentsLength(8)
    return box
