"""What the probabilities of the failures say, in words."""

from __future__ import annotations

from typing import TYPE_CHECKING

from mandorla.core.failure.thresholds import BEGINS

if TYPE_CHECKING:
    from mandorla.core.failure.failure_probability import FailureProbabilities


def probability_sentence(c: FailureProbabilities) -> str:
    """The likeliest failure and what decides it, in words."""
    worst = max((f for f in c.failures if f.name != BEGINS), key=lambda f: f.probability)
    plate = "" if c.plate_known else " Whether the plate comes off its seat, only a full simulation tells."
    if c.anything.probability < 0.01:
        return "Within what is not known, hardly anything can go wrong: less than 1 in 100." + plate
    text = f"{100 * c.anything.probability:.0f} % that something fails; likeliest: {worst.name} ({100 * worst.probability:.0f} %)."
    if c.unknowns:
        first = c.unknowns[0]
        text += (
            f" {first.name[0].upper()}{first.name[1:]} decides most of it ({100 * first.share:.0f} %): {first.test}."
        )
    return text + plate
