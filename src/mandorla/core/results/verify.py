"""Results of the stage Verify: sessions compared with the rig, readings corrected, logs, images and height maps read, the fit."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.measure.compare import Comparison, compare
from mandorla.core.measure.correct import Corrected
from mandorla.core.measure.fit import RigFit, fit_rig
from mandorla.core.measure.heights import HeightMap, difference, height_map, pairs_of
from mandorla.core.measure.image import SeenMap, see
from mandorla.core.measure.infrared import shown_for, true_temperature, true_temperature_t4
from mandorla.core.measure.logs import LogData, read_log
from mandorla.core.measure.matrix_file import shown_matrix
from mandorla.core.measure.models import Instrument, Reading, Session, StoredHeights
from mandorla.core.measure.observe import SurfacePlace, corrected_of, distrusted, lid_cooled, spots_of
from mandorla.core.measure.soak import Soak, judge_soak
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.key import Key
from mandorla.core.results.registry import Have, computes
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.stack import Floats

_FEWEST = 20  # finite values of a channel that a soak is judged from
_MIDDLE = 0.12  # of the image's width about its middle that stands for the middle of the bed
_TAPE = 0.95  # emissivity of matt tape


@dataclass(frozen=True, slots=True)
class ReadingsTable:
    """Every reading with its correction or the reason why there is none; the places with their common estimate; instruments that
    contradict another one; readings that were taken on another plate, side or coating than the project prints on."""

    corrected: tuple[tuple[Reading, Corrected | None, str], ...]
    places: tuple[SurfacePlace, ...]
    distrusted: frozenset[str]
    elsewhere: frozenset[Reading] = frozenset()


@dataclass(frozen=True, slots=True)
class ReadLog:
    """A log as read, and for every temperature channel whether it is soaked (None: too few values)."""

    data: LogData
    soaks: tuple[Soak | None, ...]


@dataclass(frozen=True, slots=True)
class MiddleOfImage:
    """The middle of the bed in an image (K): ``shown``, ``true`` with ``u`` standard, by the T⁴ shortcut, in the instrument's band,
    and what tape beside it would show; ``low`` and ``high`` of the bed."""

    shown: float
    true: float
    u: float
    by_fourth_power: float
    in_band: float
    on_tape: float
    low: float
    high: float


@dataclass(frozen=True, slots=True)
class ImageOnBed:
    """An image as it was shown (rows, columns) K; over the bed once its corners and its instrument are known."""

    matrix: Floats
    seen: SeenMap | None = None
    middle: MiddleOfImage | None = None
    refusal: str = ""


@dataclass(frozen=True, slots=True)
class SessionHeights:
    """The height maps of a session that could be read, by place in it; what is refused, in words; differences (later, earlier)."""

    maps: tuple[tuple[StoredHeights, HeightMap], ...]
    refusals: tuple[str, ...]
    differences: Mapping[tuple[int, int], HeightMap]


def session_of(bundle: Bundle, key: str) -> Session:
    """A session by its key or name. Raises InputError naming those that exist."""
    sessions = bundle.project.measurements.sessions
    found = next((s for s in sessions if key in (s.key, s.name)), None)
    if found is None:
        known = ", ".join(f"“{s.name}”" for s in sessions) or "none"
        raise InputError(f"There is no session “{key}”; there are: {known}.")
    return found


def sessions_named(bundle: Bundle, name: str | None) -> tuple[Session, ...]:
    """All sessions, or the one of a name or key. Raises InputError naming those that exist."""
    return bundle.project.measurements.sessions if name is None else (session_of(bundle, name),)


@computes(keys.COMPARISON)
def comparison(key: Key[Comparison], bundle: Bundle, _: Have, run: RunContext) -> Comparison:
    """One session against the present rig. Raises InputError when nothing in it can be compared."""
    p = bundle.project
    session = session_of(bundle, key["session"])
    return compare(p.rig, p.settings, p.criteria, session, p.measurements, bundle.originals, run, key["units"])


@computes(keys.READINGS)
def readings(key: Key[ReadingsTable], bundle: Bundle, _: Have, run: RunContext) -> ReadingsTable:
    """The readings of a session corrected, and combined by place."""
    p, session = bundle.project, session_of(bundle, key["session"])
    places = spots_of(session, p.measurements, p.rig, key["units"])
    now = (p.process.plate, p.process.side, p.process.coating)
    elsewhere = frozenset(
        r for r in session.readings if r.place == "surface" and r.side and (r.plate, r.side, r.coating) != now
    )
    return ReadingsTable(corrected_of(session, p.measurements, p.rig), places, distrusted(places), elsewhere)


@computes(keys.LOG)
def log(key: Key[ReadLog], bundle: Bundle, _: Have, run: RunContext) -> ReadLog:
    """One log of a session as read by its mapping, with its channels judged. Raises InputError naming line and reason."""
    stored = session_of(bundle, key["session"]).logs[key["index"]]
    run.checkpoint(0.1, "reading the log")
    data = read_log(bundle.originals[stored.file], stored.file, stored.mapping)
    limit = bundle.project.measurements.acceptance.drift
    soaks = tuple(
        judge_soak(data.time, v, limit) if c.what == "temperature" and np.isfinite(v).sum() >= _FEWEST else None
        for c, v in zip(data.channels, data.values, strict=True)
    )
    return ReadLog(data, soaks)


@computes(keys.IMAGE)
def image(key: Key[ImageOnBed], bundle: Bundle, _: Have, run: RunContext) -> ImageOnBed:
    """One image of a session, over the bed once its four corners and its instrument are known. Raises InputError for no matrix."""
    p = bundle.project
    stored = session_of(bundle, key["session"]).images[key["index"]]
    data = bundle.originals[stored.file]
    matrix = shown_matrix(stored, data)
    instrument = p.measurements.instrument(stored.instrument)
    if len(stored.corners) < 4 or instrument is None:
        return ImageOnBed(matrix)
    bed = p.rig.bed
    try:
        lost = lid_cooled(session_of(bundle, key["session"]), p.rig, stored)
        seen = see(stored, data, instrument, bed.width, bed.depth, bed.layers[0].thickness, lost)
    except InputError as error:
        return ImageOnBed(matrix, refusal=error.message)
    return ImageOnBed(matrix, seen, _middle(seen, instrument.as_set(stored.setting), stored.reflected))


def _middle(seen: SeenMap, instrument: Instrument, reflected: float) -> MiddleOfImage:
    near = np.hypot(seen.x[None, :], seen.y[:, None]) < _MIDDLE * float(np.ptp(seen.x))
    inner = np.isfinite(seen.true) & near
    pick = inner if inner.any() else np.isfinite(seen.true)
    shown, true = float(np.nanmedian(seen.shown[pick])), float(np.nanmedian(seen.true[pick]))
    band, setting = (instrument.band_low, instrument.band_high), instrument.emissivity
    low, high = (float(np.nanquantile(seen.true, q)) for q in (0.02, 0.98))
    return MiddleOfImage(
        shown, true, float(np.nanmedian(seen.u)), true_temperature_t4(shown, seen.emissivity, setting, reflected),
        float(true_temperature(shown, seen.emissivity, setting, reflected, band)),
        float(shown_for(true, _TAPE, setting, reflected, band)), low, high,
    )  # fmt: skip


@computes(keys.HEIGHTS)
def heights(key: Key[SessionHeights], bundle: Bundle, _: Have, run: RunContext) -> SessionHeights:
    """The height maps of a session and what changed between every two that follow each other."""
    maps, refusals = [], []
    for stored in session_of(bundle, key["session"]).heights:
        try:
            found = height_map(stored, bundle.originals[stored.file])
            found.bow  # noqa: B018  a map that is too small for a bow is refused here, not in a picture
            maps.append((stored, found))
        except InputError as error:
            refusals.append(error.message)
    pairs = pairs_of([m[0].state for m in maps])
    return SessionHeights(tuple(maps), tuple(refusals), {(a, b): difference(maps[a][1], maps[b][1]) for a, b in pairs})


@computes(keys.FIT)
def fit(key: Key[RigFit], bundle: Bundle, _: Have, run: RunContext) -> RigFit:
    """The rig fitted to sessions of the project, all of its unknowns or those that are named."""
    p = bundle.project
    if not key["day"]:
        raise InputError("A fit is kept with its day: say it as 2026-11-28.")
    chosen = [session_of(bundle, name) for name in key["sessions"]]
    return fit_rig(
        p.rig,
        p.settings,
        p.criteria,
        chosen,
        p.measurements,
        bundle.originals,
        key["day"],
        key["unknowns"],
        run,
        key["units"],
    )
