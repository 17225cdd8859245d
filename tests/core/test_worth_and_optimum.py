"""What levers buy, pairs that work together, and the optimum against an exhaustive search."""

from __future__ import annotations

import itertools
import math
import shlex
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import pytest

from mandorla.core.errors import Cancelled, InputError
from mandorla.core.failure.registry import Assessment
from mandorla.core.failure.state import State
from mandorla.core.project.begin import begun_project
from mandorla.core.project.facts import facts_of
from mandorla.core.project.paths import arguments_to, parse_at, set_value
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.key import Key
from mandorla.core.results.levers import LeversWorth
from mandorla.core.results.optimum import Reserve, with_setup
from mandorla.core.results.results import Results
from mandorla.core.results.strategy_words import optimum_sentence
from mandorla.core.results.tune import ground_of
from mandorla.core.runtime import RunContext
from mandorla.core.tune import optimum as optimum_search
from mandorla.core.tune.axes import Setup
from mandorla.core.tune.levers import Pull
from mandorla.core.tune.messages import worth_sentence
from mandorla.core.tune.optimum import OBJECTIVES, changes_of, mapped, options_of, search
from mandorla.core.tune.worth import Clash, together
from tests.core.bundles import small_bundle
from tests.core.solids import block, stl

RISK = 0.10


@pytest.fixture(scope="module")
def results() -> Results:
    """The small project with a part fan that blows."""
    bundle = small_bundle()
    settings = bundle.project.settings.model_copy(update={"fan": 0.2})
    return Results(Bundle(bundle.project.model_copy(update={"settings": settings}), bundle.originals))


@pytest.fixture(scope="module")
def worth(results: Results) -> LeversWorth:
    return results.get(keys.LEVER_WORTH)


def test_levers_are_ranked_by_what_a_kilowatt_hour_buys(worth: LeversWorth, results: Results) -> None:
    e = results.get(keys.EVALUATION)
    assert e.energy is not None
    plain = [w for w in worth.levers if not w.lever.drastic]
    assert [w.per_kwh for w in plain] == sorted((w.per_kwh for w in plain), reverse=True)
    for w in worth.levers:
        assert w.safer == pytest.approx(e.judgement.anything - w.lever.chance)
        assert w.energy == pytest.approx(w.lever.energy - e.energy.total)
        if math.isfinite(w.per_kwh):
            assert w.per_kwh == pytest.approx(w.safer / (w.energy / 3.6e6))
            assert w.energy > 0.0
    free = next(w for w in plain if w.lever.name == "Part fan off")
    assert math.isinf(free.per_kwh), "a fan that is off costs nothing"


def test_a_coating_and_the_surface_it_dissolves_are_no_pair(results: Results) -> None:
    e, project = results.get(keys.EVALUATION), small_bundle().project
    assert e.part is not None
    process = project.process.model_copy(update={"surface": "polyetherimide_smooth", "coating": ""})
    now = Pull(project.rig, project.settings, process, e.part.sections)
    coated = now._replace(process=process.model_copy(update={"coating": "dissolved_polymer"}))
    tacky = now._replace(process=process.model_copy(update={"surface": "hot_tacky"}))
    cooler = now._replace(settings=project.settings.model_copy(update={"fan": 0.0}))
    with pytest.raises(Clash):
        together(now, coated, tacky)
    assert together(now, coated, cooler) == coated._replace(settings=cooler.settings)


def test_pairs_are_better_than_either_alone_and_set_different_things(worth: LeversWorth) -> None:
    assert worth.pairs
    for p in worth.pairs:
        assert p.chance < min(p.first.chance, p.second.chance)
        assert p.better == pytest.approx(min(p.first.chance, p.second.chance) - p.chance)
    names = {frozenset((p.first.name, p.second.name)) for p in worth.pairs}
    assert not any(sum(n.startswith("On ") for n in pair) > 1 for pair in names), "a part stands on one surface"


def test_a_pair_is_what_both_set_at_once(worth: LeversWorth, results: Results) -> None:
    """The pair that moves settings only, evaluated from the project itself."""
    pair = next((p for p in worth.pairs if p.first.put is not None and p.second.put is not None), None)
    assert pair is not None
    assert pair.first.put is not None
    assert pair.second.put is not None
    now = results.bundle.project.settings
    moved = {n: v for put in (pair.first.put, pair.second.put) for n, (_, v) in put.moves(now).items()}
    other = results.bundle.project.model_copy(update={"settings": now.model_copy(update=moved)})
    e, base = Results(Bundle(other, results.bundle.originals)).get(keys.EVALUATION), results.get(keys.EVALUATION)
    assert e.energy is not None
    assert base.energy is not None
    assert pair.energy == pytest.approx(e.energy.total - base.energy.total, rel=1e-6, abs=1.0)


