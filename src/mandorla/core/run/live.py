"""A run as it is watched: readings in, to disk, through the watch; gates with the times at which they were or will be passed."""

from __future__ import annotations

import math
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Final, Literal, NamedTuple

import numpy as np

from mandorla.core.part.mesh import Floats
from mandorla.core.run.forecast import UNKNOWN, Ready, ready_forecast
from mandorla.core.run.planned_band import PlannedBand
from mandorla.core.run.plant import Watched
from mandorla.core.run.recorder import Recorder
from mandorla.core.run.sheet import PRINT_WITHIN
from mandorla.core.run.sources import Source
from mandorla.core.run.touch import GRASPED, burns_at, touched
from mandorla.core.run.trace import Trace
from mandorla.core.run.trace_point import TracePoint
from mandorla.core.run.watch import SLOWER, Alarm, Watch, pieces_of
from mandorla.core.runtime import RunContext
from mandorla.core.units import OFF

Gate = Literal["bed", "chamber", "ready", "soaked", "first", "printed", "touch"]
GATES: Final[dict[Gate, str]] = {
    "bed": "Bed at its set point", "chamber": "Chamber at its set point", "ready": "Surface calm: ready", "soaked": "Soaked",
    "first": "First layer begins", "printed": "Last layer laid", "touch": "Plate may be held",
}  # fmt: skip
# columns of the trace after the readings' three: what was expected, its standard deviation, the planned band's ends, the surface
EXPECTED, SPREAD, LOW, HIGH, SURFACE = 3, 6, 9, 12, 15
COLUMNS: Final = 16
_LOOKS: Final = 20.0  # s of the machine between forecasts
_PIECE: Final = 30.0  # s of a trace that are looked at together
_PAUSE: Final = 1.0  # s of the clock between forecasts
_CALM_FOR: Final = 60.0  # s for which a machine has to be calm to be called ready
_SWINGS: Final = 2.0  # K more, within which a thermostat that switches is near its target
_FAR: Final = 5.0  # times the planned band's half width, beyond which a warm-up is slower than predicted
_STAYS: Final = 120.0  # s for which it stays there


class GateTime(NamedTuple):
    """A gate: when (s) it was passed (NaN: not yet), and when it will be (5 %, median, 95 %; NaN: nobody knows); ``before`` where
    it was passed before the watch began, ``told`` where the machine tells what shows it."""

    gate: Gate
    passed: float
    low: float
    median: float
    high: float
    before: bool = False
    told: bool = True


