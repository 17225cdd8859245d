"""Compiled solvers of the stack-and-chamber network: backward Euler in time, and the steady state.

The stack is eliminated with one right-hand side for what is known and one for each of the four things it loses heat to (what the
top sees, what the underside sees, what the edges see, the frame). That leaves a 9 x 9 system of the chamber's inner lumps, the
panels' outer faces being eliminated too; all nodes are coupled at once. Conductances are taken at the last state; the eliminated
systems are kept until they change.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from mandorla.core.compiled import compiled
from mandorla.core.rig.bed import REFERENCE
from mandorla.core.thermal.network import (
    DOOR,
    EXHAUST,
    FRAME,
    INNER,
    LEAK,
    LOWER,
    LUMPS,
    OUTER,
    TO_BOTTOM,
    TO_EDGE,
    TO_TOP,
    UPPER,
    VENTS,
    WALLS,
    WAYS,
    Coefficients,
    Surroundings,
    conductances,
)
from mandorla.core.thermal.stack import Floats, Lateral

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
    LAG_POWER,
    LAG_RISE,
) = range(13)
COLUMNS = 13
# Rows of the ledger, J: what comes in, what leaves the bed, what leaves the chamber (the panels one by one at the end).
(
    E_BED, E_CHAMBER, E_MACHINE, E_TOP_AIR, E_TOP_WALL, E_BOTTOM_AIR, E_BOTTOM_WALL, E_EDGES, E_BRACKETS, E_LEAK, E_VENTS,
    E_EXHAUST, E_DOOR, E_PANELS,
) = range(14)  # fmt: skip
LEDGER = E_PANELS + 6
# Conductances are renewed when a surface or an air has moved by this much (K): 0.2 K changes h by
# less than 0.5 %, a surface by less than 0.02 K.
_REFRESH = 0.2
# The chamber heater's regulator: proportional band (K) and integral time (s).
CHAMBER_BAND = 3.0
CHAMBER_INTEGRAL = 240.0

# Entries of the state that is carried from march to march: the lumps first; what the thermal fuses feel follows.
(S_READING, S_INTEGRAL, S_CHAMBER, S_CHAMBER_INTEGRAL, S_ON, S_RATE, S_POWER, S_RISE) = range(LUMPS, LUMPS + 8)
STATE = LUMPS + 8
FUSE_LAG = 5.0  # s, of a thermal fuse clamped to its layer
_RATE_LAG = 5.0  # s, of the filter on the regulator's rate of change


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


class Cells(NamedTuple):
    """The stack's cells as the kernels read them, (n,) in SI over the whole bed.

    ``capacity`` J/K, ``link`` (n-1,) W/K, ``source`` and ``sensor`` weights, what the
    sensor's place has over the mean, ``weight`` (4, n) of each way out (bare shares of top
    and underside, m of height, W/K of brackets), ``half`` (4, n) W/K from the middle to that bare face of the whole bed (infinite
    where the cell itself is the face).
    """

    capacity: Floats
    link: Floats
    source: Floats
    sensor: Floats
    lateral: Lateral
    weight: Floats
    half: Floats


class Regulator(NamedTuple):
    """Regulation, heater and sensors as plain numbers (SI)."""

    power_max: float
    resistance_coefficient: float
    chamber_max: float
    chamber_bias: float
    chamber_tau: float
    supply: float
    bias: float
    tau: float
    on_off: bool
    band: float
    integral_time: float
    derivative_time: float
    hysteresis: float


def nothing_broken(cells: int) -> Event:
    """No fault and no fuses."""
    return Event(-1.0, False, 1.0, np.zeros((0, cells)), np.zeros(0), np.zeros(0))


def cold_state(temperature: float, fuses: int = 0) -> Floats:
    """The state of everything at one temperature (K)."""
    state = np.full(STATE + fuses, temperature)
    state[S_INTEGRAL], state[S_CHAMBER_INTEGRAL], state[S_ON], state[S_RATE] = 0.0, 0.0, 1.0, 0.0
    state[S_POWER], state[S_RISE] = 0.0, 0.0
    return state


@compiled
def switched(error: float, on: bool, hysteresis: float) -> bool:
    """Whether an on-off thermostat with hysteresis (K) is on."""
    if error > 0.5 * hysteresis:
        return True
    if error < -0.5 * hysteresis:
        return False
    return on


@compiled
def regulated(
    error: float, integral: float, h: float, band: float, integral_time: float, damping: float
) -> tuple[float, float]:
    """Duty 0-1 and new integral of a PID regulator after a step of h (s); it integrates only while it is not held at an end.

    ``damping`` is what the derivative of the reading takes off the duty.
    """
    duty = error / band + integral - damping
    if (duty < 1.0 or error < 0.0) and (duty > 0.0 or error > 0.0):
        integral += error / band * h / integral_time
    return min(1.0, max(0.0, duty)), integral


@compiled
def duties(
    bed_set: float, chamber_set: float, state: Floats, h: float, heater_T: float, r: Regulator
) -> tuple[float, float]:
    """Powers (W) of bed and chamber heater for a step of h (s) as the regulators ask and the supply allows; advances them."""
    error = bed_set - (state[S_READING] + r.bias)
    power = r.power_max / (1.0 + r.resistance_coefficient * (heater_T - REFERENCE))
    if r.on_off:
        on = switched(error, state[S_ON] > 0.5, r.hysteresis)
        state[S_ON] = 1.0 if on else 0.0
        power *= state[S_ON]
    else:
        damping = state[S_RATE] * r.derivative_time / r.band
        duty, state[S_INTEGRAL] = regulated(error, state[S_INTEGRAL], h, r.band, r.integral_time, damping)
        power *= duty
    chamber_power = 0.0
    if r.chamber_max > 0.0:
        wrong = chamber_set - (state[S_CHAMBER] + r.chamber_bias)
        duty, integral = regulated(wrong, state[S_CHAMBER_INTEGRAL], h, CHAMBER_BAND, CHAMBER_INTEGRAL, 0.0)
        state[S_CHAMBER_INTEGRAL] = integral
        chamber_power = r.chamber_max * duty
    power = min(power, r.supply)
    return power, min(chamber_power, max(0.0, r.supply - power))


@compiled
def feel(state: Floats, felt: float, h: float, s: Surroundings, r: Regulator) -> None:
    """Advance the two sensors and the bed reading's rate of change by a step of h (s); ``felt`` K at the bed's sensor."""
    before = state[S_READING]
    state[S_READING] += (felt - before) * h / (r.tau + h)
    state[S_RATE] += ((state[S_READING] - before) / h - state[S_RATE]) * h / (_RATE_LAG + h)
    air = state[UPPER] if s.sensor_upper else state[LOWER]
    state[S_CHAMBER] += (air - state[S_CHAMBER]) * h / (r.chamber_tau + h)


@compiled
def chamber_matrix(A: Floats, g: Coefficients, s: Surroundings, per_second: float) -> None:
    """Fill the matrix (9, 9) of the inner lumps of a closed chamber without its bed; ``per_second`` as in factor_chain."""
    A[:, :] = 0.0
    for i in range(INNER):
        for j in range(INNER):
            if j != i:
                A[i, j] -= g.lumps[i, j]
                A[i, i] += g.lumps[i, j]
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
    """Fill the right-hand side (9,) of the inner lumps: what is known of them, the room and the machine's heat."""
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
    """The inner lumps (9,) of a bed in the open: the room itself, and the air that blows on it."""
    x[:] = room
    x[LOWER] = x[UPPER] = room - s.draft_cooler


