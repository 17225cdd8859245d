"""The heat-up: from a cold rig to a soaked one, with readiness, energy, where the heat goes and bands."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Final

import numpy as np

from mandorla.core.errors import Problem, SolverError
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.thermal.fuses import Trip, closed_fuses, trips_of
from mandorla.core.thermal.lateral_conduction import QUADRANT, LateralConduction, lateral_spread
from mandorla.core.thermal.ledger import from_bed, given_in, where_it_went
from mandorla.core.thermal.network import (
    FRAME,
    LOWER,
    NODES,
    OUTER,
    UPPER,
    WALLS,
    Surroundings,
    range_notes,
    surroundings,
)
from mandorla.core.thermal.network_run import NetworkRun, joined
from mandorla.core.thermal.network_solver import Course, Event, nothing_broken, transient
from mandorla.core.thermal.stack import Floats, Stack, build_stack
from mandorla.core.thermal.start import start_of
from mandorla.core.thermal.steady import (
    Band,
    SteadyBands,
    SteadyState,
    cells_of,
    regulator_of,
    solve_steady,
    steady_bands,
)

_LEAST_RISE: Final = 3.0  # K
_SHORT: Final = 5400.0  # s, horizon that most rigs are ready in
_LONG: Final = 6 * 3600.0
HOTTEST: Final = 5000.0  # K
_PIECE: Final = 300.0  # s of a march, after which it is looked whether bed and surface are calm
_CALM_STEP: Final = 10.0  # s, steps from then on
SWING: Final = 240.0  # s, over which the swing of a switching thermostat is averaged


@dataclass(frozen=True, slots=True)
class GoesOn:
    """A moment (``time`` s) of a march with everything that it can go on from: ``cells`` (n,) K and the ``state``."""

    time: float
    cells: Floats
    state: Floats


@dataclass(frozen=True, slots=True)
class HeatUp:
    """A heat-up from room temperature with the first-layer set points.

    Curves have shape (m,) in s, K and W; ``air`` is the upper air, ``lower_air`` that below the bed's level; ``cells`` (m, n) K at
    the middle of the bed. ``ready_time`` (s) is NaN when the rig is not ready within the horizon. ``ledger`` holds J by
    destination until ``time[-1]``, ``from_bed`` J by the way it left the bed; ``closure`` is the unbalanced share of the energy.
    ``peak`` (one a layer) is the highest temperature each layer saw (K). ``trips`` are thermal fuses that open on the way. Bands
    are 90 % ranges of an unverified rig; ``power_changes`` what both heaters' steady power changes by (W) at the low
    and the high end of each unknown, by key. ``goes_on`` is what the march goes on from once it is ready, or at its end.
    """

    time: Floats
    surface: Floats
    reading: Floats
    air: Floats
    lower_air: Floats
    chamber_reading: Floats
    room: Floats
    frame: Floats
    wall: Floats
    power: Floats
    chamber_power: Floats
    cells: Floats
    stack: Stack
    set_point: float
    steady: SteadyState
    spread: LateralConduction
    bands: Mapping[str, Band]
    ready_time: float
    plate_ready_time: float
    chamber_ready_time: float
    frame_ready_time: float
    energy: Floats
    ledger: Mapping[str, float]
    from_bed: Mapping[str, float]
    closure: float
    peak: Floats
    notes: tuple[str, ...]
    trips: tuple[Trip, ...] = ()
    power_changes: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    goes_on: GoesOn | None = None

    @property
    def offset(self) -> float:
        """Set point minus steady surface temperature in K."""
        return self.set_point - self.steady.surface

    def layer(self, index: int) -> Floats:
        """Mean temperature (m,) in K of a layer over time."""
        own = self.stack.layer == index
        return np.asarray(self.cells[:, own] @ self.stack.dx[own] / self.stack.dx[own].sum())

    @property
    def status(self) -> str:
        """``ready``, ``slow`` (not within the horizon), ``tripped`` (a fuse opens) or ``unreachable`` (power too small)."""
        if self.trips:
            return "tripped"
        if not self.steady.reachable:
            return "unreachable"
        return "ready" if np.isfinite(self.ready_time) else "slow"

    @property
    def short_of_power(self) -> bool:
        """Whether the set point is not met because the heater is too weak, not because nothing needs heating."""
        return not self.steady.reachable and self.set_point > float(self.reading[-1])

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


def blown(rig: Rig, ends: Floats, steps: Floats) -> Floats:
    """Speed (m,) in m/s of what blows on an open bed in steps (m,) s that end at ``ends`` (m,) s."""
    return np.asarray(np.maximum(rig.draft, rig.room.cooler_speed * rig.room.blowing(ends, steps)))


def door_open(rig: Rig, steps: Floats, start: float = 0.0) -> Floats:
    """Share (m,) of each step, the first of which begins at ``start`` (s), during which the chamber's door stands open."""
    door = rig.chamber.door
    if door.open_for <= 0.0:
        return np.zeros(steps.size)
    end = start + np.cumsum(steps)
    shut = door.opens_at + door.open_for
    open_for = np.minimum(end, shut) - np.maximum(end - steps, door.opens_at)
    at_once = ((door.opens_at <= end) & (end < shut)).astype(float)  # in a step of no length it is open or it is not
    return np.asarray(np.clip(np.divide(open_for, steps, out=at_once, where=steps > 0.0), 0.0, 1.0))