@dataclass
class LiveRun:
    """Everything about a run while it is watched. ``lock`` guards the trace, for moments only: another thread draws it.

    ``planned`` are seconds until ready before it began (low, typical, high)."""

    watched: Watched
    source: Source
    recorder: Recorder | None = None
    planned: Ready = UNKNOWN
    began: datetime = field(default_factory=lambda: datetime.now(UTC))
    lock: threading.Lock = field(default_factory=threading.Lock)

    def __post_init__(self) -> None:
        self.watch = Watch(self.watched, self.source.timing)
        self.trace = Trace(COLUMNS)
        self.band = PlannedBand(self.watched)
        self.newest: TracePoint | None = None
        self.alarms: list[Alarm] = []
        self.passed: dict[Gate, float] = {}
        self.forecast = UNKNOWN
        self.readings = 0
        self.part = math.nan  # K, the part's mean as it follows from what is read
        self._clock, self._calm_since = -math.inf, math.nan
        self._looked, self._slow_since = -math.inf, math.nan
        self._hot = False
        self._stop = threading.Event()
        self._looked_after, self._acknowledged = threading.Event(), -math.inf
        self._on_off = self.watched.rig.bed.control.kind == "on-off"

    # ---- taking in
    def follow(self, run: RunContext, told: Callable[[list[Alarm]], None] | None = None) -> None:
        """Read until the source ends or somebody stops; ``told`` gets new alarms."""
        try:
            while not (self.source.ended or self.stopped):
                run.checkpoint(0.5, "watching")
                new = self.step()
                if new and told is not None:
                    told(new)
        finally:
            self.source.close()
            if self.recorder is not None:
                self.recorder.close()

    def stop(self) -> None:
        """End with the next step. Never waits."""
        self._stop.set()

    @property
    def stopped(self) -> bool:
        """Whether somebody has stopped it."""
        return self._stop.is_set()

    def looked_after(self) -> None:
        """Somebody has looked after what was told: with the next step everything is judged again. Never waits."""
        self._looked_after.set()

    def step(self) -> list[Alarm]:
        """One look at the source; the alarms that it raised."""
        points = self.source.read()
        if self._looked_after.is_set():
            self._looked_after.clear()
            self.watch.mended()
            self._acknowledged = self.source.now
        self.watch.tracker.timing = self.source.timing
        if getattr(self.source, "slept", 0.0) > 0.0:
            self.watch.slept()
        if self.recorder is not None and points:
            self.recorder.write(points)
        new: list[Alarm] = []
        for piece in pieces_of(points, _PIECE) or [[]]:
            # a log that is read at once is followed as if it came line by line
            new += self._take(piece, piece[-1].time if len(points) > len(piece) else self.source.now)
        return new

    def _take(self, points: list[TracePoint], now: float) -> list[Alarm]:
        new = self.watch.take(points, now)
        if points:
            met, band = self.watch.met_all, self.band.feed(points)
            own = np.array([(r.bed, r.chamber, r.power) for r in points])
            at = {float(t): k for k, t in enumerate(met.time)}
            rows = [at[r.time] for r in points]
            surface = np.full((len(points), 1), self.watch.tracker.surface)
            values = np.concatenate([own, met.expected[rows], met.spread[rows], band.low, band.high, surface], axis=1)
            with self.lock:
                self.trace.add(np.array([r.time for r in points]), values)
            before, self.newest, self.readings = self.newest, points[-1], self.readings + len(points)
            air = points[-1].chamber if math.isfinite(points[-1].chamber) else float(met.expected[rows[-1], 1])
            self._part(points[-1].time - (before or points[0]).time, float(surface[-1, 0]), air)
            new += self._slower(points[-1], float(band.typical[-1, 0]), float(band.high[-1, 0] - band.low[-1, 0]) / 2.0)
            self._gates(points)
        self.alarms = [*self.alarms, *new]  # who reads it has a whole list
        if self.recorder is not None:
            for a in new:
                share = a.causes[0].probability if a.causes else 1.0
                self.recorder.event(a.time, "alarm", a.cause, began=a.began, probability=share)
        return new

    def _part(self, seconds: float, surface: float, air: float) -> None:
        """The part's mean temperature goes on; it begins with what surrounds the first layer."""
        body = self.watched.body
        if body.capacity <= 0.0 or "first" not in self.passed:
            return
        felt = body.felt(surface, air)
        self.part = felt if math.isnan(self.part) else body.after(seconds, self.part, felt)

    def _slower(self, r: TracePoint, planned: float, half: float) -> list[Alarm]:
        """A warm-up that is far below what any machine of this project would do."""
        below = planned - r.bed > _FAR * max(half, 1.0) and r.bed < r.bed_set - self.watched.criteria.ready_band
        if not below or "bed" in self.passed:
            self._slow_since = math.nan
            return []
        if math.isnan(self._slow_since):
            self._slow_since = r.time
        if r.time - self._slow_since < _STAYS or any(a.cause == SLOWER for a in self.alarms):
            return []
        return [Alarm(r.time, SLOWER, (), self._slow_since, "band")]

    def _gates(self, points: list[TracePoint]) -> None:
        w, s, now = self.watched, self.watched.settings, points[-1].time
        for r in points:
            if r.bed_set > OFF and abs(r.bed - r.bed_set) <= w.criteria.ready_band:
                self.passed.setdefault("bed", r.time)
            if w.rig.heats_chamber and abs(r.chamber - s.chamber) <= w.criteria.ready_band:
                self.passed.setdefault("chamber", r.time)
            if r.prints:
                self.passed.setdefault("first", r.time)
            least = self.passed.get("first", math.inf) + (1.0 - 2.0 * PRINT_WITHIN) * w.duration
            if (r.time >= least or self._before("first")) and r.off:
                self.passed.setdefault("printed", r.time)
        self._ready(points[-1])
        if "ready" in self.passed and now >= self.passed["ready"] + s.soak_time:
            self.passed.setdefault("soaked", self.passed["ready"] + s.soak_time)
        surface, touch = self.watch.tracker.surface, burns_at(touched(w.rig.bed), GRASPED)
        self._hot = self._hot or surface > touch
        if self._hot and points[-1].bed_set <= OFF + 1.0 and surface < touch:
            self.passed.setdefault("touch", now)

    def _ready(self, r: TracePoint) -> None:
        """Whether it is ready by what was read, and else when it will be."""
        if "ready" in self.passed or "first" in self.passed:
            self.watch.tracker.forget_the_past()
            return
        c, tracker = self.watched.criteria, self.watch.tracker
        near = abs(tracker.level - r.bed_set) <= c.ready_band + (_SWINGS if self._on_off else 0.0)
        if not (near and abs(tracker.drift) <= c.ready_drift):
            self._calm_since = math.nan
        elif math.isnan(self._calm_since):
            self._calm_since = r.time
        if r.time - self._calm_since >= _CALM_FOR:
            self.passed["ready"] = self._calm_since
            self.forecast = Ready(*(self._calm_since,) * 3)
        elif r.time - self._looked >= _LOOKS and time.monotonic() - self._clock >= _PAUSE:
            self._looked = r.time
            self.forecast = ready_forecast(
                tracker,
                r.bed_set if r.bed_set > OFF else self.watched.settings.bed_first,
                self.watched.settings.chamber,
            )
            self._clock = time.monotonic()

    # ---- reading out
    def over(self, alarm: Alarm) -> float:
        """When (s) the cause of an alarm had ended; NaN while it acts, or where nobody knows."""
        return next((t for t, key in self.watch.ended if key == alarm.cause and t > alarm.time), math.nan)

    @property
    def listed(self) -> list[Alarm]:
        """The alarms that nobody has looked after yet; all of them stay in ``alarms``, and in the record."""
        return [a for a in self.alarms if a.time > self._acknowledged]

    @property
    def acting(self) -> list[Alarm]:
        """Of those, the ones whose cause has not ended."""
        return [a for a in self.listed if math.isnan(self.over(a))]

    def gates(self) -> list[GateTime]:
        """All gates in their order, passed or forecast."""
        found = []
        f, soak = self.forecast, self.watched.settings.soak_time
        first = self.passed.get("first", math.nan)
        duration = self.watched.duration
        for gate in GATES:
            if gate == "chamber" and not self.watched.rig.heats_chamber:
                continue
            if gate in ("ready", "soaked") and gate not in self.passed and (math.isfinite(first) or self._cools):
                continue  # it was printed on without waiting for it, or it cools
            ahead = UNKNOWN
            if gate == "ready":
                ahead = f
            elif gate == "soaked" and math.isfinite(f.median):
                ready = self.passed.get("ready", math.nan)
                ahead = Ready(*(v + soak for v in f)) if math.isnan(ready) else Ready(*(ready + soak,) * 3)
            elif gate == "printed" and math.isfinite(first) and not self._before("first"):
                ahead = Ready(*(first + duration * k for k in (1.0 - PRINT_WITHIN, 1.0, 1.0 + PRINT_WITHIN)))
            told = gate in self.passed or gate not in self._untold
            found.append(GateTime(gate, self.passed.get(gate, math.nan), *ahead, self._before(gate), told))
        return found

    @property
    def _cools(self) -> bool:
        """Whether a bed that was at its set point is off."""
        return self.newest is not None and self.newest.off and "bed" in self.passed

    @property
    def _untold(self) -> tuple[Gate, ...]:
        """The gates that nobody can see passed: without the nozzle's target it is not known when it prints."""
        r = self.newest
        if r is None:
            return ()
        nozzle: tuple[Gate, ...] = ("first", "printed") if math.isnan(r.nozzle_set) else ()
        return (*nozzle, "chamber") if math.isnan(r.chamber) else nozzle

    def _before(self, gate: Gate) -> bool:
        """Whether a gate was passed before the watch began, nobody knows when."""
        found = self.watch.tracker.found
        return found is not None and self.passed.get(gate, math.inf) <= found.time

    def curves(self, column: int) -> tuple[Floats, Floats]:
        """A column of the trace as a line that shows every extreme."""
        return self.trace.line(column)
