"""The machine through a whole print: against the three-dimensional solution, short steps all along, and what a start leaves."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

import mandorla.core.thermal.print_course as marching
from mandorla.core.failure.print_words import log_ends, moments_of, print_sentence
from mandorla.core.materials.air import air_density, air_specific_heat
from mandorla.core.part.print_time import plan_print
from mandorla.core.part.process import Placement, Process
from mandorla.core.rig.model import Rig
from mandorla.core.rig.room import Room
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.rig.start import Start
from mandorla.core.thermal.heatup import heat_up
from mandorla.core.thermal.network import OnPlate
from mandorla.core.thermal.print_course import PrintCourse, Printing, means_between, print_course
from mandorla.core.thermal.steady import solve_printing, solve_steady
from mandorla.core.thermal.surface_history import surface_history
from mandorla.core.tune.operating_point import evaluate
from mandorla.core.units import OFF, celsius
from tests.core.rigs import make_rig, settings
from tests.core.slabs import Layer, slab
from tests.core.slabs import march as march_slab
from tests.core.slabs import surroundings as slabs_around
from tests.core.solids import box_sections, of_size

CRITERIA = Criteria()
HOUR = 3600.0


def with_room(rig: Rig, **room: object) -> Rig:
    """A rig in another room."""
    return rig.model_copy(update={"room": Room.model_validate(room)})


def marched(rig: Rig, use: Settings, hours: float, first: float = 900.0, over: float = 0.0) -> PrintCourse:
    """A print of so many hours on a plate of which a share is covered."""
    heat = heat_up(rig, use, CRITERIA, with_bands=False)
    on = OnPlate(over, 8.0, 0.0)
    rest = solve_printing(rig, use.bed_rest, use.chamber, heat.stack, on)
    return print_course(rig, use, heat, rest, Printing(hours * HOUR, first, on))


@pytest.mark.parametrize("enclosed", [False, True])
def test_a_lowered_bed_follows_as_in_three_dimensions(enclosed: bool) -> None:
    """Bed lowered by 30 K fifteen minutes into the print: the centre of the surface within half a kelvin for two hours."""
    rig, use = make_rig(enclosed=enclosed), settings(95.0, rest=65.0, soak=600.0)
    course = marched(rig, use, 2.0)
    volume = surface_history(rig, use, course.begins + 2.0 * HOUR, cells=12, every=60.0, lowered=course.begins + 900.0)
    after = volume.time >= course.begins
    mine = np.interp(volume.time[after] - course.begins, course.time, course.surface)
    assert np.abs(mine - volume.centre[after]).max() < 0.5
    assert volume.centre[after].min() < celsius(66.0)
    assert abs(volume.closure) < 1e-6


@pytest.mark.parametrize(
    ("rig", "use"),
    [
        (make_rig(enclosed=True), settings(110.0, rest=80.0)),
        (make_rig(enclosed=True, chamber_heater=400.0), settings(110.0, 55.0, rest=80.0)),
        (make_rig(enclosed=False), settings(60.0, rest=60.0)),
    ],
)
def test_long_steps_agree_with_short_ones(rig: Rig, use: Settings, monkeypatch: pytest.MonkeyPatch) -> None:
    rig = with_room(rig, kind="daily", swing=5.0)
    quick = marched(rig, use, 20.0, over=0.3)
    monkeypatch.setattr(marching, "_settled", lambda *_, **__: False)
    monkeypatch.setattr(marching, "_LONGEST", np.inf)
    exact = marched(rig, use.model_copy(update={"soak_time": use.soak_time}), 20.0, over=0.3)
    assert quick.time.size < 0.2 * 20 * HOUR / 2.0
    for name, within in (("surface", 0.3), ("air", 1.0)):
        off = np.abs(np.interp(exact.time, quick.time, getattr(quick, name)) - getattr(exact, name))
        assert off.max() < within, name
        assert off.mean() < 0.1, name


@pytest.mark.parametrize(
    ("rig", "use"),
    [
        pytest.param(make_rig(enclosed=True), settings(215.0), id="weak bed"),
        pytest.param(make_rig(enclosed=True, chamber_heater=150.0), settings(90.0, 110.0), id="weak chamber"),
        pytest.param(make_rig(enclosed=True, chamber_heater=400.0), settings(230.0, 140.0), id="both weak"),
        pytest.param(make_rig(enclosed=True, chamber_heater=400.0), settings(35.0, 80.0), id="bed never needed"),
    ],
)
def test_a_heater_at_an_end_of_its_range_is_marched_in_long_steps(
    rig: Rig, use: Settings, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What is never reached is never regulated: as good as short steps all along, in a fraction of them."""
    quick = marched(rig, use, 4.0, over=0.3)
    monkeypatch.setattr(marching, "_settled", lambda *_, **__: False)
    monkeypatch.setattr(marching, "_CALMER", 2.0)
    exact = marched(rig, use, 4.0, over=0.3)
    assert quick.time.size < 0.4 * exact.time.size
    for name in ("surface", "air"):
        off = np.abs(np.interp(exact.time, quick.time, getattr(quick, name)) - getattr(exact, name))
        assert off.max() < 0.15, name
        assert off.mean() < 0.03, name
    assert sum(quick.heat) == pytest.approx(sum(exact.heat), rel=2e-3)
    assert abs(quick.closure) < 1e-9


