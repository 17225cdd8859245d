"""A session against the model: figures and series with both bands, a verdict in words, the assumption that is likely wrong."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.measure.energy import EnergyCheck, check_energy
from mandorla.core.measure.fitted_rig import value_texts
from mandorla.core.measure.image import SeenMap
from mandorla.core.measure.logs import LogData
from mandorla.core.measure.models import INFRARED, Acceptance, Measurements, Session
from mandorla.core.measure.observe import Observation, SurfacePlace, distrusted, logs_of, seen_maps, spots_of
from mandorla.core.measure.plug_meter import MeterFound, found_by_meter
from mandorla.core.measure.records import row_text
from mandorla.core.measure.session_case import SessionCase, session_case_of
from mandorla.core.measure.single_cause_search import try_each
from mandorla.core.measure.soak import Soak, judge_soak
from mandorla.core.measure.verdicts import AGREES, DISAGREES, DOUBTFUL
from mandorla.core.rig.consumers import at_plug
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.heatup import drift, ready_since, since_when
from mandorla.core.thermal.parameter_samples import covariance_of, rig_unknowns, typical_sample
from mandorla.core.thermal.stack import Floats
from mandorla.core.units import METRIC, UnitPreferences, show, show_duration

_MIDDLE: Final = 0.12  # of the bed's width, within which a reading is of the middle


@dataclass(frozen=True, slots=True)
class Row:
    """One figure: measured with half its 95 % range, predicted with its 90 % band (NaN where
    none was computed), in SI; how far apart they may be; the verdict.

    ``kind`` is that of the figure, ``gap_kind`` that of a difference (units.KINDS).
    """

    what: str
    kind: str
    gap_kind: str
    measured: float
    expanded: float
    predicted: float
    low: float
    high: float
    limit: float
    state: str

    @property
    def gap(self) -> float:
        """Measured minus predicted."""
        return self.measured - self.predicted


@dataclass(frozen=True, slots=True)
class Series:
    """One observed series beside the model's (m,) and the model's 90 % band (2, m)."""

    observation: Observation
    predicted: Floats
    band: Floats


@dataclass(frozen=True, slots=True)
class Suspect:
    """An assumption that would explain the misfit by itself: its name, how far it would move (90 % ranges), which share, texts."""

    name: str
    z: float
    explained: float
    before: str
    after: str


@dataclass(frozen=True, slots=True)
class Comparison:
    """Everything about one session against one rig; ``residuals`` (x, y, measured minus predicted K) of places on the surface."""

    session: str
    scene: SessionCase
    rows: tuple[Row, ...]
    series: tuple[Series, ...]
    spots: tuple[SurfacePlace, ...]
    maps: tuple[tuple[str, SeenMap], ...]
    residuals: tuple[tuple[float, float, float], ...]
    suspects: tuple[Suspect, ...]
    soak: Soak | None
    energy: EnergyCheck | None
    by_meter: MeterFound | None
    oddities: tuple[str, ...]
    state: str
    sentence: str

    @property
    def distrusted(self) -> frozenset[str]:
        """Infrared instruments that contradict another one, for as long as no reference patch has decided."""
        return distrusted(self.spots)


def grade(gap: float, limit: float, expanded: float) -> str:
    """Within the limit: holds; possibly within, given the measurement's own range: marginal; else fails."""
    if abs(gap) <= limit:
        return AGREES
    return DOUBTFUL if abs(gap) - expanded <= limit else DISAGREES