def _door_opens(rig: Rig) -> float:
    """When (s) the chamber's door opens; infinite where it stays shut."""
    door = rig.chamber.door
    return door.opens_at if rig.chamber.enclosed and door.open_for > 0.0 else np.inf


def course_of(rig: Rig, settings: Settings, steps: Floats, start: float = 0.0) -> Course:
    """The first-layer set points held, the room's course and the door's opening, from ``start`` s on."""
    ends = start + np.cumsum(steps)
    return Course(
        steps, np.full(steps.size, settings.bed_first), np.full(steps.size, settings.chamber),
        rig.room.course(rig.room_temperature, ends, steps), door_open(rig, steps, start), blown(rig, ends, steps),
    )  # fmt: skip


def run_network(
    rig: Rig, course: Course, stack: Stack, s: Surroundings, T: Floats, state: Floats, event: Event | None = None
) -> NetworkRun:
    """March the quick network along a course; ``T`` and ``state`` are updated (see network_solver.transient)."""
    return transient(course, cells_of(stack, s), s, regulator_of(rig), T, state, event or nothing_broken(stack.dx.size))


def stored_heat(stack: Stack, s: Surroundings, T: Floats, state: Floats, start: float) -> float:
    """Heat (J) in bed and chamber above the temperature ``start`` (K) at which all of it began."""
    stored = float(np.sum(stack.capacity * s.area * (T - start)))
    if s.enclosed:
        rise = state[:NODES] - start
        stored += s.lower_capacity * rise[LOWER] + s.upper_capacity * rise[UPPER] + s.frame_capacity * rise[FRAME]
        stored += float(s.cap_in @ rise[WALLS : WALLS + 6] + s.cap_out @ rise[OUTER : OUTER + 6])
    return stored


@dataclass(frozen=True, slots=True)
class March:
    """A march from the start of the job on, the energy (J) that bed and chamber have gained at its end, the fuses that opened, and
    the state at its end: ``cells`` (n,) K and ``state`` as the march carries it on."""

    run: NetworkRun
    stored: float
    trips: tuple[Trip, ...]
    cells: Floats
    state: Floats


def march(
    rig: Rig, settings: Settings, steps: Floats, stack: Stack | None = None, around: Surroundings | None = None
) -> March:
    """Run the transient at the first-layer set points through ``steps`` (m,) s from the start of the job on."""
    stack = stack or build_stack(rig.bed)
    s = around or surroundings(rig, stack.emissivity_top, stack.emissivity_bottom)
    T, state = start_of(rig, stack, s)
    before = stored_heat(stack, s, T, state, rig.start_temperature)
    fuses = closed_fuses(rig.bed, stack)
    run = run_network(rig, course_of(rig, settings, steps), stack, s, T, state, fuses)
    stored = stored_heat(stack, s, T, state, rig.start_temperature) - before
    return March(run, stored, trips_of(rig.bed, fuses), T, state)


