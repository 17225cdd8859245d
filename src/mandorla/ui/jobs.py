"""Work beside the interface: threads by lane, one list of what runs, and an end for every job, whatever it raises."""

from __future__ import annotations

import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from enum import Enum
from typing import Any

from PySide6.QtCore import QObject, Qt, Signal, Slot

from mandorla.core.errors import Cancelled
from mandorla.core.runtime import RunContext

Work = Callable[[RunContext], Any]


class Lane(Enum):
    """Jobs of one lane run one after another; lanes run side by side. Quick results never wait behind slow ones."""

    QUICK = "quick"
    SLOW = "slow"
    FILES = "files"
    KEEPER = "keeper"
    BOOK = "logbook"
    DEVICE = "device"


@dataclass(eq=False, slots=True)
class Job:
    """One job: what it is called, how far it is, and what is told when it ends. ``shown`` puts it on the list of jobs."""

    number: int
    title: str
    lane: Lane
    run: RunContext
    done: Callable[[Any], None] | None
    failed: Callable[[BaseException], None] | None
    partial: Callable[[Any], None] | None
    shown: bool
    fraction: float = 0.0
    stage: str = ""
    began: float = field(default_factory=time.monotonic)

    @property
    def seconds(self) -> float:
        """How long (s) it has been there."""
        return time.monotonic() - self.began

    @property
    def seconds_left(self) -> float | None:
        """Time left by the share that is done, None while it is too early to say."""
        spent = self.seconds
        return spent * (1.0 - self.fraction) / self.fraction if self.fraction > 0.05 and spent > 1.0 else None


class Jobs(QObject):
    """Starts jobs and brings their ends back to the interface's thread."""

    changed = Signal()
    progressed = Signal(object)
    stopped = Signal(object)
    _ended = Signal(int, object)
    _reported = Signal(int, float, str)
    _gave = Signal(int, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._lanes: dict[Lane, ThreadPoolExecutor] = {}
        self._jobs: dict[int, Job] = {}
        self._number = 0
        queued = Qt.ConnectionType.QueuedConnection
        self._ended.connect(self._on_end, queued)
        self._reported.connect(self._on_report, queued)
        self._gave.connect(self._on_partial, queued)

    @property
    def running(self) -> tuple[Job, ...]:
        """The jobs that a person should know of, oldest first."""
        return tuple(j for j in self._jobs.values() if j.shown)

    def start(
        self, title: str, work: Work, lane: Lane, *, done: Callable[[Any], None] | None = None,
        failed: Callable[[BaseException], None] | None = None, partial: Callable[[Any], None] | None = None, shown: bool = True,
    ) -> Job:  # fmt: skip
        """Run ``work(run)`` on a lane; ``done``, ``failed`` and ``partial`` are called on the interface's thread."""
        self._number += 1
        number = self._number
        run = RunContext(
            report=lambda f, s: self._reported.emit(number, f, s), partial=lambda v: self._gave.emit(number, v)
        )
        job = Job(number, title, lane, run, done, failed, partial, shown)
        self._jobs[number] = job
        pool = self._lanes.setdefault(
            lane, ThreadPoolExecutor(max_workers=1, thread_name_prefix=f"mandorla-{lane.value}")
        )
        pool.submit(work, run).add_done_callback(lambda future: self._ended.emit(number, future))
        self.changed.emit()
        return job

    def cancel(self, job: Job) -> None:
        """Ask a job to stop and forget it: nothing more is heard of it."""
        job.run.cancel()
        if self._jobs.pop(job.number, None) is not None:
            self.changed.emit()

    def stop(self, job: Job) -> None:
        """A person stops a job: it is cancelled, and whoever started it is told."""
        if job.number in self._jobs:
            self.cancel(job)
            self.stopped.emit(job)

    def cancel_lane(self, lane: Lane) -> None:
        """Stop all jobs of a lane and wait until its thread is idle."""
        for job in [j for j in self._jobs.values() if j.lane is lane]:
            self.cancel(job)
        pool = self._lanes.pop(lane, None)
        if pool is not None:
            pool.shutdown(wait=True, cancel_futures=True)

    def finish(self, lane: Lane) -> None:
        """Let everything on a lane end, and wait for it."""
        pool = self._lanes.pop(lane, None)
        if pool is not None:
            pool.shutdown(wait=True)

    def close(self) -> None:
        """Stop everything; all threads have ended when this returns."""
        for job in list(self._jobs.values()):
            job.run.cancel()
        self._jobs.clear()
        for lane in list(self._lanes):
            self.cancel_lane(lane)

    @Slot(int, object)
    def _on_end(self, number: int, future: Future[Any]) -> None:
        job = self._jobs.pop(number, None)
        if job is None or future.cancelled():
            return
        error = future.exception()
        self.changed.emit()
        if error is None:
            if job.done is not None:
                job.done(future.result())
        elif isinstance(error, Cancelled):
            self.stopped.emit(job)  # it ended by itself as if it had been stopped: nobody waits for it
        elif job.failed is not None:
            job.failed(error)

    @Slot(int, float, str)
    def _on_report(self, number: int, fraction: float, stage: str) -> None:
        job = self._jobs.get(number)
        if job is not None:
            job.fraction, job.stage = fraction, stage
            self.progressed.emit(job)

    @Slot(int, object)
    def _on_partial(self, number: int, value: object) -> None:
        job = self._jobs.get(number)
        if job is not None and job.partial is not None:
            job.partial(value)
