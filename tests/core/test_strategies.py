"""Strategies: each school's candidates, what a machine cannot do, the best of them by what is accepted and what it takes."""

from __future__ import annotations

import pytest

from mandorla.core.failure.state import State
from mandorla.core.part.process import Process
from mandorla.core.project.models import Build
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.results.strategy_words import changes_text, machine_text, strategies_sentence
from mandorla.core.rig.model import Rig
from mandorla.core.tune.strategies import Strategy, cold_surfaces, strategies
from mandorla.core.units import OFF
from tests.core.bundles import small_bundle
from tests.core.rigs import make_rig, settings


def insisting(rig: Rig) -> Rig:
    return rig.model_copy(update={"limits": rig.limits.model_copy(update={"insists": True})})


def by_key(rig: Rig, polymer: str = "pla") -> dict[str, Strategy]:
    process = Process(polymer=polymer, surface="polyetherimide_smooth")
    return {s.key: s for s in strategies(rig, settings(), process)}


def test_an_open_machine_is_neither_sealed_nor_vented_and_one_that_insists_is_never_off() -> None:
    open_ways = by_key(make_rig(enclosed=False))
    assert open_ways["sealed"].missing
    assert open_ways["vented"].missing
    assert not open_ways["sealed"].tries
    assert open_ways["hot"].tries
    ways = by_key(insisting(make_rig()))
    assert ways["tacky"].missing
    assert all(t.changes["settings.bed_rest"] > OFF for t in ways["lowered"].tries)
    assert any(t.changes["settings.bed_rest"] == OFF for t in by_key(make_rig())["lowered"].tries)


def test_no_candidate_asks_for_more_than_the_machine_stands() -> None:
    rig = make_rig(chamber_heater=400.0)
    rig = rig.model_copy(update={"limits": rig.limits.model_copy(update={"bed_max": 360.0, "chamber_max": 330.0})})
    for way in by_key(rig, "asa").values():
        for t in way.tries:
            assert t.changes["settings.bed_first"] <= 360.0
            assert t.changes.get("settings.chamber", 0.0) <= 330.0


def test_the_cold_surface_is_a_tacky_one() -> None:
    best = cold_surfaces(Process(polymer="pla", surface="polyetherimide_smooth"))[0]
    assert "acky" in best.name


def test_machines_are_ranked_and_one_that_fails_is_told_what_it_needs() -> None:
    bundle = small_bundle()
    cold = make_rig(enclosed=False)
    tight = make_rig(width=0.1, depth=0.1)
    project = bundle.project.model_copy(
        update={"builds": (Build(name="Open", rig=cold), Build(name="Tiny", rig=tight)),
                "settings": bundle.project.settings.model_copy(update={"bed_first": 343.15, "bed_rest": 343.15})}
    )  # fmt: skip
    found = Results(Bundle(project, bundle.originals)).get(keys.MACHINES.of(check=False))
    assert {m.name for m in found} == {"Test rig", "Open", "Tiny"}
    assert found[-1].name == "Tiny"
    assert "reaches" in found[-1].problem
    for m in found[:-1]:
        alone = Results(Bundle(project.model_copy(update={"rig": m.rig}), bundle.originals)).get(keys.EVALUATION)
        assert alone.judgement.anything == m.judgement.anything
        assert machine_text(m, project.settings).count("done after") == 1
    needing = next(m for m in found if m.change is not None)
    assert needing.judgement.anything > project.criteria.risk
    assert "would hold with" in machine_text(needing, project.settings)
    assert needing.change is not None
    assert needing.change.judgement.anything <= project.criteria.risk


def test_each_best_is_the_cheapest_of_those_that_hold_or_the_likeliest() -> None:
    bundle = small_bundle()
    results = Results(bundle)
    found = results.get(keys.STRATEGIES.of(check=False))
    risk = bundle.project.criteria.risk
    for f in found:
        if f.best is None:
            assert f.problem
            continue
        holding = [energy for energy, chance in f.tried if chance <= risk]
        if f.best.judgement.anything <= risk and f.best.judgement.whole is not State.FAILS:
            assert f.best.energy.total <= min(holding) * 1.5
            assert f.best.energy.total in [pytest.approx(v) for v in holding]
        else:
            assert f.best.judgement.anything <= min(chance for _, chance in f.tried) + 0.011
    said = strategies_sentence(found, risk)
    assert "strateg" in said
    hot = next(f for f in found if f.strategy.key == "hot")
    assert hot.best is not None
    assert changes_text({}, bundle.project) == "as it is"
    assert "bed" in changes_text(hot.best.changes, bundle.project)
