"""The machine through a whole print: bed, chamber and room marched from the start of the job to the last layer.

The quick network goes on from where the heat-up and the soak have left it: the bed's set point changes after the first layers, the
chamber drifts, the room has its own course, doors open. Short steps follow every change until the bed is settled, with the
machine's own regulator; then long ones, with one whose terms are wide enough for them. A heater that gives all it has, or nothing,
does not regulate: then only the surface has to be calm.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.compiled import compiled
from mandorla.core.rig.bed import REFERENCE
from mandorla.core.rig.consumers import Doing
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Settings
from mandorla.core.thermal.control import CHAMBER_BAND, S_CHAMBER_INTEGRAL, S_INTEGRAL, Regulator
from mandorla.core.thermal.fuses import closed_fuses
from mandorla.core.thermal.heatup import SWING, GoesOn, HeatUp, blown, door_open, smoothed, stored_heat
from mandorla.core.thermal.ledger import given_in, where_it_went
from mandorla.core.thermal.network import OnPlate, Surroundings, surroundings, while_doing, while_printing
from mandorla.core.thermal.network_elimination import StackCells
from mandorla.core.thermal.network_run import NetworkRun, joined
from mandorla.core.thermal.network_solver import Course, transient
from mandorla.core.thermal.stack import Floats, Stack
from mandorla.core.thermal.steady import SteadyState, cells_of, regulator_of
from mandorla.core.units import OFF

_SHORT: Final = 2.0  # s, steps after a change
# s, while a bed only cools, or gets all there is, far from its set point, and once it has held that
_CALMER: Final = 10.0
_SOAKING: Final = 5.0  # s, in the soak of a machine that is ready
_PIECE: Final = 300.0  # s of them, after which it is looked whether the bed is settled
_LONGEST: Final = 4 * 3600.0  # s after a change from which it counts as settled
_LONG: Final = (30.0, 60.0)  # s, steps of a settled bed: where an air conditioner blows, and where none does
# K between reading and set point, and that the surface may still drift in a piece; twice that and more where a thermostat switches
_NEAR: Final = 0.5
_CALM: Final = 0.1
_SWITCHED: Final = 3.0
_FAR: Final = 15.0  # K from its set point within which a bed's regulator may set in
_ALL: Final = 0.999  # of what a heater can give that counts as all of it
HANDLED: Final = 313.15  # K of the surface at which a print is over for who takes it off
_OVER_ROOM: Final = 8.0  # K over a room that is nearly as warm
COOLED: Final = 8 * 3600.0  # s, that a cool-down is marched at most
_COOL_PIECE: Final = 3600.0
_COOL_STEP: Final = 60.0
_STIFF: Final = 2.0  # long steps in which the wide regulator answers


@dataclass(frozen=True, slots=True)
class PrintCourse:
    """The machine while it prints; curves (m,) from the first layer on.

    ``time`` s, ``set_point`` of the bed, its ``reading``, ``surface`` in the bed's middle, upper ``air`` and the air of the
    ``room`` in K, ``blows`` m/s over an open bed, ``power`` and ``chamber_power`` in W. ``begins`` s after switching on.
    ``lowered`` s at which the first layers end; ``follows`` s after it until the surface is within a kelvin of where it stays
    (NaN: nothing changes, or it never is). ``unknown_from`` s from which the room's log says nothing more (infinite: it reaches
    to the end). ``soaked`` J that bed and chamber heater gave in the soak before it and ``soaked_peak`` the most W they took at
    once, ``cools`` s that it takes with both off until the surface is cold enough to handle, ``closure`` the share of the
    print's energy that its heat balance leaves open, ``ends`` the machine when the last layer is laid."""

    time: Floats
    set_point: Floats
    reading: Floats
    surface: Floats
    air: Floats
    room: Floats
    blows: Floats
    power: Floats
    chamber_power: Floats
    begins: float
    lowered: float
    follows: float
    unknown_from: float
    soaked: tuple[float, float] = (0.0, 0.0)
    soaked_peak: tuple[float, float] = (0.0, 0.0)
    cools: float = float("nan")
    closure: float = 0.0
    ends: GoesOn | None = None

    @property
    def heat(self) -> tuple[float, float]:
        """J that bed and chamber heater give in the print; powers are means of the steps before their points."""
        steps = np.diff(self.time)
        return float(self.power[1:] @ steps), float(self.chamber_power[1:] @ steps)

    def at(self, time: float, curve: Floats) -> float:
        """A curve's value at a time (s) since the first layer."""
        return float(np.interp(time, self.time, curve))

    def mean(self, curve: Floats, start: float = 0.0) -> float:
        """Mean of a curve from ``start`` (s) to the end."""
        return float(self.means(curve, np.array([start, self.time[-1]]))[0])

    def means(self, curve: Floats, edges: Floats) -> Floats:
        """Means (n,) of a curve between edges (n+1,) s."""
        return means_between(self.time, curve, edges)


