"""What happens when something breaks: the quick network run again with the fault's change, layer by layer, in order.

A fault starts while the soaked rig holds its set point, or in a cold rig that is switched on. It may change what the heater
does, what the sensor feels, a joint of the stack or the chamber. Thermal fuses open for good and take the bed's power; one that
opens in the warm-up already is a nuisance trip.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Final, Literal

import numpy as np

from mandorla.core.errors import InputError, Problem
from mandorla.core.materials.air import air_conductivity
from mandorla.core.rig.bed import Bed
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.rig.start import Start
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.correlations import h_radiation
from mandorla.core.thermal.fuses import Trip, closed_fuses, trips_of
from mandorla.core.thermal.heatup import HeatUp, course_of, heat_up, refuse_absurd, run_network, time_steps
from mandorla.core.thermal.network import Surroundings, surroundings
from mandorla.core.thermal.network_solver import Event
from mandorla.core.thermal.stack import Floats, build_stack
from mandorla.core.thermal.start import start_of

Begins = Literal["holding", "cold"]
GAPS: Final = (0.01, 0.02, 0.04)  # m²K/W without radiation: a quarter, half a millimetre and a millimetre of still air
WARM_PLATE: Final = 350.0  # K of the plate over a loose mat, for the radiation between both
LOOSE_SENSOR: Final = 0.3  # share of its place that a sensor hanging by its wires still feels
_STEP: Final = 1.0


@dataclass(slots=True)
class Broken:
    """What a fault changes; None or the neutral value where it changes nothing. ``beds`` are the beds it may leave, by name."""

    duty: float = -1.0
    dark: bool = False
    seen: float = 1.0
    door: bool = False
    beds: tuple[tuple[str, Bed], ...] = ()
    change: Callable[[Surroundings], Surroundings] | None = None


@dataclass(frozen=True, slots=True)
class Fault:
    """One fault: stable key, name, what happens in words, what to do about it, and how it changes a rig (None: not on this one)."""

    key: str
    name: str
    what: str
    advice: str
    apply: Callable[[Rig], Broken | None]


FAULTS: Final[dict[str, Fault]] = {}


Change = Callable[[Rig], Broken | None]


def fault(key: str, name: str, what: str, advice: str) -> Callable[[Change], Change]:
    """Register a fault under its key."""

    def register(apply: Change) -> Change:
        FAULTS[key] = Fault(key, name, what, advice, apply)
        return apply

    return register


@fault("relay-on", "Relay stuck on", "the switch of the bed heater stays closed: full power, whatever the controller says",
       "only a thermal fuse or a second switch in series ends it")  # fmt: skip
def _relay_on(_: Rig) -> Broken:
    return Broken(duty=1.0)


@fault("sensor-loose", "Sensor loose", "the sensor hangs by its wires and feels mostly the air: the controller heats on",
       "clamp it mechanically; a controller that checks for a plausible rise stops")  # fmt: skip
def _sensor_loose(_: Rig) -> Broken:
    return Broken(seen=LOOSE_SENSOR)


@fault("sensor-open", "Sensor open, not checked", "a broken wire reads as very cold; a controller without a check heats on",
       "use a controller that stops on a reading out of range")  # fmt: skip
def _sensor_open(_: Rig) -> Broken:
    return Broken(duty=1.0)


@fault("sensor-short", "Sensor shorted", "a short reads as very hot: the heater stays off and the print cools",
       "the part comes loose; nothing overheats")  # fmt: skip
def _sensor_short(_: Rig) -> Broken:
    return Broken(duty=0.0)


@fault("mat-loose", "Heater mat coming off", "an air gap opens between the mat and what it heats",
       "a fuse on the plate does not see it: the mat needs its own")  # fmt: skip
def _mat_loose(rig: Rig) -> Broken | None:
    index = rig.bed.layer_index(rig.bed.heater.layer)
    if index == 0:
        return None
    above, mat = rig.bed.layers[index - 1], rig.bed.layers[index]
    # radiation across the gap at the temperature at which the mat passes its rating, the plate as it is then: still warm
    e1, e2 = above.properties().emissivity, mat.properties().emissivity
    radiated = h_radiation(mat.properties().rating, WARM_PLATE, 1.0 / (1.0 / e1 + 1.0 / e2 - 1.0))
    beds = []
    for gap in GAPS:
        layers = list(rig.bed.layers)
        layers[index - 1] = above.model_copy(update={"contact_resistance": 1.0 / (1.0 / gap + radiated)})
        name = f"a gap of {1e3 * gap * air_conductivity(WARM_PLATE):.1f} mm"
        beds.append((name, rig.bed.model_copy(update={"layers": tuple(layers)})))
    return Broken(beds=tuple(beds))


@fault("fan-dead", "Circulation fan dead", "the air in the chamber stands still",
       "a chamber heater needs its own cut-out in the air stream")  # fmt: skip
def _fan_dead(rig: Rig) -> Broken | None:
    if not rig.chamber.enclosed or rig.chamber.circulation + rig.chamber.circulation_flow <= 0.0:
        return None
    return Broken(change=lambda s: s._replace(air_speed=0.0, mixing_flow=0.0))


@fault("door-open", "Door open", "room air flows in below and warm air out above, all the time",
       "a door switch that pauses the print")  # fmt: skip
def _door_open(rig: Rig) -> Broken | None:
    if not rig.chamber.enclosed:
        return None
    return Broken(door=True)


@fault("power-cut", "Power cut", "everything electrical stops", "keep the chamber closed: it cools most slowly so")
def _power_cut(_: Rig) -> Broken:
    return Broken(dark=True, change=lambda s: s._replace(heat_lower=0.0, heat_upper=0.0, exhaust_flow=0.0))


@dataclass(frozen=True, slots=True)
class FaultEvent:
    """One event: ``time`` s after the fault, ``kind`` (``rating``, ``fuse``, ``shown``), the layer it is about, its limit (K)."""

    time: float
    kind: str
    layer: str
    limit: float


@dataclass(frozen=True, slots=True)
class FaultRun:
    """A rig after a fault: ``time`` (m,) s from it, ``layers`` (m, L) K of the hottest cell of each layer in the bed's middle,
    ``felt`` (m, L) K of the same in the bed's mean, which is where a fuse sits, ``ratings`` (L,) K, ``reading``, ``surface``,
    ``air`` (m,) K, ``power`` (m,) W, events in their order. All arrays read-only.

    A fault that is not one figure but a range is run over it: this is the worst, ``named`` after what it assumes, and ``milder``
    are the others. ``nuisance`` are fuses that open in the warm-up without any fault: the rig cannot be used with them.
    """

    fault: Fault
    start: Begins
    names: tuple[str, ...]
    ratings: Floats
    time: Floats
    layers: Floats
    felt: Floats
    reading: Floats
    surface: Floats
    air: Floats
    power: Floats
    events: tuple[FaultEvent, ...] = field(default=())
    named: str = ""
    milder: tuple[FaultRun, ...] = field(default=())
    nuisance: tuple[Trip, ...] = field(default=())

    @property
    def peak(self) -> Floats:
        """Highest temperature of each layer (L,) in K."""
        return np.asarray(self.layers.max(axis=0))

    @property
    def damaged(self) -> tuple[str, ...]:
        """Layers that passed their ratings, in the order in which they did."""
        return tuple(e.layer for e in self.events if e.kind == "rating")

    @property
    def first_damage(self) -> float:
        """When (s) the first layer passes its rating; infinite where none does."""
        return next((e.time for e in self.events if e.kind == "rating"), float("inf"))

    @property
    def first_fuse(self) -> FaultEvent | None:
        """The fuse that opened first, if one did."""
        return next((e for e in self.events if e.kind == "fuse"), None)


def run_fault(
    rig: Rig, settings: Settings, criteria: Criteria, key: str, start: Begins = "holding", duration: float = 3600.0,
    run: RunContext | None = None,
) -> FaultRun:  # fmt: skip
    """Run a fault for ``duration`` s. Raises :class:`InputError` for an unknown fault or one that this rig cannot have,
    :class:`Cancelled` when asked to stop."""
    run = run or RunContext()
    if key not in FAULTS:
        known = ", ".join(sorted(FAULTS))
        raise InputError(f"There is no fault “{key}”.", problems=(Problem("fault", f"“{key}”", f"one of {known}"),))
    chosen = FAULTS[key]
    broken = chosen.apply(rig)
    if broken is None:
        raise InputError(
            f"“{chosen.name}” cannot happen on “{rig.name}”.", problems=(Problem("fault", key, "a fault of this rig"),)
        )
    heat = heat_up(rig, settings, criteria, with_bands=False)
    runs = []
    for name, bed in broken.beds or (("", rig.bed),):
        run.checkpoint(0.0, chosen.name)
        runs.append(_run_one(rig, settings, heat, chosen, broken, start, duration, name, bed))
    # the worst first: whether it does damage, how soon, how hot it gets
    runs.sort(key=lambda r: (not r.damaged, r.first_damage, -float((r.peak - r.ratings).max())))
    return replace(runs[0], milder=tuple(runs[1:]), nuisance=heat.trips)


def _run_one(
    rig: Rig, settings: Settings, heat: HeatUp, chosen: Fault, broken: Broken, start: Begins, duration: float, name: str, bed: Bed
) -> FaultRun:  # fmt: skip
    sound = heat.stack
    around = surroundings(rig, sound.emissivity_top, sound.emissivity_bottom)
    cold = rig if start == "holding" else rig.model_copy(update={"start": Start()})
    T, state = start_of(cold, sound, around)
    event = closed_fuses(rig.bed, sound)
    if start == "holding":
        until = heat.ready_time if np.isfinite(heat.ready_time) else float(heat.time[-1])
        before = time_steps(max(until + settings.soak_time, 60.0))
        run_network(rig, course_of(rig, settings, before), sound, around, T, state, event)
        # a fuse that opened in the warm-up is told as such (FaultRun.nuisance): it stays open, and no clock of it counts here
        event.opened[event.opened >= 0.0] = 0.0
    opened_before = event.opened >= 0.0
    stack = replace(build_stack(bed), lateral=sound.lateral) if bed is not rig.bed else sound
    around = broken.change(around) if broken.change is not None else around
    event = event._replace(duty=np.full(1, broken.duty), dark=broken.dark, seen=broken.seen)
    steps = np.full(round(duration / _STEP), _STEP)
    given = course_of(rig, settings, steps)._replace(door=np.full(steps.size, 1.0 if broken.door else 0.0))
    run = run_network(rig, given, stack, around, T, state, event)
    event.opened[opened_before] = -1.0
    time = np.concatenate([[0.0], np.cumsum(steps)])
    names = tuple(layer.name for layer in rig.bed.layers)
    refuse_absurd(rig, np.array([run.cells[:, stack.layer == i].max() for i in range(len(names))]))
    surface, cells = heat.spread.moved(stack, time, run)
    layers, felt = (
        np.stack([each[:, stack.layer == i].max(axis=1) for i in range(len(names))], axis=1)
        for each in (cells, run.cells)
    )
    ratings = np.array([layer.properties().rating for layer in rig.bed.layers])
    result = FaultRun(
        chosen, start, names, ratings, time, layers, felt, run.reading, surface, run.air, run.power, named=name,
    )  # fmt: skip
    for array in (time, layers, felt, ratings, run.reading, run.air, run.power):
        array.setflags(write=False)
    return replace(result, events=_events(rig, result, event))


def _events(rig: Rig, run: FaultRun, event: Event) -> tuple[FaultEvent, ...]:
    """Everything that happens, in its order."""
    found = [FaultEvent(trip.time, "fuse", trip.layer, trip.rating) for trip in trips_of(rig.bed, event)]
    for i, name in enumerate(run.names):
        over = np.flatnonzero(run.layers[:, i] > run.ratings[i])
        if over.size:
            found.append(FaultEvent(float(run.time[over[0]]), "rating", name, float(run.ratings[i])))
    shown = np.flatnonzero(run.reading > rig.limits.bed_max)
    if shown.size:
        found.append(
            FaultEvent(float(run.time[shown[0]]), "shown", rig.bed.layer(rig.bed.sensor.layer).name, rig.limits.bed_max)
        )
    return tuple(sorted(found, key=lambda e: e.time))
