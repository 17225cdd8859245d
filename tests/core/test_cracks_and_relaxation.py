"""Interlayer healing, opening stress, relaxation: limits, laws and monotony."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from mandorla.core.materials.library_data import polymers
from mandorla.core.units import celsius
from mandorla.core.warp.cracks import contact_temperature, healed_fraction, opening_stress
from mandorla.core.warp.relaxation import WEIGHTS, hot_share, retained_modulus, shift_factor

ABS = polymers()["abs"]


def test_healing_goes_with_the_fourth_root_of_time() -> None:
    slow = replace(ABS, healing_time=replace(ABS.healing_time, typical=1e6))
    slower = replace(ABS, healing_time=replace(ABS.healing_time, typical=16e6))
    landing, time = np.array([celsius(80.0)]), np.array([40.0])
    ratio = healed_fraction(landing, time, 0.0003, slow) / healed_fraction(landing, time, 0.0003, slower)
    assert ratio[0] == pytest.approx(2.0, rel=1e-9)


def test_healing_rises_with_the_substrate_and_never_passes_one() -> None:
    landing = celsius(0.0) + np.linspace(20.0, 200.0, 19)
    healed = healed_fraction(landing, np.full(19, 30.0), 0.0003, ABS)
    assert np.all(np.diff(healed) >= -1e-12)
    assert healed.max() <= 1.0
    assert healed[0] < 0.9 * healed[-1]


def test_nothing_heals_below_the_glass_transition() -> None:
    cold = replace(ABS, deposition_temperature=replace(ABS.deposition_temperature, typical=celsius(100.0)))
    assert healed_fraction(np.array([celsius(60.0)]), np.array([30.0]), 0.0003, cold)[0] == 0.0


def test_contact_of_equal_materials_is_the_mean() -> None:
    assert contact_temperature(np.array([300.0]), 500.0)[0] == pytest.approx(400.0)


def stress(contraction: float = 4e-3, half: float = 0.06, modulus: float = 2e9, n: int = 20) -> np.ndarray:
    one = np.ones(n)
    return opening_stress(np.linspace(0, 0.04, n + 1), modulus * one, 0.06 * one, half * one, contraction * one, 0.37)


def test_opening_stress_scales_with_contraction_and_modulus() -> None:
    base = stress()
    np.testing.assert_allclose(stress(contraction=8e-3), 2 * base, rtol=1e-9)
    np.testing.assert_allclose(stress(modulus=4e9), 2 * base, rtol=1e-9)
    assert np.all(base >= 0.0)
    np.testing.assert_allclose(stress(contraction=0.0), 0.0)


def test_opening_stress_is_largest_where_most_stands_above() -> None:
    base = stress()
    assert base[-1] < base[:5].max()


def test_opening_stress_hardly_depends_on_the_number_of_lumps() -> None:
    coarse, fine = stress(n=16), stress(n=64)
    # the same interface, a quarter of the height up
    assert coarse[3] == pytest.approx(fine[15], rel=0.08)


def test_relaxation_keeps_its_limits() -> None:
    Tg = ABS.glass_transition.typical
    T = np.array([Tg, Tg, celsius(25.0), Tg + 60.0])
    age = np.array([0.0, 1e12, 3600.0, 3600.0])
    left = retained_modulus(T, age, ABS)
    hot = ABS.hot_modulus.typical
    assert left[0] == pytest.approx(hot)
    assert left[1] == pytest.approx(hot * (1.0 - WEIGHTS.sum()), abs=1e-6)
    assert left[2] > 0.95
    assert left[3] == pytest.approx(hot * (1.0 - WEIGHTS.sum()), abs=0.01)


def test_heat_takes_stiffness_in_a_straight_line_to_the_librarys_share() -> None:
    end, room = ABS.stress_free_temperature.typical, celsius(23.0)
    share = hot_share(np.array([celsius(0.0), room, 0.5 * (room + end), end, end + 40.0]), ABS)
    hot = ABS.hot_modulus.typical
    np.testing.assert_allclose(share, [1.0, 1.0, 0.5 * (1.0 + hot), hot, hot], rtol=1e-9)


def test_shift_is_one_at_the_glass_transition_and_falls_with_temperature() -> None:
    Tg = ABS.glass_transition.typical
    T = Tg + np.array([-40.0, -10.0, 0.0, 10.0, 40.0])
    shift = shift_factor(T, Tg)
    assert shift[2] == pytest.approx(1.0)
    assert np.all(np.diff(shift) < 0)
    # the universal WLF constants: 17.44 * 40 / (51.6 + 40) decades
    assert np.log10(shift[-1]) == pytest.approx(-17.44 * 40.0 / 91.6)


def test_hotter_and_older_means_softer() -> None:
    Tg = ABS.glass_transition.typical
    by_age = retained_modulus(np.full(5, Tg - 10.0), np.logspace(0, 6, 5), ABS)
    by_heat = retained_modulus(Tg - np.linspace(60.0, 0.0, 5), np.full(5, 3600.0), ABS)
    assert np.all(np.diff(by_age) < 0)
    assert np.all(np.diff(by_heat) < 0)


def test_films_far_above_an_interface_pull_on_their_own_body_only() -> None:
    """The opening at the foot of a tall body does not grow with its height once it is as tall as it is long."""

    def foot(height: float, half: float = 0.02) -> float:
        n = round(height / 0.002)
        one = np.ones(n)
        stress = opening_stress(np.linspace(0.0, height, n + 1), 2e9 * one, 0.03 * one, half * one, 1e-3 * one, 0.37)
        return float(stress[1])

    low, tall, taller = foot(0.01), foot(0.08), foot(0.16)
    assert tall > low
    assert taller == pytest.approx(tall, rel=0.03)


def test_a_square_body_opens_alike_along_both_directions_and_a_long_one_at_its_ends() -> None:
    from mandorla.core.part.process import Process
    from mandorla.core.part.sections import slice_solid
    from mandorla.core.tune.operating_point import prepare_part
    from mandorla.core.units import celsius
    from mandorla.core.warp.estimate import Conditions, estimate_warp
    from tests.core.bodies import block

    def index(length: float, width: float) -> float:
        part = prepare_part(slice_solid(block(length, width, 0.02)), Process())
        hot = celsius(98.0)
        at = Conditions(hot, hot, np.full(4, hot), celsius(40.0), 0.2, celsius(22.0))
        return estimate_warp(part, at, with_bands=False).crack_index

    assert index(0.08, 0.04) == pytest.approx(index(0.04, 0.08), rel=1e-6)
    assert index(0.12, 0.04) >= index(0.06, 0.04)
