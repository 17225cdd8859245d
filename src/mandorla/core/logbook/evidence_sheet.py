"""An evidence sheet about one plate: what was printed on its side, how that ended, and how it grips against others of its class."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.logbook.evidence import HOLD
from mandorla.core.logbook.learning import Experience
from mandorla.core.logbook.messages import chance_text, counted, outcome_text
from mandorla.core.logbook.records import Plate, PlateEvent, Print, Trial
from mandorla.core.logbook.trial_statistics import compare_arms
from mandorla.core.logbook.trials import arms_of
from mandorla.core.units import METRIC, UnitPreferences, show_duration


def specimen_text(e: Experience, plate: str, side: str) -> str:
    """How a side grips against its class, as a factor with its 90 % range; empty where no print tells."""
    key = f"{plate}|{side}"
    if key not in e.layout.specimens:
        return ""
    ln = e.layout.specimen(np.asarray(e.draws, dtype=float), e.layout.specimens.index(key))
    low, middle, high = (math.exp(float(np.quantile(ln, q))) for q in (0.05, 0.5, 0.95))
    below = float((ln < 0.0).mean())
    text = f"Its grip is {middle:.2f} times that of its class ({low:.2f} to {high:.2f}, 90 %); "
    return f"{text}{100 * below:.0f} % that it is below it."


def plate_sheet(
    plate: Plate, side: str, prints: Sequence[Print], events: Sequence[PlateEvent], trials: Sequence[Trial], e: Experience,
    prefs: UnitPreferences = METRIC,
) -> str:  # fmt: skip
    """The sheet as Markdown, to hand in with a plate that is returned.

    Raises
    ------
    InputError
        Where nothing was printed on that side.
    """
    own = sorted((p for p in prints if p.plate == plate.key and p.side == side), key=lambda p: p.at)
    if not own:
        raise InputError(f"Nothing was printed on {plate.name}, {side}.")
    surface = plate.front if side == "front" else plate.back
    others = [p for p in prints if p.plate and p.plate != plate.key and p.surface == surface]
    ended = [p for p in own if p.outcome is not None]
    off = [p for p in ended if p.outcome is not None and any(x.way == HOLD for x in p.outcome.effects)]
    other_off = [p for p in others if p.outcome is not None and any(x.way == HOLD for x in p.outcome.effects)]
    lines = [
        f"# {plate.name}, {side}", "", f"Surface: {surface.replace('_', ' ')}. Bought: {plate.bought or 'not noted'}.",
        f"Printed: {counted(len(own))}, {show_duration(sum(p.duration for p in own))}. "
        f"A corner came off in {len(off)} of {len(ended)}; "
        f"on other plates of the same surface in {len(other_off)} of {sum(p.entered for p in others)}.",
        specimen_text(e, plate.key, side), "", "## Prints", "", "| number | day | part | prepared | predicted | came out |",
        "|---|---|---|---|---|---|",
    ]  # fmt: skip
    lines += [
        f"| {p.number} | {p.at[:10]} | {p.name} | {p.prepared or 'not noted'} | {chance_text(p)} "
        f"| {outcome_text(p.outcome, prefs)} |"
        for p in own
    ]
    done = [v for v in events if v.plate == plate.key and v.side == side]
    lines += (
        ["", "## What was done to it", "", *(f"- {v.at[:10]}: {v.what}. {v.note}".rstrip() for v in done)]
        if done
        else []
    )
    for t in trials:
        if t.kind == "ab" and any(p.trial == t.key for p in own):
            first, second = arms_of(t, prints)
            lines += ["", f"## Trial: {t.name}", "", t.question, t.preparation]
            lines.append(compare_arms((t.arms[0], t.arms[1]), first, second).sentence)
    lines += ["", "Ranges and chances are computed from the workshop's own prints by a model; they certify nothing."]
    return "\n".join(line for line in lines if line is not None) + "\n"
