"""The heat-up: from a cold rig to a soaked one, with readiness, energy, where the heat goes and bands."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.thermal import kernels
from mandorla.core.thermal.network import Surroundings, range_notes, surroundings
from mandorla.core.thermal.spread import Spread, lateral_spread
from mandorla.core.thermal.stack import Floats, Stack, build_stack
from mandorla.core.thermal.steady import Band, SteadyState, solve_steady, steady_bands

_SHORT: Final = 5400.0  # s, horizon that most rigs are ready in
_LONG: Final = 6 * 3600.0


@dataclass(frozen=True, slots=True)
class HeatUp:
    """A heat-up from room temperature with the first-layer set points.

    Curves have shape (m,) in s, K and W; ``cells`` (m, n) K. ``ready_time`` (s) is NaN when the rig is not ready within the
    horizon. ``ledger`` holds J by destination until ``time[-1]``; ``closure`` is the unbalanced share of the energy put in.
    ``peak`` (one a layer) is the highest temperature each layer saw (K). Bands are 90 % ranges of an unverified rig.
    """

    time: Floats
    surface: Floats
    reading: Floats
    air: Floats
    frame: Floats
    wall: Floats
    power: Floats
    chamber_power: Floats
    cells: Floats
    stack: Stack
    set_point: float
    steady: SteadyState
    spread: Spread
    bands: Mapping[str, Band]
    ready_time: float
    chamber_ready_time: float
    frame_ready_time: float
    energy: Floats
    ledger: Mapping[str, float]
    closure: float
    peak: Floats
    notes: tuple[str, ...]

    @property
    def offset(self) -> float:
        """Set point minus steady surface temperature in K."""
        return self.set_point - self.steady.surface

    @property
    def status(self) -> str:
        """``ready``, ``slow`` (not within the horizon) or ``unreachable`` (power too small)."""
        if not self.steady.reachable:
            return "unreachable"
        return "ready" if np.isfinite(self.ready_time) else "slow"

    def shown_until(self, soak: float) -> float:
        """How far (s) the curves are worth looking at: past ready and soak."""
        until = self.ready_time if np.isfinite(self.ready_time) else float(self.time[-1])
        return min(float(self.time[-1]), max(1.6 * until + 300.0, until + soak + 120.0, 1500.0))

    def at(self, time: float, curve: Floats) -> float:
        """A curve's value at a time, linearly interpolated."""
        return float(np.interp(time, self.time, curve))


def time_steps(horizon: float, dt: float = 2.0) -> Floats:
    """Steps (m,) that resolve the first 30 s with 0.5 s at most and then use ``dt``; beyond 1.5 h 10 s."""
    fine = min(0.5, dt)
    first = np.full(round(30.0 / fine), fine)
    until = min(horizon, _SHORT)
    second = np.full(round((until - 30.0) / dt), dt)
    third = np.full(round(max(0.0, horizon - until) / 10.0), 10.0)
    return np.concatenate([first, second, third])


def run_network(
    rig: Rig,
    settings: Settings,
    steps: Floats,
    stack: Stack,
    s: Surroundings,
    T: Floats,
    state: Floats,
    event: kernels.Event,
) -> tuple[Floats, Floats, Floats]:
    """March the quick network at the first-layer set points; ``T`` and ``state`` are updated (see kernels.transient)."""
    bed = rig.bed
    return kernels.transient(
        steps, np.full(steps.size, settings.bed_first), np.full(steps.size, settings.chamber),
        np.full(steps.size, rig.room_temperature), stack.dx, stack.k, stack.capacity, stack.conductance, stack.source,
        stack.sensor, s, bed.heater.power, rig.chamber.heater_power if rig.chamber.enclosed else 0.0,
        rig.limits.supply_power, bed.sensor.bias, bed.sensor.time_constant, bed.control.kind == "on-off",
        bed.control.proportional_band, bed.control.integral_time, bed.control.hysteresis, T, state, event,
    )  # fmt: skip


def march(
    rig: Rig, settings: Settings, steps: Floats, stack: Stack | None = None
) -> tuple[Floats, Floats, Floats, float]:
    """Run the transient at the first-layer set points: record, cells, ledger (see kernels) and the energy stored (J)."""
    stack = stack or build_stack(rig.bed)
    s = surroundings(rig, stack.emissivity_top, stack.emissivity_bottom)
    start = rig.room_temperature
    record, cells, ledger = run_network(
        rig, settings, steps, stack, s, np.full(stack.dx.size, start), kernels.cold_state(start),
        kernels.nothing_broken(stack.dx.size),
    )  # fmt: skip
    rise = cells[-1] - rig.room_temperature
    stored = float(np.sum(stack.capacity * s.area * rise))
    if s.enclosed:
        last = record[-1] - rig.room_temperature
        stored += s.air_capacity * last[kernels.AIR_T] + s.frame_capacity * last[kernels.FRAME_T]
        stored += 0.5 * s.wall_capacity * (last[kernels.WALL_T] + last[kernels.OUTER_T])
    return record, cells, ledger, stored


