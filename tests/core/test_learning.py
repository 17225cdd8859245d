"""What prints teach: posteriors against the truth they were drawn from, and predictions that follow."""

from __future__ import annotations

import math
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import numpy as np
import pytest
from scipy.special import ndtr

from mandorla.core.logbook.applied import ERRORS, grip_spread_of, place_of, with_prints
from mandorla.core.logbook.evidence import margin_by
from mandorla.core.logbook.latent import (
    MODEL_SHARE,
    UPSET,
    Layout,
    Names,
    Stack,
    Use,
    half_normal,
    loads_of,
    rows_of,
)
from mandorla.core.logbook.learning import (
    DRAWS,
    ENOUGH,
    Experience,
    Joint,
    Place,
    effective_size,
    joint_of,
    learn_prints,
    posterior,
)
from mandorla.core.logbook.messages import wider_sentence
from mandorla.core.logbook.records import Effect, Machine, Outcome, Plate, Predicted, Print
from mandorla.core.logbook.workshop import Workshop
from mandorla.core.project.paths import set_value
from mandorla.core.project.store import Bundle, bundle_bytes
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.warp.learned import NOTHING
from mandorla.core.warp.unknowns import EXPANSION, GRIP, MODEL, STIFFNESS
from tests.core.bundles import small_bundle
from tests.core.solids import block, stl

PARTS = {GRIP: 0.3, EXPANSION: -0.25, STIFFNESS: -0.2, f"{MODEL}, margin": 0.3, "plate temperature": 0.05}
PLACE = Place("Loft", "Sheet", "front", "bare_glass", "asa", 0.42)


def printed(n: int, margin: float, *, held: bool, plate: str = "p1", polymer: str = "asa", **more: object) -> Print:
    outcome = Outcome() if held else Outcome(held=False, good=0, effects=(Effect(way="adhesion"),))
    values = {
        "key": f"k{n}", "number": n, "at": f"2026-03-01T{n // 60:02d}:{n % 60:02d}:00+00:00", "name": "x",
        "machine": "m1", "plate": plate,
        "polymer": polymer, "surface": "bare_glass", "outcome": outcome,
        "evidence": {"adhesion": Predicted(margin=margin, parts=PARTS)}, "grip_spread": 0.42,
    } | more  # fmt: skip
    return Print.model_validate(values)


def learned(prints: list[Print]) -> Experience:
    return learn_prints(
        prints, [], [Machine(key="m1", name="Loft")], [Plate(key="p1", name="Sheet", front="bare_glass")]
    )


def hidden(rng: np.random.Generator, count: int, shift: float = -0.5) -> list[Print]:
    """Prints at many margins whose truth lies by ``shift`` (ln) below what was predicted."""
    names = Names()
    own = loads_of(printed(0, 0.0, held=True), Predicted(margin=0.0, parts=PARTS), names)[2]
    margins = rng.uniform(-0.6, 1.6, count)
    return [
        printed(k, float(m), held=bool(m + shift + own * rng.standard_normal() >= 0.0)) for k, m in enumerate(margins)
    ]


def margin_shift(e: Experience, place: Place = PLACE) -> tuple[float, float]:
    """What all learned unknowns do to the margin of a new print: mean and standard deviation."""
    joint = joint_of(e, place)
    total = sum(joint.draws[:, joint.names.index(n)] * PARTS[n] for n in PARTS if n in joint.names)
    return float(np.mean(total)), float(np.std(total))


# ---- the likelihood
def test_the_likelihood_of_each_kind_of_row_is_that_by_hand() -> None:
    p = printed(1, 0.5, held=True)
    names = Names()
    rows, specimens, surfaces = rows_of([p], [], names)
    (row,) = rows
    layout = Layout(tuple(names.index), tuple(specimens), tuple(surfaces))
    x = np.random.default_rng(1).standard_normal((5, layout.size))

    def log(**changes: object) -> np.ndarray:
        return Stack([replace(row, **changes)], layout).logs(x, upsets=False)  # type: ignore[arg-type]

    m = 0.5 + Stack([row], layout).shift(x)[:, 0]
    assert log(kind="held") == pytest.approx(np.log(ndtr(m / row.own)))
    assert log(kind="happened") == pytest.approx(np.log(ndtr(-m / row.own)))
    between = ndtr(-m / row.own) - ndtr(-(m + 1.0) / row.own)
    assert log(kind="between", before=1.5) == pytest.approx(np.log(between))
    lift = log(kind="lift", read=(0.2, 0.0))
    assert lift == pytest.approx(
        -0.5 * ((0.2 - m) / math.hypot(row.own, 0.15)) ** 2 - math.log(math.hypot(row.own, 0.15))
    )
    with_upsets = Stack([replace(row, kind="held")], layout).logs(x)
    assert with_upsets == pytest.approx(np.log((1.0 - UPSET) * ndtr(m / row.own) + 0.5 * UPSET))


