"""What runs at present: one line a job, with its progress, the time left and a button that stops it."""

from __future__ import annotations

import math
import time
from typing import Final

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QHBoxLayout, QLabel, QProgressBar, QPushButton, QVBoxLayout, QWidget

from mandorla.core.units import show_duration
from mandorla.ui.jobs import Job, Jobs
from mandorla.ui.theme.palette import font

# s that a job runs without a line: what is over by then needs none, and a line moves all that is below it
_SHORT: Final = 0.5
_PAUSE: Final = 0.15  # s between two pictures of a line: a progress bar paints itself at once, however often it is told


class JobsList(QWidget):
    """Lines of running jobs above the console; nothing where nothing takes long."""

    def __init__(self) -> None:
        super().__init__()
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(128, 0, 12, 0)
        self._column.setSpacing(2)
        self._jobs: Jobs | None = None
        self._lines: dict[int, tuple[QWidget, QLabel, QProgressBar]] = {}
        self._young: set[int] = set()
        self._shown: dict[int, float] = {}
        self.hide()

    def follow(self, jobs: Jobs) -> None:
        """Show the jobs of a document."""
        self._jobs = jobs
        self.show_jobs()

    @property
    def titles(self) -> list[str]:
        """What is listed."""
        return [label.text() for _, label, _ in self._lines.values()]

    def show_jobs(self) -> None:
        """Take lines of ended jobs away; new ones come with their progress once they have run for a while."""
        running = {job.number for job in self._jobs.running} if self._jobs is not None else set()
        for number in [n for n in self._lines if n not in running]:
            line, _, _ = self._lines.pop(number)
            self._shown.pop(number, None)
            self._column.removeWidget(line)
            line.hide()
            line.deleteLater()
        self.setVisible(bool(self._lines))

    def show_progress(self, job: Job) -> None:
        """Show how far a job is."""
        if not job.shown or (job.number not in self._lines and job.fraction >= 1.0):
            return
        if job.number not in self._lines:
            if job.seconds < _SHORT:
                if job.number not in self._young:
                    self._young.add(job.number)
                    QTimer.singleShot(round(1e3 * (_SHORT - job.seconds)) + 1, self, lambda: self._grown(job))
                return
            self._add(job)
        now = time.monotonic()
        if now - self._shown.get(job.number, -math.inf) < _PAUSE:
            return
        self._shown[job.number] = now
        _, label, bar = self._lines[job.number]
        left = job.seconds_left
        tail = f", about {show_duration(left)} left" if left is not None else ""
        label.setText(f"{job.title}: {job.stage}{tail}")
        bar.setValue(round(100 * job.fraction))

    def _grown(self, job: Job) -> None:
        self._young.discard(job.number)
        if self._jobs is not None and job in self._jobs.running:
            self.show_progress(job)

    def _add(self, job: Job) -> None:
        line = QWidget()
        row = QHBoxLayout(line)
        row.setContentsMargins(0, 0, 0, 0)
        label = QLabel(job.title)
        label.setFont(font(9.0))
        bar = QProgressBar()
        bar.setRange(0, 100)
        bar.setTextVisible(False)
        bar.setFixedWidth(170)
        bar.setAccessibleName(f"Progress: {job.title}")
        stop = QPushButton("Stop")
        stop.setAccessibleName(f"Stop: {job.title}")
        stop.clicked.connect(lambda: self._stop(job))
        row.addWidget(label, 1)
        row.addWidget(bar)
        row.addWidget(stop)
        self._column.addWidget(line)
        self._lines[job.number] = (line, label, bar)
        self.show()

    def _stop(self, job: Job) -> None:
        if self._jobs is not None:
            self._jobs.stop(job)