def compare(
    rig: Rig, settings: Settings, criteria: Criteria, session: Session, measurements: Measurements, originals: Mapping[str, bytes],
    run: RunContext | None = None, prefs: UnitPreferences = METRIC,
) -> Comparison:  # fmt: skip
    """Compare a session with the rig's prediction. Raises :class:`InputError` when nothing in it can be compared."""
    run = run or RunContext()
    scene = session_case_of(rig, settings, criteria, session, measurements, originals)
    unknowns = rig_unknowns(rig)
    base = scene.predict(typical_sample(rig))
    slopes = []
    for k, unknown in enumerate(unknowns):
        ends = []
        for z in (-1.0, 1.0):
            draw = typical_sample(rig)
            unknown.apply(draw, z)
            ends.append(scene.predict(draw))
        slopes.append([0.5 * (b - a) for a, b in zip(ends[0], ends[1], strict=True)])
        run.checkpoint(0.5 * (k + 1) / len(unknowns), "bands of the prediction")
    covariance = covariance_of(rig, unknowns)
    series = []
    for i, o in enumerate(scene.observations):
        J = np.stack([s[i] for s in slopes], axis=1)
        half = np.sqrt(np.maximum(np.einsum("mi,ij,mj->m", J, covariance, J), 0.0))
        band = np.stack([base[i] - half, base[i] + half])
        band.setflags(write=False)
        series.append(Series(o, base[i], band))
    logs = logs_of(session, originals)
    spots = spots_of(session, measurements, rig, prefs)
    maps = seen_maps(session, measurements, originals, rig)
    rows, residuals = _place_rows(rig, session, scene, series, spots, maps, measurements.acceptance)
    soak = _soak_of(scene, logs, measurements.acceptance)
    rows += _time_rows(scene, criteria, session, logs, soak, measurements.acceptance)
    energy = _energy_of(scene, logs, rig)
    by_meter = None
    if energy is not None:
        by_meter = found_by_meter(rig, energy, session.name)
        power = next(s for s in series if s.observation.role == "power")
        half = 0.5 * float(power.band[1][-1] - power.band[0][-1])
        u = 2.0 * float(np.hypot(power.observation.common, 1.0))
        gap = energy.steady - energy.steady_predicted
        limit = max(half, 0.1 * energy.steady_predicted)
        rows.append(
            Row("Power, steady", "power", "power", energy.steady, u, energy.steady_predicted, energy.steady_predicted - half,
                energy.steady_predicted + half, limit, grade(gap, limit, u))
        )  # fmt: skip
    suspects = _suspects(rig, scene, run, prefs) if any(r.state != AGREES for r in rows) else ()
    states = [r.state for r in rows]
    if any(s.estimate.left_out for s in spots):
        states.append(DOUBTFUL)  # as long as an instrument does not fit, nothing is settled
    state = DISAGREES if DISAGREES in states else DOUBTFUL if DOUBTFUL in states else AGREES
    oddities = (
        tuple(f"{name}: {text}" for name, log in logs for text in log.oddities)
        + cold_disagreement(scene, prefs)
        + unnamed(session)
    )
    sentence = _sentence(rows, suspects, spots, prefs)
    return Comparison(
        session.name, scene, tuple(rows), tuple(series), spots, maps, tuple(residuals), suspects, soak, energy, by_meter,
        oddities, state,
        sentence,
    )  # fmt: skip


