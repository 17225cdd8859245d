"""What energy at the plug says, in words."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Final

from mandorla.core.failure.messages import probability_text
from mandorla.core.failure.state import State
from mandorla.core.rig.consumers import DOING_NAMES
from mandorla.core.units import METRIC, UnitPreferences, show, show_duration, show_number

if TYPE_CHECKING:  # the numerics take a second to load; words about them do not need them
    from mandorla.core.energy.money import GoodPart, JobCost, Payback
    from mandorla.core.energy.reserve import OnBackup
    from mandorla.core.energy.stagger import Stagger
    from mandorla.core.energy.use import Difference, EnergyUse
    from mandorla.core.failure.registry import Judgement
    from mandorla.core.rig.backup import Backup

SAME: Final = 0.005 * 3.6e6  # J, less than the last digit that is shown


def energy_text(use: EnergyUse, prefs: UnitPreferences = METRIC) -> str:
    """A job's energy at the plug with its range."""
    low, high = use.within
    text = show(use.total, "energy", prefs)
    if not math.isfinite(low):
        return text
    return f"{text} ({show_number(low, 'energy', prefs)}–{show_number(high, 'energy', prefs)})"


def includes_text(use: EnergyUse) -> str:
    """What a job's energy counts."""
    phases = ", ".join(p.name for p in use.phases if p.duration > 0.0)
    return f"at the plug, {phases}: heaters with their supplies, hot end, drives, electronics, fans and lights"


def overloaded(judgement: Judgement) -> str:
    """What supply or breaker do where more is asked of them than they stand; empty where they stand it."""
    if judgement.state("supply") is not State.FAILS:
        return ""
    return "It would not get that far: supply or breaker is overloaded and opens."


def energy_sentence(use: EnergyUse, stopped: str, currency: str, prefs: UnitPreferences = METRIC) -> str:
    """What a job takes, what takes most of it, the highest power, and what would stop it (``stopped``, empty: nothing)."""
    taken = {name: use.of(key) for key, name in use.names.items()}
    largest = sorted(taken, key=lambda k: -taken[k])[:2]
    shares = " and ".join(f"{n[0].lower()}{n[1:]} {100.0 * taken[n] / use.total:.0f} %" for n in largest)
    peak = max(use.phases, key=lambda p: p.peak)
    other = 1.0 - (use.heaters / use.total if use.total > 0.0 else 0.0)
    text = (
        f"A print takes {energy_text(use, prefs)} at the plug, {use.cost:.2f} {currency}. Most of it: {shares}; "
        f"{100.0 * other:.0f} % goes to other things than bed and chamber heater. The highest power is "
        f"{show(use.peak, 'power', prefs)}, in the {peak.name}."
    )
    text += f" {stopped}" if stopped else ""
    if use.unfinished:
        text += " The plate takes longer to cool down than eight hours: only those are counted."
    return text


def difference_text(gap: Difference, prefs: UnitPreferences = METRIC) -> str:
    """An energy more or less with the range of the difference, and whether it is sure which is less."""
    if abs(gap.value) < SAME and not abs(gap.high - gap.low) > 4.0 * SAME:
        return "the same"
    sign = "+" if gap.value > 0.0 else "−"
    text = f"{sign}{show(abs(gap.value), 'energy', prefs)}"
    if not math.isfinite(gap.low):
        return text
    ends = [f"{'+' if v > 0.0 else '−'}{show_number(abs(v), 'energy', prefs)}" for v in (gap.low, gap.high)]
    sure = "" if gap.low * gap.high > 0.0 else ", not sure which takes less"
    return f"{text} ({ends[0]} to {ends[1]}{sure})"


def clock_text(seconds: float) -> str:
    """A time of the day."""
    minutes = round(seconds / 60.0) % 1440
    return f"{minutes // 60:02d}:{minutes % 60:02d}"


def jobs_text(jobs: float) -> str:
    """How many jobs a good part takes, in as many digits as mean something."""
    return f"{jobs:.2f}" if jobs < 10.0 else f"{jobs:.0f}"


