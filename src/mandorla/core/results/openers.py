"""What would open an operating window on which nothing holds: levers and pairs of them, the best of them simulated."""

from __future__ import annotations

from dataclasses import replace
from typing import Final

from mandorla.core.errors import SolverError
from mandorla.core.failure.state import State
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.key import Key
from mandorla.core.results.registry import Have, computes
from mandorla.core.results.suggestions import BUDGET, Search, likeliest_to_hold
from mandorla.core.rig.settings import Settings
from mandorla.core.runtime import RunContext
from mandorla.core.tune.levers import Correction, Pull, correction_of, levers_of, lying_otherwise, pulled
from mandorla.core.tune.operating_point import Evaluation
from mandorla.core.tune.through_runs import off_at
from mandorla.core.tune.worth import Openers, PairPulled, best_simulated, pairs_of, together

_OPENS: Final = 0.02  # of chance, less than which a lever opens nothing
_NAMED: Final = 12  # levers that are judged as a whole, each by itself
_PAIRS: Final = 3  # of levers, named where none by itself is enough


@computes(keys.OPENERS)
def openers(key: Key[Openers], bundle: Bundle, have: Have, run: RunContext) -> Openers:
    """What would open the window where nothing on it holds, or has stood the full simulation: levers pulled at the point that is
    likeliest to hold by the whole judgement, the best first; empty where something holds."""
    e, p, found = have(keys.EVALUATION), bundle.project, have(keys.SUGGESTIONS.of(check=key["check"]))
    nothing = Openers(p.settings, e.judgement.anything, ())
    if e.part is None or p.part is None or found.offers:
        return nothing
    asked = have.beside(bundle)
    if asked.get(asked.judgement_key()).whole is State.HOLDS:
        return nothing
    search = Search.begin(bundle, have, found.window, run)
    search.runs.extend(found.runs)
    settings, there, known = _likeliest_known(search, e, check=key["check"])
    other = Bundle(p.model_copy(update={"settings": settings}), bundle.originals)
    geometry = have.beside(other).get(keys.GEOMETRY)
    assert geometry is not None
    levers = levers_of(
        p.rig, settings, p.criteria, geometry.sections, p.process, p.part.placement, there, geometry.file, run, key["units"],
        lying_otherwise(geometry, key["units"]), known,
    )  # fmt: skip
    # what only moves along the map's axes opens nothing: the whole map is known
    chance = known.run.anything if known.run is not None else known.of(there.judgement).anything

    def exactly(pull: Pull, *, drastic: bool = False) -> float:
        """The chance that the page will show once it is taken over, with its own unknowns."""
        run.checkpoint(0.97, "what would open it")
        e = pulled(pull, p.criteria, p.part.placement, there, geometry.file, with_bands=True)  # type: ignore[union-attr]
        return known.of(e.judgement, drastic=drastic).anything

    def simulated(pull: Pull | None) -> float | None:
        """The chance by a full simulation; None where it is not asked for, no project has what is pulled, or no work is left."""
        change = None if pull is None else pull.changes(geometry.sections)
        if change is None or not key["check"] or not search.left:
            return None
        asked = have.beside(Bundle(p.model_copy(update=change), bundle.originals))
        try:
            search.simulated(lambda: asked.get(keys.FULL_RUN.of(resolution="draft", bodies="all"), run.silent()))
        except SolverError:
            return None
        return asked.get(keys.JUDGEMENT.of(full="draft", bodies="all")).anything

    search.anew(BUDGET)
    helping = [v for v in levers if not v.barred and not v.on_map and v.chance < chance - _OPENS][:_NAMED]
    exact = [replace(v, chance=exactly(v.pull, drastic=v.drastic)) if v.pull is not None else v for v in helping]
    exact = best_simulated(exact, lambda v: v.pull, simulated, lambda v, c: replace(v, chance=c, simulated=True))
    exact.sort(key=lambda v: (v.drastic, v.chance))
    open_it = tuple(v for v in exact if v.chance < chance - _OPENS)
    alone = [v.chance for v in open_it if not v.drastic]
    if min(alone, default=1.0) <= p.criteria.risk:
        return Openers(settings, chance, open_it, corrected=bool(known.off), simulated=known.run is not None)
    # no lever by itself is enough: two of those that help, or hardly do, may be together
    present = Pull(p.rig, settings, p.process, geometry.sections)
    offered = [v for v in levers if not v.on_map]
    both = pairs_of(offered, there, present, p.criteria, p.part.placement, geometry.file, run.silent(), known)
    best, said = min([chance, *alone]), []
    for q in both[:_PAIRS]:
        said.append(q._replace(chance=exactly(_both(present, q))))
    said = best_simulated(
        said, lambda q: _both(present, q), simulated, lambda q, c: q._replace(chance=c, simulated=True)
    )
    said = [q._replace(better=best - q.chance) for q in said if best - q.chance > _OPENS]
    return Openers(
        settings, chance, open_it, tuple(sorted(said, key=lambda q: q.chance)), bool(known.off), known.run is not None
    )


def _both(present: Pull, pair: PairPulled) -> Pull:
    assert pair.first.pull is not None
    assert pair.second.pull is not None
    return together(present, pair.first.pull, pair.second.pull)


def _likeliest_known(search: Search, now: Evaluation, *, check: bool) -> tuple[Settings, Evaluation, Correction]:
    """The place that is likeliest to hold, and what full simulations tell of it: with ``check`` the likeliest that was run in full,
    by its own judgement."""
    p = search.bundle.project
    settings, there = likeliest_to_hold(search, now)
    # where no temperature mends it, it is mended where the settings are
    known = [r for r in search.runs if settings != p.settings or r.settings == settings]
    if not check or not known:
        return settings, there, Correction(off_at(settings, p.rig, search.runs))
    settings = min(known, key=lambda r: r.order).settings
    _, asked = search.state(settings)
    by = asked.judgement_key()
    there = asked.get(keys.EVALUATION)
    full = asked.get(by if by["full"] else keys.JUDGEMENT.of(full="draft", bodies="all"))
    return settings, there, correction_of(there.judgement, full, off_at(settings, p.rig, search.runs))
