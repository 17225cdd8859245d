"""What the operating window says, in words."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from mandorla.core.failure.messages import margin_text, probability_text
from mandorla.core.failure.state import State
from mandorla.core.units import METRIC, UnitPreferences, show

if TYPE_CHECKING:  # the numerics take a second to load; words about them do not need them
    from mandorla.core.tune.levers import Cause, Lever
    from mandorla.core.tune.operating_point import Evaluation
    from mandorla.core.tune.window import Point, Window
    from mandorla.core.warp.estimate import WarpEstimate


def _point_text(p: Point, w: Window, prefs: UnitPreferences) -> str:
    bed = show(p.bed, "temperature", prefs, digits=0)
    if w.heater_off(p):
        air = show(w.by_the_bed(p), "temperature", prefs, digits=0)
        how = "heater off" if w.heated else "as the bed warms it"
        return f"bed {bed}, chamber {how} (about {air})"
    return f"bed {bed}, chamber {show(p.chamber, 'temperature', prefs, digits=0)}"


def tune_sentence(w: Window, e: Evaluation, prefs: UnitPreferences = METRIC) -> str:
    """The gentlest change that makes it so, and the cheapest safe settings."""
    if w.status == "found" and w.nearest is not None and w.cheapest is not None:
        i = int(abs(w.chamber - w.present.chamber).argmin())
        j = int(abs(w.bed - w.present.bed).argmin())
        inside = bool(w.almond[i, j]) and e.state in (State.HOLDS, State.MARGINAL)
        cheap = w.cheapest
        saving = w.present.energy - cheap.energy
        energy = f"{show(cheap.energy, 'energy', prefs)} a print"
        if inside:
            text = f"These settings are inside the almond (margin {margin_text(w.present.margin)})."
            if saving > 0.03 * w.present.energy:
                now = show(w.present.energy, "energy", prefs)
                text += f" The cheapest safe ones are {_point_text(cheap, w, prefs)}: {energy} instead of {now}."
            return text
        p = w.nearest
        text = (
            f"The smallest change that holds: {_point_text(p, w, prefs)} (margin {margin_text(p.margin)}, "
            f"{probability_text(p.hold_probability)} to hold, lift {show(p.lift, 'length', prefs)})."
        )
        if cheap.energy < 0.95 * p.energy:
            text += f" The cheapest is {_point_text(cheap, w, prefs)}, {energy}."
        return text
    if w.status == "off-line":
        return (
            "There are settings that would hold, but this machine cannot choose its chamber temperature: the bed alone does "
            "not warm it enough. A chamber heater, less leakage or better panels would reach them."
        )
    if not w.part_ok.any():
        return (
            f"No bed and chamber temperature on this map is enough for this part: {w.binding} is not met anywhere. "
            "A brim, another plate surface, less solid infill or another polymer changes that."
        )
    return f"What the part needs and what the machine stands do not meet: {w.binding} lies between."


def why_sentence(
    w: WarpEstimate, causes: Sequence[Cause], levers: Sequence[Lever], prefs: UnitPreferences = METRIC
) -> str:
    """The largest cause and the best levers in words."""
    free = [v for v in levers if not v.barred and not v.drastic]
    better = [v for v in free if v.margin > 1.01 * w.margin]
    text = ""
    if causes and causes[0].margin > 1.01 * w.margin:
        text = f"{causes[0].name} does most: without it the margin would be {margin_text(causes[0].margin)} instead of "
        text += f"{margin_text(w.margin)}. "
    if not better:
        return text + "No lever by itself makes it hold better."
    best = better[0]
    lift = show(best.lift, "length", prefs)
    text += f"{best.name} helps most: margin {margin_text(best.margin)}, lift {lift}"
    if len(better) > 1:
        text += f"; then {better[1].name[0].lower()}{better[1].name[1:]} ({margin_text(better[1].margin)})"
    flattest = min(free, key=lambda v: v.lift)
    if flattest is not best and flattest.lift < 0.8 * best.lift:
        text += f". Flattest: {flattest.name[0].lower()}{flattest.name[1:]}, {show(flattest.lift, 'length', prefs)}"
    return text + "."
