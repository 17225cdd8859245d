"""The ways to fail: one registry for everybody; each module there is found, each has a state, words, and levers that exist."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import replace
from importlib import resources

import pytest

from mandorla.cli.command import exit_status
from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.chances import chances_sentence, deciding_unknowns
from mandorla.core.failure.registry import (
    Assessment,
    Judgement,
    NotKnown,
    chance_of_any,
    forget_way,
    judge,
    state_of,
    way_to_fail,
    ways_to_fail,
)
from mandorla.core.failure.state import State
from mandorla.core.failure.words import headline
from mandorla.core.project.paths import set_value
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.tune.suggestion import failing_point, what_must_be_wrong
from mandorla.core.units import METRIC, UnitPreferences, celsius
from mandorla.ui.theme.palette import LIGHT
from mandorla.ui.widgets.console import first_failure
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
    a = Assessment(State.FAILS, -0.2, {"grip": 0.06, "air": -0.08}, "quick", "it comes loose")
    assert a.spread == pytest.approx(0.1)
    assert a.z == pytest.approx(-2.0)
    assert a.probability == pytest.approx(0.97725, abs=1e-5)
    assert math.isnan(Assessment(State.HOLDS, 0.2, {}, "quick", "").probability)
    assert Assessment(State.FAILS, 0.2, {}, "quick", "").probability == 1.0
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
            State.FAILS if blown else State.HOLDS, -1.0 if blown else 1.0, {"wind": 0.5}, "quick", "layers part",
            levers=("fan",), words=lambda _: "the fan blows too hard" if blown else "",
        )  # fmt: skip

    yield
    forget_way("draught")


@pytest.mark.usefixtures("computed_anew")
def test_a_new_way_is_one_function_and_decides_the_whole(drafty: None) -> None:
    bundle = small_bundle()
    blown = Bundle(set_value(bundle.project, "settings.fan", 0.9), bundle.originals)
    from mandorla.core.results.results import Results

    calm, hard = (Results(b).get(keys.EVALUATION).judgement for b in (bundle, blown))
    assert calm.state("draught") is State.HOLDS
    assert hard.anything > calm.anything
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


def way(margin: float, **parts: float) -> Assessment:
    return Assessment(state_of(0.5 * math.erfc(margin)), margin, parts, "quick", "")


def test_failures_with_one_cause_come_together_and_others_do_not() -> None:
    """Two of 10 % each: 10 % where they share their only unknown, 19 % where they share none."""
    z = 1.2815515655
    alike = chance_of_any({"a": way(z, stress=1.0), "b": way(2.0 * z, stress=2.0)})
    apart = chance_of_any({"a": way(z, stress=1.0), "b": way(z, grip=1.0)})
    assert alike == pytest.approx(0.10, abs=0.01)
    assert apart == pytest.approx(0.19, abs=0.012)
    against = chance_of_any({"a": way(z, stress=1.0), "b": way(z, stress=-1.0)})
    assert against == pytest.approx(0.20, abs=0.012)
    assert chance_of_any({"a": way(9.0, x=1.0), "b": Assessment(State.FAILS, math.nan, {}, "quick", "")}) == 1.0


@pytest.mark.parametrize(
    ("p", "state"), [(0.0, "holds"), (0.1, "holds"), (0.11, "marginal"), (0.49, "marginal"), (0.5, "fails")]
)
def test_states_follow_from_the_chance(p: float, state: str) -> None:
    assert state_of(p).value == state


def test_the_design_point_lies_on_the_contour_against_the_gradient() -> None:
    a = way(0.7, grip=0.3, creep=-0.4)
    at = failing_point(a, 1.5, ("grip", "creep"))
    assert math.hypot(*at.values()) == pytest.approx(1.5)
    assert at["grip"] < 0.0 < at["creep"]
    moved = a.margin + sum(a.parts[k] * v for k, v in at.items())
    assert moved == pytest.approx(a.margin - 1.5 * a.spread)


def test_what_would_have_to_be_wrong_lies_where_the_margin_ends_not_on_the_accepted_contour() -> None:
    """A chance of one in a hundred and something 1.3 standard deviations off that makes it fail cannot both be told."""

    def said(margin: float, **parts: float) -> str:
        a = way(margin, **parts)
        return what_must_be_wrong(
            Judgement({"plate": a}, {"plate": "The plate"}, frozenset({"plate"}), a.probability, 0.1), ("pull", "creep")
        )

    text = said(1.2, pull=0.48, creep=-0.36)
    assert text == "First to fail: “the plate”, with pull 1.6 σ below typical and creep 1.2 σ above typical or beyond"
    assert said(3.0, pull=0.48, creep=-0.36).endswith("by nothing that is known within 4 σ")
    assert (
        said(1.2, model=0.5) == "First to fail: “the plate”"
    )  # the model's own error is nothing that one could look at
    assert said(-0.2, pull=0.48).endswith("pull 0.0 σ below typical or beyond")


def test_deciding_unknowns_share_the_scatter_and_name_a_test() -> None:
    for bundle in (small_bundle(), sample("boathouse")):
        j = evaluated(bundle).judgement
        for key, a in j.counted.items():
            unknowns = deciding_unknowns(a)
            assert sum(u.share for u in unknowns) == pytest.approx(1.0, abs=0.05) or not a.parts, key
            assert [u.share for u in unknowns] == sorted((u.share for u in unknowns), reverse=True)
            assert all(u.test for u in unknowns)
        assert "%" in chances_sentence(j) or "1 in 100" in chances_sentence(j)


def test_what_fails_is_named_first_with_its_chance_and_holds_is_said_only_where_nothing_fails() -> None:
    j = evaluated(sample("boathouse")).judgement
    text = headline(j)
    assert j.first == "loose_plate"
    assert "off its magnet" in text
    assert "that it fails this way" in text
    assert "holds" not in text
    small = evaluated(small_bundle()).judgement
    assert ("The part holds" in headline(small)) is (small.whole is State.HOLDS)


def test_what_is_not_known_is_not_determined_unless_something_fails_anyway() -> None:
    missing = NotKnown("it stopped", "a finer run tells")
    j = evaluated(small_bundle()).judgement
    assert j.whole is not State.FAILS
    unknown = replace(j, found={**j.found, "cracks": missing})
    assert not unknown.determined
    assert unknown.whole is State.NOT_COMPUTED
    assert headline(unknown).startswith("Not determined: cracks between layers is not known.")
    assert "a finer run tells" in headline(unknown)
    assert first_failure(unknown) == ("Not known", "not determined", State.NOT_COMPUTED)
    assert exit_status(unknown.whole, unknown.determined, "fails") == 3
    fails = evaluated(sample("boathouse")).judgement
    failing = replace(fails, found={**fails.found, "cracks": missing})
    assert failing.whole is State.FAILS
    assert headline(failing).startswith(headline(fails).split(".")[0])
    assert headline(failing).endswith("Not known: cracks between layers.")
    assert first_failure(failing)[0] == "Plate off"
    assert exit_status(failing.whole, failing.determined, "fails") == 1


def set_to(bed: float, chamber: float) -> Bundle:
    """The demo at other set points (°C)."""
    bundle = sample("boathouse")
    settings = bundle.project.settings.model_copy(
        update={"bed_first": celsius(bed), "bed_rest": celsius(bed), "chamber": celsius(chamber)}
    )
    return Bundle(bundle.project.model_copy(update={"settings": settings}), bundle.originals)


def test_a_plate_warmer_than_it_is_set_to_needs_no_heating_and_is_not_a_weak_heater() -> None:
    found = evaluated(set_to(25.0, 44.0)).judgement.assessed["bed_set_point"]
    assert found.state is State.MARGINAL
    assert "no heating is needed" in found.checks[0].reason
    assert "weak" not in found.checks[0].reason
    assert "bed_set_point" not in evaluated(set_to(94.0, 44.0)).judgement.assessed


def test_a_chamber_that_settles_above_its_set_point_is_said_and_fails_nothing() -> None:
    judgement = evaluated(set_to(94.0, 30.0)).judgement
    found = judgement.assessed["chamber_set_point"]
    assert found.state is State.HOLDS
    assert found.checks[0].left < -1.0
    assert "without its heater" in found.checks[0].reason
    assert "chamber_set_point" not in evaluated(set_to(94.0, 44.0)).judgement.assessed


def test_what_is_typed_has_no_spread() -> None:
    limit = sample("boathouse").project.rig.limits
    at = evaluated(set_to(limit.bed_max - 273.15, 44.0)).judgement.assessed["set_point_limit"]
    assert at.state is State.HOLDS
    assert math.isnan(at.spread)
    assert not at.probability > 0.0
    beyond = evaluated(set_to(limit.bed_max - 272.15, 44.0)).judgement
    assert beyond.assessed["set_point_limit"].state is State.FAILS
    assert beyond.anything == pytest.approx(1.0)
