"""What has gone wrong: every disturbance marched from every moment at which it may have begun, against what surprised the filter.

The filter is linear in what it reads, so that a disturbance's effect on the readings, run through the same filter, is its effect on
the surprises; how much likelier they become by it is a plain sum.

References
----------
A. S. Willsky and H. L. Jones, IEEE Trans. Automat. Contr. 21 (1976) 108: the generalised likelihood ratio of jumps.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.part.mesh import Floats
from mandorla.core.run.disturbances import SOUND, SURROUNDS, Condition, Disturbance, both, of_rig
from mandorla.core.run.plant import Inputs, Plant, march
from mandorla.core.run.possible_machines import shown
from mandorla.core.run.state_filter import BED, CHANNELS
from mandorla.core.run.tracker import Snapshot, Stretch, Tracker
from mandorla.core.thermal.network_run import NetworkRun

_STRETCHED: Final = (0.5, 2.0)  # times a size on its grid, within which its effect is taken as proportional
_ENDS: Final = 4.0  # nats by which the end of what is known is likelier than something new
_SURE: Final = 3.0  # nats within which a more dangerous cause comes first
_FINE: Final = 40.0  # s before a suspicion, within which a disturbance may have begun with any reading
_COARSE: Final = (60.0, 90.0, 130.0, 200.0, 300.0, 450.0, 600.0)  # s before it, for those that come slowly


class Suspect(NamedTuple):
    """A disturbance that may be it: its ``key``, ``gain`` nats over a sound machine, ``probability`` among all that are known, when
    it ``began`` (s) and its ``size``; ``over`` where it has ended then instead;
    ``evidence`` is the gain without how often it happens."""

    key: str
    gain: float
    probability: float
    began: float
    size: float
    over: bool = False
    evidence: float = 0.0


class Stillness(NamedTuple):
    """How often the bed's reading has stood still until now, and the chance that it does once."""

    times: int
    chance: float


def merged(stretches: Iterable[Stretch]) -> list[Stretch]:
    """Stretches that follow each other while the machine does one thing, as one."""
    found: list[list[Stretch]] = []
    for s in stretches:
        if found and found[-1][0].doing == s.doing:
            found[-1].append(s)
        else:
            found.append([s])
    return [_joined(group) for group in found]


def _joined(group: Sequence[Stretch]) -> Stretch:
    if len(group) == 1:
        return group[0]
    given = Inputs(*(np.concatenate(parts) for parts in zip(*(s.given for s in group), strict=True)))
    rest = {
        name: np.concatenate([getattr(s, name) for s in group])
        for name in Stretch._fields
        if name not in ("given", "doing")
    }
    return Stretch(given=given, doing=group[0].doing, **rest)


class Aftermath:
    """What followed a snapshot: by how much it surprises a filter that goes on from it, however far it is off, and the march of a
    sound machine through it."""

    def __init__(self, tracker: Tracker, start: Snapshot, stretches: Sequence[Stretch]) -> None:
        self.tracker, self.start, self.stretches = tracker, start, list(stretches)
        mean, covariance = start.mean.copy(), start.covariance.copy()
        found = [tracker.filtered(s, mean, covariance, clips=False)[2] for s in self.stretches]
        self.surprise = np.nan_to_num(np.concatenate(found))
        self.ends = start.time + np.cumsum(np.concatenate([s.given.dt for s in self.stretches]))
        plant = start.plant.copy()
        self.runs: list[NetworkRun] = []
        self.sound: list[Floats] = []
        for s in self.stretches:
            self.runs.append(march(plant, s.given, s.doing, tracker.condition))
            self.sound.append(shown(plant, self.runs[-1], s.doing, np.zeros(s.given.dt.size)))

    def effect(self, condition: Condition, begins: int) -> Floats:
        """What another condition from the step ``begins`` on changes of the readings (m, 3)."""
        found = np.zeros((self.ends.size, CHANNELS))
        plant: Plant | None = None
        at, since = 0, 0.0
        frozen = math.nan
        for s, run, sound in zip(self.stretches, self.runs, self.sound, strict=True):
            m = s.given.dt.size
            k = max(begins - at, 0)
            if k < m:
                if condition.frozen:
                    frozen = (sound[k - 1, BED] if k > 0 else sound[0, BED]) if math.isnan(frozen) else frozen
                    found[at + k : at + m, BED] = frozen - sound[k:, BED]
                elif condition.drift or condition.shift:
                    age = since + np.cumsum(s.given.dt[k:])
                    found[at + k : at + m, BED] = condition.shift + condition.drift * age
                    since = float(age[-1])
                else:
                    if plant is None:
                        plant = self.start.plant.copy()
                        plant.cells[:], plant.state[:] = run.cells[k], run.states[k]
                    given = Inputs(*(v[k:] for v in s.given))
                    broken = march(plant, given, s.doing, condition)
                    found[at + k : at + m] = shown(plant, broken, s.doing, np.zeros(m - k)) - sound[k:]
            at += m
        return found

    def surprising(self, effect: Floats) -> Floats:
        """What an effect on the readings (m, 3) is of the surprises (m, 3)."""
        covariance, mean = self.start.covariance.copy(), np.zeros(self.start.mean.size)
        found, at = [], 0
        for s in self.stretches:
            m = s.given.dt.size
            own = np.where(np.isnan(s.measured), np.nan, effect[at : at + m])
            still = s._replace(base=np.zeros((m, CHANNELS)), measured=own)
            found.append(self.tracker.filtered(still, mean, covariance, clips=False)[2])
            at += m
        return np.nan_to_num(np.concatenate(found))