@compiled
def outer_faces(x: Floats, state: Floats, g: Coefficients, s: Surroundings, room: float, per_second: float) -> None:
    """Set the lumps in ``state`` from the inner ones ``x`` (9,): the panels' outer faces follow."""
    for i in range(6):
        if s.enclosed:
            own = s.cap_out[i] * per_second
            known = own * state[OUTER + i] + g.outside[i] * room + g.mid[i] * x[WALLS + i]
            state[OUTER + i] = known / (own + g.mid[i] + g.outside[i])
        else:
            state[OUTER + i] = room
    for i in range(INNER):
        state[i] = x[i]


class Chain(NamedTuple):
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
def sweep(r: Floats, link: Floats, chain: Chain) -> None:
    """Solve the eliminated chain for one right-hand side (n,) in place."""
    n = r.size
    for i in range(1, n):
        r[i] += chain.ratio[i] * r[i - 1]
    r[n - 1] *= chain.inverse[n - 1]
    for i in range(n - 2, -1, -1):
        r[i] = (r[i] + link[i] * r[i + 1]) * chain.inverse[i]


@compiled
def factor_chain(c: Cells, G: Floats, per_second: float, chain: Chain) -> None:
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
def add_bed(A: Floats, chain: Chain, g: Coefficients, G: Floats) -> None:
    """Add the bed to the matrix of the inner lumps."""
    n = chain.inverse.size
    for e in range(WAYS):
        if G[e] <= 0.0 or chain.whole[e] <= 0.0:
            continue
        for j in range(INNER):
            A[j, j] += g.bed[e, j] * chain.whole[e]
        for f in range(WAYS):
            if G[f] <= 0.0 or chain.whole[f] <= 0.0:
                continue
            part = chain.own[e] if e == f else 0.0
            for i in range(n):
                part += chain.felt[e, i] * chain.each[f, i]
            part /= G[f]
            for j in range(INNER):
                if g.bed[e, j] > 0.0:
                    for k in range(INNER):
                        A[j, k] -= g.bed[e, j] * part * g.bed[f, k]


