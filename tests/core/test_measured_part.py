"""A printed part beside its simulation: the simulation's own shape, scaled, comes back as that factor; wrong inputs are refused."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.interpolate import LinearNDInterpolator

from mandorla.core.errors import InputError
from mandorla.core.warp.fe_result import face_readings
from mandorla.core.warp.measured_part import compare_part, predicted_lifts
from mandorla.core.warp.messages import agreement_sentence
from tests.core.bodies import ground, layers, run_block


@pytest.fixture(scope="module")
def found():
    return run_block((0.12, 0.06, 0.02), 7.5e-3, ground(), layers(fresh=1e-3, cooling=8e-4))


def the_map(found, rows: int = 9, columns: int = 17) -> np.ndarray:
    places, off = face_readings(found, found.released, "underside")
    x = np.linspace(places[:, 0].min(), places[:, 0].max(), columns)
    y = np.linspace(places[:, 1].min(), places[:, 1].max(), rows)
    found_z = LinearNDInterpolator(places[:, :2], -off)(*np.meshgrid(x, y))
    assert np.isfinite(found_z).all()
    return found_z


def test_symmetric_corners_lift_alike_and_as_far_as_the_underside_is_off_flat(found) -> None:
    lifts = predicted_lifts(found)
    assert len(lifts) == 4
    values = np.array(list(lifts.values()))
    assert np.ptp(values) < 0.02 * values.max()
    assert values.max() == pytest.approx(found.released_lift, rel=1e-6)


def test_scaled_lifts_come_back_as_their_factor(found) -> None:
    lifts = {name: 1.4 * v for name, v in predicted_lifts(found).items()}
    a = compare_part(found, lifts)
    assert a.factor == pytest.approx(1.4)
    assert a.scatter == pytest.approx(1.0, abs=1e-9)
    assert a.within
    assert "1.40 times" in agreement_sentence(a)
    tripled = compare_part(found, {name: 3.0 * v for name, v in predicted_lifts(found).items()})
    assert not tripled.within
    assert "more than the unknown grip explains" in agreement_sentence(tripled)


def test_uneven_corners_are_said(found) -> None:
    lifts = predicted_lifts(found)
    names = list(lifts)
    uneven = {n: v * (3.0 if n == names[0] else 0.8) for n, v in lifts.items()}
    assert "among themselves" in agreement_sentence(compare_part(found, uneven))


def test_a_map_of_the_same_shape_is_found_alike_with_tilt_and_holes(found) -> None:
    rng = np.random.default_rng(3)
    z = 0.7 * the_map(found)
    z = z + 1e-3 * np.linspace(0, 1, z.shape[1])[None, :] + rng.normal(scale=2e-6, size=z.shape)
    a = compare_part(found, {}, z)
    assert a.map_factor == pytest.approx(0.7, rel=0.08)
    assert a.map_alike > 0.97
    assert a.map_left < 0.3 * found.released_lift
    holes = z.copy()
    holes[0, :3] = np.nan
    assert compare_part(found, {}, holes).map_factor == pytest.approx(0.7, rel=0.15)
    upside = compare_part(found, {}, -z)
    assert upside.map_alike < -0.9
    assert "right way round" in agreement_sentence(upside)


def test_strange_corners_and_nothing_are_refused(found) -> None:
    with pytest.raises(InputError, match="no corner of this part"):
        compare_part(found, {"upper": 1e-3})
    with pytest.raises(InputError, match="Nothing was measured"):
        compare_part(found, {})
    with pytest.raises(InputError, match="fewer than six"):
        compare_part(found, {}, np.where(np.eye(3) > 0.0, 1e-3, np.nan))


def test_lifts_that_no_feeler_finds_make_no_factor(found) -> None:
    a = compare_part(found, dict.fromkeys(predicted_lifts(found), 1e-6))
    assert np.isnan(a.factor)
    assert "too small" in agreement_sentence(a)
