"""Chances of failure: the emulator against known quadratics and against the estimate, indices by hand, anchors, limits."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from mandorla.core.errors import Cancelled
from mandorla.core.failure.failure_probability import NAMES, TESTS, failure_probabilities
from mandorla.core.failure.probability_messages import probability_sentence
from mandorla.core.failure.response_surface import design, first_order, fit_response_surface, terms
from mandorla.core.failure.thresholds import BEGINS
from mandorla.core.materials.values import Value
from mandorla.core.project.samples import sample
from mandorla.core.runtime import RunContext
from mandorla.core.warp.fe_result import NOTICED
from tests.core.asked import evaluated
from tests.core.bodies import ground, layers, run_block
from tests.core.test_fe_simulation import steel


@pytest.fixture(scope="module")
def case():
    bundle = sample("boathouse")
    e = evaluated(bundle)
    return e, bundle.project.criteria


@pytest.fixture(scope="module")
def found(case):
    e, criteria = case
    return failure_probabilities(e.part, e.conditions, e.heat, criteria)


@pytest.fixture(scope="module")
def full_run():
    return run_block((0.12, 0.06, 0.02), 7.5e-3, ground(sheet=steel(1e4)), layers(fresh=6e-4, cooling=6e-4))


def test_a_quadratic_is_emulated_exactly() -> None:
    rng = np.random.default_rng(1)
    true = rng.normal(size=(terms(np.zeros((1, 4))).shape[1], 2))
    found = fit_response_surface(lambda z: (terms(z[None, :]) @ true)[0], 4, 32, 8, 3)
    np.testing.assert_allclose(found.coefficients, true, atol=1e-9)
    assert found.errors.max() < 1e-9


def test_the_error_on_held_back_points_is_told() -> None:
    found = fit_response_surface(lambda z: np.array([np.sin(3.0 * z[0])]), 1, 16, 64, 3)
    assert found.errors[0] > 0.3


def test_the_design_fills_the_normal_distribution() -> None:
    z = design(4096, 7, 0)
    np.testing.assert_allclose(z.mean(axis=0), 0.0, atol=0.01)
    np.testing.assert_allclose(z.std(axis=0), 0.985, atol=0.02)  # its tails beyond 2.6 are cut
    assert np.abs(np.corrcoef(z.T) - np.eye(7)).max() < 0.05


def test_first_order_indices_of_a_sum_are_its_shares() -> None:
    rng = np.random.default_rng(2)
    x = rng.normal(size=(40000, 3))
    y = 3.0 * x[:, 0] + 1.0 * x[:, 1]
    assert first_order(x[:, 0], y) == pytest.approx(0.9, abs=0.01)
    assert first_order(x[:, 1], y) == pytest.approx(0.1, abs=0.01)
    assert first_order(x[:, 2], y) == pytest.approx(0.0, abs=0.005)
    assert first_order(x[:, 0], x[:, 0] * x[:, 1]) == pytest.approx(0.0, abs=0.01), "mixed terms are not of first order"
    assert first_order(x[:, 0], np.ones(40000)) == 0.0


def test_probabilities_agree_with_the_estimates_own_where_both_say_one(case, found) -> None:
    e, _ = case
    begins = next(f for f in found.failures if f.name == BEGINS)
    assert begins.probability == pytest.approx(1.0 - e.warp.hold_probability, abs=0.1)  # it takes high ends only
    assert max(found.emulator.values()) < 0.05


def test_every_failure_stands_within_its_ends_and_any_is_at_least_the_worst(found) -> None:
    for f in (*found.failures, found.anything):
        assert 0.0 <= f.low <= f.probability <= f.high <= 1.0
    assert found.anything.probability >= max(f.probability for f in found.failures if f.name != BEGINS)
    lets_go, begins = (next(f for f in found.failures if n in f.name) for n in ("detaches", "begins"))
    assert lets_go.probability < begins.probability
    assert all(u.test == TESTS[u.name] for u in found.unknowns)
    assert found.range[0] < found.without[0] < found.without[1] < found.range[1]
    assert set(NAMES) <= set(TESTS)


def test_more_known_of_the_grip_less_chance_either_way(case) -> None:
    e, criteria = case
    part = e.part
    grip = part.surface.grip["asa"]
    s = grip.strength.typical
    sure = replace(grip, strength=Value(s / 1.02, s, 1.02 * s, "trial"))
    known = replace(part, surface=replace(part.surface, grip={**part.surface.grip, "asa": sure}))
    before, after = (failure_probabilities(p, e.conditions, e.heat, criteria) for p in (part, known))
    share = [next((u.share for u in c.unknowns if u.name == "grip on the plate"), 0.0) for c in (before, after)]
    assert share[1] < 0.2 * share[0]


def test_a_stricter_limit_is_missed_more_often(case) -> None:
    e, criteria = case
    chance = [
        next(f.probability for f in failure_probabilities(e.part, e.conditions, e.heat, c).failures if "flat" in f.name)
        for c in (criteria, criteria.model_copy(update={"lift_limit": 2.0 * criteria.lift_limit}))
    ]
    assert chance[0] > chance[1] + 0.1


def test_a_full_run_anchors_the_lift_and_brings_the_plate(case, found, full_run) -> None:
    e, criteria = case
    pull = Value(5e3, 1e4, 2e4, "test")
    anchored = failure_probabilities(e.part, e.conditions, e.heat, criteria, full_run, pull)
    assert anchored.anchored
    assert not found.anchored
    plate = next(f for f in anchored.failures if "plate" in f.name)
    assert plate.probability > 0.5
    assert full_run.plate_lift.max() > NOTICED
    held = failure_probabilities(
        e.part, e.conditions, e.heat, criteria, replace(full_run, plate_lift=0.05 * full_run.plate_lift), pull
    )
    assert next(f for f in held.failures if "plate" in f.name).probability < 0.5
    larger = replace(full_run, released=4.0 * full_run.released)
    flat = [next(f.probability for f in c.failures if "flat" in f.name) for c in
            (anchored, failure_probabilities(e.part, e.conditions, e.heat, criteria, larger, pull))]  # fmt: skip
    assert flat[1] > flat[0]
    gone = failure_probabilities(e.part, e.conditions, e.heat, criteria, replace(full_run, stopped="came loose"), pull)
    assert not gone.anchored, "a run that stopped early anchors no lift"
    torn = failure_probabilities(
        e.part, e.conditions, e.heat, criteria, replace(full_run, stopped="pulled the plate off"), pull
    )
    assert next(f.probability for f in torn.failures if "plate" in f.name) == pytest.approx(plate.probability, abs=0.05)


def test_a_sentence_names_the_likeliest_and_its_test(found) -> None:
    text = probability_sentence(found)
    worst = max((f for f in found.failures if f.name != BEGINS), key=lambda f: f.probability)
    assert worst.name in text
    assert found.unknowns[0].test in text
    calm = replace(found, anything=replace(found.anything, probability=0.001))
    assert "hardly anything" in probability_sentence(calm)


def test_a_loose_plate_without_a_full_run_is_said_to_be_unknown(case, found, full_run) -> None:
    e, criteria = case
    pull = Value(5e3, 1e4, 2e4, "test")
    blind = failure_probabilities(e.part, e.conditions, e.heat, criteria, None, pull)
    assert not blind.plate_known
    assert "only a full simulation tells" in probability_sentence(blind)
    looked = failure_probabilities(e.part, e.conditions, e.heat, criteria, None, pull, gap=3.0 * NOTICED)
    assert looked.plate_known
    comes = {f.name: f.probability for f in looked.failures}["the plate comes off its seat"]
    assert comes > 0.7
    little = failure_probabilities(e.part, e.conditions, e.heat, criteria, None, pull, gap=0.3 * NOTICED)
    assert {f.name: f.probability for f in little.failures}["the plate comes off its seat"] < 0.3
    wide = {c.ranges["plate lift"][1] / c.ranges["plate lift"][0] for c in (looked, little)}
    assert min(wide) > 2.0, "the magnet alone is known to a factor of two either way"
    assert found.plate_known, "nothing is loose"
    assert "only a full simulation tells" not in probability_sentence(found)
    assert failure_probabilities(e.part, e.conditions, e.heat, criteria, full_run, pull).plate_known


def test_a_stop_is_heard(case) -> None:
    e, criteria = case
    run = RunContext()
    run.cancel()
    with pytest.raises(Cancelled):
        failure_probabilities(e.part, e.conditions, e.heat, criteria, run=run)


def test_every_figure_has_a_range_that_holds_its_typical_value(case, found) -> None:
    e, _ = case
    assert set(found.ranges) == {"hold margin", "lift", "crack index"}
    low, high = found.ranges["hold margin"]
    assert low < e.warp.margin < high
    low, high = found.ranges["crack index"]
    assert low < e.warp.crack_index < high
    assert found.ranges[found.decides] == pytest.approx(found.range, rel=1e-6)