@compiled
def bed_heat(b: Floats, r: Floats, chain: Chain, g: Coefficients) -> None:
    """Add to the lumps' right-hand side b (9,) what the chain's solution r (n,) for all that is known gives off."""
    for e in range(WAYS):
        if chain.whole[e] <= 0.0:
            continue
        known = 0.0
        for i in range(r.size):
            known += chain.felt[e, i] * r[i]
        for j in range(INNER):
            b[j] += g.bed[e, j] * known


@compiled
def invert(A: Floats, inverse: Floats) -> None:
    """Inverse of a small matrix by Gauss-Jordan elimination; A is diagonally dominant here, so no pivoting. A is destroyed."""
    n = A.shape[0]
    inverse[:, :] = 0.0
    for i in range(n):
        inverse[i, i] = 1.0
    for i in range(n):
        f = 1.0 / A[i, i]
        for c in range(n):
            A[i, c] *= f
            inverse[i, c] *= f
        for r in range(n):
            f = A[r, i]
            if r != i and f != 0.0:
                for c in range(n):
                    A[r, c] -= f * A[i, c]
                    inverse[r, c] -= f * inverse[i, c]


@compiled
def seen_by(g: Coefficients, G: Floats, x: Floats, E: Floats) -> None:
    """Sums ``G`` (4,) and mean temperatures ``E`` (4,) of what each way out leads to, from the lumps ``x``."""
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


@compiled
def write_record(
    row: Floats, top: float, bottom: float, at_sensor: float, state: Floats, s: Surroundings, r: Regulator
) -> None:
    """Temperatures of one moment into a row of the record; the powers are the caller's."""
    row[TOP], row[BOTTOM], row[SENSOR], row[READING] = top, bottom, at_sensor, state[S_READING] + r.bias
    row[AIR_T], row[LOWER_T], row[FRAME_T] = state[UPPER], state[LOWER], state[FRAME]
    row[WALL_T] = mean_wall(state, s)
    row[LAG_POWER], row[LAG_RISE] = state[S_POWER], state[S_RISE]
    row[CHAMBER_READING] = state[S_CHAMBER] + r.chamber_bias


