"""What an infrared instrument shows and what is true: Planck's law over the instrument's band, and the T⁴ shortcut to compare."""

from __future__ import annotations

import math
from functools import lru_cache
from typing import Final

import numpy as np
from numpy.typing import ArrayLike

from mandorla.core.errors import InputError
from mandorla.core.thermal.stack import Floats

C2: Final = 1.438776877e-2  # m K, second radiation constant (CODATA 2018)
SIGMA: Final = 5.670374419e-8
COLDEST, HOTTEST = 150.0, 900.0  # K, range of the tables
STEEP: Final = math.radians(50.0)  # beyond it the emissivity of dielectrics falls visibly (Fresnel)
THIN: Final = 0.25e-3  # m, below which a clear polymer film lets part of the band through


def fraction_below(wavelength: float, T: ArrayLike) -> Floats:
    """Share of a black body's radiation below a wavelength (m) at T (K): the series of Chang and Rhee (1984), 60 terms."""
    x = C2 / (wavelength * np.asarray(T, dtype=np.float64))[..., None]
    n = np.arange(1, 61)
    terms = np.exp(-n * x) / n * (x**3 + 3.0 * x**2 / n + 6.0 * x / n**2 + 6.0 / n**3)
    return np.asarray(15.0 / math.pi**4 * terms.sum(axis=-1))


def band_emission(T: ArrayLike, low: float, high: float) -> Floats:
    """Emission (W/m²) of a black body at T (K) between two wavelengths (m); the band's signal up to a constant."""
    T = np.asarray(T, dtype=np.float64)
    return np.asarray(SIGMA * T**4 * (fraction_below(high, T) - fraction_below(low, T)))


@lru_cache(maxsize=16)
def _table(low: float, high: float) -> tuple[Floats, Floats]:
    T = np.linspace(COLDEST, HOTTEST, 3001)
    return T, np.log(band_emission(T, low, high))


def signal(T: ArrayLike, band: tuple[float, float]) -> Floats:
    """Band emission by interpolating its logarithm in a table of 0.25 K (error below 1e-5)."""
    T_table, logarithm = _table(*band)
    return np.asarray(np.exp(np.interp(np.asarray(T, dtype=np.float64), T_table, logarithm)))


def temperature(emission: ArrayLike, band: tuple[float, float]) -> Floats:
    """Temperature (K) of a black body of a given band emission; NaN where there is none (darker than its own mirror image)."""
    T_table, logarithm = _table(*band)
    emission = np.asarray(emission, dtype=np.float64)
    with np.errstate(invalid="ignore", divide="ignore"):
        found = np.interp(np.log(emission), logarithm, T_table, left=np.nan, right=np.nan)
    return np.asarray(np.where(emission > 0.0, found, np.nan))


def shown_for(
    T: ArrayLike, emissivity: ArrayLike, setting: float, reflected: float, band: tuple[float, float]
) -> Floats:
    """What an instrument set to ``setting`` shows (K) of a surface at T (K) that mirrors surroundings of ``reflected`` K.

    The instrument is taken to correct for its setting with the same reflected temperature.
    """
    e = np.asarray(emissivity, dtype=np.float64)
    mirror = signal(reflected, band)
    received = e * signal(T, band) + (1.0 - e) * mirror
    return temperature((received - (1.0 - setting) * mirror) / setting, band)


def true_temperature(
    shown: ArrayLike, emissivity: ArrayLike, setting: float, reflected: ArrayLike, band: tuple[float, float]
) -> Floats:
    """The surface's temperature (K) behind what an instrument shows, in its band."""
    e, mirror = np.asarray(emissivity, dtype=np.float64), signal(reflected, band)
    received = setting * signal(shown, band) + (1.0 - setting) * mirror
    return temperature((received - (1.0 - e) * mirror) / e, band)


def true_temperature_t4(shown: float, emissivity: float, setting: float, reflected: float) -> float:
    """The same with T⁴ in place of the band, as handbooks shorten it; for comparison only."""
    received = setting * shown**4 + (1.0 - setting) * reflected**4
    left = (received - (1.0 - emissivity) * reflected**4) / emissivity
    return left**0.25 if left > 0.0 else math.nan


def emissivity_of(shown: float, setting: float, true: float, reflected: float, band: tuple[float, float]) -> float:
    """Emissivity of a surface whose true temperature is known, as from a reference patch beside it.

    Raises :class:`InputError` when the surface is too near the reflected temperature for an answer.
    """
    mirror, own = float(signal(reflected, band)), float(signal(true, band))
    if abs(true - reflected) < 10.0:
        raise InputError(
            f"The surface is only {abs(true - reflected):.1f} K from the reflected temperature: heat it further, 10 K at "
            "least, before its emissivity can be told."
        )
    received = setting * float(signal(shown, band)) + (1.0 - setting) * mirror
    return (received - mirror) / (own - mirror)


def warnings_for(angle: float, film: bool, film_thickness: float | None, emissivity: float) -> tuple[str, ...]:
    """Why an infrared reading may mislead beyond its budget, in words."""
    found = []
    if angle > STEEP:
        found.append(
            f"Seen {math.degrees(angle):.0f}° from upright: beyond {math.degrees(STEEP):.0f}° the emissivity falls, and "
            "the reading with it; look more steeply."
        )
    if film and (film_thickness is None or film_thickness < THIN):
        found.append(
            "A clear film this thin lets part of the radiation through: the instrument sees the layer below as well; put a "
            "reference patch on it."
        )
    if emissivity < 0.5:
        found.append(
            "A bright surface mirrors its surroundings more than it shows its own temperature; put a reference patch on it."
        )
    return tuple(found)
