"""What is offered where nothing on the map holds: the same with the part fan off."""

from __future__ import annotations

from mandorla.core.part.process import PartSource, Process
from mandorla.core.project.models import Project
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.tune.messages import tune_sentence
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