def settling_march(
    rig: Rig, settings: Settings, criteria: Criteria, horizon: float, stack: Stack, s: Surroundings
) -> tuple[Floats, March]:
    """The march through ``horizon`` s with long steps once the bed has held its set point, and its surface been calm, for a whole
    piece of it, or a fuse has opened, and nothing is switched any more; and the steps (m,) s that it took."""
    steps = time_steps(horizon)
    ends = np.cumsum(steps)
    T, state = start_of(rig, stack, s)
    before = stored_heat(stack, s, T, state, rig.start_temperature)
    fuses = closed_fuses(rig.bed, stack)
    regular = rig.bed.control.kind != "on-off" and not rig.room.cooler
    cells, regulator = cells_of(stack, s), regulator_of(rig)
    pieces: list[NetworkRun] = []
    taken: list[Floats] = []
    given = course_of(rig, settings, steps)

    def go_on(course: Course, start: float) -> None:
        shut = fuses.opened < 0.0
        pieces.append(transient(course, cells, s, regulator, T, state, fuses))
        taken.append(course.dt)
        fuses.opened[shut & (fuses.opened >= 0.0)] += start  # a march counts from its own begin

    now, k = 0.0, 0
    while now < horizon - 1e-6:
        last = int(np.searchsorted(ends, now + _PIECE + 1e-6)) if regular else steps.size
        piece = steps[k:last]
        go_on(Course(*(curve[k:last] for curve in given)), now)
        now, k = float(ends[last - 1]), last
        door = rig.chamber.door
        switched = not (rig.chamber.enclosed and door.open_for > 0.0) or now > door.opens_at + door.open_for + _PIECE
        out = bool((fuses.opened >= 0.0).any())  # and stays so: all that was hot cools down
        settled = out or _calm(pieces[-1], piece, settings.bed_first, criteria)
        if regular and switched and settled and k < steps.size:
            count = max(1, round((horizon - now) / _CALM_STEP))
            go_on(course_of(rig, settings, np.full(count, (horizon - now) / count), now), now)
            now = horizon
    stored = stored_heat(stack, s, T, state, rig.start_temperature) - before
    return np.concatenate(taken), March(joined(pieces), stored, trips_of(rig.bed, fuses), T, state)


def _calm(run: NetworkRun, steps: Floats, set_point: float, criteria: Criteria) -> bool:
    """Whether the bed was at its set point (K) and its surface calm through a piece of a march."""
    near = np.abs(run.reading - set_point) <= criteria.ready_band
    ends = np.cumsum(steps) - steps[0]
    slow = np.abs(drift(ends, run.top[1:])) <= criteria.ready_drift  # the first value is the cell's below
    return bool(near.all() and slow.all())


def since_when(time: Floats, good: np.ndarray[tuple[int], np.dtype[np.bool_]]) -> float:
    """The first moment from which ``good`` holds to the end; NaN when it does not hold at the end."""
    if not good[-1]:
        return float("nan")
    bad = np.flatnonzero(~good)
    return float(time[0] if bad.size == 0 else time[bad[-1] + 1])


def smoothed(time: Floats, curve: Floats, window: float) -> Floats:
    """Mean (m,) of a curve over the last ``window`` seconds."""
    area = np.concatenate([[0.0], np.cumsum(0.5 * (curve[1:] + curve[:-1]) * np.diff(time))])
    width = np.minimum(window, np.maximum(time, 1e-9))
    before = np.interp(time - width, time, area)
    mean = (area - before) / width
    mean[0] = curve[0]
    return np.asarray(mean)


