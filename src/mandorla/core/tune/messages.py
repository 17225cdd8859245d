"""What the operating window says, in words."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Protocol

from mandorla.core.failure.messages import lift_figure, margin_text, probability_text
from mandorla.core.failure.state import State
from mandorla.core.failure.words import clause
from mandorla.core.units import METRIC, UnitPreferences, show

if TYPE_CHECKING:  # the numerics take a second to load; words about them do not need them
    from mandorla.core.failure.registry import Judgement
    from mandorla.core.rig.model import Rig
    from mandorla.core.rig.settings import Settings
    from mandorla.core.tune.levers import Cause, Lever
    from mandorla.core.tune.suggestion import Suggestion
    from mandorla.core.tune.window_map import Window
    from mandorla.core.tune.worth import Openers, PairPulled, Worth


_HELPS = 0.9  # chance that anything fails, above which a lever by itself is no help worth naming


def moves_text(settings: Settings, present: Settings, rig_heats: bool, prefs: UnitPreferences) -> str:
    """Every setting that differs from the present ones, in words."""
    names = {"bed_first": "bed for the first layers", "bed_rest": "bed for the rest", "chamber": "chamber", "fan": "part fan",
             "soak_time": "soak"}  # fmt: skip
    kinds = {"soak_time": "duration", "fan": "fraction", "bed_first": "set_point", "bed_rest": "set_point"}
    moved = {k: v for k, v in settings.moves(present).items() if k != "chamber" or rig_heats}
    return ", ".join(
        f"{names[k]} {show(new, kinds.get(k, 'temperature'), prefs, digits=0)}" for k, (_, new) in moved.items()
    )


def suggestion_text(s: Suggestion, present: Settings, rig_heats: bool, prefs: UnitPreferences) -> str:
    """A suggestion in words: what it moves, with what chance it fails, what proves it."""
    moved = moves_text(s.settings, present, rig_heats, prefs)
    chance = probability_text(s.judgement.anything)
    doubt = doubt_of(s.judgement, prefs)
    said = f"{s.proof}; in doubt: {doubt}" if doubt else s.proof
    return f"{moved or 'the settings as they are'} ({chance} that anything fails, {said})"


def change_that(s: Suggestion) -> str:
    """What a smallest change is called: that it holds is said only of what a full simulation has shown to."""
    if s.proved:
        return "The smallest change that holds"
    if s.judgement.whole is State.HOLDS:
        return "The smallest change that holds by the quick models"
    return "The smallest change found, in doubt"


def doubt_of(judgement: Judgement, prefs: UnitPreferences = METRIC) -> str:
    """What a judgement that neither fails nor holds doubts first; empty where it holds or fails."""
    first = judgement.first
    return clause(judgement, first, prefs) if judgement.whole is State.MARGINAL and first else ""


def offered(found: Iterable[Suggestion], judgement: Judgement | None) -> dict[str, Suggestion]:
    """What is told of suggestions, by key: where the settings hold there is no smallest change, for none is needed."""
    holds = judgement is not None and judgement.whole is State.HOLDS
    return {s.key: s for s in found if not (holds and s.key == "nearest")}


def tune_sentence(
    w: Window, judgement: Judgement, suggestions: Sequence[Suggestion] | None, openers: Openers | None, rig: Rig,
    present: Settings,
    prefs: UnitPreferences = METRIC,
) -> str:  # fmt: skip
    """Whether the settings hold, the smallest change that makes them hold, the cheapest settings, or what would open the window.

    ``suggestions`` and ``openers`` are None while they are being looked for.
    """
    heats = rig.heats_chamber
    holds = judgement.whole is State.HOLDS
    start = f"These settings hold ({probability_text(judgement.anything)} that anything fails)." if holds else ""
    by_key = offered(suggestions or (), judgement)
    cheap, near = by_key.get("cheapest"), by_key.get("nearest")
    if suggestions is None:
        looking = "Suggestions are being checked by full simulations …" if w.status == "found" else ""
        text = f"{start} {looking}".strip()
        if text or w.status == "found":
            return text
    if holds:
        saving = w.present.energy - cheap.energy if cheap is not None else 0.0
        if cheap is not None and saving > 0.03 * w.present.energy:
            now, then = show(w.present.energy, "energy", prefs), show(cheap.energy, "energy", prefs)
            start += f" The cheapest that hold: {suggestion_text(cheap, present, heats, prefs)}, {then} instead of {now} a print."
        return start
    if near is not None:
        text = f"{change_that(near)}: {suggestion_text(near, present, heats, prefs)}."
        if cheap is not None and cheap.settings != near.settings and cheap.energy < 0.95 * near.energy:
            energy = show(cheap.energy, "energy", prefs)
            text += f" The cheapest: {suggestion_text(cheap, present, heats, prefs)}, {energy} a print."
        return text
    chance, beside = judgement.beside_temperature
    if beside and chance > judgement.risk:  # no temperature changes it: it is said before the map is
        text = f"No temperature helps while {clause(judgement, beside, prefs)}."
        if openers is None:
            return f"{text} What would help is being computed …"
        return f"{text} {openers_text(openers, present, heats, prefs)}"
    where = "on this map" if heats else "at this room temperature"
    if w.status == "found":
        text = f"The region {where} is small, and nothing in it has stood the exact judgement and the full simulation."
    elif (w.part_ok & w.reachable).any():
        text = f"What the part needs and what the machine stands do not meet {where}: {w.binding} lies between."
    else:
        text = f"No bed {'and chamber temperature' if heats else 'temperature'} {where} is enough: {w.binding} is not met anywhere."
    if not heats and w.almond.any():
        rows = w.y[w.almond.any(axis=1)]
        text += f" It would hold in a room of {show(float(rows.min()), 'temperature', prefs, digits=0)} or more." if (
            rows.min() > rig.room_temperature
        ) else ""  # fmt: skip
    if openers is None:
        return f"{text} What would open it is being computed …"
    return f"{text} {openers_text(openers, present, heats, prefs)}"


def openers_text(openers: Openers, present: Settings, rig_heats: bool, prefs: UnitPreferences) -> str:
    """What would open a window on which nothing holds, the best first, and the settings that it is pulled at."""
    plain = [v for v in openers.levers if v.chance < _HELPS][: 2 if openers.pairs else 4]
    moved = moves_text(openers.settings, present, rig_heats, prefs)
    place = f"with {moved}" if moved else "from these settings"
    pair = next((q for q in openers.pairs if q.chance < _HELPS), None)
    together = f"{pair_name(pair)} ({chance_text(pair)})" if pair is not None else ""
    if not plain and together:
        return f"No single lever opens it. What would help most together, {place}, {openers_by(openers)}: {together}."
    if not plain:
        return "No lever opens it, by itself or with another that helps: think of another shape, polymer or machine."
    listed = "; ".join(f"{v.name[0].lower()}{v.name[1:]} ({chance_text(v, in_short=v is not plain[0])})" for v in plain)
    text = f"What would help most, {place}, {openers_by(openers)}: {listed}."
    return f"{text} Two together: {together}." if together else text


class WithChance(Protocol):
    """What has a chance that anything fails, by a full simulation or not."""

    @property
    def chance(self) -> float: ...

    @property
    def simulated(self) -> bool: ...


def chance_in_table(helps: WithChance) -> str:
    """The chance that anything fails with what helps, below a heading that says so; a dash where it is not known."""
    if not math.isfinite(helps.chance):
        return "–"
    return f"{probability_text(helps.chance)}{', simulated' if helps.simulated else ''}"


def chance_text(helps: Lever | PairPulled, *, in_short: bool = False) -> str:
    """The chance that anything fails with what helps, and whether a full simulation says it."""
    what = "" if in_short else " that anything fails"
    return f"{probability_text(helps.chance)}{what}{', simulated' if helps.simulated else ''}"


def lever_remark(v: Lever, titles: Mapping[str, str]) -> str:
    """What a lever acts against, by the titles of failures, and whether its chance is a full simulation's."""
    return "; ".join([f"against: {titles[v.moves].lower()}"] * (v.moves in titles) + ["simulated"] * v.simulated)


