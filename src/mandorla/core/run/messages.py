"""What a run's plan and its cool-down say, in words."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

from mandorla.core.failure.messages import probability_text
from mandorla.core.failure.state import State
from mandorla.core.run.schedule import moment_text
from mandorla.core.run.touch import GRASPED, burns_at
from mandorla.core.units import METRIC, UnitPreferences, show, show_duration

if TYPE_CHECKING:
    from mandorla.core.failure.registry import Judgement
    from mandorla.core.run.schedule import Schedule
    from mandorla.core.run.sliced import Deviation
    from mandorla.core.thermal.cool_down import CoolDown
    from mandorla.core.warp.release import Release


def run_sentence(s: Schedule, judgement: Judgement, prefs: UnitPreferences = METRIC) -> str:
    """When it is switched on, ready, printed and off, and for what nobody is there; first of all where it is not ready to run."""
    on = s.switched_on
    ready = next((p.ends for p in s.planned if p.step.key == "level"), None)
    text = f"Switched on {on:%a %H:%M}"
    if ready is not None:
        text += f", levelled hot by {moment_text(ready, on)}"
    text += f", printed {moment_text(s.printed, on)}, may be taken off {moment_text(s.taken_off, on)}."
    if judgement.whole is State.FAILS:
        text = f"Not yet: {probability_text(judgement.anything)} that anything fails with these settings (Tune). As planned: {text}"
    missed = [p.step.title.lower() for p in s.planned if p.nobody and not p.step.left_out and not p.step.done]
    if missed:
        more = f" and {len(missed) - 1} more" if len(missed) > 1 else ""
        text += f" Nobody is there for: {missed[0]}{more}."
    if s.missing > 0.0:
        text += f" {show(s.missing, 'mass', prefs)} of filament are missing."
    return text


def sliced_sentence(name: str, found: Sequence[Deviation] | None) -> str:
    """Whether a sliced file is as planned, and what is not, the first that blocks it first."""
    if not name:
        return "Open the file that will really be printed: it is held against the plan, line by line."
    if found is None:
        return f"{name} is being read …"
    if not found:
        return f"{name} is as planned."
    blocking = [f for f in found if f.blocks]
    first = (blocking or list(found))[0]
    where = f"line {first.line}" if first.line else "in the whole file"
    text = f"{first.what.lower()}: {first.found} where {first.planned} is planned ({where})"
    more = f"; {len(found) - 1} more" if len(found) > 1 else ""
    return f"{'Not to be printed like this' if blocking else 'Not quite as planned'}: {text}{more}."


def spool_lines(s: Schedule) -> list[str]:
    """When spools run out, and what is missing."""
    found = []
    for c in s.changes:
        then = f"then {c.following}" if c.following else "and no other is at hand"
        alone = ", when nobody is there" if c.nobody else ""
        found.append(f"{c.spool} runs out {moment_text(c.at, s.switched_on)}{alone}, {then}.")
    if s.missing > 0.0:
        found.append(f"{1e3 * s.missing:.0f} g are missing.")
    return found


def others_lines(s: Schedule, prefs: UnitPreferences = METRIC) -> list[tuple[str, str, str]]:
    """Name, value and note: the order of machines on one breaker, a cheaper hour."""
    found, t = [], s.together
    if len(t.starts) > 1:
        clocks = ", ".join(f"{at:%H:%M}" for at in t.starts)
        found.append(("Machines on one breaker", clocks, f"below {show(t.limit, 'power', prefs, digits=0)} together"))
    elif t.limit > 0.0 and not t.starts:
        found.append(("Machines on one breaker", "no order", f"it stands {t.at_most} of them"))
    if t.cheaper is not None:
        found.append(
            ("Cheapest to switch on", f"{t.cheaper.at:%a %H:%M}", f"saves {show(t.cheaper.saves, 'money', prefs)}")
        )
    return found


def cool_sentence(
    cool: CoolDown, lets_go: float, shears: Release, material: str, prefs: UnitPreferences = METRIC
) -> str:
    """When the plate may be held, and when the part comes off by itself: below ``lets_go`` K, or perhaps by shear."""
    touch = burns_at(material, GRASPED)
    held = cool.below(cool.surface, touch)
    text = (
        f"The plate may be held after {show_duration(held)} (below {show(touch, 'temperature', prefs, digits=0)})"
        if math.isfinite(held)
        else "The plate stays too hot to be held for more than half a day"
    )
    if not math.isfinite(lets_go):
        if math.isfinite(shears.high):
            warm = show(shears.high, "temperature", prefs, digits=0)
            return f"{text}; with a weak bond the part shears off below {warm}, else it stays on until it is taken off."
        return f"{text}; the cool-down does not take the part off, by the quick estimate."
    loose, at = cool.below(cool.surface, lets_go), show(lets_go, "temperature", prefs, digits=0)
    if not math.isfinite(loose):
        return f"{text}; the part would come off at {at}, which the plate does not reach."
    return f"{text}; the part comes off by itself after {show_duration(loose)}, at {at}."