def ready_since(
    time: Floats, reading: Floats, surface: Floats, set_point: float, criteria: Criteria, *, on_off: bool = False
) -> float:
    """The moment (s) from which the reading is near its set point (K) and the surface drifts slowly; NaN when later than shown.

    Under a thermostat that switches both swing for ever: means over ``SWING`` seconds are judged then.
    """
    if on_off:
        reading, surface = smoothed(time, reading, SWING), smoothed(time, surface, SWING)
    near = np.abs(reading - set_point) <= criteria.ready_band
    return since_when(time, near & (np.abs(drift(time, surface, SWING if on_off else 60.0)) <= criteria.ready_drift))


def drift(time: Floats, curve: Floats, window: float = 60.0) -> Floats:
    """Rate of change (K/s) over the last ``window`` seconds, shape (m,)."""
    before = np.interp(time - window, time, curve)
    return (curve - before) / np.minimum(window, np.maximum(time, 1e-9))


def refuse_absurd(rig: Rig, peak: Floats) -> None:
    """Refuse layers that would get as hot as nothing does.

    Parameters
    ----------
    peak
        The hottest (layers,) K of each layer; NaN where a march has left all figures behind.

    Raises
    ------
    SolverError
        With the layer and the fields that cannot be together.
    """
    wrong = np.flatnonzero(~(peak <= HOTTEST))
    if not wrong.size:
        return
    hottest = int(wrong[np.argmax(np.nan_to_num(peak[wrong], nan=np.inf, posinf=np.inf))])
    known = np.isfinite(peak[hottest])
    does = (
        f"would reach {peak[hottest] - 273.15:.3g} °C, which nothing does" if known else "would get hotter without end"
    )
    heater = rig.bed.heater
    raise SolverError(
        f"“{rig.bed.layers[hottest].name}” {does}: the heater's power and resistance, the layers and joints above it and the place "
        "of the sensor cannot be together.",
        problems=(
            Problem("rig.bed.heater.power", f"{heater.power:.4g} W", "less, or better joints above the heater"),
            *(
                (
                    Problem(
                        "rig.bed.heater.resistance_coefficient",
                        f"{heater.resistance_coefficient:.4g} 1/K",
                        "not negative",
                    ),
                )
                if heater.resistance_coefficient < 0.0
                else ()
            ),
        ),
    )


def shape_of(rig: Rig, settings: Settings, cells: int = QUADRANT) -> LateralConduction:
    """The shape of a rig's surface at the settings' steady state, from so many ``cells`` along half a side of the bed."""
    even = build_stack(rig.bed)
    return lateral_spread(rig, solve_steady(rig, settings.bed_first, settings.chamber, even), even, cells)


