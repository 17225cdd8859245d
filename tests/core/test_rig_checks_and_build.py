"""Checks with reasons, bill of materials, calendar; regulator tuning, programs, bands of curves, the bow as a map."""

from __future__ import annotations

from datetime import datetime, timedelta
from itertools import pairwise

import numpy as np
import pytest

from mandorla.core.errors import Cancelled
from mandorla.core.failure.rig_checks import CHECKS, RigCheck, check_rig
from mandorla.core.failure.state import State
from mandorla.core.rig.bed import Bed
from mandorla.core.rig.build_list import bill_of_materials
from mandorla.core.rig.chamber import panels_of
from mandorla.core.rig.consumers import Consumer, Plug
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, ProgramStep, Settings
from mandorla.core.rig.works import calendar, works
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.bow import bow_map, flexural_rigidity, gradient_bow, thermal_bow
from mandorla.core.thermal.bow_map import height_map
from mandorla.core.thermal.heatup import heat_up
from mandorla.core.thermal.parameter_samples import rig_unknowns
from mandorla.core.thermal.pid_tuning import step_answer, tune_regulator
from mandorla.core.thermal.program import run_program, soak, two_stage
from mandorla.core.thermal.uncertainty_bands import curve_bands
from mandorla.core.units import celsius
from tests.core.rigs import make_rig, settings

CRITERIA = Criteria()


def bed_of(rig: Rig, **updates: object) -> Rig:
    return rig.model_copy(update={"bed": Bed.model_validate({**rig.bed.model_dump(), **updates})})


def checks_of(rig: Rig, use: Settings | None = None) -> dict[str, RigCheck]:
    use = use or settings(100.0)
    heat = heat_up(rig, use, CRITERIA, with_bands=False)
    return {c.key: c for c in check_rig(rig, use, CRITERIA, heat)}


def fused(rig: Rig, mat: float = 150.0, plate: float = 130.0) -> Rig:
    fuses = [{"layer": "mat", "rating": celsius(mat)}, {"layer": "plate", "rating": celsius(plate)}]
    return bed_of(rig, fuses=fuses)


def test_every_check_speaks_in_whole_sentences() -> None:
    found = checks_of(fused(make_rig()))
    assert set(found) <= set(CHECKS)
    assert len(found) >= 10
    for check in found.values():
        assert check.finding[0].isupper() or check.finding[0].isdigit()
        assert check.finding.rstrip().endswith(".")
        assert check.reason.endswith(".")


def test_power_density_tells_both_schools_with_time_and_bow() -> None:
    text = checks_of(make_rig())["power-density"].finding
    assert "0.50 W/cm²" in text
    assert "0.80 W/cm²" in text
    assert text.count("min") >= 3
    assert text.count("µm") == 3
    # 250 mm square of aluminium over its side: 3.3 and 5.3 µm at 0.5 and 0.8 W/cm², corner to corner twice that
    bed = bed_of(make_rig(width=0.25, depth=0.25)).bed
    for flux, sag in ((5000.0, 3.3e-6), (8000.0, 5.3e-6)):
        assert gradient_bow(bed, flux) == pytest.approx(2.0 * sag, rel=0.13)
    gentle, fast = (heat_up(make_rig(power=p), settings(100.0), CRITERIA, with_bands=False) for p in (340.0, 544.0))
    assert gentle.ready_time > 1.3 * fast.ready_time
    wild = make_rig(power=3000.0)
    assert checks_of(wild)["power-density"].state is State.MARGINAL


def test_reach_in_a_weak_and_a_strong_rig() -> None:
    assert checks_of(make_rig(power=60.0))["reach"].state is State.FAILS
    strong = checks_of(make_rig())["reach"]
    assert strong.state is State.HOLDS
    assert "above the highest set point" in strong.finding


def test_a_set_point_below_the_room_is_never_regulated() -> None:
    hot_room = make_rig(room=35.0)
    found = checks_of(hot_room, settings(30.0, 30.0))["below-room"]
    assert found.state is State.FAILS
    assert checks_of(make_rig(), settings(60.0))["below-room"].state is State.HOLDS


def test_magnet_wants_ten_to_fifteen_kelvin_in_hand() -> None:
    rig = make_rig()
    assert checks_of(rig, settings(100.0))["ratings"].state is State.HOLDS
    tight = checks_of(rig, settings(110.0))["ratings"]
    assert tight.state is State.MARGINAL
    assert "Magnet" in tight.finding
    assert checks_of(rig, settings(125.0))["ratings"].state is State.FAILS