def openers_by(openers: Openers) -> str:
    """By which models the chances of what would open a window are."""
    return f"by the quick models{' as full simulations correct them' if openers.corrected else ''}"


def place_by(openers: Openers) -> str:
    """By which models the chance of the likeliest place is."""
    return "by full simulation" if openers.simulated else openers_by(openers)


def pair_name(pair: PairPulled) -> str:
    """Two levers in words."""
    return " and ".join(f"{v.name[0].lower()}{v.name[1:]}" for v in (pair.first, pair.second))


def _by_which(quick: float, shown: float | None) -> str:
    """By which models something is said, unless the judgement that is ``shown`` everywhere says the same chance."""
    if shown is None:
        return "by the quick models"
    if probability_text(shown) == probability_text(quick):
        return ""
    return f"by the quick models (the full simulation says {probability_text(shown)})"


def signed_energy(value: float, prefs: UnitPreferences) -> str:
    """Energy (J) more or less than now; nothing that is less than what is shown."""
    text = show(abs(value), "energy", prefs)
    if not any(c in "123456789" for c in text):
        return "as now"
    return f"+{text}" if value > 0.0 else f"−{text}"


def worth_sentence(
    levers: Sequence[Worth],
    pairs: Sequence[PairPulled],
    judgement: Judgement,
    prefs: UnitPreferences = METRIC,
    shown: Judgement | None = None,
) -> str:
    """The lever that costs least for what it buys, the one that buys most of all, the best pair. ``judgement`` is that of the quick
    models, which levers are pulled in; ``shown`` the one that everybody shows."""
    now = probability_text(judgement.anything)
    by = _by_which(judgement.anything, shown.anything if shown is not None else None)
    plain = [w for w in levers if not w.lever.drastic]
    if not plain:
        return f"No lever by itself makes it likelier to hold than now ({now} that anything fails)."

    def named(w: Worth) -> str:
        cost = signed_energy(w.energy, prefs)
        return f"{w.lever.name[0].lower()}{w.lever.name[1:]} ({chance_in_table(w.lever)}, {cost})"

    best = min(plain, key=lambda w: w.lever.chance)
    if probability_text(best.lever.chance) == now:
        holds = "It holds" if judgement.whole is State.HOLDS else "It does not hold"
        text = (
            f"{holds} ({now} that anything fails{f' {by}' if by else ''}): no lever by itself makes it plainly likelier"
        )
        return f"{text}{_together(pairs, best.lever.chance)}."
    text = f"From {now} that anything fails{f' {by}' if by else ''}, one lever does most: {named(best)}"
    cheap = plain[0]
    if cheap is not best:
        text += f"; cheapest for what it buys: {named(cheap)}"
    return f"{text}{_together(pairs, best.lever.chance)}."


