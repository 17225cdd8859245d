"""Lateral spread of the surface: symmetry, refinement, the partly heated fin."""

from __future__ import annotations

import numpy as np
import pytest

from mandorla.core.thermal.lateral_conduction import fin_solver, lateral_spread
from mandorla.core.thermal.steady import solve_steady
from mandorla.core.units import celsius
from tests.core.rigs import make_rig


def state_of(rig, bed: float = 100.0):
    return solve_steady(rig, celsius(bed), celsius(40.0))


def test_partly_heated_strip_follows_the_fin_solution() -> None:
    """A strip heated to half its half-width: cosh inside, cosh towards the insulated rim outside."""
    length, heated, sheet, u, q = 0.2, 0.1, 0.9, 18.0, 4000.0
    n = 400
    edges = np.linspace(0.0, length, n + 1)
    depth = np.linspace(0.0, 0.01, 4)
    flux = np.broadcast_to(np.clip((heated - edges[:-1]) / np.diff(edges), 0.0, 1.0) * q, (3, n))
    rise = fin_solver(edges, depth, sheet, np.full((3, n), u), np.zeros((3, n)))(flux)
    m = np.sqrt(u / sheet)
    x = 0.5 * (edges[1:] + edges[:-1])
    inside = q / u * (1 - np.cosh(m * x) * np.sinh(m * (length - heated)) / np.sinh(m * length))
    outside = q / u * np.sinh(m * heated) * np.cosh(m * (length - x)) / np.sinh(m * length)
    np.testing.assert_allclose(rise[1], np.where(x < heated, inside, outside), rtol=5e-4)


def test_fin_loses_what_is_put_in() -> None:
    edges = np.linspace(0.0, 0.15, 31)
    flux = np.zeros((30, 30))
    flux[:20, :22] = 3000.0
    u, rim = np.full((30, 30), 15.0), 0.05
    edge = np.zeros((30, 30))
    edge[:, -1] += rim * 0.005
    edge[-1, :] += rim * 0.005
    rise = fin_solver(edges, edges, 1.1, u, edge)(flux)
    cell = 0.005**2
    lost = (u * rise).sum() * cell + rim * 0.005 * (rise[:, -1].sum() + rise[-1, :].sum())
    assert lost == pytest.approx(flux.sum() * cell, rel=1e-10)


def test_map_is_symmetric_and_one_in_the_middle() -> None:
    rig = make_rig()
    spread = lateral_spread(rig, state_of(rig))
    np.testing.assert_allclose(spread.theta, spread.theta[::-1, :], atol=1e-12)
    np.testing.assert_allclose(spread.theta, spread.theta[:, ::-1], atol=1e-12)
    assert spread.theta.max() == pytest.approx(1.0)
    assert spread.at(np.array([[0.0, 0.0]]))[0] == pytest.approx(1.0, abs=1e-3)


def test_finer_grid_changes_the_corner_by_less_than_a_tenth_of_a_kelvin() -> None:
    rig = make_rig()
    state = state_of(rig)
    corner = np.array([[0.13, 0.12]])
    coarse, fine = (lateral_spread(rig, state, cells=n).at(corner)[0] for n in (24, 72))
    assert abs(coarse - fine) * (state.surface - state.air) < 0.1


def test_the_corner_is_colder_than_the_edge_and_a_smaller_mat_makes_it_worse() -> None:
    rig = make_rig()
    spread = lateral_spread(rig, state_of(rig))
    middle, edge, corner = spread.at(np.array([[0.0, 0.0], [0.14, 0.0], [0.14, 0.13]]))
    assert middle > edge > corner
    heater = rig.bed.heater.model_copy(update={"width": 0.2, "depth": 0.19})
    small = rig.model_copy(update={"bed": rig.bed.model_copy(update={"heater": heater})})
    assert lateral_spread(small, state_of(small)).at(np.array([[0.14, 0.13]]))[0] < corner


def test_a_bed_that_loses_at_its_rim_follows_the_series_in_one_direction() -> None:
    """A strip heated all over that loses at its end: rise/rise∞ = 1 - Bi·cosh(mx)/(m·L·sinh(mL) + Bi·cosh(mL)), Bi = h·L/k."""
    length, thickness, sheet, u, q, rim = 0.15, 0.006, 0.8, 22.0, 5000.0, 12.0
    n = 300
    edges = np.linspace(0.0, length, n + 1)
    width = np.linspace(0.0, 0.01, 4)
    at_rim = np.zeros((3, n))
    at_rim[:, -1] = rim * thickness * np.diff(width)  # W/K of each row's end
    rise = fin_solver(edges, width, sheet, np.full((3, n), u), at_rim)(np.full((3, n), q))
    m, x = np.sqrt(u / sheet), 0.5 * (edges[1:] + edges[:-1])
    loss = rim * thickness / (sheet * m)
    exact = q / u * (1.0 - loss * np.cosh(m * x) / (np.sinh(m * length) + loss * np.cosh(m * length)))
    np.testing.assert_allclose(rise[1], exact, rtol=5e-4)


def test_points_outside_the_bed_take_the_rim() -> None:
    rig = make_rig()
    spread = lateral_spread(rig, state_of(rig))
    assert spread.at(np.array([[9.0, 9.0]]))[0] == pytest.approx(spread.theta[-1, -1])
