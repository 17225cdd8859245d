"""What would open an operating window on which nothing holds: levers and pairs of them, the best of them simulated."""

from __future__ import annotations

from typing import Final, NamedTuple

from mandorla.core.failure.state import State
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.key import Key
from mandorla.core.results.levers import Place, unchanged
from mandorla.core.results.registry import Have, computes
from mandorla.core.results.suggestions import BUDGET, Search, likeliest_to_hold
from mandorla.core.results.work import Work
from mandorla.core.rig.settings import Settings
from mandorla.core.runtime import RunContext
from mandorla.core.tune.levers import Correction, Lever, correction_of, levers_of, lying_otherwise
from mandorla.core.tune.operating_point import Evaluation
from mandorla.core.tune.through_runs import off_at
from mandorla.core.tune.worth import OPENS, Openers, PairPulled

_NAMED: Final = 12  # levers that are named
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
    geometry = have(keys.GEOMETRY)
    assert geometry is not None
    by, placement = asked.judgement_key(), p.part.placement

    def pulled_at(settings: Settings, there: Evaluation, known: Correction) -> _Pulled:
        other = Bundle(p.model_copy(update={"settings": settings}), bundle.originals)
        place = Place(other, have, there, known, run, Work(BUDGET), check=key["check"])
        if settings == p.settings and key["check"] and by["full"]:
            # what *Levers* tells of this place
            same = keys.LEVERS_IN_FULL.of(units=key["units"], full=by["full"], bodies=by["bodies"])
            return _Pulled(place, asked.get(same, run).levers)
        return _Pulled(place, place.levers(levers_of(
            p.rig, settings, p.criteria, geometry.sections, p.process, placement, there, geometry.file, run, key["units"],
            lying_otherwise(geometry, key["units"]), known,
        )))  # fmt: skip

    likeliest = _likeliest_known(search, e, check=key["check"])
    at = pulled_at(*likeliest)
    if key["check"] and by["full"] and likeliest[0] != p.settings:
        full = asked.get(by)
        # where temperatures change next to nothing, levers may do more where the settings are
        if at.chance > full.anything - OPENS:
            here = pulled_at(p.settings, e, correction_of(e.judgement, full))
            at = min(here, at, key=lambda q: round(q.best, 2))
    said: list[PairPulled] = []
    if at.best > p.criteria.risk:
        # no lever by itself is enough: two of those that help, or hardly do, may be together
        both = at.place.pairs(at.offered, unchanged(at.offered, geometry.sections))
        said = [q._replace(better=at.best - q.chance) for q in both if at.best - q.chance > OPENS][:_PAIRS]
    settings, known = at.place.bundle.project.settings, at.place.known
    open_it = sorted((v for v in at.offered if v.chance < at.chance - OPENS), key=lambda v: (v.drastic, v.chance))
    return Openers(settings, at.chance, tuple(open_it[:_NAMED]), tuple(said), bool(known.off), known.run is not None)


class _Pulled(NamedTuple):
    """Levers pulled at a place."""

    place: Place
    levers: tuple[Lever, ...]

    @property
    def chance(self) -> float:
        """That anything fails there without them."""
        known = self.place.known
        return (known.run or known.of(self.place.there.judgement)).anything

    @property
    def offered(self) -> list[Lever]:
        """Those that do more than move the map's axes: the whole map is known."""
        return [v for v in self.levers if not v.barred and not v.on_map]

    @property
    def best(self) -> float:
        """The smallest chance with one lever, or with none; another polymer or standing is none."""
        return min([self.chance, *(v.chance for v in self.offered if not v.drastic)])


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
    return settings, there, correction_of(there.judgement, full)
