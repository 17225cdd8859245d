"""What levers buy for energy and time, from the present point, and which two of them work together."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import combinations
from typing import Any, Final, NamedTuple, TypeVar

from pydantic import ValidationError

from mandorla.core.failure.registry import Judgement
from mandorla.core.part.gcode import PrintFile
from mandorla.core.part.process import Placement, Process
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.runtime import RunContext
from mandorla.core.tune.levers import Correction, Lever, Pull, chance_with, correction_of, pulled, ranked
from mandorla.core.tune.operating_point import Evaluation

OPENS: Final = 0.02  # of chance, less than which a lever opens nothing
_IN_PAIRS: Final = 7  # levers of which pairs are tried, the best by themselves
BETTER: Final = 0.005  # by which a pair has to be likelier to hold than the better of both
_SIMULATED: Final = 4  # of what helps that are run in full
_FREE: Final = (0.005 * 3.6e6, 60.0)  # J and s that count as nothing

ByRun = Callable[[Mapping[str, object]], Judgement | None]  # the judgement by a full run of a project with changes


class Worth(NamedTuple):
    """What a lever buys: chance that anything fails less (``safer``, share), more ``energy`` (J) and time until the print ends
    (``later``, s); what each kWh and each hour buys (share; infinite where it costs none, negative where it makes it worse)."""

    lever: Lever
    safer: float
    energy: float
    later: float
    per_kwh: float
    per_hour: float


class PairPulled(NamedTuple):
    """Two levers pulled together: chance that anything fails, energy (J) and time (s) more than now, and by how much it is likelier
    to hold than with the better of both alone (share); ``simulated`` where the chance is a full simulation's; ``changes`` is what
    both set, by path (None: no field sets it)."""

    first: Lever
    second: Lever
    chance: float
    energy: float
    later: float
    better: float
    simulated: bool = False
    changes: Mapping[str, object] | None = None


@dataclass(frozen=True, slots=True)
class Openers:
    """What would open a window on which nothing holds: the ``levers``, the best first, each pulled at ``settings``, where the
    ``chance`` that anything fails is the smallest on the map; ``pairs`` of them, where none by itself is enough. By the quick
    models, ``corrected`` where full simulations were run on the map; the best of them simulated where that was asked for, and the
    place itself where it is ``simulated``."""

    settings: Settings
    chance: float
    levers: tuple[Lever, ...]
    pairs: tuple[PairPulled, ...] = ()
    corrected: bool = False
    simulated: bool = False

    def by_runs(self, known: ByRun) -> Openers:
        """The same with the chances of full simulations that are known by now, what opens nothing by them left out."""
        levers = ranked([by_run(v, known) for v in self.levers])
        pairs = sorted((pair_by_run(q, known) for q in self.pairs), key=lambda q: q.chance)
        best = min((v.chance for v in levers if not v.drastic), default=self.chance)
        return replace(
            self, levers=tuple(v for v in levers if v.chance < self.chance - OPENS),
            pairs=tuple(q._replace(better=best - q.chance) for q in pairs if best - q.chance > OPENS),
        )  # fmt: skip


_Helps = TypeVar("_Helps", Lever, PairPulled)


def by_run(v: Lever, known: ByRun) -> Lever:
    """A lever with the chance of its own full simulation, where one is known."""
    full = known(v.changes) if v.changes is not None and v.judged is not None else None
    if full is None or v.judged is None or (v.simulated and full.anything == v.chance):
        return v
    return replace(v.told(full, full.anything), taught=correction_of(v.judged, full))


def pair_by_run(q: PairPulled, known: ByRun) -> PairPulled:
    """A pair with the chance of its own full simulation, where one is known."""
    full = known(q.changes) if q.changes is not None else None
    return q if full is None else q._replace(chance=full.anything, simulated=True)


def nearest(a: Lever, b: Lever, otherwise: Correction) -> Correction:
    """What full simulations say nearest to two levers at once: that of the better one, where it was run."""
    better = min(a, b, key=lambda v: (not v.simulated, v.chance))
    return better.taught or otherwise


def best_simulated(found: Sequence[_Helps], simulated: Callable[[_Helps], _Helps | None]) -> list[_Helps]:
    """What helps, with the chances of full simulations for the best of it: the likeliest to hold is simulated, and where that makes
    it worse the next, until the best is one that was, a few times. Those that are another polymer or standing come last."""
    left: list[_Helps] = sorted((v for v in found if not v.simulated), key=lambda v: (_drastic(v), v.chance))
    done: list[_Helps] = [v for v in found if v.simulated]
    for _ in range(_SIMULATED):
        if not left or (done and min(v.chance for v in done) <= left[0].chance) or _drastic(left[0]):
            break
        v = left.pop(0)
        done.append(simulated(v) or v)
    done.extend(left)
    return done


def _drastic(v: Lever | PairPulled) -> bool:
    return isinstance(v, Lever) and v.drastic


class Clash(Exception):
    """Two levers that cannot be pulled together."""


def worth_of(levers: Sequence[Lever], base: Evaluation, chance: float) -> tuple[Worth, ...]:
    """Levers that are allowed and make it likelier to hold than the ``chance`` that anything fails without them, those first that
    cost neither energy nor time, then by what a kWh buys."""
    assert base.energy is not None
    now, done = base.energy.total, sum(p.duration for p in base.energy.phases[:3])
    found = []
    for v in levers:
        safer = chance - v.chance
        if v.barred or not safer > BETTER:
            continue
        more, later = v.energy - now, v.done - done
        found.append(
            Worth(v, safer, more, later, _per(safer, more, _FREE[0], 3.6e6), _per(safer, later, _FREE[1], 3600.0))
        )
    found.sort(key=lambda w: (w.lever.drastic, -w.per_kwh, -w.safer))
    return tuple(found)


def _per(safer: float, more: float, free: float, unit: float) -> float:
    return float("inf") if more <= free else safer * unit / more


def pairs_of(
    levers: Sequence[Lever], base: Evaluation, present: Pull, criteria: Criteria, placement: Placement,
    file: PrintFile | None = None, run: RunContext | None = None, simulated: Correction | None = None,
) -> tuple[PairPulled, ...]:  # fmt: skip
    """Pairs of the best levers that hold better than either alone, the likeliest first; two that set the same thing are no pair.
    ``simulated`` as for single levers.

    Raises :class:`Cancelled` when asked to stop.
    """
    run, known = run or RunContext(), simulated or Correction()
    assert base.energy is not None
    now, done = base.energy.total, sum(p.duration for p in base.energy.phases[:3])
    at = known.of(base.judgement)
    good = [v for v in levers if not v.barred and not v.drastic and v.chance < at.anything - BETTER]
    good = sorted(good, key=lambda v: v.chance)[:_IN_PAIRS]
    both = list(combinations(good, 2))
    found = []
    for k, (a, b) in enumerate(both):
        run.checkpoint(k / len(both), f"{a.name} with {b.name[0].lower()}{b.name[1:]}")
        assert a.pull is not None
        assert b.pull is not None
        try:
            pull = together(present, a.pull, b.pull)
        except Clash:
            continue
        e = pulled(pull, criteria, placement, base, file)
        if e.energy is None or e.fit_problem:
            continue
        chance, _ = chance_with(at, nearest(a, b, known).of(e.judgement))
        better = min(a.chance, b.chance) - chance
        if better > BETTER:
            later = sum(p.duration for p in e.energy.phases[:3]) - done
            changes = pull.changes(present.shape)
            found.append(PairPulled(a, b, chance, e.energy.total - now, later, better, changes=changes))
    return tuple(sorted(found, key=lambda p: (round(p.chance, 2), p.energy)))


def together(present: Pull, a: Pull, b: Pull) -> Pull:
    """Two levers pulled at once.

    Raises :class:`Clash` where both set the same thing to different values, or where what they set cannot be together (a coating on
    the plate whose surface it would dissolve).
    """
    if a.shape is not present.shape and b.shape is not present.shape:
        raise Clash
    shape = a.shape if a.shape is not present.shape else b.shape

    def one(name: str) -> dict[str, Any]:
        return dict(_merged(*(getattr(p, name).model_dump() for p in (present, a, b))))

    magnet = _merged(present.magnet, a.magnet, b.magnet)
    try:
        return Pull(
            Rig.model_validate(one("rig")), Settings.model_validate(one("settings")), Process.model_validate(one("process")),
            shape, magnet,
        )  # fmt: skip
    except ValidationError as problem:
        raise Clash from problem


def _merged(base: Any, a: Any, b: Any) -> Any:
    if a == base:
        return b
    if b == base or a == b:
        return a
    if all(isinstance(v, dict) for v in (base, a, b)) and base.keys() == a.keys() == b.keys():
        return {k: _merged(base[k], a[k], b[k]) for k in base}
    raise Clash
