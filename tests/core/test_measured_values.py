"""Uncertainty, calibration and correction of readings, checked by Monte Carlo and by fixed points."""

from __future__ import annotations

import math

import numpy as np
import pytest

from mandorla.core.errors import InputError
from mandorla.core.measure.calibration import boil, boiling_point, correction_of, ice_point, is_due, pressure_at
from mandorla.core.measure.combine import Witness, combine, weighted_mean
from mandorla.core.measure.correct import constriction, correct_reading, patch_emissivity, stem_share
from mandorla.core.measure.infrared import shown_for, true_temperature
from mandorla.core.measure.models import Calibration, Instrument, Reading
from mandorla.core.measure.uncertainty import Source, coverage_factor, propagate, rectangular, repeated, sampled
from mandorla.core.units import UnitPreferences, celsius
from tests.core.rigs import make_rig

BAND = (8e-6, 14e-6)
PROBE = Instrument(name="Probe", kind="thermocouple", accuracy=1.5, accuracy_of_reading=0.004)
IMAGER = Instrument(name="Imager", kind="imager", accuracy=1.5, accuracy_of_reading=0.0, emissivity=0.95)
AIR = (295.15, 3.0)


# ---- uncertainty
def test_end_gauge_of_the_guide() -> None:
    """GUM H.1: length of an end gauge, combined standard uncertainty 32 nm from its main parts (25.0, 9.7, 2.9, 16.6 nm)."""
    parts = [
        Source(n, 0.0, u)
        for n, u in (("standard", 25.0), ("difference", 9.7), ("expansion", 2.9), ("temperature", 16.6))
    ]
    budget = propagate(lambda *v: sum(v), parts)
    assert budget.u == pytest.approx(31.7, abs=0.1)


def test_degrees_of_freedom_of_welch_and_satterthwaite() -> None:
    budget = propagate(lambda a, b: a + b, [Source("a", 0.0, 1.0, "A", 4.0), Source("b", 0.0, 1.0, "A", 4.0)])
    assert budget.freedom == pytest.approx(8.0)
    assert budget.k == pytest.approx(2.306, abs=1e-3)
    assert coverage_factor(math.inf) == pytest.approx(1.96, abs=1e-3)


def test_a_mean_of_nothing_and_of_holes_is_refused() -> None:
    with pytest.raises(InputError, match="nothing to take the mean of"):
        repeated("x", [])
    with pytest.raises(InputError, match="1 of 2"):
        repeated("x", [1.0, math.nan])


@pytest.mark.parametrize(("e", "ue", "T"), [(0.9, 0.02, 100.0), (0.8, 0.03, 60.0), (0.92, 0.03, 150.0)])
def test_infrared_propagation_against_monte_carlo(e: float, ue: float, T: float) -> None:
    """First order against 40 000 samples: within 3 % of each other, as much as the curvature leaves."""
    shown = float(shown_for(celsius(T), e, 0.95, 297.0, BAND))
    sources = [Source("shown", shown, 0.5), Source("e", e, ue), Source("mirror", 297.0, 3.0)]
    budget = propagate(lambda s, q, m: float(true_temperature(s, q, 0.95, m, BAND)), sources)
    mean, u, low, high = sampled(
        lambda s, q, m: true_temperature(s, np.clip(q, 0.05, 1.0), 0.95, m, BAND), sources, 40000
    )
    assert mean == pytest.approx(budget.value, abs=0.15 * u)
    assert u == pytest.approx(budget.u, rel=0.05)
    assert high - low == pytest.approx(2 * budget.expanded, rel=0.05)


def test_stem_loss_propagation_against_monte_carlo() -> None:
    rig = make_rig()
    reading = Reading(instrument="Probe", raw=(celsius(93.2), celsius(93.5), celsius(93.1), celsius(93.4)))
    found = correct_reading(reading, PROBE, "2026-01-10", AIR, rig.bed)
    share = stem_share(PROBE, rig.bed)
    c = correction_of(PROBE, "2026-01-10")
    raw = np.array(reading.raw)
    sources = [
        Source("raw", float(raw.mean()), float(raw.std(ddof=1) / 2.0), "A", 3.0),
        Source("resolution", 0.0, rectangular(0.05), shape="uniform"), Source("limits", 0.0, c.u(float(raw.mean()))),
        Source("stem", share, 0.35 * share), Source("air", *AIR),
    ]  # fmt: skip
    mean, u, low, high = sampled(lambda r, q, k, s, a: (r + q + k) + s / (1 - s) * ((r + q + k) - a), sources, 60000)
    assert found.value == pytest.approx(mean, abs=0.08 * u)  # what the curvature of s/(1 - s) shifts
    assert found.budget.u == pytest.approx(u, rel=0.05)
    assert 2 * found.budget.expanded == pytest.approx(high - low, rel=0.05)
    assert found.value > found.shown
    assert dict(found.steps)["stem loss"] > 0.0


