"""Infrared arithmetic against independent integration, known fractions and round trips; the T⁴ shortcut beside it."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.integrate import quad

from mandorla.core.errors import InputError
from mandorla.core.materials.library_data import seen_surfaces
from mandorla.core.measure import infrared as ir
from mandorla.core.units import celsius

BAND = (8e-6, 14e-6)


def planck(wavelength: float, T: float) -> float:
    """Spectral emissive power, W/m³."""
    c1 = 3.741771852e-16
    return c1 / wavelength**5 / math.expm1(ir.C2 / (wavelength * T))


@pytest.mark.parametrize("T", [280.0, 300.0, 373.15, 450.0])
def test_band_emission_against_quadrature(T: float) -> None:
    exact, _ = quad(planck, *BAND, args=(T,), epsrel=1e-10)
    assert float(ir.band_emission(T, *BAND)) == pytest.approx(exact, rel=1e-6)
    assert float(ir.signal(T, BAND)) == pytest.approx(exact, rel=2e-5)


def test_fractions_of_the_handbook() -> None:
    """Incropera, table 12.1: F(0 to 2898 µm K) = 0.2501, F(0 to 4107 µm K) about one half."""
    assert float(ir.fraction_below(2897.8e-6 / 300.0, 300.0)) == pytest.approx(0.2501, abs=3e-4)
    assert float(ir.fraction_below(4107e-6 / 300.0, 300.0)) == pytest.approx(0.5, abs=1e-3)


@given(T=st.floats(285.0, 480.0), e=st.floats(0.3, 1.0), setting=st.floats(0.5, 1.0), mirror=st.floats(270.0, 330.0))
def test_round_trip(T: float, e: float, setting: float, mirror: float) -> None:
    shown = ir.shown_for(T, e, setting, mirror, BAND)
    if np.isfinite(shown):
        assert float(ir.true_temperature(shown, e, setting, mirror, BAND)) == pytest.approx(T, abs=0.01)


def test_right_setting_shows_the_truth_and_a_high_one_too_little() -> None:
    T = celsius(100.0)
    assert float(ir.shown_for(T, 0.9, 0.9, 295.0, BAND)) == pytest.approx(T, abs=1e-3)
    assert float(ir.shown_for(T, 0.8, 0.95, 295.0, BAND)) < T - 5.0


@pytest.mark.parametrize(("celsius_", "off"), [(100.0, -0.7), (160.0, -2.4)])
def test_fourth_power_errs_as_known(celsius_: float, off: float) -> None:
    """An instrument at 0.95 on a surface of 0.8: the shortcut gives 0.7 K too little at 100 °C, 2.4 K at 160 °C."""
    T = celsius(celsius_)
    shown = float(ir.shown_for(T, 0.8, 0.95, celsius(22.0), BAND))
    found = ir.true_temperature_t4(shown, 0.8, 0.95, celsius(22.0))
    assert found - T == pytest.approx(off, abs=0.35)


def test_local_exponent_falls_with_temperature() -> None:
    """ln L over ln T: about 4.5 at 30 °C, 3.4 at 160 °C."""
    for c, exponent in ((30.0, 4.5), (160.0, 3.4)):
        T = celsius(c)
        slope = math.log(float(ir.band_emission(T * 1.001, *BAND) / ir.band_emission(T * 0.999, *BAND))) / math.log(
            1.001 / 0.999
        )
        assert slope == pytest.approx(exponent, abs=0.1)


def test_emissivity_from_a_patch_and_too_cold_a_surface() -> None:
    T, mirror = celsius(90.0), celsius(24.0)
    shown = float(ir.shown_for(T, 0.82, 0.95, mirror, BAND))
    assert ir.emissivity_of(shown, 0.95, T, mirror, BAND) == pytest.approx(0.82, abs=1e-3)
    with pytest.raises(InputError, match="heat it further"):
        ir.emissivity_of(celsius(26.0), 0.95, celsius(27.0), mirror, BAND)


def test_what_is_darker_than_its_mirror_image_has_no_temperature() -> None:
    assert math.isnan(float(ir.true_temperature(200.0, 0.1, 1.0, 320.0, BAND)))


def test_warnings() -> None:
    assert ir.warnings_for(0.2, False, None, 0.95) == ()
    assert "steeply" in ir.warnings_for(math.radians(65.0), False, None, 0.95)[0]
    assert "film" in ir.warnings_for(0.0, True, 0.0001, 0.9)[0]
    assert ir.warnings_for(0.0, True, 0.002, 0.9) == ()
    assert "mirrors" in ir.warnings_for(0.0, False, None, 0.1)[0]


@pytest.mark.parametrize("key", sorted(seen_surfaces()))
def test_every_surface_of_the_library(key: str) -> None:
    s = seen_surfaces()[key]
    assert 0.0 < s.emissivity.low <= s.emissivity.typical <= s.emissivity.high <= 1.0
    assert not s.reference or s.emissivity.typical > 0.8
