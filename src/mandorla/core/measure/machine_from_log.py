"""A machine begun from one heat-up log: heater, plate and losses as the log has them, each with its band.

The machine that was described is marched as every session is. Heater, plate and convection are moved in logarithms until the march
goes through the log (least squares); what a person stated is held by a narrow prior, what was only assumed by a wide one. Every
other unknown of the rig stays where it is, and what the figures would be at both its ends widens their bands; so does what was only
assumed of the machine (:func:`assumed_otherwise`): how thick the other layers are, what they store, where the sensor sits. A
machine of its kind may be built in other ways (:data:`BUILDS`): the likeliest by log and habit is taken, and said where it is not
the usual one; what the others would say widens the bands by how likely they are.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Final, NamedTuple

import numpy as np
from scipy.optimize import least_squares

from mandorla.core.errors import InputError
from mandorla.core.materials.library_data import bed_materials
from mandorla.core.measure.logs import LogData, read_log
from mandorla.core.measure.models import LogMapping, Measurements, Session, StoredLog
from mandorla.core.measure.observe import sharing
from mandorla.core.measure.session_case import SessionCase, session_case_of
from mandorla.core.rig.archetypes import Facts, machine_of
from mandorla.core.rig.bed import Bed, BedLayer, Control
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.parameter_samples import (
    AT_NINETY,
    CONVECTION,
    CONVECTION_UNKNOWN,
    POWER,
    POWER_UNKNOWN,
    ParameterSample,
    rig_unknowns,
    typical_sample,
)
from mandorla.core.thermal.stack import Floats

HEATS: Final = 5.0  # K, the least that a log must rise by to say anything
LITTLE: Final = 0.8  # of the spread before, above which a log says little
_BEGINS: Final = 1.0  # K above the start, from which heating has begun
_CALM: Final = 1.5  # K within which the end of a log counts as held
_STATED: Final = {"heater": POWER_UNKNOWN / AT_NINETY, "plate": 0.02, "losses": CONVECTION_UNKNOWN / AT_NINETY}
_ASSUMED: Final = {
    "heater": 0.45,
    "plate": 0.6,
    "losses": 0.35,
}  # ln, standard: machines of one kind and size; an estimate
# ln, either way, beyond which a machine is not as described; the start in its standard deviations
_FAR: Final = {"plate": 1.9, "rate": 1.8, "losses": 0.8, "start": 4.0}
_ROOM: Final = (251.0, 333.0)  # K, in which a heat-up begins
_BED: Final = (251.0, 649.0)  # K
_START: Final = 8.0  # s, standard, within which it is seen in a log when heating began
# 90 % ends of what is only assumed of a machine: times the thickness of a layer, of an insulation, the sensor's lag; 1/K of a mat
_LAYER_AS_THICK, _INSULATION_AS_THICK, _LAG_AS_LONG, _RESISTANCE = 1.4, 2.0, 2.0, 4e-4
_HARDLY, _SWINGS, _LEAVES = 0.8, 1.4, 12.0  # K: swings of a steady regulator, of a thermostat; of what does not hold
_DRIFTS: Final = 2.0  # K over the end of a log, above which it is still on its way
_CLEARLY: Final = 3.0  # ln of the odds, by which another build has to be the likelier one
_TURNS: Final = (25, 8)  # of the first search, of those that begin where it ended
_LOOKS_BACK: Final = 150.0  # s, at a log's end
_STEP: Final = 0.08  # ln, either way, for slopes
_WIDE: Final = 0.25  # ln, where a thermostat switches and every curve has its scatter


@dataclass(frozen=True, slots=True)
class LogSays:
    """One figure as the log has it: what it was assumed to be, what it is, both ends of its 90 % band (SI), whether the log says
    more of it than was known."""

    key: str
    name: str
    kind: str
    before: float
    value: float
    low: float
    high: float
    learned: bool


class Built(NamedTuple):
    """A way in which a machine is built otherwise than is usual for its kind, as its log has it: the path in the project, words."""

    path: str
    words: str


@dataclass(frozen=True, slots=True)
class LogBeginning:
    """A machine begun from a log: its rig, the log as a session, the file; what the log says; in which ways it is built otherwise
    than was assumed, in words; the misfit (K, root mean square) that is left and what is odd."""

    rig: Rig
    session: Session
    file: str
    data: bytes
    says: tuple[LogSays, ...]
    built: tuple[Built, ...]
    misfit: float
    oddities: tuple[str, ...]

    @property
    def told(self) -> frozenset[str]:
        """Paths of what is not assumed any more, for the log has told it."""
        return frozenset({"rig.bed.heater.power", *(b.path for b in self.built)})


def heating_began(log: LogData) -> float:
    """When heating began (s on the log's clock): the last moment before the warmest channel left its beginning.

    Raises :class:`InputError` where nothing in the log gets warmer.
    """
    best: tuple[float, float] | None = None
    for channel, values in zip(log.channels, log.values, strict=True):
        good = np.isfinite(values)
        if channel.what != "temperature" or channel.place in ("room", "frame") or good.sum() < 5:
            continue
        time, v = log.time[good], values[good]
        first = float(np.median(v[: max(3, v.size // 200)]))
        above = v > first + _BEGINS
        if not above.any():
            continue
        hold = np.flatnonzero(v <= first + _BEGINS)
        before = hold[hold < int(np.argmax(v))]
        at = int(before[-1]) if before.size else 0
        # back along the slope from where it is a kelvin up to where it left
        rise = float(v.max()) - first
        if best is None or rise > best[0]:
            ahead = min(at + 1, v.size - 1)
            slope = (v[ahead] - first) / max(time[ahead] - time[0], 1e-9)
            early = time[ahead] - (v[ahead] - first) / slope if at == 0 and slope > 0.0 else time[at]
            best = (rise, float(early))
    if best is None or best[0] < HEATS:
        raise InputError("Nothing in this log gets warmer by 5 K or more: it is not the log of a heat-up.")
    return best[1]


def _held(log: LogData, places: tuple[str, ...]) -> float:
    """What the channels of these places hold at their end (K); NaN where they still change, or where there is none."""
    for place in places:
        for _, values in log.of(place):
            v = values[np.isfinite(values)]
            tail = v[-max(5, v.size // 10) :]
            if v.size >= 20 and float(np.ptp(tail)) <= 2.0 * _CALM:
                return float(np.median(tail))
    return math.nan


def session_of(facts: Facts, name: str, data: bytes, mapping: LogMapping, day: str) -> tuple[Session, tuple[str, ...]]:
    """The log as a session on the machine of these facts, and what was odd about it. Raises :class:`InputError`."""
    raw = read_log(data, name, mapping)
    began = heating_began(raw)
    mapping = mapping.model_copy(update={"start": mapping.start + began})
    log = read_log(data, name, mapping)
    first = [
        float(np.nanmedian(v[:5])) for c, v in zip(log.channels, log.values, strict=True) if c.what == "temperature"
    ]
    room = next((float(np.nanmedian(v)) for _, v in log.of("room")), min(first))
    held = _held(log, ("sensor", "surface"))
    bed = held if math.isfinite(held) and held > room + HEATS else facts.bed_max
    for what, value, (low, high) in (("begins", room, _ROOM), ("holds", bed, _BED)):
        if not low <= value <= high:
            raise InputError(
                f"This log {what} at {value - 273.15:.0f} °C: it is not of a bed that was warmed from the room, or its unit is "
                "another one."
            )
    air = _held(log, ("upper air",))
    heats = facts.kind != "open" and facts.chamber_heater > 0.0 and math.isfinite(air) and air > room + HEATS
    session = Session(
        key="session-1", name=name[:60], date=day, bed=bed, room=room, chamber=air if heats else room,
        logs=(StoredLog(name=name[:80], file=name[-100:], mapping=mapping),),
    )  # fmt: skip
    return session, log.oddities


class _Search:
    """Misfit of the machine to the log at coordinates (4,): the logarithms, over what was described, of the plate's thickness, of
    heater to heat capacity (which sets how fast it heats: the log knows it far better than either) and of losses; and how much
    later (in ``_START``) heating began than it seems."""

    def __init__(
        self, facts: Facts, session: Session, files: dict[str, bytes], run: RunContext, base: Rig | None = None
    ) -> None:
        self.facts, self.session, self.files, self.run = facts, session, files, run
        self.count = 0
        self.base = machine_of(facts) if base is None else base
        case = self.case(np.zeros(4))
        self.groups = sharing(case.observations)

    def plate(self, x: Floats) -> float:
        """Thickness (m) of the plate there."""
        return self.facts.plate * math.exp(x[0])

    def _layers(self, x: Floats) -> tuple[BedLayer, ...]:
        return tuple(
            layer.model_copy(update={"thickness": self.plate(x)}) if layer.name == "Plate" else layer
            for layer in self.base.bed.layers
        )

    def heater(self, x: Floats) -> float:
        """Power (W) of the heater there."""
        bed = self.base.bed
        grown = _capacity(bed.model_copy(update={"layers": self._layers(x)})) / _capacity(bed)
        return bed.heater.power * grown * math.exp(x[1])

    def known(self, x: Floats) -> Floats:
        """Logarithms (3,) of heater, plate and losses there over what was described, and the start: what priors are of."""
        return np.array([math.log(self.heater(x) / self.base.bed.heater.power), x[0], x[2], x[3]])

    def rig(self, x: Floats) -> Rig:
        """The machine there: described anew for what its supply carries, but with its parts where they are."""
        changed = self.facts.model_copy(update={"heater": self.heater(x), "room": self.session.room})
        rig = machine_of(changed)
        bed = self.base.bed
        heater = bed.heater.model_copy(update={"power": changed.heater})
        rig = rig.model_copy(update={"bed": bed.model_copy(update={"heater": heater, "layers": self._layers(x)})})
        corrections = rig.corrections.model_copy(update={"convection": math.exp(x[2])})
        return rig.model_copy(update={"corrections": corrections})

    def case(self, x: Floats, otherwise: Callable[[Rig], Rig] | None = None) -> SessionCase:
        """The session on the machine there."""
        self.count += 1
        self.run.checkpoint(min(0.95, self.count / 200.0), "reading the log")
        rig = self.rig(x) if otherwise is None else otherwise(self.rig(x))
        return session_case_of(rig, Settings(), Criteria(), self.session, Measurements(), self.files)

    def misfits(
        self,
        x: Floats,
        change: Callable[[ParameterSample], None] | None = None,
        otherwise: Callable[[Rig], Rig] | None = None,
    ) -> Floats:
        """Residuals of all series over their noise, what an instrument's common error explains taken out."""
        case = self.case(x, otherwise)
        draw = typical_sample(case.rig)
        if change is not None:
            change(draw)
        rows = [
            (o.value - np.interp(o.time - _START * x[3], o.time, m)) / o.noise
            for o, m in zip(case.observations, case.predict(draw), strict=True)
        ]
        for group in self.groups:
            r = np.concatenate([rows[k] for k in group])
            c = np.concatenate(
                [np.full(rows[k].size, case.observations[k].common / case.observations[k].noise) for k in group]
            )
            offset = float(c @ r) / (1.0 + float(c @ c))
            for k in group:
                rows[k] = rows[k] - offset * case.observations[k].common / case.observations[k].noise
        return np.concatenate(rows)

    def slopes(self, of: Callable[[Floats], Floats], x: Floats) -> Floats:
        """Slopes (rows, 4) of something there, by differences either way."""
        step = _WIDE if self.base.bed.control.kind == "on-off" else _STEP
        found = []
        for i, h in enumerate((2.0 * step, step, step, 0.5)):
            way = h * np.eye(4)[i]
            found.append((of(x + way) - of(x - way)) / (2.0 * h))
        return np.stack(found, axis=-1)


def bare(rig: Rig) -> Rig:
    """The machine without what insulates its underside."""
    bed = rig.bed
    if bed.layers[-1].key == bed.heater.layer:
        return rig
    return rig.model_copy(update={"bed": bed.model_copy(update={"layers": bed.layers[:-1]})})


def as_regulated(rig: Rig, log: LogData) -> Rig:
    """The machine regulated as its log looks at the end: steadily where the sensor hardly swings, by a thermostat where it does."""
    swing = _swing(log)
    kind = rig.bed.control.kind
    if swing < _HARDLY:
        kind = "steady"
    elif swing > _SWINGS:
        kind = "on-off"
    if kind == rig.bed.control.kind:
        return rig
    control = Control(kind=kind, hysteresis=min(max(0.5 * swing, 0.5), 5.0)) if kind == "on-off" else Control(kind=kind)
    return rig.model_copy(update={"bed": rig.bed.model_copy(update={"control": control})})


def _swing(log: LogData) -> float:
    """How far (K) the sensor swings at the end of a log that holds, with its scatter; NaN where it does not hold or is none."""
    for _, values in log.of("sensor"):
        good = np.isfinite(values)
        time, v = log.time[good], values[good]
        last = time > time[-1] - _LOOKS_BACK
        if v.size < 20 or last.sum() < 12 or time[-1] < 2.0 * _LOOKS_BACK:
            return math.nan
        line = np.polyfit(time[last], v[last], 1)
        if abs(float(line[0])) * _LOOKS_BACK > _DRIFTS or float(np.ptp(v[last])) > _LEAVES:
            return math.nan
        tail = v[last] - np.polyval(line, time[last])
        low, high = np.quantile(tail, (0.02, 0.98))
        return float(high - low)
    return math.nan


def sensor_elsewhere(rig: Rig) -> Rig:
    """The machine with its sensor in the heater instead of the plate, or the other way round: as likely as where it is assumed."""
    bed = rig.bed
    plate = next(item.key for item in bed.layers if item.name == "Plate")
    sensor = bed.sensor.model_copy(update={"layer": bed.heater.layer if bed.sensor.layer == plate else plate})
    return rig.model_copy(update={"bed": bed.model_copy(update={"sensor": sensor})})


def _built(rig: Rig, what: Callable[[Rig], Rig]) -> Built:
    """What is otherwise about a machine that was built so."""
    if what is bare:
        return Built("rig.bed.layers", "nothing insulates the underside of the bed")
    layer = next(item.name for item in rig.bed.layers if item.key == rig.bed.sensor.layer)
    return Built("rig.bed.sensor", f"the sensor sits in the {layer.lower()}")


# ways of building, and how much less usual they are (ln of the odds); estimates
BUILDS: Final[tuple[tuple[Callable[[Rig], Rig], float], ...]] = ((bare, 1.1), (sensor_elsewhere, 0.4))


@dataclass(frozen=True, slots=True)
class _Solved:
    """Where a search ended: coordinates (4,), slopes of the residuals there; how unlikely the machine is (half the sum of their
    squares and how ``unusual`` its build is), what is otherwise about it."""

    search: _Search
    x: Floats
    jacobian: Floats
    unlikely: float
    unusual: float
    built: tuple[Built, ...]

    @property
    def stuck(self) -> list[str]:
        """What would have to be further off than a machine can be."""
        return [label for label, v, end in zip(LABELS, self.x, _FAR.values(), strict=True) if abs(v) > 0.98 * end]


def _solved(
    search: _Search, prior: Floats, start: Floats, built: tuple[Built, ...], unusual: float, turns: int
) -> _Solved:
    """The machine nearest to the log and to what was known before, in at most ``turns`` turns."""

    def residuals(x: Floats) -> Floats:
        return np.concatenate([search.misfits(x), search.known(x) / prior])

    def slopes(x: Floats) -> Floats:
        return search.slopes(residuals, x)

    ends = np.array([*_FAR.values()])
    found = least_squares(
        residuals, np.clip(start, -0.9 * ends, 0.9 * ends), jac=slopes, bounds=(-ends, ends),
        x_scale=np.minimum(prior, 0.3), max_nfev=turns, xtol=1e-3, ftol=1e-3,
    )  # fmt: skip
    return _Solved(search, np.asarray(found.x), np.asarray(found.jac), float(found.cost) + unusual, unusual, built)


def _likeliest(search: _Search, prior: Floats, log: LogData) -> tuple[_Solved, ...]:
    """The machines that its kind may be: first the most usual one of those that are about as likely as the likeliest, then the
    others, likeliest first; those that nothing but an impossible figure brings to the log last."""
    regulated = as_regulated(search.base, log)
    built: tuple[Built, ...] = ()
    if regulated is not search.base:
        steady = regulated.bed.control.kind == "steady"
        built = (Built("rig.bed.control", f"the bed is {'regulated steadily' if steady else 'switched on and off'}"),)
    ways = [(regulated, built, 0.0)]
    for change, unusual in BUILDS:
        ways += [
            (change(rig), (*words, _built(change(rig), change)), before + unusual)
            for rig, words, before in ways
            if change(rig) != rig
        ]
    found: list[_Solved] = []
    for rig, words, unusual in ways:
        own = _Search(search.facts, search.session, search.files, search.run, rig)
        start, turns = (found[0].x, _TURNS[1]) if found else (np.zeros(4), _TURNS[0])
        found.append(_solved(own, prior, start, words, unusual, turns))
    found.sort(key=lambda f: (bool(f.stuck), f.unlikely))
    # what is nearly as likely as the likeliest is no reason to call a machine unusual
    near = [f for f in found if not f.stuck and f.unlikely < found[0].unlikely + _CLEARLY]
    taken = min(near, key=lambda f: f.unusual, default=found[0])
    return taken, *(f for f in found if f is not taken)


def machine_from_log(
    facts: Facts,
    stated: frozenset[str],
    name: str,
    data: bytes,
    mapping: LogMapping,
    day: str,
    run: RunContext | None = None,
) -> LogBeginning:
    """Begin a machine from a heat-up log.

    Parameters
    ----------
    facts
        What is known of the machine.
    stated
        Which of ``heater`` and ``plate`` a person stated; the others are only assumed by kind and size.
    name, data, mapping
        The log's file, its bytes, and how it is read.
    day
        Of the log, ISO 8601.

    Returns
    -------
    LogBeginning
        The machine, and what the log says of heater, plate, losses, heat capacity and what it takes to hold the set point.

    Raises
    ------
    InputError
        A log that cannot be read or is not that of a heat-up; one that no machine of this kind has.
    """
    run = run or RunContext()
    session, odd = session_of(facts, name, data, mapping, day)
    file = session.logs[0].file
    search = _Search(facts, session, {file: data}, run)
    keys = tuple(_ASSUMED)
    prior = np.array([*((_STATED if k in stated else _ASSUMED)[k] for k in keys), 1.0])
    found, *others = _likeliest(search, prior, read_log(data, name, session.logs[0].mapping))
    if found.stuck:
        raise InputError(
            f"No machine as described heats like this log: {', '.join(found.stuck)} would have to be far off. Check bed, plate "
            "and what the log's columns measured."
        )
    search, x = found.search, found.x
    covariance = _covariance(search, x, found.jacobian)
    case = search.case(x)
    warm = [k for k, o in enumerate(case.observations) if o.role != "power"]
    predicted = case.predict(typical_sample(case.rig))
    seen = [(case.observations[k], predicted[k]) for k in warm]
    off = np.concatenate([o.value - np.interp(o.time - _START * x[3], o.time, m) for o, m in seen] or [np.zeros(1)])
    said = _says(found, others, covariance, prior)
    kept = search.rig(x).model_copy(update={"room_temperature": facts.room})
    return LogBeginning(kept, session, file, data, said, found.built, float(np.sqrt(np.mean(off**2))), odd)


NAMES: Final = {
    "heater": "Bed heater", "plate": "Plate", "losses": "Losses by convection", "capacity": "Heat capacity of the bed",
    "holding": "Holds the set point with",
}  # fmt: skip
LABELS: Final = (
    "the plate's thickness",
    "the heater's power for that mass",
    "losses by convection",
    "when heating began",
)


def assumed_otherwise(rig: Rig) -> tuple[Callable[[Rig], Rig], ...]:
    """What else a described machine may be, each at the end of its 90 % range: the layers that nobody stated thicker, every layer
    storing what the library's range allows, the sensor slower, a mat whose resistance rises."""

    def layer(n: int, **changes: object) -> Callable[[Rig], Rig]:
        def change(r: Rig) -> Rig:
            layers = (*r.bed.layers[:n], r.bed.layers[n].model_copy(update=changes), *r.bed.layers[n + 1 :])
            return r.model_copy(update={"bed": r.bed.model_copy(update={"layers": layers})})

        return change

    def of_bed(what: str, **changes: object) -> Callable[[Rig], Rig]:
        return lambda r: r.model_copy(
            update={"bed": r.bed.model_copy(update={what: getattr(r.bed, what).model_copy(update=changes)})}
        )

    found = []
    layers = rig.bed.layers
    for n, item in enumerate(layers):
        if item.name != "Plate":
            insulates = n == len(layers) - 1 and item.key != rig.bed.heater.layer
            times = _INSULATION_AS_THICK if insulates else _LAYER_AS_THICK
            found.append(layer(n, thickness=times * item.thickness))
        known, library = item.properties(), bed_materials()[item.material]
        stores = known.specific_heat * (library.specific_heat.high / library.specific_heat.typical)
        found.append(layer(n, own=known.model_copy(update={"specific_heat": stores})))
    found.append(of_bed("sensor", time_constant=_LAG_AS_LONG * rig.bed.sensor.time_constant))
    found.append(of_bed("heater", resistance_coefficient=_RESISTANCE))
    return tuple(found)


def _covariance(search: _Search, x: Floats, jacobian: Floats) -> Floats:
    """Covariance (4, 4): from the slopes with the priors in them, from every other unknown of the rig at its ends, and from what
    was only assumed of it."""
    information = jacobian.T @ jacobian
    covariance = np.linalg.inv(information)
    rows = jacobian.shape[0] - 4
    base, gain = search.misfits(x), covariance @ jacobian[:rows].T
    rig = search.rig(x)
    moved = [
        search.misfits(x, lambda draw, u=unknown: u.apply(draw, 1.0))  # type: ignore[misc]
        for unknown in rig_unknowns(rig)
        if unknown.name not in (POWER, CONVECTION)
    ]
    moved += [search.misfits(x, otherwise=change) for change in assumed_otherwise(rig)]
    for other in moved:
        shift = gain @ (other - base) / AT_NINETY
        covariance = covariance + np.outer(shift, shift)
    return np.asarray(covariance)


def _holding(search: _Search, x: Floats) -> float:
    """What it takes to hold the session's set point (W) on the machine there."""
    return float(search.case(x).heat.steady.power)


def _capacity(bed: Bed) -> float:
    """Heat capacity (J/K) of all layers of a bed."""
    return (
        bed.width
        * bed.depth
        * sum(layer.thickness * layer.properties().density * layer.properties().specific_heat for layer in bed.layers)
    )


def _logarithm(of: Callable[[Floats], float]) -> Callable[[Floats], Floats]:
    """The logarithm of a figure of a machine, as an array without a shape."""
    return lambda at: np.asarray(math.log(max(of(at), 1e-9)))


def _says(best: _Solved, others: Sequence[_Solved], covariance: Floats, prior: Floats) -> tuple[LogSays, ...]:
    """Every figure with its band, what other builds would say in it, and whether it is known better than before."""
    search, x = best.search, best.x
    odds = [math.exp(best.unlikely - o.unlikely) for o in others if not o.stuck]
    share = [q / (1.0 + sum(odds)) for q in odds]
    start = np.zeros(4)
    information_before = search.slopes(search.known, start) / prior[:, None]
    before = np.linalg.inv(information_before.T @ information_before)
    found = []
    figures: tuple[tuple[str, str, Callable[[_Search, Floats], float]], ...] = (
        ("heater", "power", lambda s, at: s.rig(at).bed.heater.power),
        ("plate", "length", lambda s, at: s.plate(at)),
        ("losses", "ratio", lambda s, at: s.rig(at).corrections.convection),
        ("capacity", "heat_capacity", lambda s, at: _capacity(s.rig(at).bed)),
        ("holding", "power", _holding),
    )
    for key, kind, figure in figures:
        of = partial(figure, search)
        now, then = ((search.slopes(_logarithm(of), at), c) for at, c in ((x, covariance), (start, before)))
        spread, spread_before = (float(np.sqrt(slope @ c @ slope)) for slope, c in (now, then))
        value = of(x)
        apart = [math.log(figure(o.search, o.x) / value) for o in others if not o.stuck]
        spread = math.sqrt(spread**2 + sum(q * d**2 for q, d in zip(share, apart, strict=True)))
        reach = math.exp(AT_NINETY * spread)
        found.append(
            LogSays(
                key, NAMES[key], kind, of(start), value, value / reach, value * reach, spread < LITTLE * spread_before
            )
        )
    return tuple(found)