class Printing(NamedTuple):
    """What the march has to know of a print: its ``duration`` and that of the ``first_layers`` in s, and what the part does to the
    plate under it (``over``, see network.while_printing)."""

    duration: float
    first_layers: float
    over: OnPlate


@compiled
def means_between(time: Floats, curve: Floats, edges: Floats) -> Floats:
    """Means (n,) of a curve (m,), linear between its points of ``time`` (m,), from each of the rising ``edges`` (n+1,) s to the
    next; beyond its ends the curve stays as it is."""
    m = time.size
    area, found = np.zeros(m), np.empty(edges.size - 1)  # below the curve up to each point
    for k in range(1, m):
        area[k] = area[k - 1] + 0.5 * (curve[k] + curve[k - 1]) * (time[k] - time[k - 1])
    k, before, there = 0, 0.0, 0.0
    for i in range(edges.size):
        inside = min(max(edges[i], time[0]), time[m - 1])
        while k < m - 2 and time[k + 1] < inside:
            k += 1
        u = inside - time[k]
        slope = (curve[k + 1] - curve[k]) / (time[k + 1] - time[k])
        here, value = area[k] + u * (curve[k] + 0.5 * u * slope), curve[k] + u * slope
        here += max(edges[i] - time[m - 1], 0.0) * curve[m - 1] + min(edges[i] - time[0], 0.0) * curve[0]
        if i > 0:
            span = edges[i] - edges[i - 1]
            found[i - 1] = (here - before) / span if span > 1e-9 else 0.5 * (value + there)
        before, there = here, value
    return found


