"""Verdicts, limits, energy and the operating window."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

import numpy as np
import pytest
from scipy.interpolate import RegularGridInterpolator
from scipy.special import ndtr

from mandorla.core.errors import Cancelled, InputError
from mandorla.core.failure.messages import (
    band_text,
    limit_sentence,
    margin_text,
    nearest_limit,
    probability_text,
    times_text,
)
from mandorla.core.failure.state import LimitCheck, State, grade_high, grade_low
from mandorla.core.failure.words import headline
from mandorla.core.part.process import Placement, Process
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.runtime import RunContext
from mandorla.core.tune.axes import AXES, Setup, axes_of
from mandorla.core.tune.best_of_others import compute_best
from mandorla.core.tune.levers import Lever
from mandorla.core.tune.messages import tune_sentence
from mandorla.core.tune.operating_point import Evaluation, evaluate, prepare_part
from mandorla.core.tune.simulated_point import SimulatedPoint
from mandorla.core.tune.through_runs import through_runs
from mandorla.core.tune.window import Ground, _chance, _told_otherwise, compute_window, relearned
from mandorla.core.tune.window_map import Window, settings_at
from mandorla.core.tune.worth import Openers, PairPulled
from mandorla.core.units import UnitPreferences, celsius, show
from tests.core.rigs import make_rig, settings
from tests.core.solids import box_sections

CRITERIA = Criteria()


def evaluated(
    rig: Rig | None = None, use: Settings | None = None, size: tuple[float, float, float] = (0.16, 0.08, 0.03),
    placement: Placement | None = None, **process: object,
) -> Evaluation:  # fmt: skip
    p = Process(**{"polymer": "asa", "infill": 0.3, **process})
    return evaluate(
        rig or make_rig(chamber_heater=500.0), use or settings(100.0, 50.0), CRITERIA, prepare_part(box_sections(*size), p),
        placement or Placement(),
    )  # fmt: skip


def window_of(e: Evaluation, rig: Rig | None = None, use: Settings | None = None, **options: object) -> Window:
    ground, from_file = ground_of(e, rig, use), False
    axes = axes_of(options.pop("axes", ("", "")), ground.setup, from_file=from_file)
    return compute_window(ground, axes, **options)


def ground_of(e: Evaluation, rig: Rig | None = None, use: Settings | None = None) -> Ground:
    assert e.part is not None
    own = e.part
    setup = Setup(rig or make_rig(chamber_heater=500.0), use or settings(100.0, 50.0), own.process)
    return Ground(setup, CRITERIA, e, Placement(), partial(prepare_part, own.whole))


def test_grades() -> None:
    assert [grade_high(v, 1.3, 1.0) for v in (1.3, 1.1, 0.99)] == [State.HOLDS, State.MARGINAL, State.FAILS]
    assert [grade_low(v, 0.6, 1.0) for v in (0.6, 0.8, 1.01)] == [State.HOLDS, State.MARGINAL, State.FAILS]


def test_a_part_over_the_edge_or_too_tall_is_said() -> None:
    assert "over the edge" in evaluated(placement=Placement(x=0.1)).fit_problem
    assert evaluated(placement=Placement(x=0.05)).fit_problem == ""
    assert "taller than the chamber" in evaluated(size=(0.05, 0.05, 0.6)).fit_problem


def test_moving_to_the_edge_makes_the_coldest_corner_colder() -> None:
    centred, moved = evaluated(), evaluated(placement=Placement(x=0.06, y=0.08))
    assert moved.coldest < centred.coldest
    assert moved.warp is not None
    assert moved.warp.corners[moved.warp.weakest].corner.name == "rear-right"


def test_every_rating_is_checked_and_an_exceeded_one_fails() -> None:
    rig = make_rig(chamber_heater=500.0)
    hot = evaluated(rig, settings(140.0, 80.0), polymer="pc")
    names = {c.name for c in hot.limits}
    assert {"film", "sheet", "magnet", "plate", "mat", "foam", "Supply", "Chamber", "Filament in the feed"} <= names
    magnet = next(c for c in hot.limits if c.name == "magnet")
    assert magnet.state is State.FAILS
    assert magnet.left < 0
    assert "magnet" in limit_sentence(hot.limits) or "Foot" in limit_sentence(hot.limits)
    over = evaluated(rig, settings(160.0, 50.0))
    assert next(c for c in over.limits if c.name == "Bed set point").state is State.FAILS


def test_a_chamber_that_never_gets_there_is_said() -> None:
    rig = make_rig(chamber_heater=20.0, air_changes=60.0)
    e = evaluated(rig, settings(100.0, 85.0))
    assert next(c for c in e.limits if c.name == "Chamber heater").state is State.MARGINAL


def test_soft_feed_and_swollen_foot_are_limits_of_the_polymer() -> None:
    e = evaluated(use=settings(90.0, 55.0), polymer="pla")
    states = {c.name: c.state for c in e.limits}
    assert states["Filament in the feed"] is State.FAILS
    assert e.judgement.state("soft_foot") is State.FAILS


def test_longer_soak_costs_energy_and_warms_the_start() -> None:
    short, long = (evaluated(make_rig(), settings(100.0, soak=t)) for t in (0.0, 3600.0))
    assert short.energy is not None
    assert long.energy is not None
    assert long.energy.total > short.energy.total
    assert long.course is not None
    assert short.course is not None
    assert long.course.air[0] > short.course.air[0] + 1.0


def test_without_a_part_only_the_heat_is_judged() -> None:
    e = evaluate(make_rig(), settings(), CRITERIA, None, Placement())
    assert e.warp is None
    assert e.judgement.state("adhesion") is State.NOT_COMPUTED
    assert e.judgement.state("flatness") is State.NOT_COMPUTED


@pytest.fixture(scope="module")
def found() -> tuple[Evaluation, Window]:
    e = evaluated()
    return e, window_of(e)


def test_window_has_the_points_that_were_asked_for(found: tuple[Evaluation, Window]) -> None:
    _, w = found
    assert w.margin.shape[0] >= 40
    assert w.margin.shape[1] >= 40
    assert w.status == "found"


def test_almond_is_the_overlap_of_needs_and_stands(found: tuple[Evaluation, Window]) -> None:
    _, w = found
    assert np.array_equal(w.almond, w.part_ok & w.machine_ok & (w.all_level >= 0.0))
    assert w.almond.any()
    assert not w.almond.all()
    held = w.almond
    assert w.chance[held].max() <= CRITERIA.risk + 0.02
    assert w.margin[held].min() > 1.0
    assert w.lift[held].max() < CRITERIA.lift_limit
    assert w.crack[held].max() < 1.0


def test_window_agrees_with_the_estimate_at_its_own_points(found: tuple[Evaluation, Window]) -> None:
    """A full evaluation at three points of the map: the map's spline is within its stated error there."""
    _, w = found
    rig = make_rig(chamber_heater=500.0)
    for bed, chamber in ((96.0, 55.0), (104.0, 62.0), (88.0, 70.0)):
        p = w.nearest_point(celsius(bed), celsius(chamber))
        there = Settings(bed_first=p.x, bed_rest=p.x, chamber=p.y, soak_time=300.0)
        e = evaluated(rig, there)
        assert e.warp is not None
        assert p.margin == pytest.approx(min(e.warp.margin, 20.0), rel=0.12)
        assert p.chance == pytest.approx(e.judgement.anything, abs=0.06)
        assert p.energy == pytest.approx(e.energy.total if e.energy else 0.0, rel=0.01)
    assert w.fit_error < 0.3


