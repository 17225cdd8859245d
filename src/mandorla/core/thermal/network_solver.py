"""Compiled solvers of the stack-and-chamber network: backward Euler in time, and the steady state.

Conductances are taken at the last state; the eliminated
systems are kept until they change.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from mandorla.core.compiled import compiled
from mandorla.core.rig.bed import REFERENCE
from mandorla.core.thermal.control import S_CHAMBER, S_LATE, S_POWER, S_READING, S_RISE, STATE, Regulator, duties, feel
from mandorla.core.thermal.ledger import (
    BED,
    BRACKETS,
    CHAMBER,
    DOOR,
    EDGES,
    EXHAUST,
    LEAKAGE,
    LINES,
    MACHINE,
    PANELS,
    TOP_AIR,
    TOP_RADIATED,
    UNDERSIDE_AIR,
    UNDERSIDE_RADIATED,
    VENTS,
    Ledger,
    ledger_of,
)
from mandorla.core.thermal.network import (
    FRAME,
    INNER,
    LOWER,
    NODES,
    OUTER,
    TO_BOTTOM,
    TO_EDGE,
    TO_TOP,
    UPPER,
    WALLS,
    WAYS,
    Coefficients,
    Outside,
    Surroundings,
    conductances,
)
from mandorla.core.thermal.network_elimination import (
    EliminatedStack,
    StackCells,
    add_bed,
    bed_heat,
    chamber_known,
    chamber_matrix,
    face,
    factor_chain,
    factor_nodes,
    mean_wall,
    open_room,
    outer_faces,
    seen_by,
    solve_nodes,
    sweep,
)
from mandorla.core.thermal.network_run import (
    AIR,
    BOTTOM,
    CHAMBER_POWER,
    CHAMBER_READING,
    FRAME_AT,
    LAG_POWER,
    LOWER_AIR,
    POWER,
    READING,
    ROWS,
    SENSOR,
    TOP,
    WALL,
    NetworkRun,
)
from mandorla.core.thermal.stack import MODES, Floats, Lateral

_HARD = 60  # iterations after which a steady state is sought on the step of a correlation
# K by which a surface or an air may move before conductances are renewed: 0.2 K changes h by less than 0.5 %, a surface by less
# than 0.02 K
_REFRESH = 0.2
FUSE_LAG = 5.0  # s, of a thermal fuse clamped to its layer


class Event(NamedTuple):
    """What is broken, as plain numbers, and the thermal fuses.

    ``duty`` (1,) or (m,), for all steps or for each, forces the bed's heater where it is not negative, ``chamber`` W likewise the
    chamber's; ``dark`` takes all power; ``seen`` is the share of its place that the sensor still feels, the rest is the air. Fuses
    (f,): the cells ``fuse`` (f, n; 1 or 0) of their layers, of which each feels the hottest, ``fuse_limit`` K, and ``opened`` s
    after the start, negative while closed (updated by the march)."""

    duty: Floats
    chamber: Floats
    dark: bool
    seen: float
    fuse: Floats
    fuse_limit: Floats
    opened: Floats


def nothing_broken(cells: int) -> Event:
    """No fault and no fuses."""
    return Event(np.full(1, -1.0), np.full(1, -1.0), False, 1.0, np.zeros((0, cells)), np.zeros(0), np.zeros(0))


@compiled
def excess(lateral: Lateral, state: Floats) -> float:
    """What the sensor's place has over the mean of the bed (K), mode by mode."""
    total = 0.0
    for k in range(MODES):
        total += lateral.per_watt[k] * state[S_POWER + k] + lateral.per_kelvin[k] * state[S_RISE + k]
    return total


class Course(NamedTuple):
    """What is given from outside during each step (m,): its length ``dt`` in s, set points of ``bed`` and ``chamber`` and the
    ``room`` in K, the share of it with the ``door`` open, the speed (m/s) of what ``blows`` on an open bed."""

    dt: Floats
    bed: Floats
    chamber: Floats
    room: Floats
    door: Floats
    blows: Floats


class HeaterLimits(NamedTuple):
    """Least and most (W) that the chamber's heater gives."""

    least: float
    most: float


