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
    invert,
    mean_wall,
    open_room,
    outer_faces,
    seen_by,
    sweep,
)
from mandorla.core.thermal.stack import MODES, Floats, Lateral

# Columns of the record of a transient run.
(
    TOP,
    BOTTOM,
    SENSOR,
    READING,
    AIR_T,
    LOWER_T,
    FRAME_T,
    WALL_T,
    POWER,
    CHAMBER_POWER,
    CHAMBER_READING,
) = range(11)
LAG_POWER = 11  # one column a mode, and as many after them for the rise
LAG_RISE = LAG_POWER + MODES
COLUMNS = LAG_RISE + MODES
# Rows of the ledger, J: what comes in, what leaves the bed, what leaves the chamber (the panels one by one at the end).
(
    E_BED, E_CHAMBER, E_MACHINE, E_TOP_AIR, E_TOP_WALL, E_BOTTOM_AIR, E_BOTTOM_WALL, E_EDGES, E_BRACKETS, E_LEAK, E_VENTS,
    E_EXHAUST, E_DOOR, E_PANELS,
) = range(14)  # fmt: skip
LEDGER = E_PANELS + 6
# Conductances are renewed when a surface or an air has moved by this much (K): 0.2 K changes h by
# less than 0.5 %, a surface by less than 0.02 K.
_HARD = 60  # iterations after which a steady state is sought on the step of a correlation
_REFRESH = 0.2
FUSE_LAG = 5.0  # s, of a thermal fuse clamped to its layer


class Event(NamedTuple):
    """What is broken, as plain numbers, and the thermal fuses.

    ``duty`` forces the bed's heater when it is not negative; ``dark`` takes all power; ``seen`` is the share of its place that the
    sensor still feels, the rest is the air. Fuses (f,): weights ``fuse`` (f, n) of their places, ``fuse_limit`` K, and ``opened`` s
    after the start, negative while closed (updated by the march).
    """

    duty: float
    dark: bool
    seen: float
    fuse: Floats
    fuse_limit: Floats
    opened: Floats


def nothing_broken(cells: int) -> Event:
    """No fault and no fuses."""
    return Event(-1.0, False, 1.0, np.zeros((0, cells)), np.zeros(0), np.zeros(0))


@compiled
def excess(lateral: Lateral, state: Floats) -> float:
    """What the sensor's place has over the mean of the bed (K), mode by mode."""
    total = 0.0
    for k in range(MODES):
        total += lateral.per_watt[k] * state[S_POWER + k] + lateral.per_kelvin[k] * state[S_RISE + k]
    return total


@compiled
def write_record(
    row: Floats, top: float, bottom: float, at_sensor: float, state: Floats, s: Surroundings, r: Regulator
) -> None:
    """Temperatures of one moment into a row of the record; the powers are the caller's."""
    row[TOP], row[BOTTOM], row[SENSOR], row[READING] = top, bottom, at_sensor, state[S_READING] + r.bias
    row[AIR_T], row[LOWER_T], row[FRAME_T] = state[UPPER], state[LOWER], state[FRAME]
    row[WALL_T] = mean_wall(state, s)
    for k in range(2 * MODES):
        row[LAG_POWER + k] = state[S_POWER + k]
    row[CHAMBER_READING] = state[S_CHAMBER] + r.chamber_bias


