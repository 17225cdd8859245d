"""Causes and levers: each is computed, ranked, barred where a limit says so, and the trends are those that practitioners know."""

from __future__ import annotations

import pytest

from mandorla.cli.warp_answers import why_answer
from mandorla.core.errors import Cancelled
from mandorla.core.failure.state import State
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle
from mandorla.core.results.keys import CAUSES_AND_LEVERS
from mandorla.core.results.results import Results
from mandorla.core.results.warp import CausesAndLevers
from mandorla.core.runtime import RunContext
from mandorla.core.tune.levers import Cause, Lever
from mandorla.core.tune.messages import why_sentence
from mandorla.core.units import METRIC
from tests.core.asked import asked, evaluated

Found = tuple[tuple[Cause, ...], tuple[Lever, ...]]


def found_of(bundle: Bundle, run: RunContext | None = None) -> Found:
    found = asked(bundle, CAUSES_AND_LEVERS, run)
    return found.causes, found.levers


@pytest.fixture(scope="module")
def demo() -> Found:
    """The demo's causes and levers."""
    return found_of(sample("boathouse"))


def by_name(levers: tuple[Lever, ...], start: str) -> Lever:
    return next(v for v in levers if v.name.startswith(start))


def test_levers_are_ranked_and_go_the_known_way(demo: Found) -> None:
    bundle = sample("boathouse")
    e = evaluated(bundle)
    assert e.warp is not None
    _, levers = demo
    free = [round(v.chance, 2) for v in levers if not v.barred and not v.drastic]
    assert free == sorted(free)
    assert by_name(levers, "Flex sheet twice as thick").moves in ("loose_plate", "flatness"), (
        "a corner rises with its plate"
    )
    assert by_name(levers, "Clips beside the part").chance < e.judgement.anything
    assert by_name(levers, "Chamber").chance < e.judgement.anything
    assert by_name(levers, "Chamber").margin > e.warp.margin
    assert by_name(levers, "Chamber").lift < e.warp.largest_lift
    assert by_name(levers, "Brim").margin > e.warp.margin
    assert by_name(levers, "Part fan off").margin > e.warp.margin
    assert by_name(levers, "Bed 5 K warmer").margin > e.warp.margin > by_name(levers, "Bed 5 K cooler").margin
    assert by_name(levers, "Soak").energy > e.energy.total  # type: ignore[union-attr]
    assert by_name(levers, "A wall less").duration < e.part.plan.duration  # type: ignore[union-attr]
    assert len({v.name for v in levers}) == len(levers) > 12
    lying = [v for v in levers if v.name.startswith("Lying on another face")]
    assert len(lying) >= 2
    assert all(v.margin != e.warp.margin for v in lying)
    assert any("84 mm tall" in v.name for v in lying)


def test_a_lever_is_what_editing_the_project_gives(demo: Found) -> None:
    bundle = sample("boathouse")
    p = bundle.project
    warmer = p.model_copy(update={"settings": p.settings.model_copy(update={"chamber": p.settings.chamber + 10.0})})
    e = evaluated(Bundle(warmer, bundle.originals))
    assert e.warp is not None
    lever = by_name(demo[1], "Chamber")
    assert lever.margin == pytest.approx(e.warp.margin, rel=1e-9)
    assert lever.lift == pytest.approx(e.warp.largest_lift, rel=1e-9)


def test_causes_are_ranked_and_none_makes_it_worse(demo: Found) -> None:
    bundle = sample("boathouse")
    e = evaluated(bundle)
    assert e.warp is not None
    causes, levers = demo
    assert [c.margin for c in causes] == sorted((c.margin for c in causes), reverse=True)
    assert all(c.margin >= 0.999 * e.warp.margin for c in causes)
    assert causes[0].name == "Cold air"
    text = why_sentence(e.warp.margin, e.judgement.anything, causes, levers)
    assert text.startswith("Cold air does most to the grip: without it the hold margin would be")
    best = next(v for v in levers if not v.barred and not v.drastic and v.moves)
    assert f"{best.name} helps most" in text
    best_chance = next(v.chance for v in levers if not v.barred and not v.drastic)
    same = why_sentence(e.warp.margin, best_chance, causes, levers)
    assert "No lever by itself makes it plainly likelier to hold" in same
    assert any(v.drastic for v in levers), "they are levers, but the sentence does not send a person there"
    answer = why_answer(CausesAndLevers(causes, levers, e.judgement, e.lift_limit), METRIC, bundle.project)
    assert answer["hold_margin"]["value"] == pytest.approx(e.warp.margin)
    assert [row["name"] for row in answer["levers"]] == [v.name for v in levers]
    assert [row["probability_of_any"] for row in answer["levers"]] == [v.chance for v in levers]
    bonded = next(row for row in answer["levers"] if "bonded" in row["name"])
    assert bonded["set"] == ["--set rig.bed.layers.1.bonded=True"]


def test_what_breaks_a_limit_is_barred_and_comes_last() -> None:
    bundle = sample("boathouse")
    p = bundle.project
    e = evaluated(bundle)
    assert e.judgement.limit_state is not State.FAILS
    limits = p.rig.limits.model_copy(update={"bed_max": p.settings.bed_first + 2.0})
    rig = p.rig.model_copy(update={"limits": limits})
    _, levers = found_of(Bundle(p.model_copy(update={"rig": rig}), bundle.originals))
    lever = by_name(levers, "Bed 5 K warmer")
    assert "Bed set point" in lever.barred
    assert [bool(v.barred) for v in levers] == sorted(bool(v.barred) for v in levers)


@pytest.mark.usefixtures("computed_anew")
def test_nothing_helps_is_said_and_a_stop_is_heard(demo: Found) -> None:
    bundle = sample("boathouse")
    e = evaluated(bundle)
    assert e.warp is not None
    assert why_sentence(e.warp.margin, 0.5, (), ()) == "No lever by itself makes it hold better."
    run = RunContext()
    run.cancel()
    with pytest.raises(Cancelled):
        Results(bundle).get(CAUSES_AND_LEVERS, run)