class SteadyNetwork(NamedTuple):
    """Steady state of the network: ``cells`` (n,) and ``nodes`` (15,) in K, faces ``top`` and ``bottom`` in K, both powers in W,
    the number of ``iterations`` (negative when it did not converge), the ``flows`` in W."""

    cells: Floats
    nodes: Floats
    top: float
    bottom: float
    power: float
    chamber_power: float
    iterations: int
    flows: Ledger


@compiled
def _note(
    record: Floats, at: int, top: float, bottom: float, at_sensor: float, state: Floats, s: Surroundings, r: Regulator
) -> None:
    """Write the temperatures of one moment; the powers are the caller's."""
    record[TOP, at], record[BOTTOM, at], record[SENSOR, at] = top, bottom, at_sensor
    record[READING, at] = state[S_READING] + r.bias
    record[AIR, at], record[LOWER_AIR, at], record[FRAME_AT, at] = state[UPPER], state[LOWER], state[FRAME]
    record[WALL, at] = mean_wall(state, s)
    for k in range(2 * MODES):
        record[LAG_POWER + k, at] = state[S_POWER + k]
    record[CHAMBER_READING, at] = state[S_CHAMBER] + r.chamber_bias


@compiled
def _mean(weights: Floats, T: Floats) -> float:
    total = 0.0
    for i in range(T.size):
        total += weights[i] * T[i]
    return total


@compiled
def _follow(state: Floats, at_sensor: float, power: float, lateral: Lateral, h: float) -> None:
    """The lateral modes follow the power and the rise of the bed over the air, each with its lag."""
    state[S_LATE] += (power - state[S_LATE]) * h / (lateral.late + h)
    for k in range(MODES):
        follow = h / (lateral.lag[k] + h)
        state[S_POWER + k] += (state[S_LATE] - state[S_POWER + k]) * follow
        state[S_RISE + k] += (at_sensor - state[UPPER] - state[S_RISE + k]) * follow


@compiled
def _blow(event: Event, fuse_T: Floats, T: Floats, h: float, clock: float) -> None:
    """Fuses follow the hottest cells of their places; one that reaches its limit opens for good."""
    for f in range(event.opened.size):
        hottest = 0.0
        for i in range(T.size):
            if event.fuse[f, i] > 0.0:
                hottest = max(hottest, T[i])
        fuse_T[f] += (hottest - fuse_T[f]) * h / (FUSE_LAG + h)
        if event.opened[f] < 0.0 and fuse_T[f] >= event.fuse_limit[f]:
            event.opened[f] = clock


@compiled
def _forced(event: Event, step: int, power: float, heater_T: float, r: Regulator) -> float:
    """What the bed's heater gives under a fault, of the ``power`` (W) that the regulator asks for."""
    duty = event.duty[min(step, event.duty.size - 1)]
    if duty >= 0.0:
        power = min(r.supply, duty * r.power_max / (1.0 + r.resistance_coefficient * (heater_T - REFERENCE)))
    for f in range(event.opened.size):
        if event.opened[f] >= 0.0:
            power = 0.0
    return 0.0 if event.dark else power


def transient(
    course: Course, c: StackCells, s: Surroundings, r: Regulator, T: Floats, state: Floats, event: Event
) -> NetworkRun:
    """March the network along a course.

    Parameters
    ----------
    course
        Steps and what is given during each of them.
    c, s, r
        The stack's cells, what surrounds the bed, and the regulation.
    T, state
        Temperatures (n,) of the cells and state (STATE + fuses,) of chamber and regulation; both are updated.
    event
        What is broken; the moments at which fuses open are written into it.

    Returns
    -------
    NetworkRun
        Every moment, and where the heat went.
    """
    return NetworkRun(*_march(course, c, s, r, T, state, event))


