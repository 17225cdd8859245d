"""What a job costs: by time of day, with what fails; what a build saves until it is paid; carbon dioxide."""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import pairwise
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.energy.course import PlugCourse
from mandorla.core.energy.use import Difference
from mandorla.core.rig.tariff import DAY, Costs, Tariff
from mandorla.core.thermal.stack import Floats

QUARTER: Final = 900.0  # s, over which a demand charge takes its mean
_EACH: Final = 1800.0  # s between the starts that are tried


@dataclass(frozen=True, slots=True)
class JobCost:
    """What a job's energy ``costs`` (n,) by the time of day at which it is switched on (``starts`` (n,) s), its ``energy`` cost
    when that is as stated, the ``best`` start (s after midnight) with what it would cost then, the worst, ``carbon`` (kg), the
    highest quarter of an hour (W) and what it costs a month where it sets the ``demand``."""

    starts: Floats
    costs: Floats
    energy: float
    best_start: float
    best: float
    worst: float
    carbon: float
    quarter: float
    demand: float


def cost_from(course: PlugCourse, tariff: Tariff, flat: float, start: float) -> float:
    """What a job costs that is switched on at a time of day ``start`` (s); ``flat`` is the price (per J) without bands."""
    time, total = course.running
    if not tariff.bands:
        return float(total[-1]) * flat
    days = np.arange(math.floor(start / DAY), math.ceil((start + float(time[-1])) / DAY) + 1) * DAY
    edges = np.unique(np.clip((days[:, None] + np.array(tariff.changes)).ravel() - start, 0.0, float(time[-1])))
    used = np.diff(np.interp(edges, time, total))
    prices = np.array([tariff.price_at(start + 0.5 * (a + b), flat) for a, b in pairwise(edges)])
    return float(used @ prices)


def quarter_peak(course: PlugCourse) -> float:
    """The highest mean power (W) over a quarter of an hour."""
    time, total = course.running
    ends = np.append(np.arange(min(QUARTER, float(time[-1])), float(time[-1]), 60.0), time[-1])
    width = np.minimum(QUARTER, ends)
    return float(((np.interp(ends, time, total) - np.interp(ends - width, time, total)) / width).max())


def job_cost(course: PlugCourse, tariff: Tariff, flat: float) -> JobCost:
    """The cost of a job as it is started, and at the best and the worst time of the day."""
    starts = np.arange(0.0, DAY, _EACH)
    costs = np.array([cost_from(course, tariff, flat, float(s)) for s in starts])
    total, quarter = float(course.running[1][-1]), quarter_peak(course)
    return JobCost(
        starts,
        costs,
        cost_from(course, tariff, flat, tariff.starts_at), float(starts[int(np.argmin(costs))]), float(costs.min()),
        float(costs.max()), total * tariff.carbon, quarter, quarter * tariff.demand,
    )  # fmt: skip


class GoodPart(NamedTuple):
    """What one good part costs: jobs that it takes, and the money in energy, filament and hours; infinite where none is good."""

    jobs: float
    energy: float
    filament: float
    hours: float

    @property
    def total(self) -> float:
        """All of it."""
        return self.energy + self.filament + self.hours


def good_part(energy: float, mass: float, duration: float, chance: float, costs: Costs) -> GoodPart:
    """The cost of a good part: a job that fails is taken as run to its end, its filament and its hours as lost.

    Parameters
    ----------
    energy
        Cost of a job's energy.
    mass, duration
        kg printed and s of the machine a job.
    chance
        That anything fails.
    costs
        Prices.
    """
    jobs = 1.0 / (1.0 - chance) if chance < 1.0 else math.inf
    return GoodPart(jobs, jobs * energy, jobs * mass * costs.filament, jobs * duration * costs.hour)


class Payback(NamedTuple):
    """Money that a build saves a year and the years until its price is paid, with 90 % ranges; infinite where it never is."""

    saved: Difference
    years: Difference


def payback(more: Difference, price: float, invested: float, jobs: float) -> Payback:
    """When a build that takes ``more`` (J a job, negative: less) than the present one has paid what was ``invested``."""
    saved = Difference(*(-v * price * jobs for v in (more.value, more.high, more.low)))

    def years(a_year: float) -> float:
        return invested / a_year if a_year > 0.0 else math.inf if invested > 0.0 else 0.0

    return Payback(saved, Difference(years(saved.value), years(saved.high), years(saved.low)))