@compiled
def transient(
    dt: Floats,
    bed_set: Floats,
    chamber_set: Floats,
    room: Floats,
    door: Floats,
    height: Floats,
    c: StackCells,
    s: Surroundings,
    r: Regulator,
    T: Floats,
    state: Floats,
    event: Event,
) -> tuple[Floats, Floats, Floats]:
    """March the network through the steps ``dt`` (m,) from the cells' temperatures ``T`` (n,) and ``state`` (STATE,), both updated.

    Set points of bed and chamber, the room's temperature and the door (1 open) hold during each step (m,); ``height`` (n,) m of
    the cells; ``event`` is what is broken.

    Returns the record (m+1, COLUMNS), the cells' temperatures (m+1, n) and the ledger (LEDGER,) in J.
    """
    n, m = T.size, dt.size
    record, cells, ledger = np.empty((m + 1, COLUMNS)), np.empty((m + 1, n)), np.zeros(LEDGER)
    A, inverse, b = np.empty((INNER, INNER)), np.zeros((INNER, INNER)), np.empty(INNER)
    chain = EliminatedStack(
        np.zeros(n), np.zeros(n), np.zeros((WAYS, n)), np.zeros((WAYS, n)), np.zeros(WAYS), np.zeros(WAYS)
    )
    r0, x = np.empty(n), np.empty(INNER)
    G, E = np.zeros(WAYS), np.zeros(WAYS)
    top, bottom = T[0], T[n - 1]
    fuse_T = state[STATE:]  # what each thermal fuse feels
    clock = 0.0
    at = np.full(6, -1.0)  # temperatures at which the conductances were taken
    was_open, was_h = -1.0, -1.0
    mean = 0.0
    for i in range(n):
        mean += T[i] * height[i]
    g = conductances(top, bottom, mean / s.height, state, room[0], door[0], s)
    at_sensor = 0.0
    for i in range(n):
        at_sensor += c.sensor[i] * T[i]
        cells[0, i] = T[i]
    at_sensor += excess(c.lateral, state)
    write_record(record[0], top, bottom, at_sensor, state, s, r)
    record[0, POWER], record[0, CHAMBER_POWER] = 0.0, 0.0

    for step in range(m):
        h = dt[step]
        heater_T = 0.0
        for i in range(n):
            heater_T += c.source[i] * T[i]
        power, chamber_power = duties(bed_set[step], chamber_set[step], state, h, heater_T, r)
        if event.duty >= 0.0:
            power = min(r.supply, event.duty * r.power_max / (1.0 + r.resistance_coefficient * (heater_T - REFERENCE)))
        for f in range(event.opened.size):
            if event.opened[f] >= 0.0:
                power = 0.0
        if event.dark:
            power, chamber_power = 0.0, 0.0

        moved = max(
            abs(top - at[0]), abs(bottom - at[1]), abs(state[LOWER] - at[2]), abs(state[UPPER] - at[3]),
            abs(state[WALLS + 5] - at[4]), abs(state[OUTER + 5] - at[5]),
        )  # fmt: skip
        if moved > _REFRESH or door[step] != was_open or h != was_h:
            at[0], at[1], at[2], at[3] = top, bottom, state[LOWER], state[UPPER]
            at[4], at[5], was_open, was_h = state[WALLS + 5], state[OUTER + 5], door[step], h
            mean = 0.0
            for i in range(n):
                mean += T[i] * height[i]
            g = conductances(top, bottom, mean / s.height, state, room[step], door[step], s)
            seen_by(g, G, state, E)
            factor_chain(c, G, 1.0 / h, chain)
            if s.enclosed:
                chamber_matrix(A, g, s, 1.0 / h)
                add_bed(A, chain, g, G)
                invert(A, inverse)
        for i in range(n):
            r0[i] = c.capacity[i] / h * T[i] + c.source[i] * power
        sweep(r0, c.link, chain)
        if s.enclosed:
            chamber_known(b, state, g, s, room[step], 1.0 / h)
            bed_heat(b, r0, chain, g)
            b[UPPER if s.heater_upper else LOWER] += chamber_power
            for i in range(INNER):
                x[i] = 0.0
                for j in range(INNER):
                    x[i] += inverse[i, j] * b[j]
        else:
            open_room(x, s, room[step])
        outer_faces(x, state, g, s, room[step], 1.0 / h)
        seen_by(g, G, state, E)
        at_sensor = 0.0
        for i in range(n):
            T[i] = r0[i]
            for e in range(WAYS):
                T[i] += chain.each[e, i] * E[e]
            cells[step + 1, i] = T[i]
            at_sensor += c.sensor[i] * T[i]
        top = face(T[0], c.half[TO_TOP, 0], G[TO_TOP], E[TO_TOP])
        bottom = face(T[n - 1], c.half[TO_BOTTOM, n - 1], G[TO_BOTTOM], E[TO_BOTTOM])
        state[S_LATE] += (power - state[S_LATE]) * h / (c.lateral.late + h)
        for k in range(MODES):
            follow = h / (c.lateral.lag[k] + h)
            state[S_POWER + k] += (state[S_LATE] - state[S_POWER + k]) * follow
            state[S_RISE + k] += (at_sensor - state[UPPER] - state[S_RISE + k]) * follow
        at_sensor += excess(c.lateral, state)
        feel(state, event.seen * at_sensor + (1.0 - event.seen) * state[UPPER], h, s, r)
        clock += h
        for f in range(event.opened.size):
            at_fuse = 0.0
            for i in range(n):
                at_fuse += event.fuse[f, i] * T[i]
            fuse_T[f] += (at_fuse - fuse_T[f]) * h / (FUSE_LAG + h)
            if event.opened[f] < 0.0 and fuse_T[f] >= event.fuse_limit[f]:
                event.opened[f] = clock
        ledger[E_BED] += power * h
        account(ledger, T, c, g, G, E, state, h)
        if s.enclosed:
            ledger[E_CHAMBER] += chamber_power * h
            ledger[E_MACHINE] += (s.heat_lower + s.heat_upper) * h
            leave(ledger, g, state, room[step], h)
        write_record(record[step + 1], top, bottom, at_sensor, state, s, r)
        record[step + 1, POWER] = power
        record[step + 1, CHAMBER_POWER] = chamber_power
    return record, cells, ledger


