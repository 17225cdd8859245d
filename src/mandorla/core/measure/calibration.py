"""Calibration of instruments: fixed points, offset and gain with their covariance, drift between calibrations, due dates."""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import date
from typing import Final

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.measure.models import Calibration, Instrument
from mandorla.core.measure.uncertainty import rectangular
from mandorla.core.thermal.stack import Floats
from mandorla.core.units import ZERO_CELSIUS

ICE: Final = ZERO_CELSIUS
SEA_LEVEL: Final = 101325.0  # Pa
_TOGETHER: Final = 7  # days within which calibrations belong to one occasion
_APART: Final = 20.0  # K between points from which a gain can be told
_BATH: Final = 0.05  # K, standard: an ice bath of crushed ice and clean water, well stirred


def pressure_at(altitude: float) -> float:
    """Air pressure (Pa) at an altitude (m) of the standard atmosphere (ISO 2533), -500 m to 11 km."""
    if not -500.0 <= altitude <= 11000.0:
        raise InputError(f"An altitude of {altitude:.0f} m lies outside -500 m to 11 km.")
    return float(SEA_LEVEL * math.pow(1.0 - 2.25577e-5 * altitude, 5.25588))


def boiling_point(pressure: float) -> float:
    """Boiling temperature (K) of water at a pressure (Pa), saturation line of IAPWS-IF97 (eq. 31), 50 to 110 kPa asked here."""
    if not 5e4 <= pressure <= 1.1e5:
        raise InputError(f"An air pressure of {pressure / 100:.0f} hPa lies outside 500 to 1100 hPa.")
    n = (
        0.11670521452767e4, -0.72421316703206e6, -0.17073846940092e2, 0.12020824702470e5, -0.32325550322333e7,
        0.14915108613530e2, -0.48232657361591e4, 0.40511340542057e6, -0.23855557567849, 0.65017534844798e3,
    )  # fmt: skip
    beta = math.sqrt(math.sqrt(pressure / 1e6))
    e = beta**2 + n[2] * beta + n[5]
    f = n[0] * beta**2 + n[3] * beta + n[6]
    g = n[1] * beta**2 + n[4] * beta + n[7]
    d = 2.0 * g / (-f - math.sqrt(f**2 - 4.0 * e * g))
    return 0.5 * (n[9] + d - math.sqrt((n[9] + d) ** 2 - 4.0 * (n[8] + n[9] * d)))


def ice_point(day: str, shown: float) -> Calibration:
    """A comparison in an ice bath."""
    return Calibration(date=day, kind="ice point", shown=shown, reference=ICE, uncertainty=_BATH)


def boil(day: str, shown: float, *, altitude: float | None = None, pressure: float | None = None) -> Calibration:
    """A comparison in boiling water at a barometer's ``pressure`` (Pa) or an ``altitude`` (m).

    The weather moves the pressure by some 8 hPa about that of the altitude, which is 0.22 K.
    """
    if (altitude is None) == (pressure is None):
        raise InputError("The boiling point needs either the air pressure or the altitude.")
    p = pressure if pressure is not None else pressure_at(altitude or 0.0)
    slope = (boiling_point(p + 100.0) - boiling_point(p - 100.0)) / 200.0
    weather = slope * (800.0 if pressure is None else 100.0)
    u = math.hypot(0.1, weather)
    return Calibration(date=day, kind="boiling point", shown=shown, reference=boiling_point(p), uncertainty=u)


@dataclass(frozen=True, slots=True)
class Correction:
    """True = shown - (offset + gain (shown - at)); ``covariance`` (2, 2) of offset (K) and gain (1); ``drift`` K, standard.

    ``points`` calibrations went into it; ``day`` the last of them; ``due`` when the next is due, both None for none.
    """

    offset: float
    gain: float
    at: float
    covariance: Floats
    drift: float
    points: int
    day: date | None
    due: date | None

    def error(self, shown: float) -> float:
        """What the instrument reads too high (K)."""
        return self.offset + self.gain * (shown - self.at)

    def u(self, shown: float) -> float:
        """Standard uncertainty (K) of that error at a reading, drift since included."""
        g = np.array([1.0, shown - self.at])
        return math.sqrt(float(g @ self.covariance @ g) + self.drift**2)


