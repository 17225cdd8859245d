"""Air below a loose plate: made-up maps recovered, islands against series resistances and the three-dimensional solution."""

from __future__ import annotations

import numpy as np
import pytest

from mandorla.core.errors import InputError
from mandorla.core.measure.heights import HeightMap, air_between
from mandorla.core.project.models import Project
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.rig.air_gap import AirGap, resting_plane
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria
from mandorla.core.thermal.bed_raster import GAP_CONDUCTIVITY, GAP_RADIATION, is_symmetric
from mandorla.core.thermal.heatup import heat_up, shape_of
from mandorla.core.thermal.stack import build_stack
from mandorla.core.thermal.surface_history import surface_history
from tests.core.rigs import make_rig, settings

USE = settings(100.0)
Floats = np.ndarray


def rows(z: Floats) -> tuple[tuple[float, ...], ...]:
    """A matrix as the model keeps it."""
    return tuple(tuple(float(v) for v in row) for row in z)


def over_air(gap: Floats, bed: Floats | None = None, rig: Rig | None = None, remedy: str = "none") -> Rig:
    """A rig whose loose plate lies over some air."""
    rig = rig or make_rig(enclosed=False)
    below = np.zeros_like(gap) if bed is None else bed
    air = AirGap(bed=rows(below), plate=rows(below + gap), width=rig.bed.width, depth=rig.bed.depth, remedy=remedy)
    return rig.model_copy(update={"bed": rig.bed.model_copy(update={"air_gap": air})})


def island(height: float = 4e-4) -> Floats:
    """A wide hollow right of the middle, 21 by 21 points."""
    y, x = np.meshgrid(np.linspace(-1, 1, 21), np.linspace(-1, 1, 21), indexing="ij")
    return height * np.exp(-(((x - 0.4) / 0.35) ** 2) - (y / 0.5) ** 2)


def test_even_air_is_a_resistance_in_series() -> None:
    g = 3e-4
    rig = make_rig(enclosed=False)
    lifted = over_air(np.full((5, 5), g), rig=rig).bed
    # a gap that is the same everywhere touches nowhere: maps know no zero, so it is none
    assert lifted.air_gap is not None
    assert not lifted.air_gap.gap().any()
    step = np.full((5, 5), g)
    step[0, 0] = 0.0
    stack, even = build_stack(over_air(step, rig=rig).bed), build_stack(rig.bed)
    loose = int(np.flatnonzero(stack.layer == rig.bed.loose_plate)[-1])
    more = 1.0 / stack.conductance[loose] - 1.0 / even.conductance[loose]
    exact = g / (GAP_CONDUCTIVITY + GAP_RADIATION * g)
    assert 0.8 * exact < more < exact
    others = np.delete(stack.conductance, loose)
    assert others == pytest.approx(np.delete(even.conductance, loose), rel=1e-9)


def test_made_up_maps_are_recovered_and_what_is_foreign_is_refused() -> None:
    x, y = np.linspace(-0.13, 0.13, 14), np.linspace(-0.12, 0.12, 12)
    yy, xx = np.meshgrid(y, x, indexing="ij")
    bed = 2e-4 * (xx / 0.13) ** 2 + 1e-4 * yy / 0.12
    air = 3e-4 * np.exp(-((xx - 0.05) ** 2 + yy**2) / 0.04**2)
    air -= air.min()
    found = air_between(HeightMap(x, y, bed), HeightMap(x, y, bed + air + 5e-3), (0.3, 0.28), "plate over bed")
    assert found.gap() == pytest.approx(air, abs=3e-7)
    assert found.over(np.array([0.05]), np.array([0.0]))[0, 0] == pytest.approx(float(air.max()), rel=0.1)
    holes = bed + air
    holes[3, 4] = np.nan
    assert (
        np.abs(air_between(HeightMap(x, y, bed), HeightMap(x, y, holes), (0.3, 0.28), "holes").gap() - air).max() < 5e-5
    )
    with pytest.raises(InputError, match="it is of another one"):
        air_between(HeightMap(3 * x, y, bed), HeightMap(x, y, bed), (0.3, 0.28), "foreign")
    with pytest.raises(InputError, match="are both maps of this bed"):
        air_between(HeightMap(x, y, bed), HeightMap(x, y, bed + 400 * air), (0.3, 0.28), "far")


