"""Live: the machine against its prediction while it runs; gates, alarms with their causes, what it taught; kept in the project."""

from __future__ import annotations

import math
import zlib
from datetime import date
from pathlib import Path
from typing import Any, Final

import numpy as np
from PySide6.QtCore import QTimer
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QComboBox, QFileDialog, QHBoxLayout, QLineEdit, QPushButton, QSizePolicy

from mandorla.core.errors import InputError, MandorlaError
from mandorla.core.failure.messages import probability_text
from mandorla.core.folders import state_folder
from mandorla.core.measure.logs import decimated
from mandorla.core.results.key import Key
from mandorla.core.results.keys import EVALUATION, WATCH_START
from mandorla.core.run.alarm_words import (
    FALSE_ALARMS,
    alarm_sentence,
    cause_name,
    dangerous,
    evidence_text,
    gate_text,
    watch_sentence,
    words_of,
)
from mandorla.core.run.disturbances import of_rig
from mandorla.core.run.keeping import record_from, record_of
from mandorla.core.run.learned import learned_rig, lessons, moved, notes_of
from mandorla.core.run.live import EXPECTED, GATES, HIGH, LOW, LiveRun
from mandorla.core.run.model import MOST_RECORDS, RunRecord
from mandorla.core.run.recorder import TRACE, Recorder, from_line, unfinished
from mandorla.core.run.simulated_machine import Break, SimulatedMachine
from mandorla.core.run.sources import LogSource, SimulatedSource, Source, WithMeter, machine_on
from mandorla.core.run.watch import Alarm
from mandorla.core.runtime import RunContext
from mandorla.core.units import show, show_duration
from mandorla.ui.document import Document
from mandorla.ui.jobs import Job, Lane
from mandorla.ui.live_results import in_words
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.page import scrolling, side_column
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import heading, panel, soft
from mandorla.ui.widgets.pick_list import TextTable

SIMULATED: Final = "simulated machine, 60 times faster"
_SPEED: Final = 60.0
_LOOKS: Final = 700  # ms between pictures
_COLUMNS: Final = 400  # of a picture
_CHANNELS: Final = ("bed", "chamber", "power")