def _together(pairs: Sequence[PairPulled], alone: float) -> str:
    """The best pair, where it does more than the best lever does ``alone``."""
    if not pairs or probability_text(pairs[0].chance) == probability_text(alone) or pairs[0].chance > alone:
        return ""
    return f". Together, {pair_name(pairs[0])}: {chance_in_table(pairs[0])}"


def why_sentence(
    margin: float, chance: float, causes: Sequence[Cause], levers: Sequence[Lever], prefs: UnitPreferences = METRIC
) -> str:
    """The largest cause and the levers that lower the chance of failing most, in words; ``margin`` is the hold margin as it is,
    ``chance`` that anything fails."""
    free = [v for v in levers if not v.barred and not v.drastic]
    text = ""
    if causes and causes[0].margin > 1.01 * margin:
        text = f"{causes[0].name} does most to the grip: without it the hold margin would be {margin_text(causes[0].margin)} "
        text += f"instead of {margin_text(margin)}. "
    better = [v for v in free if v.moves]
    if not better:
        return text + "No lever by itself makes it hold better."
    best = better[0]
    if probability_text(best.chance) == probability_text(chance):
        return f"{text}No lever by itself makes it plainly likelier to hold ({probability_text(chance)} that anything fails)."
    lift = lift_figure(best.lift, prefs)
    text += f"{best.name} helps most: {chance_text(best)}, lift {lift}"
    if len(better) > 1:
        text += f"; then {better[1].name[0].lower()}{better[1].name[1:]} ({chance_in_table(better[1])})"
    flattest = min(free, key=lambda v: v.lift)
    if flattest is not best and flattest.lift < 0.8 * best.lift:
        text += f". Flattest: {flattest.name[0].lower()}{flattest.name[1:]}, {lift_figure(flattest.lift, prefs)}"
    return text + "."