@compiled
def _march(
    course: Course, c: StackCells, s: Surroundings, r: Regulator, T: Floats, state: Floats, event: Event
) -> tuple[Floats, Floats, Floats, Floats]:
    """Record, cells, states and book of :func:`transient`."""
    n, m = T.size, course.dt.size
    record, cells, book = np.empty((ROWS, m + 1)), np.empty((m + 1, n)), np.zeros(LINES)
    states = np.empty((m + 1, state.size))
    A = np.empty((INNER, INNER))
    chain = EliminatedStack(
        np.zeros(n), np.zeros(n), np.zeros((WAYS, n)), np.zeros((WAYS, n)), np.zeros(WAYS), np.zeros(WAYS)
    )
    r0, x = np.empty(n), np.empty(INNER)
    G, E = np.zeros(WAYS), np.zeros(WAYS)
    top, bottom = T[0], T[n - 1]
    fuse_T = state[STATE:]  # what each thermal fuse feels
    clock = 0.0
    at = np.full(6, -1.0)  # temperatures at which the conductances were taken
    was_open, was_h, was_blown = -1.0, -1.0, -1.0
    outside = Outside(course.room[0], course.door[0], course.blows[0])
    g = conductances(top, bottom, _mean(c.height, T) / s.height, state, outside, s)
    _note(record, 0, top, bottom, _mean(c.sensor, T) + excess(c.lateral, state), state, s, r)
    record[POWER, 0], record[CHAMBER_POWER, 0], cells[0], states[0] = 0.0, 0.0, T, state

    for step in range(m):
        h, room, door, blows = course.dt[step], course.room[step], course.door[step], course.blows[step]
        heater_T = _mean(c.source, T)
        power, chamber_power = duties(course.bed[step], course.chamber[step], state, h, heater_T, r)
        power = _forced(event, step, power, heater_T, r)
        given = event.chamber[min(step, event.chamber.size - 1)]
        if given >= 0.0:
            chamber_power = given
        if event.dark:
            chamber_power = 0.0

        moved = max(
            abs(top - at[0]), abs(bottom - at[1]), abs(state[LOWER] - at[2]), abs(state[UPPER] - at[3]),
            abs(state[WALLS + 5] - at[4]), abs(state[OUTER + 5] - at[5]),
        )  # fmt: skip
        if moved > _REFRESH or door != was_open or h != was_h or blows != was_blown:
            at[0], at[1], at[2], at[3] = top, bottom, state[LOWER], state[UPPER]
            at[4], at[5] = state[WALLS + 5], state[OUTER + 5]
            was_open, was_h, was_blown = door, h, blows
            g = conductances(top, bottom, _mean(c.height, T) / s.height, state, Outside(room, door, blows), s)
            seen_by(g, G, state, E)
            factor_chain(c, G, 1.0 / h, chain)
            if s.enclosed:
                chamber_matrix(A, g, s, 1.0 / h)
                add_bed(A, chain, g, G)
                factor_nodes(A)
        for i in range(n):
            r0[i] = c.capacity[i] / h * T[i] + c.source[i] * power
        sweep(r0, c.link, chain)
        if s.enclosed:
            chamber_known(x, state, g, s, room, 1.0 / h)
            bed_heat(x, r0, chain, g)
            x[UPPER if s.heater_upper else LOWER] += chamber_power
            solve_nodes(A, x)
        else:
            open_room(x, s, room)
        outer_faces(x, state, g, s, room, 1.0 / h)
        seen_by(g, G, state, E)
        for i in range(n):
            T[i] = r0[i]
            for e in range(WAYS):
                T[i] += chain.each[e, i] * E[e]
            cells[step + 1, i] = T[i]
        at_sensor = _mean(c.sensor, T)
        top = face(T[0], c.half[TO_TOP, 0], G[TO_TOP], E[TO_TOP])
        bottom = face(T[n - 1], c.half[TO_BOTTOM, n - 1], G[TO_BOTTOM], E[TO_BOTTOM])
        _follow(state, at_sensor, power, c.lateral, h)
        at_sensor += excess(c.lateral, state)
        feel(state, event.seen * at_sensor + (1.0 - event.seen) * state[UPPER], h, s, r)
        clock += h
        _blow(event, fuse_T, T, h, clock)
        book[BED] += power * h
        account(book, T, c, g, G, E, state, h)
        if s.enclosed:
            book[CHAMBER] += chamber_power * h
            book[MACHINE] += (s.heat_lower + s.heat_upper) * h
            leave(book, g, state, room, h)
        _note(record, step + 1, top, bottom, at_sensor, state, s, r)
        record[POWER, step + 1], record[CHAMBER_POWER, step + 1] = power, chamber_power
        states[step + 1] = state
    return record, cells, states, book