def print_course(rig: Rig, settings: Settings, heat: HeatUp, rest: SteadyState, what: Printing) -> PrintCourse:
    """March the machine through a print.

    Parameters
    ----------
    rig, settings
        The machine and its set points.
    heat
        The heat-up of the same rig and settings: the print begins when it is ready and soaked, or where its curves end.
    rest
        The steady state at the set points of the rest of the print, which the long steps' regulator is made for.
    what
        Durations, and the part on the plate.

    Returns
    -------
    PrintCourse
        The curves, and how the surface follows when the bed's set point changes.
    """
    stack = heat.stack
    bare = surroundings(rig, stack.emissivity_top, stack.emissivity_bottom, Doing.SOAK)
    around, own = while_printing(while_doing(bare, rig, Doing.PRINT), what.over), regulator_of(rig)
    cells = cells_of(stack, around)  # the bed's own, whatever surrounds it
    regular = not own.on_off and not rig.room.cooler  # nothing swings in minutes
    there = heat.goes_on
    assert there is not None
    begins = there.time + settings.soak_time
    T, state = there.cells.copy(), there.state.copy()
    soaked_heat = soaked_peak = (0.0, 0.0)
    if settings.soak_time > 0.0:
        ready = (
            regular and heat.ready_time < np.inf and (own.chamber_max <= 0.0 or heat.chamber_ready_time <= there.time)
        )
        steps = _even(settings.soak_time, _SOAKING if ready else _SHORT)
        soaked = _given(rig, settings, settings.bed_first, there.time, steps)
        soak = transient(soaked, cells, bare, own, T, state, closed_fuses(rig.bed, stack))
        soaked_heat = (float(soak.ledger.bed), float(soak.ledger.chamber))
        k = 1 + int(np.argmax(soak.power[1:] + soak.chamber_power[1:]))
        soaked_peak = (float(soak.power[k]), float(soak.chamber_power[k]))
    before = stored_heat(stack, around, T, state, rig.start_temperature)
    first = min(what.first_layers, what.duration)
    changes = _changes(rig, begins, first, what.duration)
    fuses = closed_fuses(rig.bed, stack)
    pieces: list[NetworkRun] = []
    steps_of: list[Floats] = []
    courses: list[Course] = []
    now, since, was, at_end, held = 0.0, 0.0, own, _Ends(False, False), False
    calm = (
        settings.bed_first == settings.bed_rest
        and bool(np.isfinite(heat.ready_time))
        and own.chamber_max <= 0.0
        and not own.on_off
    )
    while now < what.duration - 1e-6:
        end = min([t for t in changes if t > now + 1e-6] + [what.duration])
        target = settings.bed_first if now < first - 1e-6 else settings.bed_rest
        if (calm or now - since >= _LONGEST) and (end >= what.duration or end - now > _PIECE):
            end = end if end >= what.duration else end - _PIECE  # a change is met with the machine's own regulator
            h = _LONG[0] if rig.room.cooler else _LONG[1]
            regulator = _wide(own, stack, around, rest, h)
        else:
            above = float(pieces[-1].reading[-1]) - target if pieces else 0.0
            far = above > _FAR or (at_end.bed and above < -_FAR)
            h, regulator = _CALMER if far or held else _SHORT, own
            end = min(end, now + _PIECE)
        if pieces and regulator.band != was.band:
            _hand_over(state, pieces[-1], courses[-1], regulator, at_end, swung=was.on_off)
        was = regulator
        steps = _even(end - now, h)
        course = _given(rig, settings, target, begins + now, steps)
        run = transient(course, cells, around, regulator, T, state, fuses)
        at_end = _ends(run, cells, regulator, target)
        if regulator is own:
            calm = _settled(run, target, settings.chamber, at_end, on_off=own.on_off)
            held = regular and bool((np.abs(run.reading - target) < _NEAR).all())
        pieces.append(run)
        steps_of.append(steps)
        courses.append(course)
        now = end
        if any(abs(now - t) < 1e-6 for t in changes):
            calm, held, since = False, False, now
    run = joined(pieces)
    stored = stored_heat(stack, around, T, state, rig.start_temperature) - before
    given = given_in(run.ledger)
    left = given - sum(where_it_went(rig.chamber.enclosed, run.ledger, stored).values())
    ends = GoesOn(begins + what.duration, T.copy(), state.copy())
    off = while_printing(while_doing(bare, rig, Doing.COOL_DOWN), what.over._replace(heat=0.0, fan_speed=0.0))
    cools = _cools(rig, settings, stack, cells, off, begins + what.duration, T, state)
    found = _course(rig, heat, run, steps_of, courses, begins, first)
    return replace(
        found,
        soaked=soaked_heat,
        soaked_peak=soaked_peak,
        cools=cools,
        closure=left / max(given, abs(stored), 1.0),
        ends=ends,
    )


