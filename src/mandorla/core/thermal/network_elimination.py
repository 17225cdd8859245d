"""Compiled elimination of the chain of cells and of the chamber's nodes, at one set of conductances.

The stack is eliminated with one right-hand side for what is known and one for each of the four things it loses heat to (what the
top sees, what the underside sees, what the edges see, the frame). That leaves a 9 x 9 system of the chamber's inner nodes, the
panels' outer faces being eliminated too; all nodes are coupled at once.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from mandorla.core.compiled import compiled
from mandorla.core.thermal.network import (
    DOOR,
    EXHAUST,
    FRAME,
    INNER,
    LEAK,
    LOWER,
    OUTER,
    UPPER,
    VENTS,
    WALLS,
    WAYS,
    Coefficients,
    Surroundings,
)
from mandorla.core.thermal.stack import Floats, Lateral


class StackCells(NamedTuple):
    """The stack's cells as the kernels read them, (n,) in SI over the whole bed.

    ``capacity`` J/K, ``link`` (n-1,) W/K, ``source`` and ``sensor`` weights, ``height`` m, what the
    sensor's place has over the mean, ``weight`` (4, n) of each way out (bare shares of top
    and underside, m of height, W/K of brackets), ``half`` (4, n) W/K from the middle to that bare face of the whole bed (infinite
    where the cell itself is the face).
    """

    capacity: Floats
    link: Floats
    source: Floats
    sensor: Floats
    height: Floats
    lateral: Lateral
    weight: Floats
    half: Floats


class EliminatedStack(NamedTuple):
    """The eliminated chain of cells at one set of conductances: elimination factors ``ratio`` and ``inverse`` (n,), the answer
    ``each`` (4, n) of every cell to a degree in each way out, and ``felt`` (4, n) the weights with which a cell warms each way's
    face; ``whole`` (4,) sums of the weights, ``own`` (4,) what of a way's face follows the way itself."""

    ratio: Floats
    inverse: Floats
    each: Floats
    felt: Floats
    whole: Floats
    own: Floats


@compiled
def sweep(r: Floats, link: Floats, chain: EliminatedStack) -> None:
    """Solve the eliminated chain for one right-hand side (n,) in place."""
    n = r.size
    for i in range(1, n):
        r[i] += chain.ratio[i] * r[i - 1]
    r[n - 1] *= chain.inverse[n - 1]
    for i in range(n - 2, -1, -1):
        r[i] = (r[i] + link[i] * r[i + 1]) * chain.inverse[i]


@compiled
def factor_chain(c: StackCells, G: Floats, per_second: float, chain: EliminatedStack) -> None:
    """Eliminate the chain of cells; ``G`` (4,) W/K of each way per unit of weight, ``per_second`` one over the step or zero."""
    n = c.capacity.size
    for i in range(n):
        chain.inverse[i] = c.capacity[i] * per_second
        if i > 0:
            chain.inverse[i] += c.link[i - 1]
        if i < n - 1:
            chain.inverse[i] += c.link[i]
    for e in range(WAYS):
        chain.whole[e], chain.own[e] = 0.0, 0.0
        for i in range(n):
            w = c.weight[e, i]
            chain.each[e, i], chain.felt[e, i] = 0.0, 0.0
            if w > 0.0:
                part = 1.0 if np.isinf(c.half[e, i]) else c.half[e, i] / (c.half[e, i] + G[e])
                chain.felt[e, i] = w * part
                chain.each[e, i] = w * part * G[e]
                chain.whole[e] += w
                chain.own[e] += w * (1.0 - part)
                chain.inverse[i] += w * part * G[e]
    for i in range(n):
        if i > 0:
            chain.ratio[i] = c.link[i - 1] * chain.inverse[i - 1]
            chain.inverse[i] -= chain.ratio[i] * c.link[i - 1]
        chain.inverse[i] = 1.0 / chain.inverse[i]
    for e in range(WAYS):
        if chain.whole[e] > 0.0 and G[e] > 0.0:
            sweep(chain.each[e], c.link, chain)


@compiled
def add_bed(A: Floats, chain: EliminatedStack, g: Coefficients, G: Floats) -> None:
    """Add the bed to the matrix of the inner nodes."""
    n = chain.inverse.size
    from_nodes = np.empty(INNER)  # what a way's face takes from each of them
    for e in range(WAYS):
        if G[e] <= 0.0 or chain.whole[e] <= 0.0:
            continue
        for k in range(INNER):
            from_nodes[k] = 0.0
        for f in range(WAYS):
            if G[f] <= 0.0 or chain.whole[f] <= 0.0:
                continue
            part = chain.own[e] if e == f else 0.0
            for i in range(n):
                part += chain.felt[e, i] * chain.each[f, i]
            part /= G[f]
            for k in range(INNER):
                from_nodes[k] += part * g.bed[f, k]
        for j in range(INNER):
            if g.bed[e, j] > 0.0:
                A[j, j] += g.bed[e, j] * chain.whole[e]
                for k in range(INNER):
                    A[j, k] -= g.bed[e, j] * from_nodes[k]