@compiled
def account(book: Floats, T: Floats, c: StackCells, g: Coefficients, G: Floats, E: Floats, x: Floats, h: float) -> None:
    """Add what left the bed in a step of h (s), by way and by convection or radiation, to the book (J)."""
    for e in range(WAYS):
        for i in range(T.size):
            w = c.weight[e, i]
            if w <= 0.0 or G[e] <= 0.0:
                continue
            at = T[i] if np.isinf(c.half[e, i]) else face(T[i], c.half[e, i], G[e], E[e])
            air = w * (g.bed[e, LOWER] * (at - x[LOWER]) + g.bed[e, UPPER] * (at - x[UPPER])) * h
            everything = w * G[e] * (at - E[e]) * h
            if e == TO_TOP:
                book[TOP_AIR] += air
                book[TOP_RADIATED] += everything - air
            elif e == TO_BOTTOM:
                book[UNDERSIDE_AIR] += air
                book[UNDERSIDE_RADIATED] += everything - air
            elif e == TO_EDGE:
                book[EDGES] += everything
            else:
                book[BRACKETS] += everything


@compiled
def leave(book: Floats, g: Coefficients, x: Floats, room: float, h: float) -> None:
    """Add what left the chamber in a step of h (s) to the book (J)."""
    over = (x[UPPER] - room) * h
    book[LEAKAGE] += g.fresh[0] * over
    book[VENTS] += g.fresh[1] * over
    book[EXHAUST] += g.fresh[2] * over
    book[DOOR] += g.fresh[3] * over
    for i in range(6):
        book[PANELS + i] += g.outside[i] * (x[OUTER + i] - room) * h


