"""Compiled solvers of the stack-and-chamber network: backward Euler in time, and the steady state.

Transient: the stack is eliminated with three right-hand sides (constant, unit air, unit panel temperature), which leaves a
4 x 4 system of the chamber's lumps; all nodes are coupled at once. Conductances are taken at the last state.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from mandorla.core.compiled import compiled
from mandorla.core.thermal.network import Floats, Surroundings, conductances

# Columns of the record of a transient run.
TOP, BOTTOM, SENSOR, READING, AIR_T, FRAME_T, WALL_T, OUTER_T, POWER, CHAMBER_POWER = range(10)
COLUMNS = 10
# Rows of the ledger, J.
(E_BED, E_CHAMBER, E_MACHINE, E_TOP_AIR, E_TOP_WALL, E_BOTTOM_AIR, E_BOTTOM_WALL, E_EDGES, E_LEAK, E_PANELS) = range(10)
LEDGER = 10
# Conductances are renewed when a surface or an air has moved by this much (K): 0.05 K changes h by less than 0.1 %.
_REFRESH = 0.05
# The chamber heater's regulator: proportional band (K) and integral time (s).
CHAMBER_BAND = 3.0
CHAMBER_INTEGRAL = 240.0


# Entries of the state that is carried from march to march; what the thermal fuses feel follows them.
S_AIR, S_FRAME, S_WALL_IN, S_WALL_OUT, S_READING, S_INTEGRAL, S_CHAMBER_INTEGRAL, S_ON = range(8)
STATE = 8
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


def cold_state(temperature: float, fuses: int = 0) -> Floats:
    """The state of everything at one temperature (K)."""
    state = np.full(STATE + fuses, temperature)
    state[S_INTEGRAL], state[S_CHAMBER_INTEGRAL], state[S_ON] = 0.0, 0.0, 1.0
    return state


@compiled
def solve_small(A: Floats, b: Floats) -> None:
    """Gaussian elimination with partial pivoting in place; the solution replaces b (n,)."""
    n = b.size
    for i in range(n):
        p = i
        for r in range(i + 1, n):
            if abs(A[r, i]) > abs(A[p, i]):
                p = r
        if p != i:
            for c in range(i, n):
                A[i, c], A[p, c] = A[p, c], A[i, c]
            b[i], b[p] = b[p], b[i]
        for r in range(i + 1, n):
            f = A[r, i] / A[i, i]
            if f != 0.0:
                for c in range(i, n):
                    A[r, c] -= f * A[i, c]
                b[r] -= f * b[i]
    for i in range(n - 1, -1, -1):
        v = b[i]
        for c in range(i + 1, n):
            v -= A[i, c] * b[c]
        b[i] = v / A[i, i]


@compiled
def switched(error: float, on: bool, hysteresis: float) -> bool:
    """Whether an on-off thermostat with hysteresis (K) is on."""
    if error > 0.5 * hysteresis:
        return True
    if error < -0.5 * hysteresis:
        return False
    return on


@compiled
def regulated(error: float, integral: float, h: float, band: float, integral_time: float) -> tuple[float, float]:
    """Duty 0-1 and new integral of a PI regulator after a step of h (s); it integrates only while it is not held at an end."""
    duty = error / band + integral
    if (duty < 1.0 or error < 0.0) and (duty > 0.0 or error > 0.0):
        integral += error / band * h / integral_time
    return min(1.0, max(0.0, duty)), integral


@compiled
def transient(
    dt: Floats,
    bed_set: Floats,
    chamber_set: Floats,
    room: Floats,
    dx: Floats,
    k: Floats,
    capacity: Floats,
    conductance: Floats,
    source: Floats,
    sensor: Floats,
    s: Surroundings,
    power_max: float,
    chamber_max: float,
    supply: float,
    bias: float,
    tau: float,
    on_off: bool,
    band: float,
    integral_time: float,
    hysteresis: float,
    T: Floats,
    state: Floats,
    event: Event,
) -> tuple[Floats, Floats, Floats]:
    """March the network through the steps ``dt`` (m,) from the cells' temperatures ``T`` (n,) and ``state`` (STATE,), both updated.

    Set points of bed and chamber and the room's temperature hold during each step (m,); ``event`` is what is broken.

    Returns the record (m+1, COLUMNS), the cells' temperatures (m+1, n) and the ledger (LEDGER,) in J.
    """
    n = dx.size
    m = dt.size
    record = np.empty((m + 1, COLUMNS))
    cells = np.empty((m + 1, n))
    ledger = np.zeros(LEDGER)
    air, frame, wall_in, wall_out = state[S_AIR], state[S_FRAME], state[S_WALL_IN], state[S_WALL_OUT]
    top, bottom = T[0], T[n - 1]
    reading = state[S_READING]  # of the sensor element, without its bias
    integral, chamber_integral = state[S_INTEGRAL], state[S_CHAMBER_INTEGRAL]
    on = state[S_ON] > 0.5
    fuse_T = state[STATE:]  # what each thermal fuse feels
    clock = 0.0
    lower = np.empty(n)
    r0, ra, rw, diag = np.empty(n), np.empty(n), np.empty(n), np.empty(n)
    A = np.empty((4, 4))
    b = np.empty(4)
    half_top = 2.0 * k[0] / dx[0] * s.area
    half_bottom = 2.0 * k[n - 1] / dx[n - 1] * s.area
    at = np.full(6, -1.0)  # temperatures at which the conductances were taken
    g = conductances(top, bottom, top, air, frame, wall_in, wall_out, room[0], s)

    at_sensor = 0.0
    for i in range(n):
        at_sensor += sensor[i] * T[i]
        cells[0, i] = T[i]
    record[0, TOP], record[0, BOTTOM], record[0, SENSOR], record[0, READING] = top, bottom, at_sensor, reading + bias
    record[0, AIR_T], record[0, FRAME_T], record[0, WALL_T], record[0, OUTER_T] = air, frame, wall_in, wall_out
    record[0, POWER], record[0, CHAMBER_POWER] = 0.0, 0.0

    for step in range(m):
        h = dt[step]
        outside = room[step]
        error = bed_set[step] - (reading + bias)
        if on_off:
            on = switched(error, on, hysteresis)
            power = power_max if on else 0.0
        else:
            duty, integral = regulated(error, integral, h, band, integral_time)
            power = power_max * duty
        chamber_power = 0.0
        if chamber_max > 0.0:
            duty, chamber_integral = regulated(
                chamber_set[step] - air, chamber_integral, h, CHAMBER_BAND, CHAMBER_INTEGRAL
            )
            chamber_power = chamber_max * duty
        if event.duty >= 0.0:
            power = power_max * event.duty
        for f in range(event.opened.size):
            if event.opened[f] >= 0.0:
                power = 0.0
        if event.dark:
            power, chamber_power = 0.0, 0.0
        power = min(power, supply)
        chamber_power = min(chamber_power, max(0.0, supply - power))

        moved = max(
            abs(top - at[0]), abs(bottom - at[1]), abs(air - at[2]), abs(frame - at[3]), abs(wall_in - at[4]),
            abs(wall_out - at[5]),
        )  # fmt: skip
        if moved > _REFRESH:
            at[0], at[1], at[2], at[3], at[4], at[5] = top, bottom, air, frame, wall_in, wall_out
            mean = 0.0
            for i in range(n):
                mean += T[i] * dx[i]
            g = conductances(top, bottom, mean / s.height, air, frame, wall_in, wall_out, outside, s)
        sum_top = half_top + g.top_air + g.top_wall
        sum_bottom = half_bottom + g.bottom_air + g.bottom_wall
        cell_air_top, cell_wall_top = half_top * g.top_air / sum_top, half_top * g.top_wall / sum_top
        cell_air_bottom = half_bottom * g.bottom_air / sum_bottom
        cell_wall_bottom = half_bottom * g.bottom_wall / sum_bottom
        bridge = g.top_air * g.top_wall / sum_top + g.bottom_air * g.bottom_wall / sum_bottom

        for i in range(n):
            c = capacity[i] * s.area / h
            to_air = g.edge_air * dx[i]
            to_wall = g.edge_wall * dx[i]
            if i == 0:
                to_air += cell_air_top
                to_wall += cell_wall_top
            if i == n - 1:
                to_air += cell_air_bottom
                to_wall += cell_wall_bottom
            d = c + to_air + to_wall
            if i > 0:
                d += conductance[i - 1] * s.area
            if i < n - 1:
                d += conductance[i] * s.area
            diag[i] = d
            r0[i] = c * T[i] + source[i] * power
            ra[i] = to_air
            rw[i] = to_wall
        for i in range(1, n):
            off = conductance[i - 1] * s.area
            f = off / diag[i - 1]
            lower[i] = off
            diag[i] -= f * off
            r0[i] += f * r0[i - 1]
            ra[i] += f * ra[i - 1]
            rw[i] += f * rw[i - 1]
        r0[n - 1] /= diag[n - 1]
        ra[n - 1] /= diag[n - 1]
        rw[n - 1] /= diag[n - 1]
        for i in range(n - 2, -1, -1):
            off = lower[i + 1]
            r0[i] = (r0[i] + off * r0[i + 1]) / diag[i]
            ra[i] = (ra[i] + off * ra[i + 1]) / diag[i]
            rw[i] = (rw[i] + off * rw[i + 1]) / diag[i]

        if s.enclosed:
            A[:, :] = 0.0
            A[0, 0] = s.air_capacity / h + g.air_frame + g.air_wall + bridge + g.leakage
            b[0] = s.air_capacity / h * air + chamber_power + s.machine_heat + g.leakage * outside
            A[0, 1] = -g.air_frame
            A[0, 2] = -(g.air_wall + bridge)
            A[1, 0] = -g.air_frame
            A[1, 1] = s.frame_capacity / h + g.air_frame
            b[1] = s.frame_capacity / h * frame
            A[2, 0] = -(g.air_wall + bridge)
            A[2, 2] = 0.5 * s.wall_capacity / h + g.air_wall + bridge + g.wall_wall
            A[2, 3] = -g.wall_wall
            b[2] = 0.5 * s.wall_capacity / h * wall_in
            A[3, 2] = -g.wall_wall
            A[3, 3] = 0.5 * s.wall_capacity / h + g.wall_wall + g.wall_room
            b[3] = 0.5 * s.wall_capacity / h * wall_out + g.wall_room * outside
            for i in range(n):
                to_air = g.edge_air * dx[i]
                to_wall = g.edge_wall * dx[i]
                if i == 0:
                    to_air += cell_air_top
                    to_wall += cell_wall_top
                if i == n - 1:
                    to_air += cell_air_bottom
                    to_wall += cell_wall_bottom
                A[0, 0] += to_air * (1.0 - ra[i])
                A[0, 2] -= to_air * rw[i]
                b[0] += to_air * r0[i]
                A[2, 2] += to_wall * (1.0 - rw[i])
                A[2, 0] -= to_wall * ra[i]
                b[2] += to_wall * r0[i]
            solve_small(A, b)
            air, frame, wall_in, wall_out = b[0], b[1], b[2], b[3]
        else:
            air, frame, wall_in, wall_out = outside, outside, outside, outside

        at_sensor = 0.0
        edge_flow = 0.0
        for i in range(n):
            T[i] = r0[i] + ra[i] * air + rw[i] * wall_in
            cells[step + 1, i] = T[i]
            at_sensor += sensor[i] * T[i]
            edge_flow += dx[i] * (g.edge_air * (T[i] - air) + g.edge_wall * (T[i] - wall_in))
        top = (half_top * T[0] + g.top_air * air + g.top_wall * wall_in) / sum_top
        bottom = (half_bottom * T[n - 1] + g.bottom_air * air + g.bottom_wall * wall_in) / sum_bottom
        felt = event.seen * at_sensor + (1.0 - event.seen) * air
        reading += (felt - reading) * h / (tau + h)
        clock += h
        for f in range(event.opened.size):
            at_fuse = 0.0
            for i in range(n):
                at_fuse += event.fuse[f, i] * T[i]
            fuse_T[f] += (at_fuse - fuse_T[f]) * h / (FUSE_LAG + h)
            if event.opened[f] < 0.0 and fuse_T[f] >= event.fuse_limit[f]:
                event.opened[f] = clock

        ledger[E_BED] += power * h
        ledger[E_TOP_AIR] += g.top_air * (top - air) * h
        ledger[E_TOP_WALL] += g.top_wall * (top - wall_in) * h
        ledger[E_BOTTOM_AIR] += g.bottom_air * (bottom - air) * h
        ledger[E_BOTTOM_WALL] += g.bottom_wall * (bottom - wall_in) * h
        ledger[E_EDGES] += edge_flow * h
        if s.enclosed:
            ledger[E_CHAMBER] += chamber_power * h
            ledger[E_MACHINE] += s.machine_heat * h
            ledger[E_LEAK] += g.leakage * (air - outside) * h
            ledger[E_PANELS] += g.wall_room * (wall_out - outside) * h

        record[step + 1, TOP] = top
        record[step + 1, BOTTOM] = bottom
        record[step + 1, SENSOR] = at_sensor
        record[step + 1, READING] = reading + bias
        record[step + 1, AIR_T] = air
        record[step + 1, FRAME_T] = frame
        record[step + 1, WALL_T] = wall_in
        record[step + 1, OUTER_T] = wall_out
        record[step + 1, POWER] = power
        record[step + 1, CHAMBER_POWER] = chamber_power
    state[S_AIR], state[S_FRAME], state[S_WALL_IN], state[S_WALL_OUT] = air, frame, wall_in, wall_out
    state[S_READING], state[S_INTEGRAL], state[S_CHAMBER_INTEGRAL] = reading, integral, chamber_integral
    state[S_ON] = 1.0 if on else 0.0
    return record, cells, ledger


@compiled
def steady(
    sensor_target: float,
    chamber_set: float,
    dx: Floats,
    k: Floats,
    conductance: Floats,
    source: Floats,
    sensor: Floats,
    s: Surroundings,
    power_max: float,
    chamber_min: float,
    chamber_max: float,
    tolerance: float,
    max_iterations: int,
) -> tuple[Floats, float, float, float, float, int]:
    """Steady state with both powers unknown: the sensor at its target, the chamber's air at its set point.

    Powers outside their limits are held at the limit. Returns temperatures (n+4,), surface, underside, bed power,
    chamber power (W) and the number of fixed-point iterations (negative when not converged).
    """
    n = dx.size
    size = n + 4
    T = np.empty(size)
    T[:n] = sensor_target
    guess = s.room + 0.3 * (sensor_target - s.room)
    T[n:] = guess if s.enclosed else s.room
    top, bottom = sensor_target, sensor_target
    power, chamber_power = 0.0, 0.0
    half_top = 2.0 * k[0] / dx[0] * s.area
    half_bottom = 2.0 * k[n - 1] / dx[n - 1] * s.area
    count = -max_iterations
    for iteration in range(max_iterations):
        mean = 0.0
        for i in range(n):
            mean += T[i] * dx[i]
        g = conductances(top, bottom, mean / s.height, T[n], T[n + 1], T[n + 2], T[n + 3], s.room, s)
        sum_top = half_top + g.top_air + g.top_wall
        sum_bottom = half_bottom + g.bottom_air + g.bottom_wall
        K = np.zeros((size, size))
        R = np.zeros((size, 3))
        for i in range(n - 1):
            c = conductance[i] * s.area
            K[i, i] += c
            K[i + 1, i + 1] += c
            K[i, i + 1] -= c
            K[i + 1, i] -= c
        bridge = g.top_air * g.top_wall / sum_top + g.bottom_air * g.bottom_wall / sum_bottom
        for i in range(n):
            to_air = g.edge_air * dx[i]
            to_wall = g.edge_wall * dx[i]
            if i == 0:
                to_air += half_top * g.top_air / sum_top
                to_wall += half_top * g.top_wall / sum_top
            if i == n - 1:
                to_air += half_bottom * g.bottom_air / sum_bottom
                to_wall += half_bottom * g.bottom_wall / sum_bottom
            K[i, i] += to_air + to_wall
            K[i, n] -= to_air
            K[i, n + 2] -= to_wall
            K[n, i] -= to_air
            K[n + 2, i] -= to_wall
            K[n, n] += to_air
            K[n + 2, n + 2] += to_wall
            R[i, 1] = source[i]
        if s.enclosed:
            aw = g.air_wall + bridge
            K[n, n] += g.air_frame + aw + g.leakage
            K[n, n + 1] -= g.air_frame
            K[n, n + 2] -= aw
            R[n, 0] = s.machine_heat + g.leakage * s.room
            R[n, 2] = 1.0
            K[n + 1, n + 1] += g.air_frame
            K[n + 1, n] -= g.air_frame
            K[n + 2, n] -= aw
            K[n + 2, n + 2] += aw + g.wall_wall
            K[n + 2, n + 3] -= g.wall_wall
            K[n + 3, n + 2] -= g.wall_wall
            K[n + 3, n + 3] += g.wall_wall + g.wall_room
            R[n + 3, 0] = g.wall_room * s.room
        else:
            for j in range(n, size):
                K[j, :] = 0.0
                K[j, j] = 1.0
                R[j, 0] = s.room
        X = np.linalg.solve(K, R)
        s0, s1, s2 = 0.0, 0.0, 0.0
        for i in range(n):
            s0 += sensor[i] * X[i, 0]
            s1 += sensor[i] * X[i, 1]
            s2 += sensor[i] * X[i, 2]
        chamber_power = 0.0
        power = (sensor_target - s0) / s1
        if s.enclosed and chamber_max > chamber_min:
            det = s1 * X[n, 2] - s2 * X[n, 1]
            chamber_power = (s1 * (chamber_set - X[n, 0]) - X[n, 1] * (sensor_target - s0)) / det
            chamber_power = min(chamber_max, max(chamber_min, chamber_power))
            power = (sensor_target - s0 - s2 * chamber_power) / s1
        clamped = min(power_max, max(0.0, power))
        if clamped != power:
            power = clamped
            if s.enclosed and chamber_max > chamber_min:
                chamber_power = (chamber_set - X[n, 0] - X[n, 1] * power) / X[n, 2]
                chamber_power = min(chamber_max, max(chamber_min, chamber_power))
        change = 0.0
        for j in range(size):
            value = X[j, 0] + X[j, 1] * power + X[j, 2] * chamber_power
            change = max(change, abs(value - T[j]))
            T[j] = value
        top = (half_top * T[0] + g.top_air * T[n] + g.top_wall * T[n + 2]) / sum_top
        bottom = (half_bottom * T[n - 1] + g.bottom_air * T[n] + g.bottom_wall * T[n + 2]) / sum_bottom
        if change < tolerance:
            count = iteration + 1
            break
    return T, top, bottom, power, chamber_power, count
