"""What a watched run taught about the rig: unknown by unknown, as a new version of it, and how it differs from the run before."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.measure.fitted_rig import Learned, fitted_rig, value_texts
from mandorla.core.rig.model import Rig
from mandorla.core.run.model import LearnedNote
from mandorla.core.run.possible_machines import ROOM, ROOM_UNKNOWN
from mandorla.core.run.tracker import Tracker
from mandorla.core.thermal.parameter_samples import AT_NINETY
from mandorla.core.units import METRIC, UnitPreferences, show

_TOLD: Final = 0.8  # of its range before, below which an unknown counts as learned
_MOVED: Final = 2.5  # standard deviations of both, from which an unknown has moved between two runs


class Lesson(NamedTuple):
    """An unknown: its ``key`` and name, text before and after, ``z`` in 90 % ranges, ``share`` of its range that is left."""

    key: str
    name: str
    before: str
    after: str
    z: float
    share: float


def lessons(tracker: Tracker, prefs: UnitPreferences = METRIC) -> tuple[Lesson, ...]:
    """What was learned, the greatest gain first; unknowns that the trace says little of are left out."""
    rig, found = tracker.watched.rig, []
    deviations = np.sqrt(np.diag(tracker.covariance))[: tracker.count] * AT_NINETY
    for k, unknown in enumerate(tracker.unknowns):
        if deviations[k] < _TOLD:
            z = float(np.clip(tracker.learned[k], -2.5, 2.5))
            before, after = value_texts(rig, unknown, z, prefs)
            found.append(Lesson(unknown.key, unknown.name, before, after, z, float(deviations[k])))
    k = tracker.count - 1
    if deviations[k] < _TOLD:
        z = float(tracker.learned[k])
        room = rig.room_temperature
        before, after = (show(v, "temperature", prefs) for v in (room, room + z * ROOM_UNKNOWN))
        found.append(Lesson(ROOM, "room", before, after, z, float(deviations[k])))
    return tuple(sorted(found, key=lambda v: v.share))


def learned_rig(tracker: Tracker, source: str, day: str) -> Rig | None:
    """The rig as it was learned, with where that comes from; None where nothing was. The room is of the day and stays."""
    told = [v for v in lessons(tracker) if v.key != ROOM]
    if not told:
        return None
    keys = {v.key: v for v in told}
    at = [k for k, u in enumerate(tracker.unknowns) if u.key in keys]
    unknowns = [tracker.unknowns[k] for k in at]
    z = np.clip(tracker.learned[at], -2.5, 2.5)
    covariance = tracker.covariance[np.ix_(at, at)] * AT_NINETY**2
    values = [keys[u.key] for u in unknowns]
    learned = [Learned(v.name, v.z, v.share, v.before, v.after, at_bound=False) for v in values]
    return fitted_rig(tracker.watched.rig, unknowns, z, covariance, learned, [source], day)


def notes_of(told: Sequence[Lesson]) -> tuple[LearnedNote, ...]:
    """What a record keeps of it."""
    return tuple(LearnedNote(key=v.key, z=v.z, share=min(v.share, 3.0)) for v in told)


def moved(now: Sequence[LearnedNote], before: Sequence[LearnedNote], names: dict[str, str]) -> tuple[str, ...]:
    """What has changed from one run to the next by more than both leave open, in words."""
    old, found = {v.key: v for v in before}, []
    for v in now:
        was = old.get(v.key)
        if was is None or v.key == ROOM:
            continue
        apart = abs(v.z - was.z) / max(np.hypot(v.share, was.share) / AT_NINETY, 1e-6)
        if apart > _MOVED:
            found.append(f"{names.get(v.key, v.key)} has moved by {v.z - was.z:+.1f} of its range since the run before")
    return tuple(found)