@compiled
def transient(
    dt: Floats,
    bed_set: Floats,
    chamber_set: Floats,
    room: Floats,
    door: Floats,
    height: Floats,
    c: Cells,
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
    chain = Chain(np.zeros(n), np.zeros(n), np.zeros((WAYS, n)), np.zeros((WAYS, n)), np.zeros(WAYS), np.zeros(WAYS))
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
    at_sensor += c.lateral.per_watt * state[S_POWER] + c.lateral.per_kelvin * state[S_RISE]
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
        state[S_POWER] += (power - state[S_POWER]) * h / (c.lateral.lag + h)
        state[S_RISE] += (at_sensor - state[UPPER] - state[S_RISE]) * h / (c.lateral.lag + h)
        at_sensor += c.lateral.per_watt * state[S_POWER] + c.lateral.per_kelvin * state[S_RISE]
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
def account(ledger: Floats, T: Floats, c: Cells, g: Coefficients, G: Floats, E: Floats, x: Floats, h: float) -> None:
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
    c: Cells,
    s: Surroundings,
    r: Regulator,
    chamber_min: float,
    chamber_max: float,
    tolerance: float,
    max_iterations: int,
) -> tuple[Floats, Floats, float, float, float, float, int, Floats]:
    """Steady state with both powers unknown: the sensor at its target, the air at the chamber's sensor at its set point.

    Powers outside their limits are held at the limit. Returns the cells' temperatures (n,), the lumps (15,), surface,
    underside, bed power, chamber power (W), the number of fixed-point iterations (negative when not converged) and the flows
    (LEDGER,) in W.
    """
    n = c.capacity.size
    T = np.full(n, sensor_target)
    state = np.full(LUMPS, s.room)
    if s.enclosed:
        state[:] = s.room + 0.3 * (sensor_target - s.room)
    else:
        state[LOWER] = state[UPPER] = s.room - s.draft_cooler
    before = state.copy()
    top, bottom = sensor_target, sensor_target
    power, chamber_power = 0.0, 0.0
    A, inverse, B = np.empty((INNER, INNER)), np.zeros((INNER, INNER)), np.empty((3, INNER))
    chain = Chain(np.zeros(n), np.zeros(n), np.zeros((WAYS, n)), np.zeros((WAYS, n)), np.zeros(WAYS), np.zeros(WAYS))
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
        s0 += c.lateral.per_kelvin * (s0 - X[0, UPPER])
        s1 += c.lateral.per_kelvin * (s1 - X[1, UPPER]) + c.lateral.per_watt
        s2 += c.lateral.per_kelvin * (s2 - X[2, UPPER])
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
        for j in range(LUMPS):
            change = max(change, abs(state[j] - before[j]))
            # the overturning of the air answers steeply: later iterations go half the way
            if iteration > 6 and s.enclosed:
                state[j] = 0.5 * (state[j] + before[j])
            before[j] = state[j]
        for i in range(n):
            value = unit[i] * power
            for e in range(WAYS):
                value += chain.each[e, i] * E[e]
            change = max(change, abs(value - T[i]))
            T[i] = value
        top = face(T[0], c.half[TO_TOP, 0], G[TO_TOP], E[TO_TOP])
        bottom = face(T[n - 1], c.half[TO_BOTTOM, n - 1], G[TO_BOTTOM], E[TO_BOTTOM])
        if change < tolerance:
            count = iteration + 1
            flows[:] = 0.0
            account(flows, T, c, g, G, E, state, 1.0)
            flows[E_BED], flows[E_CHAMBER] = power, chamber_power
            if s.enclosed:
                flows[E_MACHINE] = s.heat_lower + s.heat_upper
                leave(flows, g, state, s.room, 1.0)
            break
    return T, state, top, bottom, power, chamber_power, count, flows
