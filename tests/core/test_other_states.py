"""States beside the project's own (pinned, on a battery, on other machines) are judged as their pages judge them once set."""

from __future__ import annotations

import pytest

from mandorla.core.energy.messages import backup_sentence
from mandorla.core.failure.messages import probability_text
from mandorla.core.project.begin import begun_project
from mandorla.core.project.facts import facts_of
from mandorla.core.project.paths import set_value
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.results.strategy_words import machines_by
from tests.core.solids import block, stl


@pytest.fixture(scope="module")
def plate() -> Bundle:
    """A plate of ABS on an open machine, of which the quick models say another chance than the full simulation; pinned once as it
    is and once warmer, with another machine kept and a small battery."""
    part = ("plate.stl", stl(block(90.0, 60.0, 8.0)), 0.001)
    bundle = begun_project(facts_of({"kind": "open"}), "abs", part)
    p = bundle.project
    warmer = p.settings.model_copy(
        update={"bed_first": p.settings.bed_first + 8.0, "bed_rest": p.settings.bed_rest + 8.0}
    )
    pins = [{"name": n, "settings": s, "process": p.process} for n, s in (("As now", p.settings), ("Warmer", warmer))]
    p = set_value(p, "scenarios", tuple(pins))
    closed = begun_project(facts_of({"kind": "closed"}), "abs", part).project.rig
    p = set_value(p, "builds", ({"name": "Closed one", "rig": closed.model_dump()},))
    p = set_value(p, "rig.backup", p.rig.backup.model_copy(update={"kind": "battery", "capacity": 4.0e5}))
    return Bundle(p, bundle.originals)


def page(bundle: Bundle, **changes: object) -> Results:
    """What the page shows once changes are made: the judgement of a state that was run in full."""
    results = Results(Bundle(bundle.project.model_copy(update=changes), bundle.originals))
    results.get(keys.SETTINGS_CHECK)
    return results


def test_a_pinned_state_is_judged_as_its_page_judges_it(plate: Bundle) -> None:
    results = page(plate)
    now = results.get(results.judgement_key())
    assert now.anything != results.get(keys.EVALUATION).judgement.anything
    for pinned in plate.project.scenarios:
        there = page(plate, settings=pinned.settings, process=pinned.process)
        said = results.get(keys.SCENARIO_JUDGEMENT.of(scenario=pinned.name))
        assert said.anything == there.get(there.judgement_key()).anything
        quick = results.get(keys.SCENARIO_JUDGEMENT.of(scenario=pinned.name, check=False))
        assert quick.anything == there.get(keys.EVALUATION).judgement.anything
    assert results.get(keys.SCENARIO_JUDGEMENT.of(scenario="As now")).anything == now.anything


def test_machines_are_ranked_by_what_their_pages_say(plate: Bundle) -> None:
    results = page(plate)
    ranks = results.get(keys.MACHINES)
    assert {m.name for m in ranks} == {plate.project.rig.name, "Closed one"}
    for m in ranks:
        there = page(plate, rig=m.rig)
        assert m.simulated
        assert m.judgement.anything == there.get(there.judgement_key()).anything
    assert machines_by(ranks) == "by a full simulation of each"
    assert machines_by(results.get(keys.MACHINES.of(check=False))) == "by the quick models"
    own = next(m for m in ranks if m.name == plate.project.rig.name)
    offers = {s.key: s for s in results.get(keys.SUGGESTIONS).offers}
    assert own.change == offers.get("nearest"), "what Tune offers"


def test_ways_on_the_backup_are_judged_as_their_pages_judge_them(plate: Bundle) -> None:
    results = page(plate)
    ways = results.get(keys.BACKUP_IN_FULL)
    assert [w[:3] for w in ways] == [w[:3] for w in results.get(keys.ON_BACKUP)]
    for w in ways:
        there = page(plate, settings=w.settings)
        assert w.simulated
        assert w.chance == there.get(there.judgement_key()).anything
    lasting = [w for w in ways[1:] if w.run.lasts]
    text = backup_sentence(ways, plate.project.rig.backup, plate.project.criteria.risk)
    assert lasting
    assert probability_text(min(w.chance for w in lasting)) in text
    assert "by the quick models" not in text
    risk, k = plate.project.criteria.risk, ways.index(lasting[0])
    expected = {
        0.04: "4 % that anything fails then (simulated).",
        0.15: "more than the 10 % accepted",
        0.9: "the part fails (90 %,",
    }
    for chance, said in expected.items():
        others = tuple(w._replace(chance=chance if n == k else 1.0) for n, w in enumerate(ways))
        assert said in backup_sentence(others, plate.project.rig.backup, risk)
