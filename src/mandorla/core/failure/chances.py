"""How likely each failure is, which unknown decides it, and which test would shrink that, as the judgement has it."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Final

from mandorla.core.failure.messages import probability_text
from mandorla.core.failure.registry import Assessment, Judgement
from mandorla.core.failure.words import chance_of
from mandorla.core.measure.heights import place_name
from mandorla.core.warp.batch import Batch
from mandorla.core.warp.unknowns import MODEL, TESTS, Z90

_LEAST: Final = 0.005  # share of the scatter below which an unknown is not listed
MORE_TESTS: Final = {
    "nozzle's force": "push sideways on a printed part's top with a spring scale until it comes off",
    "gap of the first layer": "print one layer of squares all over the bed and look at each; probe the plate hot",
    "viscosity when soft": "measure the foot of a printed part with a calliper, at the plate and a centimetre above",
}


@dataclass(frozen=True, slots=True)
class DecidingUnknown:
    """An unknown: what share of the scatter of a margin it explains by itself, and the test that would shrink it."""

    name: str
    share: float
    test: str


def deciding_unknowns(a: Assessment) -> tuple[DecidingUnknown, ...]:
    """The unknowns behind a failure, largest share first."""
    total = sum(v * v for v in a.parts.values())
    if total <= 0.0:
        return ()
    found = []
    for name, value in sorted(a.parts.items(), key=lambda kv: -abs(kv[1])):
        plain = MODEL if name.startswith(MODEL) else name
        test = TESTS.get(plain) or MORE_TESTS[plain]
        if plain == MODEL and a.source != "quick":
            test = "run the full simulation once more, finer"
        if value * value / total > _LEAST:
            found.append(DecidingUnknown(plain, value * value / total, test))
    return tuple(found)


def factor_range(a: Assessment) -> tuple[float, float]:
    """90 % range of the ratio that a margin is the logarithm of, as (low, high) around it."""
    return math.exp(a.margin - Z90 * a.spread), math.exp(a.margin + Z90 * a.spread)


def chances_sentence(j: Judgement) -> str:
    """The likeliest failure and what decides it, in words."""
    worst = j.likeliest
    if not worst:
        return "Nothing here has a chance that could be told."
    a = j.counted[worst]
    text = f"{100 * j.anything:.0f} % that something fails" if 0.01 <= j.anything <= 0.99 else (
        "Less than 1 in 100 that something fails" if j.anything < 0.01 else "Over 99 % that something fails"
    )  # fmt: skip
    text += f"; likeliest: {j.titles[worst].lower()} ({chance_of(a)})."
    unknowns = deciding_unknowns(a)
    if unknowns:
        first = unknowns[0]
        text += (
            f" {first.name[0].upper()}{first.name[1:]} decides most of it ({100 * first.share:.0f} %): {first.test}."
        )
    return text


def batch_sentence(b: Batch, linked: bool) -> str:
    """How many copies are lost, which is likeliest to be, and what follows, in words."""
    w, count = b.worst, len(b.copies)
    at = f"number {w.number}, {place_name(w.x, w.y)}" if math.hypot(w.x, w.y) > 0.01 else f"number {w.number}"
    if b.any < 0.01:
        return f"Of {count} copies all are likely to stay: under 1 % that one is lost, likeliest {at}."
    often = f", in 1 of 20 prints {b.many} or more" if b.many else ""
    text = f"Of {count} copies {b.lost:.1f} are lost on average{often}; likeliest {at} ({probability_text(w.chance)})."
    if linked:
        return f"{text} They belong together, one lost ruins all: {probability_text(b.any)} that it happens."
    return (
        f"{text} Cancel a loose copy at once and the others can go on; {probability_text(1.0 - b.any)} that all stay."
    )