def test_a_pane_rests_on_three_places_and_lies_nowhere_below_the_bed() -> None:
    y, x = np.meshgrid(np.linspace(-1, 1, 15), np.linspace(-1, 1, 15), indexing="ij")
    for heights in (
        1e-4 * (x**2 + y**2),
        -1e-4 * (x**2 + y**2),
        1e-4 * np.sin(3 * x) * np.cos(2 * y),
        2e-4 * x - 1e-4 * y,
    ):
        plane = resting_plane(heights)
        assert (plane - heights).min() > -1e-10
        slope = np.linalg.lstsq(np.column_stack([np.ones(x.size), x.ravel(), y.ravel()]), plane.ravel(), rcond=None)[0]
        flat = slope[0] + slope[1] * x + slope[2] * y
        assert np.abs(plane - flat).max() < 1e-9
    bowl = resting_plane(1e-4 * (x**2 + y**2))
    assert bowl == pytest.approx(np.full_like(bowl, 2e-4), rel=1e-6)


def test_an_island_is_cold_and_the_three_dimensional_solution_agrees() -> None:
    rig = over_air(island())
    assert not is_symmetric(rig.bed)
    spread, flat = shape_of(rig, USE), shape_of(make_rig(enclosed=False), USE)
    heat = heat_up(rig, USE, Criteria(), with_bands=False)
    surface = spread.surface(heat.steady.surface, heat.steady.air)
    here = np.array([[0.06, 0.0]])
    quick = heat.steady.air + (heat.steady.surface - heat.steady.air) * float(spread.at(here)[0])
    even = heat.steady.air + (heat.steady.surface - heat.steady.air) * float(flat.at(here)[0])
    assert quick < even - 3.0
    volume = surface_history(rig, USE, 3600.0, cells=16)
    soaked = volume.maps[-1]
    j, i = int(np.abs(volume.y).argmin()), int(np.abs(volume.x - 0.06).argmin())
    opposite = int(np.abs(volume.x + 0.06).argmin())
    theirs = float(soaked[j, opposite] - soaked[j, i])
    mine = float(np.diff(spread.at(np.array([[0.06, 0.0], [-0.06, 0.0]])))[0] * (heat.steady.surface - heat.steady.air))
    # straight up against spreading along the sheet as well: the island of the quick map is the deeper one, by less than a quarter
    assert 0.75 < theirs / mine < 1.02
    assert float(np.nanmin(surface)) < heat.steady.surface
    assert abs(volume.closure) < 1e-6


def test_remedies_are_compared_for_a_project() -> None:
    y, x = np.meshgrid(np.linspace(-1, 1, 15), np.linspace(-1, 1, 15), indexing="ij")
    rig = over_air(island()[::1, ::1][:15, :15], bed=1.5e-4 * (x**2 + y**2))
    found = Results(Bundle(Project(name="Air", rig=rig, settings=USE), {})).get(keys.OVER_AIR)
    assert list(found) == ["none", "shims", "pane", "flat"]
    assert found["flat"].most == 0.0
    assert found["shims"].most == pytest.approx(3e-5)
    assert found["pane"].most == pytest.approx(3e-4, rel=0.05)
    assert found["none"].coldest < found["pane"].coldest + 5.0
    assert found["none"].coldest < found["shims"].coldest <= found["flat"].coldest + 0.05
    assert Results(Bundle(Project(name="Flat", rig=make_rig(), settings=USE), {})).get(keys.OVER_AIR) == {}


def test_air_needs_a_loose_plate_and_maps_that_agree() -> None:
    rig = make_rig()
    bonded = tuple(layer.model_copy(update={"bonded": True}) for layer in rig.bed.layers)
    with pytest.raises(ValueError, match="nothing that air could be below"):
        Rig.model_validate(
            over_air(island()).model_dump() | {"bed": over_air(island()).bed.model_dump() | {"layers": bonded}}
        )
    with pytest.raises(ValueError, match="same rows and columns"):
        AirGap(bed=rows(np.zeros((3, 3))), plate=rows(np.zeros((3, 4))), width=0.2, depth=0.2)
    with pytest.raises(ValueError, match="finite number"):
        AirGap(bed=rows(np.full((3, 3), np.nan)), plate=rows(np.zeros((3, 3))), width=0.2, depth=0.2)