@pytest.mark.parametrize(
    ("rig", "use"),
    [
        (make_rig(enclosed=True), settings(110.0, rest=100.0)),
        (make_rig(enclosed=True, chamber_heater=400.0), settings(110.0, 55.0, rest=100.0)),
        (make_rig(enclosed=False), settings(60.0, rest=55.0)),
    ],
)
def test_a_bed_that_holds_its_set_point_is_marched_as_well_in_longer_steps(
    rig: Rig, use: Settings, monkeypatch: pytest.MonkeyPatch
) -> None:
    quick = marched(rig, use, 3.0, over=0.3)
    for name in ("_CALMER", "_SOAKING"):
        monkeypatch.setattr(marching, name, 2.0)
    exact = marched(rig, use, 3.0, over=0.3)
    assert quick.time.size < exact.time.size
    for name, within in (("surface", 0.02), ("air", 0.2)):
        off = np.abs(np.interp(exact.time, quick.time, getattr(quick, name)) - getattr(exact, name))
        assert off.max() < within, name
    assert sum(quick.heat) == pytest.approx(sum(exact.heat), rel=5e-4)
    assert sum(quick.soaked) == pytest.approx(sum(exact.soaked), rel=1e-3)
    assert abs(quick.closure) < 1e-9


def test_a_thermostat_in_its_swing_is_not_at_the_end_of_its_range() -> None:
    """It gives all or nothing in every swing: only one that never reaches its set point counts as stuck."""
    rig = make_rig(enclosed=False)
    bed = rig.bed.model_copy(
        update={"control": rig.bed.control.model_copy(update={"kind": "on-off", "hysteresis": 6.0})}
    )
    rig = rig.model_copy(update={"bed": bed})
    held, stuck = marched(rig, settings(60.0), 1.0), marched(rig, settings(260.0), 1.0)
    assert held.power[:600].min() == 0.0 < held.power[:600].max()
    assert abs(held.mean(held.reading) - celsius(60.0)) < 2.0
    assert stuck.power.min() > 0.0
    assert stuck.reading.max() < celsius(250.0)


def test_means_between_are_exact_for_what_is_linear_and_go_on_beyond_the_ends() -> None:
    time, curve = np.array([0.0, 1.0, 3.0]), np.array([0.0, 2.0, 6.0])
    assert means_between(time, curve, np.array([0.0, 0.5, 2.0, 3.0, 5.0])) == pytest.approx([0.5, 2.5, 5.0, 6.0])
    assert means_between(time, curve, np.array([1.0, 1.0])) == pytest.approx([2.0])


def test_an_air_conditioner_blows_for_its_share_of_the_time() -> None:
    room = Room(cooler=True, cooler_every=1800.0, cooler_for=600.0, cooler_colder=6.0)
    ends = np.arange(7.0, 36000.0 + 1.0, 7.0)
    share = room.blowing(ends, 7.0)
    assert share.mean() == pytest.approx(1.0 / 3.0, abs=1e-3)
    assert not share[ends < 1200.0].any()
    assert room.blowing(np.zeros(1)).max() == 0.0, "nothing has blown yet when the machine is switched on"
    assert with_room(make_rig(), cooler=True).start_temperature == pytest.approx(make_rig().room_temperature)
    course = room.course(celsius(22.0), ends, 7.0)
    assert course.min() == pytest.approx(celsius(16.0))
    assert course.max() == pytest.approx(celsius(22.0))
    with pytest.raises(ValueError, match="cannot blow for longer"):
        Room(cooler_every=600.0, cooler_for=900.0)