def test_copies_of_one_print_share_one_effect() -> None:
    """50 copies that all fail tell little more than one that does: the print is what failed."""
    one = learned([printed(1, 0.6, held=False)])
    many = learned(
        [
            printed(
                1,
                0.6,
                held=False,
                outcome=Outcome(held=False, good=0, copies=50, effects=(Effect(way="adhesion", count=50),)),
            )
        ]
    )
    assert margin_shift(many)[0] < margin_shift(one)[0] < 0.0
    assert margin_shift(many)[0] > 3.0 * margin_shift(one)[0]


def test_shares_of_the_unknowns_add_up_to_what_was_predicted() -> None:
    names = Names()
    p = printed(1, 0.0, held=True)
    loads, grip, own = loads_of(p, p.evidence["adhesion"], names)
    by = {name: dict(loads).get(k, 0.0) for name, k in names.index.items()}
    class_and_pair = by["grip|class|bare_glass"] ** 2 + by["grip|pair|bare_glass|asa"] ** 2
    assert class_and_pair == pytest.approx(0.3**2)
    assert by["asa|thermal expansion"] == pytest.approx(-0.25)
    assert by["model|margin"] ** 2 == pytest.approx(MODEL_SHARE * 0.3**2)
    assert own > math.hypot(0.05, math.sqrt(1.0 - MODEL_SHARE) * 0.3)
    assert grip == pytest.approx(0.3 / 0.42)


def test_an_accident_tells_only_what_was_printed_by_then() -> None:
    course = {"adhesion": Predicted(margin=0.2, parts=PARTS, heights=(0.0, 0.05, 0.1), margins=(2.0, 1.0, 0.2))}
    cut = printed(1, 0.2, held=True, evidence=course, outcome=Outcome(accident="power cut", accident_at=0.05, good=0))
    rows, _, _ = rows_of([cut], [], Names())
    assert [(r.kind, r.margin) for r in rows] == [("held", 1.0)]
    assert rows_of([cut.model_copy(update={"outcome": Outcome(accident="jam", good=0)})], [], Names())[0] == []
    seen = Outcome(held=False, good=0, effects=(Effect(way="adhesion", low=0.05, high=0.1),))
    (row,), _, _ = rows_of([cut.model_copy(update={"outcome": seen})], [], Names())
    assert (row.kind, row.before, row.margin) == ("between", 1.0, 0.2)
    assert margin_by(course["adhesion"], 0.075) == pytest.approx(0.6)
    assert math.isinf(margin_by(course["adhesion"], 0.0))


# ---- the posterior
def test_prints_find_a_hidden_shift_and_narrow_what_is_known() -> None:
    hits, rng = 0, np.random.default_rng(7)
    before = margin_shift(learned([]))
    for _ in range(8):
        e = learned(hidden(rng, 40))
        mean, spread = margin_shift(e)
        assert spread < 0.75 * before[1]
        hits += abs(mean + 0.5) < 1.645 * spread
        assert e.effective >= ENOUGH
    assert hits >= 6


def test_holding_tells_grip_over_pull_and_not_either() -> None:
    e = learned(hidden(np.random.default_rng(9), 60))
    joint = joint_of(e, PLACE)
    grip, film = (joint.draws[:, joint.names.index(n)] for n in (GRIP, EXPANSION))
    margin = sum(joint.draws[:, joint.names.index(n)] * PARTS[n] for n in PARTS if n in joint.names)
    # the ridge: both together are known much better than by themselves
    assert np.corrcoef(grip, film)[0, 1] > 0.05
    assert margin.std() < 0.6 * math.hypot(*(PARTS[n] for n in PARTS if n in joint.names))
    assert film.std() > 0.75


def test_another_polymer_on_a_known_plate_starts_informed_and_one_bad_sheet_is_told_from_its_class() -> None:
    bad = [printed(k, 0.9, held=False, plate="p2") for k in range(8)]
    good = [printed(20 + k, 0.3, held=True, plate="p1") for k in range(12)]
    e = learn_prints(
        [*bad, *good], [], [Machine(key="m1", name="Loft")],
        [Plate(key="p1", name="Sheet", front="bare_glass"), Plate(key="p2", name="Other", front="bare_glass")],
    )  # fmt: skip
    ln = [float(e.layout.specimen(e.draws, e.layout.specimens.index(f"{p}|front")).mean()) for p in ("p1", "p2")]
    assert ln[1] < ln[0] - 0.5
    assert margin_shift(e, PLACE._replace(plate="Other"))[0] < margin_shift(e)[0] - 0.3
    low = learned([printed(k, 0.9, held=False) for k in range(10)])
    assert margin_shift(low, PLACE._replace(polymer="petg", plate=""))[0] < -0.02


