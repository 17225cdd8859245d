"""Levers and pairs of them as the page will judge them once they are set: each as a whole, the best of them run in full."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Final, NamedTuple

from mandorla.core.errors import InputError, SolverError
from mandorla.core.failure.registry import Judgement
from mandorla.core.part.sections import Sections
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.key import Key
from mandorla.core.results.registry import Have, computes
from mandorla.core.results.warp import CausesAndLevers
from mandorla.core.results.work import Work
from mandorla.core.runtime import RunContext
from mandorla.core.tune.levers import Correction, Lever, Pull, correction_of, pulled, ranked
from mandorla.core.tune.operating_point import Evaluation
from mandorla.core.tune.worth import (
    BETTER,
    ByRun,
    PairPulled,
    Worth,
    best_simulated,
    by_run,
    nearest,
    pair_by_run,
    pairs_of,
    together,
    worth_of,
)

_WORK: Final = 60.0  # s of full simulations for levers
_OF_PAIRS: Final = 30.0  # and for pairs of them


class LeversWorth(NamedTuple):
    """What each lever buys, the cheapest first, and pairs that work together, the likeliest to hold first; ``judgement`` is what
    their chances start from, at the ``present`` evaluation."""

    levers: tuple[Worth, ...]
    pairs: tuple[PairPulled, ...]
    judgement: Judgement
    present: Evaluation

    def by_runs(self, known: ByRun) -> LeversWorth:
        """The same with the chances of full simulations that are known by now."""
        levers = tuple(by_run(w.lever, known) for w in self.levers)
        pairs = tuple(pair_by_run(p, known) for p in self.pairs)
        if all(v is w.lever for v, w in zip(levers, self.levers, strict=True)) and pairs == self.pairs:
            return self
        return worth_of_all(levers, pairs, self.judgement, self.present)


@dataclass(slots=True)
class Place:
    """Levers are pulled at the state of a ``bundle``, evaluated ``there``; what full simulations say of it is ``known``. With
    ``check`` the best are run in full, as far as the ``work`` allows."""

    bundle: Bundle
    have: Have
    there: Evaluation
    known: Correction
    run: RunContext
    work: Work
    check: bool

    def exactly(self, pull: Pull) -> Judgement:
        """The quick judgement with its own unknowns, as the page has it once it is taken over."""
        self.run.checkpoint(0.5, "levers, each as a whole")
        p, geometry = self.bundle.project, self.have(keys.GEOMETRY)
        assert p.part is not None
        assert geometry is not None
        return pulled(pull, p.criteria, p.part.placement, self.there, geometry.file, with_bands=True).judgement.figures

    def beside(self, changes: Mapping[str, object]) -> Bundle:
        """The project with what a lever changes."""
        return Bundle(self.bundle.project.model_copy(update=dict(changes)), self.bundle.originals)

    def simulated(self, changes: Mapping[str, object] | None) -> Judgement | None:
        """The judgement by a full simulation; None where it is not asked for, no project has what is pulled, or no work is left."""
        if changes is None or not self.check:
            return None
        if not self.work.left:
            return None
        asked = self.have.beside(self.beside(changes))
        self.run.checkpoint(0.8, "the best levers, each run in full")
        try:
            self.work.simulated(
                lambda: asked.get(keys.FULL_RUN.of(resolution="draft", bodies="all"), self.run.silent())
            )
        except (SolverError, InputError):
            return None
        return asked.get(keys.JUDGEMENT.of(full="draft", bodies="all"))

    def levers(self, found: Sequence[Lever]) -> tuple[Lever, ...]:
        """Levers with the chances that the page will show, ranked anew; the best are run in full, and the best of those that do
        more than move the map's axes."""
        quick: dict[str, Judgement] = {}
        told = []
        for v in found:
            if v.pull is None or v.barred:
                told.append(v)
                continue
            quick[v.name] = self.exactly(v.pull)
            there = self.known.of(quick[v.name], drastic=v.drastic)
            told.append(v.told(there, there.anything))

        def simulated(v: Lever) -> Lever | None:
            full = self.simulated(v.changes)
            if full is None:
                return None
            return replace(v.told(full, full.anything), taught=correction_of(quick[v.name], full, self.known.off))

        for least in (False, True):
            allowed = [v for v in told if not v.barred and not (least and v.on_map)]
            others = [v for v in told if v.barred or (least and v.on_map)]
            told = [*best_simulated(allowed, simulated), *others]
        return ranked(told)

    def pairs(self, levers: Sequence[Lever], shape: Sections) -> tuple[PairPulled, ...]:
        """Pairs of these levers that may hold better than either, the likeliest first; what a full simulation of the better of both
        has taught counts."""
        p, geometry = self.bundle.project, self.have(keys.GEOMETRY)
        assert p.part is not None
        assert geometry is not None
        present = Pull(p.rig, p.settings, p.process, shape)
        told = []
        for q in pairs_of(
            levers, self.there, present, p.criteria, p.part.placement, geometry.file, self.run.silent(), self.known
        ):
            assert q.first.pull is not None
            assert q.second.pull is not None
            pull = together(present, q.first.pull, q.second.pull)
            judgement = nearest(q.first, q.second, self.known).of(self.exactly(pull))
            told.append(q._replace(chance=judgement.anything))

        def simulated(q: PairPulled) -> PairPulled | None:
            full = self.simulated(q.changes)
            return None if full is None else q._replace(chance=full.anything, simulated=True)

        return tuple(sorted(best_simulated(told, simulated), key=lambda q: q.chance))