def test_thick_plate_is_stiff_and_heavy() -> None:
    thin, thick = make_rig(plate=0.003), make_rig(plate=0.012)
    moving = bed_of(thick, moves=True)
    assert flexural_rigidity(thick.bed) > 20.0 * flexural_rigidity(thin.bed)
    assert checks_of(thin)["stiffness"].state is not State.HOLDS
    assert checks_of(thick)["stiffness"].state is State.HOLDS
    text = checks_of(moving)["stiffness"]
    assert text.state is State.MARGINAL
    assert "N of the drive" in text.finding


def test_rigidity_of_a_bare_plate_is_the_textbook_one() -> None:
    rig = make_rig()
    bare = bed_of(
        rig, layers=[rig.bed.layers[3].model_dump()], heater={**rig.bed.heater.model_dump(), "layer": "plate"},
    )  # fmt: skip
    assert flexural_rigidity(bare.bed) == pytest.approx(7.1e10 * 0.008**3 / 12 / (1 - 0.33**2), rel=1e-9)


def test_breaker_supply_and_earth() -> None:
    rig = make_rig(power=4000.0)
    assert checks_of(rig)["supply"].state is State.FAILS
    assert checks_of(make_rig())["supply"].state is State.HOLDS
    low = bed_of(make_rig(), heater={**make_rig().bed.heater.model_dump(), "mains": False, "voltage": 24.0})
    assert checks_of(low)["supply"].state is State.FAILS, "no low-voltage supply is stated"
    assert "earth" not in checks_of(low)
    supplied = low.model_copy(update={"limits": low.limits.model_copy(update={"low_voltage_supply": 800.0})})
    assert "22.9 A at 24 V" in checks_of(supplied)["supply"].finding
    assert checks_of(supplied)["supply"].state is State.HOLDS
    assert checks_of(bed_of(make_rig(), earthed=False))["earth"].state is State.FAILS


def test_fuses_must_lie_between_normal_use_and_damage() -> None:
    rig = make_rig()
    assert checks_of(rig)["fuses"].state is State.FAILS
    good = checks_of(fused(rig, 150.0, 112.0))["fuses"]
    assert good.state is not State.FAILS
    early = checks_of(fused(rig, 112.0, 101.0))["fuses"]
    assert early.state is State.FAILS
    late = checks_of(bed_of(rig, fuses=[{"layer": "plate", "rating": celsius(240.0)}]))["fuses"]
    assert "passes its rating" in late.finding


def test_glass_on_a_magnet_sheet_bonds() -> None:
    rig = make_rig()
    layers = [layer.model_dump() for layer in rig.bed.layers]
    layers[1] |= {"material": "borosilicate_glass", "thickness": 0.003}
    glass = bed_of(rig, layers=layers)
    assert checks_of(glass)["bonds"].state is State.MARGINAL
    assert checks_of(glass, settings(45.0))["bonds"].state is State.HOLDS
    assert "bonds" not in checks_of(rig)


def test_bill_holds_every_layer_and_panel_with_its_mass() -> None:
    rig = make_rig(chamber_heater=300.0)
    rig = rig.model_copy(update={"chamber": rig.chamber.model_copy(update={"panels": panels_of("double")})})
    items = bill_of_materials(rig)
    text = "\n".join(item.what for item in items)
    for layer in rig.bed.layers:
        assert layer.name in text
    panels = [item for item in items if item.what.startswith("Panel")]
    assert len(panels) == 12, "two sheets on each of six sides; the air between is free"
    assert panels[0].mass == pytest.approx(0.5 * 0.5 * 0.003 * 1190.0)
    plate = next(item for item in items if item.what.startswith("plate"))
    assert plate.mass == pytest.approx(0.3 * 0.28 * 0.008 * 2700.0)


def test_calendar_waits_for_what_cures() -> None:
    rig = make_rig(enclosed=False)
    layers = [layer.model_dump() for layer in rig.bed.layers]
    layers[2]["joint"], layers[3]["joint"], layers[4]["joint"] = "adhesive", "adhesive", "silicone"
    rig = bed_of(rig, layers=layers)
    days = calendar(rig, datetime(2026, 3, 2, 16, 30))
    assert [a.work for a in days] == list(works(rig))
    for before, after in pairwise(days):
        assert after.begin >= before.free
    for a in days:
        assert 8 <= a.begin.hour < 17
        assert a.end.hour <= 17
    cured = [a for a in days if a.work.cure > timedelta(0)]
    # magnet and mat cure together, then the bead around the mat
    assert [a.work.what.split()[0] for a in cured] == ["Bond", "Run"]
    assert "cure both together under one even weight" in cured[0].work.what
    assert cured[0].work.what.index("magnet") < cured[0].work.what.index("mat")
    assert all(a.free - a.end == timedelta(days=1) for a in cured)
    assert days[0].end.date() > days[0].begin.date(), (
        "half an hour before evening is not enough: it goes on next morning"
    )
    assert days[-1].end - days[0].begin > timedelta(days=3)


