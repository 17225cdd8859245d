"""Results about ways to go: each school's strategy at its best settings, and the same part on each of one's own machines."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

from mandorla.core.energy.use import EnergyUse
from mandorla.core.errors import InputError
from mandorla.core.failure.registry import Judgement
from mandorla.core.failure.state import State
from mandorla.core.part.process import Process
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.judged import judged
from mandorla.core.results.key import Key
from mandorla.core.results.registry import Have, computes
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Settings
from mandorla.core.runtime import RunContext
from mandorla.core.tune.strategies import Strategy, Try, strategies
from mandorla.core.tune.suggestion import CHECKED, NOT_PROVED, NOT_YET, Suggestion
from mandorla.core.warp.estimate import WarpEstimate


class Applied(NamedTuple):
    """A strategy at its best: what it ``changes`` by path, all ``settings``, judgement, energy, estimate, and what proves it."""

    changes: Mapping[str, Any]
    settings: Settings
    judgement: Judgement
    energy: EnergyUse
    warp: WarpEstimate
    proof: str


class StrategyFound(NamedTuple):
    """A strategy with its best settings (None: it cannot be tried, ``problem`` says why), and every candidate's energy (J) and
    chance that anything fails, by the quick models."""

    strategy: Strategy
    best: Applied | None
    tried: tuple[tuple[float, float], ...]
    problem: str


class MachineRank(NamedTuple):
    """The part on a machine at the project's settings: judgement (``simulated``: by a full run), energy, s until the print ends,
    and where it does not hold the smallest change that would make it hold (None: there is none on its map)."""

    name: str
    rig: Rig
    judgement: Judgement
    energy: EnergyUse
    duration: float
    change: Suggestion | None
    problem: str
    simulated: bool = False


@computes(keys.MACHINES)
def machines(key: Key[tuple[MachineRank, ...]], bundle: Bundle, have: Have, run: RunContext) -> tuple[MachineRank, ...]:
    """The present machine and every build, the likeliest to hold first; of those that hold the one that takes least energy. With
    ``check`` each is judged by a full run.

    Raises
    ------
    InputError
        Without a part.
    Cancelled
        When asked to stop.
    """
    p, found = bundle.project, []
    if have(keys.GEOMETRY) is None:
        raise InputError("There is no part: open one first.")
    rigs = [(p.rig.name, p.rig), *((b.name, b.rig) for b in p.builds)]
    for k, (name, rig) in enumerate(rigs):
        run.checkpoint(k / len(rigs), name)
        asked = have.beside(Bundle(p.model_copy(update={"rig": rig}), bundle.originals))
        e, change = asked.get(keys.EVALUATION, run.silent()), None
        if e.energy is None:
            continue
        judgement, simulated = judged(asked, run.silent(), check=key["check"] and not e.fit_problem)
        holds = judgement.whole is not State.FAILS and judgement.anything <= p.criteria.risk
        if not holds and not e.fit_problem:
            # what Tune says of the present machine
            offers = asked.get(keys.SUGGESTIONS.of(check=key["check"] and rig is p.rig), run).offers
            change = next((s for s in offers if s.key == "nearest"), None)
        done = sum(phase.duration for phase in e.energy.phases[:3])
        found.append(MachineRank(name, rig, judgement, e.energy, done, change, e.fit_problem, simulated))
    risk = p.criteria.risk
    return tuple(sorted(found, key=lambda m: _rank(m, risk)))


def _rank(m: MachineRank, risk: float) -> tuple[bool, bool, bool, float, float]:
    holds = not m.problem and m.judgement.whole is not State.FAILS and m.judgement.anything <= risk
    return (
        bool(m.problem),
        not holds,
        m.change is None,
        0.0 if holds else round(m.judgement.anything, 2),
        m.energy.total,
    )


@computes(keys.STRATEGIES)
def compared(
    key: Key[tuple[StrategyFound, ...]], bundle: Bundle, have: Have, run: RunContext
) -> tuple[StrategyFound, ...]:
    """Every strategy's candidates judged by the quick models; of those within the accepted chance the one that takes least
    energy is its best, else the likeliest to hold. With ``check`` each best is run in full.

    Raises
    ------
    InputError
        Without a part.
    Cancelled
        When asked to stop.
    """
    p, geometry = bundle.project, have(keys.GEOMETRY)
    if geometry is None:
        raise InputError("There is no part: open one first.")
    all_ways = strategies(p.rig, p.settings, p.process)
    found = []
    for k, way in enumerate(all_ways):
        found.append(_applied(way, bundle, have, run, k / len(all_ways), 1.0 / len(all_ways), check=key["check"]))
    run.checkpoint(1.0, "done")
    return tuple(found)


def _applied(
    way: Strategy, bundle: Bundle, have: Have, run: RunContext, begins: float, share: float, *, check: bool
) -> StrategyFound:
    """The best of a strategy's candidates."""
    risk, ranked, tried = bundle.project.criteria.risk, [], []
    for n, candidate in enumerate(way.tries):
        run.checkpoint(begins + 0.6 * share * n / len(way.tries), way.title)
        other = _changed(bundle, candidate)
        if other is None:
            continue
        e = have.beside(other).get(keys.EVALUATION)
        if e.energy is None or e.warp is None:
            continue
        chance = e.judgement.anything
        tried.append((e.energy.total, chance))
        fails = e.judgement.whole is State.FAILS
        holds = chance <= risk and not fails
        ranked.append(((not holds, 0.0 if holds else round(chance, 2) + fails, e.energy.total), candidate, other, e))
    if not ranked:
        return StrategyFound(way, None, (), way.missing or "none of its settings can be had on this machine")
    _, candidate, other, e = min(ranked, key=lambda r: r[0])
    if check:
        run.checkpoint(begins + 0.7 * share, f"{way.title}, full simulation")
    judgement, simulated = judged(have.beside(other), run, check=check)
    proof = CHECKED if simulated else NOT_PROVED if check else NOT_YET
    assert e.energy is not None
    assert e.warp is not None
    best = Applied(candidate.changes, other.project.settings, judgement, e.energy, e.warp, proof)
    return StrategyFound(way, best, tuple(tried), "")


def _changed(bundle: Bundle, candidate: Try) -> Bundle | None:
    """The project with a candidate's changes; None where its process refuses one."""
    p = bundle.project
    parts: dict[str, dict[str, Any]] = {}
    for path, value in candidate.changes.items():
        where, _, name = path.rpartition(".")
        parts.setdefault(where, {})[name] = value
    settings = p.settings.model_copy(update=parts.get("settings", {}))
    chamber = p.rig.chamber.model_copy(update=parts.get("rig.chamber", {}))
    try:
        process = Process.model_validate(p.process.model_dump() | parts.get("process", {}))
    except ValueError:
        return None
    rig = p.rig if chamber == p.rig.chamber else p.rig.model_copy(update={"chamber": chamber})
    return Bundle(p.model_copy(update={"settings": settings, "rig": rig, "process": process}), bundle.originals)
