"""Watches a machine against its plan: every reading through the filter, alarms with their causes, what was learned."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.run.detector import Detector, Suspicion
from mandorla.core.run.diagnosis import Suspect, causes
from mandorla.core.run.disturbances import DISTURBANCES, SOUND, SURROUNDS, Disturbance
from mandorla.core.run.plant import Watched
from mandorla.core.run.trace_point import TracePoint
from mandorla.core.run.tracker import Predicted, Snapshot, Stretch, Tracker
from mandorla.core.units import OFF

_EVERY: Final = 10.0  # s between snapshots
_KEPT: Final = 620.0  # s of snapshots
_ASKS: Final = 4.0  # s between looks for a cause
_SOONEST: Final = 4.0
_LATEST: Final = 24.0  # s after a suspicion before a cause is named: where it leads clearly, and in any case
_CLEAR: Final = 12.0  # nats by which a cause leads clearly
_KNOWN: Final = 5.0  # nats over a sound machine from which a cause is named at all
_AGAIN: Final = 300.0  # s after an alarm before the same cause is told again
_SLOW: Final = 60.0  # times how far off a source's times are, for which it may be silent
# nats from which heat that moves away, or is further off than any print leaves it, is told at all; the latter is evidence itself
_BY_HEAT: Final = {"drift": 7.0, "heat": 2.0}
SILENT: Final = 20.0  # s without an answer that are told
_GAP: Final = 15.0  # s without a reading that are filled
_FILL: Final = 10.0  # s between the moments that fill a gap
_TARGET: Final = 1.0  # K by which a target is another
OTHER: Final = "other"  # nothing that is known
SLOWER: Final = "slower"  # a warm-up below its band


@dataclass(frozen=True, slots=True)
class Alarm:
    """An alarm: when (s) it was raised, the likeliest ``cause`` by key, all causes by probability, when it ``began``, by what
    it was ``seen`` (a key of alarm_words.SEEN_BY)."""

    time: float
    cause: str
    causes: tuple[Suspect, ...]
    began: float
    seen: str

    @property
    def disturbance(self) -> Disturbance | None:
        """What is known of its cause."""
        return DISTURBANCES.get(self.cause)


class Watch:
    """Feed it readings; it returns the alarms that they raise."""

    def __init__(self, watched: Watched, timing: float = 0.05) -> None:
        self.watched, self.tracker, self.detector = watched, Tracker(watched, timing), Detector()
        self.alarms: list[Alarm] = []
        self.met_all = Predicted(*(np.zeros(0),) * 4)
        self._snapshots: list[Snapshot] = []
        self._stretches: list[tuple[float, Stretch]] = []
        self._last: TracePoint | None = None
        self._before: TracePoint | None = None
        self.active: dict[str, float] = {}
        self.ended: list[tuple[float, str]] = []  # when a known disturbance was over
        self.standing: str | None = (
            None  # what was told and cannot be followed: the bed is not judged until it is mended
        )
        self._away_since = math.nan
        self._silent = max(SILENT, _SLOW * timing)
        self._suspicion: Suspicion | None = None
        self._asked = -math.inf
        self._quiet: dict[str, float] = {}

    def take(
        self, readings: list[TracePoint], now: float | None = None, halt: Callable[[], None] = lambda: None
    ) -> list[Alarm]:
        """Take readings in, in their order of time; ``now`` s is what time it is where nothing was read. ``halt`` is called between
        causes that are looked into, and may raise: the watch is of no more use then."""
        found = self._told(readings, now)
        met: list[Predicted] = []
        for part in pieces_of(_filled(self._before, readings), _EVERY):
            self._before = part[-1]
            self._snapshots.append(self.tracker.snapshot())
            while len(self._snapshots) > 1 and self._snapshots[0].time < part[-1].time - _KEPT:
                self._snapshots.pop(0)
            met.append(self.tracker.feed(part))
            self._stretches.extend(self.tracker.fed)
            while self._stretches and self._stretches[0][0] < self._snapshots[0].time - 1e-6:
                self._stretches.pop(0)
            if self._suspicion is None:
                found_out = self.tracker.finding <= 0.0
                self._suspicion = self.detector.see(part, met[-1], found_out) or (
                    self.detector.drifts(part[-1].time, self.tracker.imbalance, self.tracker.settled)
                    if found_out else None
                )  # fmt: skip
                self._asked = -math.inf
            elif self.detector.look(part):
                self._suspicion = self._suspicion._replace(by="still")
            if self._suspicion is not None:
                found += self._find_out(self._suspicion, part[-1].time, halt)
        if met:
            self.met_all = Predicted(*(np.concatenate(arrays) for arrays in zip(*met, strict=True)))
        found.sort(key=lambda a: a.time)
        self.alarms += found
        return found

    def _told(self, readings: list[TracePoint], now: float | None) -> list[Alarm]:
        """What the machine itself tells: that it is away, or has another target."""
        found = []
        for r in readings:
            last, self._last = self._last, r
            if last is None:
                continue
            if r.time - last.time > self._silent:
                found += self._away(last.time + self._silent, last.time)
            if last.bed_set - r.bed_set > _TARGET and r.time - last.time <= self._silent and not self._planned(r):
                found += self._raise("target-lowered", r.time, r.time, "target")
        if now is not None and self._last is not None and now - self._last.time > self._silent:
            found += self._away(now, self._last.time)
        return found

    def _away(self, time: float, since: float) -> list[Alarm]:
        """That it does not answer, once for each time that it is away."""
        if since == self._away_since:
            return []
        self._away_since = since
        self._quiet.pop("power-cut", None)
        return self._raise("power-cut", time, since, "silence")

    def _planned(self, r: TracePoint) -> bool:
        s = self.watched.settings
        return r.off or any(abs(r.bed_set - t) <= _TARGET for t in (s.bed_first, s.bed_rest))

    def _raise(self, key: str, time: float, began: float, seen: str, ranked: tuple[Suspect, ...] = ()) -> list[Alarm]:
        if time < self._quiet.get(key, -math.inf):
            return []
        self._quiet[key] = math.inf if key in self.active or self._stays(key) else time + _AGAIN
        return [Alarm(time, key, ranked, began, seen)]

    def _stays(self, key: str) -> bool:
        """Whether a cause is a danger or makes the bed's readings useless: nothing more is told until it is mended."""
        d = DISTURBANCES.get(key)
        if d is None or d.told:
            return False
        own = d.condition(d.sizes[0])
        return d.dangerous or all(getattr(own, n) == getattr(SOUND, n) for n in SURROUNDS)

    @property
    def teaches(self) -> bool:
        """Whether what the filter has learned is of the rig, and not of something that is broken."""
        return self.standing is None and not self.active

    def mended(self) -> None:
        """Somebody has looked: everything is told again, and learned anew."""
        self.standing = None
        self.active.clear()
        self._quiet.clear()
        self.tracker.condition = SOUND
        self.tracker.open_up()
        self.detector.clear()
        self._snapshots.clear()

    def slept(self) -> None:
        """The computer slept: what the machine did meanwhile is not known, so that nothing is suspected of the gap. What acts and
        what was told stays."""
        self._last, self._suspicion, self._away_since = None, None, math.nan
        self.tracker.open_up()
        self.detector.clear()
        self._snapshots.clear()
        self._stretches.clear()

    def _go_on(self, s: Suspect) -> None:
        """Know from now on what acts, as far as a watch can go on with it."""
        d = DISTURBANCES[s.key]
        own, acts = d.condition(s.size), self.tracker.condition
        fields = {n: getattr(own, n) for n in SURROUNDS if getattr(own, n) != getattr(SOUND, n)}
        if not fields:
            return
        if s.over:
            self.active.pop(s.key, None)
            self._quiet.pop(s.key, None)
            condition = acts._replace(**{n: getattr(SOUND, n) for n in fields})
        else:
            self.active[s.key] = s.size
            condition = acts._replace(**fields)
        before = [q for q in self._snapshots if q.time < s.began - 1e-6]
        if not before:
            return
        start = before[-1]
        stretches = [st for t, st in self._stretches if t >= start.time - 1e-6]
        self.tracker.go_back(start, stretches, condition)

    def _find_out(self, s: Suspicion, now: float, halt: Callable[[], None]) -> list[Alarm]:
        """The cause of what is suspected, once it is told from the others or has to be said."""
        if now - self._asked < _ASKS:
            return []
        self._asked = now
        still = self.detector.stands_still
        if still and now - s.time < _LATEST and s.by != "still":
            return []
        ranked = causes(
            self.tracker, self._snapshots, self._stretches, s.time, self.detector.standing, self.active, halt
        )
        lead = ranked[0].gain - (ranked[1].gain if len(ranked) > 1 else 0.0) if ranked else 0.0
        if now - s.time < (_LATEST if lead < _CLEAR else _SOONEST):
            return []
        self._suspicion = None
        self.detector.clear()
        known = bool(ranked) and ranked[0].evidence > _BY_HEAT.get(s.by, _KNOWN)
        if s.by in _BY_HEAT and not known:
            return []  # nothing that is known would move the heat like that, and nothing sudden was seen
        if known:
            self._go_on(ranked[0])
        self.tracker.open_up()
        self._snapshots.clear()  # what was before has been told
        if known and ranked[0].over:
            self.ended.append((now, ranked[0].key))
            return []
        key = ranked[0].key if known else OTHER
        if still and s.by == "still":
            key = "sensor-frozen"
        d = DISTURBANCES.get(key)
        if self.standing is not None:
            return []  # what follows from a danger that was told is not told as well
        if d is not None and self._stays(key):
            self.standing = key
        return self._raise(key, now, ranked[0].began if ranked else s.time, s.by, ranked)


def _filled(before: TracePoint | None, readings: list[TracePoint]) -> list[TracePoint]:
    """Readings with the moments between that nobody told: heaters off where the machine has no target after it, else regulated."""
    found: list[TracePoint] = []
    for r in readings:
        if before is not None and r.time - before.time > _GAP:
            dark = r.bed_set <= OFF + 1.0
            for t in np.arange(before.time + _FILL, r.time - 1.0, _FILL):
                found.append(TracePoint(
                    float(t), bed_set=r.bed_set if dark else before.bed_set, bed_duty=0.0 if dark else math.nan,
                    chamber_set=r.chamber_set if dark else before.chamber_set, chamber_duty=0.0 if dark else math.nan,
                    nozzle=before.nozzle if not dark else r.nozzle, nozzle_set=before.nozzle_set if not dark else r.nozzle_set,
                ))  # fmt: skip
        found.append(r)
        before = r
    return found


def pieces_of(readings: list[TracePoint], span: float) -> list[list[TracePoint]]:
    """Readings in pieces of ``span`` s."""
    found: list[list[TracePoint]] = []
    for r in readings:
        if not found or r.time - found[-1][0].time >= span:
            found.append([])
        found[-1].append(r)
    return found
