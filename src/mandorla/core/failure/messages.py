"""The answers in words: one sentence first, the picture and the table prove it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from mandorla.core.failure.grades import LEAST_LIFT
from mandorla.core.failure.state import LimitCheck, State
from mandorla.core.units import METRIC, OFF, UnitPreferences, show, show_duration, show_moment, show_number

if TYPE_CHECKING:  # the numerics take a second to load; words about them do not need them
    from mandorla.core.failure.registry import Judgement
    from mandorla.core.failure.rig_checks import RigCheck
    from mandorla.core.thermal.bow import Bow
    from mandorla.core.thermal.build_differences import BuildDifference
    from mandorla.core.thermal.faults import FaultEvent, FaultRun
    from mandorla.core.thermal.fuses import Trip
    from mandorla.core.thermal.heatup import HeatUp
    from mandorla.core.thermal.steady import Band
    from mandorla.core.warp.learned import Learned

MOST_MARGIN = 20.0
DETACHED = 0.02  # m of lift, beyond which nothing holds the part any more


def lift_in(judgement: Judgement, limit: float) -> float:
    """The lift (m) that a judgement's flatness stands for, of the ``limit`` (m) that is accepted; NaN where it is not known."""
    flat = judgement.assessed.get("flatness")
    return math.exp(-flat.margin) * limit if flat is not None else float("nan")


def lift_text(judgement: Judgement, limit: float, prefs: UnitPreferences = METRIC) -> str:
    """The lift of a judgement as text."""
    return lift_figure(lift_in(judgement, limit), prefs)


def lift_figure(lift: float, prefs: UnitPreferences = METRIC) -> str:
    """A lift (m) as text: too small to count, or that of a part that nothing holds, is said in words; a dash: not known."""
    if math.isnan(lift):
        return "–"
    if lift < 1.001 * LEAST_LIFT:
        return f"under {show(LEAST_LIFT, 'length', prefs)}"
    return "detached" if lift > DETACHED else show(lift, "length", prefs)


def margin_text(margin: float) -> str:
    """A hold margin as text; from 20 on the figure means nothing more (judgements keep its logarithm, and no more than ln 20); a
    dash where none is known."""
    if math.isnan(margin):
        return "–"
    return "far above" if margin > MOST_MARGIN - 0.005 else f"{margin:.2f}"


def probability_text(p: float) -> str:
    """A probability in whole per cent, never quite 0 or 100."""
    if p > 0.99:
        return "over 99 %"
    if p < 0.01:
        return "under 1 %"
    return f"{100 * p:.0f} %"


def band_text(
    value: float, low: float, high: float, kind: str, prefs: UnitPreferences = METRIC, digits: int | None = None
) -> str:
    """``1.3 mm (0.6–2.4)``: figure with unit and its 90 % range."""
    low_text, high_text = show_number(low, kind, prefs, digits=digits), show_number(high, kind, prefs, digits=digits)
    return f"{show(value, kind, prefs, digits=digits)} ({low_text}–{high_text})"


def heat_up_sentence(result: HeatUp, prefs: UnitPreferences = METRIC) -> str:
    """The answer in words."""
    offset = result.offset
    band = result.bands.get("surface")
    spread = (
        f" ({show_number(band.low, 'temperature', prefs, digits=0)}–{show(band.high, 'temperature', prefs, digits=0)})"
        if band
        else ""
    )
    surface = show(result.steady.surface, "temperature", prefs)
    if result.trips:
        return f"{trip_sentence(result.trips[0], prefs)} The rig never gets ready."
    if result.status == "unreachable":
        reached = float(result.reading[-1])
        if not result.short_of_power and result.set_point <= OFF:
            return (
                f"The bed is off: the sensor reads {show(reached, 'temperature', prefs, digits=0)} and the surface is at "
                f"{surface}."
            )
        if not result.short_of_power:
            return (
                f"The bed needs no heating for {show(result.set_point, 'temperature', prefs, digits=0)}: with the heater off "
                f"the sensor reads {show(reached, 'temperature', prefs, digits=0)} and the surface is at {surface}."
            )
        return (
            f"The heater cannot hold {show(result.set_point, 'temperature', prefs, digits=0)}: at full power the sensor stays at "
            f"{show(reached, 'temperature', prefs, digits=0)} and the surface at {surface}."
        )
    relation = "below" if offset >= 0 else "above"
    gap = f"{show(abs(offset), 'temperature_difference', prefs)} {relation} the set point"
    if result.status == "slow":
        return f"The surface settles at {surface}{spread}, {gap}, but is not ready within {show_duration(result.time[-1])}."
    return f"Ready in {show_duration(result.ready_time)}. The surface settles at {surface}{spread}, {gap}."


