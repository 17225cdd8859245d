"""What energy at the plug says, in words."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from mandorla.core.failure.state import State
from mandorla.core.units import METRIC, UnitPreferences, show, show_number

if TYPE_CHECKING:  # the numerics take a second to load; words about them do not need them
    from mandorla.core.energy.use import Difference, EnergyUse
    from mandorla.core.failure.registry import Judgement


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
    sign = "+" if gap.value > 0.0 else "−"
    text = f"{sign}{show(abs(gap.value), 'energy', prefs)}"
    if not math.isfinite(gap.low):
        return text
    ends = [f"{'+' if v > 0.0 else '−'}{show_number(abs(v), 'energy', prefs)}" for v in (gap.low, gap.high)]
    sure = "" if gap.low * gap.high > 0.0 else ", not sure which takes less"
    return f"{text} ({ends[0]} to {ends[1]}{sure})"