def heat_up(
    rig: Rig,
    settings: Settings,
    criteria: Criteria,
    *,
    with_bands: bool = True,
    spread: LateralConduction | None = None,
) -> HeatUp:
    """Heat the rig from room temperature with the quick model (through-stack 1-D, lumped chamber, backward Euler).

    Ready means: the sensor reads within ``criteria.ready_band`` of the set point and the surface drifts by less than
    ``criteria.ready_drift``, from then on. ``spread`` is the surface's shape where that of a state nearby will do.
    """
    spread = spread or shape_of(rig, settings)
    stack = replace(build_stack(rig.bed), lateral=spread.at_sensor)
    s = surroundings(rig, stack.emissivity_top, stack.emissivity_bottom)
    flat = solve_steady(rig, settings.bed_first, settings.chamber, stack, s)
    steady_state = spread.centred(flat)
    for horizon in (_SHORT, _LONG):
        steps, marched = settling_march(rig, settings, criteria, horizon, stack, s)
        run = marched.run
        time = np.concatenate([[0.0], np.cumsum(steps)])
        reading, air = run.reading, run.air
        surface, cells = spread.moved(stack, time, run)
        on_off = rig.bed.control.kind == "on-off"
        ready = ready_since(time, reading, surface, settings.bed_first, criteria, on_off=on_off)
        before = time <= _door_opens(rig)
        if not before.all() and before.sum() > 2:
            early = ready_since(
                time[before], reading[before], surface[before], settings.bed_first, criteria, on_off=on_off
            )
            # a door that opens later does not undo that the machine was ready; what it cools is marched
            ready = early if np.isfinite(early) else ready
        sensed = cells[:, stack.layer == rig.bed.layer_index(rig.bed.sensor.layer)].mean(axis=1)
        plate_ready = ready_since(time, reading, sensed, settings.bed_first, criteria, on_off=on_off)
        if np.isfinite(ready) or marched.trips or not steady_state.reachable:
            break
    frame_calm = np.abs(drift(time, run.frame, 300.0)) <= criteria.ready_drift
    air_calm = np.abs(drift(time, air, 300.0)) <= criteria.ready_drift
    if rig.chamber.heater_power > 0.0:
        # a heated chamber is ready at its set point, not only calm somewhere below it
        air_calm &= np.abs(run.chamber_reading - settings.chamber) <= criteria.ready_band
    energy = np.concatenate([[0.0], np.cumsum((run.power[1:] + run.chamber_power[1:]) * steps)])
    put_in = given_in(run.ledger)
    where = where_it_went(rig.chamber.enclosed, run.ledger, marched.stored)
    peak = np.array([cells[:, stack.layer == i].max() for i in range(len(rig.bed.layers))])
    notes = range_notes(
        steady_state.surface, steady_state.underside, steady_state.wall, steady_state.air, steady_state.lower_air, s
    )
    room = np.concatenate([[rig.start_temperature], course_of(rig, settings, steps).room])
    bands, power_changes = _centred_bands(rig, settings, flat, spread) if with_bands else ({}, {})
    refuse_absurd(rig, peak)
    for array in (time, surface, cells, energy, peak, room, *run):
        array.setflags(write=False)
    return HeatUp(
        time=time, surface=surface, reading=reading, air=air, lower_air=run.lower, chamber_reading=run.chamber_reading,
        room=room, frame=run.frame, wall=run.wall, power=run.power, chamber_power=run.chamber_power,
        cells=cells, stack=stack, set_point=settings.bed_first, steady=steady_state,
        spread=spread,
        bands=bands, power_changes=power_changes,
        ready_time=ready, plate_ready_time=plate_ready,
        chamber_ready_time=since_when(time, air_calm) if rig.chamber.enclosed else 0.0,
        frame_ready_time=since_when(time, frame_calm) if rig.chamber.enclosed else 0.0,
        energy=energy, ledger=where, from_bed=from_bed(run.ledger), peak=peak,
        closure=(put_in - sum(where.values())) / max(put_in, 1e-9),
        notes=notes, trips=marched.trips, goes_on=_from_ready(run, time, ready),
    )  # fmt: skip


def _from_ready(run: NetworkRun, time: Floats, ready: float) -> GoesOn:
    """The moment at which a machine is ready, or the end of the march."""
    k = int(np.searchsorted(time, ready - 1e-9)) if np.isfinite(ready) else time.size - 1
    cells, state = run.cells[k].copy(), run.states[k].copy()
    cells.setflags(write=False)
    state.setflags(write=False)
    return GoesOn(float(time[k]), cells, state)


def _centred_bands(rig: Rig, settings: Settings, flat: SteadyState, spread: LateralConduction) -> SteadyBands:
    """The bands of the one-dimensional state, the surface's moved to the centre."""
    bands, power_changes = steady_bands(rig, settings.bed_first, settings.chamber, flat, spread.at_sensor)
    centre = spread.centred(flat)
    rise = flat.surface - flat.air  # of a plate hardly warmer than its air the ratio says nothing
    gain = (centre.surface - flat.air) / rise if abs(rise) > _LEAST_RISE else 1.0
    moved = [
        flat.air + gain * (v - flat.air) for v in (bands["surface"].value, bands["surface"].low, bands["surface"].high)
    ]
    return SteadyBands({**bands, "surface": Band(*moved)}, power_changes)