def test_what_blows_on_an_open_bed_takes_power_and_cools_it_and_passes_a_closed_machine_by() -> None:
    use = settings(60.0, rest=60.0)
    blown = {"cooler": True, "cooler_colder": 6.0, "cooler_speed": 0.8, "cooler_every": 1800.0, "cooler_for": 900.0}
    calm, gusty = (marched(with_room(make_rig(enclosed=False), **r), use, 5.0) for r in ({}, blown))
    assert gusty.mean(gusty.power) > 1.1 * calm.mean(calm.power)
    assert np.ptp(gusty.air) == pytest.approx(6.0, abs=0.1)
    swing = np.ptp(gusty.surface[gusty.time > HOUR])
    assert 0.2 < swing < 3.0
    assert swing > 3.0 * np.ptp(calm.surface[calm.time > HOUR])
    shut = marched(with_room(make_rig(enclosed=True), **blown), use, 5.0)
    assert np.ptp(shut.surface[shut.time > HOUR]) < 0.5 * swing


def test_a_cold_night_cools_an_open_bed_and_its_print_lands_colder() -> None:
    part, use = of_size(0.12, 0.08, 0.06), settings(60.0, rest=60.0)
    rig = make_rig(enclosed=False)
    night = with_room(rig, kind="daily", swing=8.0, warmest=15 * HOUR, start=15 * HOUR)
    even, cold = (evaluate(r, use, CRITERIA, part, Placement(), with_bands=False) for r in (rig, night))
    assert even.warp is not None
    assert cold.warp is not None
    assert cold.course is not None
    upper = cold.warp.height > 0.5 * cold.warp.height[-1]
    fell = cold.course.at(0.9 * float(cold.course.time[-1]), cold.course.room) - cold.course.room[0]
    assert fell < -1.0
    change = (cold.warp.landing - even.warp.landing)[upper]
    # the swing's mean at the start is warmer than the even room's; what counts is that the top follows the night down
    assert (np.diff(change) < 0.2).all()
    assert change[-1] < change[0]


def test_a_room_log_that_ends_before_the_print_is_said() -> None:
    part, use = of_size(0.12, 0.08, 0.06), settings(60.0, rest=60.0)
    short = with_room(make_rig(enclosed=False), kind="log", log=((0.0, 295.0), (HOUR, 290.0)), log_name="shed.csv")
    e = evaluate(short, use, CRITERIA, part, Placement(), with_bands=False)
    assert e.course is not None
    assert e.warp is not None
    assert e.course.room[-1] == pytest.approx(290.0)
    said = log_ends(e.course)
    assert "before the print does" in said
    assert said in e.warp.notes
    long = with_room(make_rig(enclosed=False), kind="log", log=((0.0, 295.0), (1000 * HOUR, 290.0)))
    other = evaluate(long, use, CRITERIA, part, Placement(), with_bands=False)
    assert other.course is not None
    assert log_ends(other.course) == ""


def test_an_exhaust_that_regulates_keeps_the_air_at_its_ceiling() -> None:
    rig = make_rig(enclosed=True)

    def with_exhaust(**change: object) -> Rig:
        return rig.model_copy(update={"chamber": rig.chamber.model_copy(update=change)})

    free = solve_steady(rig, celsius(100.0), celsius(45.0))
    ceiling = free.air - 8.0
    flow = 0.02
    fan = {"exhaust_flow": flow, "exhaust_fraction": 1.0}
    always, kept = (solve_steady(with_exhaust(**fan, **k), celsius(100.0), celsius(45.0)) for k in (
        {}, {"exhaust_by_air": True, "exhaust_above": ceiling}))  # fmt: skip
    assert always.air < ceiling - 1.0
    assert ceiling < kept.air < ceiling + 2.0
    leaves = kept.flows.exhaust
    heat = (
        flow
        * air_density(rig.room_temperature)
        * air_specific_heat(rig.room_temperature)
        * rig.room_temperature
        / kept.air
    )
    opened = (kept.air - ceiling) / 2.0
    assert leaves == pytest.approx(heat * opened * (kept.air - rig.room_temperature), rel=0.02)
    high = solve_steady(
        with_exhaust(**fan, exhaust_by_air=True, exhaust_above=free.air + 5.0), celsius(100.0), celsius(45.0)
    )
    assert high.air == pytest.approx(free.air, abs=0.05)


def started(kind: str, **more: object) -> Rig:
    """A closed machine with a loose sheet that starts in some way."""
    rig = make_rig(enclosed=True)
    was = {"kind": kind, "bed": celsius(95.0), "chamber": celsius(45.0), **more}
    return rig.model_copy(update={"start": Start.model_validate(was)})