def test_present_point_is_the_evaluation(found: tuple[Evaluation, Window]) -> None:
    e, w = found
    assert e.warp is not None
    assert e.energy is not None
    assert w.present.margin == pytest.approx(e.warp.margin)
    assert w.present.energy == pytest.approx(e.energy.total)


def test_cheapest_is_the_cheapest_and_safe(found: tuple[Evaluation, Window]) -> None:
    _, w = found
    assert w.cheapest is not None
    assert w.nearest is not None
    assert w.cheapest.energy == pytest.approx(w.energy[w.almond].min(), rel=0.02)
    assert w.cheapest.energy <= 1.02 * w.nearest.energy
    assert w.cheapest.chance <= CRITERIA.risk + 0.02


def test_energy_rises_with_bed_and_chamber(found: tuple[Evaluation, Window]) -> None:
    _, w = found
    i = w.margin.shape[0] // 2
    assert w.passive is not None
    assert np.all(np.diff(w.energy[i]) > 0.0)
    warm = w.y > w.passive.max() + 3.0
    assert np.all(np.diff(w.energy[warm][:, 20]) > 0)


def test_the_maps_energy_is_the_consoles_where_the_settings_are(found: tuple[Evaluation, Window]) -> None:
    e, w = found
    assert e.energy is not None
    there = RegularGridInterpolator((w.y, w.x), w.energy)([[w.present.y, w.present.x]])[0]
    assert there == pytest.approx(e.energy.total, rel=1e-6)
    assert w.present.energy == pytest.approx(e.energy.total)
    i, j = w.y.size // 2, w.x.size // 2
    use = settings_at(w.point(i, j), make_rig(chamber_heater=500.0), settings())
    other = evaluated(make_rig(chamber_heater=500.0), use)
    assert other.energy is not None
    assert w.energy[i, j] == pytest.approx(other.energy.total, rel=0.01)


