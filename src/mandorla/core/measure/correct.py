"""From what an instrument shows to what is true: every correction with its place in the uncertainty budget."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.materials.library_data import seen_surfaces
from mandorla.core.measure import infrared
from mandorla.core.measure.calibration import correction_of, is_due
from mandorla.core.measure.models import CONTACT, INFRARED, Instrument, Reading
from mandorla.core.measure.open_lid import UNKNOWN
from mandorla.core.measure.uncertainty import Budget, Source, propagate, rectangular, repeated
from mandorla.core.rig.bed import Bed
from mandorla.core.thermal.parameter_samples import AT_NINETY

TIP_CONDUCTANCE: Final = 3000.0  # W/m²K between tip and surface, with a drop of paste
STEM_UNKNOWN: Final = 0.35  # of the stem loss, standard: grip of the tip, bend of the wires, air along them
MEASURED_EMISSIVITY: Final = 0.02  # standard, of an emissivity that was entered as measured
ANGLE_UNKNOWN: Final = 0.02  # of the emissivity, standard, for a view beyond 50 degrees


@dataclass(frozen=True, slots=True)
class Corrected:
    """A reading as it was shown (K), as it is (a budget), by what it was moved, and what to mind."""

    shown: float
    budget: Budget
    steps: tuple[tuple[str, float], ...]
    warnings: tuple[str, ...]

    @property
    def value(self) -> float:
        """The corrected value in K."""
        return self.budget.value


def constriction(bed: Bed | None, radius: float) -> float:
    """Thermal resistance (K/W) from a bed's inside to a round tip on its surface.

    Spreading under a disc at one temperature, 1/(4 k a), of the top layer; a thin top layer over a better conductor is the disc's
    column through it plus the spreading below (Carslaw and Jaeger 8.2; the smaller of the two, an upper bound each).
    """
    contact = 1.0 / (TIP_CONDUCTANCE * math.pi * radius**2)
    if bed is None:
        return contact
    top = bed.layers[0]
    k = top.properties().conductivity
    spread = 1.0 / (4.0 * k * radius)
    if len(bed.layers) > 1:
        below = bed.layers[1].properties().conductivity
        column = (top.thickness / k + top.contact_resistance) / (math.pi * radius**2) + 1.0 / (4.0 * below * radius)
        spread = min(spread, column)
    return contact + spread


def stem_share(instrument: Instrument, bed: Bed | None) -> float:
    """Share of its excess over the air that a contact probe loses through its stem."""
    product = instrument.stem_conductance * constriction(bed, instrument.tip_radius)
    return product / (1.0 + product)


def emissivity_source(surface: str, measured: tuple[float, float] | None = None) -> Source:
    """A surface's emissivity: the library's range as 90 %, or measured with its standard uncertainty."""
    if measured is not None:
        return Source("emissivity", measured[0], measured[1])
    if surface not in seen_surfaces():
        raise InputError(f"“{surface}” is no surface of the library of emissivities.")
    e = seen_surfaces()[surface].emissivity
    return Source("emissivity", e.typical, 0.5 * (e.high - e.low) / AT_NINETY)


SHARES: Final = frozenset({"emissivity", "stem loss"})  # sources without a unit; all others are temperatures


def correct_reading(
    reading: Reading, instrument: Instrument, day: str, ambient: tuple[float, float], bed: Bed | None = None,
    measured_emissivity: tuple[float, float] | None = None, cooled: float = 0.0,
) -> Corrected:  # fmt: skip
    """The true temperature behind a reading, with its budget; ``ambient`` K is the air around a contact probe's stem, with its
    standard uncertainty; ``cooled`` K is what the place has lost through an open lid.

    Raises :class:`InputError` for a mean of nothing and for an infrared reading that no temperature can explain.
    """
    if measured_emissivity is None and reading.emissivity > 0.0:
        measured_emissivity = (reading.emissivity, MEASURED_EMISSIVITY)
    instrument = instrument.as_set(reading.setting)
    shown = repeated("reading", reading.raw)
    c = correction_of(instrument, day)
    sources = [
        shown,
        Source("resolution", 0.0, rectangular(0.5 * instrument.resolution), shape="uniform"),
        Source("calibration" if c.points else "maker's limits", 0.0, c.u(shown.value)),
    ]
    warnings = []
    if c.points and is_due(instrument, day):
        warnings.append(f"{instrument.name} was due for calibration on {c.due}.")
    if not c.points:
        warnings.append(f"{instrument.name} was never calibrated; the maker's limits stand in.")
    steps = [("calibration", -c.error(shown.value))]

    def corrected(raw: float, resolution: float, calibration: float) -> float:
        return raw - c.error(raw) + resolution + calibration

    model: Callable[..., float] = corrected
    if instrument.kind in INFRARED:
        model = _seen(reading, instrument, sources, corrected, measured_emissivity)
        film = bool(reading.surface) and seen_surfaces()[reading.surface].film
        thickness = bed.layers[0].thickness if bed is not None else None
        warnings += infrared.warnings_for(reading.angle, film, thickness, sources[3].value)
        steps.append(
            ("emissivity and mirror image", model(*(s.value for s in sources)) - corrected(shown.value, 0.0, 0.0))
        )
    elif instrument.kind in CONTACT and reading.place == "surface":
        share = stem_share(instrument, bed)
        sources += [
            Source("stem loss", share, STEM_UNKNOWN * share),
            Source("air along the stem", *ambient),
        ]

        def stemmed(raw: float, resolution: float, calibration: float, lost: float, air: float) -> float:
            tip = corrected(raw, resolution, calibration)
            return tip + min(max(lost, 0.0), 0.9) / (1.0 - min(max(lost, 0.0), 0.9)) * (tip - air)

        model = stemmed
        steps.append(
            ("stem loss", stemmed(shown.value, 0.0, 0.0, share, ambient[0]) - corrected(shown.value, 0.0, 0.0))
        )
    if cooled > 0.0:
        shut = model
        sources.append(Source("cooled by the open lid", cooled, UNKNOWN * cooled))
        model = lambda *values: shut(*values[:-1]) + values[-1]  # noqa: E731 (what was there, and what was lost)
        steps.append(("open lid", cooled))
    budget = propagate(model, sources)
    if not math.isfinite(budget.value) or not math.isfinite(budget.u):
        raise InputError(
            f"{instrument.name}: no temperature explains what is shown with this emissivity and reflected temperature; "
            "check both, or put a reference patch on the surface."
        )
    return Corrected(shown.value, budget, tuple(steps), tuple(warnings))


def _seen(
    reading: Reading, instrument: Instrument, sources: list[Source], corrected: Callable[..., float],
    measured: tuple[float, float] | None,
) -> Callable[..., float]:  # fmt: skip
    """Add an infrared instrument's own sources and return its model."""
    e = emissivity_source(reading.surface or "polyetherimide_sheet", measured)
    u = e.u if reading.angle <= infrared.STEEP else math.hypot(e.u, ANGLE_UNKNOWN * e.value)
    sources += [Source(e.name, e.value, u), Source("reflected temperature", reading.reflected, 3.0)]
    band = (instrument.band_low, instrument.band_high)

    def model(raw: float, resolution: float, calibration: float, emissivity: float, mirror: float) -> float:
        tip = corrected(raw, resolution, calibration)
        e = min(max(emissivity, 0.01), 1.0)
        return float(infrared.true_temperature(tip, e, instrument.emissivity, mirror, band))

    return model