def _beginnings(times: Floats, suspected: float) -> list[float]:
    """Moments (s) at which it may have begun: with any reading of late, or longer ago."""
    fine = [float(t) for t in times if suspected - _FINE <= t <= suspected]
    return [suspected - back for back in reversed(_COARSE)] + fine


def causes(
    tracker: Tracker, snapshots: Sequence[Snapshot], stretches: Sequence[tuple[float, Stretch]], suspected: float,
    standing: Stillness, active: Mapping[str, float], halt: Callable[[], None] = lambda: None,
) -> tuple[Suspect, ...]:  # fmt: skip
    """All disturbances of the rig that the machine does not tell itself, the likeliest first.

    Parameters
    ----------
    tracker
        The filter.
    snapshots, stretches
        Where it stood in the last minutes, and what it was given since, each from a time (s) on.
    suspected
        When (s) something was suspected: it began then or earlier.
    standing
        How often the bed's reading has stood still.
    active
        Sizes of the disturbances that are known to act, by key: they may have ended.
    halt
        Called between two of them; it may raise to stop the search.
    """
    windows: dict[int, Aftermath] = {}
    times = np.concatenate([start + np.cumsum(s.given.dt) for start, s in stretches])
    best: dict[str, Suspect] = {}
    of = [d for d in of_rig(tracker.watched.rig) if not d.told]
    for begins in _beginnings(times, suspected):
        earlier = [q for q, snap in enumerate(snapshots) if snap.time < begins - 1e-6]
        if not earlier:
            continue
        at = earlier[-1]
        if at not in windows:
            own = [s for t, s in stretches if t >= snapshots[at].time - 1e-6]
            windows[at] = Aftermath(tracker, snapshots[at], merged(own))
        w = windows[at]
        step = int(np.searchsorted(w.ends, begins - 1e-6))
        for d in of:
            halt()
            if d.key == "sensor-frozen" and w.ends.size - step > standing.times + 1:
                continue
            for size in d.sizes:
                found = _gain(w, d, size, step, standing)
                if found is not None and (d.key not in best or found.gain > best[d.key].gain):
                    best[d.key] = found
            if d.key in active:
                found = _over(w, d, active[d.key], step)
                key = f"{d.key} over"
                if found is not None and (key not in best or found.gain > best[key].gain):
                    best[key] = found
    if not best:
        return ()
    top = max(c.gain for c in best.values())
    weights = {k: math.exp(max(c.gain - top, -700.0)) for k, c in best.items()}
    total = sum(weights.values())
    dangerous = {d.key: d.dangerous for d in of}
    return tuple(sorted(
        (c._replace(probability=weights[k] / total) for k, c in best.items()),
        key=lambda c: -c.gain - (_SURE if dangerous[c.key] and not c.over else 0.0),
    ))  # fmt: skip


def _over(w: Aftermath, d: Disturbance, size: float, step: int) -> Suspect | None:
    """That a known disturbance has ended."""
    # without it: what it changes is as it is in a sound machine
    neutral = {n: getattr(SOUND, n) for n in SURROUNDS if getattr(d.condition(size), n) != getattr(SOUND, n)}
    own = w.surprising(w.effect(w.tracker.condition._replace(**neutral), step))
    power = float((own * own).sum())
    if power <= 1e-9:
        return None
    along = float((w.surprise * own).sum())
    share = min(max(along / power, _STRETCHED[0]), _STRETCHED[1])
    gain = share * along - 0.5 * share * share * power + _ENDS
    return Suspect(d.key, gain, 0.0, float(w.ends[step]), size, over=True, evidence=gain - _ENDS)


def _gain(w: Aftermath, d: Disturbance, size: float, step: int, standing: Stillness) -> Suspect | None:
    own = w.surprising(w.effect(both(w.tracker.condition, d.condition(size)), step))
    power = float((own * own).sum())
    if power <= 1e-9:
        return None
    frozen, along = d.condition(size).frozen, float((w.surprise * own).sum())
    magnitude = d.magnitude(size)
    low, high = (v / magnitude for v in d.magnitudes)
    share = min(max(along / power, _STRETCHED[0], low), _STRETCHED[1], high)
    if frozen or len(d.sizes) == 1:
        share = 1.0
    gain = share * along - 0.5 * share * share * power + d.often
    if frozen:
        gain -= standing.times * math.log(max(standing.chance, 1e-6))
    began = float(w.ends[step])
    return Suspect(d.key, gain, 0.0, began, d.sized(share * magnitude, size), evidence=gain - d.often)
