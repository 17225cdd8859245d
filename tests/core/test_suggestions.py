"""What is offered where nothing on the map holds: the same with the part fan off."""

from __future__ import annotations

import time
from dataclasses import replace
from typing import Any

import manifold3d as m3
import numpy as np
import pytest
import trimesh

from mandorla.core.failure.messages import probability_text
from mandorla.core.failure.state import State
from mandorla.core.part.process import PartSource, Process
from mandorla.core.project.begin import begun_project
from mandorla.core.project.facts import facts_of
from mandorla.core.project.models import Project
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys, suggestions
from mandorla.core.results.results import Results
from mandorla.core.tune.levers import Correction, Lever
from mandorla.core.tune.messages import change_that, offered, tune_sentence
from mandorla.core.tune.simulated_point import SimulatedPoint
from mandorla.core.tune.suggestion import CHECKED, NOT_PROVED, Suggestion
from mandorla.core.tune.through_runs import off_at
from mandorla.core.tune.window_map import Point
from mandorla.core.tune.worth import best_simulated
from mandorla.core.units import celsius
from tests.core.bundles import small_bundle
from tests.core.rigs import make_rig, settings
from tests.core.solids import block, stl


def test_where_the_fan_leaves_nothing_settings_without_it_are_offered_and_say_so() -> None:
    rig = make_rig(width=0.26, depth=0.26, power=400.0, plate=0.005, foam=0.008, room=18.0)
    project = Project(
        name="Fan", rig=rig, part=PartSource(name="Block", file="block.stl"),
        process=Process(polymer="petg", surface="polyetherimide_textured"),
        settings=settings(75.0, 25.0).model_copy(update={"fan": 1.0}),
    )  # fmt: skip
    results = Results(Bundle(project, {"block.stl": stl(block(150.0, 80.0, 40.0))}))
    window, e = results.get(keys.WINDOW), results.get(keys.EVALUATION)
    assert window.status == "empty"
    suggested = results.get(keys.SUGGESTIONS.of(check=False))
    assert [s.key for s in suggested.offers][:2] == ["nearest", "cheapest"], "the first two are always there"
    for offer in suggested.offers:
        assert offer.settings.moves(project.settings)["fan"] == (1.0, 0.0)
        assert "--set settings.fan=0" in offer.settings.arguments(project.settings)
        assert offer.judgement.anything <= project.criteria.risk
        assert "overhangs" in offer.wrong
    said = tune_sentence(suggested.window, e.judgement, suggested.offers, None, rig, project.settings)
    assert "part fan 0 %" in said
    # what is offered is what the project judges itself once it is taken over
    taken = project.model_copy(update={"settings": suggested.offers[0].settings})
    there = Results(Bundle(taken, results.bundle.originals)).get(keys.EVALUATION)
    assert there.judgement.anything == suggested.offers[0].judgement.anything


def test_that_a_change_holds_is_said_only_of_what_was_proved() -> None:
    """The words before a smallest change follow its proof and its judgement."""
    j = Results(small_bundle()).get(keys.EVALUATION).judgement
    sound = {k: a for k, a in j.counted.items() if a.state is State.HOLDS}
    holds = replace(j, found=sound, anything=0.02)
    doubtful = replace(holds, anything=0.22)
    point = Point(330.0, 300.0, 300.0, 2.0, 0.02, 0.0, 0.0, 1e6)
    use = settings(60.0, 40.0)
    for judgement, proof, words in (
        (holds, CHECKED, "The smallest change that holds"),
        (holds, NOT_PROVED, "The smallest change that holds by the quick models"),
        (doubtful, NOT_PROVED, "The smallest change found, in doubt"),
    ):
        found = Suggestion("nearest", point, use, judgement, 1e6, 3600.0, proof, "")
        assert change_that(found) == words
        assert found.proved is (proof == CHECKED)
        # of settings that hold nobody is told a smallest change
        cheap = replace(found, key="cheapest")
        assert set(offered((found, cheap), holds)) == {"cheapest"}
        assert set(offered((found, cheap), replace(j, anything=1.0))) == {"nearest", "cheapest"}


