"""What a logbook says, in words."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Final

from mandorla.core.failure.messages import probability_text
from mandorla.core.failure.registry import ways_to_fail
from mandorla.core.logbook.records import Effect, Outcome, Print
from mandorla.core.units import METRIC, UnitPreferences, show
from mandorla.core.warp.unknowns import GRIP

if TYPE_CHECKING:
    from mandorla.core.logbook.ladder import LadderState
    from mandorla.core.logbook.learning import Experience, Joint
    from mandorla.core.logbook.trial_statistics import Comparison, Sequential

_WIDER: Final = 1.1  # times as wide, from which on it is said
# what is seen at the machine, by the way to fail that it is
SEEN: Final[dict[str, str]] = {
    "adhesion": "A corner came off", "loose_plate": "The plate rose", "cracks": "It cracked between layers",
    "flatness": "It is not flat", "tipping": "It fell over", "soft_foot": "The foot is soft or swollen",
    "first_too_near": "Ripples in the first layer", "first_too_far": "Gaps in the first layer",
    "surface_tear": "It stuck too hard: the surface is damaged", "soft_feed": "Filament jammed soft in the feed",
}  # fmt: skip


def counted(n: int, what: str = "print") -> str:
    """So many of something."""
    return f"{n} {what}" if n == 1 else f"{n} {what}s"


def way_name(way: str) -> str:
    """What a way to fail is called when it is seen; its title for those that nobody sees, its key where it is not known here."""
    return SEEN.get(way) or next((w.title for w in ways_to_fail() if w.key == way), way)


def effect_text(e: Effect, prefs: UnitPreferences = METRIC) -> str:
    """One thing that was seen."""
    text = way_name(e.way)
    if e.high is not None and e.low > 0.0:
        text += f" between {show(e.low, 'length', prefs, digits=0)} and {show(e.high, 'length', prefs, digits=0)}"
    elif e.high is not None:
        text += f" by {show(e.high, 'length', prefs, digits=0)} of height"
    if e.lift is not None:
        text += f", {show(e.lift, 'length', prefs)} up"
    return text + (f" ({e.count})" if e.count > 1 else "")


def outcome_text(o: Outcome | None, prefs: UnitPreferences = METRIC) -> str:
    """How a print ended, in a line."""
    if o is None:
        return "not entered"
    parts = [effect_text(e, prefs) for e in o.effects]
    if o.accident:
        at = f" at {show(o.accident_at, 'length', prefs, digits=0)}" if o.accident_at is not None else ""
        parts.append(f"accident{at}: {o.accident}")
    if o.copies > 1:
        parts.append(f"{o.good} of {o.copies} good")
    return "; ".join(parts) if parts else ("held" if o.held else "not good")


def experience_sentence(e: Experience) -> str:
    """From how many prints something was learned, and how."""
    if not e.prints:
        gone = f"{counted(e.started)} begun, none entered." if e.started else "No print is in the book."
        return f"Nothing learned yet. {gone}"
    missing = e.started - e.prints
    text = f"Learned from {counted(e.prints)}"
    if missing:
        text += f" ({missing} more were begun and never entered)"
    how = {"weights": "weighted draws", "weights about the mode": "weighted draws", "chains": "Markov chains"}
    return f"{text}: {e.effective:.0f} effective of {how.get(e.method, e.method)}."


def wider_sentence(joint: Joint) -> str:
    """Why the grip's range has become wider than before anything was printed, where it has; empty elsewhere."""
    k = joint.names.index(GRIP) if GRIP in joint.names else -1
    if k < 0 or float(joint.draws[:, k].std()) <= _WIDER * joint.before[k]:
        return ""
    return (
        "The grip's range is wider than before: your plates differ more among themselves than is usual. A plate with a name of its "
        "own (Part) is known by its own prints."
    )


def shift_text(mean: float, spread: float) -> str:
    """Where an unknown lies now in the library's standard deviations, and how wide."""
    return f"{mean:+.1f} ± {spread:.1f}".replace("-", "−")


def ladder_sentence(s: LadderState, prefs: UnitPreferences = METRIC) -> str:
    """Where a ladder stands."""

    def t(v: float) -> str:
        return show(v, "temperature", prefs, digits=0)

    return s.sentence.format(answer=t(s.answer), low=t(s.low), high=t(s.high), next=t(s.next))


def sequential_sentence(s: Sequential, names: tuple[str, str], maximum: int) -> str:
    """Where a trial of pairs stands."""
    text = f"{s.pairs} of {maximum} pairs, {s.differ} of them differ"
    if s.decided:
        return f"Decided: {names[s.worse]} fails more often ({text}; evidence {s.evidence:.0f} to 1, 20 asked)."
    if s.ended:
        return f"Ended undecided ({text}; evidence {s.evidence:.1f} to 1, 20 asked): plan another trial if it matters."
    return f"Go on ({text}; evidence {s.evidence:.1f} to 1, 20 asked). It may be looked at after every pair."


def rates_sentence(c: Comparison) -> str:
    """How much more often the one arm fails than the other, as a range; the rule of the trial decides, not this."""
    if min(len(a.prints) for a in c.arms) < 1:
        return ""
    low, _, high = c.difference
    more, less, ends = (
        (c.arms[0], c.arms[1], (low, high)) if low + high >= 0.0 else (c.arms[1], c.arms[0], (-high, -low))
    )
    text = f"{more.name} fails by {100 * ends[0]:.0f} to {100 * ends[1]:.0f} points more often than {less.name} (90 %)."
    return text.replace("-", "−") if ends[0] < 0.0 else text


def chance_text(p: Print) -> str:
    """What was predicted of a print."""
    return "–" if p.anything is None or not math.isfinite(p.anything) else probability_text(p.anything)


def print_line(p: Print, names: Mapping[str, str], prefs: UnitPreferences = METRIC) -> str:
    """A print in a line: number, day, name, where, what was predicted and what came out."""
    where = ", ".join(v for v in (names.get(p.machine, ""), names.get(p.plate, "")) if v)
    return (
        f"{p.number:4d}  {p.at[:10]}  {p.name} ({where}): {chance_text(p)} predicted, {outcome_text(p.outcome, prefs)}"
    )


def missing_sentence(prints: Sequence[Print]) -> str:
    """Which prints were begun and never entered; empty where all were."""
    gone = [p for p in prints if not p.entered]
    if not gone:
        return ""
    numbers = ", ".join(str(p.number) for p in gone[:6]) + (" …" if len(gone) > 6 else "")
    return f"Not entered: {'number' if len(gone) == 1 else 'numbers'} {numbers}."