# ---- fixed points and calibration
@pytest.mark.parametrize(("pressure", "boils"), [(101325.0, 99.974), (90000.0, 96.69), (70000.0, 89.93)])
def test_boiling_point_of_the_steam_tables(pressure: float, boils: float) -> None:
    assert boiling_point(pressure) - 273.15 == pytest.approx(boils, abs=0.03)


def test_standard_atmosphere() -> None:
    assert pressure_at(0.0) == 101325.0
    assert pressure_at(1000.0) == pytest.approx(89874.6, rel=1e-3)
    assert pressure_at(3000.0) == pytest.approx(70108.5, rel=1e-3)
    with pytest.raises(InputError, match="altitude"):
        pressure_at(20000.0)
    with pytest.raises(InputError, match="either"):
        boil("2026-01-01", 372.0)
    with pytest.raises(InputError, match="air pressure"):
        boiling_point(2e4)


def test_weather_widens_a_boiling_point_known_by_its_altitude_only() -> None:
    by_height, by_barometer = boil("2026-01-01", 372.0, altitude=500.0), boil("2026-01-01", 372.0, pressure=95461.0)
    assert by_height.reference == pytest.approx(by_barometer.reference, abs=0.01)
    assert by_height.uncertainty > 2 * by_barometer.uncertainty > 0.15


def test_two_points_give_offset_and_gain() -> None:
    done = (ice_point("2026-01-01", celsius(1.5)), boil("2026-01-01", boiling_point(101325.0) + 2.5, pressure=101325.0))
    probe = PROBE.model_copy(update={"calibrations": done})
    c = correction_of(probe, "2026-01-05")
    assert c.points == 2
    assert c.error(celsius(1.5)) == pytest.approx(1.5, abs=1e-9)
    assert c.error(boiling_point(101325.0) + 2.5) == pytest.approx(2.5, abs=1e-9)
    assert c.error(celsius(51.7)) == pytest.approx(2.0, abs=0.02)
    assert c.u(celsius(150.0)) > c.u(celsius(50.0))


def test_covariance_of_offset_and_gain_by_sampling() -> None:
    """Calibrations drawn again and again scatter as the covariance says (4000 draws: 4 % of a standard deviation)."""
    rng = np.random.default_rng(1)
    probe = PROBE.model_copy(update={"resolution": 0.0, "accuracy": 0.0})
    truth = np.array([273.15, 372.0])
    errors = []
    for _ in range(4000):
        shown = truth + rng.normal(0.0, [0.05, 0.2])
        done = tuple(
            Calibration(date="2026-01-01", kind="ice point", shown=float(s), reference=float(t), uncertainty=u)
            for s, t, u in zip(shown, truth, (0.05, 0.2), strict=True)
        )
        errors.append(correction_of(probe.model_copy(update={"calibrations": done}), "2026-01-01").error(420.0))
    last = correction_of(probe.model_copy(update={"calibrations": done}), "2026-01-01")
    assert np.std(errors) == pytest.approx(last.u(420.0), rel=0.05)


def test_one_point_gives_an_offset_and_leaves_the_makers_gain() -> None:
    probe = PROBE.model_copy(update={"calibrations": (ice_point("2026-01-01", celsius(0.8)),)})
    c = correction_of(probe, "2026-01-01")
    assert c.error(celsius(90.0)) == pytest.approx(0.8)
    assert c.u(celsius(90.0)) > c.u(celsius(0.0))


def test_drift_and_due_date() -> None:
    old, new = ice_point("2025-01-01", celsius(0.2)), ice_point("2026-01-01", celsius(1.4))
    probe = PROBE.model_copy(update={"calibrations": (old, new)})
    assert correction_of(probe, "2026-01-01").drift == 0.0
    assert correction_of(probe, "2027-01-01").drift == pytest.approx(rectangular(1.2), rel=0.01)
    assert not is_due(probe, "2026-06-01")
    assert is_due(probe, "2027-06-01")
    assert is_due(PROBE, "2026-01-01")
    assert correction_of(probe, "2025-06-01").offset == pytest.approx(0.2)  # what was known then


