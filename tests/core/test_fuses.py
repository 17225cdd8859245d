"""Thermal fuses act in every march, a trip in the warm-up is told as such, a rating lies between normal use and damage."""

from __future__ import annotations

import numpy as np
import pytest

from mandorla.core.failure.messages import fault_sentence, fault_state, heat_up_sentence
from mandorla.core.failure.rig_checks import check_rig
from mandorla.core.failure.state import State
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.results.stage_state import heat_state
from mandorla.core.rig.bed import Fuse
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria
from mandorla.core.thermal.faults import GAPS, run_fault
from mandorla.core.thermal.fuse_choice import TOLERANCE, fuse_range
from mandorla.core.thermal.heatup import heat_up, march, settling_march, time_steps
from mandorla.core.thermal.network import surroundings
from mandorla.core.thermal.program import run_program, soak
from mandorla.core.thermal.stack import build_stack
from mandorla.core.thermal.surface_history import surface_history
from mandorla.core.units import celsius
from tests.core.bundles import small_bundle
from tests.core.rigs import settings
from tests.core.test_faults import bench_rig

CRITERIA = Criteria()
USE = settings(110.0, 40.0)


def fused(layer: str, degrees: float) -> Rig:
    return bench_rig(fuses=(Fuse(layer=layer, rating=celsius(degrees)),))


def test_a_fuse_rated_too_low_opens_in_every_march_at_the_same_moment() -> None:
    rig = fused("mat", 115.0)
    heat = heat_up(rig, USE, CRITERIA)
    assert heat.status == "tripped"
    at = heat.trips[0].time
    after = heat.time > at + 3.0
    assert np.all(heat.power[after] == 0.0), "an open fuse takes the power for good"
    assert heat.power[heat.time < at - 3.0].max() > 100.0
    program = run_program(rig, USE, CRITERIA, heat, soak(USE))
    assert program.trips[0].time == pytest.approx(at, abs=10.0)
    assert program.energy == pytest.approx(float(heat.energy[-1]), rel=0.03)
    whole = surface_history(rig, USE, at + 300.0, cells=12)
    assert whole.trips[0].time == pytest.approx(at, abs=30.0)
    assert whole.power[-1] == 0.0


def test_what_cools_after_a_trip_is_marched_as_well_in_longer_steps() -> None:
    rig = fused("mat", 115.0)
    stack = build_stack(rig.bed)
    around = surroundings(rig, stack.emissivity_top, stack.emissivity_bottom)
    steps, quick = settling_march(rig, USE, CRITERIA, 5400.0, stack, around)
    all_along = time_steps(5400.0)
    exact = march(rig, USE, all_along, stack, around)
    assert quick.trips == exact.trips
    assert steps.size < 0.5 * all_along.size
    at, other = np.cumsum(all_along), np.cumsum(steps)
    for name in ("top", "reading", "air", "frame"):
        one, two = getattr(quick.run, name)[1:], getattr(exact.run, name)[1:]
        assert np.abs(np.interp(at, other, one) - two).max() < 0.3, name


def test_a_trip_in_the_warm_up_is_a_nuisance_and_no_success() -> None:
    rig = fused("mat", 115.0)
    heat = heat_up(rig, USE, CRITERIA)
    assert "Nuisance trip" in heat_up_sentence(heat)
    assert not np.isfinite(heat.ready_time)
    for start in ("holding", "cold"):
        run = run_fault(rig, USE, CRITERIA, "relay-on", start)  # type: ignore[arg-type]
        assert run.nuisance == heat.trips
        assert fault_state(run) is State.FAILS
        assert "Nuisance trip" in fault_sentence(run)
    # the clock of the warm-up is not taken for the fault's
    assert run_fault(rig, USE, CRITERIA, "relay-on", "holding").first_fuse is None


