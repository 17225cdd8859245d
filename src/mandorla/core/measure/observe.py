"""Sessions as observations of the model: corrected series and places with what is random and what is common to all of a channel."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.materials.library_data import seen_surfaces
from mandorla.core.measure.calibration import correction_of
from mandorla.core.measure.combine import Combined, Witness, combine
from mandorla.core.measure.correct import Corrected, correct_reading, patch_emissivity, stem_share
from mandorla.core.measure.energy import bins_of
from mandorla.core.measure.image import SeenMap, see
from mandorla.core.measure.logs import LogData, read_log
from mandorla.core.measure.models import (
    CONTACT,
    INFRARED,
    Instrument,
    LogChannel,
    Measurements,
    Place,
    Reading,
    Session,
    StoredImage,
)
from mandorla.core.measure.open_lid import cooled_by
from mandorla.core.measure.uncertainty import rectangular
from mandorla.core.rig.bed import Bed
from mandorla.core.rig.consumers import bed_supply
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Settings
from mandorla.core.rig.start import Start
from mandorla.core.thermal.heatup import SWING
from mandorla.core.thermal.parameter_samples import AT_NINETY
from mandorla.core.thermal.stack import Floats
from mandorla.core.units import METRIC, UnitPreferences

POINTS: Final = 150  # of a series that are fitted
LOOKS: Final = 12  # independent looks that the model's own error leaves in a series
MODEL_ERROR: Final = 0.3  # K, standard, of the quick model itself (docs/theory.md)
POWER_ERROR: Final = 0.02  # of the largest power
NEAR: Final = 0.006  # m, within which two readings are of one place


@dataclass(frozen=True, slots=True)
class Observation:
    """A series (m,) of one place: times s, corrected values K or W, random and common standard uncertainty.

    ``role`` is the model's curve: reading, surface, air, lower air, frame, power. ``floor`` is a constant that the model does not
    have (a plug meter's base load, W); ``averaged`` values are means over intervals, as under a thermostat that switches;
    ``cold`` is what it showed when heating began, NaN where it was not read then. ``source`` names the instrument whose ``common``
    error it shares with every other observation of that instrument; empty where it shares it with none.
    """

    name: str
    role: str
    time: Floats
    value: Floats
    noise: float
    common: float
    x: float = 0.0
    y: float = 0.0
    floor: float = 0.0
    averaged: bool = False
    cold: float = math.nan
    source: str = ""


def sharing(observations: Sequence[Observation]) -> tuple[tuple[int, ...], ...]:
    """Indices of the observations that have a common error, those of one instrument together: ten readings of one thermometer are
    not ten thermometers."""
    groups: dict[str, list[int]] = {}
    for k, o in enumerate(observations):
        if o.common > 0.0:
            groups.setdefault(o.source or f" {k}", []).append(k)
    return tuple(tuple(g) for g in groups.values())


_ROLES: Final = {
    "surface": "surface", "sensor": "reading", "upper air": "air", "lower air": "lower air", "frame": "frame", "power": "power",
}  # fmt: skip


def session_rig(rig: Rig, session: Session) -> Rig:
    """The rig in the room of a session, which was what it was then."""
    room = rig.room.model_copy(update={"kind": "constant", "cooler": False})
    return rig.model_copy(update={"room_temperature": session.room, "room": room, "start": Start()})


def session_settings(settings: Settings, session: Session) -> Settings:
    """Settings as they were set then."""
    return settings.model_copy(
        update={"bed_first": session.bed, "bed_rest": session.bed, "chamber": session.chamber, "soak_time": 0.0}
    )


def logs_of(session: Session, originals: Mapping[str, bytes]) -> tuple[tuple[str, LogData], ...]:
    """All logs of a session, read. Raises :class:`InputError` naming one that cannot be."""
    found = []
    for stored in session.logs:
        if stored.file not in originals:
            raise InputError(f"The original “{stored.file}” of the log “{stored.name}” is not in the project file.")
        found.append((stored.name, read_log(originals[stored.file], stored.file, stored.mapping)))
    return tuple(found)


class CorrectedSeries(NamedTuple):
    """A log's channel corrected: ``values``, their ``common`` and ``random`` standard uncertainty in its unit."""

    values: Floats
    common: float
    random: float


class ThinnedSeries(NamedTuple):
    """Block means of a series, ``time`` (k,) s and ``value`` (k,), and the standard uncertainty of one, ``noise``."""

    time: Floats
    value: Floats
    noise: float


def corrected_series(
    channel: LogChannel, values: Floats, instrument: Instrument | None, day: str, ambient: Floats | float, bed: Bed
) -> CorrectedSeries:
    """A log's channel corrected. Without an instrument 1.5 K are assumed."""
    if instrument is None or channel.what != "temperature":
        return CorrectedSeries(values, 1.5 if channel.what == "temperature" else 0.0, 0.05)
    c = correction_of(instrument, day)
    found = values - (c.offset + c.gain * (values - c.at))
    top = float(np.nanmax(values))
    common = c.u(top)
    if instrument.kind in CONTACT and channel.place == "surface":
        share = stem_share(instrument, bed)
        found = found + share / (1.0 - share) * (found - ambient)
        common = float(np.hypot(common, 0.35 * share / (1.0 - share) * (top - float(np.max(ambient)))))
    return CorrectedSeries(found, common, rectangular(0.5 * instrument.resolution))


def cold_value(time: Floats, value: Floats) -> float:
    """Mean of what was shown just before heating began, NaN where nothing was."""
    first = (time >= -120.0) & (time <= 3.0) & np.isfinite(value)
    return float(value[first].mean()) if first.any() else math.nan


def points_for(rig: Rig, time: Floats) -> int:
    """How many points of a series are kept: with a switching thermostat each is the mean over its swing."""
    if rig.bed.control.kind != "on-off" or time.size < 2:
        return POINTS
    return int(np.clip((time[-1] - time[0]) / SWING, 6, POINTS))


def thinned(time: Floats, value: Floats, count: int = POINTS) -> ThinnedSeries:
    """Block means of a series, their uncertainty from the scatter inside the blocks."""
    good = np.isfinite(value)
    time, value = time[good], value[good]
    if time.size <= count:
        rough = float(np.std(np.diff(value, 2)) / np.sqrt(6.0)) if time.size > 8 else 0.1
        return ThinnedSeries(time, value, rough)
    place = np.minimum((np.arange(time.size) * count) // time.size, count - 1)
    n = np.bincount(place, minlength=count)
    t, v = np.bincount(place, time, count) / n, np.bincount(place, value, count) / n
    trend = np.interp(time, t, v)
    inside = float(np.std(value - trend))
    return ThinnedSeries(t, v, inside / float(np.sqrt(n.mean())))


def observe_logs(
    rig: Rig, session: Session, measurements: Measurements, originals: Mapping[str, bytes]
) -> tuple[Observation, ...]:
    """All of a session's logs as observations, from the start of heating on."""
    found = []
    air = air_around(session, rig)[0]
    for name, log in logs_of(session, originals):
        read = [v for c, v in log.of("upper air") if np.isfinite(v).all()]
        around: Floats | float = read[0] if read else air
        for channel, raw in zip(log.channels, log.values, strict=True):
            if channel.place == "room" or channel.what == "duty":
                continue
            instrument = measurements.instrument(channel.instrument)
            if channel.what in ("power", "energy"):
                found.append(_observe_power(rig, f"{name}: {channel.name}", log.time, raw, channel.what, instrument))
                continue
            value, common, own = corrected_series(channel, raw, instrument, session.date, around, rig.bed)
            if channel.place == "sensor":
                common = 0.0  # the display shows the rig's own sensor: its bias is the rig's
            keep = log.time >= 0.0
            t, v, noise = thinned(log.time[keep], value[keep], points_for(rig, log.time[keep]))
            if t.size < 3:
                continue
            noise = float(np.hypot(max(noise, own, 0.05), MODEL_ERROR * np.sqrt(max(1.0, t.size / LOOKS))))
            found.append(
                Observation(
                    f"{name}: {channel.name}",
                    _ROLES[channel.place],
                    t,
                    v,
                    noise,
                    common,
                    channel.x,
                    channel.y,
                    averaged=rig.bed.control.kind == "on-off",
                    cold=cold_value(log.time, value),
                    source=instrument.name if instrument is not None and common > 0.0 else "",
                )
            )
    return tuple(found)


def _observe_power(
    rig: Rig, name: str, time: Floats, raw: Floats, what: str, instrument: Instrument | None
) -> Observation:
    bins, _ = bins_of(time, raw, what)
    idle = bins.end <= 0.0
    base = float(np.median(bins.power[idle])) if idle.any() else 0.0
    keep = bins.start >= 0.0
    middle = 0.5 * (bins.start + bins.end)[keep]
    if keep.sum() < 2:
        raise InputError(f"{name}: the plug meter's log has no two intervals after heating began.")
    t, v, noise = thinned(middle, bins.power[keep], points_for(rig, middle))
    top = float(v.max())
    share = instrument.accuracy_of_reading if instrument is not None else 0.02
    supply = bed_supply(rig)
    within = (
        0.5 * (supply.high - supply.low) / supply.typical / AT_NINETY
    )  # of what the meter reads, before it becomes heat
    common = float(np.sqrt((rectangular(share) * top) ** 2 + (within * top) ** 2 + (2.0 if idle.any() else 12.0) ** 2))
    noise = float(np.hypot(max(noise, 0.5), POWER_ERROR * top * np.sqrt(max(1.0, t.size / LOOKS))))
    source = instrument.name if instrument is not None else ""
    return Observation(name, "power", t, v, noise, common, floor=base, averaged=True, source=source)


@dataclass(frozen=True, slots=True)
class SurfacePlace:
    """A place on the surface (or elsewhere) with all that was read there: x, y m, time s, survey, and the common estimate."""

    place: Place
    x: float
    y: float
    time: float
    survey: str
    estimate: Combined


def air_around(session: Session, rig: Rig) -> tuple[float, float]:
    """The air around a probe's stem over the bed (K) with its standard uncertainty: as read, as set, else the room's."""
    read = [np.mean(r.raw) for r in session.readings if r.place == "upper air"]
    if read:
        return float(np.mean(read)), 3.0
    if not rig.chamber.enclosed:
        return session.room, 3.0
    return (session.chamber, 5.0) if rig.chamber.heater_power > 0.0 else (session.room, 15.0)


def corrected_of(
    session: Session, measurements: Measurements, rig: Rig
) -> tuple[tuple[Reading, Corrected | None, str], ...]:
    """Every reading of a session with its correction, or the reason why there is none.

    An infrared reading of a surface beside which a reference patch was read with the same instrument (within 60 mm and 10 min)
    takes its emissivity from there.
    """
    found: list[tuple[Reading, Corrected | None, str]] = []
    air = air_around(session, rig)
    for reading in session.readings:
        instrument = measurements.instrument(reading.instrument)
        if reading.place == "power":
            continue
        if instrument is None:
            found.append((reading, None, f"There is no instrument “{reading.instrument}”."))
            continue
        try:
            measured = None
            patch = _patch_beside(reading, session.readings, instrument)
            if patch is not None:
                measured = patch_emissivity(reading, patch, instrument, session.date)
            lost = lid_cooled(session, rig, reading)
            corrected = correct_reading(reading, instrument, session.date, air, rig.bed, measured, lost)
            found.append((reading, corrected, ""))
        except InputError as error:
            found.append((reading, None, error.message))
    return tuple(found)


def lid_cooled(session: Session, rig: Rig, seen: Reading | StoredImage) -> float:
    """What a surface, or the air over it, had cooled by (K) when it was read through an open lid."""
    if seen.lid_open <= 0.0:
        return 0.0
    lost = cooled_by(session_rig(rig, session), session.bed, session.chamber, seen.lid_open)
    if isinstance(seen, StoredImage) or seen.place == "surface":
        return lost.surface
    return lost.air if seen.place == "upper air" else 0.0


def _patch_beside(reading: Reading, others: Sequence[Reading], instrument: Instrument) -> Reading | None:
    from_library = _references()
    if instrument.kind not in INFRARED or reading.surface in from_library:
        return None
    near = [
        r for r in others
        if r.instrument == reading.instrument and r.surface in from_library and r.place == reading.place
        and abs(r.time - reading.time) <= 600.0 and np.hypot(r.x - reading.x, r.y - reading.y) <= 0.06
    ]  # fmt: skip
    return min(near, key=lambda r: float(np.hypot(r.x - reading.x, r.y - reading.y)), default=None)


def _references() -> frozenset[str]:
    return frozenset(key for key, s in seen_surfaces().items() if s.reference)


def spots_of(
    session: Session, measurements: Measurements, rig: Rig, prefs: UnitPreferences = METRIC
) -> tuple[SurfacePlace, ...]:
    """The readings of a session by place, each place with its common estimate; the printer's display is not a surface."""
    groups: dict[tuple[Place, int, int, int], list[Witness]] = {}
    for reading, corrected, _ in corrected_of(session, measurements, rig):
        instrument = measurements.instrument(reading.instrument)
        if corrected is None or instrument is None:
            continue
        place: Place = "sensor" if instrument.kind == "printer sensor" else reading.place
        key = (place, round(reading.x / NEAR), round(reading.y / NEAR), round(reading.time / 600.0))
        groups.setdefault(key, []).append(Witness(reading, instrument.as_set(reading.setting), corrected))
    found = []
    for (place, *_), witnesses in groups.items():
        first = witnesses[0].reading
        found.append(SurfacePlace(place, first.x, first.y, first.time, first.survey, combine(witnesses, prefs)))
    return tuple(found)


def distrusted(spots: Sequence[SurfacePlace]) -> frozenset[str]:
    """Infrared instruments that contradict another one somewhere, for as long as no reference patch has decided."""
    return frozenset(
        w.instrument.name for s in spots for w, _, _ in s.estimate.left_out if w.instrument.kind in INFRARED
    )


def observe_spots(spots: Sequence[SurfacePlace]) -> tuple[Observation, ...]:
    """Places as observations: what is of type B is common to all places of an instrument, what scatters is of each reading's own.

    Of a place that several instruments saw, half of the variance is common to it alone. Instruments that are distrusted do not
    count.
    """
    found = []
    doubtful = distrusted(spots)
    for s in spots:
        used = [w for w in s.estimate.used if w.instrument.name not in doubtful]
        if s.place == "room" or not used:
            continue
        estimate = s.estimate if len(used) == len(s.estimate.used) else combine(used)
        names = {w.instrument.name for w in used}
        shared = float(np.mean([_shared_part(w) for w in used])) if len(names) == 1 else 0.5
        random, common = estimate.u * math.sqrt(1.0 - shared), estimate.u * math.sqrt(shared)
        noise = float(np.hypot(random, MODEL_ERROR))
        source = names.pop() if len(names) == 1 else ""
        name = f"{s.place} at {1e3 * s.x:.0f}, {1e3 * s.y:.0f} mm"
        at, value = np.array([s.time]), np.array([estimate.value])
        found.append(Observation(name, _ROLES[s.place], at, value, noise, common, s.x, s.y, source=source))
    return tuple(found)


def _shared_part(w: Witness) -> float:
    """Share of a corrected reading's variance that all readings of its instrument have in common (type B)."""
    parts = w.corrected.budget.contributions
    whole = sum(c.amount**2 for c in parts)
    return sum(c.amount**2 for c in parts if c.kind == "B") / whole if whole > 0.0 else 0.0


def seen_maps(
    session: Session, measurements: Measurements, originals: Mapping[str, bytes], rig: Rig
) -> tuple[tuple[str, SeenMap], ...]:
    """All images of a session over the bed, by name; those without four corners or an instrument are passed over."""
    found, bed = [], rig.bed
    for stored in session.images:
        instrument = measurements.instrument(stored.instrument)
        if len(stored.corners) == 4 and instrument is not None and stored.file in originals:
            lost = lid_cooled(session, rig, stored)
            seen = see(stored, originals[stored.file], instrument, bed.width, bed.depth, bed.layers[0].thickness, lost)
            found.append((stored.name, seen))
    return tuple(found)
