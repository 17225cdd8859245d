"""How unevenness dies away: exact steady states and first moments, known delays of a chain, against a full solution in time."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from mandorla.core.thermal.lateral_conduction import fin_solver
from mandorla.core.thermal.lateral_decay_modes import delays, evening_modes, followed, lateness, resistances
from mandorla.core.thermal.stack import MODES, Stack, build_stack
from tests.core.rigs import make_rig

SIDE, CELLS, SHEET, LOSS, CAPACITY = 0.15, 16, 0.7, 12.0, 15000.0


@pytest.fixture(scope="module")
def plate():
    """A quarter of a plate heated over a part, its answer to a source with the mean taken off, and one cell's area."""
    edges = np.linspace(0.0, SIDE, CELLS + 1)
    respond = fin_solver(edges, edges, SHEET, np.full((CELLS, CELLS), LOSS), np.zeros((CELLS, CELLS)))

    def answer(source: np.ndarray) -> np.ndarray:
        rise = respond(source)
        return rise - rise.mean()

    heated = np.zeros((CELLS, CELLS))
    heated[:11, :12] = 1.0
    source = heated - heated.mean()
    colder_rim = np.add.outer(np.linspace(0, 1, CELLS) ** 4, np.linspace(0, 1, CELLS) ** 4)
    return source, answer(source), answer(colder_rim.mean() - colder_rim), answer, (SIDE / CELLS) ** 2


def test_shapes_are_orthonormal_and_keep_the_steady_states(plate) -> None:
    source, uneven, rim, answer, area = plate
    shapes, slowness = evening_modes(np.stack([uneven, rim]), source, answer, area)
    product = np.einsum("aij,bij->ab", shapes, shapes) * area
    np.testing.assert_allclose(product, np.eye(MODES), atol=1e-9)
    assert (slowness > 0.0).all()
    for state in (uneven, rim):
        again = np.tensordot(np.tensordot(shapes, state) * area, shapes, axes=1)
        np.testing.assert_allclose(again, state, atol=1e-9 * np.abs(state).max())
    # first moment of the answer to a source: sum over modes of amplitude times slowness is the answer to the answer
    moment = np.tensordot(np.tensordot(shapes, uneven) * area * slowness, shapes, axes=1)
    np.testing.assert_allclose(moment, answer(uneven), atol=1e-6 * np.abs(answer(uneven)).max())


def test_the_middle_follows_a_step_of_power_like_the_whole_sheet(plate) -> None:
    """All eigenvectors of the sheet against the few shapes, at times from a twentieth of the slowest to three of them."""
    source, uneven, rim, answer, area = plate
    n = CELLS * CELLS
    whole = np.stack([answer(row.reshape(CELLS, CELLS)).ravel() for row in np.eye(n)])
    value, vector = np.linalg.eigh(0.5 * (whole + whole.T))
    some = value > 1e-12
    begin = vector[0, some] * (vector[:, some].T @ source.ravel()) * value[some]
    shapes, slowness = evening_modes(np.stack([uneven, rim]), source, answer, area)
    few = shapes[:, 0, 0] * np.tensordot(shapes, uneven) * area
    slowest = CAPACITY * value.max()
    for t in slowest * np.array([0.05, 0.1, 0.3, 1.0, 3.0]):
        exact = float((begin * (1.0 - np.exp(-t / (CAPACITY * value[some])))).sum())
        found = float((few * (1.0 - np.exp(-t / (CAPACITY * slowness)))).sum())
        assert found == pytest.approx(exact, abs=0.01 * uneven[0, 0])


def test_where_states_are_alike_fewer_shapes_are_used(plate) -> None:
    source, uneven, _, answer, area = plate
    shapes, slowness = evening_modes(np.stack([uneven, 2.0 * uneven]), source, answer, area)
    assert np.count_nonzero(np.abs(shapes).max(axis=(1, 2))) == 3
    assert (slowness[3:] == 0.0).all()


def chain(capacity: list[float], conductance: list[float], k: list[float], source: list[float]) -> Stack:
    stack = build_stack(make_rig().bed)
    n = len(capacity)
    return replace(
        stack, capacity=np.array(capacity), conductance=np.array(conductance), k=np.array(k), dx=np.full(n, 1e-3),
        source=np.array(source),
    )  # fmt: skip


def test_delays_of_a_chain_by_hand() -> None:
    # plate is the third; above it 100 and 300 J/m²K behind 50 and 20 W/m²K, below it 400 behind 80
    stack = chain([300.0, 100.0, 9000.0, 400.0], [20.0, 50.0, 80.0], [0.2, 0.2, 120.0, 0.2], [0.0, 0.0, 0.0, 1.0])
    np.testing.assert_allclose(delays(stack), [400.0 / 50.0 + 300.0 / 20.0, 400.0 / 50.0, 0.0, 400.0 / 80.0])
    assert lateness(stack, 2) == pytest.approx(400.0 / 80.0)
    np.testing.assert_allclose(resistances(stack, 2), [1 / 50 + 1 / 20, 1 / 50, 0.0, 1 / 80])


def test_insulation_behind_the_heater_does_not_make_its_power_late() -> None:
    bare = chain([9000.0, 400.0], [80.0], [120.0, 0.2], [0.0, 1.0])
    foam = chain([9000.0, 400.0, 5000.0], [80.0, 2.0], [120.0, 0.2, 0.05], [0.0, 1.0, 0.0])
    assert lateness(bare, 0) == pytest.approx(lateness(foam, 0))


def test_what_follows_a_ramp_is_late_by_its_delay() -> None:
    time = np.linspace(0.0, 400.0, 4001)
    late = followed(0.5 * time, time, np.array([0.0, 10.0, 30.0]))
    np.testing.assert_allclose(0.5 * time[-1] - late[-1], [0.0, 5.0, 15.0], atol=0.06)