def test_the_best_levers_and_pairs_are_run_in_full_and_what_is_run_later_is_told_as_well() -> None:
    """A small part on an open machine that fails: what is called simulated is what the page says once it is set."""
    plate = ("plate.stl", stl(block(90.0, 60.0, 8.0)), 0.001)
    results = Results(begun_project(facts_of({"kind": "open"}), "abs", plate))
    results.get(keys.SETTINGS_CHECK)
    corrected = results.get(results.as_judged(keys.LEVER_WORTH))
    full = results.as_judged(keys.LEVER_WORTH.of(simulated=True))
    found = results.get(full)
    assert found.judgement.anything == results.get(results.judgement_key()).anything
    assert not any(w.lever.simulated for w in corrected.levers)
    told = [w.lever for w in found.levers if w.lever.simulated] + [q for q in found.pairs if q.simulated]
    assert told
    assert min(w.lever.chance for w in found.levers if not w.lever.drastic) == min(
        w.lever.chance for w in found.levers if w.lever.simulated
    ), "the best was run"

    def set_by(changes: object) -> Results:
        assert isinstance(changes, Mapping)
        return Results(
            Bundle(results.bundle.project.model_copy(update=dict(changes)), results.bundle.originals), results.kept
        )

    for helps in told:
        there = set_by(helps.changes)
        there.get(keys.SETTINGS_CHECK)
        assert there.get(there.judgement_key()).anything == helps.chance
    # another one is set, checked and taken back: from then on it is told by its run
    other = next(w.lever for w in found.levers if not w.lever.simulated and w.lever.changes is not None)
    there = set_by(other.changes)
    there.get(keys.SETTINGS_CHECK)
    shown = there.get(there.judgement_key()).anything
    later = found.by_runs(results.run_judgement)
    again = next((w.lever for w in later.levers if w.lever.name == other.name), None)
    assert (again is None and shown > found.judgement.anything - 0.01) or (again.chance == shown and again.simulated)
    for w in later.levers:
        assert w.safer == pytest.approx(found.judgement.anything - w.lever.chance)
    assert {q.first.chance for q in later.pairs if q.first.name == other.name} <= {shown}


def test_what_a_lever_sets_can_be_typed_as_arguments(worth: LeversWorth, results: Results) -> None:
    """Levers of settings, machine and print, and pairs of them; the project that is typed is the one that is pulled."""
    project, told = results.bundle.project, 0
    for helps in (*(w.lever for w in worth.levers), *worth.pairs):
        typed = project
        arguments = arguments_to(project, helps.changes or {})
        for argument in arguments:
            flag, text = shlex.split(argument)
            assert flag == "--set"
            path, _, value = text.partition("=")
            typed = set_value(typed, path, parse_at(typed, path, value, si=True))
        assert bool(arguments) == (helps.changes is not None)
        told += bool(arguments)
        if arguments and helps.changes is not None:
            other = project.model_copy(update=dict(helps.changes))
            again = Results(Bundle(typed, results.bundle.originals)).get(keys.EVALUATION).judgement.anything
            assert again == pytest.approx(
                Results(Bundle(other, results.bundle.originals)).get(keys.EVALUATION).judgement.anything, abs=1e-6
            )
    assert told > 10
    stronger = [w.lever for w in worth.levers if "magnet that pulls" in w.lever.name]
    assert all(v.changes is None for v in stronger), "no field tells of it"


def test_what_no_argument_reaches_has_none(results: Results) -> None:
    """A list that grows; what is no change at all. A value with blanks and quotes is typed so that a shell reads it."""
    p = results.bundle.project
    clipped = p.rig.model_copy(update={"bed": p.rig.bed.model_copy(update={"clips": "at the plate's edge"})})
    (argument,) = arguments_to(p, {"rig": clipped})
    assert shlex.split(argument) == ["--set", "rig.bed.clips=at the plate's edge"]
    layers = (*p.rig.bed.layers, p.rig.bed.layers[0])
    longer = p.rig.model_copy(update={"bed": p.rig.bed.model_copy(update={"layers": layers})})
    assert arguments_to(p, {"rig": longer}) == ()
    assert arguments_to(p, {"rig": p.rig, "settings": p.settings}) == ()