def _cools(
    rig: Rig, settings: Settings, stack: Stack, cells: StackCells, around: Surroundings, start: float, T: Floats,
    state: Floats,
) -> float:  # fmt: skip
    """Time (s) with both heaters off from ``start`` (s) until the surface is at HANDLED, or a little over a room that is as
    warm; NaN where it takes longer than is marched. Advances ``T`` and ``state``."""
    off, now = regulator_of(rig)._replace(chamber_max=0.0), 0.0
    while now < COOLED:
        steps = np.full(round(_COOL_PIECE / _COOL_STEP), _COOL_STEP)
        course = _given(rig, settings, OFF, start + now, steps)
        run = transient(course, cells, around, off, T, state, closed_fuses(rig.bed, stack))
        cold = np.maximum(HANDLED, course.room + _OVER_ROOM)
        below = np.flatnonzero(run.top[1:] <= cold)
        if below.size:
            return float(now + steps[: below[0] + 1].sum())
        now += _COOL_PIECE
    return float("nan")


def _even(span: float, h: float) -> Floats:
    """Equal steps of at most ``h`` (s) over a span (s)."""
    count = max(1, int(np.ceil(span / h - 1e-9)))
    return np.full(count, span / count)


def _changes(rig: Rig, begins: float, first: float, duration: float) -> list[float]:
    """Moments (s from the first layer) at which something is switched, inside the print and in order."""
    door = rig.chamber.door
    moments = [first]
    if rig.chamber.enclosed and door.open_for > 0.0:
        moments += [door.opens_at - begins, door.opens_at + door.open_for - begins]
    return sorted({t for t in moments if 1e-6 < t < duration - 1e-6})


def _given(rig: Rig, settings: Settings, target: float, start: float, steps: Floats) -> Course:
    ends = start + np.cumsum(steps)
    return Course(
        steps, np.full(steps.size, target), np.full(steps.size, settings.chamber),
        rig.room.course(rig.room_temperature, ends, steps), door_open(rig, steps, start), blown(rig, ends, steps),
    )  # fmt: skip


def _wide(own: Regulator, stack: Stack, s: Surroundings, rest: SteadyState, h: float) -> Regulator:
    """A regulator of the same heaters that is stable at steps of ``h`` (s): it asks for no more within a step than the bed's heat
    capacity, or the chamber's losses, answer with."""
    capacity = float((stack.capacity * s.area).sum())
    band = max(own.band, _STIFF * own.power_max * h / max(capacity, 1e-9))
    over = rest.air - s.room
    lost = max(rest.chamber_power + rest.power, 1.0)
    chamber = max(CHAMBER_BAND, own.chamber_max * max(over, 1.0) / lost)
    return own._replace(
        on_off=False, band=band, integral_time=max(own.integral_time, _STIFF * 2.0 * h), derivative_time=0.0,
        chamber_band=chamber, chamber_integral=_STIFF * h,
    )  # fmt: skip


class _Ends(NamedTuple):
    """Whether bed and chamber heater are at an end of their range, where nothing is regulated."""

    bed: bool
    chamber: bool


def _ends(run: NetworkRun, cells: StackCells, r: Regulator, target: float) -> _Ends:
    """Which heaters gave all they can, or nothing, through the second half of a march with the bed's set point at ``target`` (K); a
    thermostat does in every swing, which is no end of it."""
    half = run.top.size // 2
    power, chamber = run.power[half:], run.chamber_power[half:]
    heater = run.cells[half - 1 : -1] @ cells.source
    most = np.minimum(r.supply, r.power_max / (1.0 + r.resistance_coefficient * (heater - REFERENCE)))
    left = np.minimum(r.chamber_max, np.maximum(r.supply - power, 0.0))
    swings = r.on_off and abs(float(run.reading[half:].mean()) - target) < r.hysteresis
    return _Ends(not swings and _at_end(power, most), _at_end(chamber, left))


def _at_end(power: Floats, most: Floats) -> bool:
    return not power.any() or bool((power >= _ALL * most).all())