def test_a_single_odd_print_does_not_overturn_the_model_and_ten_do() -> None:
    """2.5 in ln above its limit, and it came off: a fingerprint, until it happens again and again."""
    once = margin_shift(learned([printed(1, 2.5, held=False)]))[0]
    often = margin_shift(learned([printed(k, 2.5, held=False) for k in range(10)]))[0]
    assert once > -0.6
    assert often < -1.2


def test_wear_and_use_count() -> None:
    layout = Layout((), (), ("bare_glass",))
    x = np.zeros((1, layout.size))
    assert half_normal(np.zeros(1))[0] == pytest.approx(0.6745, abs=1e-4)
    assert Stack([], layout).shift(x).shape == (1, 0)
    used = learned([printed(k, 0.0, held=k < 12) for k in range(24)])
    fresh = joint_of(replace(used, used={}), PLACE)
    worn = joint_of(replace(used, used={("p1", "front"): Use(24, 24)}), PLACE)
    k = fresh.names.index(GRIP)
    assert worn.draws[:, k].mean() < fresh.draws[:, k].mean() - 0.2


def test_what_a_few_weights_tell_is_left_to_chains(monkeypatch: pytest.MonkeyPatch) -> None:
    prints = hidden(np.random.default_rng(5), 25)
    by_weights = learned(prints)
    assert by_weights.method.startswith("weights")
    monkeypatch.setattr("mandorla.core.logbook.learning.ENOUGH", 1e9)
    monkeypatch.setattr("mandorla.core.logbook.learning._ROUNDS", 1)
    by_chains = learned(prints)
    assert by_chains.method == "chains"
    assert margin_shift(by_chains)[0] == pytest.approx(margin_shift(by_weights)[0], abs=0.12)
    assert margin_shift(by_chains)[1] == pytest.approx(margin_shift(by_weights)[1], rel=0.35)


def test_weights_and_no_prints() -> None:
    assert effective_size(np.ones(50)) == pytest.approx(50.0)
    assert effective_size(np.array([1.0, 0.0, 0.0])) == pytest.approx(1.0)
    draws, method, _ = posterior([], Layout(("a",), (), ()))
    assert method == "no print"
    assert draws.shape == (DRAWS, 2)


# ---- predictions follow
@lru_cache
def cool_bundle() -> Bundle:
    """A long block on a cool bed: one in ten is predicted to come off, and it is not flat."""
    project = small_bundle().project
    for path, value in (("settings.bed_rest", 353.15), ("settings.chamber", 303.15), ("process.infill", 0.8)):
        project = set_value(project, path, value)
    return Bundle(project, {"block.stl": stl(block(200.0, 60.0, 40.0))})


@lru_cache
def entry() -> Print:
    return Results(cool_bundle()).get(keys.PRINT_ENTRY)


def shop(path: Path, ends: list[bool]) -> Workshop:
    """Prints that all bow and tilt their plate, as is predicted; some also come off."""
    found, seen = Workshop(path), (Effect(way="flatness"), Effect(way="loose_plate"))
    for held in ends:
        begun = found.begin(entry(), bundle_bytes(cool_bundle()), machine=small_bundle().project.rig.name)
        effects = seen if held else (Effect(way="adhesion"), *seen)
        found.end(begun.key, Outcome(held=False, good=0, effects=effects))
    return found


def test_an_entry_keeps_what_was_predicted_and_the_librarys_word() -> None:
    e, evaluation = entry(), Results(cool_bundle()).get(keys.EVALUATION)
    judged = evaluation.judgement
    assert e.anything == pytest.approx(judged.anything)
    assert e.predicted["adhesion"].margin == pytest.approx(judged.assessed["adhesion"].margin)
    assert e.evidence == e.predicted
    assert e.predicted["adhesion"].margins[-1] == pytest.approx(e.predicted["adhesion"].margin)
    assert e.setup["settings.bed_rest"] == "353.15"
    bare = Bundle(small_bundle().project.model_copy(update={"part": None}), {})
    with pytest.raises(Exception, match="no part"):
        Results(bare).get(keys.PRINT_ENTRY)