def test_the_suggested_settings_really_hold(found: tuple[Evaluation, Window]) -> None:
    _, w = found
    assert w.nearest is not None
    use = Settings(bed_first=w.nearest.x, bed_rest=w.nearest.x, chamber=w.nearest.y, soak_time=300.0)
    e = evaluated(make_rig(chamber_heater=500.0), use)
    assert e.warp is not None
    assert e.warp.margin > 1.0
    assert e.judgement.anything < 0.25
    assert e.state is not State.FAILS


@pytest.mark.parametrize("enclosed", [False, True])
def test_a_machine_that_cannot_choose_its_chamber_is_mapped_against_the_room(enclosed: bool) -> None:
    rig = make_rig()
    rig = rig.model_copy(update={"chamber": rig.chamber.model_copy(update={"enclosed": enclosed})})
    e = evaluated(rig)
    w = window_of(e, rig)
    assert not w.heated
    assert w.y[0] < rig.room_temperature < w.y[-1]
    assert rig.room_temperature in w.y
    assert w.reachable.sum() == w.x.size
    # a warmer room makes warmer air and no worse a part
    column = w.x.size // 2
    assert np.all(np.diff(w.air[:, column]) > 0.0)
    assert w.chance[-1, column] <= w.chance[0, column] + 1e-9
    if w.nearest is not None:
        assert w.nearest.y == pytest.approx(rig.room_temperature)
    assert w.status in ("found", "empty")


def test_when_nothing_holds_the_reason_is_named() -> None:
    rig = make_rig(chamber_heater=500.0)
    e = evaluated(rig, size=(0.28, 0.25, 0.08), infill=1.0, surface="bare_glass", polymer="pc")
    w = window_of(e, rig)
    assert w.status == "empty"
    text = tune_sentence(w, e.judgement, (), Openers(settings(), 1.0, ()), rig, settings())
    assert w.binding in text
    assert "No lever opens it" in text


def test_a_lever_is_told_with_the_settings_that_it_is_pulled_at() -> None:
    rig, present = make_rig(chamber_heater=500.0), settings()
    e = evaluated(rig, size=(0.28, 0.25, 0.08), infill=1.0, surface="bare_glass", polymer="pc")
    place = present.model_copy(update={"bed_rest": 373.15, "bed_first": 378.15})
    lever = Lever(
        "Part fan off", 2.0, 0.0, 0.1, 3600.0, 1e6, "", chance=0.02, put=place.model_copy(update={"fan": 0.0})
    )
    text = tune_sentence(window_of(e, rig), e.judgement, (), Openers(place, 0.6, (lever,)), rig, present)
    bed = f"bed for the rest {show(373.15, 'set_point', digits=0)}"
    assert place.moves(present)
    assert text.index(bed) < text.index("part fan off (2 %")
    assert "by the quick models" in text
    # two together, where none by itself is enough; alone where no single one helps
    weak = replace(lever, chance=0.95, name="Half the infill")
    pair = PairPulled(lever, weak, 0.06, 0.0, 0.0, 0.1)
    both = tune_sentence(window_of(e, rig), e.judgement, (), Openers(place, 0.99, (weak,), (pair,)), rig, present)
    assert "No single lever opens it" in both
    assert "part fan off and half the infill (6 % that anything fails)" in both
    text = tune_sentence(window_of(e, rig), e.judgement, (), Openers(place, 0.6, (lever,), (pair,)), rig, present)
    assert text.index("part fan off (2 %") < text.index("Two together: part fan off and half the infill (6 %")