def test_a_warm_machine_is_ready_sooner_and_its_frame_is_warm() -> None:
    use = settings(95.0)
    cold, warm, later = (
        heat_up(started(*a), use, CRITERIA, with_bands=False)
        if len(a) == 1
        else heat_up(started(a[0], since=a[1]), use, CRITERIA, with_bands=False)
        for a in (("cold",), ("warm", 300.0), ("warm", 7200.0))
    )
    assert warm.ready_time < 0.7 * cold.ready_time
    assert warm.ready_time <= later.ready_time <= cold.ready_time + 30.0
    assert warm.frame[0] > cold.frame[0] + 5.0
    assert warm.energy[-1] < cold.energy[-1]
    for heat in (cold, warm, later):
        assert abs(heat.closure) < 1e-6


def test_a_cold_plate_on_a_hot_bed_takes_time_again() -> None:
    use = settings(95.0)
    held, swapped = (
        heat_up(started(k, since=120.0, held=True, door_open=0.0), use, CRITERIA, with_bands=False)
        for k in ("warm", "swapped")
    )
    assert swapped.cells[0, 0] == pytest.approx(make_rig().start_temperature, abs=2.0)
    assert held.ready_time <= swapped.ready_time
    assert swapped.surface[0] < held.surface[0] - 40.0
    assert abs(swapped.closure) < 1e-6
    bed = make_rig().bed
    layers = tuple(layer.model_copy(update={"bonded": True}) for layer in bed.layers)
    fixed = make_rig().model_copy(update={"bed": bed.model_copy(update={"layers": layers})})
    with pytest.raises(ValueError, match="none can be swapped"):
        Rig.model_validate(fixed.model_dump() | {"start": {"kind": "swapped"}})


def test_a_cold_frame_drags_the_chamber_down_and_lets_it_rise_slowly() -> None:
    use = settings(95.0)
    warm, frame = (heat_up(started(k, since=0.0, held=True, door_open=0.0), use, CRITERIA, with_bands=False) for k in
                   ("warm", "frame"))  # fmt: skip
    assert frame.frame[0] == pytest.approx(make_rig().start_temperature)
    drop = frame.air[0] - frame.air[frame.time <= 1200.0].min()
    assert drop > 2.0
    assert drop > 3.0 * (warm.air[0] - warm.air.min() + 0.1)
    assert abs(frame.closure) < 1e-6


def test_the_three_dimensional_march_starts_the_same() -> None:
    use, rig = settings(95.0), started("swapped", since=120.0, held=True, door_open=0.0)
    quick = heat_up(rig, use, CRITERIA, with_bands=False)
    volume = surface_history(rig, use, 1200.0, cells=10)
    assert volume.centre[0] == pytest.approx(rig.start_temperature)
    late = volume.time > 120.0
    assert np.abs(np.interp(volume.time[late], quick.time, quick.surface) - volume.centre[late]).max() < 1.0
    assert abs(volume.closure) < 1e-6


def test_a_door_that_opens_while_it_prints_cools_the_air_and_shuts_again() -> None:
    rig = make_rig(enclosed=True)
    use = settings(95.0)
    ready = heat_up(rig, use, CRITERIA, with_bands=False).ready_time + use.soak_time
    door = rig.chamber.door.model_copy(update={"opens_at": ready + HOUR, "open_for": 600.0})
    opened = rig.model_copy(update={"chamber": rig.chamber.model_copy(update={"door": door})})
    shut, course = marched(rig, use, 4.0), marched(opened, use, 4.0)
    there = (course.time > HOUR) & (course.time <= HOUR + 600.0)
    assert course.air[there].min() < np.interp(HOUR + 300.0, shut.time, shut.air) - 5.0
    assert course.air[-1] == pytest.approx(shut.air[-1], abs=0.5)


def test_words_name_what_changes_and_by_when() -> None:
    part, use = of_size(0.12, 0.08, 0.06), settings(95.0, rest=65.0)
    e = evaluate(make_rig(), use, CRITERIA, part, Placement(), with_bands=False)
    assert e.course is not None
    assert e.part is not None
    text = print_sentence(e.course, e.part, enclosed=True)
    assert text.startswith("The bed is lowered by 30 K after the first layers")
    times = [m.time for m in moments_of(e.course, e.part)]
    heights = [m.height for m in moments_of(e.course, e.part)]
    assert times == sorted(times)
    assert heights == sorted(heights)
    assert heights[-1] == pytest.approx(0.06, rel=1e-3)
    off = evaluate(make_rig(), replace_rest(use, OFF), CRITERIA, part, Placement(), with_bands=False)
    assert off.course is not None
    assert off.part is not None
    assert "switched off after the first layers" in print_sentence(off.course, off.part, enclosed=True)
    even = replace(e.course, set_point=np.full_like(e.course.set_point, 350.0), follows=float("nan"))
    assert print_sentence(even, e.part, enclosed=True).startswith("While it prints the surface")