def _place_rows(
    rig: Rig, session: Session, scene: SessionCase, series: Sequence[Series], spots: Sequence[SurfacePlace],
    maps: Sequence[tuple[str, SeenMap]], acceptance: Acceptance,
) -> tuple[list[Row], list[tuple[float, float, float]]]:  # fmt: skip
    """Figures of places: the middle of the surface, the spread, the chamber's air; and residuals on the bed."""
    rows: list[Row] = []
    residuals = []
    bed = rig.bed
    surface = [s for s in series if s.observation.role == "surface"]
    for s in surface:
        o = s.observation
        residuals.append((o.x, o.y, float(o.value[-1] - s.predicted[-1])))
    near = [s for s in surface if np.hypot(s.observation.x, s.observation.y) <= _MIDDLE * bed.width]
    if near:
        best = _weightiest(scene, near)
        o = best.observation
        tail = slice(-max(1, o.value.size // 20), None)
        m, p = float(o.value[tail].mean()), float(best.predicted[tail].mean())
        low, high = (float(b[tail].mean()) for b in best.band)
        expanded = 2.0 * float(np.hypot(o.common, _single(o)))
        state = grade(m - p, acceptance.offset, expanded)
        rows.append(
            Row(
                "Surface, middle",
                "temperature",
                "temperature_difference",
                m,
                expanded,
                p,
                low,
                high,
                acceptance.offset,
                state,
            )
        )
    rows += _survey_rows(scene, spots, acceptance)
    for name, seen in maps:
        theta = scene.heat.spread.at(np.stack(np.meshgrid(seen.x, seen.y), axis=-1).reshape(-1, 2)).reshape(
            seen.true.shape
        )
        steady = scene.heat.steady
        predicted = steady.air + (steady.surface - steady.air) * theta
        inside = np.isfinite(seen.true)
        inner = inside & (np.abs(seen.x[None, :]) < 0.46 * bed.width) & (np.abs(seen.y[:, None]) < 0.46 * bed.depth)
        if not inner.any():
            raise InputError(f"The image “{name}” shows nothing of the bed inside its corners.")
        middle = inner & (np.hypot(seen.x[None, :], seen.y[:, None]) <= _MIDDLE * bed.width)
        if middle.any() and not near:
            m, p = float(seen.true[middle].mean()), float(predicted[middle].mean())
            expanded = 2.0 * float(seen.u[middle].mean())
            state = grade(m - p, acceptance.offset, expanded)
            band = scene.heat.bands.get("surface")
            half = 0.5 * (band.high - band.low) if band else math.nan
            rows.append(
                Row(f"Surface, middle, in “{name}”", "temperature", "temperature_difference", m, expanded, p, p - half, p + half,
                    acceptance.offset, state)
            )  # fmt: skip
        ends = [float(np.quantile(v[inner], q)) for v in (seen.true, predicted) for q in (0.02, 0.98)]
        rows.append(_spread_row(f"Spread in “{name}”", ends[1] - ends[0], 0.6, ends[3] - ends[2], acceptance))
        step = max(1, seen.x.size // 4)
        for j in range(step // 2, seen.y.size, step):
            for i in range(step // 2, seen.x.size, step):
                if inner[j, i]:
                    residuals.append((float(seen.x[i]), float(seen.y[j]), float(seen.true[j, i] - predicted[j, i])))
    for role, what in (("air", "Air above the bed"), ("lower air", "Air below the bed"), ("frame", "Frame")):
        there = [s for s in series if s.observation.role == role]
        if there:
            s = _weightiest(scene, there)
            m, p = float(s.observation.value[-1]), float(s.predicted[-1])
            expanded = 2.0 * float(np.hypot(s.observation.common, _single(s.observation)))
            limit = max(acceptance.offset, 3.0)
            rows.append(
                Row(what, "temperature", "temperature_difference", m, expanded, p, float(s.band[0][-1]), float(s.band[1][-1]),
                    limit, grade(m - p, limit, expanded))
            )  # fmt: skip
    display = [s for s in series if s.observation.role == "reading"]
    if display:
        m = float(display[-1].observation.value[-1])
        rows.append(
            Row("Display against set point", "temperature", "temperature_difference", m, 0.2, session.bed, math.nan, math.nan,
                2.0, grade(m - session.bed, 2.0, 0.2))
        )  # fmt: skip
    return rows, residuals


def _survey_rows(scene: SessionCase, spots: Sequence[SurfacePlace], acceptance: Acceptance) -> list[Row]:
    """Spread of every survey of three places or more, by one instrument each: what is common to its readings cancels."""
    groups: dict[tuple[str, str], list[tuple[float, float, float, float]]] = {}
    for spot in spots:
        for w in (*spot.estimate.used, *(named[0] for named in spot.estimate.left_out)):
            if spot.place == "surface" and w.reading.survey:
                random = float(np.hypot(0.1, sum(c.amount for c in w.corrected.budget.contributions if c.kind == "A")))
                groups.setdefault((w.reading.survey, w.instrument.name), []).append(
                    (spot.x, spot.y, w.corrected.value, random)
                )
    rows = []
    heat = scene.heat
    for (survey, _), points in groups.items():
        places = {(x, y): (value, u) for x, y, value, u in points}
        if len(places) < 3:
            continue
        at = np.array(list(places))
        read = np.array([v for v, _ in places.values()])
        said = heat.steady.air + (heat.steady.surface - heat.steady.air) * heat.spread.at(at)
        u = 2.0 * float(np.sqrt(2.0)) * float(np.mean([u for _, u in places.values()]))
        rows.append(_spread_row(f"Spread, {survey}"[:60], float(np.ptp(read)), u, float(np.ptp(said)), acceptance))
    return rows


def _weightiest(scene: SessionCase, series: Sequence[Series]) -> Series:
    """The series that says most of the settled state: one that was read when the surface was calm before any that was read on the
    way there, then the better instrument, then the later one."""
    heat = scene.heat
    calm = np.abs(drift(heat.time, heat.surface)) <= scene.calm
    settled = since_when(heat.time, calm)

    def rank(s: Series) -> tuple[bool, float, float]:
        o = s.observation
        read_on_the_way = not np.isfinite(settled) or float(o.time[-1]) < settled
        return read_on_the_way, float(np.hypot(o.common, _single(o))), -float(o.time[-1])

    return min(series, key=rank)


def _single(o: Observation) -> float:
    """Random standard uncertainty of one value of a series, without the model's share."""
    return min(o.noise, 0.5) if o.value.size > 1 else o.noise


def _spread_row(what: str, measured: float, expanded: float, predicted: float, acceptance: Acceptance) -> Row:
    state = grade(measured - predicted, acceptance.spread, expanded)
    return Row(
        what, "temperature_difference", "temperature_difference", measured, expanded, predicted, math.nan, math.nan,
        acceptance.spread, state,
    )  # fmt: skip


def _time_rows(
    scene: SessionCase, criteria: Criteria, session: Session, logs: Sequence[tuple[str, LogData]], soak: Soak | None,
    acceptance: Acceptance,
) -> list[Row]:  # fmt: skip
    """Ready time and drift from the logs."""
    rows = []
    for _, log in logs:
        display = log.of("sensor")
        if not display:
            continue
        surface = log.of("surface") or display
        reading, top = display[0][1], surface[0][1]
        good = np.isfinite(reading) & np.isfinite(top) & (log.time >= 0.0)
        if good.sum() < 20:
            continue
        time = log.time[good]
        # a display's last digit and a probe's noise are no drift: both are judged by their means over some minutes
        heat = scene.heat
        found = ready_since(time, reading[good], top[good], session.bed, criteria, on_off=True)
        said = ready_since(heat.time, heat.reading, heat.surface, session.bed, criteria, on_off=True)
        if np.isfinite(found) and np.isfinite(said):
            limit, u = acceptance.ready * said, max(30.0, 2.0 * float(np.median(np.diff(time))))
            state = grade(found - said, limit, u)
            rows.append(Row("Ready after", "duration", "duration", found, u, said, math.nan, math.nan, limit, state))
        break
    if soak is not None:
        half = 0.5 * (soak.drift_high - soak.drift_low)
        rows.append(
            Row("Drift at the end", "drift", "drift", soak.drift, half, 0.0, -acceptance.drift, acceptance.drift, acceptance.drift,
                grade(soak.drift, acceptance.drift, half))
        )  # fmt: skip
    return rows


def cold_disagreement(scene: SessionCase, prefs: UnitPreferences = METRIC) -> tuple[str, ...]:
    """Corrected channels that do not show the room before anything is warm, though all of the rig is as warm as it, in words."""
    room = scene.rig.start_temperature
    found = []
    for o in scene.observations:
        off = o.cold - room
        if abs(off) > max(2.0, 2.5 * o.common):
            way = "more" if off > 0 else "less"
            found.append(
                f"“{o.name}” shows {show(abs(off), 'temperature_difference', prefs)} {way} than the room before anything is warm: "
                "the instrument, the room's temperature or the clock is off."
            )
    return tuple(found)


def unnamed(session: Session) -> tuple[str, ...]:
    """Channels and images of no named instrument, and what follows from that, in words."""
    found = [
        f"{log.name}: “{c.name}” is read by no named instrument; ±1.5 K (standard) are assumed for it."
        for log in session.logs for c in log.mapping.channels
        if c.what == "temperature" and c.place not in ("sensor", "room") and not c.instrument
    ]  # fmt: skip
    found += [f"The image “{i.name}” is of no named instrument, or lacks corners: it does not count." for i in session.images
              if not i.instrument or len(i.corners) < 4]  # fmt: skip
    return tuple(found)


def _soak_of(scene: SessionCase, logs: Sequence[tuple[str, LogData]], acceptance: Acceptance) -> Soak | None:
    """Whether the surface, else the air or the display, was soaked when the log ended."""
    for place in ("surface", "upper air", "sensor"):
        for _, log in logs:
            for _, values in log.of(place):
                if np.isfinite(values).sum() >= 20:
                    return judge_soak(log.time, values, acceptance.drift)
    return None


def _energy_of(scene: SessionCase, logs: Sequence[tuple[str, LogData]], rig: Rig) -> EnergyCheck | None:
    for _, log in logs:
        for channel, values in zip(log.channels, log.values, strict=True):
            if channel.what in ("power", "energy"):
                heat = scene.heat
                full = at_plug(rig, rig.bed.heater.power, rig.chamber.heater_power if rig.chamber.enclosed else 0.0)
                power = at_plug(rig, heat.power, heat.chamber_power)
                return check_energy(log.time, values, channel.what, heat.time, power, full, heat.ready_time)
    return None


def _suspects(rig: Rig, scene: SessionCase, run: RunContext, prefs: UnitPreferences) -> tuple[Suspect, ...]:
    """Assumptions that would explain the misfit by themselves, likeliest first."""
    before, trials = try_each(rig, [scene], rig_unknowns(rig), run, (0.5, 1.0))
    return tuple(
        Suspect(t.unknown.name, t.z, (before - t.misfit) / before, *value_texts(rig, t.unknown, t.z, prefs))
        for t in trials if t.cost < before - 4.0
    )[:4]  # fmt: skip


def _sentence(
    rows: Sequence[Row], suspects: Sequence[Suspect], spots: Sequence[SurfacePlace], prefs: UnitPreferences
) -> str:
    """The answer in words: what is off most, what would explain it, which instrument does not fit."""
    named = [(w.instrument.kind not in INFRARED, text) for s in spots for w, _, text in s.estimate.left_out]
    doubts = [text for _, text in sorted(named, key=lambda pair: pair[0])]
    if not rows:
        return "Nothing of this session can be judged yet."
    bad = [r for r in rows if r.state != AGREES]
    if not bad:
        lead = rows[0]
        measured, predicted = row_text(lead, prefs)
        text = f"The model agrees: {lead.what.lower()} {measured}, predicted {predicted}."
    else:
        worst = next((r for r in bad if r.state == DISAGREES), bad[0])  # rows stand in the order of their weight
        measured, predicted = row_text(worst, prefs)
        far = show_duration(abs(worst.gap)) if worst.kind == "duration" else show(abs(worst.gap), worst.gap_kind, prefs)
        more = "more" if worst.gap > 0 else "less"
        accepted = show_duration(worst.limit) if worst.kind == "duration" else show(worst.limit, worst.gap_kind, prefs)
        text = f"{worst.what}: measured {measured}, predicted {predicted}; {far} {more}, {accepted} are accepted."
        if worst.kind == "drift":
            text = f"Not soaked: the drift at the end is {measured}, {accepted} are accepted."
        if suspects:
            s = suspects[0]
            text += f" Likeliest: {s.name} is {s.after} instead of {s.before} (explains {100 * s.explained:.0f} % of the misfit)."
    return " ".join([*doubts[:1], text])