def test_tuned_regulator_is_ready_no_later_and_does_not_overshoot() -> None:
    for rig in (make_rig(chamber_heater=300.0), make_rig(enclosed=False, plate=0.004), make_rig(power=1200.0)):
        use = settings(100.0, 45.0)
        heat = heat_up(rig, use, CRITERIA, with_bands=False)
        found = tune_regulator(rig, use, CRITERIA, heat)
        assert found.then.overshoot <= CRITERIA.ready_band
        assert found.then.ready_time <= found.now.ready_time + 1.0
        assert found.then.ripple < 0.5


def test_answer_to_a_step_has_the_slope_of_the_heat_capacity() -> None:
    """The steepest slope lies a little under full power over the capacity of plate, mat, magnet and sheet."""
    rig = make_rig(enclosed=False)
    heat = heat_up(rig, settings(100.0), CRITERIA, with_bands=False)
    answer = step_answer(rig, settings(100.0), heat)
    capacity = float((heat.stack.capacity * rig.bed.area).sum())
    assert 0.75 < answer.slope / (rig.bed.heater.power / capacity) < 1.8
    assert 1.0 <= answer.dead_time < 60.0


def test_two_stage_target_lets_the_surface_catch_up_and_a_soak_waits() -> None:
    own = Consumer(key="machine", name="machine", power_low=18.0, power=30.0, power_high=42.0, warm_up=1.0, inside=1.0)
    rig, use = make_rig(bias=0.0).model_copy(update={"plug": Plug(consumers=(own,))}), settings(100.0, soak=600.0)
    heat = heat_up(rig, use, CRITERIA, with_bands=False)
    plain = run_program(rig, use, CRITERIA, heat, soak(use))
    staged = run_program(rig, use, CRITERIA, heat, two_stage(use, below=15.0, hold=900.0))
    held = int(np.searchsorted(staged.time, staged.ends[0]))
    assert staged.reading[held] == pytest.approx(celsius(85.0), abs=0.5)
    # what lags behind has caught up before the last step: the surface is closer to its reading then
    late, early = staged.reading[held] - staged.surface[held], np.max(plain.reading - plain.surface)
    assert late < 0.6 * early
    assert plain.ends[0] >= heat.ready_time + use.soak_time - 120.0
    assert plain.reached == (True, True)
    assert plain.time.shape == plain.surface.shape == plain.bed_set.shape


def test_program_steps_follow_their_set_points_and_say_what_is_not_reached() -> None:
    rig, use = make_rig(), settings(90.0)
    heat = heat_up(rig, use, CRITERIA, with_bands=False)
    steps = (
        ProgramStep(bed=celsius(60.0), wait="ready", hold=300.0),
        ProgramStep(bed=celsius(90.0), wait="ready", hold=300.0),
        ProgramStep(bed=celsius(40.0), wait="time", hold=120.0),
    )
    result = run_program(rig, use, CRITERIA, heat, steps)
    at = [int(np.searchsorted(result.time, end)) for end in result.ends]
    assert result.reading[at[0]] == pytest.approx(celsius(60.0), abs=1.0)
    assert result.reading[at[1]] == pytest.approx(celsius(90.0), abs=1.0)
    assert result.reached == (True, True, False), "the bed cannot cool to 40 °C in two minutes"
    assert result.energy > 0.0


def test_bands_hold_the_curve_and_grow_with_the_temperature() -> None:
    rig, use = make_rig(chamber_heater=300.0), settings(100.0, 45.0)
    heat = heat_up(rig, use, CRITERIA)
    found = curve_bands(rig, use, CRITERIA, heat)
    surface = np.interp(found.time, heat.time, heat.surface)
    low, high = found.curves["surface"]
    assert np.all(low <= surface + 0.3)
    assert np.all(high >= surface - 0.3)
    assert (high - low)[-1] > 5 * (high - low)[2]
    steady = heat.bands["surface"]
    # sampled, one at a time over the march, and one at a time in the steady state tell the same
    assert low[-1] == pytest.approx(steady.low, abs=0.7)
    assert high[-1] == pytest.approx(steady.high, abs=0.7)
    assert found.by_sum[0] == pytest.approx(steady.low, abs=0.5)
    assert found.one_at_a_time[0][0] == "sensor, bias and place"
    assert found.ready[0] <= found.ready[1] <= found.ready[2]
    assert {name for name, _, _ in found.one_at_a_time} == {u.name for u in rig_unknowns(rig)}