def unchanged(levers: Sequence[Lever], otherwise: Sections) -> Sections:
    """The shape of levers that leave it as it is: the very object that their pulls hold."""
    return next((v.pull.shape for v in levers if v.pull is not None and v.changes is not None), otherwise)


def _here(key: Key[object], bundle: Bundle, have: Have, run: RunContext, by: Judgement, work: float) -> Place:
    """The project's own state, judged ``by`` the full run that a key tells of, if it does."""
    e, checked = have(keys.EVALUATION), bool(key["full"])
    known = correction_of(e.judgement, by) if checked else Correction()
    return Place(bundle, have, e, known, run, Work(work), check=checked)


@computes(keys.LEVERS_IN_FULL)
def levers_in_full(key: Key[CausesAndLevers], bundle: Bundle, have: Have, run: RunContext) -> CausesAndLevers:
    """Causes and levers of the part; each lever judged as a whole, the best of them run in full.

    Raises InputError without a part.
    """
    found = have(keys.CAUSES_AND_LEVERS.of(units=key["units"], full=key["full"], bodies=key["bodies"]))
    return replace(found, levers=_here(key, bundle, have, run, found.judgement, _WORK).levers(found.levers))


@computes(keys.LEVER_WORTH)
def lever_worth(key: Key[LeversWorth], bundle: Bundle, have: Have, run: RunContext) -> LeversWorth:
    """Levers by what they buy for energy and time, and pairs of them; ``simulated``: the best of both run in full. Raises
    InputError without a part."""
    p, e, geometry = bundle.project, have(keys.EVALUATION), have(keys.GEOMETRY)
    if geometry is None or p.part is None:
        raise InputError("There is no part: open one first.")
    by = {"units": key["units"], "full": key["full"], "bodies": key["bodies"]}
    found = have((keys.LEVERS_IN_FULL if key["simulated"] else keys.CAUSES_AND_LEVERS).of(**by))
    here = _here(key, bundle, have, run, found.judgement, _OF_PAIRS)
    shape = unchanged(found.levers, geometry.sections)
    if key["simulated"]:
        pairs = here.pairs(found.levers, shape)
    else:
        present = Pull(p.rig, p.settings, p.process, shape)
        pairs = pairs_of(found.levers, e, present, p.criteria, p.part.placement, geometry.file, run, here.known)
    return worth_of_all(found.levers, pairs, found.judgement, e)


def worth_of_all(
    levers: Sequence[Lever], pairs: Sequence[PairPulled], judgement: Judgement, present: Evaluation
) -> LeversWorth:
    """What levers and pairs buy from a judgement; pairs that are no better than one of both are left out."""
    by_name = {v.name: v for v in levers}
    both = []
    for q in pairs:
        first, second = (by_name.get(v.name, v) for v in (q.first, q.second))
        better = min(first.chance, second.chance) - q.chance
        if better > BETTER:
            both.append(q._replace(first=first, second=second, better=better))
    both.sort(key=lambda q: (round(q.chance, 2), q.energy))
    return LeversWorth(worth_of(levers, present, judgement.anything), tuple(both), judgement, present)