def test_a_cold_pane_on_a_hot_bed_may_break_and_a_steel_sheet_does_not() -> None:
    use, hot = settings(95.0), {"since": 60.0, "held": True, "door_open": 0.0}
    rig = started("swapped", **hot)
    layers = [v.model_dump() for v in rig.bed.layers]
    layers[1] |= {"material": "soda_lime_glass", "thickness": 0.004}
    glass = rig.model_copy(update={"bed": type(rig.bed).model_validate(rig.bed.model_dump() | {"layers": layers})})
    part = of_size(0.1, 0.08, 0.03)
    states = {}
    for name, other in (
        ("glass", glass),
        ("steel", rig),
        (
            "warm glass",
            glass.model_copy(update={"start": Start(kind="warm", bed=celsius(95.0), since=60.0, held=True)}),
        ),
        ("mild", glass.model_copy(update={"start": Start(kind="swapped", bed=celsius(45.0), since=60.0, held=True)})),
    ):
        e = evaluate(other, use, CRITERIA, part, Placement(), with_bands=False)
        a = e.judgement.assessed.get("thermal_shock")
        states[name] = None if a is None else a.state.value
    assert states == {"glass": "marginal", "steel": None, "warm glass": None, "mild": "holds"}


def test_the_first_layer_has_an_acceleration_of_its_own() -> None:
    slow = Process(polymer="asa", first_speed=0.05, first_acceleration=0.5)
    quick = Process(polymer="asa", first_speed=0.05)
    sections = box_sections(0.2, 0.15, 0.02)
    a, b = (plan_print(sections, p) for p in (slow, quick))
    assert a.duration > b.duration
    assert (a.layer_time == b.layer_time).all()
    assert slow.full_speed_from == pytest.approx(0.05**2 / 0.5)
    assert quick.full_speed_from == pytest.approx(0.05**2 / quick.acceleration)


def replace_rest(use: Settings, bed: float) -> Settings:
    """Settings with another bed for the rest."""
    return use.model_copy(update={"bed_rest": bed})


def test_side_fans_blow_over_part_and_plate() -> None:
    part, use = of_size(0.12, 0.08, 0.06), settings(95.0)
    rig = make_rig().model_copy(update={"side_fans": 2.0})
    still, blown = (
        evaluate(rig, use.model_copy(update={"side_fan": f}), CRITERIA, part, Placement(), with_bands=False)
        for f in (0.0, 1.0)
    )
    assert still.warp is not None
    assert blown.warp is not None
    assert blown.rest.power > 1.05 * still.rest.power
    assert blown.warp.landing.mean() < still.warp.landing.mean() - 0.5
    assert blown.warp.margin < still.warp.margin


def test_air_that_comes_and_goes_lies_between_two_temperatures() -> None:
    part, use = of_size(0.12, 0.08, 0.06), settings(60.0, rest=60.0)
    e = evaluate(
        with_room(make_rig(enclosed=False), cooler=True, cooler_colder=8.0),
        use,
        CRITERIA,
        part,
        Placement(),
        with_bands=False,
    )
    assert e.course is not None
    assert e.part is not None
    assert "the air over the bed lies between 13 and 21 °C" in print_sentence(e.course, e.part, enclosed=False)


@pytest.mark.parametrize(("step", "within"), [(2.0, 0.03), (60.0, 0.35)])
def test_an_unheated_plate_follows_the_lumped_exponential(step: float, within: float) -> None:
    """8 mm of aluminium (Bi 8e-4) 30 K over its room, 12 W/m²K on one face: exp(-h t/(rho c L)), tau 1620 s."""
    h, rho, cp, thickness = 12.0, 2700.0, 900.0, 0.008
    body = slab([Layer(thickness=thickness, k=125.0, rho=rho, cp=cp, cells=3)])
    around = slabs_around(room=293.0, h_top=h)
    steps = np.full(round(7200.0 / step), step)
    cells = march_slab(body, around, 323.0, steps)
    time = np.concatenate([[0.0], np.cumsum(steps)])
    exact = 293.0 + 30.0 * np.exp(-h * time / (rho * cp * thickness))
    assert np.abs(cells.mean(axis=1) - exact).max() < within