class LiveView(View):
    """Trace and band, gates, alarms, what was learned; the records that the project keeps."""

    key = "live"
    title = "Live"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        self.live: LiveRun | None = None
        self.machine: SimulatedMachine | None = None
        self.speed = _SPEED
        self._job: Job | None = None
        self._meter: Path | None = None
        self._picked = -1
        self._problem, self._sentence = "", ""
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        row = QHBoxLayout()
        self.source = QComboBox()
        self.source.setEditable(True)
        self.source.setAccessibleName("What is watched")
        self.source.setMinimumContentsLength(7)
        self.source.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.log_button, self.meter_button = QPushButton("Log …"), QPushButton("Meter …")
        self.watch_button = QPushButton("Watch")
        self.watch_button.setObjectName("primary")
        self.log_button.setToolTip("A logger's CSV file that grows")
        self.meter_button.setToolTip("A plug meter's CSV file beside it")
        self.log_button.clicked.connect(self._choose_log)
        self.meter_button.clicked.connect(self._choose_meter)
        self.watch_button.clicked.connect(self._toggle)
        row.addWidget(self.source, 1)
        for button in (self.log_button, self.meter_button, self.watch_button):
            row.addWidget(button)
        column.addLayout(row)
        self.curves = CurvePlot("Trace against its prediction", "Minutes since it was switched on", "Temperature")
        self.power = CurvePlot("Power against its prediction", "Minutes since it was switched on", "Power, W")
        for plot in (self.curves, self.power):
            plot.getAxis("left").setWidth(58)  # both have the same minutes above each other
        for plot, stretch in ((self.curves, 3), (self.power, 2)):
            plot.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Ignored)
            column.addWidget(plot, stretch)
        self.curves.setMinimumHeight(190)
        self.power.setMinimumHeight(100)
        self.alarms = TextTable("Alarms", ("Alarm", "After", "Chance"), "None so far")
        self.alarms.setMinimumHeight(80)
        self.alarms.itemSelectionChanged.connect(self._pick)
        column.addWidget(self.alarms, 1)
        self.words = soft()
        column.addWidget(self.words)
        row = QHBoxLayout()
        self.mended_button = QPushButton("Acknowledge alarms")
        self.mended_button.setToolTip("The cause is mended, or there was none: everything is told again from now on")
        self.mended_button.clicked.connect(self._mended)
        row.addStretch(1)
        row.addWidget(self.mended_button)
        column.addLayout(row)
        body.addWidget(scrolling(frame, fill=True, least=True), 1)
        area, side = side_column(340)
        self._build_side(side)
        body.addWidget(area)
        self._clock = QTimer(self, interval=_LOOKS)
        self._clock.timeout.connect(self._look)

    def _build_side(self, side: Any) -> None:
        frame, column = panel()
        column.addWidget(heading("Gates"))
        self.gates = FigureList("Gates of the run")
        column.addWidget(self.gates)
        side.addWidget(frame)
        self.now_panel, column = panel()
        column.addWidget(heading("Now"))
        self.now = FigureList("Readings now")
        column.addWidget(self.now)
        self.note = soft()
        column.addWidget(self.note)
        side.addWidget(self.now_panel)
        self.breaking, column = panel()
        column.addWidget(heading("Simulate a fault"))
        row = QHBoxLayout()
        self.fault, self.break_button = QComboBox(), QPushButton("Start")
        self.fault.setAccessibleName("What breaks")
        self.break_button.clicked.connect(self._break)
        row.addWidget(self.fault, 1)
        row.addWidget(self.break_button)
        column.addLayout(row)
        column.addWidget(soft("The simulated machine only: see what it looks like before it happens to yours."))
        side.addWidget(self.breaking)
        self.taught_panel, column = panel()
        column.addWidget(heading("Learned about the machine"))
        self.taught = FigureList("What the run taught")
        column.addWidget(self.taught)
        self.taught_note = soft()
        column.addWidget(self.taught_note)
        self.learn_button = QPushButton("Take over into the rig")
        self.learn_button.clicked.connect(self._learn)
        column.addWidget(self.learn_button)
        side.addWidget(self.taught_panel)
        frame, column = panel()
        column.addWidget(heading("Recorded runs"))
        self.records = TextTable(
            "Runs that are kept", ("Began", "Ready (planned)", "Alarms"), "None yet: a watched run is kept"
        )
        self.no_records = soft("None yet: a run that is watched is kept here when it is stopped.")
        column.addWidget(self.no_records)
        self.records.setMinimumHeight(70)
        self.records.setMaximumHeight(130)
        self.records.itemSelectionChanged.connect(self._pick_record)
        column.addWidget(self.records)
        self.record_note = QLineEdit()
        self.record_note.setPlaceholderText("Note on the selected run")
        self.record_note.setAccessibleName("Note on the selected run")
        self.record_note.setMaxLength(600)
        self.record_note.editingFinished.connect(self._put_note)
        column.addWidget(self.record_note)
        self.keep_button = QPushButton()
        self.keep_button.clicked.connect(self._keep_unfinished)
        column.addWidget(self.keep_button)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(soft(
            "Watching is not protecting: mains beds need a thermal fuse of their own, and the room a smoke alarm. "
            f"{FALSE_ALARMS[0].upper()}{FALSE_ALARMS[1:]}; nothing of it was checked against a real machine."
        ))  # fmt: skip
        side.addWidget(frame)
        side.addStretch(1)

    # ---- what a view says
    def uses(self) -> tuple[Key[Any], ...]:
        """What is watched: the machine, its print, and when it should be ready."""
        return EVALUATION, WATCH_START

    def headline(self) -> str:
        """The worst alarm, else what comes next; before it begins, what to do."""
        if self._problem:
            return self._problem
        if self.live is not None:
            return self._sentence or "Waiting for the first reading."
        start = self.results.value(WATCH_START)
        if start is None:
            return ""
        low, ready, high = start.planned
        when = (
            f" As planned it is ready {show_duration(ready)} ({show_duration(low)}–{show_duration(high)}) after it is "
            "switched on."
            if math.isfinite(ready)
            else ""
        )
        return f"Choose what is watched, and watch from the moment the machine is switched on.{when}"

    def draw(self) -> None:
        """Show what stands still: sources, disturbances, kept runs; the live part follows the clock."""
        if self.source.count() == 0:
            self.source.addItems([SIMULATED, *ports()])
        faults = of_rig(self.project.rig)
        if [self.fault.itemData(k) for k in range(self.fault.count())] != [d.key for d in faults]:
            self.fault.clear()
            for d in faults:
                self.fault.addItem(d.name, d.key)
        records = self.project.records
        self.records.setVisible(bool(records))
        self.record_note.setVisible(bool(records))
        self.no_records.setVisible(not records)
        self.records.show_rows([
            [r.began[:10], _ready(r), str(len(r.alarms) or "none")] for r in records
        ])  # fmt: skip
        left = unfinished(run_folder(), self.project.name) if self.live is None else []
        self.keep_button.setVisible(bool(left))
        self.keep_button.setText(f"Keep the run that was cut off ({len(left)})" if left else "")
        self.breaking.setVisible(self.machine is not None)
        self._look()

    # ---- beginning and ending
    def _toggle(self) -> None:
        if self._job is None:
            self.begin()
        elif self.live is not None:
            self.live.stop()  # the record follows when the last answer has come or is given up
            self.watch_button.setEnabled(False)

    def _open(self) -> Source:
        text, start = self.source.currentText().strip(), self.get(WATCH_START)
        self.machine = None
        if text == SIMULATED:
            self.machine = SimulatedMachine(start.watched, zlib.crc32(self.project.name.encode()))
            found: Source = SimulatedSource(self.machine, self.speed)
        elif Path(text).is_file():
            found = LogSource(Path(text))
        elif text:
            found = machine_on(text)
        else:
            raise InputError("Choose what is watched: a port, a logger's file, or the simulated machine.")
        return WithMeter(found, self._meter) if self._meter is not None else found

    def begin(self) -> None:
        """Begin to watch what is chosen; what cannot be opened is told."""
        self._problem = self._sentence = ""
        try:
            start = self.get(WATCH_START)
            source = self._open()
            recorder = Recorder(run_folder(), {"project": self.project.name, "source": source.name})
        except MandorlaError as error:
            self._problem = str(error)
            self.changed()
            return
        live = self.live = LiveRun(start.watched, source, recorder, start.planned)
        self._picked = -1

        def work(run: RunContext) -> None:
            live.follow(run, run.show)

        self._job = self.document.jobs.start(
            "Watching the machine", work, Lane.DEVICE, failed=self._failed, partial=self._told, shown=False,
            done=lambda _: self.end("stopped by hand" if live.stopped else "the source ended"),
        )  # fmt: skip
        self._clock.start()
        self.refresh()
        self.changed()

    def end(self, why: str) -> None:
        """Stop watching and keep the record in the project."""
        if self._job is None or self.live is None:
            return
        self._job = None
        self._clock.stop()
        self.document.jobs.cancel_lane(Lane.DEVICE)
        live = self.live
        self._sentence = watch_sentence(
            live.acting, live.gates(), live.source.now, self.units, live.watch.tracker.finding
        )
        if live.readings > 2 and live.recorder is not None:
            self._keep(live, why)
        self.refresh()
        self.changed()

    def _keep(self, live: LiveRun, why: str) -> None:
        assert live.recorder is not None
        name = self.document.free_name(f"{live.began:run-%Y%m%d-%H%M%S}.csv")
        try:
            data = (live.recorder.folder / TRACE).read_bytes()
            record = record_of(live, name, why)
            records = (*self.project.records, record)[-MOST_RECORDS:]
            self.document.edit_with_files({"records": records}, {name: data}, "Keep a run that was watched")
        except (OSError, MandorlaError) as error:
            self.document.problem.emit(f"The run is in {live.recorder.folder}, and not in the project: {error}")
            return
        live.recorder.kept()
        if self.document.logbook.exists:
            name, machine = self.project.name, self.project.rig.name
            told = {"began": record.began, "lasted": record.lasted, "ready": record.ready, "planned_ready": record.planned_ready,
                    "ended": record.ended, "alarms": [a.model_dump() for a in record.alarms]}  # fmt: skip
            self.document.logbook.write(
                "Keeping the run with its print", lambda shop: shop.attach_run(name, machine, told), self._attached
            )

    def _attached(self, p: Any) -> None:
        if p is not None:
            self.document.said.emit(f"Kept with print {p.number}: enter how it ended in the Logbook.")

    def _failed(self, error: BaseException) -> None:
        self._problem = in_words(error)
        self.end("the source failed")

    def _told(self, alarms: list[Alarm]) -> None:
        """New alarms, on the interface's thread: they are told wherever the person is."""
        for alarm in alarms:
            if not self.isVisible():
                self.document.problem.emit(alarm_sentence(alarm, self.units))
        self._look()

    # ---- what a person does
    def _choose_log(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "A logger's file that grows", "", "CSV (*.csv *.txt *.log)")
        if name:
            self.source.setEditText(name)

    def _choose_meter(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "A plug meter's file that grows", "", "CSV (*.csv *.txt *.log)")
        self._meter = Path(name) if name else None
        self.meter_button.setText(self._meter.name[:14] if self._meter is not None else "Meter …")

    def _break(self) -> None:
        machine = self.machine
        d = next((d for d in of_rig(self.project.rig) if d.key == self.fault.currentData()), None)
        if machine is None or d is None or self.live is None:
            return
        begins, size = machine.now, d.drawn[1] if d.key != "heater-broken" else 0.0
        machine.add(Break(d.key, begins, size, begins + size if d.key == "power-cut" else math.inf))

    def _mended(self) -> None:
        if self.live is not None:
            self.live.looked_after()
            self._picked = -1

    def _learn(self) -> None:
        if self.live is None:
            return
        rig = learned_rig(self.live.watch.tracker, self.live.source.name[:60], date.today().isoformat())
        if rig is not None:
            self.document.edit("rig", rig, "Take over what a run taught")
            self.document.said.emit("The rig is the one that the run taught; undo brings the old one back.")

    def _pick_record(self) -> None:
        row = self.records.currentRow()
        if 0 <= row < len(self.project.records):
            self.record_note.setText(self.project.records[row].note)
            self._look()

    def _put_note(self) -> None:
        row, text = self.records.currentRow(), self.record_note.text().strip()
        if 0 <= row < len(self.project.records) and self.project.records[row].note != text:
            self.document.edit(f"records.{row}.note", text, "Note on a run")

    def _keep_unfinished(self) -> None:
        for folder in unfinished(run_folder(), self.project.name):
            name = self.document.free_name(f"run-{folder.name}.csv")
            try:
                record, data = record_from(folder, name)
                records = (*self.project.records, record)[-MOST_RECORDS:]
                self.document.edit_with_files({"records": records}, {name: data}, "Keep a run that was cut off")
                (folder / "kept").touch()
            except (OSError, MandorlaError) as error:
                self.document.problem.emit(str(error))
                return
        self.refresh()

    def _pick(self) -> None:
        self._picked = self.alarms.currentRow()
        self._show_words()

    # ---- the live part
    def _look(self) -> None:
        running = self._job is not None
        self.watch_button.setText("Stop and keep" if running else "Watch")
        self.watch_button.setEnabled(not running or (self.live is not None and not self.live.stopped))
        for widget in (self.source, self.log_button, self.meter_button):
            widget.setEnabled(not running)
        self.break_button.setEnabled(running)
        live = self.live
        for part in (self.power, self.now_panel, self.taught_panel):
            part.setVisible(live is not None)
        self.alarms.setVisible(live is not None and bool(live.listed))
        if live is None:
            self._show_gates_as_planned()
            self.curves.begin(self.theme)
            self.mended_button.hide()
            self._show_record()
            return
        if not self.isVisible():
            return
        listed = live.listed  # once, for the sentence and the table: alarms come from another thread
        if live.readings:
            acting = [a for a in listed if math.isnan(live.over(a))]
            finding = live.watch.tracker.finding
            self._sentence = watch_sentence(acting, live.gates(), live.source.now, self.units, finding)
        with live.lock:  # held for moments only
            self._show_trace(live)
        self._show_figures(live, listed)
        self._show_words()
        self.changed()

    def _show_record(self) -> None:
        """The selected recorded run, else the newest, as long as nothing is watched."""
        records, row = self.project.records, self.records.currentRow()
        if not records:
            self.words.setText(
                "The trace appears here against what was predicted: a port, a logger's file that grows, or the simulated machine."
            )
            return
        record = records[row] if 0 <= row < len(records) else records[-1]
        data = self.document.bundle.originals.get(record.file, b"")
        points = [
            p for p in (from_line(line) for line in data.decode("utf-8", "replace").splitlines()) if p is not None
        ]
        unit = self.units.unit("temperature")
        self.curves.begin(self.theme, x_label="Hours since the watch began", y_label=f"Temperature, {unit.symbol}")
        time = np.array([p.time for p in points]) / 3600.0
        for c, name in enumerate(_CHANNELS[:2]):
            values = np.array([getattr(p, name) for p in points])
            if values.size > 1 and np.isfinite(values).any():
                x, y = decimated(time, np.asarray(unit.from_si(values)), pixels=_COLUMNS)
                self.curves.add_curve(name, x, y, self.theme.curves[c], unit=unit.symbol, label_at=0.35, width=1.8)
        for alarm in record.alarms[-6:]:
            self.curves.add_line(alarm.time / 3600.0, cause_name(alarm.cause), self.theme.marginal, vertical=True)
        told = f" {record.note}" if record.note else ""
        self.words.setText(f"Run of {record.began[:10]}, {show_duration(record.lasted)}, {record.ended}.{told}")

    def _show_gates_as_planned(self) -> None:
        start = self.results.value(WATCH_START)
        if start is not None:
            low, ready, high = start.planned
            text = (
                f"{show_duration(ready)} ({show_duration(low)}–{show_duration(high)})"
                if math.isfinite(ready)
                else "never"
            )
            self.gates.show_figures([Figure(GATES["ready"], text, "as planned")], self.theme)

    def _show_trace(self, live: LiveRun) -> None:
        unit, t = self.units.unit("temperature"), self.theme
        long = live.source.now > 3 * 3600.0
        scale, label = (3600.0, "Hours") if long else (60.0, "Minutes")
        x_label = f"{label} since the watch began"
        self.curves.begin(t, x_label="", y_label=f"Temperature, {unit.symbol}")  # the minutes below are its own, too
        whole, metered = live.trace.time, np.isfinite(live.trace.last(2)).any()
        nothing = "" if metered or whole.size < 2 else "No power is told: a plug meter’s file can stand beside"
        self.power.begin(t, x_label=x_label, y_label="Power, W", nothing=nothing)
        if whole.size < 2:
            return
        # as many points as the picture has columns: a week is drawn as fast as an hour
        every = np.arange(0, whole.size, max(1, whole.size // _COLUMNS))
        time = whole[every] / scale
        for c, (name, plot) in enumerate(zip(_CHANNELS, (self.curves, self.curves, self.power), strict=True)):
            x, y = decimated(*live.curves(c), pixels=_COLUMNS)
            if y.size < 2 or (name == "chamber" and not live.watched.rig.chamber.enclosed):
                continue

            def shown(values: Any, own: str = name) -> Any:
                return values if own == "power" else np.asarray(unit.from_si(values))

            color = t.curves[c]
            low, high = live.trace.last(LOW + c)[every], live.trace.last(HIGH + c)[every]
            plot.add_band(time, shown(low), shown(high), color)
            symbol = "W" if name == "power" else unit.symbol
            plot.add_curve(
                name, x / scale, shown(y), color, unit=symbol, label_at=0.5 if name == "chamber" else 0.35, width=1.8
            )
            expected = live.trace.last(EXPECTED + c)[every]
            plot.add_curve("", time, shown(expected), t.soft, unit=symbol, dashed=True, width=1.0)
        drawn = [0, 1] if live.watched.rig.chamber.enclosed else [0]
        levels = np.asarray(unit.from_si(np.concatenate([live.trace.last(c) for c in drawn])))
        top, bottom = float(np.nanmax(levels)), float(np.nanmin(levels))
        self.curves.setYRange(bottom, top + 0.22 * max(top - bottom, 10.0))  # room for names above the curves
        for alarm in live.listed[-6:]:
            color = t.fails if dangerous(alarm) else t.marginal
            self.curves.add_line(alarm.time / scale, words_of(alarm.cause)[0], color, vertical=True)

    def _show_figures(self, live: LiveRun, listed: list[Alarm]) -> None:
        units, r, now = self.units, live.newest, live.source.now
        self.gates.show_figures([
            Figure(GATES[g.gate], gate_text(g, now), "") for g in live.gates()
        ], self.theme)  # fmt: skip
        if r is not None:
            tracker = live.watch.tracker
            target = show(r.bed_set, "set_point", units, digits=0)
            rows = [
                Figure("Bed reads", show(r.bed, "temperature", units), f"target {target}"),
                Figure("Surface, middle", show(tracker.surface, "temperature", units), "by readings and model"),
            ]
            if math.isfinite(r.chamber):
                rows.append(Figure("Chamber reads", show(r.chamber, "temperature", units)))
            if math.isfinite(live.part):
                planned = show(live.watched.body.planned, "temperature", units, digits=0)
                rows.append(
                    Figure(
                        "Part, mean", show(live.part, "temperature", units), f"computed; {planned} planned at the end"
                    )
                )
            if math.isfinite(r.power):
                rows.append(Figure("At the plug", show(r.power, "power", units)))
            self.now.show_figures(rows, self.theme)
        trouble = live.recorder.trouble if live.recorder is not None else ""
        self.note.setText(trouble or live.source.note or f"{live.readings} readings, all of them on disk.")
        self.note.setVisible(True)
        told_rows = []
        for a in listed:
            chance, over = probability_text(a.causes[0].probability) if a.causes else "–", live.over(a)
            until = f" – {show_duration(over)}" if math.isfinite(over) else ""
            told_rows.append([words_of(a.cause)[0], f"{show_duration(a.time)}{until}", chance])
        if self.alarms.rows != told_rows:
            self.alarms.show_rows(told_rows)
            for k, a in enumerate(listed):
                item = self.alarms.item(k, 0)
                if item is not None and dangerous(a):
                    item.setForeground(QColor(self.theme.fails))
        self.mended_button.setVisible(bool(listed))
        told = lessons(live.watch.tracker, units) if live.watch.teaches else ()
        self.taught.show_figures([
            Figure(f"{v.name[0].upper()}{v.name[1:]}", v.after, f"assumed {v.before}; {100 * v.share:.0f} % of its range is left")
            for v in told[:4]
        ], self.theme)  # fmt: skip
        self.learn_button.setVisible(any(v.key != "room" for v in told))
        names = {u.key: u.name for u in live.watch.tracker.unknowns}
        last = self.project.records[-1].learned if self.project.records else ()
        from_before = moved(notes_of(told), last, names)
        self.taught_note.setText(
            "; ".join(from_before) or ("" if told else "Nothing yet, or a fault stands in the way.")
        )

    def _show_words(self) -> None:
        live = self.live
        alarms = live.listed if live is not None else []
        if not alarms:
            self.words.setText(
                "No alarm. Shaded: 90 % band of this machine as planned. Dashed: expected from the readings so far."
            )
            return
        alarm = alarms[self._picked] if 0 <= self._picked < len(alarms) else alarms[-1]
        name, what, advice = words_of(alarm.cause)
        self.words.setText(f"{name}. {what} {advice} {evidence_text(alarm, self.units)}")


def _ready(r: RunRecord) -> str:
    """How long a run took to be ready, and how long it was planned to take."""
    planned = f" ({show_duration(r.planned_ready)})" if r.planned_ready > 0.0 else ""
    return f"{show_duration(r.ready) if r.ready > 0.0 else 'not seen'}{planned}"


def run_folder() -> Path:
    """Where runs are recorded as they come."""
    return state_folder() / "runs"


def ports() -> list[str]:
    """Serial ports of this computer."""
    from serial.tools.list_ports import comports  # asks the system: only where a person looks at it

    return sorted(p.device for p in comports())
