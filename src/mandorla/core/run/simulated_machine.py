"""The simulated machine that ships: the thermal model with a rig drawn about the project's, noise, a mains voltage and a room that
wander, and disturbances on demand. It does a whole print by itself: heat, soak, first layers, rest, cool down.

It stands in for a machine that Mandorla has never met. How much its mains, room and sensors wander are estimates, unchecked.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Final, Literal, NamedTuple

import numpy as np

from mandorla.core.part.mesh import Floats
from mandorla.core.rig.consumers import Doing
from mandorla.core.run.disturbances import DISTURBANCES, SOUND, Condition
from mandorla.core.run.plant import Inputs, Plant, Watched, asked_duty, inputs_of, march, plant_of
from mandorla.core.run.trace_point import TracePoint
from mandorla.core.thermal.control import S_CHAMBER, S_CHAMBER_INTEGRAL, S_READING
from mandorla.core.thermal.fuses import closed_fuses
from mandorla.core.thermal.heatup import ready_since
from mandorla.core.thermal.network_run import NetworkRun, joined
from mandorla.core.thermal.parameter_samples import AT_NINETY, rig_unknowns, typical_sample
from mandorla.core.units import OFF

Phase = Literal["heat", "soak", "nozzle", "first", "rest", "cool", "off"]
_STEP: Final = 1.0  # s of the march
_PIECE: Final = 10  # steps after which program, voltage and room are looked at
_ROOM: Final = 4.0 / AT_NINETY  # K, standard deviation of the room from what is planned
_VOLTAGE: Final = (0.01, 600.0)  # share by which the mains wander, and in which time (s)
_WANDER: Final = (0.5, 7200.0)  # K by which the room wanders, and in which time (s)
_NOISE: Final = 0.04  # K of the bed's and the chamber's reading
_DIGIT: Final = 0.01  # K, last digit of the protocol
_METER: Final = (0.004, 0.6)  # share and W by which the plug meter scatters
_LONGEST_HEAT: Final = 4 * 3600.0
_NEAR: Final = (1.0, 2.0)  # K of bed and chamber from which a soak begins
_HOT: Final = 5.0  # K under its target from which a nozzle is used
_NOZZLE: Final = 60.0  # s, time constant of a nozzle that heats


class Break(NamedTuple):
    """A disturbance by its key, when (s) it begins and its size; ``until`` s at which it ends (infinite: it stays)."""

    key: str
    begins: float
    size: float
    until: float = math.inf


class SimulatedMachine:
    """A machine that prints what is watched; ``advance`` it and read it.

    Parameters
    ----------
    watched
        The project's machine, settings and print.
    seed
        Of everything that is drawn: the rig, the room, noise.
    breaks
        What goes wrong, and when.
    every
        Seconds between readings.
    sound
        Take the project's rig as it is, without drawing one.
    hold
        Stay at the first layers' targets instead of printing, as it does where there is nothing to print.
    """

    def __init__(
        self,
        watched: Watched,
        seed: int,
        breaks: Sequence[Break] = (),
        *,
        every: float = 2.0,
        sound: bool = False,
        hold: bool = False,
    ) -> None:
        self.watched, self.breaks, self.every = watched, tuple(breaks), every
        self._hold = hold or watched.duration <= 0.0
        self._rng = np.random.default_rng(seed)
        draw = typical_sample(watched.rig)
        shift = 0.0
        if not sound:
            for unknown in rig_unknowns(watched.rig):
                unknown.apply(draw, float(np.clip(self._rng.normal(0.0, 1.0 / AT_NINETY), -1.8, 1.8)))
            shift = float(np.clip(self._rng.normal(0.0, _ROOM), -8.0, 8.0))
        self.plant: Plant = plant_of(watched, draw, shift)
        self._fuses = closed_fuses(watched.rig.bed, self.plant.stack)
        self.now, self.phase, self._since = 0.0, "heat", 0.0
        self.bed_set, self.chamber_set = watched.settings.bed_first, watched.settings.chamber
        self.nozzle, self.nozzle_set = self.plant.rig.room_temperature, OFF
        self._voltage, self._warmer = 0.0, 0.0
        self._frozen = math.nan
        self.phases: list[tuple[float, str]] = [(0.0, "heat")]
        self.dark = False

    def add(self, broken: Break) -> None:
        """Let something go wrong."""
        self.breaks = (*self.breaks, broken)

    def command(self, what: str, target: float) -> None:
        """Set ``bed``, ``chamber`` or ``nozzle`` to a target (K)."""
        if what == "bed":
            self.bed_set = target
        elif what == "chamber":
            self.chamber_set = target
        else:
            self.nozzle_set = target

    def _condition(self) -> Condition:
        found = SOUND
        for b in self.breaks:
            if not b.begins <= self.now < b.until:
                continue
            own = DISTURBANCES[b.key].condition(b.size)
            changed = {n: v for n, v in own._asdict().items() if v != getattr(SOUND, n)}
            if "drift" in changed:
                changed["shift"] = b.size * (self.now - b.begins)
            found = found._replace(**changed)
        return found

    def _enter(self, phase: Phase) -> None:
        self.phase, self._since = phase, self.now
        self.phases.append((self.now, phase))
        s = self.watched.settings
        if phase == "soak":
            return
        if phase == "nozzle":
            self.nozzle_set = self.watched.nozzle
        elif phase == "first":
            return
        elif phase == "rest":
            self.bed_set = s.bed_rest
        else:
            self.bed_set, self.nozzle_set = OFF, OFF
            self.chamber_set = OFF

    def _program(self) -> None:
        """Go on in the print, by what the machine's own sensors read."""
        if self._hold:
            return
        w, spent = self.watched, self.now - self._since
        if self.phase == "heat":
            r, s = self.plant.regulator, w.settings
            bed = self.plant.state[S_READING] + r.bias
            near = bed > s.bed_first - _NEAR[0] or s.bed_first <= OFF
            if w.rig.heats_chamber:
                air = self.plant.state[S_CHAMBER] + r.chamber_bias
                near = near and air > s.chamber - _NEAR[1]
            if near or spent > _LONGEST_HEAT:
                self._enter("soak")
        elif self.phase == "soak" and spent >= max(w.settings.soak_time, 60.0):
            self._enter("nozzle")
        elif self.phase == "nozzle" and self.nozzle > self.nozzle_set - _HOT:
            self._enter("first")
        elif self.phase == "first" and spent >= w.first:
            self._enter("rest")
        elif self.phase == "rest" and self.now - self._begun("first") >= w.duration:
            self._enter("cool")

    def _begun(self, phase: str) -> float:
        return next(t for t, p in self.phases if p == phase)

    @property
    def printing(self) -> bool:
        """Whether it lays plastic."""
        return self.phase in ("first", "rest")

    def advance(self, span: float) -> list[TracePoint]:
        """Let ``span`` s pass and return what was read meanwhile."""
        found: list[TracePoint] = []
        for _ in range(max(1, math.ceil(span / (_STEP * _PIECE) - 1e-6))):
            found += self._piece()
        return found

    def ready_time(self, longest: float = 3 * 3600.0) -> float:
        """When (s) this machine is truly ready, its true surface known; it is advanced by ``longest`` s. NaN where it never is."""
        w = self.watched
        runs: list[NetworkRun] = []
        times: list[Floats] = [np.zeros(1)]
        while self.now < longest:
            self._piece()
            runs.append(self._run)
            times.append(np.asarray(self.now - _STEP * (_PIECE - 1.0 - np.arange(_PIECE)), dtype=np.float64))
        time, run = np.concatenate(times), joined(runs)
        surface, _ = w.heat.spread.moved(self.plant.stack, time, run)
        on_off = w.rig.bed.control.kind == "on-off"
        return ready_since(time, run.reading, surface, self.bed_set, w.criteria, on_off=on_off)

    def _wander(self, value: float, size: float, constant: float) -> float:
        keep = math.exp(-_STEP * _PIECE / constant)
        return value * keep + float(self._rng.normal(0.0, size * math.sqrt(1.0 - keep * keep)))

    def _piece(self) -> list[TracePoint]:
        self._program()
        condition = self._condition()
        if condition.dark and not self.dark:
            self._enter("off")  # a controller that restarts heats nothing by itself
        self.dark = condition.dark
        self._voltage = self._wander(self._voltage, *_VOLTAGE)
        self._warmer = self._wander(self._warmer, *_WANDER)
        doing = Doing.PRINT if self.printing else Doing.COOL_DOWN if self.phase in ("cool", "off") else Doing.WARM_UP
        steps = np.full(_PIECE, _STEP)
        lowered = max(self.bed_set - condition.lowered, OFF) if self.bed_set > OFF else self.bed_set
        given = inputs_of(self.plant.rig, steps, self.now, np.full(_PIECE, lowered), np.full(_PIECE, self.chamber_set))
        given = given._replace(room=given.room + self._warmer)
        mains = (1.0 + self._voltage) ** 2
        before = self.plant.regulator
        self.plant.regulator = before._replace(
            power_max=before.power_max * mains,
            chamber_max=before.chamber_max * mains if self.chamber_set > OFF else 0.0,
        )
        run = self._run = march(self.plant, given, doing, condition, self._fuses)
        self.plant.regulator = before
        found = self._read(run, given, condition, doing, lowered)
        self.now += _STEP * _PIECE
        return found

    def _read(
        self, run: NetworkRun, given: Inputs, condition: Condition, doing: Doing, bed_set: float
    ) -> list[TracePoint]:
        rig, rng = self.plant.rig, self._rng
        times = self.now + np.cumsum(given.dt)
        regulator = self.plant.regulator
        duty = asked_duty(run, given.bed, regulator._replace(bias=regulator.bias + condition.shift))
        bed = run.reading[1:] + condition.drift * np.cumsum(given.dt)
        bed = bed + rng.normal(0.0, _NOISE, bed.size)
        if condition.frozen:
            if not math.isfinite(self._frozen):
                self._frozen = float(bed[0])
            bed = np.full(bed.size, self._frozen)
        chamber = run.chamber_reading[1:] + rng.normal(0.0, _NOISE, bed.size)
        before = run.states[:-1]
        wrong = self.chamber_set - (before[:, S_CHAMBER] + self.plant.regulator.chamber_bias)
        asked = np.clip(wrong / regulator.chamber_band + before[:, S_CHAMBER_INTEGRAL], 0.0, 1.0)
        power = self.plant.plugs[doing].power(run.power[1:], run.chamber_power[1:], np.full(bed.size, self.nozzle))
        power = power * (1.0 + rng.normal(0.0, _METER[0], power.size)) + rng.normal(0.0, _METER[1], power.size)
        found = []
        for k, t in enumerate(times):
            self.nozzle += (max(self.nozzle_set, rig.room_temperature) - self.nozzle) * given.dt[k] / _NOZZLE
            if condition.dark or t % self.every > 1e-6:
                continue
            enclosed = rig.chamber.enclosed
            found.append(TracePoint(
                float(t), _rounded(bed[k]), bed_set, float(duty[k]) if bed_set > OFF else 0.0,
                _rounded(chamber[k]) if enclosed else math.nan,
                self.chamber_set if rig.heats_chamber else math.nan,
                (float(asked[k]) if self.chamber_set > OFF else 0.0) if rig.heats_chamber else math.nan,
                round(self.nozzle, 1), self.nozzle_set, float(max(power[k], 0.0)),
            ))  # fmt: skip
        return found


def _rounded(value: float) -> float:
    return round(float(value) / _DIGIT) * _DIGIT


def drawn_break(key: str, begins: float, rng: np.random.Generator) -> Break:
    """A disturbance of a random size within the range of its kind."""
    d = DISTURBANCES[key]
    size = float(rng.uniform(*d.drawn))
    if d.key in ("sensor-jump", "sensor-drift") and rng.random() < 0.5:
        size = -size
    if d.key == "heater-broken" and rng.random() < 0.5:
        size = 0.0
    until = begins + size if d.key == "power-cut" else math.inf
    return Break(key, begins, size, until)