def fault_state(run: FaultRun) -> State:
    """Fails when a layer passes its rating or a fuse opens without any fault, marginal when only the fuse prevented damage."""
    if run.damaged or run.nuisance:
        return State.FAILS
    return State.MARGINAL if run.first_fuse is not None else State.HOLDS


def fault_sentence(run: FaultRun, prefs: UnitPreferences = METRIC) -> str:
    """What happens first, what ends it, what is damaged."""
    hottest = int(run.peak.argmax())
    peak = f"{run.names[hottest]} with {show(float(run.peak[hottest]), 'temperature', prefs, digits=0)}"
    when = "while holding the set point" if run.start == "holding" else "in a cold rig that is switched on"
    if run.nuisance:
        return f"{trip_sentence(run.nuisance[0], prefs)} Choose a higher rating before asking what it saves."
    assumed = f", {run.named}" if run.named else ""
    text = f"{run.fault.name}{assumed}, {when}: {_how_it_ends(run, peak, prefs)}"
    if run.milder and not run.damaged and not any(m.damaged or m.first_fuse for m in (run, *run.milder)):
        return f"{text} The same holds for {' and '.join(m.named for m in run.milder)}."
    return text + "".join(f" With {m.named} {_in_short(m)}." for m in run.milder)


def trip_sentence(trip: Trip, prefs: UnitPreferences = METRIC) -> str:
    """A fuse that opens in normal use, in words."""
    return (
        f"Nuisance trip: the fuse on {trip.layer} ({show(trip.rating, 'temperature', prefs, digits=0)}) opens after "
        f"{show_moment(trip.time)} of the warm-up without any fault."
    )


def _in_short(run: FaultRun) -> str:
    if run.damaged:
        return f"{run.damaged[0]} passes its rating after {show_moment(run.first_damage)}"
    fuse = run.first_fuse
    return "nothing passes its rating" + (
        f": the fuse opens after {show_moment(fuse.time)}" if fuse is not None else ""
    )


def _how_it_ends(run: FaultRun, peak: str, prefs: UnitPreferences) -> str:
    fuse, over = run.first_fuse, next((e for e in run.events if e.kind == "rating"), None)
    if fuse is None and over is None:
        return f"no layer passes its rating within {show_moment(float(run.time[-1]))}; the hottest is {peak}."
    if fuse is None and over is not None:
        return f"{over.layer} passes its rating after {show_moment(over.time)} and no fuse ends it; the hottest becomes {peak}."
    assert fuse is not None
    opens = f"the fuse on {fuse.layer} ({show(fuse.limit, 'temperature', prefs, digits=0)}) opens after {show_moment(fuse.time)}"
    if over is None:
        return f"{opens}, before any layer passes its rating; the hottest becomes {peak}."
    if over.time < fuse.time:
        early = show_moment(fuse.time - over.time)
        return f"{opens}, but {over.layer} passed its rating {early} before; the hottest was {peak}."
    late = show_moment(over.time - fuse.time)
    return f"{opens}, yet {over.layer} still passes its rating {late} later; the hottest becomes {peak}."


def learned_sentence(learned: Learned) -> str:
    """What trials have taught of film stress and magnet, and that the predictions use it."""
    if not learned.findings:
        return "No trial is used yet: film stress and magnet's pull are the library's, with all of their range."
    count = f"{learned.trials} trials" if learned.trials != 1 else "one trial"
    each = "; ".join(f"{f.what[0].lower()}{f.what[1:]}, {100 * f.left:.0f} %" for f in learned.findings)
    return f"From {count}, as shares of the ranges before: {each}. Warping, cracks and the loose plate are computed with that."


def ready_text(heat: HeatUp) -> str:
    """When a rig is ready, or why it is not."""
    words = {"unreachable": "not reached", "slow": "over 6 h", "tripped": "never: a fuse opens"}
    return words.get(heat.status) or show_duration(heat.ready_time)