@compiled
def bed_heat(b: Floats, r: Floats, chain: EliminatedStack, g: Coefficients) -> None:
    """Add to the nodes' right-hand side b (9,) what the chain's solution r (n,) for all that is known gives off."""
    for e in range(WAYS):
        if chain.whole[e] <= 0.0:
            continue
        known = 0.0
        for i in range(r.size):
            known += chain.felt[e, i] * r[i]
        for j in range(INNER):
            b[j] += g.bed[e, j] * known


@compiled
def factor_nodes(A: Floats) -> None:
    """Factor the matrix (9, 9) of the inner nodes in place, L U with the inverse of U's diagonal; it is diagonally dominant, so
    nothing is pivoted."""
    for k in range(INNER):
        A[k, k] = 1.0 / A[k, k]
        for i in range(k + 1, INNER):
            f = A[i, k] * A[k, k]
            A[i, k] = f
            for j in range(k + 1, INNER):
                A[i, j] -= f * A[k, j]


@compiled
def solve_nodes(A: Floats, x: Floats) -> None:
    """Solve the factored system (see :func:`factor_nodes`) for one right-hand side (9,) in place."""
    for i in range(1, INNER):
        for k in range(i):
            x[i] -= A[i, k] * x[k]
    for i in range(INNER - 1, -1, -1):
        for k in range(i + 1, INNER):
            x[i] -= A[i, k] * x[k]
        x[i] *= A[i, i]


@compiled
def chamber_matrix(A: Floats, g: Coefficients, s: Surroundings, per_second: float) -> None:
    """Fill the matrix (9, 9) of the inner nodes of a closed chamber without its bed; ``per_second`` as in factor_chain."""
    A[:, :] = 0.0
    for i in range(INNER):
        for j in range(INNER):
            if j != i:
                A[i, j] -= g.nodes[i, j]
                A[i, i] += g.nodes[i, j]
    fresh = g.fresh[LEAK] + g.fresh[VENTS] + g.fresh[EXHAUST] + g.fresh[DOOR]
    A[LOWER, LOWER] += fresh + s.lower_capacity * per_second
    A[UPPER, UPPER] += fresh + s.upper_capacity * per_second
    A[UPPER, LOWER] -= fresh
    A[FRAME, FRAME] += s.frame_capacity * per_second
    for i in range(6):
        whole = s.cap_out[i] * per_second + g.mid[i] + g.outside[i]
        A[WALLS + i, WALLS + i] += s.cap_in[i] * per_second + g.mid[i] * (1.0 - g.mid[i] / whole)


@compiled
def chamber_known(b: Floats, state: Floats, g: Coefficients, s: Surroundings, room: float, per_second: float) -> None:
    """Fill the right-hand side (9,) of the inner nodes: what is known of them, the room and the machine's heat."""
    fresh = g.fresh[LEAK] + g.fresh[VENTS] + g.fresh[EXHAUST] + g.fresh[DOOR]
    b[LOWER] = fresh * room + s.lower_capacity * per_second * state[LOWER] + s.heat_lower
    b[UPPER] = s.upper_capacity * per_second * state[UPPER] + s.heat_upper
    b[FRAME] = s.frame_capacity * per_second * state[FRAME]
    for i in range(6):
        own = s.cap_out[i] * per_second
        known = g.outside[i] * room + own * state[OUTER + i]
        whole = own + g.mid[i] + g.outside[i]
        b[WALLS + i] = s.cap_in[i] * per_second * state[WALLS + i] + g.mid[i] / whole * known


@compiled
def open_room(x: Floats, s: Surroundings, room: float) -> None:
    """The inner nodes (9,) of a bed in the open: the room itself, and the air that blows on it."""
    x[:] = room
    x[LOWER] = x[UPPER] = room - s.draft_cooler


@compiled
def outer_faces(x: Floats, state: Floats, g: Coefficients, s: Surroundings, room: float, per_second: float) -> None:
    """Set the nodes in ``state`` from the inner ones ``x`` (9,): the panels' outer faces follow."""
    for i in range(6):
        if s.enclosed:
            own = s.cap_out[i] * per_second
            known = own * state[OUTER + i] + g.outside[i] * room + g.mid[i] * x[WALLS + i]
            state[OUTER + i] = known / (own + g.mid[i] + g.outside[i])
        else:
            state[OUTER + i] = room
    for i in range(INNER):
        state[i] = x[i]


@compiled
def seen_by(g: Coefficients, G: Floats, x: Floats, E: Floats) -> None:
    """Sums ``G`` (4,) and mean temperatures ``E`` (4,) of what each way out leads to, from the nodes ``x``."""
    for e in range(WAYS):
        total, warm = 0.0, 0.0
        for j in range(INNER):
            total += g.bed[e, j]
            warm += g.bed[e, j] * x[j]
        G[e] = total
        E[e] = warm / total if total > 0.0 else 0.0


@compiled
def face(T: float, half: float, G: float, E: float) -> float:
    """Temperature of a massless face between a cell (half cell ``half`` W/K) and what it sees (``G`` W/K, ``E`` K)."""
    return (half * T + G * E) / (half + G)


@compiled
def mean_wall(x: Floats, s: Surroundings) -> float:
    """Mean temperature of the panels' inner faces by area."""
    total, area = 0.0, 0.0
    for i in range(6):
        total += x[WALLS + i] * s.panel_area[i]
        area += s.panel_area[i]
    return total / area