def test_a_trip_is_one_failure_for_everybody() -> None:
    bundle = small_bundle()
    p = bundle.project
    fuses = (Fuse(layer=p.rig.bed.heater.layer, rating=p.settings.bed_first - 20.0),)
    rig = p.rig.model_copy(update={"bed": p.rig.bed.model_copy(update={"fuses": fuses})})
    e = Results(type(bundle)(p.model_copy(update={"rig": rig}), bundle.originals)).get(keys.EVALUATION)
    assert e.judgement.state("fuse_trip") is State.FAILS
    assert e.judgement.whole is State.FAILS
    assert heat_state(e) is State.FAILS


def test_a_fuse_feels_the_hottest_cell_of_its_layer() -> None:
    # the mat's mean stays below what its hottest cell, against the foam, reaches on the way
    bare = heat_up(bench_rig(2.5), USE, CRITERIA, with_bands=False)
    index = 2
    cells = bare.cells[:, bare.stack.layer == index]
    mean, hottest = float(cells.mean(axis=1).max()), float(cells.max())
    assert hottest > mean + 0.5
    between = 0.5 * (mean + hottest)
    rig = bench_rig(2.5, fuses=(Fuse(layer="mat", rating=between),))
    # a fuse lags by seconds: the rating is passed long enough only in a slow part of the warm-up, so it is held there
    held = run_fault(rig, USE, CRITERIA, "relay-on", "cold", 1800.0)
    assert held.first_fuse is not None
    k = int(np.searchsorted(held.time, held.first_fuse.time))
    assert held.layers[k, index] >= between - 0.5


def test_a_loose_mat_is_a_range_of_gaps_and_the_worst_is_told() -> None:
    run = run_fault(bench_rig(), USE, CRITERIA, "mat-loose", "holding")
    assert len(run.milder) == len(GAPS) - 1
    peaks = [float(r.peak[2]) for r in (run, *run.milder)]
    assert peaks == sorted(peaks, reverse=True)
    assert peaks[0] - peaks[-1] > 40.0
    assert all(f"With {m.named}" in fault_sentence(run) for m in run.milder)
    # radiation carries across the gap as well: the mat stays below what still air alone would make of it (0.04 m²K/W, 8 kW/m²)
    flux = float(run.power[-1]) / bench_rig().bed.area
    assert run.layers[-1, 2] - run.layers[-1, 1] < 0.75 * flux * GAPS[-1]


@pytest.mark.parametrize("density", [0.4, 0.8, 1.2])
def test_a_recommended_rating_survives_normal_use_and_ends_every_runaway(density: float) -> None:
    bare = bench_rig(density)
    heat = heat_up(bare, USE, CRITERIA, with_bands=False)
    fits = fuse_range(bare, USE, CRITERIA, heat, bare.bed.layers[2].key)
    assert fits.possible
    assert fits.least >= fits.worst_joint + TOLERANCE - 1e-9 >= fits.normal
    for rating in (fits.least, min(fits.most, fits.least + 200.0)):
        rig = bench_rig(density, fuses=(Fuse(layer="mat", rating=rating),))
        assert not heat_up(rig, USE, CRITERIA, with_bands=False).trips
        for key in ("relay-on", "sensor-loose", "mat-loose"):
            run = run_fault(rig, USE, CRITERIA, key, "holding")
            assert not run.damaged, f"{key} at {rating - 273.15:.0f} °C"


def test_on_the_plate_no_rating_sees_a_mat_that_comes_off() -> None:
    bare = bench_rig()
    heat = heat_up(bare, USE, CRITERIA, with_bands=False)
    assert not fuse_range(bare, USE, CRITERIA, heat, bare.bed.layers[1].key).possible
    rig = fused("plate", 130.0)
    check = next(
        c for c in check_rig(rig, USE, CRITERIA, heat_up(rig, USE, CRITERIA, with_bands=False)) if c.key == "fuses"
    )
    assert check.state is State.FAILS
    assert "no rating on plate" in check.finding
