"""Film, magnet and grip: trials that a workshop can do by itself, what they read, and what they teach the predictions."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import numpy as np
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QLineEdit, QPushButton, QSpinBox, QWidget

from mandorla.core.errors import InputError
from mandorla.core.failure.cautions import TRIAL_CAUTION
from mandorla.core.failure.messages import band_text, learned_sentence
from mandorla.core.materials.library_data import polymers
from mandorla.core.measure.trials import (
    TRIAL_KINDS,
    BowReading,
    CouponReading,
    CouponTrial,
    FeelerReading,
    FeelerTrial,
    PullReading,
    PullTrial,
    StripTrial,
    Trial,
)
from mandorla.core.model_base import Model
from mandorla.core.results.key import Key
from mandorla.core.results.keys import LEARNED, PRACTICE_TRIAL, TRIALS
from mandorla.core.results.results import Results
from mandorla.core.units import parse_quantity, show
from mandorla.ui.document import Document
from mandorla.ui.jobs import Lane
from mandorla.ui.live_results import in_words
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.page import side_column
from mandorla.ui.stages.verify.desk import VerifyDesk, today
from mandorla.ui.stages.verify.verify_view import VerifyView
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.charts import column_that_scrolls
from mandorla.ui.widgets.fields import ChoiceEdit, SwitchEdit
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.flow import FlowRow, growing
from mandorla.ui.widgets.form import Form, answer, heading, panel, soft
from mandorla.ui.widgets.pick_list import PickList

if TYPE_CHECKING:
    from mandorla.core.results.types import Drawn, TrialShown

HOW: Final = {
    "strip": "Clamp a strip of spring steel on the plate, print the strip on it, free it, and read how far its ends stand above "
    "its middle: hot first, then after every step down of plate and chamber.",
    "pull": "Lay a coupon of the plate's own sheet on the magnet, over shims of known thickness, and pull it off straight with a "
    "spring scale. A whole sheet would take hundreds of newtons: never pull that.",
    "feeler": "While the project's part prints on its loose sheet, push a feeler under the sheet's corner every ten millimetres of "
    "height.",
    "coupon": "Print small coupons with a leg to hook into on the side that is in use, one after another at several plate "
    "temperatures, and pull each straight off with a spring scale while the plate is that warm. Tick where the leg tore first.",
}  # fmt: skip
# per kind: what is varied and what is read, each with its field and its kind of quantity
AXES: Final = {
    "strip": (("temperature", "temperature"), ("bow", "length")),
    "pull": (("gap", "length"), ("force", "force")),
    "feeler": (("height", "large_length"), ("gap", "length")),
    "coupon": (("temperature", "temperature"), ("force", "force")),
}
FIELDS: Final = {
    "strip": ("length", "width", "thickness", "steel", "layer_height", "layer_time", "plate", "chamber", "wait", "accuracy"),
    "pull": ("width", "depth", "accuracy"),
    "feeler": ("plate", "chamber", "fan", "accuracy"),
    "coupon": ("width", "depth", "accuracy"),
}  # fmt: skip
_READINGS: Final[dict[str, type[Model]]] = {
    "strip": BowReading, "pull": PullReading, "feeler": FeelerReading, "coupon": CouponReading,
}  # fmt: skip
_CAPTIONS: Final = {"temperature": "temperature", "bow": "bow", "gap": "gap", "force": "force", "height": "height"}


class TrialsView(VerifyView):
    """Trials at the left, the picked one's readings against the model in the middle, what was learned at the right."""

    key = "trials"
    title = "Film, magnet, grip"

    def __init__(self, document: Document, theme: Theme, desk: VerifyDesk) -> None:
        super().__init__(document, theme, desk)
        self.index, self._shape = 0, None
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        self.sentence = answer()
        column.addWidget(self.sentence)
        self.how = soft()
        column.addWidget(self.how)
        self.curves = CurvePlot("Readings of the trial against the model", "", "")
        self.curves.setMinimumHeight(190)
        column.addWidget(self.curves, 1)
        self.at, self.read = QLineEdit(), QLineEdit()
        for box, name in ((self.at, "trial.at"), (self.read, "trial.read")):
            box.setObjectName(name)
            box.setMinimumWidth(110)
        self.at.setAccessibleName("What the reading was taken at")
        self.read.setAccessibleName("What was read")
        self.read.returnPressed.connect(self._add_reading)
        self.torn = QCheckBox("leg tore")
        self.torn.setToolTip("The coupon's leg tore before it came off: its grip is more than was read")
        self.add_button, self.drop_button = QPushButton("Add reading"), QPushButton("Remove last")
        self.add_button.clicked.connect(self._add_reading)
        self.drop_button.clicked.connect(self._drop_reading)
        column.addLayout(FlowRow(growing(self.at), growing(self.read), self.torn, self.add_button, self.drop_button))
        self.rows = soft()
        column.addWidget(self.rows)
        room, left = column_that_scrolls()
        left.addWidget(frame, 1)
        body.addWidget(room, 1)
        area, side = side_column(384)
        frame, column = panel(8)
        column.addWidget(heading("Trials"))
        self.list = PickList("Trials")
        self.list.setMaximumHeight(110)
        self.list.picked.connect(self._pick)
        column.addWidget(self.list)
        self.buttons: dict[str, QPushButton] = {}
        for kind, name in TRIAL_KINDS.items():
            button = QPushButton(f"New: {name.lower()}")
            button.clicked.connect(lambda _=False, k=kind: self._new(k))
            self.buttons[kind] = button
            column.addWidget(button)
        self.practice_button, self.remove_button = QPushButton("Practice readings"), QPushButton("Remove trial")
        self.practice_button.setToolTip(
            "Readings of a made-up machine, drawn by the number: to try the trial out, not to predict with"
        )
        self.practice_button.clicked.connect(self._practice)
        self.remove_button.clicked.connect(self._remove)
        self.seed = QSpinBox()
        self.seed.setAccessibleName("Number of the made-up machine")
        self.seed.setRange(1, 9999)
        column.addLayout(FlowRow(self.practice_button, growing(self.seed), self.remove_button))
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("What the trials taught"))
        self.figures = FigureList("What the trials taught")
        column.addWidget(self.figures)
        self.problems = soft()
        column.addWidget(self.problems)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(soft(TRIAL_CAUTION))
        side.addWidget(frame)
        self._side = side
        self._form: QWidget | None = None
        side.addStretch(1)
        body.addWidget(area)

    # ---- what is shown
    @property
    def trial(self) -> Trial | None:
        """The picked trial."""
        trials = self.desk.measurements.trials
        return trials[min(self.index, len(trials) - 1)] if trials else None

    def also(self) -> tuple[Key[Any], ...]:
        """What the trials taught, and each beside the model."""
        return LEARNED, TRIALS

    def draw(self) -> None:
        """Show trials, readings and what was learned."""
        trials, units, trial = self.desk.measurements.trials, self.units, self.trial
        self.index = min(self.index, max(0, len(trials) - 1))
        self.list.show_items(
            [f"{t.name}: {len(t.readings)} readings{'' if t.used else ', not used'}" for t in trials],
            self.index if trials else -1,
        )
        learned = self.results.last(LEARNED)
        self.sentence.setText(learned_sentence(learned) if learned is not None else "…")
        self.problems.setText("\n".join(learned.problems) if learned is not None else "")
        self.problems.setVisible(bool(learned is not None and learned.problems))
        rows = [
            Figure(
                f.what, band_text(f.after.typical, f.after.low, f.after.high, f.kind, units),
                f"before: {band_text(f.before.typical, f.before.low, f.before.high, f.kind, units)}; "
                f"{100 * f.left:.0f} % of the range is left",
            )
            for f in (learned.findings if learned is not None else ())
        ]  # fmt: skip
        self.figures.show_figures(rows or [Figure("Nothing yet", "–", "the library's ranges are used")], self.theme)
        for box in (self.at, self.read, self.add_button, self.drop_button, self.remove_button, self.practice_button):
            box.setEnabled(trial is not None)
        for box in (
            self.at,
            self.read,
            self.add_button,
            self.drop_button,
            self.curves,
        ):  # of no trial there is nothing to enter
            box.setVisible(trial is not None)
        self._build_form(trial)
        if trial is None:
            self.how.setText(
                "Begin a trial at the right: each narrows what the predictions of warping and of the loose plate rest on."
            )
            self.rows.setText("")
            self.torn.hide()
            self.curves.begin(self.theme)
            return
        self.how.setText(HOW[trial.kind])
        (at, at_kind), (read, read_kind) = AXES[trial.kind]
        self.at.setPlaceholderText(f"{_CAPTIONS[at]}, {units.unit(at_kind).symbol}")
        self.read.setPlaceholderText(f"{_CAPTIONS[read]}, {units.unit(read_kind).symbol}")
        self.torn.setVisible(trial.kind == "coupon")
        told = [
            f"{show(getattr(r, at), at_kind, units)}: {show(getattr(r, read), read_kind, units)}"
            + (" torn" if isinstance(r, CouponReading) and r.torn else "")
            for r in trial.readings
        ]
        self.rows.setText("Read:  " + ";  ".join(told) if told else "No readings yet.")
        shown = (self.results.last(TRIALS) or {}).get(trial.key)
        self._draw_curves(shown)

    def _draw_curves(self, shown: TrialShown | None) -> None:
        t, units = self.theme, self.units
        if shown is None or shown.at.size == 0:
            self.curves.begin(t)
            return
        x_unit, y_unit = (units.unit(k) for k in shown.kinds)
        trial = self.trial
        assert trial is not None
        names = [_CAPTIONS[a[0]].capitalize() for a in AXES[trial.kind]]
        self.curves.begin(t, x_label=f"{names[0]}, {x_unit.symbol}", y_label=f"{names[1]}, {y_unit.symbol}")
        order = np.argsort(shown.at, kind="stable")
        x = np.asarray(x_unit.from_si(shown.at[order]))
        for name, values, color, dashed in (
            ("before", shown.before, t.soft, True), ("with the trials", shown.after, t.curves[0], False),
        ):  # fmt: skip
            self.curves.add_curve(
                name, x, y_unit.from_si(values[order]), color, unit=y_unit.symbol, dashed=dashed, width=2.0,
                label_at=0.3 if dashed else 0.6, label_above=not dashed,
            )  # fmt: skip
        self.curves.add_points("read", x, np.asarray(y_unit.from_si(shown.read[order])), t.accent)

    def _build_form(self, trial: Trial | None) -> None:
        shape = (self.index, trial.key, trial.kind) if trial is not None else None
        if shape == self._shape:
            return
        self._shape = shape  # type: ignore[assignment]
        if self._form is not None:
            self._form.hide()
            self._form.setParent(None)
            self._form.deleteLater()
            self._form = None
        if trial is None:
            return
        frame, column = panel()
        column.addWidget(heading(f"{TRIAL_KINDS[trial.kind]}: how it was done"))
        form, base = Form(self.desk.document), f"measurements.trials.{self.index}"
        if trial.kind == "strip":
            names: dict[object, str] = {key: p.name for key, p in polymers().items()}
            form.add_widget("Polymer", ChoiceEdit(self.desk.document, f"{base}.polymer", "Polymer", names))
        for name in FIELDS[trial.kind]:
            form.add_field(f"{base}.{name}")
        form.add_wide(SwitchEdit(self.desk.document, f"{base}.used", "Use it in the predictions"))
        column.addWidget(form)
        self._form = frame
        self._side.insertWidget(2, frame)

    # ---- what a person does
    def _pick(self, row: int) -> None:
        self.index = row
        self.refresh()

    def _put(self, trials: tuple[Trial, ...], label: str) -> bool:
        return self.desk.put("measurements.trials", trials, label)

    def _free(self, name: str) -> tuple[str, str]:
        """A key and a name that no trial has."""
        trials = self.desk.measurements.trials
        keys, names, number = {t.key for t in trials}, {t.name for t in trials}, 1
        while f"trial-{number}" in keys:
            number += 1
        chosen, count = name, 2
        while chosen in names:
            chosen, count = f"{name} {count}", count + 1
        return f"trial-{number}", chosen

    def _new(self, kind: str) -> None:
        p = self.project
        key, name = self._free(TRIAL_KINDS[kind])
        common: dict[str, Any] = {"key": key, "name": name, "date": today()}
        made: Trial
        if kind == "strip":
            made = StripTrial(
                **common, polymer=p.process.polymer, plate=p.settings.bed_rest, chamber=p.settings.chamber
            )
        elif kind == "pull":
            made = PullTrial(**common)
        elif kind == "coupon":
            on = p.process
            made = CouponTrial(
                **common,
                polymer=on.polymer,
                on_plate=on.plate,
                on_side=on.side,
                surface=on.surface_key,
                coating=on.coating,
            )
        else:
            made = FeelerTrial(**common, plate=p.settings.bed_rest, chamber=p.settings.chamber, fan=p.settings.fan)
        if self._put((*self.desk.measurements.trials, made), f"New trial: {name}"):
            self.index = len(self.desk.measurements.trials) - 1
            self.refresh()

    def _changed(self, trial: Trial, label: str) -> bool:
        trials = list(self.desk.measurements.trials)
        trials[self.index] = trial
        return self._put(tuple(trials), label)

    def _add_reading(self) -> None:
        trial, units = self.trial, self.units
        if trial is None:
            return

        def work() -> None:
            (at, at_kind), (read, read_kind) = AXES[trial.kind]
            values = {
                at: parse_quantity(self.at.text(), at_kind, units.unit(at_kind), _CAPTIONS[at]),
                read: parse_quantity(self.read.text(), read_kind, units.unit(read_kind), _CAPTIONS[read]),
            }
            if trial.kind == "coupon":
                values |= {"torn": self.torn.isChecked()}
            readings = (*trial.readings, _READINGS[trial.kind].model_validate(values))
            if self._changed(trial.model_copy(update={"readings": readings}), "Add reading"):
                self.at.clear()
                self.read.clear()
                self.torn.setChecked(False)
                self.at.setFocus()

        self.desk.attempt(work)

    def _drop_reading(self) -> None:
        trial = self.trial
        if trial is not None and trial.readings:
            self._changed(trial.model_copy(update={"readings": trial.readings[:-1]}), "Remove reading")

    def _remove(self) -> None:
        trials = list(self.desk.measurements.trials)
        if trials:
            del trials[self.index]
            self._put(tuple(trials), "Remove trial")

    def _practice(self) -> None:
        trial, bundle = self.trial, self.document.bundle
        if trial is None:
            return
        asked = PRACTICE_TRIAL.of(kind=trial.kind, seed=self.seed.value(), day=today())
        self.document.jobs.start(
            "Practice readings", lambda run: Results(bundle).get(asked, run), Lane.SLOW, done=self._practised,
            failed=lambda error: self.document.problem.emit(in_words(error)),
        )  # fmt: skip

    def _practised(self, drawn: Drawn) -> None:
        trial = self.trial
        if trial is None or trial.kind != drawn.trial.kind:
            return
        change: dict[str, object] = {"readings": drawn.trial.readings, "note": "made up for practice", "used": False}
        for name in ("plate", "chamber", "polymer", "on_plate", "on_side", "surface", "coating"):
            if hasattr(drawn.trial, name):
                change[name] = getattr(drawn.trial, name)
        try:
            self._changed(trial.model_copy(update=change), "Practice readings")
        except InputError as error:
            self.document.problem.emit(str(error))