def money_sentence(job: JobCost, good: GoodPart, starts_at: float, currency: str) -> str:
    """What a good part costs, what of it is energy, and whether another hour to switch on is cheaper."""
    if not math.isfinite(good.jobs):
        return "No part comes out good at these settings: there is nothing to divide the cost by."
    lost = f"{jobs_text(good.jobs)} jobs for each, for some fail" if good.jobs > 1.005 else "hardly any job fails"
    text = f"A good part costs {good.total:.2f} {currency}, {good.energy:.2f} of it electricity ({lost})."
    if job.worst - job.best <= 0.005:
        return f"{text} The price of electricity is the same whenever it is switched on."
    if job.energy - job.best <= 0.005:
        return f"{text} Switched on at {clock_text(starts_at)} its electricity is as cheap as at any hour."
    return (
        f"{text} Switched on at {clock_text(job.best_start)} instead of {clock_text(starts_at)} the electricity of a job costs "
        f"{job.best:.2f} instead of {job.energy:.2f} {currency}."
    )


def pays_text(pays: Payback, currency: str) -> str:
    """What a build saves a year, and when it has paid its price."""

    def years(v: float) -> str:
        return "never" if not math.isfinite(v) else f"{v:.1f}" if v < 100.0 else "over 100"

    saved = f"saves {pays.saved.value:.2f} {currency} a year" if pays.saved.value > 0.0 else "saves no money"
    if not math.isfinite(pays.years.value):
        return f"{saved}: never paid"
    span = f"{years(pays.years.low)} to {years(pays.years.high)}" if math.isfinite(pays.years.low) else ""
    return f"{saved}: paid in {years(pays.years.value)} years" + (f" ({span})" if span else "")


def backup_sentence(ways: Sequence[OnBackup], backup: Backup, risk: float, prefs: UnitPreferences = METRIC) -> str:
    """Whether the print ends on the backup, else when it stops, what it would take, and what must not be heated so that it ends;
    ``risk`` is the chance of failing that is accepted."""
    if not ways:
        return "No battery or generator is stated: choose its kind to see whether the print ends on it."
    now = ways[0].run
    if now.lasts:
        return (
            f"The print ends on it, with {show(now.left, 'energy', prefs)} left of {show(now.holds, 'energy', prefs)}."
        )
    if now.overloaded:
        text = f"It is asked for {show(now.peak, 'power', prefs)}, more than it gives: it switches off at once."
    else:
        text = (
            f"It is empty after {show_duration(now.stops)}, in the {DOING_NAMES[now.doing] if now.doing else 'print'}; "
        )
        text += f"{show(-now.left, 'energy', prefs)} are missing."
        text += f" It would take one of {show(now.asked / now.holds * backup.capacity, 'energy', prefs)}."
    ends = [w for w in ways[1:] if w.run.lasts]
    if not ends:
        return f"{text} No way of heating less makes it last."
    best = min(ends, key=lambda w: (round(w.chance, 2), w.run.asked))
    from mandorla.core.failure.registry import state_of  # loads the numerics: by now they are there

    chance, by = probability_text(best.chance), "simulated" if best.simulated else "by the quick models"
    state = state_of(best.chance, risk)
    if state is State.FAILS:
        return f"{text} It lasts with {best.name}, but then the part fails ({chance}, {by})."
    text += f" It lasts with {best.name}: {chance} that anything fails then ({by})"
    return f"{text}, more than the {probability_text(risk)} accepted." if state is State.MARGINAL else f"{text}."


def stagger_sentence(found: Stagger | None, machines: int, prefs: UnitPreferences = METRIC) -> str:
    """When machines alike are switched on."""
    if found is None:
        return "One machine: nothing to stagger."
    limit = show(found.limit, "power", prefs)
    if not found.possible:
        text = f"{machines} machines do not stay below {limit} in any order within that time"
        return f"{text}; while they print, {found.at_most} of them do."
    if found.starts[-1] == 0.0:
        return f"All {machines} can be switched on at once: {show(found.together, 'power', prefs)} of {limit}."
    starts = ", ".join(show_duration(s) if s > 0.0 else "at once" for s in found.starts)
    return (
        f"Switched on one after the other ({starts}) {machines} machines take at most {show(found.staggered, 'power', prefs)} of "
        f"{limit}, instead of {show(found.together, 'power', prefs)} all at once."
    )
