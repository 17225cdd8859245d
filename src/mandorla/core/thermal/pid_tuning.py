"""Regulator settings from the model: the bed's answer to a small step of power, fitted and turned into PID terms.

About the holding point the reading answers a step of the duty with its steepest slope k' after a dead time theta, both read from
the tangent of the reaction curve (Ziegler and Nichols 1942); what comes later is slow. Skogestad's rules for such processes
(J. Process Control 13, 2003, eq. 23-24 with tau large: Kc = 1/(k' (tau_c + theta)), tau_I = 4 (tau_c + theta)) give proportional
band and integral time for a wanted closing time tau_c; the derivative time is half the dead time. A few closing times are tried
in a simulated heat-up, and the quickest that is ready and does not pass the set point by more than the ready band is taken.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.thermal.heatup import HeatUp, course_of, heat_up, run_network
from mandorla.core.thermal.network import surroundings
from mandorla.core.thermal.network_solver import nothing_broken
from mandorla.core.thermal.start import settled

_STEP: Final = 1.0  # s
_HORIZON: Final = 600.0  # s, in which the answer is read
_CLOSING: Final = (0.5, 1.0, 2.0, 4.0, 8.0)  # closing times tried, in dead times
_DUTY: Final = 0.05


@dataclass(frozen=True, slots=True)
class Answer:
    """The reading's answer to a step of the duty: steepest ``slope`` K/s per unit of duty after ``dead_time`` s."""

    slope: float
    dead_time: float


@dataclass(frozen=True, slots=True)
class Regulated:
    """A heat-up under some regulation: ``overshoot`` K of the reading over the set point, ``ripple`` K in the last quarter,
    ``ready_time`` s."""

    overshoot: float
    ripple: float
    ready_time: float


@dataclass(frozen=True, slots=True)
class PidTuning:
    """Suggested terms (K, s, s) with the answer they come from, the heat-up as it is regulated now and as it would be."""

    answer: Answer
    proportional_band: float
    integral_time: float
    derivative_time: float
    now: Regulated
    then: Regulated


def step_answer(rig: Rig, settings: Settings, heat: HeatUp) -> Answer:
    """Step the duty by 5 % at the holding point and fit the answer of the reading."""
    stack = heat.stack
    s = surroundings(rig, stack.emissivity_top, stack.emissivity_bottom)
    steps = np.full(round(_HORIZON / _STEP), _STEP)
    full = rig.bed.heater.power * rig.bed.control.power_limit
    hold = heat.steady.flows.bed / full
    readings = []
    for extra in (0.0, _DUTY):
        T, state = settled(rig, stack, heat.steady)
        event = nothing_broken(stack.dx.size)._replace(duty=np.full(1, hold + extra))
        shut = course_of(rig, settings, steps)._replace(door=np.zeros(steps.size))
        run = run_network(rig, shut, stack, s, T, state, event)
        readings.append(run.reading)
    rise = (readings[1] - readings[0]) / _DUTY
    slope = np.diff(rise) / _STEP
    steepest = int(slope.argmax())
    at = (steepest + 0.5) * _STEP
    level = 0.5 * float(rise[steepest] + rise[steepest + 1])
    return Answer(float(slope[steepest]), max(at - level / float(slope[steepest]), _STEP))


def regulated(heat: HeatUp) -> Regulated:
    """How a heat-up was regulated."""
    last = heat.time > 0.75 * heat.time[-1]
    over = float(heat.reading.max() - heat.set_point) if heat.steady.power > 0.0 else 0.0
    return Regulated(max(over, 0.0), float(np.ptp(heat.reading[last])), heat.ready_time)


def tune_regulator(rig: Rig, settings: Settings, criteria: Criteria, heat: HeatUp) -> PidTuning:
    """Terms for the rig's bed and what they change in its heat-up."""
    answer = step_answer(rig, settings, heat)
    best: tuple[tuple[bool, float, float], dict[str, float], Regulated] | None = None
    for closing in _CLOSING:
        wait = closing * answer.dead_time + answer.dead_time
        terms = {
            "proportional_band": float(np.clip(answer.slope * wait, 0.5, 100.0)),
            "integral_time": float(np.clip(4.0 * wait, 5.0, 5000.0)),
            "derivative_time": float(np.clip(0.5 * answer.dead_time, 0.0, 300.0)),
        }
        control = rig.bed.control.model_copy(update={"kind": "steady", **terms})
        other = rig.model_copy(update={"bed": rig.bed.model_copy(update={"control": control})})
        after = regulated(heat_up(other, settings, criteria, with_bands=False))
        ready = after.ready_time if np.isfinite(after.ready_time) else np.inf
        rank = (after.overshoot > criteria.ready_band, ready, after.overshoot)
        if best is None or rank < best[0]:
            best = (rank, terms, after)
    assert best is not None
    _, terms, after = best
    return PidTuning(
        answer, terms["proportional_band"], terms["integral_time"], terms["derivative_time"], regulated(heat), after
    )
