"""Verdicts, limits, energy and the operating window."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.interpolate import RegularGridInterpolator

from mandorla.core.errors import Cancelled
from mandorla.core.failure.messages import (
    band_text,
    limit_sentence,
    margin_text,
    probability_text,
)
from mandorla.core.failure.registry import chance_of_any
from mandorla.core.failure.state import State, grade_high, grade_low
from mandorla.core.failure.words import headline
from mandorla.core.part.process import Placement, Process
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.runtime import RunContext
from mandorla.core.tune.levers import Lever, Openers
from mandorla.core.tune.messages import tune_sentence
from mandorla.core.tune.operating_point import Evaluation, evaluate, prepare_part
from mandorla.core.tune.window import compute_window, relearned
from mandorla.core.tune.window_map import LOADS, Window, settings_at
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
    return compute_window(
        rig or make_rig(chamber_heater=500.0), use or settings(100.0, 50.0), CRITERIA, e, Placement(), **options
    )


def _chance_of_loads(e: Evaluation) -> float:
    return chance_of_any({k: a for k, a in e.judgement.counted.items() if k in LOADS})


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
    assert np.array_equal(w.almond, w.part_ok & w.machine_ok)
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
        there = Settings(bed_first=p.bed, bed_rest=p.bed, chamber=p.chamber, soak_time=300.0)
        e = evaluated(rig, there)
        assert e.warp is not None
        assert p.margin == pytest.approx(min(e.warp.margin, 20.0), rel=0.12)
        assert p.chance == pytest.approx(_chance_of_loads(e), abs=0.08)
        assert p.energy == pytest.approx(e.energy.total if e.energy else 0.0, rel=0.15)
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
    # where the heater holds the chamber, the sum of both is nearly flat, and what lies between the map's coarse points may fall
    # by a thousandth of the largest (single evaluations rise); elsewhere it rises everywhere
    alone = w.chamber[i] <= w.passive[:-1] + 1.0
    assert np.all(np.diff(w.energy[i])[alone] > 0.0)
    assert np.all(np.diff(w.energy[i]) > -1e-3 * w.energy.max())
    warm = w.chamber > w.passive.max() + 3.0
    assert np.all(np.diff(w.energy[warm][:, 20]) > 0)


def test_the_maps_energy_is_the_consoles_where_the_settings_are(found: tuple[Evaluation, Window]) -> None:
    e, w = found
    assert e.energy is not None
    there = RegularGridInterpolator((w.chamber, w.bed), w.energy)([[w.present.chamber, w.present.bed]])[0]
    assert there == pytest.approx(e.energy.total, rel=0.005)
    assert w.present.energy == pytest.approx(e.energy.total)
    i, j = w.bed.size // 2, w.chamber.size // 2
    use = settings_at(w.point(i, j), make_rig(chamber_heater=500.0), settings())
    other = evaluated(make_rig(chamber_heater=500.0), use)
    assert other.energy is not None
    assert w.energy[i, j] == pytest.approx(other.energy.total, rel=0.06), (
        "off by what the marches have over steady states"
    )


def test_the_suggested_settings_really_hold(found: tuple[Evaluation, Window]) -> None:
    _, w = found
    assert w.nearest is not None
    use = Settings(bed_first=w.nearest.bed, bed_rest=w.nearest.bed, chamber=w.nearest.chamber, soak_time=300.0)
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
    assert w.chamber[0] < rig.room_temperature < w.chamber[-1]
    assert rig.room_temperature in w.chamber
    assert w.reachable.sum() == w.bed.size
    # a warmer room makes warmer air and no worse a part
    column = w.bed.size // 2
    assert np.all(np.diff(w.air[:, column]) > 0.0)
    assert w.chance[-1, column] <= w.chance[0, column] + 1e-9
    if w.nearest is not None:
        assert w.nearest.chamber == pytest.approx(rig.room_temperature)
    assert w.status in ("found", "empty")


def test_when_nothing_holds_the_reason_is_named() -> None:
    rig = make_rig(chamber_heater=500.0)
    e = evaluated(rig, size=(0.28, 0.25, 0.08), infill=1.0, surface="bare_glass", polymer="pc")
    w = window_of(e, rig)
    assert w.status == "empty"
    text = tune_sentence(w, e.judgement, (), Openers(settings(), 1.0, ()), rig, settings())
    assert w.binding in text
    assert "No single lever" in text


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


def test_what_was_learned_shrinks_the_region(found: tuple[Evaluation, Window]) -> None:
    e, w = found
    rig = make_rig(chamber_heater=500.0)
    less = relearned(w, {"flatness": -0.5}, rig, settings(), CRITERIA, e)
    assert less.almond.sum() < w.almond.sum()
    same = relearned(w, {}, rig, settings(), CRITERIA, e)
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
