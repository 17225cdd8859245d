"""The bench exercise: find the true surface temperature of a mystery rig with instruments that mislead.

Everything a person may do on the bench is a method; the hidden truth is told at the end. :meth:`Exercise.solve` follows the stage's
own advice, so that tests can hold its answers against the truth over many seeds.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Final

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.measure.calibration import boil, ice_point
from mandorla.core.measure.combine import Combined, Witness, combine
from mandorla.core.measure.correct import correct_reading, patch_emissivity
from mandorla.core.measure.models import Calibration, Instrument, Reading
from mandorla.core.measure.simulated_instruments import (
    Bench,
    Faults,
    bench_of,
    display_shows,
    imager_shows,
    probe_shows,
    rounded,
)
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.thermal.parameter_samples import AT_NINETY, rig_unknowns, typical_sample

DAY: Final = "2026-05-04"
ALTITUDE: Final = 430.0  # m, of the workshop
PROBE: Final = Instrument(name="Bench probe", kind="thermocouple", accuracy=1.5, accuracy_of_reading=0.004)
IMAGER: Final = Instrument(name="Bench imager", kind="imager", accuracy=1.5, accuracy_of_reading=0.0, emissivity=0.95)
DISPLAY: Final = Instrument(name="Display", kind="printer sensor", accuracy=2.0)
_WAIT: Final = 5400.0  # s


@dataclass(slots=True)
class Exercise:
    """A mystery rig on the bench: ``rig`` as it is believed to be, set to ``settings``; what was done so far."""

    rig: Rig
    settings: Settings
    bench: Bench
    faults: Faults
    reflected: float
    seed: int
    probe: Instrument = PROBE
    imager: Instrument = IMAGER
    readings: list[Reading] = field(default_factory=list)
    _count: int = 0

    @classmethod
    def begin(cls, rig: Rig, settings: Settings, criteria: Criteria, seed: int) -> Exercise:
        """Draw a rig about what is believed of it, and faults for the instruments."""
        rng = np.random.default_rng(seed)
        draw = typical_sample(rig)
        for unknown in rig_unknowns(rig):
            unknown.apply(draw, float(rng.normal() / AT_NINETY))
        bench = bench_of(rig, settings, criteria, _WAIT, draw)
        return cls(rig, settings, bench, Faults.drawn(seed), rig.room_temperature + 3.0, seed)

    # ---- what the person may do
    def _rng(self) -> np.random.Generator:
        self._count += 1
        return np.random.default_rng((self.seed, self._count))

    def display(self) -> Reading:
        """Read the printer's display."""
        return self._note(
            Reading(instrument=DISPLAY.name, place="sensor", raw=(display_shows(self.bench, _WAIT),), time=_WAIT)
        )

    def ice(self) -> Calibration:
        """Hold the probe in an ice bath."""
        rng = self._rng()
        shown = rounded(
            probe_shows(273.15 + rng.normal(0.0, 0.05), self.faults, self.probe, None, 295.15), self.probe, 0.05, rng
        )
        return self._calibrated(ice_point(DAY, float(shown)))

    def boiling(self) -> Calibration:
        """Hold the probe in boiling water, corrected for the workshop's altitude."""
        rng = self._rng()
        exact = boil(DAY, 372.0, altitude=ALTITUDE)
        true = exact.reference + rng.normal(0.0, exact.uncertainty)
        shown = rounded(probe_shows(true, self.faults, self.probe, None, 295.15), self.probe, 0.05, rng)
        return self._calibrated(boil(DAY, float(shown), altitude=ALTITUDE))

    def _calibrated(self, done: Calibration) -> Calibration:
        self.probe = self.probe.model_copy(update={"calibrations": (*self.probe.calibrations, done)})
        return done

    def press_probe(self, times: int = 5) -> Reading:
        """Press the probe, with paste, on the middle of the surface."""
        rng = self._rng()
        air = float(self.bench.curves["air"][-1])
        shown = probe_shows(np.full(times, self.truth), self.faults, self.probe, self.rig.bed, air)
        raw = tuple(float(v) for v in rounded(shown, self.probe, self.faults.noise, rng))
        return self._note(Reading(instrument=self.probe.name, raw=raw, time=_WAIT))

    def air(self) -> Reading:
        """Hold the probe in the air above the bed."""
        rng = self._rng()
        shown = rounded(
            probe_shows(self.bench.curves["air"][-1], self.faults, self.probe, None, 295.15),
            self.probe,
            self.faults.noise,
            rng,
        )
        return self._note(Reading(instrument=self.probe.name, place="upper air", raw=(float(shown),), time=_WAIT))

    def look(self, *, tape: bool) -> Reading:
        """Point the imager at the bare middle, or at a piece of matt black tape on it."""
        rng = self._rng()
        e = self.faults.tape if tape else self.faults.emissivity
        mirror = self.reflected + rng.normal(0.0, 2.0)
        shown = imager_shows(np.full(3, self.truth), e, self.faults, self.imager, float(mirror))
        raw = tuple(float(v) for v in rounded(shown, self.imager, 0.08, rng))
        surface = "matt_black_tape" if tape else "polyetherimide_sheet"
        return self._note(
            Reading(instrument=self.imager.name, raw=raw, surface=surface, reflected=self.reflected, time=_WAIT)
        )

    def _note(self, reading: Reading) -> Reading:
        self.readings.append(reading)
        return reading

    # ---- what is true and what the stage says
    @property
    def truth(self) -> float:
        """The hidden temperature (K) of the middle of the surface."""
        return float(self.bench.curves["surface"][-1])

    def answer(self) -> Combined:
        """The stage's estimate from what was done so far. Raises :class:`InputError` before anything was read on the surface."""
        witnesses = []
        air = next((r for r in self.readings if r.place == "upper air"), None)
        around = (float(np.mean(air.raw)), 3.0) if air is not None else (self.rig.room_temperature, 15.0)
        tape = next((r for r in self.readings if r.surface == "matt_black_tape"), None)
        for reading in self.readings:
            if reading.place != "surface":
                continue
            instrument = self.probe if reading.instrument == self.probe.name else self.imager
            if instrument is self.imager and tape is not None and reading is not tape:
                continue  # it carries nothing that the tape does not say better
            witnesses.append(
                Witness(reading, instrument, correct_reading(reading, instrument, DAY, around, self.rig.bed))
            )
        if not witnesses:
            raise InputError("Nothing was read on the surface yet.")
        return combine(witnesses)

    def surface_emissivity(self) -> tuple[float, float]:
        """Emissivity of the bare surface from the tape beside it, with its standard uncertainty."""
        bare = next((r for r in self.readings if r.surface == "polyetherimide_sheet"), None)
        tape = next((r for r in self.readings if r.surface == "matt_black_tape"), None)
        if bare is None or tape is None:
            raise InputError("The bare surface and the tape must both be looked at.")
        return patch_emissivity(bare, tape, self.imager, DAY)

    def next_step(self) -> str:
        """What the stage advises to do next, in words."""
        done = {(r.instrument, r.place, r.surface) for r in self.readings}
        kinds = {c.kind for c in self.probe.calibrations}
        if (DISPLAY.name, "sensor", "") not in done:
            return "Read the display: it tells of the sensor, not of the surface."
        if "ice point" not in kinds:
            return "Try the probe in an ice bath first: an uncalibrated probe may be off by more than the bed is."
        if "boiling point" not in kinds:
            return "Try the probe in boiling water, corrected for the altitude: a second point tells the gain."
        if (self.probe.name, "upper air", "") not in done:
            return "Hold the probe in the air over the bed: its stem loses heat to that."
        if (self.probe.name, "surface", "") not in done:
            return "Press the probe on the middle, with paste, five times."
        if not any(place == "surface" and s == "matt_black_tape" for _, place, s in done):
            return "Stick a piece of matt black tape on the middle and look at it with the imager."
        return "Look at the answer: the instruments agree, or the one that does not is named."

    def solve(self) -> Combined:
        """Follow the advice to its end."""
        self.display()
        self.ice()
        self.boiling()
        self.air()
        self.press_probe()
        self.look(tape=False)
        self.look(tape=True)
        return self.answer()