def since_when(time: Floats, good: np.ndarray[tuple[int], np.dtype[np.bool_]]) -> float:
    """The first moment from which ``good`` holds to the end; NaN when it does not hold at the end."""
    if not good[-1]:
        return float("nan")
    bad = np.flatnonzero(~good)
    return float(time[0] if bad.size == 0 else time[bad[-1] + 1])


def drift(time: Floats, curve: Floats, window: float = 60.0) -> Floats:
    """Rate of change (K/s) over the last ``window`` seconds, shape (m,)."""
    before = np.interp(time - window, time, curve)
    return (curve - before) / np.minimum(window, np.maximum(time, 1e-9))


def _names(enclosed: bool, ledger: Floats, stored: float) -> dict[str, float]:
    k = kernels
    if enclosed:
        return {"leakage": ledger[k.E_LEAK], "panels": ledger[k.E_PANELS], "stored": stored}
    return {
        "top, to the air": ledger[k.E_TOP_AIR],
        "top, radiated": ledger[k.E_TOP_WALL],
        "underside": ledger[k.E_BOTTOM_AIR] + ledger[k.E_BOTTOM_WALL],
        "edges": ledger[k.E_EDGES],
        "stored": stored,
    }


def heat_up(rig: Rig, settings: Settings, criteria: Criteria, *, with_bands: bool = True) -> HeatUp:
    """Heat the rig from room temperature with the quick model (through-stack 1-D, lumped chamber, backward Euler).

    Ready means: the sensor reads within ``criteria.ready_band`` of the set point and the surface drifts by less than
    ``criteria.ready_drift``, from then on.
    """
    stack = build_stack(rig.bed)
    flat = solve_steady(rig, settings.bed_first, settings.chamber, stack)
    spread = lateral_spread(rig, flat, stack)
    steady_state = spread.centred(flat)
    for horizon in (_SHORT, _LONG):
        steps = time_steps(horizon)
        record, cells, ledger, stored = march(rig, settings, steps, stack)
        record.setflags(write=False)
        time = np.concatenate([[0.0], np.cumsum(steps)])
        reading, air = record[:, kernels.READING], record[:, kernels.AIR_T]
        surface = air + spread.gain * (record[:, kernels.TOP] - air)
        near = np.abs(reading - settings.bed_first) <= criteria.ready_band
        calm = np.abs(drift(time, surface)) <= criteria.ready_drift
        ready = since_when(time, near & calm)
        if np.isfinite(ready) or not steady_state.reachable:
            break
    air_calm, frame_calm = (
        np.abs(drift(time, curve, 300.0)) <= criteria.ready_drift for curve in (air, record[:, kernels.FRAME_T])
    )
    energy = np.concatenate([[0.0], np.cumsum((record[1:, kernels.POWER] + record[1:, kernels.CHAMBER_POWER]) * steps)])
    put_in = float(ledger[kernels.E_BED] + ledger[kernels.E_CHAMBER] + ledger[kernels.E_MACHINE])
    where = _names(rig.chamber.enclosed, ledger, stored)
    peak = np.array([cells[:, stack.layer == i].max() for i in range(len(rig.bed.layers))])
    s = surroundings(rig, stack.emissivity_top, stack.emissivity_bottom)
    notes = range_notes(steady_state.surface, steady_state.underside, steady_state.wall, steady_state.air, s)
    for array in (time, surface, cells, energy, peak):
        array.setflags(write=False)
    return HeatUp(
        time=time, surface=surface, reading=reading, air=air, frame=record[:, kernels.FRAME_T],
        wall=record[:, kernels.WALL_T], power=record[:, kernels.POWER], chamber_power=record[:, kernels.CHAMBER_POWER],
        cells=cells, stack=stack, set_point=settings.bed_first, steady=steady_state,
        spread=spread,
        bands=_centred_bands(rig, settings, flat, spread) if with_bands else {},
        ready_time=ready,
        chamber_ready_time=since_when(time, air_calm) if rig.chamber.enclosed else 0.0,
        frame_ready_time=since_when(time, frame_calm) if rig.chamber.enclosed else 0.0,
        energy=energy, ledger=where, closure=(put_in - sum(where.values())) / max(put_in, 1e-9), peak=peak,
        notes=notes,
    )  # fmt: skip


def _centred_bands(rig: Rig, settings: Settings, flat: SteadyState, spread: Spread) -> dict[str, Band]:
    """The bands of the one-dimensional state, the surface's moved to the centre."""
    bands = steady_bands(rig, settings.bed_first, settings.chamber, flat)
    moved = [
        flat.air + spread.gain * (v - flat.air)
        for v in (bands["surface"].value, bands["surface"].low, bands["surface"].high)
    ]
    return {**bands, "surface": Band(*moved)}
