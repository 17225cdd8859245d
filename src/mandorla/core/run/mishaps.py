"""When it goes wrong: how long a part keeps after a power cut and what a resumed joint is worth; whether to go on where it lifts.

How bond and joint answer is from the library's ranges; that the law of films holds for feet, and how far a lift that was seen tells
the rest of its growth, are estimates, unchecked.
"""

from __future__ import annotations

import math
from typing import Final, NamedTuple

import numpy as np
from scipy.special import ndtr

from mandorla.core.failure.messages import band_text, probability_text
from mandorla.core.part.mesh import Floats
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Settings
from mandorla.core.thermal.cool_down import FILM, CoolDown, lagged
from mandorla.core.tune.operating_point import Evaluation
from mandorla.core.units import METRIC, OFF, UnitPreferences, show, show_duration
from mandorla.core.warp.cracks import healed_fraction
from mandorla.core.warp.release import plate_expansion, release

AFTER: Final = (600.0, 1800.0, 3600.0, 2 * 3600.0)  # s without power after which a joint is looked at
_AT: Final = (0.1, 0.3, 0.5, 0.7, 0.9)  # of the part's height
# of the usual strength, from which a resumed joint is as good, and from which it holds at all
SOUND_JOINT, WEAK_JOINT = 0.8, 0.5
_LEAST_LIFT: Final = 2e-5  # m of predicted lift from which its growth is taken for that of the one that was seen
# ln-standard deviation of a lift's growth: when all is printed, and what the rest of the print adds
_GROWS: Final = (0.25, 0.45)


class Interrupted(NamedTuple):
    """A power cut at a ``height`` (m): s until the part shears off, with a typical and a weak bond (NaN: it stays on),
    strength of a joint that is resumed ``AFTER`` so long over the usual one (4,), s for which it stays nearly as good."""

    height: float
    off: float
    off_weak: float
    joint: tuple[float, ...]
    good_for: float


class PowerCut(NamedTuple):
    """What a cut does at some heights, whether the plate is heated at all, W that would hold the bed meanwhile."""

    at: tuple[Interrupted, ...]
    heated: bool
    holds: float


class GoOn(NamedTuple):
    """A corner seen ``seen`` m up at ``height``: its lift at the end (low, typical, high; m), the chance that it stays below the
    ``limit``, s and kg that are spent and still to be spent."""

    seen: float
    height: float
    ends: tuple[float, float, float]
    chance: float
    limit: float
    spent: tuple[float, float]
    left: tuple[float, float]


def power_cut(rig: Rig, settings: Settings, e: Evaluation, cool: CoolDown) -> PowerCut:
    """What a cut at several heights does to the part on its plate; everything is off from then on, doors are shut.

    Raises
    ------
    ValueError
        Where there is no part.
    """
    part, at = e.part, e.conditions
    if part is None or at is None:
        raise ValueError("a power cut is looked at for a part")
    blocks, room = part.column, float(cool.room[-1])
    expansion, found = plate_expansion(rig.bed), []
    for share in _AT:
        height = share * part.sections.height
        below = blocks.bottom < height
        thick = np.where(below, np.minimum(blocks.top, height) - blocks.bottom, 0.0)
        foot = float(blocks.gross_area[0])
        surface = float((blocks.perimeter * thick).sum()) + foot + float(blocks.gross_area[below][-1])
        whole = float((blocks.area * (blocks.top - blocks.bottom)).sum())
        mass = part.plan.mass * float((blocks.area * thick).sum()) / max(whole, 1e-12)
        constant = mass * part.polymer.specific_heat.typical / max(surface, 1e-9) / FILM[1]
        on_plate = min(0.9, 2.0 * foot / max(surface, 1e-9))
        felt = on_plate * cool.surface + (1.0 - on_plate) * cool.air
        top = lagged(cool.time, felt, (1.0 - on_plate) * at.chamber + on_plate * at.plate_rest, constant)
        layer_time = float(np.median(part.plan.layer_time))
        alone = healed_fraction(top, np.full(top.size, layer_time), part.process.layer_height, part.polymer)
        healed = alone / max(float(alone[0]), 1e-6)  # over a joint that is not interrupted
        off = release(part, height, at.plate_rest, room, expansion)
        weak = np.flatnonzero(healed < SOUND_JOINT)
        found.append(Interrupted(
            height, _when(cool, off.typical), _when(cool, off.high),
            tuple(float(min(np.interp(t, cool.time, healed), 1.0)) for t in AFTER),
            float(cool.time[weak[0]]) if weak.size else math.inf,
        ))  # fmt: skip
    return PowerCut(tuple(found), settings.bed_rest > OFF, e.rest.power)