def test_the_sentence_names_the_best_lever_and_pair(worth: LeversWorth, results: Results) -> None:
    text = worth_sentence(worth.levers, worth.pairs, results.get(keys.EVALUATION).judgement)
    best = min((w for w in worth.levers if not w.lever.drastic), key=lambda w: w.lever.chance)
    assert best.lever.name[1:] in text
    assert worth.pairs[0].first.name[1:] in text


def test_where_it_holds_anyway_no_lever_is_praised(worth: LeversWorth, results: Results) -> None:
    j = results.get(keys.EVALUATION).judgement
    held = {
        k: replace(a, state=State.HOLDS, margin=9.0) if isinstance(a, Assessment) else a for k, a in j.found.items()
    }
    calm = replace(j, found=held, anything=0.008)
    better = tuple(w._replace(lever=replace(w.lever, chance=0.002)) for w in worth.levers)
    text = worth_sentence(better, worth.pairs, calm, shown=calm)
    assert text == "It holds (under 1 % that anything fails): no lever by itself makes it plainly likelier."
    lost = replace(j, anything=0.999)
    worse = tuple(w._replace(lever=replace(w.lever, chance=0.995)) for w in worth.levers)
    text = worth_sentence(worse, worth.pairs, lost, shown=lost)
    assert text.startswith(
        "It does not hold (over 99 % that anything fails): no lever by itself makes it plainly likelier. Together, "
    )
    assert worth.pairs[0].first.name[1:] in text
    assert "does most" in worth_sentence(better, worth.pairs, replace(calm, anything=0.04), shown=calm)


def test_the_optimum_is_that_of_an_exhaustive_search(results: Results) -> None:
    """Least energy over bed, chamber and fan: no state on a lattice of all three holds and takes less by more than 2 %."""
    found = results.get(keys.OPTIMUM.of(free=("fan",), check=False))
    assert found.best is not None
    assert found.judgement is not None
    assert found.judgement.anything <= RISK
    p = results.bundle.project
    least = math.inf
    for bed, chamber, fan in itertools.product(range(86, 112, 5), range(45, 86, 8), (0.0, 0.2)):
        change = {"bed_rest": 273.15 + bed, "bed_first": 273.15 + bed, "chamber": 273.15 + chamber, "fan": fan}
        other = p.model_copy(update={"settings": p.settings.model_copy(update=change)})
        e = Results(Bundle(other, results.bundle.originals), results.kept).get(keys.EVALUATION)
        assert e.energy is not None
        if e.judgement.anything <= RISK and e.judgement.whole is not State.FAILS:
            least = min(least, e.energy.total)
    assert found.best.energy <= 1.02 * least
    assert found.best.energy == pytest.approx(
        Results(with_setup(results.bundle, found.best.setup)).get(keys.EVALUATION).energy.total
    )  # type: ignore[union-attr]