def difference_sentence(name: str, d: BuildDifference, prefs: UnitPreferences = METRIC) -> str:
    """What a build has over the present one, each figure with its 90 % range."""

    def figure(band: Band, kind: str, more: str, less: str) -> str:
        if not np.isfinite(band.value):
            return ""
        low, high = sorted((abs(band.low), abs(band.high)))
        if show(high, kind, prefs) == show(0.0, kind, prefs):
            return "alike"
        word = more if band.value >= 0.0 else less
        if band.low < 0.0 < band.high:
            ends = f"{show(abs(band.low), kind, prefs)} {less} to {show(abs(band.high), kind, prefs)} {more}"
            return f"not told apart, {ends}"
        return f"{show(low, kind, prefs)} to {show(high, kind, prefs)} {word}"

    parts = [
        ("ready", figure(d.ready, "duration", "later", "sooner")),
        ("surface", figure(d.surface, "temperature_difference", "warmer", "colder")),
        ("until ready", figure(d.energy, "energy", "more", "less")),
        ("to hold", figure(d.power, "power", "more", "less")),
    ]
    told = "; ".join(f"{what} {text}" for what, text in parts if text)
    return f"“{name}” against the present build, at 90 %: {told}."


def bow_sentence(bow: Bow, soak_end: float, prefs: UnitPreferences = METRIC) -> str:
    """How the plate bows, when it has settled, what a map taken too early would be wrong by."""

    def shape(value: float) -> str:
        word = "up in the middle" if value > 0 else "down in the middle"
        return f"{show(abs(value), 'bow', prefs)} {word}"

    ends = " to ".join(show_number(v, "bow", prefs) for v in (bow.low, bow.high))
    text = f"Soaked, the free plate stands {shape(bow.end)} ({ends} {prefs.unit('bow').symbol} at 90 %)"
    if abs(bow.largest - bow.end) > 2e-6:
        text += f", {shape(bow.largest)} at most while warming"
    if not np.isfinite(bow.settled):
        return text + "; it has not settled by the end of the curves."
    text += f". It has settled after {show_duration(bow.settled)}"
    if bow.settled > soak_end:
        return text + ", later than the print starts: soak longer before levelling or mapping."
    return text + ": level or map the bed after that."


def event_text(event: FaultEvent, prefs: UnitPreferences = METRIC) -> str:
    """One event in words."""
    limit = show(event.limit, "temperature", prefs, digits=0)
    if event.kind == "fuse":
        return f"fuse on {event.layer} opens ({limit})"
    if event.kind == "shown":
        return f"the display passes the machine's limit ({limit})"
    return f"{event.layer} passes its rating ({limit})"


def limit_sentence(checks: tuple[LimitCheck, ...], prefs: UnitPreferences = METRIC) -> str:
    """The tightest limit in words."""
    bad = [c for c in checks if c.state in (State.FAILS, State.MARGINAL)]
    if not bad:
        return "Everything stays inside its rating."
    c = min(bad, key=lambda c: (c.state is not State.FAILS, c.left))
    over = c.value - c.limit
    if c.kind == "temperature":
        amount = f"{abs(over):.0f} K {'over' if over > 0 else 'below'} its limit"
    else:
        amount = f"{show(c.value, c.kind, prefs)} of {show(c.limit, c.kind, prefs)}"
    return f"{c.name}: {amount} ({c.reason})."


def nearest_limit(checks: tuple[LimitCheck, ...], prefs: UnitPreferences = METRIC) -> str:
    """Which of limits that are kept is nearest, as a clause."""
    c = min(checks, key=lambda c: c.left / max(abs(c.limit), 1e-9))
    value, limit = (show(v, c.kind, prefs, digits=0) for v in (c.value, c.limit))
    return f"nearest to its limit is {c.name}: {value} of {limit}"


def times_text(margin: float) -> str:
    """A margin as a factor in a sentence."""
    return f"more than {MOST_MARGIN:.0f} times" if margin > MOST_MARGIN - 0.005 else f"{margin:.2f} times"


def checks_sentence(checks: Sequence[RigCheck]) -> str:
    """How the checks of a rig stand, the worst named."""
    bad = [c for c in checks if c.state is State.FAILS]
    near = [c for c in checks if c.state is State.MARGINAL]
    names = ", ".join(c.title.lower() for c in (bad or near)[:3])
    if bad:
        return f"{len(bad)} of {len(checks)} checks fail: {names}."
    if near:
        return f"No check fails; {len(near)} of {len(checks)} are marginal: {names}."
    return f"All {len(checks)} checks hold."


def release_words(comes_off: bool, tears: bool = False) -> str:
    """What taking a part off the plate needs; ``tears`` where the bond is known to be too strong for the surface."""
    if comes_off:
        return "Cooling peels it off by itself."
    if tears:
        return "Cold, it holds so hard that it will tear or chip the surface: put a release layer under it."
    return "When it has cooled, it needs a flex of the plate to come off."