def test_bands_can_be_cancelled() -> None:
    rig, use = make_rig(), settings(100.0)
    heat = heat_up(rig, use, CRITERIA)
    run = RunContext(interval=0.0)
    run.report = lambda fraction, _: run.cancel() if fraction > 0.3 else None
    with pytest.raises(Cancelled):
        curve_bands(rig, use, CRITERIA, heat, run)


@pytest.mark.parametrize("poisson", [0.2, 0.33])
def test_plate_references(poisson: float) -> None:
    """A free plate is a cap; on a simply supported rim the middle of a square rises 0.0737 (1 + nu) kappa a^2."""
    kappa, a, b = 0.01, 0.3, 0.24
    free = height_map(a, b, np.full((20, 24), kappa), poisson, "free")
    assert free[10, 12] == pytest.approx(kappa * (a**2 + b**2) / 8, rel=1e-6)
    corners = height_map(a, b, np.full((20, 24), kappa), poisson, "corners")
    np.testing.assert_allclose(corners, free, atol=1e-10)
    rim = height_map(a, a, np.full((24, 24), kappa), poisson, "rim")
    assert rim[12, 12] == pytest.approx(0.0737 * (1 + poisson) * kappa * a**2, rel=0.004)
    assert abs(rim[0]).max() < 1e-12


def test_uneven_curvature_bends_less_at_the_rim() -> None:
    x, y = np.meshgrid(np.linspace(-1, 1, 24), np.linspace(-1, 1, 24))
    uneven = 0.01 * (1.0 - 0.3 * (x**2 + y**2) / 2)
    even = height_map(0.3, 0.3, np.full((24, 24), 0.01), 0.33, "free")[12, 12]
    found = height_map(0.3, 0.3, uneven, 0.33, "free")
    assert 0.7 * even < found[12, 12] < even
    np.testing.assert_allclose(found, found[::-1], atol=1e-9)
    np.testing.assert_allclose(found, found.T, atol=1e-9)


def test_own_properties_carry_their_uncertainty_into_the_bands() -> None:
    """A magnet known to within 40 % makes the surface's band wider than one known to within 1 %."""
    rig, use = make_rig(), settings(100.0)
    widths = []
    for uncertainty in (0.01, 0.4):
        layers = [layer.model_dump() for layer in rig.bed.layers]
        layers[2]["own"] = rig.bed.layers[2].properties().model_dump() | {"uncertainty": uncertainty}
        heat = heat_up(bed_of(rig, layers=layers), use, CRITERIA)
        widths.append(heat.bands["surface"].high - heat.bands["surface"].low)
    assert widths[1] > widths[0] + 0.1


def test_a_heated_chamber_is_ready_at_its_set_point_only() -> None:
    strong = heat_up(make_rig(chamber_heater=400.0), settings(90.0, 50.0), CRITERIA, with_bands=False)
    weak = heat_up(make_rig(chamber_heater=20.0), settings(90.0, 70.0), CRITERIA, with_bands=False)
    assert np.isfinite(strong.chamber_ready_time)
    at = strong.at(strong.chamber_ready_time, strong.chamber_reading)
    assert at == pytest.approx(celsius(50.0), abs=CRITERIA.ready_band + 1e-6)
    assert np.isnan(weak.chamber_ready_time), "it never comes near 70 °C"


def test_a_round_plate_is_a_cap_over_its_rim() -> None:
    rig = bed_of(make_rig(), shape="round", width=0.3, depth=0.3, heater={**make_rig().bed.heater.model_dump(), "width": 0.2,
                 "depth": 0.2})  # fmt: skip
    heat = heat_up(rig, settings(100.0), CRITERIA, with_bands=False)
    bow = thermal_bow(rig, heat)
    heights = bow_map(rig, heat, float(heat.time[-1]))
    assert np.isnan(heights[0, 0]), "there is no plate in the corner"
    assert heights[10, 10] == pytest.approx(float(bow.bow[-1]), rel=0.15, abs=2e-6)
    square = bed_of(rig, shape="rectangle")
    corner_to_corner = thermal_bow(square, heat_up(square, settings(100.0), CRITERIA, with_bands=False))
    assert corner_to_corner.end == pytest.approx(2.0 * bow.end, rel=0.15)