def _hand_over(state: Floats, last: NetworkRun, given: Course, r: Regulator, ends: _Ends, *, swung: bool) -> None:
    """Take over from another regulator without a bump: what its heaters gave last, or in the mean where it switched. One that was
    at an end stays there, with what was integrated unless that is not enough for it."""
    if not r.on_off:
        power = float(last.power.mean() if swung else last.power[-1])
        error = 0.0 if swung and not ends.bed else (float(given.bed[-1]) - float(last.reading[-1])) / r.band
        state[S_INTEGRAL] = _integral(power / max(r.power_max, 1e-9), error, float(state[S_INTEGRAL]), at_end=ends.bed)
    if r.chamber_max > 0.0:
        error = (float(given.chamber[-1]) - float(last.chamber_reading[-1])) / r.chamber_band
        share = float(last.chamber_power[-1]) / r.chamber_max
        before = float(state[S_CHAMBER_INTEGRAL])
        state[S_CHAMBER_INTEGRAL] = _integral(share, error, before, at_end=ends.chamber)


def _integral(share: float, error: float, before: float, *, at_end: bool) -> float:
    """What a regulator begins with that gives a ``share`` of its power at an ``error`` (of its band)."""
    if not at_end:
        return share - error
    return max(before, 1.0 - error) if share > 0.0 else min(before, -error)


def _settled(run: NetworkRun, target: float, chamber: float, ends: _Ends, *, on_off: bool) -> bool:
    """Whether bed and chamber hold their set points (K) or their heaters are at an end, the surface calm, or the bed is off; means
    of halves, for a thermostat swings."""
    half, wider = run.top.size // 2, _SWITCHED if on_off else 1.0
    # what a chamber's heater does to its air is over in minutes; the drift of the walls is not waited for
    if not ends.chamber and abs(float(run.chamber_reading[half:].mean()) - chamber) > _NEAR:
        return False
    if target <= OFF:
        return True
    drift = abs(float(run.top[half:].mean() - run.top[:half].mean()))
    holds = ends.bed or abs(float(run.reading[half:].mean()) - target) < _NEAR * wider
    return holds and drift < _CALM * wider


def _course(
    rig: Rig, heat: HeatUp, run: NetworkRun, steps_of: list[Floats], courses: list[Course], begins: float, first: float
) -> PrintCourse:  # fmt: skip
    steps = np.concatenate(steps_of)
    time = np.concatenate([[0.0], np.cumsum(steps)])
    surface, _ = heat.spread.moved(heat.stack, time, run)

    def from_start(name: str) -> Floats:
        values = np.concatenate([getattr(c, name) for c in courses])
        return np.concatenate([values[:1], values])

    found = PrintCourse(
        time, from_start("bed"), run.reading, surface, run.air, from_start("room"), from_start("blows"),
        np.concatenate([run.power[1:2], run.power[1:]]), np.concatenate([run.chamber_power[1:2], run.chamber_power[1:]]),
        begins, first, _follows(time, _seen(rig, time, surface), first), rig.room.known_until - begins,
    )  # fmt: skip
    for array in (
        found.time, found.set_point, found.reading, found.surface, found.air, found.room, found.blows, found.power,
        found.chamber_power,
    ):  # fmt: skip
        array.setflags(write=False)
    return found


def _seen(rig: Rig, time: Floats, surface: Floats) -> Floats:
    """A surface without the swing of a thermostat."""
    return smoothed(time, surface, SWING) if rig.bed.control.kind == "on-off" else surface


def _follows(time: Floats, surface: Floats, first: float) -> float:
    """How long (s) after the first layers the surface takes to come within a kelvin of where it stays, some hours later; NaN where
    it does not move by that much."""
    after = time >= first
    if after.sum() < 3:
        return float("nan")
    t, s = time[after] - first, surface[after]
    until = min(_LONGEST, float(t[-1]))
    stays = float(s[(t >= 0.9 * until) & (t <= until)].mean())
    there = np.abs(s - stays) <= 1.0
    return float("nan") if there[0] else float(t[int(np.argmax(there))])
