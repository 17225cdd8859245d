"""A bed that is off, always or after the first layers: its passive temperature, its words, machines that insist on a target."""

from __future__ import annotations

import pytest

from mandorla.cli import run
from mandorla.core.errors import InputError
from mandorla.core.failure.messages import heat_up_sentence
from mandorla.core.failure.state import State
from mandorla.core.project.paths import parse_at, set_value
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle, write_bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.rig.settings import Settings
from mandorla.core.units import KINDS, METRIC, OFF, UnitPreferences, celsius, parse_quantity, show
from tests.core.bundles import small_bundle


def with_bed(bundle: Bundle, first: float, rest: float, *, insists: bool = False) -> Bundle:
    p = set_value(bundle.project, "settings.bed_first", first)
    p = set_value(p, "settings.bed_rest", rest)
    return Bundle(set_value(p, "rig.limits.insists", insists), bundle.originals)


def test_off_is_typed_and_shown_as_a_word_in_every_unit() -> None:
    assert show(OFF, "set_point") == "off"
    assert show(OFF, "set_point", UnitPreferences(fahrenheit=True)) == "off"
    assert show(celsius(60), "set_point", digits=0) == "60 °C"
    assert parse_quantity("off", "set_point", KINDS["set_point"][0]) == OFF
    assert parse_quantity(" Off ", "set_point", KINDS["set_point"][0]) == OFF
    p = small_bundle().project
    assert parse_at(p, "settings.bed_rest", "off", METRIC) == OFF
    with pytest.raises(InputError):
        parse_at(p, "settings.chamber", "off", METRIC)


def test_a_bed_that_is_off_stands_where_air_and_room_put_it_and_takes_no_power() -> None:
    base = sample("windowsill")
    off = Results(with_bed(base, OFF, OFF)).get(keys.HEAT_UP)
    assert off.steady.power == pytest.approx(0.0, abs=1e-9)
    room = base.project.rig.room_temperature
    assert room - 2.0 < off.steady.surface < room + 8.0
    assert heat_up_sentence(off).startswith("The bed is off")
    assert "bed_set_point" not in Results(with_bed(base, OFF, OFF)).get(keys.EVALUATION).judgement.assessed


def test_off_after_the_first_layers_prints_the_rest_on_a_passive_plate_and_saves_energy() -> None:
    base = small_bundle()
    hot, off = (Results(with_bed(base, celsius(90), rest)).get(keys.EVALUATION) for rest in (celsius(90), OFF))
    assert hot.conditions is not None
    assert off.conditions is not None
    assert off.conditions.plate_rest < hot.conditions.plate_rest - 20.0
    assert off.conditions.plate_first == pytest.approx(hot.conditions.plate_first, abs=3.0)
    assert off.energy is not None
    assert hot.energy is not None
    assert off.energy.total < hot.energy.total


def test_a_machine_that_insists_on_a_target_is_told_one_just_above_the_room() -> None:
    base = sample("windowsill")
    check = next(
        c for c in Results(with_bed(base, OFF, OFF, insists=True)).get(keys.RIG_CHECKS) if c.key == "below-room"
    )
    assert check.state is State.FAILS
    assert "just above the room" in check.finding
    judged = Results(with_bed(base, OFF, OFF, insists=True)).get(keys.EVALUATION).judgement.assessed["set_point_limit"]
    assert judged.state is State.FAILS
    plain = next(c for c in Results(with_bed(base, celsius(60), OFF)).get(keys.RIG_CHECKS) if c.key == "below-room")
    assert plain.state is State.HOLDS
    assert "off after the first layers" in plain.finding


def test_the_map_of_a_bed_that_is_off_carries_no_difference_between_first_layers_and_rest() -> None:
    assert Settings(bed_first=celsius(65), bed_rest=OFF).hotter_first == 0.0
    assert Settings(bed_first=celsius(65), bed_rest=celsius(60)).hotter_first == pytest.approx(5.0)
    window = Results(with_bed(small_bundle(), celsius(90), OFF)).get(keys.WINDOW)
    assert window.x[0] > OFF + 10.0
    assert window.chance.shape == window.energy.shape


def test_switching_it_off_is_a_lever_where_the_machine_lets_one() -> None:
    base = small_bundle()
    names = {v.name for v in Results(base).get(keys.CAUSES_AND_LEVERS).levers}
    assert "Bed off after the first layers" in names
    insists = Bundle(set_value(base.project, "rig.limits.insists", True), base.originals)
    assert "Bed off after the first layers" not in {v.name for v in Results(insists).get(keys.CAUSES_AND_LEVERS).levers}


def test_the_command_line_takes_off(tmp_path, capsys: pytest.CaptureFixture[str]) -> None:  # type: ignore[no-untyped-def]
    path = tmp_path / "small.mandorla"
    write_bundle(path, sample("windowsill"))
    assert run(["heatup", str(path), "--set", "settings.bed_first=off"]) == 0
    assert "The bed is off" in capsys.readouterr().out


def test_levers_leave_a_bed_that_is_off_alone() -> None:
    base = with_bed(small_bundle(), celsius(90), OFF)
    found = Results(base).get(keys.CAUSES_AND_LEVERS).levers
    warmer = next(v for v in found if v.name.endswith("warmer") and v.name.startswith("Bed"))
    e = Results(with_bed(small_bundle(), celsius(95), OFF)).get(keys.EVALUATION)
    assert e.warp is not None
    assert warmer.margin == pytest.approx(e.warp.margin, rel=1e-6)
    both = Results(with_bed(small_bundle(), OFF, OFF)).get(keys.CAUSES_AND_LEVERS).levers
    assert not [v for v in both if v.name.startswith("Bed") and v.name.endswith(("warmer", "cooler"))]