def test_prints_that_fail_make_the_prediction_worse_everywhere_and_the_switch_takes_it_back(tmp_path: Path) -> None:
    experience = shop(tmp_path / "a.db", [False, False, False]).experience()
    bundle = cool_bundle()
    plain, taught = Results(bundle), Results(bundle, None, experience)
    before, after = plain.get(keys.EVALUATION), taught.get(keys.EVALUATION)
    assert after.part is not None
    assert after.part.learned.prints == 3
    assert after.judgement.assessed["adhesion"].margin < before.judgement.assessed["adhesion"].margin - 0.1
    # what learning starts from stays the library's: no print is counted twice
    assert taught.get(keys.PRINT_ENTRY).evidence == plain.get(keys.PRINT_ENTRY).evidence
    assert taught.get(keys.PRINT_ENTRY).predicted != plain.get(keys.PRINT_ENTRY).predicted
    off = Bundle(set_value(bundle.project, "criteria.from_prints", False), bundle.originals)
    assert Results(off, None, experience).get(keys.LEARNED) == NOTHING
    assert taught.digest(keys.EVALUATION) != plain.digest(keys.EVALUATION)


def test_prints_that_hold_narrow_the_prediction(tmp_path: Path) -> None:
    experience = shop(tmp_path / "b.db", [True] * 8).experience()
    bundle = cool_bundle()
    process, rig = bundle.project.process, bundle.project.rig
    known = with_prints(NOTHING, experience, process, rig.name).polymers["asa"]
    assert known.errors == ERRORS
    assert known.root @ known.root == pytest.approx(known.covariance, abs=1e-9)
    before, after = (
        Results(bundle, None, e).get(keys.EVALUATION).judgement.assessed["adhesion"] for e in (None, experience)
    )
    assert after.probability < before.probability
    assert after.spread < before.spread
    assert place_of(process, rig.name).grip_spread == grip_spread_of(process)


def test_what_was_learned_is_kept_beside_the_book(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    first = shop(tmp_path / "c.db", [True, False]).experience()
    monkeypatch.setattr("mandorla.core.logbook.workshop.learn_prints", lambda *_: pytest.fail("learned again"))
    again = Workshop(tmp_path / "c.db").experience()
    assert again.digest == first.digest
    assert (again.prints, again.started, again.counts) == (first.prints, first.started, first.counts)


def test_settings_are_carried_over_to_where_plate_and_air_are_the_same() -> None:
    results = Results(small_bundle())
    at = results.get(keys.EVALUATION).conditions
    assert at is not None
    key = keys.CARRIED_OVER.of(plate=at.plate_rest - 6.0, air=at.chamber - 3.0)
    found = results.get(key)
    project = small_bundle().project
    for path, value in found.items():
        project = set_value(project, path, value)
    there = Results(Bundle(project, small_bundle().originals)).get(keys.EVALUATION).conditions
    assert there is not None
    assert there.plate_rest == pytest.approx(at.plate_rest - 6.0, abs=0.3)
    assert there.chamber == pytest.approx(at.chamber - 3.0, abs=0.5)


def test_a_ladder_begins_where_the_model_says() -> None:
    results = Results(small_bundle())
    up, down = (results.get(keys.LADDER_PRIOR.of(setting="settings.bed_rest", direction=d)) for d in ("up", "down"))
    assert up.up
    assert not down.up
    assert up.width > 0.0
    assert 1.0 < up.middle_spread < 40.0


def test_chances_that_were_too_sure_are_stated_wider() -> None:
    experience = learned(hidden(np.random.default_rng(5), 20))
    assert experience.widen == 1.0
    process, rig = cool_bundle().project.process, cool_bundle().project.rig
    sure, wide = (
        with_prints(NOTHING, replace(experience, widen=w), process, rig.name).polymers["asa"] for w in (1.0, 0.5)
    )
    assert wide.mean == pytest.approx(sure.mean)
    assert wide.root == pytest.approx(2.0 * sure.root)
    assert replace(experience, widen=0.5).digest != experience.digest


def test_a_range_that_became_wider_is_explained_and_one_that_did_not_is_not() -> None:
    draws = np.random.default_rng(1).normal(size=(4000, 2))
    narrow = Joint((GRIP, STIFFNESS), 0.8 * draws, 5, (1.2, 1.0))
    wide = Joint((GRIP, STIFFNESS), 2.0 * draws, 5, (1.2, 1.0))
    assert wider_sentence(narrow) == ""
    assert "differ more among themselves" in wider_sentence(wide)
    assert wider_sentence(Joint((STIFFNESS,), 2.0 * draws[:, :1], 5, (1.0,))) == ""
