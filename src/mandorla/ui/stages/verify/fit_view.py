"""Fit: the rig's unknowns fitted to sessions; what was learned, what cannot be told apart, what to measure next; the fitted rig."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QListWidgetItem, QProgressBar, QPushButton, QVBoxLayout

from mandorla.core.measure.records import fit_sentence
from mandorla.core.results.choices import unknown_names
from mandorla.core.results.key import Key
from mandorla.core.results.keys import FIT
from mandorla.ui.decimal_sign import shown
from mandorla.ui.document import Document
from mandorla.ui.live_results import in_words
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.page import side_column
from mandorla.ui.stages.verify.desk import VerifyDesk, today
from mandorla.ui.stages.verify.verify_view import VerifyView
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.form import answer, heading, panel, soft
from mandorla.ui.widgets.pick_list import PickList, TextTable

if TYPE_CHECKING:
    from mandorla.core.results.types import RigFit


def range_left(share: float) -> str:
    """A share of a range in words and per cent."""
    return f"{100 * min(share, 1.0):.0f} %"


class FitView(VerifyView):
    """Sessions and unknowns to choose, the answer, the table, the series before and after."""

    key = "fit"
    title = "Fit"

    def __init__(self, document: Document, theme: Theme, desk: VerifyDesk) -> None:
        super().__init__(document, theme, desk)
        self._asked: Key[RigFit] | None = None
        self.results.changed.connect(self._on_fit)
        self.results.progressed.connect(self._on_fit_progress)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        area, side = side_column(282)
        frame, column = panel(8)
        column.addWidget(heading("Fitted to"))
        self.sessions = PickList("Sessions to fit to")
        self.sessions.setMaximumHeight(96)
        column.addWidget(self.sessions)
        column.addWidget(heading("Fitted unknowns"))
        self.unknowns = PickList("Unknowns to fit")
        self.unknowns.setMinimumHeight(180)
        column.addWidget(self.unknowns)
        self.fit_button, self.stop_button = QPushButton("Fit"), QPushButton("Stop")
        self.fit_button.setObjectName("primary")
        self.fit_button.clicked.connect(self._fit)
        self.stop_button.clicked.connect(self._stop)
        row = QHBoxLayout()
        row.addWidget(self.fit_button, 1)
        row.addWidget(self.stop_button)
        column.addLayout(row)
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setRange(0, 100)
        column.addWidget(self.progress)
        side.addWidget(frame)
        frame, column = panel(8)
        column.addWidget(heading("Origin of the rig's values"))
        self.provenance = soft()
        column.addWidget(self.provenance)
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)
        middle = QVBoxLayout()
        middle.setSpacing(8)
        frame, column = panel(8)
        self.sentence = answer()
        column.addWidget(self.sentence, 0, Qt.AlignmentFlag.AlignTop)
        self.table = TextTable("What was learned", ("Unknown", "Before", "After", "Range left"), "Not fitted yet")
        column.addWidget(self.table, 1)
        middle.addWidget(frame, 3)
        frame, column = panel(8)
        column.addWidget(heading("Misfit of the picked series, before and after"))
        self.curves = CurvePlot("Misfit before and after", "Time, min", "Measured minus model, K")
        column.addWidget(self.curves, 1)
        self._misfit = frame
        middle.addWidget(frame, 2)
        body.addLayout(middle, 1)
        area, side = side_column(300)
        self._aside = area
        frame, column = panel()
        column.addWidget(heading("How well it fits"))
        self.series = PickList("Series of the fit")
        self.series.setMinimumHeight(110)
        self.series.picked.connect(lambda _: self._draw())
        column.addWidget(self.series)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("Not identifiable, and what to measure next"))
        self.limits = soft()
        column.addWidget(self.limits)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("A new version of the rig"))
        column.addWidget(
            soft("The rig as it is now is kept as a build; every fitted figure goes into its own field, bands follow.")
        )
        self.take_button = QPushButton("Use the fitted rig")
        self.take_button.setObjectName("primary")
        self.take_button.clicked.connect(self._use)
        column.addWidget(self.take_button)
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)

    def _checked(self, box: PickList) -> list[int]:
        return [i for i in range(box.count()) if box.item(i).checkState() == Qt.CheckState.Checked]

    def _fill(self, box: PickList, texts: list[str], on: int | None) -> None:
        if [box.item(i).text() for i in range(box.count())] == [shown(t) for t in texts]:
            return
        box.blockSignals(True)
        box.clear()
        for i, text in enumerate(texts):
            item = QListWidgetItem(text)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if on is None or on == i else Qt.CheckState.Unchecked)
            box.addItem(item)
        box.blockSignals(False)

    def draw(self) -> None:
        """Show what can be chosen and the newest fit."""
        rig = self.desk.document.project.rig
        self._fill(self.sessions, [s.name for s in self.desk.measurements.sessions], self.desk.index)
        self._fill(self.unknowns, list(unknown_names(rig)), None)
        if rig.fitted is None:
            self.provenance.setText(
                "Assumed: library figures and what was entered. Nothing was fitted to measurements yet."
            )
        else:
            f = rig.fitted
            self.provenance.setText(
                f"Fitted on {f.date} to {', '.join(f.logs)}; {len(f.values)} unknowns. Before: rig {f.base}."
            )
        self._show()

    @property
    def running(self) -> bool:
        """Whether a fit is under way."""
        return self._asked is not None and self.results.busy(self._asked)

    @property
    def result(self) -> RigFit | None:
        """The newest fit, as long as it belongs to the rig and the measurements as they are."""
        return self.results.value(self._asked) if self._asked is not None else None

    def _fit(self) -> None:
        names = unknown_names(self.project.rig)
        keys = [s.key for s in self.desk.measurements.sessions]
        self._asked = FIT.of(
            sessions=tuple(keys[i] for i in self._checked(self.sessions)),
            unknowns=tuple(names[i] for i in self._checked(self.unknowns)), day=today(), units=self.units,
        )  # fmt: skip
        self.results.ask(self._asked)
        self._show()

    def _stop(self) -> None:
        if self._asked is not None:
            self.results.stop(self._asked)

    def _on_fit(self, name: str) -> None:
        if name == FIT.name and self.isVisible():
            self._show()

    def _on_fit_progress(self, name: str, fraction: float, _: str) -> None:
        if name == FIT.name:
            self.progress.setValue(round(100 * fraction))

    def _show(self) -> None:
        fit, t = self.result, self.theme
        self.stop_button.setEnabled(self.running)
        self.fit_button.setEnabled(not self.running)
        self.progress.setVisible(self.running)
        error = self.results.error(self._asked) if self._asked is not None else None
        for widget in (self._misfit, self._aside, self.table):
            widget.setVisible(fit is not None)
        if fit is None:
            idle = "Choose sessions and unknowns, then fit: priors are the ranges of the bands, gross errors are not ruled out."
            self.sentence.setText("Fitting …" if self.running else in_words(error) if error is not None else idle)
            self.table.show_rows([])
            self.series.clear()
            self.limits.setText("")
            self.curves.begin(t)
            return
        order = sorted(fit.learned, key=lambda v: v.share)
        self.sentence.setText(fit_sentence(fit))
        self.table.show_rows(
            [
                [v.name, v.before, v.after, range_left(v.share) + (" · at its bound" if v.at_bound else "")]
                for v in order
            ]
        )
        unit = {"power": "W"}
        self.series.show_items(
            [
                f"{s.observation.name}\n{s.rms_before:.1f} → {s.rms_after:.1f} {unit.get(s.observation.role, 'K')} rms"
                for s in fit.series
            ],
            max(0, self.series.currentRow()),
        )
        said = [
            f"“{a}” and “{b}” cannot be told apart (correlation {r:.2f}): only what they do together is known."
            for a, b, r in fit.tied[:3]
        ]
        if fit.unlearned:
            said.append(
                f"Little was learned about: {', '.join(fit.unlearned[:6])}{' …' if len(fit.unlearned) > 6 else ''}."
            )
        for what, name, left in fit.advice:
            said.append(f"Measure next: {what}; it would leave {range_left(left)} of the range of “{name}”.")
        self.limits.setText("\n\n".join(said).replace("-0.", "−0.") or "Everything that was chosen is known well.")
        self._draw()

    def _draw(self) -> None:
        fit, t = self.result, self.theme
        row = max(0, self.series.currentRow())
        if fit is None or row >= len(fit.series):
            return
        s = fit.series[row]
        unit = "W" if s.observation.role == "power" else "K"
        self.curves.begin(t, y_label=f"Measured minus model, {unit}")
        minutes = s.observation.time / 60
        self.curves.add_line(0.0, "", t.soft, vertical=False)
        self.curves.add_curve(
            "before", minutes, s.observation.value - s.before, t.soft, unit=unit, dashed=True, label_at=0.3
        )
        self.curves.add_curve(
            "after", minutes, s.observation.value - s.offset - s.after, t.curves[1], unit=unit, label_at=0.7
        )

    def _use(self) -> None:
        fit, document = self.result, self.desk.document
        if fit is None:
            return

        def work() -> None:
            project = document.project
            name = f"{project.rig.name}, before the fit of {today()}"[:60]
            kept = [b.model_dump() for b in project.builds if b.name != name][-4:]
            builds = (*kept, {"name": name, "rig": project.rig.model_dump()})
            document.edit_with_files({"builds": builds, "rig": fit.rig.model_dump()}, {}, "Use the fitted rig")
            document.said.emit(f"The fitted rig is in use; the previous one is kept as the build “{name}”.")

        self.desk.attempt(work)