def test_what_was_learned_shrinks_the_region(found: tuple[Evaluation, Window]) -> None:
    e, w = found
    less = relearned(w, {"flatness": -0.5}, ground_of(e))
    assert less.almond.sum() < w.almond.sum()
    same = relearned(w, {}, ground_of(e))
    np.testing.assert_allclose(same.part_level, w.part_level)


def test_suggested_settings_are_whole_steps_and_keep_the_first_layers_distance(
    found: tuple[Evaluation, Window],
) -> None:
    _, w = found
    assert w.nearest is not None
    rig = make_rig(chamber_heater=500.0)
    present = settings().model_copy(update={"bed_first": settings().bed_rest + 5.0})
    s = settings_at(w.nearest, rig, present)
    assert (s.bed_rest - 273.15) % 1.0 == pytest.approx(0.0, abs=1e-6)
    assert s.bed_first - s.bed_rest == pytest.approx(5.0)
    assert s.fan == present.fan


def test_a_window_can_be_cancelled() -> None:
    e = evaluated()
    run = RunContext()
    seen: list[float] = []

    def report(fraction: float, _: str) -> None:
        seen.append(fraction)
        if fraction > 0.2:
            run.cancel()

    run.report = report
    run.interval = 0.0
    with pytest.raises(Cancelled):
        window_of(e, run=run)
    assert seen
    assert max(seen) < 0.5


def test_sentences_say_figures_with_their_bands() -> None:
    e = evaluated(use=settings(80.0, 35.0))
    text = headline(e.judgement)
    assert e.judgement.whole is not State.HOLDS
    assert "%" in text
    assert "°F" not in text
    flat = e.judgement.words("flatness")
    assert "mm (" in flat
    holding = evaluated(use=settings(104.0, 70.0), size=(0.06, 0.05, 0.01))
    assert "The part holds" in headline(holding.judgement)
    inches = e.judgement.words("flatness", UnitPreferences(fahrenheit=True, inches=True))
    assert " in " in inches or "in (" in inches


def test_small_words() -> None:
    assert margin_text(25.0) == "far above"
    assert margin_text(1.234) == "1.23"
    assert probability_text(0.999) == "over 99 %"
    assert probability_text(0.001) == "under 1 %"
    assert probability_text(0.42) == "42 %"
    assert band_text(0.0013, 0.0006, 0.0024, "length") == "1.30 mm (0.60–2.40)"


@pytest.mark.parametrize(
    "names", [("bed_first", "fan"), ("bed_rest", "soak"), ("brim", "layer_time"), ("grip", "room"), ("bed", "fan")]
)
def test_any_two_axes_make_a_map_that_a_whole_evaluation_agrees_with(names: tuple[str, str]) -> None:
    e = evaluated()
    ground = ground_of(e)
    w = window_of(e, axes=names)
    assert [a.key for a in w.axes] == list(names)
    now = w.nearest_point(w.present.x, w.present.y)
    assert now.energy == pytest.approx(w.present.energy, rel=1e-3), "the present point is a node"
    assert now.chance == pytest.approx(w.present.chance, abs=0.012), "but for the draw of samples it is the same"
    rng = np.random.default_rng(3)
    for _ in range(2):
        i, j = int(rng.integers(w.y.size)), int(rng.integers(w.x.size))
        setup = w.axes[1].put(w.axes[0].put(ground.setup, float(w.x[j])), float(w.y[i]))
        there = ground.evaluated(setup)
        assert w.chance[i, j] == pytest.approx(there.judgement.anything, abs=0.1)
        assert there.energy is not None
        assert w.energy[i, j] == pytest.approx(there.energy.total, rel=0.02)


