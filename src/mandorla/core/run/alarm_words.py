"""What a watch says: alarms with cause and advice, gates, what was learned; dangers first."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Final

from mandorla.core.failure.messages import probability_text
from mandorla.core.run.diagnosis import Suspect
from mandorla.core.run.disturbances import DISTURBANCES
from mandorla.core.run.live import GATES, GateTime
from mandorla.core.run.noticed import PHASES, Noticed
from mandorla.core.run.watch import OTHER, SLOWER, Alarm
from mandorla.core.units import METRIC, UnitPreferences, show, show_duration

_OTHER: Final = (
    "Something changed", "The readings have changed as nothing would that is known here.",
    "Look at the machine: doors, wires, fans, smell. If nothing is to be seen, watch it for ten minutes.",
)  # fmt: skip
_SLOWER: Final = (
    "Slower than predicted", "The warm-up is below what any machine of this project would do.",
    "Cold room, open door, another plate or layer than the project's, a supply at its limit: compare the stack in Rig.",
)  # fmt: skip
SEEN_BY: Final = {
    "sum": "small deviations that add up", "jump": "two readings in a row that are far off",
    "still": "the same reading again and again", "drift": "a heat balance that moved within five minutes",
    "heat": "a heat balance further off than the start of a print explains",
    "silence": "no answer", "target": "a target that is not planned", "band": "readings below the predicted band",
}  # fmt: skip
_NAMED: Final = 0.02  # chance from which another cause is named
# alarms that were none, in sound simulated runs (benchmarks/detection.py)
FALSE_ALARMS: Final = "false alarms: 1 in 1,020 simulated hours, so fewer than 0.5 in 100 h"


def words_of(cause: str) -> tuple[str, str, str]:
    """Name, what it is, advice of a cause by key."""
    if cause == OTHER:
        return _OTHER
    if cause == SLOWER:
        return _SLOWER
    d = DISTURBANCES[cause]
    return d.name, d.what, d.advice


def cause_name(cause: str) -> str:
    """Name of a cause by key; the key itself where a record tells of one that is not known here."""
    return words_of(cause)[0] if cause in (OTHER, SLOWER, *DISTURBANCES) else cause


def dangerous(alarm: Alarm) -> bool:
    """Whether its likeliest cause is."""
    return alarm.disturbance is not None and alarm.disturbance.dangerous


def size_text(alarm: Alarm, prefs: UnitPreferences = METRIC) -> str:
    """How large the likeliest cause is, in words; empty where it has no size."""
    d = alarm.disturbance
    if d is None or not alarm.causes or math.isclose(*d.drawn):
        return ""
    size = alarm.causes[0].size
    if d.key in ("heater-broken", "supply-low", "chamber-heater"):
        return f"it gives about {show(max(size, 0.0), 'fraction', prefs, digits=0)} of what is asked for"
    if d.key == "sensor-loose":
        return f"it feels about {show(size, 'fraction', prefs, digits=0)} of its place"
    if d.key == "door-open":
        return f"about {show(min(size, 1.0), 'fraction', prefs, digits=0)} of it"
    if d.key == "mat-loose":
        return f"a gap of about {show(abs(size), d.kind, prefs, digits=3)}"
    if d.key in ("power-cut", "target-lowered"):
        return ""
    return f"about {show(size, d.kind, prefs)}"


def alarm_sentence(alarm: Alarm, prefs: UnitPreferences = METRIC) -> str:
    """An alarm in words: name and chance, what it is, what to do; what else it may be."""
    name, what, advice = words_of(alarm.cause)
    chance = f" ({probability_text(alarm.causes[0].probability)})" if alarm.causes and alarm.cause != OTHER else ""
    size = size_text(alarm, prefs)
    text = f"{name}{chance}: {what}"
    if size:
        text += f" {size[0].upper()}{size[1:]}."
    text += f" {advice}"
    others = _others(alarm)
    if others:
        text += f" Or: {_also(others)}."
    return text


def seen_text(alarm: Alarm) -> str:
    """What it was seen by, and how long after it began."""
    return f"seen {show_duration(max(alarm.time - alarm.began, 0.0))} after it began, by {SEEN_BY[alarm.seen]}"


def _others(alarm: Alarm) -> list[Suspect]:
    """Two other causes at most that are worth naming."""
    return [c for c in alarm.causes if c.key != alarm.cause and not c.over and c.probability > _NAMED][:2]


def _also(others: Sequence[Suspect]) -> str:
    return ", ".join(f"{words_of(c.key)[0].lower()} ({probability_text(c.probability)})" for c in others)


def evidence_text(alarm: Alarm, prefs: UnitPreferences = METRIC) -> str:
    """What an alarm stands on: how it was seen, how large, what else it may be."""
    seen, size = seen_text(alarm), size_text(alarm, prefs)
    text = f"{seen[0].upper()}{seen[1:]}." + (f" {size[0].upper()}{size[1:]}." if size else "")
    others = _others(alarm)
    return f"{text} Also possible: {_also(others)}." if others else text


def gate_text(g: GateTime, now: float) -> str:
    """When a gate was passed, or in how long it will be: ``in 12 min (10–15)``."""
    if g.before:
        return "before the watch"
    if math.isfinite(g.passed):
        return f"passed after {show_duration(g.passed)}"
    if not g.told:
        return "not told"
    if not math.isfinite(g.median):
        return "not known yet"
    left = [max(v - now, 0.0) for v in (g.low, g.median, g.high)]
    if left[2] < 90.0:
        return "any moment"
    if left[1] < 7200.0:
        return f"in {left[1] / 60:.0f} min ({left[0] / 60:.0f}–{left[2] / 60:.0f})"
    return f"in {left[1] / 3600:.1f} h ({left[0] / 3600:.1f}–{left[2] / 3600:.1f})"


def watch_sentence(
    alarms: Sequence[Alarm],
    gates: Sequence[GateTime],
    now: float,
    prefs: UnitPreferences = METRIC,
    finding: float = 0.0,
) -> str:
    """The answer first: the worst alarm of late, else the next gate; ``finding`` s for which a machine that was warm already is not
    judged by its heat."""
    if alarms:
        worst = sorted(alarms, key=lambda a: (not dangerous(a), -a.time))[0]
        return alarm_sentence(worst, prefs)
    if finding > 0.0:
        return (
            f"It was warm already when the watch began. For another {show_duration(finding)} only frozen or jumping "
            "readings, a lowered target and silence are reported; after that its heat is judged, too."
        )
    untold = [g for g in gates if not g.told and g.gate == "first"]
    ahead = [g for g in gates if not math.isfinite(g.passed) and g.told]
    if untold and (not ahead or ahead[0].gate == "touch"):
        over = "The bed has cooled: nothing went wrong that was seen" if not ahead else "As predicted so far"
        return f"{over}. No target of the nozzle is told: when it prints is not known, and slow changes of heat are not judged."
    if not ahead:
        return "The run is over: nothing went wrong that was seen."
    g = ahead[0]
    name, when = f"{GATES[g.gate][0].lower()}{GATES[g.gate][1:]}", gate_text(g, now)
    return f"As predicted so far. Next: {name}{f', {when}' if math.isfinite(g.median) else '; when is not known'}."


def noticed_text(n: Noticed, prefs: UnitPreferences = METRIC, *, lead: str = "from ") -> str:
    """From which size on something is noticed in time: ``from 1.5 m/s``, ``always`` where it has no sizes, ``not even 2.5 m/s``;
    ``lead`` is what stands before a size."""
    d = DISTURBANCES[n.key]
    ranged, noticed = not math.isclose(*d.drawn), math.isfinite(n.size)
    if not ranged:
        return "always" if noticed else "no"
    size = n.size if noticed else max(d.magnitude(v) for v in d.drawn)
    digits = 0 if d.kind == "fraction" else 3 if d.kind == "contact_resistance" else 1
    shown = show(size, d.kind, prefs, digits=digits) + (" missing" if d.leaves_a_share else "")
    return f"{lead}{shown}" if noticed else f"not even {shown}"


def noticed_sentence(found: Sequence[Noticed], prefs: UnitPreferences = METRIC) -> str:
    """The answer first: what a watch does not notice in time at any size that is tried, by phase; dangers before all else."""
    late = [n for n in found if not math.isfinite(n.size)]
    if not late:
        return "Everything that is tried is noticed in time in every phase, from the sizes below."
    by_key: dict[str, list[str]] = {}
    for n in sorted(late, key=lambda n: not DISTURBANCES[n.key].dangerous):
        by_key.setdefault(n.key, []).append(PHASES[n.phase])
    each = [f"{DISTURBANCES[key].name.lower()} while it {' or '.join(phases)}" for key, phases in by_key.items()]
    more = f", and {len(each) - 3} more" if len(each) > 3 else ""
    return f"Not noticed in time: {'; '.join(each[:3])}{more}."
