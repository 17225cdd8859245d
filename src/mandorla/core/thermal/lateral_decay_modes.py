"""How unevenness of the plate dies away: shapes with time constants of their own, and how late the other layers follow the plate.

The one-dimensional stack is the mean of the bed. What a place has over the mean obeys the sheet's conduction with its losses
(spread.py); a few shapes of a Krylov space stand for all of it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from mandorla.core.compiled import compiled
from mandorla.core.thermal.stack import MODES, Floats, Stack
from mandorla.core.thermal.steady import SteadyState


def resistances(stack: Stack, plate: int) -> Floats:
    """Resistance (n,) m²K/W from the cell ``plate`` to every cell of the stack: insulation loses little by its edge."""
    with np.errstate(divide="ignore"):
        step = 1.0 / stack.conductance
    above, below = np.cumsum(step[:plate][::-1])[::-1], np.cumsum(step[plate:])
    return np.concatenate([above, [0.0], below])


def delays(stack: Stack) -> Floats:
    """How late each cell (n,) follows the best conductor of the stack, s: the first moment of its answer, no heat leaving on the
    way (Elmore's delay of a chain of resistances and capacities)."""
    plate = int(np.argmax(stack.k * stack.dx))
    late = np.zeros(stack.dx.size)
    for chain in (range(plate - 1, -1, -1), range(plate + 1, stack.dx.size)):
        behind = float(stack.capacity[list(chain)].sum())
        before = 0.0
        for i in chain:
            g = stack.conductance[i - 1 if i > plate else i]
            before += behind / g if g > 0.0 else 0.0
            late[i] = before
            behind -= float(stack.capacity[i])
    return late


@compiled
def followed(series: Floats, time: Floats, delay: Floats) -> Floats:
    """What follows a series (m,) at times (m,) s with each of the time constants ``delay`` (n,) s, settled at first: (m, n)."""
    out = np.empty((series.size, delay.size))
    for i in range(delay.size):
        out[0, i] = series[0]
    for j in range(1, series.size):
        h = time[j] - time[j - 1]
        for i in range(delay.size):
            out[j, i] = out[j - 1, i] + (series[j] - out[j - 1, i]) * h / (delay[i] + h)
    return out


def capacity_with(stack: Stack, state: SteadyState, plate: int) -> float:
    """Heat capacity (J/m²K) that the plate carries along when it evens out: each cell's by the square of its share of the plate's
    rise (Rayleigh's quotient with the steady shape), so that insulation counts for what it is warmed."""
    at = float(state.cells[plate])
    outside = np.where(np.arange(stack.dx.size) < plate, state.air, state.lower_air)
    share = (state.cells - outside) / np.where(np.abs(at - outside) > 0.1, at - outside, np.inf)
    share = np.where(np.abs(at - outside) > 0.1, np.clip(share, 0.0, 1.0), 1.0)
    return float((stack.capacity * share**2).sum())


def evening_modes(
    seeds: Floats, sudden: Floats, answer: Callable[[Floats], Floats], area: float
) -> tuple[Floats, Floats]:
    """The shapes in which unevenness of the sheet dies away, and how slowly, by Rayleigh and Ritz on a Krylov space.

    ``seeds`` (s, ny, nx) are the uneven states that occur, ``sudden`` (ny, nx) the uneven source, which tells how they begin;
    ``answer`` is the sheet's symmetric answer (ny, nx) K to a source (ny, nx) W/m²; ``area`` m² of a cell. All these and the
    answers to the seeds span the space, so that states and first moments of the seeds are kept exactly.

    Returns ``shapes`` (MODES, ny, nx), orthonormal over the area, zero where fewer are needed, and ``slowness`` (MODES,) K m²/W:
    times the heat capacity per m², the time constant of each.
    """
    space = np.concatenate([[sudden], seeds, [answer(seed) for seed in seeds]])
    flat = space.reshape(space.shape[0], -1)
    size = np.linalg.norm(flat, axis=1, keepdims=True)
    _, singular, basis = np.linalg.svd(flat / np.where(size > 0.0, size, 1.0), full_matrices=False)
    basis = basis[singular > 1e-6 * max(float(singular[0]), 1e-300)]
    answered = np.stack([answer(row.reshape(seeds.shape[1:])).ravel() for row in basis])
    reduced = basis @ answered.T
    slowness, turn = np.linalg.eigh(0.5 * (reduced + reduced.T))
    shapes = np.zeros((MODES, *seeds.shape[1:]))
    shapes[: basis.shape[0]] = (turn.T @ basis).reshape(-1, *seeds.shape[1:]) / np.sqrt(area)
    return shapes, np.concatenate([slowness, np.zeros(MODES - slowness.size)])


def lateness(stack: Stack, plate: int) -> float:
    """How late (s) the heater's power comes to the plate: the layers between and the heater itself are warmed first; insulation
    behind it hardly answers within that time and is left out."""
    heated = np.flatnonzero(stack.source)
    between = slice(min(plate, int(heated[0])), max(plate, int(heated[-1])) + 1)
    reach = np.zeros(stack.dx.size)
    reach[between] = stack.capacity[between]
    return float(stack.source @ delays(replace(stack, capacity=reach)))