def limit_of(instrument: Instrument, shown: float) -> float:
    """The maker's limit (K) at a reading."""
    return instrument.accuracy + instrument.accuracy_of_reading * abs(shown - ZERO_CELSIUS)


def correction_of(instrument: Instrument, day: str) -> Correction:
    """What the calibrations say of an instrument on a day: those of the latest occasion before it, weighted least squares.

    One point, or points closer than 20 K, give an offset, and the maker's share of reading remains as the gain's uncertainty. The
    drift is the change between the last two occasions, carried on; with one occasion half of the maker's limit over an interval.
    """
    on = date.fromisoformat(day)
    done = sorted(
        (c for c in instrument.calibrations if date.fromisoformat(c.date) <= on), key=lambda c: c.date, reverse=True
    )
    if not done:
        u = rectangular(instrument.accuracy)
        gain = rectangular(instrument.accuracy_of_reading)
        return Correction(0.0, 0.0, ZERO_CELSIUS, np.diag([u**2, gain**2]), 0.0, 0, None, None)
    last = date.fromisoformat(done[0].date)
    now = [c for c in done if (last - date.fromisoformat(c.date)).days <= _TOGETHER]
    offset, gain, at, covariance = _line(instrument, now)
    age = (on - last).days
    interval = instrument.interval / 86400.0
    before = [c for c in done if c not in now]
    limit = limit_of(instrument, at)
    if before:
        then = date.fromisoformat(before[0].date)
        earlier = [c for c in before if (then - date.fromisoformat(c.date)).days <= _TOGETHER]
        old_offset, old_gain, old_at, _ = _line(instrument, earlier)
        change = offset - (old_offset + old_gain * (at - old_at))
        drift = rectangular(abs(change)) * age / max(1, (last - then).days)
    else:
        drift = rectangular(0.5 * limit) * min(2.0, age / interval)
    due = date.fromordinal(last.toordinal() + round(interval))
    return Correction(offset, gain, at, covariance, drift, len(now), last, due)


def _line(instrument: Instrument, points: list[Calibration]) -> tuple[float, float, float, Floats]:
    """Offset at ``at``, gain, ``at`` and their covariance from calibrations of one occasion."""
    shown = np.array([c.shown for c in points])
    error = shown - np.array([c.reference for c in points])
    u = np.array([math.hypot(c.uncertainty, rectangular(0.5 * instrument.resolution)) for c in points])
    weight = 1.0 / np.maximum(u, 1e-6) ** 2
    at = float((weight * shown).sum() / weight.sum())
    offset = float((weight * error).sum() / weight.sum())
    var_offset = 1.0 / float(weight.sum())
    if shown.max() - shown.min() < _APART:
        return offset, 0.0, at, np.diag([var_offset, rectangular(instrument.accuracy_of_reading) ** 2])
    moment = float((weight * (shown - at) ** 2).sum())
    gain = float((weight * (shown - at) * error).sum()) / moment
    # what a straight line cannot follow between and beyond the points
    bend = rectangular(0.25 * instrument.accuracy)
    scale = 1.0
    if len(points) > 2:
        left = error - offset - gain * (shown - at)
        scale = max(1.0, float((weight * left**2).sum()) / (len(points) - 2))
    return offset, gain, at, scale * np.diag([var_offset, 1.0 / moment]) + np.diag([bend**2, 0.0])


def is_due(instrument: Instrument, day: str) -> bool:
    """Whether an instrument needs a calibration on a day, or never had one."""
    due = correction_of(instrument, day).due
    return due is None or due < date.fromisoformat(day)
