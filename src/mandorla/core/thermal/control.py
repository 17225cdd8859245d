"""Regulation and sensors: what the heaters are asked for from step to step, and the state that is carried along."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from mandorla.core.compiled import compiled
from mandorla.core.rig.bed import REFERENCE
from mandorla.core.thermal.network import LOWER, NODES, UPPER, Surroundings
from mandorla.core.thermal.stack import MODES, Floats

# The chamber heater's regulator: proportional band (K) and integral time (s).
CHAMBER_BAND = 3.0
CHAMBER_INTEGRAL = 240.0

# Entries of the state that is carried from march to march: the nodes first; what the thermal fuses feel follows.
(S_READING, S_INTEGRAL, S_CHAMBER, S_CHAMBER_INTEGRAL, S_ON, S_RATE) = range(NODES, NODES + 6)
S_LATE = NODES + 6  # the heater's power as it comes to the plate
S_POWER = S_LATE + 1  # what lags behind in the plane, one entry a mode: that power, and the plate's rise over the air
S_RISE = S_POWER + MODES
STATE = S_RISE + MODES
_RATE_LAG = 5.0  # s, of the filter on the regulator's rate of change


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
    chamber_band: float
    chamber_integral: float


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
        duty, integral = regulated(wrong, state[S_CHAMBER_INTEGRAL], h, r.chamber_band, r.chamber_integral, 0.0)
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


def cold_state(temperature: float, fuses: int = 0) -> Floats:
    """The state of everything at one temperature (K)."""
    state = np.full(STATE + fuses, temperature)
    state[S_INTEGRAL], state[S_CHAMBER_INTEGRAL], state[S_ON], state[S_RATE] = 0.0, 0.0, 1.0, 0.0
    state[S_LATE:STATE] = 0.0
    return state