def patch_emissivity(on_surface: Reading, on_patch: Reading, instrument: Instrument, day: str) -> tuple[float, float]:
    """Emissivity of a surface from a reference patch beside it, with its standard uncertainty.

    Both readings come from one instrument, so its calibration cancels in part; it is taken from the difference of both.
    """
    if not on_patch.surface or not seen_surfaces()[on_patch.surface].reference:
        raise InputError("The patch must be a reference: tape, paint or marker from the library.")
    band = (instrument.band_low, instrument.band_high)
    set_for = tuple(instrument.as_set(r.setting).emissivity for r in (on_surface, on_patch))
    here = repeated("surface", on_surface.raw)
    there = repeated("patch", on_patch.raw)
    e = emissivity_source(on_patch.surface)
    c = correction_of(instrument, day)
    sources = [
        here, there, Source(e.name, e.value, e.u), Source("reflected temperature", on_surface.reflected, 3.0),
        Source("calibration", 0.0, c.u(there.value)), Source("evenness between both", 0.0, 0.3),
    ]  # fmt: skip

    def model(a: float, b: float, emissivity: float, mirror: float, shift: float, uneven: float) -> float:
        true = float(infrared.true_temperature(b - c.error(b) + shift, min(emissivity, 1.0), set_for[1], mirror, band))
        return infrared.emissivity_of(a - c.error(a) + shift, set_for[0], true + uneven, mirror, band)

    found = propagate(model, sources)
    return float(np.clip(found.value, 0.01, 1.0)), found.u
