"""Files a rig takes in: the room's log and the heater's power map, good ones and bad ones; older projects."""

from __future__ import annotations

import json

import numpy as np
import pytest

from mandorla.core.errors import InputError
from mandorla.core.project.models import SCHEMA_VERSION
from mandorla.core.project.paths import get_value, set_value
from mandorla.core.project.samples import SAMPLES, new_bundle, sample
from mandorla.core.project.store import parse_project, to_bytes
from mandorla.core.rig.chamber import SIDES
from mandorla.core.rig.power_map import read_power_map
from mandorla.core.rig.room_log import MOST, read_room_log
from mandorla.core.units import celsius


@pytest.mark.parametrize(("text", "times", "first"), [
    ("0,4\n60,5\n", [0, 60], 4.0),
    ("time s;temperature °C\n0;4,5\n600;6,5\n", [0, 600], 4.5),
    ("hours\ttemp\n0\t10\n0.5\t12\n", [0, 1800], 10.0),
    ("min,T (°F)\n0,39.2\n10,41\n", [0, 600], 4.0),
    ("2026-01-04 06:00,4\n2026-01-04 07:00,5\n", [0, 3600], 4.0),
    ("date;t\n04.01.2026 06:00;4,0\n04.01.2026 06:10;5,0\n", [0, 600], 4.0),
    ("s,kelvin\n0,277.15\n5,278\n", [0, 5], 4.0),
    ("60,5\n0,4\n", [0, 60], 4.0),
    ("0,4\n0,9\n60,5\n", [0, 60], 4.0),
])  # fmt: skip
def test_room_logs_in_many_hands(text: str, times: list[float], first: float) -> None:
    log = read_room_log(text, "garage.csv")
    assert [t for t, _ in log] == pytest.approx(times)
    assert log[0][1] == pytest.approx(celsius(first))


@pytest.mark.parametrize(("text", "word"), [
    ("", "fewer than two"), ("0,4\n", "fewer than two"), ("0,4\nabc,5\n", "line 2"), ("0,4\n60,warm\n", "line 2"),
    ("a,b\n1,2\n3\n", "line 3"),
])  # fmt: skip
def test_bad_room_logs_are_refused_with_their_line(text: str, word: str) -> None:
    with pytest.raises(InputError, match=word):
        read_room_log(text, "garage.csv")


def test_a_long_log_is_thinned_and_keeps_its_span() -> None:
    text = "\n".join(f"{i},{4 + 0.001 * i}" for i in range(50000))
    log = read_room_log(text, "long.csv")
    assert len(log) <= MOST
    assert log[-1][0] > 49990
    assert np.all(np.diff([t for t, _ in log]) > 0)


def test_power_maps() -> None:
    assert read_power_map("1,2\n3,4\n") == ((1.0, 2.0), (3.0, 4.0))
    assert read_power_map("1,5;2\n\n3;4\n") == ((1.5, 2.0), (3.0, 4.0))
    for text, word in (("1,2\n3\n", "Line 2"), ("1,x\n", "Line 1"), ("\n\n", "no numbers")):
        with pytest.raises(InputError, match=word):
            read_power_map(text)
    project = new_bundle().project
    with pytest.raises(InputError, match="not be negative"):
        set_value(project, "rig.bed.heater.power_map", ((1.0, -1.0),))
    with pytest.raises(InputError, match="one length"):
        set_value(project, "rig.bed.heater.power_map", ((1.0, 1.0), (1.0,)))


def test_a_project_of_schema_one_opens_with_six_like_panels() -> None:
    data = json.loads(to_bytes(sample("boathouse")))
    data["schema_version"] = 1
    data["rig"]["chamber"] = {
        "enclosed": True, "width": 0.6, "depth": 0.6, "height": 0.5, "air_changes": 0.001,
        "panel": {"thickness": 0.006, "conductivity": 0.19, "density": 1180.0, "specific_heat": 1450.0, "emissivity": 0.9},
    }  # fmt: skip
    data["builds"] = [{"name": "old", "rig": json.loads(json.dumps(data["rig"]))}]
    del data["program"]
    project = parse_project(json.dumps(data), "old.mandorla")
    assert project.schema_version == SCHEMA_VERSION
    for rig in (project.rig, project.builds[0].rig):
        for side in SIDES:
            (layer,) = getattr(rig.chamber.panels, side).layers
            assert (layer.material, layer.thickness) == ("acrylic", 0.006)


@pytest.mark.parametrize("key", sorted(SAMPLES))
def test_samples_survive_their_own_file(key: str) -> None:
    bundle = sample(key)
    assert parse_project(to_bytes(bundle), key) == bundle.project


def test_a_layer_that_is_renamed_keeps_its_spots() -> None:
    project = sample("boathouse").project
    changed = set_value(project, "rig.bed.layers.3.name", "Slab")
    bed = changed.rig.bed
    assert {bed.layer(s.layer).name for s in bed.spots} == {"Slab"}
    assert bed.layer(get_value(changed, "rig.bed.sensor.layer")).name == "Slab"