@compiled
def steady(
    sensor_target: float, chamber_set: float, c: StackCells, s: Surroundings, r: Regulator, limits: HeaterLimits,
    tolerance: float, max_iterations: int,
) -> SteadyNetwork:  # fmt: skip
    """Steady state with both powers unknown: the sensor at its target, the air at the chamber's sensor at its set point.

    Powers outside their limits are held at the limit.

    Parameters
    ----------
    sensor_target, chamber_set
        Temperatures (K) of the bed at its sensor and of the air at the chamber's.
    c, s, r, limits
        The stack's cells, what surrounds the bed, the regulation, and the range of the chamber's heater.
    tolerance, max_iterations
        Change (K) between iterations at which it ends, and after how many it gives up.

    Returns
    -------
    SteadyNetwork
        Temperatures, powers and flows.
    """
    n = c.capacity.size
    T = np.full(n, sensor_target)
    state = np.full(NODES, s.room)
    if s.enclosed:
        state[:] = s.room + 0.3 * (sensor_target - s.room)
    else:
        state[LOWER] = state[UPPER] = s.room - s.draft_cooler
    before = state.copy()
    top, bottom = sensor_target, sensor_target
    power, chamber_power = 0.0, 0.0
    A = np.empty((INNER, INNER))
    chain = EliminatedStack(
        np.zeros(n), np.zeros(n), np.zeros((WAYS, n)), np.zeros((WAYS, n)), np.zeros(WAYS), np.zeros(WAYS)
    )
    unit, X = np.empty(n), np.zeros((3, INNER))
    G, E, E1, E2 = np.zeros(WAYS), np.zeros(WAYS), np.zeros(WAYS), np.zeros(WAYS)
    x = np.empty(INNER)
    flows = np.zeros(LINES)
    count = -max_iterations
    sensed = UPPER if s.sensor_upper else LOWER
    heated = UPPER if s.heater_upper else LOWER
    ranged = s.enclosed and limits.most > limits.least
    for iteration in range(max_iterations):
        heater_T = _mean(c.source, T)
        g = conductances(top, bottom, _mean(c.height, T) / s.height, state, Outside(s.room, 0.0, 0.0), s)
        seen_by(g, G, state, E)
        factor_chain(c, G, 0.0, chain)
        for i in range(n):
            unit[i] = c.source[i]
        sweep(unit, c.link, chain)
        X[:, :] = 0.0
        if s.enclosed:
            chamber_matrix(A, g, s, 0.0)
            add_bed(A, chain, g, G)
            factor_nodes(A)
            chamber_known(X[0], state, g, s, s.room, 0.0)
            bed_heat(X[1], unit, chain, g)
            X[2, heated] = 1.0
            for q in range(3):
                solve_nodes(A, X[q])
        else:
            open_room(X[0], s, s.room)
        seen_by(g, G, X[0], E)
        seen_by(g, G, X[1], E1)
        seen_by(g, G, X[2], E2)
        s0, s1, s2 = 0.0, 0.0, 0.0
        for i in range(n):
            for e in range(WAYS):
                s0 += c.sensor[i] * chain.each[e, i] * E[e]
                s1 += c.sensor[i] * chain.each[e, i] * E1[e]
                s2 += c.sensor[i] * chain.each[e, i] * E2[e]
            s1 += c.sensor[i] * unit[i]
        s0 += c.lateral.per_kelvin.sum() * (s0 - X[0, UPPER])
        s1 += c.lateral.per_kelvin.sum() * (s1 - X[1, UPPER]) + c.lateral.per_watt.sum()
        s2 += c.lateral.per_kelvin.sum() * (s2 - X[2, UPPER])
        wanted = chamber_set - r.chamber_bias
        chamber_power = 0.0
        power = (sensor_target - s0) / s1
        if ranged:
            det = s1 * X[2, sensed] - s2 * X[1, sensed]
            chamber_power = (s1 * (wanted - X[0, sensed]) - X[1, sensed] * (sensor_target - s0)) / det
            chamber_power = min(limits.most, max(limits.least, chamber_power))
            power = (sensor_target - s0 - s2 * chamber_power) / s1
        most = min(r.supply, r.power_max / (1.0 + r.resistance_coefficient * (heater_T - REFERENCE)))
        clamped = min(most, max(0.0, power))
        if clamped != power:
            power = clamped
            if ranged:
                chamber_power = (wanted - X[0, sensed] - X[1, sensed] * power) / X[2, sensed]
                chamber_power = min(limits.most, max(limits.least, chamber_power))
        for j in range(INNER):
            x[j] = X[0, j] + X[1, j] * power + X[2, j] * chamber_power
        outer_faces(x, state, g, s, s.room, 0.0)
        seen_by(g, G, state, E)
        change = 0.0
        way = 0.5
        if iteration >= _HARD:
            # two sides of a published correlation's step at the end of its range: what is sought lies on the step, and ever
            # smaller ways lead there
            way = 0.2 * 0.95 ** (iteration - _HARD)
        for j in range(NODES):
            change = max(change, abs(state[j] - before[j]))
            # the overturning of the air answers steeply: later iterations go half the way
            if iteration > 6 and s.enclosed:
                state[j] = before[j] + way * (state[j] - before[j])
            before[j] = state[j]
        for i in range(n):
            value = unit[i] * power
            for e in range(WAYS):
                value += chain.each[e, i] * E[e]
            change = max(change, abs(value - T[i]))
            T[i] = T[i] + way * (value - T[i]) if iteration >= _HARD else value
        top = face(T[0], c.half[TO_TOP, 0], G[TO_TOP], E[TO_TOP])
        bottom = face(T[n - 1], c.half[TO_BOTTOM, n - 1], G[TO_BOTTOM], E[TO_BOTTOM])
        if change < tolerance or (iteration >= _HARD and change < 1.0 and way * change < tolerance):
            count = iteration + 1
            account(flows, T, c, g, G, E, state, 1.0)
            flows[BED], flows[CHAMBER] = power, chamber_power
            if s.enclosed:
                flows[MACHINE] = s.heat_lower + s.heat_upper
                leave(flows, g, state, s.room, 1.0)
            break
    return SteadyNetwork(T, state, top, bottom, power, chamber_power, count, ledger_of(flows))