def test_the_front_falls_and_every_point_can_be_taken_over(results: Results) -> None:
    found = results.get(keys.OPTIMUM.of(free=("fan",), check=False))
    energies, chances = [p.energy for p in found.front], [p.chance for p in found.front]
    assert len(found.front) > 3
    assert energies == sorted(energies)
    assert chances == sorted(chances, reverse=True)
    p = results.bundle.project
    present = Setup(p.rig, p.settings, p.process)
    middle = found.front[len(found.front) // 2]
    assert set(changes_of(present, middle.setup)) <= {
        f"settings.{n}" for n in ("bed_first", "bed_rest", "chamber", "fan")
    }


def test_what_is_likeliest_to_hold_is_likelier_than_what_is_cheapest(results: Results) -> None:
    cheap, safe = (results.get(keys.OPTIMUM.of(objective=o, check=False)) for o in ("energy", "chance"))
    assert cheap.best is not None
    assert safe.best is not None
    assert safe.best.chance < cheap.best.chance
    assert safe.best.energy > cheap.best.energy
    text = optimum_sentence(safe, results.bundle.project, 0.0)
    assert "The optimum" in text


def test_choices_that_cannot_be_made_are_refused_in_words(results: Results) -> None:
    p = results.bundle.project
    setup = Setup(p.rig, p.settings, p.process)
    with pytest.raises(InputError, match="cannot be set free"):
        options_of(("colour",), setup, {}, from_file=False)
    with pytest.raises(InputError, match="at most"):
        options_of(("surface", "hold_down", "nozzle", "fan", "soak"), setup, {}, from_file=False)
    with pytest.raises(InputError, match="no objective"):
        results.get(keys.OPTIMUM.of(objective="beauty", check=False))
    assert set(OBJECTIVES) == {"energy", "duration", "cost", "chance"}
    from_file = options_of(("nozzle", "brim", "fan"), setup, {}, from_file=True)
    assert len(from_file) == 1, "what a file decides is no choice"


def test_what_is_measured_narrows_what_it_decides_and_nothing_gets_worse(results: Results) -> None:
    found = results.get(keys.MEASURING)
    assert len({w.name for w in found}) == len(found) > 5
    assert all(w.before == found[0].before for w in found), "all are compared with the same map"
    assert all(w.test for w in found)
    assert found[0].after >= max(w.after for w in found) - 1e-3
    assert found[0].after > found[0].before, "something is worth measuring"


@pytest.mark.parametrize(
    ("key", "last"),
    [(keys.OPTIMUM.of(check=False), 30), (keys.WINDOW_AT_BEST, 30), (keys.MACHINES, 30), (keys.RIG_CHECKS, 8)],
)
def test_a_stop_inside_of_a_step_ends_it_there(key: Key[Any], last: int, monkeypatch: pytest.MonkeyPatch) -> None:
    """Between two of the steps that are reported, too, whoever looks whether a stop was asked for."""
    looks: list[float] = []
    look = RunContext.checkpoint

    def counted(self: RunContext, fraction: float, stage: str) -> None:
        looks.append(fraction)
        if len(looks) == last:
            run.cancel()
        look(self, fraction, stage)

    bundle = small_bundle()
    fan = 0.11 + 0.01 * last + 0.001 * len(key.name)  # settings of its own: nothing is there from another test
    settings = bundle.project.settings.model_copy(update={"fan": fan})
    results = Results(Bundle(bundle.project.model_copy(update={"settings": settings}), bundle.originals))
    run = RunContext()
    for known in (keys.EVALUATION, keys.GEOMETRY, keys.HEAT_UP):
        results.get(known)
    monkeypatch.setattr(RunContext, "checkpoint", counted)
    with pytest.raises(Cancelled):
        results.get(key, run)
    assert len(looks) == last, "the look at which the stop was asked for is the last one"


def test_where_nothing_holds_the_least_chance_is_that_of_a_whole_evaluation() -> None:
    """Coarse maps are rough there: what is told is what the same settings say everywhere else."""
    bundle = small_bundle()
    criteria = bundle.project.criteria.model_copy(update={"risk": 0.001, "lift_limit": 5e-5})
    results = Results(Bundle(bundle.project.model_copy(update={"criteria": criteria}), bundle.originals))
    found = results.get(keys.OPTIMUM.of(free=("brim",), check=False))
    assert found.best is None
    last = min(found.front, key=lambda p: p.chance)
    assert found.chance == pytest.approx(last.chance, abs=1e-9)
    exact = Results(with_setup(results.bundle, last.setup)).get(keys.EVALUATION).judgement.anything
    assert found.chance == pytest.approx(exact, abs=1e-6)
    assert found.chance <= results.get(keys.EVALUATION).judgement.anything


def turns_of(true: float, steps: float = 0.9, turns: int = 5) -> list[tuple[float, bool]]:
    """Reserves that are tried where what holds begins at ``true``, each failing by ``steps``."""
    kept, found = Reserve(), []
    for _ in range(turns):
        holds = kept.now >= true
        found.append((kept.now, holds))
        if not holds:
            kept.failed(steps)
        elif not kept.held(kept.now - true):
            break
    return found


def test_a_reserve_grows_until_it_holds_and_comes_back_half_way() -> None:
    assert turns_of(0.0) == [(0.0, True)]  # what holds at once is not looked at again
    assert turns_of(1.1) == [(0.0, False), (0.9, False), (1.8, True), (1.35, True), (1.125, True)]
    found = turns_of(0.75)
    assert found[:2] == [(0.0, False), (0.9, True)]
    assert found[2:] == [], "a fifth of a standard deviation in hand is worth no further simulation"
    assert min(r for r, holds in turns_of(0.5, turns=8) if holds) - 0.5 < 0.25


def test_what_was_tried_in_vain_takes_nothing_from_the_search_for_the_likeliest(
    results: Results, monkeypatch: pytest.MonkeyPatch
) -> None:
    ground = ground_of(results.bundle, results.get(keys.EVALUATION), results.get(keys.GEOMETRY))
    combinations = mapped(ground, lambda _: ground, [])
    monkeypatch.setattr(optimum_search, "_holds", lambda *_: False)
    after_tries = search(combinations, "energy")
    monkeypatch.setattr(optimum_search, "_first", lambda *_: None)
    at_once = search(combinations, "energy")
    assert after_tries.evaluations > at_once.evaluations > 6
    assert not after_tries.found
    assert not at_once.found
    assert after_tries.chance == at_once.chance