def test_a_weaker_grip_and_a_colder_room_are_no_better() -> None:
    w = window_of(evaluated(), axes=("grip", "room"))
    column = w.margin[w.y.size // 2]
    assert np.all(np.diff(column) >= -1e-9), "a plate that grips better holds better"
    assert not w.reachable.all()
    assert w.set_at(0.5, 280.0, make_rig(), settings(), Process()) == {}, "what is found cannot be set"


@pytest.mark.parametrize(
    ("names", "said"),
    [
        (("bed", "bed"), "no two axes"), (("bed", "bed_rest"), "no two axes"), (("bed", "exhaust"), "no exhaust fan"),
        (("bed", "sideways"), "There is no axis"),
    ],
)  # fmt: skip
def test_axes_that_make_no_map_are_refused_in_words(names: tuple[str, str], said: str) -> None:
    setup = ground_of(evaluated()).setup
    with pytest.raises(InputError, match=said):
        axes_of(names, setup, from_file=False)


def test_where_the_chamber_cannot_be_chosen_its_axis_says_why() -> None:
    rig = make_rig()
    setup = Setup(rig, settings(), Process())
    assert "cannot choose" in AXES["chamber"].missing(setup, False)
    assert "G-code" in AXES["brim"].missing(setup, True)


def test_in_hand_is_the_way_to_the_first_limit(found: tuple[Evaluation, Window]) -> None:
    e, _ = found
    ground = ground_of(e, use=settings(104.0, 75.0))
    inside = evaluated(use=settings(104.0, 75.0))
    assert inside.judgement.anything < CRITERIA.risk
    ground.evaluation = inside
    w = compute_window(ground, axes_of(("", ""), ground.setup, from_file=False))
    for n, name in enumerate(("bed", "chamber")):
        hand = w.in_hand(n)
        assert hand.down > 0.0
        for step, way in ((-hand.down, hand.below), (hand.up, hand.above)):
            if not np.isfinite(step):
                assert way == ""
                continue
            assert way in w.ways
            axis = AXES[name]
            risks = []
            for share in (0.6, 1.4):
                setup = axis.put(ground.setup, axis.value(ground.setup) + share * step)
                there = ground.evaluated(setup).judgement
                risks.append(there.whole is State.HOLDS)
            assert risks[0], f"{name}: within what is in hand it holds"
            assert not risks[1] or abs(step) < 2.0, f"{name}: beyond it, it does not"


def test_a_coarse_map_comes_first_and_says_so(found: tuple[Evaluation, Window]) -> None:
    e, w = found
    ground = ground_of(e)
    coarse = compute_window(ground, axes_of(("", ""), ground.setup, from_file=False), at_once=True)
    assert coarse.coarse
    assert not w.coarse
    assert coarse.present == w.present
    apart = np.abs(
        coarse.nearest_point(celsius(104.0), celsius(62.0)).chance
        - w.nearest_point(celsius(104.0), celsius(62.0)).chance
    )
    assert apart < 0.25


def test_a_map_goes_through_what_was_simulated_in_full(found: tuple[Evaluation, Window]) -> None:
    e, w = found
    ground = ground_of(e)
    run = SimulatedPoint(ground.setup.settings, State.FAILS, {"flatness": -1.0, "adhesion": 0.5})
    moved = through_runs(w, [run], ground)
    i, j = w.index_of(w.present.x, w.present.y)
    assert moved.chance[i, j] > w.chance[i, j] - 1e-9
    assert moved.places_of([run]) == ((w.present.x, w.present.y, State.FAILS),)
    elsewhere = SimulatedPoint(ground.setup.settings.model_copy(update={"fan": 0.7}), State.HOLDS, {})
    assert moved.places_of([elsewhere]) == (), "what differs in more than the axes lies on another map"


def test_how_sure_a_map_is_of_a_full_simulation_is_a_matter_of_the_quick_models_errors_alone() -> None:
    """By hand: a margin m with own error o is past nought with the chance Φ(-m / o), however wide the inputs are; of two ways that
    are likely together a full simulation says that it fails, without any error."""
    names = ("grip", "quick model's own error, margin")

    def told(*ways: tuple[float, float, float]) -> float:
        margins = {str(k): np.array([[m]]) for k, (m, _, _) in enumerate(ways)}
        parts = {str(k): np.array([[[s, o]]]) for k, (_, s, o) in enumerate(ways)}
        without = {k: np.where([False, True], 0.0, v) for k, v in parts.items()}
        chance = _chance(margins, without, names, tuple(margins))
        return float(_told_otherwise(margins, parts, names, chance)[0, 0])

    for m, s, o in ((0.2, 0.5, 0.3), (-0.1, 0.8, 0.4), (0.5, 0.1, 0.3)):
        assert told((m, s, o)) == pytest.approx(float(ndtr(-m / o)), abs=0.03)
    assert told((0.2, 0.5, 0.0)) == 0.0
    assert told((-0.2, 0.5, 0.0)) == 1.0
    assert told((0.1, 0.5, 0.0), (0.1, -0.5, 0.0)) == 1.0  # 42 % each, and not at once: 84 % together


def test_a_map_is_not_sure_about_its_edges_only(found: tuple[Evaluation, Window]) -> None:
    w = found[1]
    assert 0.0 < w.not_sure.mean() < 0.6
    assert (w.in_full[w.chance > 0.995] > 0.5).all()
    assert (w.in_full[w.chance < 0.005] < 0.5).all()
    assert not w.not_sure[w.almond & (w.all_level > 2.0)].any()


def test_with_the_others_at_their_best_more_holds_and_what_is_best_is_told(found: tuple[Evaluation, Window]) -> None:
    e, _ = found
    ground = ground_of(e)

    def grounds(setup: Setup) -> Ground:
        there = ground.evaluated(setup)
        return Ground(setup, CRITERIA, there, Placement(), ground.prepared)

    axes = axes_of(("bed", "fan"), ground.setup, from_file=False)
    held = compute_window(ground, axes, at_once=True)
    best = compute_best(ground, grounds, axes, from_file=False)
    assert best.almond.sum() >= held.almond.sum()
    assert best.almond.any()
    assert set(best.best) == {"settings.chamber", "settings.soak_time"}
    i, j = np.unravel_index(int(np.argmax(best.level)), best.level.shape)
    put = best.set_at(float(best.x[j]), float(best.y[i]), ground.setup.rig, ground.setup.settings, ground.setup.process)
    assert put["settings.chamber"] == pytest.approx(best.best["settings.chamber"][i, j])
    there = ground.evaluated(ground.setup._replace(settings=ground.setup.settings.model_copy(update={
        name.removeprefix("settings."): value for name, value in put.items()
    }))).judgement  # fmt: skip
    assert there.anything <= CRITERIA.risk, "what the map says is best holds when it is evaluated as a whole"


def test_the_nearest_of_limits_that_are_kept_is_named() -> None:
    made = [
        LimitCheck("Cork", "temperature", 331.0, 403.0, State.HOLDS, ""),
        LimitCheck("Mat", "temperature", 440.0, 473.0, State.HOLDS, ""),
        LimitCheck("None", "power", -1.0, 0.0, State.HOLDS, ""),
    ]
    assert nearest_limit(tuple(made[:2])) == "nearest to its limit is Mat: 167 °C of 200 °C"
    assert nearest_limit(tuple(made)).startswith("nearest to its limit is Mat")
    assert (times_text(3.456), times_text(20.0)) == ("3.46 times", "more than 20 times")


def test_a_map_knows_of_a_soft_foot_far_from_the_present_point() -> None:
    """Where the present foot is hard a tenfold viscosity changes nothing, but at the hot end of the map it decides."""
    rig, use = make_rig(enclosed=True), settings(70.0, 25.0)
    e = evaluated(rig, use, (0.08, 0.06, 0.04), polymer="petg")
    assert e.judgement.counted["soft_foot"].probability < 1e-3
    w, soft = window_of(e, rig, use), 0
    for j in range(55, 100, 9):
        bed = float(w.x[j])
        there = use.model_copy(update={"bed_first": bed, "bed_rest": bed})
        own = evaluated(rig, there, (0.08, 0.06, 0.04), polymer="petg").judgement
        i = w.index_of(bed, rig.room_temperature)[0]
        if own.counted["soft_foot"].probability > 0.15 and own.state("layer_rating") is State.HOLDS:
            soft += 1
            unknown = "viscosity when soft"
            assert own.counted["soft_foot"].parts[unknown] == e.judgement.counted["soft_foot"].parts[unknown]
            assert float(w.chance[i, j]) > 0.5 * own.counted["soft_foot"].probability
    assert soft >= 2


def test_a_small_cube_whose_films_hardly_pull_does_not_lift_its_sheet() -> None:
    """20 mm of PETG at the edge of its stress-free temperature: margins of e^8 were said to be lost with 18 %."""
    rig = make_rig(width=0.235, depth=0.235, power=300.0, plate=0.003)
    for bed in (74.0, 76.0, 78.0, 79.0, 80.0):
        use = settings(bed, 25.0).model_copy(update={"fan": 0.3})
        e = evaluated(rig, use, (0.02, 0.02, 0.02), polymer="petg", infill=0.25)
        loose = e.judgement.assessed.get("loose_plate")
        assert loose is None or loose.probability < 0.01
