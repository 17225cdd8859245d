"""Thermal bow: one face heated, bimetal, uniform plates, grouping, settling."""

from __future__ import annotations

import numpy as np
import pytest

from mandorla.core.rig.bed import Bed, BedLayer
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria
from mandorla.core.thermal.bow import SETTLED, curvature, plate_group, thermal_bow
from mandorla.core.thermal.heatup import heat_up
from tests.core.rigs import make_rig, settings
from tests.core.test_strip import timoshenko_curvature

CRITERIA = Criteria()


def cells(thickness: list[float], moduli: list[float], each: int = 40) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    dz = np.concatenate([np.full(each, t / each) for t in thickness])
    return np.cumsum(dz) - 0.5 * dz, dz, np.repeat(moduli, each)


@pytest.mark.parametrize(("flux", "sag"), [(5e3, 3.3e-6), (8e3, 5.3e-6), (30e3, 20e-6)])
@pytest.mark.parametrize("thickness", [0.005, 0.008, 0.012])
def test_plate_heated_from_below_sags_by_alpha_q_over_2_k_whatever_its_thickness(
    flux: float, sag: float, thickness: float
) -> None:
    """While it warms evenly the flux falls linearly from q to zero through the plate: kappa = alpha q / (2 k); sag over 250 mm."""
    alpha, k, span = 23.5e-6, 138.0, 0.25
    z, dz, modulus = cells([thickness], [71e9], 400)
    T = flux * z**2 / (2 * thickness * k)  # quadratic: no flux at the upper face, q at the lower one
    kappa = float(curvature(z, dz, modulus, (alpha * T)[None, :])[0])
    assert kappa == pytest.approx(-alpha * flux / (2 * k), rel=1e-4)
    assert abs(kappa) * span**2 / 8 == pytest.approx(sag, rel=0.03)


@pytest.mark.parametrize("ratio", [0.3, 1.0, 2.5])
@pytest.mark.parametrize("modulus_ratio", [0.2, 1.0, 4.0])
def test_two_layers_bend_as_timoshenko_says(ratio: float, modulus_ratio: float) -> None:
    height, strain = 0.004, 1e-3
    upper = height * ratio / (1 + ratio)
    z, dz, modulus = cells([upper, height - upper], [71e9 * modulus_ratio, 71e9])
    e = np.where(z < upper, strain, 0.0)
    assert float(curvature(z, dz, modulus, e[None, :])[0]) == pytest.approx(
        timoshenko_curvature(ratio, modulus_ratio, height, strain), rel=1e-3
    )


def test_an_even_temperature_does_not_bend_one_material() -> None:
    z, dz, modulus = cells([0.008], [71e9])
    assert abs(float(curvature(z, dz, modulus, np.full((1, z.size), 2e-3))[0])) < 1e-15


def plain(*layers: BedLayer) -> Rig:
    rig = make_rig(enclosed=False)
    bed = Bed.model_validate({**rig.bed.model_dump(), "layers": layers})
    return rig.model_copy(update={"bed": bed})


PLATE = BedLayer(name="plate", material="cast_aluminium", thickness=0.008, contact_resistance=1e-4)
MAT = BedLayer(name="mat", material="silicone_mat", thickness=0.0015)


def test_only_what_is_bonded_acts_as_the_plate() -> None:
    steel = BedLayer(name="sheet", material="spring_steel", thickness=0.002, contact_resistance=3e-4, bonded=False)
    loose, glued = plain(steel, PLATE, MAT), plain(steel.model_copy(update={"bonded": True}), PLATE, MAT)
    assert plate_group(loose.bed) == (1, 2)
    assert plate_group(glued.bed) == (0, 1, 2)
    bows = [thermal_bow(r, heat_up(r, settings(100.0, 30.0), CRITERIA, with_bands=False)) for r in (loose, glued)]
    # steel expands less than aluminium: bonded on top it pulls the middle down into a bowl
    assert bows[1].end < -5 * abs(bows[0].end)
    assert bows[1].end < -1e-4


def test_glass_bonded_on_aluminium_bows_into_a_bowl_of_known_size() -> None:
    glass = BedLayer(name="glass", material="borosilicate_glass", thickness=0.003, contact_resistance=1e-4)
    rig = plain(glass, PLATE, MAT)
    heat = heat_up(rig, settings(100.0, 30.0), CRITERIA, with_bands=False)
    bow = thermal_bow(rig, heat)
    biaxial = (63e9 / 0.8) / (71e9 / 0.67)
    upper, lower = (float(heat.steady.cells[heat.stack.layer == i].mean()) - rig.room_temperature for i in (0, 1))
    kappa = timoshenko_curvature(3.0 / 8.0, biaxial, 0.011, 23.5e-6 * lower - 3.3e-6 * upper)
    assert bow.end == pytest.approx(-kappa * (0.3**2 + 0.28**2) / 8, rel=0.03)


def test_it_bows_more_while_warming_and_settles() -> None:
    rig = plain(PLATE, MAT)
    heat = heat_up(rig, settings(100.0, 30.0), CRITERIA, with_bands=False)
    bow = thermal_bow(rig, heat)
    assert abs(bow.largest) > abs(bow.end)
    after = bow.time >= bow.settled
    assert np.all(np.abs(bow.bow[after] - bow.end) <= SETTLED)
    early, late = bow.error_of_map(120.0), bow.error_of_map(float(bow.time[-1]))
    assert abs(early) > abs(late)
    assert abs(late) < SETTLED
    assert bow.names == ("plate", "mat")
    assert bow.low < bow.end < bow.high


def test_a_larger_bed_bows_with_the_square() -> None:
    z, dz, modulus = cells([0.008], [71e9])
    kappa = float(curvature(z, dz, modulus, (1e-6 * z / 0.008)[None, :])[0])
    assert kappa < 0.0  # the lower side is the longer one: a bowl