@compiled
def account(
    ledger: Floats, T: Floats, c: StackCells, g: Coefficients, G: Floats, E: Floats, x: Floats, h: float
) -> None:
    """Add what left the bed in a step of h (s), by way and by convection or radiation, to the ledger (J)."""
    for e in range(WAYS):
        for i in range(T.size):
            w = c.weight[e, i]
            if w <= 0.0 or G[e] <= 0.0:
                continue
            at = T[i] if np.isinf(c.half[e, i]) else face(T[i], c.half[e, i], G[e], E[e])
            air = w * (g.bed[e, LOWER] * (at - x[LOWER]) + g.bed[e, UPPER] * (at - x[UPPER])) * h
            everything = w * G[e] * (at - E[e]) * h
            if e == TO_TOP:
                ledger[E_TOP_AIR] += air
                ledger[E_TOP_WALL] += everything - air
            elif e == TO_BOTTOM:
                ledger[E_BOTTOM_AIR] += air
                ledger[E_BOTTOM_WALL] += everything - air
            elif e == TO_EDGE:
                ledger[E_EDGES] += everything
            else:
                ledger[E_BRACKETS] += everything


@compiled
def leave(ledger: Floats, g: Coefficients, x: Floats, room: float, h: float) -> None:
    """Add what left the chamber in a step of h (s) to the ledger (J)."""
    for way in range(4):
        ledger[E_LEAK + way] += g.fresh[way] * (x[UPPER] - room) * h
    for i in range(6):
        ledger[E_PANELS + i] += g.outside[i] * (x[OUTER + i] - room) * h


@compiled
def steady(
    sensor_target: float,
    chamber_set: float,
    height: Floats,
    c: StackCells,
    s: Surroundings,
    r: Regulator,
    chamber_min: float,
    chamber_max: float,
    tolerance: float,
    max_iterations: int,
) -> tuple[Floats, Floats, float, float, float, float, int, Floats]:
    """Steady state with both powers unknown: the sensor at its target, the air at the chamber's sensor at its set point.

    Powers outside their limits are held at the limit. Returns the cells' temperatures (n,), the nodes (15,), surface,
    underside, bed power, chamber power (W), the number of fixed-point iterations (negative when not converged) and the flows
    (LEDGER,) in W.
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
    A, inverse, B = np.empty((INNER, INNER)), np.zeros((INNER, INNER)), np.empty((3, INNER))
    chain = EliminatedStack(
        np.zeros(n), np.zeros(n), np.zeros((WAYS, n)), np.zeros((WAYS, n)), np.zeros(WAYS), np.zeros(WAYS)
    )
    unit, X = np.empty(n), np.zeros((3, INNER))
    G, E, E1, E2 = np.zeros(WAYS), np.zeros(WAYS), np.zeros(WAYS), np.zeros(WAYS)
    x = np.empty(INNER)
    flows = np.zeros(LEDGER)
    count = -max_iterations
    sensed = UPPER if s.sensor_upper else LOWER
    heated = UPPER if s.heater_upper else LOWER
    ranged = s.enclosed and chamber_max > chamber_min
    for iteration in range(max_iterations):
        mean, heater_T = 0.0, 0.0
        for i in range(n):
            mean += T[i] * height[i]
            heater_T += c.source[i] * T[i]
        g = conductances(top, bottom, mean / s.height, state, s.room, 0.0, s)
        seen_by(g, G, state, E)
        factor_chain(c, G, 0.0, chain)
        for i in range(n):
            unit[i] = c.source[i]
        sweep(unit, c.link, chain)
        X[:, :] = 0.0
        if s.enclosed:
            chamber_matrix(A, g, s, 0.0)
            add_bed(A, chain, g, G)
            invert(A, inverse)
            B[:, :] = 0.0
            chamber_known(B[0], state, g, s, s.room, 0.0)
            bed_heat(B[1], unit, chain, g)
            B[2, heated] = 1.0
            for q in range(3):
                for i in range(INNER):
                    for j in range(INNER):
                        X[q, i] += inverse[i, j] * B[q, j]
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
            chamber_power = min(chamber_max, max(chamber_min, chamber_power))
            power = (sensor_target - s0 - s2 * chamber_power) / s1
        most = min(r.supply, r.power_max / (1.0 + r.resistance_coefficient * (heater_T - REFERENCE)))
        clamped = min(most, max(0.0, power))
        if clamped != power:
            power = clamped
            if ranged:
                chamber_power = (wanted - X[0, sensed] - X[1, sensed] * power) / X[2, sensed]
                chamber_power = min(chamber_max, max(chamber_min, chamber_power))
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
            flows[:] = 0.0
            account(flows, T, c, g, G, E, state, 1.0)
            flows[E_BED], flows[E_CHAMBER] = power, chamber_power
            if s.enclosed:
                flows[E_MACHINE] = s.heat_lower + s.heat_upper
                leave(flows, g, state, s.room, 1.0)
            break
    return T, state, top, bottom, power, chamber_power, count, flows
