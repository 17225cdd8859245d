"""Clock times of a run's steps with their ranges, from a start or for a finish; who has to be there when nobody is."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from datetime import UTC, datetime, timedelta
from typing import Final, NamedTuple
from zoneinfo import ZoneInfo

import numpy as np

from mandorla.core.energy.course import PlugCourse
from mandorla.core.energy.money import cost_from
from mandorla.core.energy.stagger import Stagger
from mandorla.core.part.mesh import Floats
from mandorla.core.rig.tariff import Tariff
from mandorla.core.run.model import RunPlan, Spool
from mandorla.core.run.sheet import Step

LOOK: Final = "look-"  # keys of steps that happen while it prints on


class ClockTime(NamedTuple):
    """A clock time with its range, aware of its zone."""

    low: datetime
    typical: datetime
    high: datetime


class Planned(NamedTuple):
    """A step with when it ends (its gate), the price (per J) at that hour, and whether somebody has to be there and nobody is."""

    step: Step
    begins: ClockTime
    ends: ClockTime
    price: float
    nobody: bool


class SpoolChange(NamedTuple):
    """When a spool runs out: seconds after the first layer, clock time, which follows (empty: none), whether nobody is there."""

    spool: str
    after: float
    at: ClockTime
    following: str
    nobody: bool


class Cheaper(NamedTuple):
    """The cheapest moment to switch on within a day at which somebody is there, and what it saves (money)."""

    at: datetime
    saves: float


class Together(NamedTuple):
    """Beside the machine's own plan: when the machines on its breaker are switched on (empty: one machine, or no order), W that
    they stay below together, how many the breaker stands; a cheaper moment, where there is one."""

    starts: tuple[datetime, ...] = ()
    limit: float = 0.0
    at_most: int = 0
    cheaper: Cheaper | None = None


class Schedule(NamedTuple):
    """All steps in their order, ``switched_on``, the moment the print ends and the one at which it may be taken off, changes of
    spools, the mass (kg) that is missing (0: none), hours in which it runs and nobody is there; other machines
    and hours."""

    planned: tuple[Planned, ...]
    switched_on: datetime
    printed: ClockTime
    taken_off: ClockTime
    changes: tuple[SpoolChange, ...]
    missing: float
    alone: float
    together: Together = Together()


def _zone(plan: RunPlan) -> ZoneInfo | None:
    return ZoneInfo(plan.zone) if plan.zone else None


def _local(moment: datetime, plan: RunPlan) -> datetime:
    """In the plan's zone; the computer's where none is named."""
    return moment.astimezone(_zone(plan))


def aware(text: str, plan: RunPlan) -> datetime:
    """A stated local time as a moment; one that the clocks skip is the one after the jump, one that they show twice the first."""
    moment = datetime.fromisoformat(text)
    if moment.tzinfo is not None:
        return moment.astimezone(UTC)
    zone = _zone(plan)
    return moment.astimezone(UTC) if zone is None else moment.replace(tzinfo=zone, fold=0).astimezone(UTC)


def schedule(
    steps: Sequence[Step], plan: RunPlan, now: datetime, tariff: Tariff, price: float, course: tuple[Floats, Floats]
) -> Schedule:
    """Clock times of every step.

    Parameters
    ----------
    steps
        The sheet; steps that are left out take no time.
    plan, now
        When it starts or is to be done; what time it is (aware).
    tariff, price
        Prices by the hour, and the flat one.
    course
        Seconds after the first layer and the mass (kg) that is laid by then.

    Notes
    -----
    Ranges of steps one after another add as squares. Sums are made in universal time, so that a night in which the clocks are
    changed is as long as it is.
    """
    kept = [s for s in steps if not s.left_out]
    before = sum(s.takes[1] for s in kept if s.phase == "before")
    main = [s for s in kept if s.phase != "before" and not s.key.startswith(LOOK)]
    total = sum(s.takes[1] for s in main)
    late = math.sqrt(sum((s.takes[2] - s.takes[1]) ** 2 for s in main))
    start = now.astimezone(UTC)
    if plan.at:
        start = aware(plan.at, plan)
        if plan.kind == "finish":  # done by then with all but the last twentieth
            start -= timedelta(seconds=total + late)

    def moment(offset: float, low: float, high: float) -> ClockTime:
        middle = start + timedelta(seconds=offset)
        return ClockTime(*(
            _local(m, plan) for m in (middle - timedelta(seconds=low), middle, middle + timedelta(seconds=high))
        ))  # fmt: skip

    planned: list[Planned] = []
    at, low2, high2, first_end = -before, 0.0, 0.0, 0.0
    printed = taken = moment(0.0, 0.0, 0.0)
    for step in kept:
        if step.key.startswith(LOOK):
            ends = moment(first_end + step.takes[1], *_with(low2, high2, step))
            planned.append(_planned(step, ends, ends, plan, tariff, price))
            continue
        begins = moment(at, math.sqrt(low2), math.sqrt(high2))
        at += step.takes[1]
        if step.phase != "before":
            low, high = _with(low2, high2, step)
            low2, high2 = low**2, high**2
        ends = moment(at, math.sqrt(low2), math.sqrt(high2))
        planned.append(_planned(step, begins, ends, plan, tariff, price))
        if step.key == "first":
            first_end = at
        if step.key == "print":
            printed = taken = ends
        if step.key in ("cool", "loose"):
            taken = ends
    begun = first_end - next((s.takes[1] for s in kept if s.key == "first"), 0.0)
    changes, missing = _changes(plan.spools, course, lambda s: moment(begun + s, 0.05 * s, 0.05 * s), plan)
    on = _local(start, plan)
    return Schedule(
        tuple(sorted(planned, key=lambda p: p.ends.typical)), on, printed, taken, changes, missing,
        _alone(on, printed.typical, plan),
    )  # fmt: skip


def _with(low2: float, high2: float, step: Step) -> tuple[float, float]:
    return (
        math.sqrt(low2 + (step.takes[1] - step.takes[0]) ** 2), math.sqrt(high2 + (step.takes[2] - step.takes[1]) ** 2)
    )  # fmt: skip


def _planned(step: Step, begins: ClockTime, ends: ClockTime, plan: RunPlan, tariff: Tariff, price: float) -> Planned:
    clock = _clock(ends.typical)
    return Planned(step, begins, ends, tariff.price_at(clock, price), step.attended and not there(ends.typical, plan))


def _clock(moment: datetime) -> float:
    return 3600.0 * moment.hour + 60.0 * moment.minute + moment.second


def there(moment: datetime, plan: RunPlan) -> bool:
    """Whether somebody is there at a clock time; hours that end before they begin run over midnight."""
    clock, first, last = _clock(moment), plan.there_from, plan.there_to
    return first <= clock <= last if first <= last else clock >= first or clock <= last


def _alone(start: datetime, end: datetime, plan: RunPlan) -> float:
    """Seconds between two moments in which nobody is there, minute by minute."""
    minutes = int((end - start).total_seconds() // 60)
    begin = start.astimezone(UTC)
    return 60.0 * sum(not there(_local(begin + timedelta(minutes=k), plan), plan) for k in range(max(minutes, 0)))


def _changes(
    spools: Sequence[Spool], course: tuple[Floats, Floats], moment: Callable[[float], ClockTime], plan: RunPlan
) -> tuple[tuple[SpoolChange, ...], float]:
    """When each spool runs out, one after another, and what is missing in the end."""
    time, mass = course
    needed, used = float(mass[-1]), 0.0
    found: list[SpoolChange] = []
    for k, spool in enumerate(spools):
        used += spool.left
        if used >= needed:
            return tuple(found), 0.0
        after = float(np.interp(used, mass, time))
        at = moment(after)
        following = spools[k + 1].name if k + 1 < len(spools) else ""
        found.append(SpoolChange(spool.name, after, at, following, not there(at.typical, plan)))
    return tuple(found), max(needed - used, 0.0) if spools else 0.0


def cheaper_start(course: PlugCourse, tariff: Tariff, price: float, on: datetime, plan: RunPlan) -> Cheaper | None:
    """Whether another half-hour within a day costs less energy; None where none does, or prices are the same all day."""
    if not tariff.bands:
        return None
    now = cost_from(course, tariff, price, _clock(on))
    best: Cheaper | None = None
    for half_hours in range(1, 48):
        at = _local(on.astimezone(UTC) + timedelta(minutes=30 * half_hours), plan)
        if not there(at, plan):
            continue
        saves = now - cost_from(course, tariff, price, _clock(at))
        if saves > (best.saves if best is not None else 0.0) + 1e-9:
            best = Cheaper(at, saves)
    return best


def with_others(
    s: Schedule, order: Stagger | None, course: PlugCourse | None, tariff: Tariff, price: float, plan: RunPlan
) -> Schedule:
    """A schedule with the order of machines on one breaker and the cheapest hour."""
    on = s.switched_on
    starts = (
        tuple(_local(on.astimezone(UTC) + timedelta(seconds=t), plan) for t in order.starts)
        if order is not None
        else ()
    )
    cheaper = cheaper_start(course, tariff, price, on, plan) if course is not None else None
    limit, most = (order.limit, order.at_most) if order is not None else (0.0, 0)
    return s._replace(together=Together(starts, limit, most, cheaper))


def day_of(moment: datetime, than: datetime) -> str:
    """A clock time in words: with the day where it is another one."""
    text = moment.strftime("%H:%M")
    return text if moment.date() == than.date() else f"{moment.strftime('%a %d %b')} {text}"


def moment_text(m: ClockTime, than: datetime) -> str:
    """A moment with its range."""
    if (m.high - m.low).total_seconds() < 120.0:
        return day_of(m.typical, than)
    return f"{day_of(m.typical, than)} ({m.low.strftime('%H:%M')}–{m.high.strftime('%H:%M')})"