def _when(cool: CoolDown, temperature: float) -> float:
    return cool.below(cool.surface, temperature) if math.isfinite(temperature) else math.nan


def go_on(e: Evaluation, seen: float, height: float) -> GoOn:
    """Whether a part with a corner that was seen lifted is still good at its end: its predicted growth, scaled to what was seen."""
    part, w = e.part, e.warp
    if part is None or w is None:
        raise ValueError("a lift is judged on a part")
    total = part.sections.height
    height = min(max(height, 1e-4), total)
    by_height: Floats = w.lift_by_height
    if float(np.interp(height, w.height, by_height)) < _LEAST_LIFT:
        # none is predicted there: it grows as what pulls at the corner adds up
        by_height = np.cumsum(np.maximum(w.demand, 0.0) * np.gradient(w.height))
    growth = float(by_height[-1]) / max(float(np.interp(height, w.height, by_height)), 1e-12)
    typical = max(seen * max(growth, 1.0), seen)
    rest = 1.0 - height / total
    spread = math.hypot(_GROWS[0], _GROWS[1] * rest)
    ends = (max(typical * math.exp(-1.645 * spread), seen), typical, typical * math.exp(1.645 * spread))
    limit = e.lift_limit
    chance = 0.0 if seen >= limit else float(ndtr(math.log(limit / typical) / spread))
    clock = np.concatenate([[0.0], np.cumsum(part.column.time)])
    tops = np.concatenate([[0.0], part.column.top])
    now, laid = float(np.interp(height, tops, clock)), part.column.area * (part.column.top - part.column.bottom)
    share = float(np.interp(height, tops, np.concatenate([[0.0], np.cumsum(laid)]))) / max(float(laid.sum()), 1e-12)
    duration, mass = part.plan.duration, part.plan.mass
    return GoOn(
        seen, height, ends, chance, limit, (now, share * mass), (max(duration - now, 0.0), (1.0 - share) * mass)
    )


def cut_sentence(c: PowerCut) -> str:
    """What a power cut does, the worst height first."""
    typical = [v.off for v in c.at if math.isfinite(v.off)]
    weak = [v.off_weak for v in c.at if math.isfinite(v.off_weak)]
    good = min(v.good_for for v in c.at)
    if typical:
        text = f"After a power cut the part comes off its plate within {show_duration(min(typical))}"
    elif weak:
        when = show_duration(min(weak))
        text = (
            f"After a power cut the part stays on its plate, unless its bond is weak: then it comes off from {when} on"
        )
    else:
        text = "A power cut alone does not take the part off its plate"
    if math.isinf(good):
        return f"{text}; a joint that is resumed is as strong as the others at any time."
    within = show_duration(good)
    return (
        f"{text}; a joint that is resumed within {within} is nearly as strong as the others, later it is a weak line."
    )


def lift_text(g: GoOn, prefs: UnitPreferences = METRIC) -> str:
    """The lift at the end with its range."""
    low, typical, high = g.ends
    return band_text(typical, low, high, "length", prefs, 1)


def go_on_sentence(g: GoOn, prefs: UnitPreferences = METRIC) -> str:
    """Whether to go on, with what is at stake."""
    chance, limit = probability_text(g.chance), show(g.limit, "length", prefs, digits=1)
    verdict = "Go on" if g.chance >= 0.5 else "Stop" if g.chance < 0.15 else "Go on only if a rougher part will do"
    return (
        f"{verdict}: it ends about {lift_text(g, prefs)}, {chance} that it stays below the limit of {limit}. "
        f"{show_duration(g.left[0])} and {show(g.left[1], 'mass', prefs)} are still to be spent, "
        f"{show_duration(g.spent[0])} and {show(g.spent[1], 'mass', prefs)} are gone already."
    )


def still_to_do(chamber_heated: bool) -> tuple[str, ...]:
    """What can be done now for a part that lifts, the gentlest first."""
    found = ["Shut doors and lid, switch the part fan off: what cools less, shrinks less."]
    if chamber_heated:
        found.append("Chamber 5 K up, if the polymer stands it: the pull falls at once, the lift that is there stays.")
    found += [
        "Do not raise the plate by much: a softer foot lets the corner creep up further.",
        "Never press a corner down while the machine moves: stop it first; nozzle, plate and motion burn and crush.",
        "A nozzle that catches on the corner tears the part off: raise its travel, or stop.",
    ]
    return tuple(found)
