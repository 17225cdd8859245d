"""Logs: taken in through a mapping with preview; drawn whole, decimated without losing peaks; soaked or not, and how long still."""

from __future__ import annotations

import zlib
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QPushButton,
)

from mandorla.core.input_file import bytes_of
from mandorla.core.measure.listening import Heard, listen, listen_to_stand_in
from mandorla.core.measure.log_guess import propose
from mandorla.core.measure.logs import decimated
from mandorla.core.measure.models import StoredLog
from mandorla.core.results.key import Key
from mandorla.core.results.keys import LOG
from mandorla.core.runtime import RunContext
from mandorla.core.units import show, show_duration
from mandorla.ui.document import Document
from mandorla.ui.jobs import Lane
from mandorla.ui.live_results import in_words
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.page import side_column
from mandorla.ui.stages.verify.desk import VerifyDesk
from mandorla.ui.stages.verify.mapping_dialog import MappingDialog
from mandorla.ui.stages.verify.verify_view import VerifyView
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import answer, heading, panel, soft
from mandorla.ui.widgets.pick_list import PickList

if TYPE_CHECKING:
    from mandorla.core.results.types import ReadLog

STAND_IN = "stand-in printer, 240 times faster"


class LogsView(VerifyView):
    """The picked log drawn over time, the answer about its end, its oddities, and the list of logs."""

    key = "logs"
    title = "Logs"

    def __init__(self, document: Document, theme: Theme, desk: VerifyDesk) -> None:
        super().__init__(document, theme, desk)
        self.index = 0
        self.heard: Heard | None = None
        self._clock = QTimer(self, interval=500)
        self._clock.timeout.connect(self._show_live)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        self.sentence = answer()
        column.addWidget(self.sentence)
        self.curves = CurvePlot("The log", "Time, min", "Temperature, °C")
        column.addWidget(self.curves, 3)
        self.power = CurvePlot("Power of the log", "Time, min", "Power, W")
        column.addWidget(self.power, 2)
        body.addWidget(frame, 1)
        area, side = side_column(352)
        frame, column = panel(8)
        column.addWidget(heading("Logs of this session; originals are kept"))
        self.list = PickList("Logs")
        self.list.setMaximumHeight(130)
        self.list.picked.connect(self._pick)
        column.addWidget(self.list)
        row = QHBoxLayout()
        self.open_button, self.map_button, self.remove_button = (
            QPushButton("Open log …"),
            QPushButton("Import settings …"),
            QPushButton("Remove"),
        )
        self.open_button.setObjectName("primary")
        self.open_button.clicked.connect(self._ask)
        self.map_button.clicked.connect(self._map_again)
        self.remove_button.clicked.connect(self._remove)
        for button in (self.open_button, self.map_button, self.remove_button):
            row.addWidget(button)
        column.addLayout(row)
        column.addWidget(heading("Or listen to a printer as it heats"))
        row = QHBoxLayout()
        self.port = QComboBox()
        self.port.setAccessibleName("Printer to listen to")
        self.port.setEditable(True)
        self.port.addItem(STAND_IN)
        self.port.setMinimumContentsLength(12)
        self.listen_button = QPushButton("Listen")
        self.listen_button.clicked.connect(self._listen)
        row.addWidget(self.port, 1)
        row.addWidget(self.listen_button)
        column.addLayout(row)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("Soaked or not"))
        self.soak = FigureList("Soaked or not")
        column.addWidget(self.soak)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("What was odd about it"))
        self.oddities = soft()
        column.addWidget(self.oddities)
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)

    @property
    def stored(self) -> StoredLog | None:
        """The log on the desk."""
        session = self.desk.session
        return session.logs[min(self.index, len(session.logs) - 1)] if session and session.logs else None

    # ---- doing
    def _ask(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Import a log", "", "CSV (*.csv *.txt *.log)")
        if name:
            self.open_log(Path(name))

    def open_log(self, path: Path) -> None:
        """Take a log in through the mapping; one that is no log is refused with the reason."""
        desk = self.desk

        def work() -> None:
            data = bytes_of(path)
            mapping = propose(data, path.name)
            dialog = MappingDialog(
                self, data, path.name, [i.name for i in desk.measurements.instruments], mapping, proposed=True
            )
            if dialog.exec() != QDialog.DialogCode.Accepted:
                return
            session = desk.session_for_input
            file = desk.document.free_name(path.name)
            stored = StoredLog(name=path.stem[:80], file=file, mapping=dialog.mapping)
            self.index = len(session.logs)
            desk.put_in("logs", (*session.logs, stored), f"Import log {path.name}", {file: data})

        desk.attempt(work)

    def _map_again(self) -> None:
        stored, desk, session = self.stored, self.desk, self.desk.session
        if stored is None or session is None:
            return
        data = desk.document.bundle.originals[stored.file]
        dialog = MappingDialog(self, data, stored.file, [i.name for i in desk.measurements.instruments], stored.mapping)
        if dialog.exec() == QDialog.DialogCode.Accepted:
            items = list(session.logs)
            items[min(self.index, len(items) - 1)] = stored.model_copy(update={"mapping": dialog.mapping})
            desk.put(desk.path("logs"), tuple(items), f"Change import settings of {stored.name}")

    def _remove(self) -> None:
        session = self.desk.session
        if session is not None and session.logs:
            items = list(session.logs)
            del items[min(self.index, len(items) - 1)]
            self.index = 0
            self.desk.put(self.desk.path("logs"), tuple(items), "Remove log")

    def _pick(self, index: int) -> None:
        self.index = index
        self.refresh()

    # ---- listening
    def _listen(self) -> None:
        if self.heard is not None:
            self._stop_listening()
            return
        path, project = self.port.currentText().strip(), self.desk.document.project
        heard = Heard(path)

        def work(run: RunContext) -> None:
            if path == STAND_IN:
                seed = zlib.crc32(project.name.encode())
                listen_to_stand_in(project.rig, project.settings, project.criteria, seed, heard, run)
            else:
                listen(path, heard, run)

        self.heard = heard
        self.listen_button.setText("Stop and keep")
        self.document.jobs.start(
            "Listening to the printer",
            work,
            Lane.DEVICE,
            done=lambda _: self._stop_listening(),
            failed=self._deaf,
            shown=False,
        )
        self._clock.start()

    def _deaf(self, error: BaseException) -> None:
        self._stop_listening()
        self.document.problem.emit(in_words(error))

    def _stop_listening(self) -> None:
        heard, self.heard = self.heard, None
        self._clock.stop()
        self.document.jobs.cancel_lane(Lane.DEVICE)
        self.listen_button.setText("Listen")
        if heard is None or len(heard.rows) < 3:
            return
        desk, data = self.desk, heard.csv()
        session = desk.session_for_input
        file = desk.document.free_name("printer.csv")
        stored = StoredLog(name="Printer, live", file=file, mapping=propose(data, file))
        self.index = len(session.logs)
        desk.put_in("logs", (*session.logs, stored), "Keep what the printer showed", {file: data})

    def _show_live(self) -> None:
        heard = self.heard
        if heard is None or len(heard.rows) < 3 or not self.isVisible():
            return
        t, unit = self.theme, self.desk.document.units.unit("temperature")
        rows = np.array(heard.rows)
        self.curves.setVisible(True)
        self.power.hide()
        self.curves.begin(t, y_label=f"Temperature, {unit.symbol}")
        names = ("bed display", "bed target", "chamber air")
        for i, name in enumerate(names):
            if np.isfinite(rows[:, i + 1]).any():
                shown = np.asarray(unit.from_si(rows[:, i + 1]))
                self.curves.add_curve(name, rows[:, 0] / 60, shown, t.curves[i], unit=unit.symbol,
                                      label_at=0.6, dashed=i == 1, width=1.6)  # fmt: skip
        text = f"Listening to {heard.source}: {len(heard.rows)} answers."
        s = heard.soak(self.desk.measurements.acceptance.drift)
        if s is not None:
            word = "The display stands still" if s.settled else f"Not settled: about {show_duration(s.wait)} more"
            text = f"{word}. {text} The display is not the surface."
        self.sentence.setText(text)

    # ---- showing
    @property
    def _asked(self) -> Key[ReadLog] | None:
        session = self.desk.session
        if session is None or not session.logs:
            return None
        return LOG.of(session=session.key, index=min(self.index, len(session.logs) - 1))

    def also(self) -> tuple[Key[Any], ...]:
        """What is shown when it is there."""
        return (self._asked,) if self._asked is not None else ()

    def draw(self) -> None:
        """Read the picked log beside the interface and show it."""
        if self.heard is not None:
            return  # the live picture stays until it is stopped
        session, stored = self.desk.session, self.stored
        self.list.show_items([f"{x.name}  ·  {x.file}" for x in session.logs] if session else [], self.index)
        self.map_button.setEnabled(stored is not None)
        self.remove_button.setEnabled(stored is not None)
        if stored is None:
            self.sentence.setText(
                "Import a log: of the display, a logger, a plug meter; its first lines are shown before it is imported."
            )
            self.curves.begin(self.theme)
            self.power.hide()
            self.soak.show_figures([], self.theme)
            self.oddities.setText("")
            return
        found = self.results.last(self._asked) if self._asked is not None else None
        error = self.results.error(self._asked) if self._asked is not None else None
        if error is not None or found is None:
            self.sentence.setText(in_words(error) if error is not None else "Reading the log …")
            self.curves.begin(self.theme)
            return
        self._show(found)

    def _show(self, found: ReadLog) -> None:
        log, t, units = found.data, self.theme, self.units
        unit = units.unit("temperature")
        self.curves.begin(t, y_label=f"Temperature, {unit.symbol}")
        warm = [(c, v) for c, v in zip(log.channels, log.values, strict=True) if c.what == "temperature"]
        for i, (c, v) in enumerate(warm):
            x, y = decimated(log.time / 60, v)
            self.curves.add_curve(c.name, x, np.asarray(unit.from_si(y)), t.curves[i % len(t.curves)], unit=unit.symbol,
                                  label_at=0.35 + 0.15 * i, width=1.6)  # fmt: skip
        rest = [(c, v) for c, v in zip(log.channels, log.values, strict=True) if c.what != "temperature"]
        self.curves.setVisible(bool(warm))
        self.power.setVisible(bool(rest))
        if rest:
            label = {"power": "Power, W", "energy": "Energy, kWh", "duty": "Duty, 1"}[rest[0][0].what]
            self.power.begin(t, y_label=label)
            for i, (c, v) in enumerate(rest):
                x, y = decimated(log.time / 60, v / 3.6e6 if c.what == "energy" else v)
                self.power.add_curve(c.name, x, y, t.curves[(i + 1) % len(t.curves)], label_at=0.6, width=1.6)
        span = show_duration(float(log.time[-1] - log.time[0]))
        holes = sum(int(np.isnan(v).sum()) for v in log.values)
        text = f"{log.time.size} rows over {span}" + (f", {holes} holes" if holes else "") + "."
        self.oddities.setText("\n".join(log.oddities) or "Nothing.")
        self._judge(found, text)

    def _judge(self, found: ReadLog, text: str) -> None:
        units, rows = self.units, []
        for c, v, s in zip(found.data.channels, found.data.values, found.soaks, strict=True):
            if s is None:
                continue
            ends = f"{show(s.end_low, 'temperature', units)} to {show(s.end_high, 'temperature', units)}"
            state = "soaked" if s.settled else f"in {show_duration(s.wait)}"
            last = show(float(np.nanmean(v[-max(3, v.size // 50) :])), "temperature", units)
            remark = f"stands at {last}" if s.settled else f"goes to {ends}"
            remark += f"; drift {show(s.drift, 'drift', units)}"
            if not s.settled:
                remark += f"; 95 %: {show_duration(s.wait_low)} to {show_duration(s.wait_high)} more"
            rows.append(Figure(c.name, state, remark))
            if c.place == "surface" or not text.startswith(("The", "Not")):
                word = "The surface is soaked" if s.settled else f"Not soaked yet: about {show_duration(s.wait)} more"
                text = f"{word} ({c.name}). {text}" if c.place == "surface" else text
        self.soak.show_figures(rows, self.theme)
        self.sentence.setText(text)
        self.sentence.setAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
