"""The material library: every row is plausible, sourced and complete; the loader refuses what is not."""

from __future__ import annotations

import pytest

from mandorla.core.errors import InputError, LibraryDataError
from mandorla.core.materials.library_data import bed_materials, lookup, polymers
from mandorla.core.materials.plate_library import coatings, plate_surfaces
from mandorla.core.materials.values import PLAUSIBLE, read_value
from mandorla.core.warp.adhesion import adhesion_at, adhesion_of, temperature_factor


@pytest.mark.parametrize("key", sorted(polymers()))
def test_polymer_is_consistent(key: str) -> None:
    p = polymers()[key]
    assert p.glass_transition.typical < p.deposition_temperature.typical
    assert p.stress_free_temperature.typical < p.deposition_temperature.typical
    assert p.softening_temperature >= p.glass_transition.typical
    assert p.structure
    for name in ("density", "modulus", "expansion", "glass_transition", "strength"):
        value = getattr(p, name)
        assert value.low <= value.typical <= value.high
        assert len(value.source) > 20


@pytest.mark.parametrize("key", sorted(bed_materials()))
def test_bed_material_has_sources(key: str) -> None:
    m = bed_materials()[key]
    for name in ("conductivity", "density", "specific_heat", "emissivity", "rating", "modulus", "poisson", "expansion"):
        assert len(getattr(m, name).source) > 20


PAIRS = [(surface, polymer) for surface, s in sorted(plate_surfaces().items()) for polymer in sorted(s.grip)]


@pytest.mark.parametrize(("surface", "polymer"), PAIRS)
def test_every_grip_of_a_surface_has_a_peak(surface: str, polymer: str) -> None:
    grip = adhesion_of(plate_surfaces()[surface], polymer)
    peak = grip.peak_temperature.typical
    assert temperature_factor(peak, grip) == pytest.approx(1.0)
    assert temperature_factor(peak - 20.0, grip) < 1.0
    assert temperature_factor(peak + 20.0, grip) < 1.0
    assert float(temperature_factor(250.0, grip)) == pytest.approx(grip.cold_fraction.typical, abs=0.05)
    now = adhesion_at(plate_surfaces()[surface], polymer, peak)
    assert now.strength == pytest.approx(grip.strength.typical)
    assert now.fracture_energy == pytest.approx(grip.fracture_energy.typical)


def test_grip_is_said_to_be_known_to_a_factor_of_two() -> None:
    for surface in plate_surfaces().values():
        for grip in surface.grip.values():
            assert grip.strength.high / grip.strength.low >= 4.0 * 0.99


GOOD = {"low": 1.0, "typical": 2.0, "high": 3.0, "source": "book"}


@pytest.mark.parametrize("change", [
    {"low": 2.5}, {"high": 1.5}, {"typical": 9e9, "high": 9e9}, {"low": -1.0}, {"source": "nowhere"},
])  # fmt: skip
def test_implausible_rows_are_refused(change: dict[str, object]) -> None:
    with pytest.raises(LibraryDataError):
        read_value("layer.test", "conductivity", {**GOOD, **change}, {"book": "A book"})


def test_rows_without_a_figure_are_refused() -> None:
    with pytest.raises(LibraryDataError, match="needs low"):
        read_value("layer.test", "conductivity", {"typical": 1.0}, {})
    assert read_value("layer.test", "conductivity", GOOD, {"book": "A book"}).relative_spread == pytest.approx(0.5)


def test_every_plausible_range_is_a_range() -> None:
    assert all(low < high for low, high in PLAUSIBLE.values())


def test_unknown_names_are_answered_with_the_known_ones() -> None:
    with pytest.raises(InputError) as caught:
        lookup(polymers(), "unobtainium", "process.polymer")
    assert "asa" in str(caught.value)


def test_every_surface_tells_its_range_its_wear_and_what_bonds_too_strongly() -> None:
    for surface in plate_surfaces().values():
        assert surface.lowest.typical < surface.highest.typical
        assert len(surface.wear) > 20
        assert set(surface.too_strong) <= set(surface.grip)
    assert "petg" in plate_surfaces()["bare_glass"].too_strong
    assert coatings()["glue"].protects, "a release layer is what helps"


def test_every_polymer_tells_how_to_dry_and_anneal_it_and_what_heat_takes() -> None:
    for p in polymers().values():
        assert len(p.moisture) > 15
        assert len(p.annealing) > 15
        assert p.hot_modulus.high <= 1.0
        assert p.across_layers.typical < 1.0
