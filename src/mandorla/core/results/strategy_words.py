"""What strategies and machines say, in words."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, Final

from mandorla.core.failure.messages import probability_text
from mandorla.core.failure.state import State
from mandorla.core.materials.plate_library import plate_surfaces
from mandorla.core.project.models import Project
from mandorla.core.project.paths import get_value
from mandorla.core.tune.messages import moves_text
from mandorla.core.tune.suggestion import CHECKED, FAILED
from mandorla.core.units import METRIC, UnitPreferences, show, show_duration

if TYPE_CHECKING:
    from mandorla.core.results.optimum import Optimum
    from mandorla.core.results.strategies import MachineRank, StrategyFound
    from mandorla.core.rig.settings import Settings


_MOVED: Final = {
    "settings.bed_first": ("bed for the first layers", "set_point"), "settings.bed_rest": ("bed for the rest", "set_point"),
    "settings.chamber": ("chamber", "temperature"), "settings.soak_time": ("soak", "duration"),
    "settings.fan": ("part fan", "fraction"), "rig.chamber.exhaust_fraction": ("exhaust", "fraction"),
    "rig.chamber.vent_area": ("vents", "area"),
}  # fmt: skip


def changes_text(changes: Mapping[str, Any], project: Project, prefs: UnitPreferences = METRIC) -> str:
    """What a strategy changes of a project, in words; what is so already is left out."""
    said = []
    for path, value in changes.items():
        if path == "settings.chamber" and not project.rig.heats_chamber:
            continue
        if path == "process.surface":
            said.append(f"on {plate_surfaces()[str(value)].name}")
        elif path in _MOVED and abs(float(value) - float(get_value(project, path))) > 1e-6:
            name, kind = _MOVED[path]
            said.append(f"{name} {show(float(value), kind, prefs, digits=0)}")
    return ", ".join(said) or "as it is"


def chosen_text(
    names: Sequence[str], changes: Mapping[str, Any], project: Project, prefs: UnitPreferences = METRIC
) -> str:
    """What was chosen by name, and the set points with it."""
    places = {k: v for k, v in changes.items() if k in ("settings.bed_first", "settings.bed_rest", "settings.chamber")}
    moved = changes_text(places, project, prefs)
    said = [*names, *([] if moved == "as it is" and names else [moved])]
    return ", ".join(said)


def optimum_sentence(found: Optimum, project: Project, now: float, prefs: UnitPreferences = METRIC) -> str:
    """The optimum in words, against the energy (J) of the present settings; where nothing holds, how near it comes."""
    if found.best is None and found.proof == FAILED:
        return (
            "What holds by the quick models fails in the full simulation, with more in reserve, too. Set more free, or accept a "
            "higher chance."
        )
    if found.best is None:
        return (
            f"Nothing holds by the quick models over {found.combinations} "
            f"{'combination' if found.combinations == 1 else 'combinations'}: the least chance that anything fails is "
            f"{probability_text(found.chance)}. Set more free, or accept a higher chance; a full simulation, which takes the "
            "models' own error out, may hold all the same (Operating window)."
        )
    b = found.best
    text = chosen_text(b.names, found.changes, project, prefs)
    chance = found.judgement.anything if found.judgement is not None else b.chance
    more = b.energy - now
    against = f"{show(abs(more), 'energy', prefs)} {'more' if more > 0.0 else 'less'} than now"
    return (
        f"The optimum: {text} – {show(b.energy, 'energy', prefs)} a print, {against}, "
        f"{probability_text(chance)} that anything fails ({found.proof})."
    )


def machine_text(m: MachineRank, present: Settings, prefs: UnitPreferences = METRIC) -> str:
    """How a machine does with the part, and what it would need."""
    if m.problem:
        return m.problem
    text = f"{show(m.energy.total, 'energy', prefs)}, done after {show_duration(m.duration)}"
    first = m.judgement.titles.get(m.judgement.first, "") if m.judgement.first else ""
    if first:
        text += f"; fails first: {first[0].lower()}{first[1:]}"
    if m.change is not None:
        unproved = "" if m.change.proof == CHECKED else " (not checked in full)"
        text += f"; would hold with {moves_text(m.change.settings, present, m.rig.heats_chamber, prefs)}{unproved}"
    elif first and m.judgement.whole is State.FAILS:
        text += "; no bed and chamber temperature on its map would do"
    return text


def machines_by(ranks: Sequence[MachineRank]) -> str:
    """By which models machines are ranked."""
    return "by a full simulation of each" if all(m.simulated or m.problem for m in ranks) else "by the quick models"


def strategies_sentence(found: Sequence[StrategyFound], risk: float, prefs: UnitPreferences = METRIC) -> str:
    """Which strategies hold, the surest and the one that takes least energy; else the likeliest."""
    ways = [(f.strategy.title, f.best) for f in found if f.best is not None]
    if not ways:
        return "None of the strategies can be tried on this machine."
    checked = "checked by full simulation" if all(b.proof == CHECKED for _, b in ways) else "by the quick models"
    holding = [(title, b) for title, b in ways if b.judgement.anything <= risk and b.judgement.whole is not State.FAILS]

    def named(title: str) -> str:
        return f"“{title[0].lower()}{title[1:]}”"

    if not holding:
        title, best = min(ways, key=lambda w: w[1].judgement.order[1:])
        chance = probability_text(best.judgement.anything)
        return (
            f"None of the strategies holds; {named(title)} is likeliest to, {chance} that anything fails ({checked})."
        )
    surest = min(holding, key=lambda w: (round(w[1].judgement.anything, 2), w[1].energy.total))
    least = min(holding, key=lambda w: w[1].energy.total)
    count = f"{len(holding)} of {len(ways)} strategies hold ({checked})"
    text = f"{count}; {named(surest[0])} is the surest, {probability_text(surest[1].judgement.anything)} that anything fails"
    if least[0] == surest[0]:
        return f"{text}, and takes least energy, {show(least[1].energy.total, 'energy', prefs)}."
    return f"{text}; {named(least[0])} takes least energy, {show(least[1].energy.total, 'energy', prefs)}."
