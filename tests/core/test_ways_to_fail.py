"""The ways to fail: one registry for everybody; each module there is found, each has a state, words, and levers that exist."""

from __future__ import annotations

import math
from collections.abc import Iterator
from importlib import resources

import pytest

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.registry import (
    Assessment,
    NotKnown,
    forget_way,
    judge,
    way_to_fail,
    ways_to_fail,
)
from mandorla.core.failure.state import State
from mandorla.core.project.paths import set_value
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.units import METRIC, UnitPreferences
from mandorla.ui.theme.palette import LIGHT
from tests.core.asked import asked, evaluated
from tests.core.bundles import small_bundle

EXPECTED = {
    "bed_set_point",
    "chamber_set_point",
    "set_point_limit",
    "layer_rating",
    "soft_foot",
    "soft_feed",
    "adhesion",
    "flatness",
    "cracks",
    "loose_plate",
    "tipping",
    "soft_landing",
    "surface_tear",
}


def test_every_module_is_found_and_every_way_has_a_title_and_a_place() -> None:
    ways = ways_to_fail()
    assert {w.key for w in ways} >= EXPECTED
    assert len({w.key for w in ways}) == len(ways)
    assert len({w.order for w in ways}) == len(ways), "lists have one order"
    assert all(w.title[0].isupper() for w in ways)
    modules = {w.assess.__module__.rpartition(".")[2] for w in ways}
    files = {f.name[:-3] for f in resources.files("mandorla.core.failure.ways").iterdir() if f.name.endswith(".py")}
    assert modules == files - {"__init__"}


@pytest.mark.parametrize("name", ["small", "boathouse", "windowsill", "kiln"])
def test_judgement_speaks_the_language_of_both_unit_systems(name: str) -> None:
    bundle = small_bundle() if name == "small" else sample(name)
    judgement = evaluated(bundle).judgement
    assert judgement.found
    for key, a in judgement.assessed.items():
        assert a.state in State
        assert LIGHT.state_color(a.state)
        assert not math.isinf(a.margin)
        assert a.consequence
        metric, american = (judgement.words(key, p) for p in (METRIC, UnitPreferences(fahrenheit=True, inches=True)))
        assert bool(metric) == bool(american)
        assert "°C" not in american
        assert "°F" not in metric
    assert judgement.whole is not State.NOT_COMPUTED


def test_margin_spread_probability_and_state_agree() -> None:
    a = Assessment(State.FAILS, -0.2, 0.1, "quick", "it comes loose")
    assert a.z == pytest.approx(-2.0)
    assert a.probability == pytest.approx(0.97725, abs=1e-5)
    assert math.isnan(Assessment(State.HOLDS, 0.2, math.nan, "quick", "").probability)
    for bundle in (small_bundle(), sample("boathouse")):
        for key, found in evaluated(bundle).judgement.assessed.items():
            if found.state is State.FAILS and math.isfinite(found.margin):
                assert found.margin <= 0.0, key


def test_a_way_that_is_not_known_says_what_would_tell() -> None:
    judgement = evaluated(sample("boathouse")).judgement
    unknown = {k: a for k, a in judgement.found.items() if isinstance(a, NotKnown)}
    for key, a in unknown.items():
        assert a.reason
        assert judgement.words(key) == a.what_tells
        assert judgement.state(key) is State.NOT_COMPUTED


@pytest.fixture
def drafty() -> Iterator[None]:
    """A way to fail that is added for a test and removed again."""

    @way_to_fail("draught", "Cooled by a draught", order=999)
    def assess(case: FailureCase) -> Assessment | None:
        blown = case.settings.fan > 0.5
        return Assessment(
            State.FAILS if blown else State.HOLDS, -1.0 if blown else 1.0, 0.5, "quick", "layers part",
            levers=("fan",), words=lambda _: "the fan blows too hard" if blown else "",
        )  # fmt: skip

    yield
    forget_way("draught")


def test_a_new_way_is_one_function_and_decides_the_whole(drafty: None) -> None:
    bundle = small_bundle()
    blown = Bundle(set_value(bundle.project, "settings.fan", 0.9), bundle.originals)
    from mandorla.core.results.results import Results

    calm, hard = (Results(b).get(keys.EVALUATION).judgement for b in (bundle, blown))
    assert calm.state("draught") is State.HOLDS
    assert hard.state("draught") is State.FAILS
    assert hard.whole is State.FAILS
    assert hard.words("draught") == "the fan blows too hard"
    with pytest.raises(ValueError, match="two ways to fail"):
        way_to_fail("draught", "Again", order=1)(lambda _: None)


def test_after_it_is_removed_nobody_asks_it() -> None:
    assert "draught" not in {w.key for w in ways_to_fail()}
    assert "draught" not in judge_of_small()


def judge_of_small() -> set[str]:
    e = asked(small_bundle(), keys.EVALUATION)
    p = small_bundle().project
    return set(judge(FailureCase(p.rig, p.settings, p.criteria, e.heat, e.rest)).found)