def test_what_is_not_accepted_is_offered_only_where_a_full_simulation_knows_better(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """Where the quick models leave nothing, a full simulation may; with no work left for one nothing is offered."""
    rig = make_rig(width=0.26, depth=0.26, power=400.0, plate=0.005, foam=0.008, room=18.0)
    project = Project(
        name="In doubt", rig=rig, part=PartSource(name="Block", file="block.stl"),
        process=Process(polymer="petg", surface="polyetherimide_textured"), settings=settings(75.0, 25.0),
    )  # fmt: skip
    bundle, seen = Bundle(project, {"block.stl": stl(block(150.0, 80.0, 60.0))}), list[float]()
    offered_by = suggestions.Search.explored

    def explored(self: Any, which: str) -> Any:
        found = offered_by(self, which)
        seen.extend([] if found is None else [found[2].judgement.anything])
        return found

    monkeypatch.setattr(suggestions.Search, "explored", explored)
    monkeypatch.setattr(suggestions, "BUDGET", 0.0)
    found = Results(bundle).get(keys.SUGGESTIONS)
    assert seen, "something was looked at"
    assert min(seen) > project.criteria.risk, "and it was too likely to fail"
    assert found.offers == ()


def test_what_is_offered_does_not_hang_on_how_fast_the_machine_is(monkeypatch: pytest.MonkeyPatch) -> None:
    """Full simulations are counted by their work: where some are known already and others take longer the same is found."""
    monkeypatch.setattr(suggestions, "BUDGET", 1.0)
    monkeypatch.setattr(suggestions, "_CHEAPER", 0.5)
    found = [Results(small_bundle()).get(keys.SUGGESTIONS)]
    simulated = suggestions.simulate

    def slow(*args: Any, **named: Any) -> Any:
        time.sleep(0.5)
        return simulated(*args, **named)

    monkeypatch.setattr(suggestions, "simulate", slow)
    found.append(Results(small_bundle()).get(keys.SUGGESTIONS))
    said = [[(s.key, s.settings, s.proof, s.judgement.anything) for s in f.offers] for f in found]
    assert said[0] == said[1]
    assert len(found[0].runs) == len(found[1].runs) > 0


def test_where_nothing_can_hold_levers_are_pulled_where_it_is_nearest_to_holding() -> None:
    """A solid slab of polycarbonate in a hot chamber: everywhere on the map it fails for certain, which orders nothing; its air has
    to be hot all the same."""
    facts = facts_of(
        {"kind": "hot", "width": 0.42, "depth": 0.38, "chamber_height": 0.5, "chamber_max": celsius(110.0)}
    )
    slab = ("slab.stl", stl(block(180.0, 140.0, 20.0)), 0.001)
    results = Results(begun_project(facts, "pc", slab, surface_key="polyetherimide_smooth"))
    window, openers = (results.get(k) for k in (keys.WINDOW, keys.OPENERS.of(check=False)))
    assert window.chance.min() > 0.995
    there = openers.settings
    assert there.chamber > celsius(95.0)
    assert there.bed_first > celsius(130.0)
    chances = [v.chance for v in openers.levers]
    assert chances == sorted(chances)
    assert chances[0] < 0.3
    assert chances[-1] < openers.chance - 0.01, "what leaves it as certain opens nothing"
    rows = [window.unlikely[k] for k in (0, -1)]
    assert (rows[1] <= rows[0]).all(), "hotter air is no worse anywhere"


def test_where_no_lever_is_enough_two_together_are_tried() -> None:
    """A tall post of nylon on a sheet that a magnet holds: bonding the sheet leaves 28 %, with a raft it holds."""
    post = ("post.stl", stl(block(70.0, 50.0, 220.0)), 0.001)
    results = Results(begun_project(facts_of({"kind": "closed"}), "pa12", post, surface_key="glass_fibre_laminate"))
    openers = results.get(keys.OPENERS.of(check=False))
    risk = results.bundle.project.criteria.risk
    alone = min(v.chance for v in openers.levers if not v.drastic)
    assert alone > risk
    best = openers.pairs[0]
    assert best.chance < risk
    assert [q.chance for q in openers.pairs] == sorted(q.chance for q in openers.pairs)
    assert all(q.chance < alone for q in openers.pairs)
    # what is told is what the whole judgement says of a project with both
    assert best.first.pull is not None
    assert best.second.pull is not None
    p = results.bundle.project
    bonded, raft = (next(q for q in (best.first, best.second) if w in q.name.lower()) for w in ("bonded", "raft"))
    changed = p.model_copy(
        update={"rig": bonded.pull.rig, "process": raft.pull.process, "settings": openers.settings}  # type: ignore[union-attr]
    )
    there = Results(Bundle(changed, results.bundle.originals))
    assert there.get(keys.EVALUATION).judgement.anything == pytest.approx(best.chance, abs=1e-9)
    # and what the full simulation says
    assert there.get(keys.JUDGEMENT.of(full="draft", bodies="all")).anything <= 1.5 * risk


def hollow(x: float, y: float, z: float, wall: float) -> bytes:
    """A box of outer sizes (mm), open on top."""
    outer = m3.Manifold.cube((x, y, z))
    mesh = (outer - m3.Manifold.cube((x - 2 * wall, y - 2 * wall, z)).translate((wall, wall, wall))).to_mesh()
    return stl(trimesh.Trimesh(np.asarray(mesh.vert_properties)[:, :3], np.asarray(mesh.tri_verts)))


def test_what_would_help_starts_from_what_the_full_simulation_says_and_its_best_was_simulated() -> None:
    """A tall nylon box on an open machine: the quick models give it up (97 %), the full simulation does not (67 %)."""
    tower = ("tower.stl", hollow(60.0, 60.0, 180.0, 4.0), 0.001)
    results = Results(begun_project(facts_of({"kind": "open", "width": 0.235, "depth": 0.235}), "pa12", tower))
    p = results.bundle.project
    quick, openers = (results.get(k) for k in (keys.EVALUATION, keys.OPENERS.of(check=True)))
    shown = results.get(results.judgement_key())
    assert quick.judgement.anything > 0.9 > shown.anything
    assert openers.corrected
    assert openers.chance <= shown.anything + 0.02, (
        "the settings as they are are no worse than what is called likeliest"
    )
    best = openers.levers[0]
    assert best.simulated
    assert best.chance < shown.anything - 0.2
    # taken over, the full simulation says what was told
    assert best.pull is not None
    taken = p.model_copy(update={"rig": best.pull.rig, "process": best.pull.process, "settings": openers.settings})
    there = Results(Bundle(taken, results.bundle.originals))
    assert there.get(keys.JUDGEMENT.of(full="draft", bodies="all")).anything == best.chance
    # and where levers are told by themselves, from these settings, they say the same
    at = Results(Bundle(p.model_copy(update={"settings": openers.settings}), results.bundle.originals))
    at.get(keys.SETTINGS_CHECK)
    told = at.get(at.as_judged(keys.LEVER_WORTH.of(simulated=True)))
    assert told.judgement.anything == openers.chance
    by_name = {w.lever.name: w.lever for w in told.levers}
    assert len(openers.levers) > 2
    for v in openers.levers:
        assert (by_name[v.name].chance, by_name[v.name].simulated) == (v.chance, v.simulated), v.name
    said = tune_sentence(results.get(keys.SUGGESTIONS).window, shown, (), openers, p.rig, p.settings)
    assert "as full simulations correct them" in said
    assert f"{probability_text(best.chance)} that anything fails, simulated)" in said


def test_a_correction_is_what_runs_near_by_were_off_by() -> None:
    rig, here = make_rig(), settings(60.0, 25.0)
    far = here.model_copy(update={"bed_first": here.bed_first + 20.0, "bed_rest": here.bed_rest + 20.0})
    runs = [
        SimulatedPoint(here, State.HOLDS, {"adhesion": 0.4}),
        SimulatedPoint(far, State.FAILS, {"adhesion": -0.2, "cracks": -0.5}),
    ]
    assert off_at(here, rig, []) == {}
    assert off_at(here, rig, runs)["adhesion"] == pytest.approx(0.4, abs=1e-3)
    between = here.model_copy(update={"bed_first": here.bed_first + 10.0, "bed_rest": here.bed_rest + 10.0})
    assert off_at(between, rig, runs) == pytest.approx({"adhesion": 0.1, "cracks": -0.5})


def test_a_judgement_that_is_moved_keeps_its_spreads() -> None:
    j = Results(small_bundle()).get(keys.EVALUATION).judgement
    key = j.likeliest
    worse = j.moved({key: -0.3})
    before, after = j.counted[key], worse.counted[key]
    assert after.margin == before.margin - 0.3
    assert after.parts == before.parts
    assert worse.anything > j.anything
    assert j.moved({}) is j
    lost = j.moved({key: -9.0})
    assert lost.whole is State.FAILS
    assert lost.anything == pytest.approx(1.0, abs=1e-3)
    # of another polymer, or a part that stands otherwise, only what makes it worse counts
    better = Correction({key: 0.3})
    assert better.of(j).counted[key].margin == before.margin + 0.3
    assert better.of(j, drastic=True).counted[key].margin == before.margin
    assert Correction({key: -0.3}).of(j, drastic=True).counted[key].margin == after.margin


def test_a_hair_orders_nothing_where_all_fail_for_certain() -> None:
    j = Results(small_bundle()).get(keys.EVALUATION).judgement
    key = j.likeliest
    deep, deeper, deepest = (
        j.moved({key: -z * j.counted[key].spread - j.counted[key].margin}) for z in (8.0, 8.1, 9.0)
    )
    assert deep.counted[key].z == pytest.approx(-8.0)
    assert deep.order == deeper.order < deepest.order


def test_where_the_place_was_simulated_its_own_spreads_count() -> None:
    j = Results(small_bundle()).get(keys.EVALUATION).judgement
    key = j.likeliest
    half = {name: 0.5 * part for name, part in j.counted[key].parts.items()}
    run = replace(
        j, found=dict(j.found) | {key: replace(j.counted[key], margin=j.counted[key].margin + 0.1, parts=half)}
    )
    there = Correction({key: 0.1}, run).of(j).counted[key]
    assert there.margin == run.counted[key].margin
    assert there.parts == half, "it is known as well as the run knows it"
    # what is changed from there is known half as well as it is changed
    farther = Correction({key: 0.1 + 0.4}, run).of(j).counted[key]
    assert farther.spread == pytest.approx(np.hypot(there.spread, 0.5 * 0.4))
    # another polymer has unknowns of its own
    assert Correction({key: 0.1}, run).of(j, drastic=True).counted[key].parts == j.counted[key].parts


def test_the_best_of_what_helps_is_simulated_until_it_stays_the_best() -> None:
    def lever(name: str, chance: float, *, drastic: bool = False) -> Lever:
        return Lever(name, 1.0, 0.0, 0.1, 3600.0, 1e6, "", drastic, chance)

    full = {"raft": 0.43, "brim": 0.50, "laminate": 0.19, "spray": 0.05}
    asked: list[str] = []

    def simulated(v: Lever) -> Lever | None:
        asked.append(v.name)
        return replace(v, chance=full[v.name], taught=Correction())

    levers = [
        lever("raft", 0.18), lever("brim", 0.22), lever("laminate", 0.25), lever("spray", 0.32), lever("PETG", 0.01, drastic=True),
    ]  # fmt: skip
    found = best_simulated(levers, simulated)
    assert asked == ["raft", "brim", "laminate"]
    told = {v.name: (v.chance, v.simulated) for v in found}
    assert told == {
        "raft": (0.43, True), "brim": (0.50, True), "laminate": (0.19, True), "spray": (0.32, False), "PETG": (0.01, False),
    }  # fmt: skip
    none = best_simulated(levers, lambda _: None)
    assert {v.name: v.simulated for v in none} == dict.fromkeys(full, False) | {"PETG": False}
    asked.clear()
    again = best_simulated(found, simulated)
    assert not asked, "the best was simulated before"
    assert {v.name for v in again} == {v.name for v in found}
