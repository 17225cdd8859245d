"""Trials: worked examples, and error rates by simulation."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy.special import ndtr
from scipy.stats import betabinom, fisher_exact

from mandorla.core.errors import InputError
from mandorla.core.logbook.calibration import ANY, calibrate, too_sure
from mandorla.core.logbook.compare_prints import compare_groups
from mandorla.core.logbook.diagnosis import CAUSES, SIGNS, TESTS, Context, cheapest_test, diagnose
from mandorla.core.logbook.ladder import CLOSE, MOST, Prior, climb
from mandorla.core.logbook.latent import Use, uses
from mandorla.core.logbook.records import Effect, Instrument, Outcome, Plate, PlateEvent, Predicted, Print, Spool
from mandorla.core.logbook.trial_statistics import (
    FALSE_POSITIVES,
    compare_arms,
    log_beta_binomial,
    prints_to_decide,
    random_order,
    sequential,
)
from mandorla.core.logbook.trials import next_arm, plan_ladder, plan_pairs, stands
from mandorla.core.logbook.weaker import NOTICE, step, weaker_plates
from mandorla.core.logbook.worked import due, energy_by_month, what_worked
from mandorla.core.units import celsius

AB = ("A", "B")


# ---- pairs
def test_the_beta_binomial_is_that_of_the_textbooks() -> None:
    p, rho = 0.3, 0.2
    more = (1.0 - rho) / rho
    for k in range(6):
        mine = float(log_beta_binomial(k, 5, np.array(p), np.array(rho)))
        assert mine == pytest.approx(float(betabinom.logpmf(k, 5, p * more, (1.0 - p) * more)))


def test_fishers_test_stands_only_where_each_print_gives_one_part() -> None:
    """Lady tasting tea, 3 of 4 against 1 of 4: p 0.486."""
    found = compare_arms(AB, [(1, 1)] * 3 + [(0, 1)], [(1, 1)] + [(0, 1)] * 3)
    assert found.fisher == pytest.approx(0.4857, abs=1e-4)
    assert found.fisher == pytest.approx(fisher_exact(np.array([[3, 1], [1, 3]])).pvalue)
    assert math.isnan(compare_arms(AB, [(2, 4)], [(1, 4)]).fisher)


def test_single_parts_give_the_closed_form() -> None:
    """Uniform priors, 5 of 6 against 1 of 6: chance that the first is worse, by the sum over the Beta posteriors."""
    found = compare_arms(AB, [(1, 1)] * 5 + [(0, 1)], [(1, 1)] + [(0, 1)] * 5)
    rng = np.random.default_rng(0)
    by_draws = (rng.beta(6, 2, 400_000) > rng.beta(2, 6, 400_000)).mean()
    assert found.first_worse == pytest.approx(by_draws, abs=0.006)
    assert found.arms[0].rate[1] < 5 / 6 < found.arms[0].rate[2]


def test_one_print_an_arm_concludes_nothing_however_many_parts_it_has() -> None:
    found = compare_arms(AB, [(40, 50)], [(5, 50)])
    assert "concludes nothing" in found.sentence
    assert found.first_worse_at_full < 0.9
    with pytest.raises(InputError):
        compare_arms(AB, [(3, 2)], [])


def test_parts_that_share_their_fate_do_not_fool_the_comparison() -> None:
    """No difference, correlation 0.2, two prints of 50 an arm: Fisher on parts would be sure a third of the time."""
    rng, fooled, naive, n = np.random.default_rng(3), 0, 0, 240
    for _ in range(n):
        rates = rng.beta(0.2 * 4.0, 0.8 * 4.0, 4)
        k = rng.binomial(50, rates)
        found = compare_arms(AB, [(int(k[0]), 50), (int(k[1]), 50)], [(int(k[2]), 50), (int(k[3]), 50)])
        fooled += max(found.first_worse, 1.0 - found.first_worse) > 0.975
        table = np.array([[k[0] + k[1], 100 - k[0] - k[1]], [k[2] + k[3], 100 - k[2] - k[3]]])
        naive += fisher_exact(table).pvalue < 0.05
    assert fooled / n < 0.06
    assert naive / n > 0.25


@pytest.mark.parametrize("rate", [0.02, 0.1, 0.3, 0.5])
def test_a_test_that_is_looked_at_after_every_pair_errs_one_time_in_twenty(rate: float) -> None:
    rng, decided, seeds = np.random.default_rng(11), 0, 2000
    for _ in range(seeds):
        fails = rng.random((40, 2)) < rate
        pairs = [((int(a), 1), (int(b), 1)) for a, b in fails]
        decided += any(sequential(pairs[:k], 40).decided for k in range(1, 41))
    assert decided / seeds <= FALSE_POSITIVES + 2.0 * math.sqrt(FALSE_POSITIVES * (1.0 - FALSE_POSITIVES) / seeds)


def test_a_real_difference_is_decided_and_a_trial_ends() -> None:
    assert prints_to_decide((0.9, 0.1)) <= 12
    assert math.isinf(prints_to_decide((0.2, 0.2)))
    lost = sequential([((1, 1), (0, 1))] * 9, 20)
    assert lost.decided
    assert lost.worse == 0
    assert sequential([((0, 1), (0, 1))] * 20, 20).ended


def test_pairs_are_planned_in_random_order_and_followed() -> None:
    order = random_order(AB, 6, 3)
    assert sorted(order) == ["A"] * 6 + ["B"] * 6
    assert all(set(order[2 * k : 2 * k + 2]) == {"A", "B"} for k in range(6))
    trial = plan_pairs("Which", AB, 6)
    assert next_arm(trial, []) == trial.order[0]
    prints = [
        Print(key=f"p{k}", number=k + 1, at=f"2026-03-{k + 1:02d}", name="x", trial=trial.key, arm=arm,
              outcome=Outcome(good=int(arm == "A"), held=arm == "A", effects=() if arm == "A" else (Effect(way="adhesion"),)))
        for k, arm in enumerate(trial.order)
    ]  # fmt: skip
    assert next_arm(trial, prints[:3]) == trial.order[3]
    comparison, test = stands(trial, prints)
    assert test.differ == 6
    assert comparison.first_worse < 0.02
    assert next_arm(trial, prints) == ""
    with pytest.raises(InputError, match="two arms"):
        plan_pairs("Which", ("A", "A"), 6)
    with pytest.raises(InputError, match="concludes nothing"):
        plan_pairs("Which", AB, 1)


# ---- ladders
STEPS = [celsius(40.0) + 2.5 * k for k in range(17)]


@pytest.mark.parametrize(("up", "true"), [(True, 62.0), (False, 58.0)])
def test_a_ladder_finds_the_temperature_that_holds(up: bool, true: float) -> None:
    """Thirty ladders against a hidden curve: most intervals hold the truth, most end within 5 K of it."""
    rng, hits, near = np.random.default_rng(5), 0, 0
    prior = Prior(celsius(60.0), 8.0, 2.0, 0.4, up)
    sign = 1.0 if up else -1.0
    for _ in range(30):
        middle = celsius(true) + 5.0 * float(rng.standard_normal())
        answer = middle + sign * 2.0 * math.log(9.0)
        seen: list[tuple[float, int, int]] = []
        state = climb(prior, STEPS, seen)
        while not state.ended:
            holds = rng.random() < 1.0 / (1.0 + math.exp(-sign * (state.next - middle) / 2.0))
            seen.append((state.next, int(holds), 1))
            state = climb(prior, STEPS, seen)
        assert len(seen) <= MOST
        hits += state.low - 1.0 <= answer <= state.high + 1.0
        near += abs(state.answer - answer) <= CLOSE
    assert hits >= 21
    assert near >= 22


def test_a_ladder_begins_with_the_models_curve_and_is_checked() -> None:
    prior = Prior(celsius(70.0), 5.0, 1.5, 0.3, True)
    state = climb(prior, STEPS, [])
    assert state.answer == pytest.approx(celsius(70.0) + 1.5 * math.log(9.0), abs=1.5)
    assert state.low < state.answer < state.high
    assert (np.diff(state.holds[0]) >= -1e-9).all()
    with pytest.raises(InputError):
        climb(prior, STEPS, [(celsius(60.0), 3, 2)])
    with pytest.raises(InputError):
        climb(prior, [], [])
    with pytest.raises(InputError, match="5 K apart"):
        plan_ladder("x", "settings.bed_rest", prior, (celsius(60.0), celsius(62.0)))


# ---- comparing
def entry(n: int, plate: str, *, held: bool = True, **more: object) -> Print:
    outcome = Outcome() if held else Outcome(held=False, good=0, effects=(Effect(way="adhesion"),))
    values = {"key": f"k{n}", "number": n, "at": f"2026-03-{n:02d}", "name": "x", "plate": plate, "outcome": outcome,
              "setup": {"settings.bed_rest": "360"}} | more  # fmt: skip
    return Print.model_validate(values)


def test_more_than_one_difference_concludes_nothing_about_any() -> None:
    plates = [Plate(key=k, name=k, front="bare_glass") for k in ("a", "b")]
    prints = [entry(1, "a"), entry(2, "a", held=False), entry(3, "b"), entry(4, "b", held=False)]

    def fair(first: list[Print], second: list[Print]) -> object:
        return compare_groups(
            first, second, uses([*first, *second], []), [], plates, [], {"settings.bed_rest": "Bed, rest"}
        )

    one = fair([prints[0], prints[2]], [prints[1], prints[3]])
    assert one.differences == ()  # type: ignore[attr-defined]
    assert "Nothing differed" in one.sentence  # type: ignore[attr-defined]
    two = fair([entry(1, "a"), entry(3, "a")], [entry(2, "b"), entry(4, "b", held=False)])
    assert [d.path for d in two.differences] == ["plate"]  # type: ignore[attr-defined]
    more = fair([entry(1, "a", prepared="washed")], [entry(2, "b", setup={"settings.bed_rest": "370"})])
    assert {d.path for d in more.differences} == {"settings.bed_rest", "plate", "prepared"}  # type: ignore[attr-defined]
    assert "nothing can be concluded about any single one" in more.sentence  # type: ignore[attr-defined]
    late = fair([entry(1, "a"), entry(2, "a")], [entry(8, "a"), entry(9, "a")])
    assert [d.path for d in late.differences] == ["order"]  # type: ignore[attr-defined]


def test_use_of_a_side_counts_from_its_wash() -> None:
    prints = [entry(k, "a") for k in range(1, 8)]
    events = [
        PlateEvent(plate="a", at="2026-03-04T12:00:00", what="washed"),
        PlateEvent(plate="a", side="back", at="2026-03-06", what="washed"),
    ]
    used = uses(prints, events)
    assert [used[p.key].since_wash for p in prints] == [0, 1, 2, 3, 0, 1, 2]
    assert [used[p.key].ever for p in prints] == list(range(7))
    washed = [prints[0], prints[1].model_copy(update={"prepared": "washed"})]
    assert uses(washed, [])[prints[1].key] == Use(0, 1)


# ---- diagnosis
def test_causes_follow_signs_and_the_prediction() -> None:
    def first(signs: tuple[str, ...], **chances: float) -> str:
        said = {w: Predicted(margin=0.0, probability=p) for w, p in chances.items()}
        found = diagnose(signs, Context(said, Use(0, 0), True, True))
        assert sum(r.probability for r in found) == pytest.approx(1.0)
        return found[0].cause.key

    assert first(("ripples",)) == "near"
    assert first(("gaps", "early", "clean")) == "far"
    assert first(("separation", "crack"), cracks=0.4) == "joints"
    assert first(("sheet",), loose_plate=0.5) == "sheet"
    assert first((), adhesion=0.9) == "film"
    dirty = diagnose(("clean", "early"), Context({}, Use(15, 15), True, False))
    clean = diagnose(("clean", "early"), Context({}, Use(0, 15), True, False))
    chance = {k: {r.cause.key: r.probability for r in v} for k, v in (("dirty", dirty), ("clean", clean))}
    assert chance["dirty"]["dirty"] > 2.0 * chance["clean"]["dirty"]
    with pytest.raises(KeyError):
        diagnose(("no such sign",), Context({}, Use(0, 0), True, True))


def test_every_sign_and_cause_is_used_and_tests_tell_causes_apart() -> None:
    assert {s for c in CAUSES.values() for s in c.signs} == set(SIGNS)
    for test in TESTS:
        assert set(test.positive) <= set(CAUSES)
    assert cheapest_test("near", "far")
    assert cheapest_test("sheet", "sheet") == ""


# ---- are we right
def stated(n: int, chance: float, failed: bool, way: str = "adhesion") -> Print:
    outcome = Outcome() if not failed else Outcome(held=False, good=0, effects=(Effect(way=way),))
    return Print(key=f"s{n}", number=n + 1, name="x", anything=chance, outcome=outcome,
                 predicted={way: Predicted(margin=0.0, probability=chance)})  # fmt: skip


def test_right_and_overconfident_predictions_are_told_apart() -> None:
    rng = np.random.default_rng(2)
    true = rng.uniform(0.05, 0.6, 240)
    right = [stated(k, float(p), bool(rng.random() < p)) for k, p in enumerate(true)]
    good = calibrate(right)
    assert good.sentence.startswith("Right within")
    assert good.brier < good.constant
    inside = sum(b.low - 1e-9 <= b.observed <= b.high + 1e-9 for b in good.bins)
    assert inside >= 0.75 * len(good.bins)
    odds = np.log(true / (1.0 - true))
    bold = 1.0 / (1.0 + np.exp(-3.0 * odds))
    sure = [stated(k, float(b), bool(rng.random() < p)) for k, (p, b) in enumerate(zip(true, bold, strict=True))]
    bad = calibrate(sure)
    assert bad.sentence.startswith("Overconfident")
    assert bad.widen == pytest.approx(1.0 / 3.0, abs=0.15)
    assert too_sure(bad) == bad.widen
    assert too_sure(good) == 1.0
    assert calibrate([*right[:10], Print(name="begun")]).missing == 1
    assert calibrate(right[:10]).sentence.startswith("Too few")
    accident = Print(name="x", anything=0.1, outcome=Outcome(accident="power cut"))
    assert calibrate([accident], ANY).count == 0


# ---- plates that change
def test_a_halved_grip_is_noticed_and_seldom_where_nothing_changed() -> None:
    rng, false, fails = np.random.default_rng(4), 0, []
    for _ in range(150):
        margin, spread, total = math.log(rng.uniform(1.3, 2.0)), 0.3, 0.0
        for _ in range(100):
            total = max(0.0, total + step(margin, spread, bool(rng.random() < ndtr(-margin / spread))))
            if total >= NOTICE:
                false, total = false + 1, 0.0
        total, failed = 0.0, 0
        while total < NOTICE and failed < 20:
            bad = bool(rng.random() < ndtr(-(margin - math.log(2.0)) / spread))
            failed += bad
            total = max(0.0, total + step(margin, spread, bad))
        fails.append(failed)
    assert false <= 150
    assert np.median(fails) <= 2


def test_a_weaker_side_is_named_with_its_prints() -> None:
    said = {"adhesion": Predicted(margin=0.6, parts={"grip on the plate": 0.25}, probability=0.01)}
    prints = [entry(k, "a", predicted=said) for k in range(1, 5)] + [
        entry(k, "a", held=False, predicted=said) for k in (5, 6)
    ]
    found = weaker_plates(prints)
    assert [(w.plate, w.side) for w in found] == [("a", "front")]
    assert found[0].prints[-2:] == ("k5", "k6")
    assert weaker_plates(prints[:4]) == []


# ---- what worked, what is due
def test_what_worked_counts_prints_and_not_parts() -> None:
    batch = entry(1, "a", outcome=Outcome(good=50, copies=50))
    often = [entry(k, "a", setup={"settings.bed_rest": "365"}) for k in range(2, 8)]
    found = what_worked([batch, *often, entry(9, "a", outcome=Outcome(accident="cut", good=0))])
    assert found[0].settings == {"settings.bed_rest": "365"}
    assert found[0].prints == 6
    assert (found[1].good, found[1].parts, found[1].prints) == (50, 50, 1)
    assert found[0].at_least > found[1].at_least


def test_what_is_due_and_what_energy_cost() -> None:
    plates = [Plate(key="a", name="Sheet", front="bare_glass")]
    spools = [
        Spool(name="Red", polymer="asa", opened="2026-01-01"),
        Spool(name="Old", polymer="asa", opened="2026-01-01", retired=True),
    ]
    instruments = [Instrument(name="Probe", calibrated="2024-01-01"), Instrument(name="Meter")]
    words = [d.words for d in due(plates, {("a", "front"): Use(25, 60)}, spools, instruments)]
    assert [w.split()[0] for w in words] == ["Wash", "Dry", "Calibrate", "Calibrate"]
    prints = [
        entry(1, "a", energy_predicted=3.6e6, price=0.3 / 3.6e6, energy_measured=7.2e6),
        entry(2, "a", energy_predicted=3.6e6, price=0.3 / 3.6e6),
    ]  # fmt: skip
    (month,) = energy_by_month(prints)
    assert month.cost == pytest.approx(0.9)
    assert month.share == 1.0
    assert month.metered / month.predicted_of_metered == pytest.approx(2.0)
