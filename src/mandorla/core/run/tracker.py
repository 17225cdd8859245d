"""Follows a machine by what it tells: a filter that learns the rig's unknowns, and says by how much each reading surprises it.

The machine is marched as it is planned and once more for every unknown, driven by the duty that the machine itself tells. Readings
are linear in the unknowns to a good approximation, so that one Kalman filter holds all of them, together with what no rig explains:
a mains voltage and a heat balance that wander, at the bed and in the chamber's air, and the base load of the plug.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.part.mesh import Floats
from mandorla.core.rig.consumers import Doing, at_plug, drawn
from mandorla.core.run.disturbances import SOUND, Condition
from mandorla.core.run.found_warm import stand_as_found, warm_already
from mandorla.core.run.plant import Inputs, Plant, Watched
from mandorla.core.run.possible_machines import (
    ROOM,
    TRIED,
    advanced,
    drive,
    levels_of,
    parts_of,
    possible_plants,
    prior_of,
    responses,
)
from mandorla.core.run.state_filter import (
    AIR_HEAT,
    AIR_OFF,
    BASE,
    BED,
    BED_HEAT,
    BED_OFF,
    CHAMBER,
    CHANNELS,
    EXTRA,
    GAIN,
    POWER,
    run_filter,
)
from mandorla.core.run.trace_point import TracePoint
from mandorla.core.thermal.heatup import SWING
from mandorla.core.thermal.network_run import NetworkRun
from mandorla.core.thermal.parameter_samples import AT_NINETY, rig_unknowns

# standard deviations of what wanders, and how long it keeps (s); estimates that the benchmark of detection is run with
WANDER: Final = {GAIN: (0.025, 600.0), BED_HEAT: (0.01, 1800.0), AIR_HEAT: (0.015, 1800.0), BASE: (15.0, 7200.0)}
_CREEP: Final = 0.02  # of a 90 % range that an unknown may change by in an hour
# K, K, share of the plug's power: at least, where a reading's own scatter is smaller
NOISE: Final = (0.03, 0.05, 0.006)
_METER: Final = 1.5  # W
_YOUNG: Final = (0.2, 120.0)  # K that the march leaves open when it begins, and how soon (s) that is over
_REGULATED: Final = (1.0, 2.0)  # K of bed and chamber that stay open where no duty is told
_UNMODELLED: Final = 45.0  # W that a nozzle draws while it heats
_SCATTER: Final = 40  # readings from which their own scatter is taken
# of the time between two readings, to which the moment is known at which a thermostat switched
_SWITCHING: Final = 0.25
_REMEMBERED: Final = 6 * 3600.0  # s of a watch whose inputs are kept, for forecasts
FIRST_STEP: Final = 1.0  # s before the first reading, at which a watch begins
FINDS: Final = 300.0  # s in which a machine that was warm already is only found: nothing is judged by its heat
OUTLIER: Final = 4.0  # standard deviations from which a reading moves the filter no more than that
# s for which the heat balance is open where the machine begins to do something else, and in which it wanders
_STIRRED: Final = (120.0, 30.0)
_MAYBE: Final = 0.02  # of what the bed's heat gains there, where nobody tells when it begins: it begins once in hours
_OPENED: Final = 10.0  # times what wanders, by which it is open after something has changed


class Predicted(NamedTuple):
    """What a stretch of readings (m,) met: ``expected`` (m, 3) and ``spread`` (m, 3) before each reading, ``surprise`` (m, 3) in
    standard deviations (NaN where nothing was read), K, K and W."""

    time: Floats
    expected: Floats
    spread: Floats
    surprise: Floats


@dataclass(frozen=True, slots=True)
class Snapshot:
    """Where the filter's machine stood at ``time`` s: its plant, the filter's ``mean`` and ``covariance``, and
    the ``places`` (cells, state) of all possible machines."""

    time: float
    plant: Plant
    mean: Floats
    covariance: Floats
    places: tuple[tuple[Floats, Floats], ...]


class Stretch(NamedTuple):
    """What one run of the filter was given, (m,) readings: steps, what drove the machine and what it did; ``base`` (m, 3),
    ``slopes`` (m, 3, n), ``measured`` (m, 3), ``noise`` (m, 3) as variances, W of the bed's and the chamber's heater, J of a step
    that are not known because their duties changed within it, variance a second (m, 2) that the heat of bed and air gains where the
    machine begins to do something else, the nozzle (m,) K."""

    given: Inputs
    doing: Doing
    base: Floats
    slopes: Floats
    measured: Floats
    noise: Floats
    heat: Floats
    air_heat: Floats
    jitter: Floats
    air_jitter: Floats
    stir: Floats
    nozzle: Floats


class Tracker:
    """The filter. Feed it readings in their order; ask it for what it learned. ``timing`` s is how far off their times are."""

    def __init__(self, watched: Watched, timing: float = 0.05) -> None:
        self.watched, self.timing = watched, timing
        rig = watched.rig
        self.unknowns = rig_unknowns(rig)
        self.names = (*(u.key for u in self.unknowns), ROOM)
        n = len(self.names)
        self.members = possible_plants(watched)
        self.mean = np.zeros(n + EXTRA)
        self.covariance = np.zeros((n + EXTRA, n + EXTRA))
        self.covariance[:n, :n] = prior_of(rig)
        for state, (size, _) in WANDER.items():
            self.covariance[n + state, n + state] = (size * self._scale(state)) ** 2
        self.bed, self.air = responses(watched)
        self.now = 0.0
        self._last: TracePoint | None = None
        self._recent, self._duty, self._air_duty = np.zeros((0, CHANNELS)), 0.0, 0.0
        self._plug = np.array([float(at_plug(rig, 1.0, 0.0)), float(at_plug(rig, 0.0, 1.0))])
        self._on_off = rig.bed.control.kind == "on-off"
        self._does, self._since, self._unsettled_at = Doing.WARM_UP, -math.inf, 0.0
        busy = drawn(rig, Doing.PRINT) - drawn(rig, Doing.WARM_UP)
        bare, printing = self.members[0].around[Doing.WARM_UP], self.members[0].around[Doing.PRINT]
        air = printing.heat_lower + printing.heat_upper - bare.heat_lower - bare.heat_upper
        self._busy = busy, 0.03 * rig.bed.heater.power, air if rig.chamber.enclosed else 0.0
        self.fed: list[tuple[float, Stretch]] = []
        self._surfaces = np.full(len(self.members), rig.start_temperature)
        self._level = rig.start_temperature
        self.shown_bed: list[float] = []
        self._calm: list[tuple[float, float]] = []
        self.drift = math.nan
        self.history: list[tuple[Inputs, Doing]] = []
        self.condition = SOUND
        self.began, self._found_until = 0.0, -math.inf
        self.found: TracePoint | None = None  # what a machine showed that was warm already
        self._remembers = _REMEMBERED
        self.count = n

    def _scale(self, state: int) -> float:
        """What a wandering share is a share of: the heaters' power."""
        rig = self.watched.rig
        if state == BED_HEAT:
            return rig.bed.heater.power
        if state == AIR_HEAT:
            return max(rig.chamber.heater_power, 0.5 * rig.bed.heater.power) if rig.chamber.enclosed else 0.0
        return 1.0

    @property
    def settled(self) -> float:
        """Seconds since the machine began to do something else, or might have."""
        return self.now - self._unsettled_at

    @property
    def finding(self) -> float:
        """Seconds for which a machine that was warm already is still only found; 0 after."""
        return max(self._found_until - self.now, 0.0)

    @property
    def imbalance(self) -> Floats:
        """Heat (2,) of bed and chamber that no rig explains, in standard deviations of what usually wanders."""
        sizes = np.array([WANDER[s][0] * self._scale(s) for s in (BED_HEAT, AIR_HEAT)])
        return np.asarray(self.mean[[self.count + BED_HEAT, self.count + AIR_HEAT]] / np.maximum(sizes, 1e-9))

    @property
    def learned(self) -> Floats:
        """The unknowns (n,) as they are seen now, in units of their 90 % ranges."""
        return self.mean[: self.count]

    def feed(self, readings: Sequence[TracePoint]) -> Predicted:
        """Take readings in and say what each of them met."""
        self.fed = []
        if self._last is None:
            self._begin(readings[0])
        found = [self._feed(part) for part in parts_of(self.now, readings)]
        return Predicted(*(np.concatenate(arrays) for arrays in zip(*found, strict=True)))

    def _begin(self, r: TracePoint) -> None:
        """Begin with a machine that may be warm already."""
        self.began = self.now = r.time - FIRST_STEP
        self._unsettled_at = self.now
        if not warm_already(self.watched, r):
            return
        self.found = r
        stand_as_found(self.members, self.watched, r)
        self._found_until = r.time + FINDS
        self.open_up()

    def _feed(self, readings: Sequence[TracePoint]) -> Predicted:
        given, doing = drive(self.watched, self.now, self._last, readings)
        other = self._last is not None and abs(readings[0].bed_set - self._last.bed_set) > 1.0
        if doing != self._does or other:
            self._does, self._since = doing, self.now
        runs = advanced(self.members, given, doing, self.condition)
        nozzle = np.array([r.nozzle for r in readings])
        base, slopes = levels_of(self.members, runs, doing, nozzle)
        spread = self.watched.heat.spread
        self._surfaces = np.array([
            spread.now(plant.stack, run) for plant, run in zip(self.members, runs, strict=True)
        ])  # fmt: skip
        measured = np.array([(r.bed, r.chamber, r.power) for r in readings])
        self._recent = np.concatenate([self._recent, measured])[-_SCATTER:]
        run, full = runs[0], self.watched.rig.bed.heater.power
        told = np.array([0.0 if math.isnan(r.bed_duty) else r.bed_duty for r in readings])
        changed = np.abs(np.diff(told, prepend=self._duty))
        self._duty = float(told[-1])
        rig, air = self.watched.rig, np.array([0.0 if math.isnan(r.chamber_duty) else r.chamber_duty for r in readings])
        unsettled, bed = self._unsettled(readings), np.array([_MAYBE if r.untold else 1.0 for r in readings])
        stretch = Stretch(
            given, doing, base, slopes, measured,
            self._noise(run, readings, changed, full, unsettled), run.power[1:], run.chamber_power[1:],
            changed * full * given.dt / math.sqrt(12.0),
            np.abs(np.diff(air, prepend=self._air_duty)) * rig.chamber.heater_power * given.dt / math.sqrt(12.0),
            np.stack([unsettled * bed, unsettled], axis=1) * np.square(self._busy[1:]) / _STIRRED[1], nozzle,
        )  # fmt: skip
        self._air_duty = float(air[-1])
        self.fed.append((self.now, stretch))
        if self.now - self.began < self._remembers:
            self.history.append((given, doing))
            self.shown_bed.extend(r.bed for r in readings)
        else:
            self.history.clear()
        self._notice(readings)
        found = self.filtered(stretch, self.mean, self.covariance)
        h = np.append(stretch.slopes[-1, BED], np.zeros(EXTRA))
        h[self.count + BED_OFF] = 1.0
        self._level = float(stretch.base[-1, BED] + h @ self.mean)
        self.now, self._last = readings[-1].time, readings[-1]
        return Predicted(np.array([r.time for r in readings]), *found)

    def _notice(self, readings: Sequence[TracePoint]) -> None:
        """How fast the surface drifts (K/s), by the rig as it was learned."""
        span = SWING if self._on_off else 60.0
        t = readings[-1].time
        self._calm = [c for c in self._calm if c[0] >= t - 2.0 * span] + [(t, self.surface - self.offsets[0])]
        times, levels = np.array(self._calm).T
        if times[-1] - times[0] < span:
            return
        if self._on_off:
            late = times > t - span
            if not late.all():
                self.drift = float(levels[late].mean() - levels[~late].mean()) / span
        else:
            self.drift = (float(levels[-1]) - float(np.interp(t - span, times, levels))) / span

    def _unsettled(self, readings: Sequence[TracePoint]) -> Floats:
        """1 (m,) where the machine begins to print or to cool, or may soon, or nobody tells whether it does, else 0."""
        found = np.array([
            float(r.time - self._since < _STIRRED[0] or r.prints_soon or r.untold or r.time < self._found_until)
            for r in readings
        ])  # fmt: skip
        if found.any():
            self._unsettled_at = readings[int(np.flatnonzero(found)[-1])].time
        return found

    def _noise(
        self, run: NetworkRun, readings: Sequence[TracePoint], changed: Floats, full: float, unsettled: Floats
    ) -> Floats:
        """Variances (m, 3) of the readings: their own scatter by second differences, at least what the march leaves open."""
        found = np.empty((len(readings), CHANNELS))
        own = np.zeros(CHANNELS)
        if self._recent.shape[0] >= 8:
            second = np.abs(np.diff(self._recent, 2, axis=0))
            with np.errstate(all="ignore"):
                own = np.nan_to_num(np.median(second, axis=0)) / (0.6745 * math.sqrt(6.0))
        found[:, BED], found[:, CHAMBER] = max(NOISE[BED], own[BED]) ** 2, max(NOISE[CHAMBER], own[CHAMBER]) ** 2
        times = np.array([r.time for r in readings])
        young, steps = _YOUNG[0] * np.exp(-(times - self.began) / _YOUNG[1]), np.diff(times, prepend=self.now)
        # a thermostat switches at any moment between two readings: which one is known to a quarter of the time between them
        timing = np.maximum(self.timing, _SWITCHING * steps) if self._on_off else self.timing
        found[:, BED] += young**2 + (np.diff(run.reading) / steps * timing) ** 2
        found[:, CHAMBER] += young**2 + (np.diff(run.chamber_reading) / steps * self.timing) ** 2
        # where no duty is told the machine is followed as if it regulated itself: by terms that nobody knows
        untold = np.array([(math.isnan(r.bed_duty), math.isnan(r.chamber_duty)) for r in readings])
        found[:, BED] += np.where(untold[:, 0], _REGULATED[0] ** 2, 0.0)
        if self.watched.rig.heats_chamber:
            found[:, CHAMBER] += np.where(untold[:, 1], _REGULATED[1] ** 2, 0.0)
        power = run.power[1:] + run.chamber_power[1:]
        cold = np.array([
            r.untold or r.nozzle_set > r.nozzle + 8.0 or r.nozzle > max(r.nozzle_set, 340.0) + 8.0 for r in readings
        ])  # fmt: skip
        found[:, POWER] = (NOISE[POWER] * power) ** 2 + _METER**2 + np.where(cold, _UNMODELLED**2, 0.0)
        found[:, POWER] += (full * changed) ** 2 + unsettled * self._busy[0] ** 2
        return found

    def filtered(
        self, s: Stretch, mean: Floats, covariance: Floats, clips: bool = True
    ) -> tuple[Floats, Floats, Floats]:
        """Run the filter over a stretch from a mean and a covariance, both updated: expected, spread and surprise (m, 3)."""
        wanders = (GAIN, BED_HEAT, AIR_HEAT, BASE)
        rates = np.array([self.bed.per_joule, self.bed.keeps, self.air.per_joule, self.air.keeps])
        return run_filter(
            s.given.dt, s.base, s.slopes, s.measured, s.noise, s.heat, s.air_heat, s.jitter, s.air_jitter, s.stir, self._plug,
            mean, covariance, np.array([WANDER[w][0] * self._scale(w) for w in wanders]),
            np.array([WANDER[w][1] for w in wanders]), rates, (_CREEP / AT_NINETY) ** 2 / 3600.0,
            OUTLIER if clips else np.inf,
        )  # fmt: skip

    @property
    def surface(self) -> float:
        """The print surface in the middle of the bed as the filter sees it now (K)."""
        return (
            float(self._surfaces[0] + self.learned / TRIED @ (self._surfaces[1:] - self._surfaces[0])) + self.offsets[0]
        )

    @property
    def past(self) -> list[tuple[Inputs, Doing]]:
        """What drove the machine since the watch began, in as few stretches as it did different things."""
        found: list[tuple[list[Inputs], Doing]] = []
        for given, doing in self.history:
            if found and found[-1][1] == doing:
                found[-1][0].append(given)
            else:
                found.append(([given], doing))
        whole = [
            (Inputs(*(np.concatenate(parts) for parts in zip(*group, strict=True))), doing) for group, doing in found
        ]
        self.history = list(whole)
        return whole

    @property
    def level(self) -> float:
        """The bed's reading as the filter sees it now, without its noise (K)."""
        return self._level

    @property
    def gain(self) -> float:
        """Share by which the heaters give more than their rig says."""
        return float(self.mean[self.count + GAIN])

    @property
    def offsets(self) -> tuple[float, float]:
        """What no rig explains of the bed's and the air's temperature now (K)."""
        return float(self.mean[self.count + BED_OFF]), float(self.mean[self.count + AIR_OFF])

    def forget_the_past(self) -> None:
        """Keep nothing more for forecasts: there is nothing left to wait for."""
        self._remembers = 0.0
        self.history.clear()
        self.shown_bed.clear()

    def open_up(self) -> None:
        """Take what wanders as unknown again, after something has changed."""
        for state, (size, _) in WANDER.items():
            at = self.count + state
            self.covariance[at, at] += (_OPENED * size * self._scale(state)) ** 2
        for at, size in ((self.count + BED_OFF, 3.0), (self.count + AIR_OFF, 3.0)):
            self.covariance[at, at] += size**2

    def snapshot(self) -> Snapshot:
        """The machine as the filter sees it now, to march another way."""
        weights = self.learned / TRIED
        base = self.members[0]
        mixed = base.copy()
        for w, plant in zip(weights, self.members[1:], strict=True):
            mixed.cells += w * (plant.cells - base.cells)
            mixed.state += w * (plant.state - base.state)
        places = tuple((p.cells.copy(), p.state.copy()) for p in self.members)
        return Snapshot(self.now, mixed, self.mean.copy(), self.covariance.copy(), places)

    def go_back(self, start: Snapshot, stretches: Sequence[Stretch], condition: Condition) -> None:
        """Take what followed a snapshot anew, under another condition that lasts from then on."""
        self.mean, self.covariance = start.mean.copy(), start.covariance.copy()
        for plant, (cells, state) in zip(self.members, start.places, strict=True):
            plant.cells[:], plant.state[:] = cells, state
        self.condition = condition
        for s in stretches:
            runs = advanced(self.members, s.given, s.doing, condition)
            base, slopes = levels_of(self.members, runs, s.doing, s.nozzle)
            again = s._replace(base=base, slopes=slopes, heat=runs[0].power[1:], air_heat=runs[0].chamber_power[1:])
            self.filtered(again, self.mean, self.covariance)
