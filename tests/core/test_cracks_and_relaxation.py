"""Interlayer healing, the energy that delaminations set free, creep of film stress: limits, laws and monotony."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from mandorla.core.materials.library_data import polymers
from mandorla.core.part.process import Placement, Process
from mandorla.core.rig.settings import Criteria
from mandorla.core.tune.operating_point import evaluate, prepare_part
from mandorla.core.units import celsius
from mandorla.core.warp.cracks import (
    broadness,
    contact_temperature,
    delamination_energy,
    film_energy,
    healed_fraction,
    joint_energy,
)
from mandorla.core.warp.estimate import WarpEstimate
from mandorla.core.warp.relaxation import cooled_strain, cooling_strain, hot_share, relaxation_time, retained_modulus
from tests.core.rigs import make_rig, settings
from tests.core.solids import box_sections

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


def freed(strain: float = 4e-3, modulus: float = 2e9, n: int = 20, height: float = 0.04, length: float = 0.12, foot: float = 0.0):  # type: ignore[no-untyped-def]  # fmt: skip
    one = np.ones(n)
    energy = film_energy(strain * one, modulus * one, 0.37, np.zeros(n))
    return delamination_energy(np.linspace(0.0, height, n + 1), energy, modulus * one, length, foot)


def test_films_held_altogether_set_free_all_their_energy() -> None:
    """Held rigidly, what stands above a joint sets free E e²/2 over its height."""
    n, height = 40, 0.05
    found = freed(n=n, height=height, foot=1.0)
    above = height * (1.0 - np.arange(1, n) / n)
    np.testing.assert_allclose(found, 0.5 * 2e9 * 4e-3**2 * above, rtol=1e-9)


def test_two_equal_halves_hold_each_other_by_half() -> None:
    """Bars side by side: half the section below holds back by a half, a quarter of the energy is set free."""
    n, height = 20, 0.04
    middle = freed(n=n, height=height)[n // 2 - 1]
    assert middle == pytest.approx(0.25 * 0.5 * 2e9 * 4e-3**2 * 0.5 * height, rel=1e-9)


def test_a_broad_section_is_held_both_ways() -> None:
    wall, broad = (float(film_energy(np.array([1e-3]), np.array([2e9]), 0.3, np.array([s]))[0]) for s in (0.0, 1.0))
    # E e²/2 along one direction, E e²/(1 - nu) in both
    assert wall == pytest.approx(0.5 * 2e9 * 1e-6)
    assert broad == pytest.approx(2e9 * 1e-6 / 0.7)
    assert 0.0 < broadness(0.01, 0.1) < broadness(0.1, 0.1) < 1.0


def test_energy_goes_with_the_square_of_the_strain_and_hardly_with_the_number_of_blocks() -> None:
    base = freed()
    np.testing.assert_allclose(freed(strain=8e-3), 4.0 * base, rtol=1e-9)
    np.testing.assert_allclose(freed(strain=0.0), 0.0)
    assert freed(n=16)[7] == pytest.approx(freed(n=64)[31], rel=1e-9)


def test_what_stands_higher_than_the_part_is_long_does_not_count() -> None:
    low, tall, taller = (freed(height=h, n=round(h / 0.002), length=0.04, foot=1.0)[0] for h in (0.02, 0.08, 0.16))
    assert tall > low
    assert taller == pytest.approx(tall, rel=1e-9)


def test_a_joint_takes_the_square_of_its_healed_share() -> None:
    full, half = joint_energy(np.array([1.0, 0.5]), ABS)
    assert full == pytest.approx(ABS.joint_energy.typical)
    assert half == pytest.approx(0.25 * full)


def test_creep_is_a_stretched_exponential_of_the_reduced_time() -> None:
    Tg = ABS.glass_transition.typical
    tau = float(relaxation_time(np.array([Tg]), ABS)[0])
    assert tau == pytest.approx(ABS.relaxation_time.typical)
    T, age = np.full(3, Tg), tau * np.array([0.0, 1.0, 8.0])
    hot = float(hot_share(T[:1], ABS)[0])
    np.testing.assert_allclose(retained_modulus(T, age, ABS), hot * np.exp([0.0, -1.0, -2.0]), rtol=1e-9)
    # years at room temperature, seconds well above
    room, melt = relaxation_time(np.array([celsius(23.0), Tg + 40.0]), ABS)
    assert 1e7 < room < 1e9
    assert np.log10(melt / tau) == pytest.approx(-17.44 * 40.0 / 91.6)


def test_crystals_keep_their_share_up_to_near_melting() -> None:
    pa12 = polymers()["pa12"]
    onset = pa12.stress_free_temperature.typical
    T = np.array([celsius(100.0), onset + 25.0])
    left = retained_modulus(T, np.full(2, 1e9), pa12)
    assert left[0] == pytest.approx(pa12.crystal_plateau.typical, rel=1e-6)
    assert left[1] < 0.01
    assert polymers()["abs"].crystal_plateau.typical == 0.0


def test_increments_are_summed_each_over_its_own_time() -> None:
    """One time at the last temperature would overstate what is left: films shed stress while they are hot."""
    landing, end = np.array([celsius(80.0)]), np.array([celsius(30.0)])
    fresh, late = cooled_strain(landing, end, np.array([60.0]), np.array([7200.0]), ABS)
    alpha, free = ABS.expansion.typical, ABS.stress_free_temperature.typical
    once = alpha * (free - end) * retained_modulus(end, np.array([7260.0]), ABS)
    assert 0.6 * once < fresh + late < 0.95 * once
    # without time it is elastic: alpha dT with the modulus of each temperature on the way
    young = replace(ABS, relaxation_time=replace(ABS.relaxation_time, typical=1e30))
    fresh, late = cooled_strain(landing, end, np.array([60.0]), np.array([7200.0]), young)
    middle = hot_share(0.5 * (free + end), young)
    assert fresh + late == pytest.approx(alpha * (free - end) * middle, rel=2e-3)


def test_no_stress_arises_above_the_stress_free_temperature() -> None:
    hot = np.array([ABS.stress_free_temperature.typical + 10.0])
    fresh, late = cooled_strain(hot, hot, np.array([10.0]), np.array([100.0]), ABS)
    assert fresh[0] == late[0] == 0.0
    assert cooling_strain(hot, celsius(22.0), ABS)[0] > 0.0


def test_heat_takes_stiffness_in_a_straight_line_to_the_librarys_share() -> None:
    end, room = ABS.stress_free_temperature.typical, celsius(23.0)
    share = hot_share(np.array([celsius(0.0), room, 0.5 * (room + end), end, end + 40.0]), ABS)
    hot = ABS.hot_modulus.typical
    np.testing.assert_allclose(share, [1.0, 1.0, 0.5 * (1.0 + hot), hot, hot], rtol=1e-9)


def test_hotter_and_older_means_softer() -> None:
    Tg = ABS.glass_transition.typical
    by_age = retained_modulus(np.full(5, Tg - 10.0), np.logspace(0, 6, 5), ABS)
    by_heat = retained_modulus(Tg - np.linspace(60.0, 0.0, 5), np.full(5, 3600.0), ABS)
    assert np.all(np.diff(by_age) < 0)
    assert np.all(np.diff(by_heat) < 0)


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


def test_no_film_stores_more_than_its_contraction_springs_back() -> None:
    """Two Maxwell elements, one of them relaxed: the strain is the stress over the modulus that is left, and the energy is that of
    the spring that still pulls. Where that modulus is said softer than the stress knows, it is half the stress times the
    contraction."""
    strain, whole, left, none = np.array([2e-3]), 2e9, 0.3, np.zeros(1)
    stress = left * whole * strain
    kept = float(film_energy(stress / (left * whole), np.array([left * whole]), 0.3, none, strain)[0])
    assert kept == pytest.approx(0.5 * left * whole * 2e-3**2)
    soft = 0.01 * whole  # at a mean temperature above the glass transition, of a film that has gone cold
    bounded = float(film_energy(stress / soft, np.array([soft]), 0.3, none, strain)[0])
    assert bounded == pytest.approx(0.5 * float(stress[0]) * 2e-3)
    assert float(film_energy(stress / soft, np.array([soft]), 0.3, none)[0]) > 20.0 * bounded
    assert float(film_energy(strain, np.array([soft]), 0.3, none, none)[0]) == 0.0


def post(fan: float) -> WarpEstimate:
    """A post of PETG, 42 x 38 x 170 mm, on an open machine."""
    rig = make_rig(width=0.235, depth=0.235, power=220.0, plate=0.003, enclosed=False, room=21.0)
    use = settings(77.0, 25.0).model_copy(update={"fan": fan})
    part = prepare_part(box_sections(0.042, 0.038, 0.17), Process(polymer="petg", infill=0.25))
    found = evaluate(rig, use, Criteria(), part, Placement()).warp
    assert found is not None
    return found


def test_a_hot_post_that_goes_cold_does_not_crack_for_being_printed_without_a_fan() -> None:
    """Its layers land above the glass transition and relax: less stress is left than with a fan, and no larger index."""
    found = {fan: post(fan).crack_index for fan in (0.0, 0.5)}
    assert found[0.0] < 1.1 * found[0.5]
    assert max(found.values()) < 0.6
