"""What is said of each way to fail, and of all together: what fails first, and with what chance."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from mandorla.core.failure.messages import (
    band_text,
    limit_sentence,
    margin_text,
    nearest_limit,
    probability_text,
    release_words,
    times_text,
)
from mandorla.core.failure.state import State
from mandorla.core.units import METRIC, UnitPreferences, show

if TYPE_CHECKING:
    from mandorla.core.failure.case import FailureCase
    from mandorla.core.failure.registry import Assessment, Judgement
    from mandorla.core.warp.fe_result import FullRun


def adhesion_words(case: FailureCase, prefs: UnitPreferences) -> str:
    """Where the grip fails, or how much it has in reserve."""
    w, full = case.warp, case.full
    assert w is not None
    if full is None:
        margin, corner, height, layer = (
            w.margin,
            f"{w.corners[w.weakest].corner.name} corner",
            w.let_go_height,
            w.let_go_layer,
        )
    else:
        margin, corner = full.hold_margin, full.corner_words(int(np.argmin(full.margin[-1])))
        height, layer = full.opens_from, full.layer_of(full.opens_from) if math.isfinite(full.opens_from) else 0
    if margin >= 1.0:
        return f"the grip at the {corner} is {times_text(margin)} what it needs"
    if not math.isfinite(height):
        return f"the {corner} comes off the plate (hold margin {margin_text(margin)})"
    where = (
        f"layer {layer}, {show(height, 'length', prefs, digits=1)}"
        if layer
        else show(height, "length", prefs, digits=1)
    )
    return f"the {corner} comes off the plate at {where} (hold margin {margin_text(margin)})"


def flatness_words(case: FailureCase, prefs: UnitPreferences) -> str:
    """How far off flat it is, when, and what is accepted."""
    w, full = case.warp, case.full
    assert w is not None
    printed, released = (w.printed_lift, abs(w.released_lift)) if full is None else (
        full.printed_lift, 0.0 if full.stopped else full.released_lift
    )  # fmt: skip
    figure, value, when = ("lift", printed, "at the end of the print") if printed >= released else (
        "released", released, "after release"
    )  # fmt: skip
    text = (
        band_text(value, *w.band(figure, value), "length", prefs)
        if w.spreads and full is None
        else show(value, "length", prefs)
    )
    return f"it is {text} out of flat {when}; {show(case.criteria.lift_limit, 'length', prefs)} is accepted"


def crack_words(case: FailureCase, prefs: UnitPreferences) -> str:
    """Where it cracks, and how near it is to that."""
    w, full = case.warp, case.full
    assert w is not None
    index, height = (w.crack_index, w.crack_height) if full is None or not full.crack.size else (
        float(full.crack.max()), full.weak_layer
    )  # fmt: skip
    does = "it cracks between layers" if index >= 1.0 else "between layers it is weakest"
    return f"{does} at {show(height, 'length', prefs, digits=0)} of height (crack index {index:.2f})"


def plate_words(case: FailureCase, prefs: UnitPreferences) -> str:
    """What a loose plate does."""
    plate, full = case.plate, case.full
    assert plate is not None
    off, gap, height = plate.off, plate.gap, plate.height
    if full is not None:
        off, gap = full.plate_off, float(full.plate_lift.max())
        above = full.height[full.plate_lift > 2e-4]
        height = float(above[0]) if above.size else math.inf
    far = show(gap, "length", prefs)
    if not off and not math.isfinite(height):
        return f"{plate.name} stays on its {plate.keeper} ({far} at most)"
    at = f" from {show(height, 'length', prefs, digits=0)} of height on" if math.isfinite(height) else ""
    if off:
        return f"the part pulls {plate.name} off its {plate.keeper}{at}"
    return f"the part lifts {plate.name} off its {plate.keeper} by {far}{at}"


def tipping_words(case: FailureCase, prefs: UnitPreferences) -> str:
    """From which height a catching nozzle knocks the part loose."""
    w = case.warp
    assert w is not None
    if math.isfinite(w.tips_from):
        return f"a nozzle that catches knocks it loose from {show(w.tips_from, 'length', prefs, digits=0)} of height on"
    return f"the foot stands {times_text(w.tips_margin)} the moment of a catching nozzle"


def foot_words(case: FailureCase, prefs: UnitPreferences) -> str:
    """How high the foot stays soft and how far it is pressed out."""
    w, part = case.warp, case.part
    assert w is not None
    assert part is not None
    if w.soft_base <= 0.0 and w.foot_strain <= 0.0:
        return "the foot stays solid"
    pressed = "over 100" if w.foot_strain > 1.0 else f"{100.0 * w.foot_strain:.1f}"
    soft = show(part.polymer.flow_temperature, "temperature", prefs, digits=0)
    height = show(w.soft_base, "length", prefs, digits=1)
    start = f"the foot is soft (it softens at {soft}) up to {height} of height until the print ends"
    return f"{start}, and is pressed out by {pressed} %"


def clause(judgement: Judgement, key: str, prefs: UnitPreferences = METRIC) -> str:
    """What is said of one way to fail: its own words, or those of its ratings, or its title."""
    text = judgement.words(key, prefs)
    a = judgement.assessed.get(key)
    if not text and a is not None and a.checks:
        text = nearest_limit(a.checks, prefs) if a.state is State.HOLDS else limit_sentence(a.checks, prefs).rstrip(".")
    return text or judgement.titles[key].lower()


def chance_of(a: Assessment) -> str:
    """The chance of a failure in words; empty where there is none."""
    return probability_text(a.probability) if math.isfinite(a.probability) else ""


def headline(judgement: Judgement, prefs: UnitPreferences = METRIC) -> str:
    """What fails first and with what chance; that it holds only where nothing fails."""
    state, first, counted = judgement.whole, judgement.first, judgement.counted
    any_text = probability_text(judgement.anything) if math.isfinite(judgement.anything) else ""
    if state is not State.FAILS and judgement.unknown:
        missing = judgement.unknown[0]
        start = f"Not determined: {judgement.titles[missing].lower()} is not known. {judgement.words(missing, prefs)}"
        return start if not first else f"{start} {_of_first(judgement, first, prefs)}"
    if state is State.HOLDS:
        text = f"The part holds: {any_text} that anything fails." if any_text else "The part holds."
        likeliest = judgement.likeliest
        if likeliest:
            said = clause(judgement, likeliest, prefs)
            text += f" Nearest to failing: {said} ({chance_of(counted[likeliest])} that it fails)."
        return text
    if not first:
        return f"In doubt: {any_text} that something fails." if any_text else "Not determined."
    text = _of_first(judgement, first, prefs)
    others = sorted(
        (k for k, a in counted.items() if k != first and (a.state is State.FAILS or a.probability > judgement.risk)),
        key=lambda k: -(counted[k].probability if math.isfinite(counted[k].probability) else 0.0),
    )
    if others:
        listed = "; ".join(
            f"{judgement.titles[k].lower()} ({chance_of(counted[k]) or counted[k].state.value})" for k in others[:3]
        )
        text += f" Also: {listed}."
    if any_text and len(others) > 0:
        text += f" {any_text[0].upper()}{any_text[1:]} that anything fails."
    if judgement.unknown:
        text += f" Not known: {', '.join(judgement.titles[k].lower() for k in judgement.unknown)}."
    return text


def _of_first(judgement: Judgement, first: str, prefs: UnitPreferences) -> str:
    a = judgement.counted[first]
    said = clause(judgement, first, prefs)
    chance = chance_of(a)
    if a.state is State.FAILS:
        text = f"{said[0].upper()}{said[1:]}"
        return f"{text}: {chance} that it fails this way." if chance and a.parts else f"{text}."
    return f"In doubt: {said} ({chance} that it fails)." if chance else f"In doubt: {said}."


def full_headline(judgement: Judgement, found: FullRun, prefs: UnitPreferences = METRIC, tears: bool = False) -> str:
    """What a full simulation says: the same judgement, why it stopped if it did, and how the part comes off."""
    text = headline(judgement, prefs)
    if found.stopped:
        height = show(float(found.height[-1]), "length", prefs)
        who = "the part" if found.owner is None else "the bodies together" if found.plate_off else "a body"
        return f"{text} The simulation ends at {height} of height, where {who} {found.stopped}."
    return f"{text} {release_words(found.cold_detached > 0.5, tears)}"