def test_stem_loss_of_a_probe_on_a_poor_conductor() -> None:
    """1 mW/K on glass at 100 °C reads some 5 K low; on metal less than 1 K."""
    rig = make_rig()
    glass = rig.bed.layers[0].model_copy(update={"material": "borosilicate_glass", "thickness": 0.004})
    metal = rig.bed.layers[3]
    on_glass = rig.bed.model_copy(update={"layers": (glass, *rig.bed.layers[1:])})
    on_metal = rig.bed.model_copy(update={"layers": (metal,)})
    assert stem_share(PROBE, on_glass) * 75.0 == pytest.approx(5.0, abs=2.0)
    assert stem_share(PROBE, on_metal) * 75.0 < 3.0
    assert constriction(on_glass, 0.002) > constriction(on_metal, 0.002)


# ---- infrared readings
def test_patch_beside_gives_the_emissivity_and_mends_the_reading() -> None:
    T, mirror = celsius(95.0), celsius(24.0)
    seen, on_tape = (float(shown_for(T, e, 0.95, mirror, BAND)) for e in (0.8, 0.95))
    bare = Reading(instrument="Imager", raw=(seen,), surface="polyetherimide_sheet", reflected=mirror)
    tape = bare.model_copy(update={"raw": (on_tape,), "surface": "matt_black_tape"})
    e, u = patch_emissivity(bare, tape, IMAGER, "2026-01-01")
    assert e == pytest.approx(0.8, abs=0.002)
    assert 0.005 < u < 0.03
    plain = correct_reading(bare, IMAGER, "2026-01-01", AIR)
    mended = correct_reading(bare, IMAGER, "2026-01-01", AIR, None, (e, u))
    assert plain.value < T - 4.0
    assert mended.value == pytest.approx(T, abs=0.2)
    assert any("film" in w for w in plain.warnings)
    with pytest.raises(InputError, match="reference"):
        patch_emissivity(bare, bare, IMAGER, "2026-01-01")


def test_a_reading_that_nothing_explains_is_refused() -> None:
    bare = Reading(instrument="Imager", raw=(celsius(5.0),), surface="polished_aluminium", reflected=celsius(60.0))
    with pytest.raises(InputError, match="no temperature explains"):
        correct_reading(bare, IMAGER, "2026-01-01", AIR)


# ---- together
def test_weighted_mean_and_birge_ratio() -> None:
    mean, u, birge, chance = weighted_mean([10.0, 12.0], [1.0, 1.0])
    assert (mean, u) == (11.0, pytest.approx(math.sqrt(0.5)))
    assert birge == pytest.approx(math.sqrt(2.0))
    assert 0.1 < chance < 0.2
    with pytest.raises(InputError):
        weighted_mean([], [])


def witness(instrument: Instrument, T: float, **extra: object) -> Witness:
    reading = Reading(instrument=instrument.name, raw=(T, T + 0.1, T - 0.1), **extra)  # type: ignore[arg-type]
    return Witness(reading, instrument, correct_reading(reading, instrument, "2026-01-02", AIR))


def calibrated(name: str) -> Instrument:
    done = (ice_point("2026-01-01", 273.15), boil("2026-01-01", boiling_point(101325.0), pressure=101325.0))
    return PROBE.model_copy(update={"name": name, "calibrations": done})


def test_agreeing_instruments_are_combined() -> None:
    found = combine([witness(calibrated("A"), 368.0, place="frame"), witness(calibrated("B"), 368.3, place="frame")])
    assert found.consistent
    assert found.left_out == ()
    assert found.u < witness(calibrated("A"), 368.0, place="frame").corrected.budget.u


def test_the_one_that_does_not_fit_is_named_with_the_likeliest_reason() -> None:
    T, mirror = celsius(95.0), celsius(24.0)
    seen = float(shown_for(T, 0.80, 0.95, mirror, BAND))
    witnesses = [
        witness(calibrated("A"), T, place="frame"), witness(calibrated("B"), T + 0.2, place="frame"),
        witness(IMAGER, seen, surface="matt_black_tape", reflected=mirror),
    ]  # fmt: skip
    found = combine(witnesses, UnitPreferences())
    ((named, off, reason),) = found.left_out
    assert named.instrument.name == "Imager"
    assert off < -5.0
    assert "emissivity of 0.8" in reason
    assert "tape patch" in reason.lower()
    assert found.value == pytest.approx(T, abs=0.5)


def test_two_that_disagree_name_no_culprit_and_widen() -> None:
    low, high = witness(calibrated("A"), 360.0, place="frame"), witness(calibrated("B"), 368.0, place="frame")
    found = combine([low, high])
    assert not found.consistent
    assert len(found.left_out) == 2
    assert found.expanded > 5.0
    assert abs(found.value - 364.0) < 1.0
