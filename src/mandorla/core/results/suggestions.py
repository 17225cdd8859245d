"""Suggestions of the stage Tune, proved by the full simulation before they are called checked."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Final

import numpy as np
from scipy.special import ndtri

from mandorla.core.errors import InputError, SolverError
from mandorla.core.failure.registry import Judgement
from mandorla.core.failure.state import State
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.key import Key
from mandorla.core.results.registry import Asked, Have, computes
from mandorla.core.results.tune import ground_of
from mandorla.core.results.warp import Printed, simulate
from mandorla.core.results.work import Work
from mandorla.core.rig.settings import Settings
from mandorla.core.runtime import RunContext
from mandorla.core.tune.operating_point import Evaluation, judged_in_full
from mandorla.core.tune.simulated_point import SimulatedPoint
from mandorla.core.tune.suggestion import (
    CHECKED,
    NOT_PROVED,
    NOT_YET,
    Suggestion,
    deviating,
    failing_point,
    what_must_be_wrong,
)
from mandorla.core.tune.through_runs import off_at, through_runs
from mandorla.core.tune.window import Ground, relearned
from mandorla.core.tune.window_map import LOADS, Point, Window, candidates, settings_at
from mandorla.core.warp.fe_result import FullRun
from mandorla.core.warp.unknowns import MAGNET, MOVED, moved

# s of full simulations before it is said that nothing is proved yet
BUDGET: Final = 60.0
RESERVES: Final = (
    0.0,
    0.15,
    0.3,
    0.5,
    0.8,
    1.2,
    1.7,
)  # standard deviations inside the almond that are tried one after another
_MOST_SHOWN: Final = 2.0  # ln of a margin by which a full simulation moves the map that is shown
_MOST_SHIFT: Final = 0.6  # ln of a margin that one full simulation may teach
SEEN: Final = ("nearest", "cheapest")
# standard deviations short of a chance of 10 % at which a full simulation may still show that it holds: likelier than not
_UNSURE: Final = -1.28
_PLACES: Final = (0, 2, 6, 16, 40, 100)  # of the candidates in their order that are judged exactly, the best first
_WORTH: Final = 0.97  # of a suggestion's energy below which another one is worth a look
_SAMPLED: Final = 24  # cheaper points that are judged exactly
_KNOWN: Final = (*MOVED, MAGNET)  # unknowns that a full simulation can be moved in
_CHEAPER: Final = 30.0  # s of full simulations for them, counted likewise
_EXACTLY: Final = 0.05  # s for a whole evaluation by the quick models
_PROOFS: Final = 5  # and that are simulated, the cheapest first
_SOAKED: Final = (0.0, 0.25, 0.5, 1.0)  # of a soak, that are tried for the fastest
_WORTH_WAITING: Final = 120.0  # s that the fastest has to be done sooner
_LAST: Final = 3  # likeliest places that are run in full where nothing else has stood
_EXPLORED: Final = 6  # points that are looked at where what was learned leaves nothing
_BARE: Final = "Without a part fan overhangs, bridges and small layers come out less clean"
_TRIED: Final = 8  # bed set points that are judged exactly where nothing on the map holds


@dataclass(frozen=True, slots=True)
class SettingsCheck:
    """The full ``run`` that the settings as they are were checked by, ``of`` which result it is; without one, the ``problem``
    that stood in its way (empty: there is no part that could be simulated)."""

    of: Key[FullRun] | None = None
    run: FullRun | None = None
    problem: str = ""


@dataclass(frozen=True, slots=True)
class Suggested:
    """What is offered, the smallest change first, and the map as it is after the full simulations that were run for it: it passes
    through what they say. ``runs`` are those simulations."""

    offers: tuple[Suggestion, ...]
    window: Window
    runs: tuple[SimulatedPoint, ...] = ()


@dataclass(slots=True)
class Search:
    """A search under way: the map as it was (``first``) and as it is after what full simulations have taught, ln of margins by
    failure (``shifts``); the settings that were simulated (``tried``), those that ``failed``, and by how much each was off where
    (``runs``); what ``stood`` at typical figures though not at its likeliest failing point; the ``work`` that it may do."""

    bundle: Bundle
    have: Have
    window: Window
    run: RunContext
    work: Work
    shifts: dict[str, float]
    first: Window
    tried: set[str]
    failed: set[str]
    runs: list[SimulatedPoint]
    ground: Ground
    stood: list[tuple[Settings, Evaluation, Judgement, str, str]]

    @classmethod
    def begin(cls, bundle: Bundle, have: Have, window: Window, run: RunContext) -> Search:
        """A search on a map, with all its work before it."""
        ground = ground_of(bundle, have(keys.EVALUATION), have(keys.GEOMETRY))
        return cls(bundle, have, window, run, Work(BUDGET), {}, window, set(), set(), [], ground, [])

    def state(self, settings: Settings) -> tuple[Bundle, Asked]:
        """The project at some settings, and its results on the same shelf."""
        other = Bundle(self.bundle.project.model_copy(update={"settings": settings}), self.bundle.originals)
        return other, self.have.beside(other)

    def note(self, settings: Settings, quick: Judgement, full: Judgement) -> None:
        """Keep by how much a full simulation is off the quick margins, ln, and where on the map."""
        there = {}
        for key in LOADS:
            a, b = quick.assessed.get(key), full.assessed.get(key)
            if a is not None and b is not None:
                there[key] = float(np.clip(min(b.margin, 3.0) - min(a.margin, 3.0), -_MOST_SHOWN, _MOST_SHOWN))
        self.runs.append(SimulatedPoint(settings, full.whole, there, full.order))

    def shown(self) -> Window:
        """The map as it was, moved so that it passes through every full simulation."""
        return through_runs(self.first, self.runs, self.ground)

    def learn(self, quick: Judgement, full: Judgement) -> bool:
        """Take over how far a full simulation is below the quick margins; whether there was anything to learn."""
        found = False
        for key in LOADS:
            a, b = quick.assessed.get(key), full.assessed.get(key)
            if a is None or b is None:
                continue
            off = max(min(b.margin, 3.0) - min(a.margin, 3.0), -_MOST_SHIFT)
            if off < self.shifts.get(key, 0.0) - 0.02:
                self.shifts[key], found = off, True
        return found

    def judged(self, point: Point) -> tuple[Settings, Evaluation]:
        """A point exactly, by the quick models."""
        p = self.bundle.project
        settings = settings_at(point, p.rig, p.settings)
        _, asked = self.state(settings)
        self.work.spent += _EXACTLY
        return settings, asked.get(keys.EVALUATION)

    def offered(self, which: str, *, explore: bool) -> tuple[Point, Settings, Evaluation] | None:
        """The best point that holds exactly, farther inside the almond where the map was too hopeful; None where none was found."""
        p = self.bundle.project
        seen: set[str] = set()
        for reserve in RESERVES:
            found = candidates(self.window, which, reserve)
            places = sorted({n for n in (*_PLACES, len(found) // 3) if n < len(found)})
            for point in (found[n] for n in places):
                settings, e = self.judged(point)
                if str(settings) in seen or str(settings) in self.failed:
                    continue
                seen.add(str(settings))
                if e.judgement.anything <= p.criteria.risk and e.judgement.whole is not State.FAILS:
                    return point, settings, e
        return self.explored(which) if explore else None

    def explored(self, which: str) -> tuple[Point, Settings, Evaluation] | None:
        """Where the map, or what was learned of it, leaves nothing: the points that are likeliest by what is known now and were not
        simulated yet. One failed run elsewhere does not prove them lost; and where the quick models alone are not sure enough, a
        full simulation, which takes their own error out, may be."""
        p, chance = self.bundle.project, self.window.chance
        held = candidates(self.first, which)
        order = sorted(
            held or candidates(self.first, which, _UNSURE),
            key=lambda q: chance[self.window.index_of(q.x, q.y)],
        )
        for point in order[: _EXPLORED * len(RESERVES) : len(RESERVES)]:
            settings, e = self.judged(point)
            if str(settings) in self.tried or e.judgement.whole is State.FAILS:
                continue
            if not held or e.judgement.anything <= p.criteria.risk:
                return point, settings, e
        return None


@computes(keys.SETTINGS_CHECK)
def settings_check(_: Key[SettingsCheck], bundle: Bundle, have: Have, run: RunContext) -> SettingsCheck:
    """Run the settings as they are in full, at draft, unless a full run of them is there: the judgement is by it from then on.

    A case that cannot be simulated stays judged by the quick models, and says why.
    """
    e = have(keys.EVALUATION)
    if have(keys.GEOMETRY) is None or e.part is None or e.fit_problem:
        return SettingsCheck()
    asked = have.beside(bundle)
    by = asked.judgement_key()
    key = keys.FULL_RUN.of(resolution=by["full"] or "draft", bodies=by["bodies"])
    try:
        return SettingsCheck(key, asked.get(key, run))
    except SolverError as error:
        return SettingsCheck(problem=f"These settings could not be checked by full simulation: {error.message}")


@computes(keys.SUGGESTIONS)
def suggestions(key: Key[Suggested], bundle: Bundle, have: Have, run: RunContext) -> Suggested:
    """The smallest change and the cheapest settings that hold, checked by full simulations where that is asked for.

    A candidate is run at draft resolution at typical figures and at the likeliest point at which it fails on the contour of the
    accepted chance; where one fails, the search goes on from what was learned. Empty where nothing on the map holds.

    Raises
    ------
    InputError
        Without a part.
    Cancelled
        When asked to stop.
    """
    p, window = bundle.project, have(keys.WINDOW)
    e = have(keys.EVALUATION)
    if e.part is None:
        raise InputError("There is no part: open one first.")
    search = Search.begin(bundle, have, window, run)
    if key["check"] and have(keys.SETTINGS_CHECK).run is not None:
        asked = have.beside(bundle)
        search.note(p.settings, e.judgement, asked.get(asked.judgement_key()))
    found: dict[str, Suggestion] = {}
    proofs: dict[str, tuple[str, Judgement, str]] = {}
    checked: dict[str, Suggestion] = {}
    for turn in range(12):
        found = {}
        taught = simulated = False
        for n, which in enumerate(SEEN):
            if which in checked:
                found[which] = checked[which]
                continue
            offer = search.offered(which, explore=key["check"] and not checked)
            if offer is None:
                continue
            point, settings, there = offer
            run.checkpoint(min(0.95, (turn * 2 + n) / 16.0), "checking suggestions")
            proof, judgement, wrong = NOT_YET, there.judgement, ""
            if key["check"]:
                if str(settings) not in proofs:
                    try:
                        proofs[str(settings)], learned = _proved(search, settings, there)
                    except SolverError:  # what cannot be simulated is not proved, and the search goes on
                        proofs[str(settings)], learned = (NOT_PROVED, there.judgement, ""), False
                    taught, simulated = taught or learned, True
                    search.tried.add(str(settings))
                proof, judgement, wrong = proofs[str(settings)]
                if proof not in (CHECKED, NOT_YET):
                    search.failed.add(str(settings))
                if proof == CHECKED and there.judgement.anything > p.criteria.risk:
                    wrong += f". The quick estimate alone is less sure: {100 * there.judgement.anything:.0f} % that anything fails"
            else:
                wrong = what_must_be_wrong(there.judgement, _KNOWN)
            energy = there.energy.total if there.energy is not None else float("nan")
            second = settings.chamber if p.rig.heats_chamber else point.y
            place = replace(point, x=settings.bed_rest, y=second)
            found[which] = Suggestion(which, place, settings, judgement, energy, _until_done(there), proof, wrong)
            if proof == CHECKED:
                checked[which] = found[which]
        unproved = [s for s in found.values() if s.proof != CHECKED]
        if not key["check"] or not unproved or not simulated or not search.work.left:
            break
        if taught:
            search.window = relearned(window, search.shifts, search.ground)
    if "cheapest" in checked:
        found["cheapest"] = _cheaper(search, checked["cheapest"])
    # what was simulated and failed is not offered, nor what is likelier to fail than is accepted and was not simulated
    risk = p.criteria.risk
    kept = {which: s for which, s in found.items() if s.proof != "fails" and s.judgement.anything <= risk}
    if not kept and key["check"] and (last := _found_last(search, e)) is not None:
        kept["nearest"] = last
    more = _safest_and_fastest(search, tuple(kept.values()), check=key["check"]) if kept else ()
    run.checkpoint(1.0, "done")
    shown = search.shown()
    if not kept:
        return Suggested(_without_fan(key, bundle, have, run), shown, tuple(search.runs))
    # where one of both was not proved, the other is the smallest and the cheapest that is known
    known = next(iter(kept.values()))
    if (
        len(kept) == len(SEEN)
        and kept["nearest"].energy <= kept["cheapest"].energy
        and kept["nearest"].proof == CHECKED
    ):
        kept["cheapest"] = replace(kept["nearest"], key="cheapest")  # the search for a cheaper one has found none
    return Suggested(
        (*(kept.get(which, replace(known, key=which)) for which in SEEN), *more), shown, tuple(search.runs)
    )


def _found_last(search: Search, now: Evaluation) -> Suggestion | None:
    """Where nothing that was looked for has stood: what holds in full where that was tried, though not at its likeliest failing
    point; else the places that are likeliest to hold by then, run in full, a few times. None where none holds."""
    p = search.bundle.project
    search.work.anew(_CHEAPER)
    for _ in range(_LAST):
        if search.stood or not search.work.left:
            break
        settings, there = likeliest_to_hold(search, now)
        if settings == p.settings or str(settings) in search.tried:
            break
        search.tried.add(str(settings))
        try:
            (proof, judgement, wrong), _ = _proved(search, settings, there)
        except SolverError:
            continue
        if proof == CHECKED:
            search.stood.append((settings, there, judgement, proof, wrong))
    if not search.stood:
        return None
    settings, there, judgement, proof, wrong = min(search.stood, key=lambda found: found[2].order)
    y = settings.chamber if p.rig.heats_chamber else search.window.present.y
    place = replace(search.window.point(*search.window.index_of(settings.bed_rest, y)), x=settings.bed_rest, y=y)
    energy = there.energy.total if there.energy is not None else float("nan")
    return Suggestion(SEEN[0], place, settings, judgement, energy, _until_done(there), proof, wrong)


def _until_done(e: Evaluation) -> float:
    """Time (s) from switching on to the end of the print."""
    return sum(p.duration for p in e.energy.phases[:3]) if e.energy is not None else float("nan")


def _safest_and_fastest(search: Search, known: tuple[Suggestion, ...], *, check: bool) -> tuple[Suggestion, ...]:
    """The settings farthest from every edge; and of all that is known, with shorter soaks, what is done soonest; each is
    offered only where it is no other suggestion again and, with ``check``, has stood its full simulations."""
    p, found = search.bundle.project, list[Suggestion]()
    search.work.anew(_CHEAPER)

    def offer(which: str, settings: Settings, e: Evaluation, point: Point) -> Suggestion | None:
        if e.judgement.anything > p.criteria.risk or e.judgement.whole is State.FAILS or e.energy is None:
            return None
        proof, judgement, wrong = NOT_YET, e.judgement, what_must_be_wrong(e.judgement, _KNOWN)
        if check:
            try:
                (proof, judgement, wrong), _ = _proved(search, settings, e)
            except SolverError:
                return None
            if proof != CHECKED:
                return None
        return Suggestion(which, point, settings, judgement, e.energy.total, _until_done(e), proof, wrong)

    places = candidates(search.window, "safest")
    if places:
        settings, e = search.judged(places[0])
        same = next((s for s in known if s.settings == settings), None)
        made = replace(same, key="safest") if same is not None else offer("safest", settings, e, places[0])
        if made is not None and made.judgement.anything <= min(s.judgement.anything for s in known):
            found.append(made)
    ways: dict[str, tuple[float, Settings, Evaluation, Point]] = {}
    for s in (*known, *found):
        for share in _SOAKED:
            settings = s.settings.model_copy(
                update={"soak_time": float(round(share * s.settings.soak_time / 60.0) * 60)}
            )
            e = search.state(settings)[1].get(keys.EVALUATION)
            ways[str(settings)] = (_until_done(e), settings, e, s.point)
    soonest = min(s.duration for s in (*known, *found))
    for duration, settings, e, point in sorted(ways.values(), key=lambda w: w[0])[:_PROOFS]:
        if duration > soonest - _WORTH_WAITING or not search.work.left:
            break
        made = offer("fastest", settings, e, point)
        if made is not None:
            found.append(made)
            break
    return tuple(found)


def _without_fan(key: Key[Suggested], bundle: Bundle, have: Have, run: RunContext) -> tuple[Suggestion, ...]:
    """What holds with the part fan off, where nothing holds with it: searched and checked as the project would be then."""
    p = bundle.project
    if p.settings.fan <= 0.0:
        return ()
    settings = p.settings.model_copy(update={"fan": 0.0})
    other = Bundle(p.model_copy(update={"settings": settings}), bundle.originals)
    asked = have.beside(other)
    run.checkpoint(0.5, "looking for settings with the part fan off")
    offers = asked.get(key, run).offers
    if offers:
        return tuple(replace(s, wrong=f"{s.wrong}. {_BARE}".lstrip(". ")) for s in offers)
    e = asked.get(keys.EVALUATION)
    judgement = e.judgement
    if key["check"]:
        check = asked.get(keys.SETTINGS_CHECK, run)
        if check.run is None:
            return ()
        judgement = asked.get(asked.judgement_key())
    if judgement.whole is not State.HOLDS or e.energy is None:
        return ()
    # it holds as it is without the fan: nothing else needs to move
    window = asked.get(keys.WINDOW, run)
    proof = CHECKED if key["check"] else NOT_YET
    only = Suggestion(SEEN[0], window.present, settings, judgement, e.energy.total, _until_done(e), proof, _BARE)
    return only, replace(only, key=SEEN[1])


def _cheaper(search: Search, best: Suggestion) -> Suggestion:
    """What is cheaper than a checked suggestion and holds as well: points that cost less, where the map is unsure or was too grim,
    are judged exactly, the cheapest that hold are simulated, as many as there is time for."""
    p, offered = search.bundle.project, {str(best.settings)}
    cheaper = [q for q in candidates(search.first, "cheapest", _UNSURE) if q.energy < _WORTH * best.energy]
    cheaper.sort(key=lambda q: q.energy)
    held: list[tuple[float, Point, Settings, Evaluation]] = []
    for point in cheaper[:: max(1, len(cheaper) // _SAMPLED)]:
        search.run.checkpoint(0.95, "looking for what costs less")
        settings, e = search.judged(point)
        if str(settings) in offered | search.failed or e.energy is None or e.energy.total >= _WORTH * best.energy:
            continue
        offered.add(str(settings))
        if e.judgement.anything <= p.criteria.risk and e.judgement.whole is not State.FAILS:
            held.append((e.energy.total, point, settings, e))
    held.sort(key=lambda found: found[0])
    search.work.anew(_CHEAPER)
    for energy, point, settings, e in held[:_PROOFS]:
        if not search.work.left:
            break
        try:
            (proof, judgement, wrong), _ = _proved(search, settings, e)
        except SolverError:
            continue
        if proof == CHECKED:
            second = settings.chamber if p.rig.heats_chamber else point.y
            place = replace(point, x=settings.bed_rest, y=second)
            return Suggestion("cheapest", place, settings, judgement, energy, _until_done(e), proof, wrong)
    return best


def _point_of(judgement: Judgement, risk: float) -> Mapping[str, float]:
    worst = judgement.likeliest
    return failing_point(judgement.counted[worst], float(-ndtri(risk)), _KNOWN) if worst in LOADS else {}


def _proved(search: Search, settings: Settings, e: Evaluation) -> tuple[tuple[str, Judgement, str], bool]:
    """Run a candidate in full, at typical figures and where it is likeliest to fail; the proof, and whether a failure taught
    something."""
    p = search.bundle.project
    at = _point_of(e.judgement, p.criteria.risk)
    if not search.work.left:
        return (NOT_PROVED, e.judgement, what_must_be_wrong(e.judgement, _KNOWN)), False
    other, asked = search.state(settings)
    search.work.simulated(lambda: asked.get(keys.FULL_RUN.of(resolution="draft", bodies="all"), search.run))
    judgement = asked.get(keys.JUDGEMENT.of(full="draft", bodies="all"))
    search.note(settings, e.judgement, judgement)
    wrong = what_must_be_wrong(judgement, _KNOWN)
    if judgement.anything > p.criteria.risk or judgement.whole is State.FAILS:
        return ("fails", judgement, wrong), search.learn(e.judgement, judgement)
    # what holds far inside teaches nothing about where the edge is
    taught = False
    if not at:
        return (CHECKED, judgement, wrong), taught
    if not search.work.left:
        return (NOT_PROVED, judgement, wrong), taught
    geometry = asked.get(keys.GEOMETRY)
    assert geometry is not None
    assert e.part is not None
    assert e.conditions is not None
    part, where = moved(e.part, e.conditions, at)
    worse = replace(e, part=part, conditions=where)
    printed = Printed(other, geometry, worse)
    run = search.work.simulated(
        lambda: simulate(printed, "draft", search.run, together=True, magnet=at.get(MAGNET, 0.0))
    )
    there = judged_in_full(worse, p.rig, settings, p.criteria, run)
    lost = [k for k in LOADS if k in there.assessed and there.assessed[k].margin < 0.0]
    if not lost:
        return (CHECKED, judgement, f"{wrong}. Simulated with {deviating(at)}, too: it holds".lstrip(". ")), taught
    # at the contour of the accepted chance its margin should just be nought
    for key in lost:
        off = max(there.assessed[key].margin, -_MOST_SHIFT)
        if off < search.shifts.get(key, 0.0) - 0.02:
            search.shifts[key], taught = off, True
    search.stood.append((settings, e, judgement, NOT_PROVED, wrong))
    return ("fails", judgement, wrong), taught


def likeliest_to_hold(search: Search, now: Evaluation) -> tuple[Settings, Evaluation]:
    """The point of a map without an almond, or the project's own settings (evaluated: ``now``), at which the whole judgement,
    limits included, is likeliest to hold by the quick models as full simulations have corrected them. What no temperature changes
    is mended where the settings are: by it every place of the map looks the same."""
    window, p = search.window, search.bundle.project
    if now.judgement.beside_temperature[0] > p.criteria.risk:
        return p.settings, now
    allowed = window.machine_ok & window.reachable
    if not allowed.any():
        allowed = window.reachable
    chance = np.where(allowed, window.unlikely, 2.0)
    # the map knows what the part's loads do; how near the limits are is judged exactly at its best bed set points
    beds = np.flatnonzero(allowed.any(axis=0))
    tried = {int(np.argmin(chance.min(axis=0)))} | {int(j) for j in beds[:: max(1, beds.size // _TRIED)]}
    judged = [search.judged(window.point(int(np.argmin(chance[:, j])), j)) for j in sorted(tried)]
    own = [(p.settings, now)] if allowed[window.index_of(window.present.x, window.present.y)] else []

    def order(found: tuple[Settings, Evaluation]) -> tuple[bool, float, float]:
        return found[1].judgement.moved(off_at(found[0], p.rig, search.runs)).order

    return min([*own, *judged], key=order)
