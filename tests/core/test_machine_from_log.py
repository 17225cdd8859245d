"""A machine begun from one heat-up log: machines of known heater and plate, our own and foreign ones, give logs and are found again
in the stated bands."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from mandorla.cli import run
from mandorla.core.errors import InputError
from mandorla.core.measure.log_guess import propose
from mandorla.core.measure.logs import read_log
from mandorla.core.measure.machine_from_log import LogBeginning, as_regulated, machine_from_log
from mandorla.core.project.begin import begun_project, log_lines
from mandorla.core.project.store import read_bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.rig.archetypes import Facts, assumptions, machine_of
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.thermal.heatup import HeatUp, heat_up
from mandorla.core.units import METRIC, celsius
from tests.foreign_machine import drawn, heated
from tests.foreign_machine import log_of as foreign_log

DAY = "2026-11-28"


def warmed(rig: Rig, bed: float = 90.0) -> HeatUp:
    """A machine's heat-up to a set point (°C), nothing else heated."""
    put = Settings(bed_first=celsius(bed), bed_rest=celsius(bed), chamber=rig.room_temperature, soak_time=0.0)
    return heat_up(rig, put, Criteria(), with_bands=False)


def log_of(rig: Rig, *, watts: bool = False, lead: float = 60.0, until: float = 1e9, seed: int = 1) -> bytes:
    """A log of it in a room, display to a tenth with some scatter, begun ``lead`` s before the heater was switched on."""
    heat, rng = warmed(rig), np.random.default_rng(seed)
    time = np.arange(0.0, min(float(heat.time[-1]), until), 5.0)
    shown = np.interp(time, heat.time, heat.reading) - 273.15 + rng.normal(0.0, 0.1, time.size)
    power = np.interp(time, heat.time, heat.power) / 0.97 + 25.0
    cold = rig.room_temperature - 273.15
    before = [(t, cold + rng.normal(0.0, 0.1), 25.0) for t in np.arange(0.0, lead, 5.0)]
    rows = [*before, *zip(time + lead, shown, power, strict=True)]
    head = "time [s],bed sensor [°C]" + (",plug [W]" if watts else "")
    body = [f"{t:.0f},{c:.1f}" + (f",{w:.0f}" if watts else "") for t, c, w in rows]
    return "\n".join([head, *body]).encode()


def begun(facts: Facts, stated: set[str], data: bytes) -> LogBeginning:
    return machine_from_log(facts, frozenset(stated), "heat.csv", data, propose(data, "heat.csv"), DAY)


def said(found: LogBeginning, key: str) -> Any:
    return next(s for s in found.says if s.key == key)


@pytest.mark.parametrize(
    ("truth", "stated", "told"),
    [
        ({"plate": 0.008, "heater": 1000.0}, {"heater": 1000.0}, "plate"),
        ({"plate": 0.006, "heater": 650.0}, {"plate": 0.006}, "heater"),
        ({"kind": "open", "plate": 0.003, "heater": 200.0, "width": 0.22, "depth": 0.22}, {"plate": 0.003}, "heater"),
        ({"kind": "hot", "plate": 0.012, "heater": 1800.0, "width": 0.4, "depth": 0.4}, {"heater": 1800.0}, "plate"),
    ],
)
def test_what_was_not_stated_is_found_in_the_log(truth: dict[str, Any], stated: dict[str, Any], told: str) -> None:
    of_machine = {k: v for k, v in truth.items() if k in ("kind", "width", "depth")}
    true, facts = machine_of(Facts(**truth)), Facts(**of_machine, **stated)
    found = begun(facts, set(stated), log_of(true))
    figure = said(found, told)
    assert figure.learned
    assert figure.low < truth[told] < figure.high
    assert figure.value == pytest.approx(truth[told], rel=0.06)
    assert figure.high / figure.low < 1.45  # of which 1.35 for layers that were only assumed
    # what matters to a person: how long it takes, far nearer than what was assumed
    ready, as_begun, as_assumed = (warmed(r).ready_time for r in (true, found.rig, machine_of(facts)))
    assert as_begun == pytest.approx(ready, rel=0.04)
    assert abs(as_begun - ready) < abs(as_assumed - ready)
    assert found.misfit < 0.5
    assert found.session.bed == pytest.approx(celsius(90.0), abs=0.3)


@pytest.mark.parametrize(
    ("seed", "given", "asked", "built"),
    [
        (5, "heater", "plate", ""),  # closed
        (11, "plate", "heater", "regulated steadily"),  # open, regulated steadily where a thermostat is usual
        (20, "heater", "plate", "insulates the underside"),  # open, its mat bare
    ],
)
def test_a_foreign_machines_log_is_told_truly_and_forecasts_another_set_point(
    seed: int, given: str, asked: str, built: str
) -> None:
    """A bed by other laws and numbers than ours: benchmarks/foreign_logs.py has 24 of them."""
    m = drawn(seed)
    assumed = Facts(
        kind="closed" if m.kind == "closed" else "open", width=m.side, depth=m.side, room=m.room, plate=m.plate,
        heater=m.heater, surface="bare_glass" if m.top == "glass" else "polyetherimide_textured",
    ).model_copy(update={asked: Facts.model_fields[asked].default})  # fmt: skip
    found = begun(assumed, {given}, foreign_log(m, seed))
    assert said(found, asked).low < getattr(m, asked) < said(found, asked).high
    assert built in "; ".join(b.words for b in found.built)
    assert any(line.startswith("Built otherwise than is usual") for line in log_lines(found, METRIC)) == bool(built)
    # what the log has told is not called assumed beside it
    still = assumptions(assumed, found.rig, found.told)
    layers = {layer.name for layer in found.rig.bed.layers}
    assert {a.path for a in still}.isdisjoint(found.told)
    assert {a.what.partition(":")[0] for a in still if a.path.startswith("rig.bed.layers.")} <= layers
    further = m.bed - 15.0
    ran, told = heated(replace(m, bed=further), 1500.0), warmed(found.rig, further - 273.15)
    true, forecast = (
        float(t[int(np.argmax(v > further - 1.0))]) for t, v in ((ran.time, ran.shown), (told.time, told.reading))
    )
    assert forecast == pytest.approx(true, rel=0.08)


def test_how_a_bed_is_regulated_is_read_from_the_end_of_a_log_that_holds() -> None:
    open_facts = Facts(kind="open", plate=0.003, heater=200.0, width=0.22, depth=0.22)
    switched, closed = machine_of(open_facts), Facts(plate=0.008, heater=1000.0)
    steady = machine_of(closed)
    thermostat = steady.model_copy(update={"bed": steady.bed.model_copy(update={"control": switched.bed.control})})

    def told(rig: Rig, facts: Facts, until: float = 1e9) -> str:
        data = log_of(rig, until=until)
        mapping = propose(data, "heat.csv")
        return as_regulated(machine_of(facts), read_log(data, "heat.csv", mapping)).bed.control.kind

    assert told(switched, open_facts) == "on-off"
    assert told(thermostat, closed) == "on-off"
    assert told(steady, closed) == "steady"
    # still on its way: what is usual for its kind stands
    assert told(switched, open_facts, until=400.0) == "on-off"
    assert told(thermostat, closed, until=200.0) == "steady"


def test_heater_and_plate_are_one_figure_until_the_plug_is_logged() -> None:
    """Twice the heater on twice the mass heats alike: the bands say so, and a log of the plug's power tells them apart."""
    true = machine_of(Facts(plate=0.008, heater=1000.0))
    alone, metered = (begun(Facts(), set(), log_of(true, watts=watts)) for watts in (False, True))
    assert not said(alone, "plate").learned
    assert said(alone, "plate").low < 0.008 < said(alone, "plate").high
    assert said(alone, "heater").low < 1000.0 < said(alone, "heater").high
    assert said(alone, "heater").high / said(alone, "heater").low > 1.8
    assert any(
        line.startswith("Heater and plate together") or "no more than was known" in line
        for line in log_lines(alone, METRIC)
    )
    assert any(line.startswith("Heater and plate together") for line in log_lines(alone, METRIC))
    for key, value in (("plate", 0.008), ("heater", 1000.0)):
        assert said(metered, key).learned
        assert said(metered, key).low < value < said(metered, key).high
        assert said(metered, key).value == pytest.approx(value, rel=0.05)


def test_a_log_that_begins_hot_or_stays_cold_is_refused() -> None:
    flat = b"time [s],bed sensor [\xc2\xb0C]\n" + b"\n".join(b"%d,21.%d" % (5 * k, k % 3) for k in range(60))
    with pytest.raises(InputError, match="not the log of a heat-up"):
        begun(Facts(), set(), flat)
    cooling = b"time [s],bed sensor [\xc2\xb0C]\n" + b"\n".join(b"%d,%d" % (60 * k, 90 - k) for k in range(60))
    with pytest.raises(InputError, match="not the log of a heat-up"):
        begun(Facts(), set(), cooling)


def test_a_machine_that_cannot_heat_so_is_refused() -> None:
    """A kelvin a second and more on a stated plate of 20 mm and a stated heater of 100 W."""
    fast = b"time [s],bed sensor [\xc2\xb0C]\n" + b"\n".join(
        b"%d,%d" % (2 * k, min(21 + 6 * k, 110)) for k in range(60)
    )
    with pytest.raises(InputError, match="would have to be far off"):
        begun(Facts(plate=0.05, heater=60.0), {"plate", "heater"}, fast)


def test_the_project_of_a_log_keeps_it_and_heats_as_it_says() -> None:
    true = machine_of(Facts(plate=0.008, heater=1000.0))
    facts = Facts(heater=1000.0)
    found = begun(facts, {"heater"}, log_of(true))
    bundle = begun_project(facts, "petg", log=found)
    assert bundle.project.measurements.sessions == (found.session,)
    assert bundle.originals["heat.csv"] == found.data
    plate = next(layer for layer in bundle.project.rig.bed.layers if layer.name == "Plate")
    assert plate.thickness == said(found, "plate").value
    assert Results(bundle).get(keys.COMPARISON.of(session=found.session.key)) is not None


def test_the_command_begins_from_a_log(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    (tmp_path / "heat.csv").write_bytes(log_of(machine_of(Facts(plate=0.008, heater=1000.0))))
    out = tmp_path / "mine.mandorla"
    asked = ["new", "--bed", "300x300mm", "--heater", "1000W", "--log", str(tmp_path / "heat.csv"), "-o", str(out)]
    assert run([*asked, "--json"]) == 0
    answer = json.loads(capsys.readouterr().out)
    plate = next(v for v in answer["log"] if v["key"] == "plate")
    assert plate["learned"]
    assert plate["low"] < 0.008 < plate["high"]
    assert read_bundle(out).project.measurements.sessions[0].logs[0].file == "heat.csv"
    assert run(asked) == 0
    assert "the log: Plate: " in capsys.readouterr().out
    (tmp_path / "odd.csv").write_text("time [s],T1,T2\n" + "\n".join(f"{5 * k},{21 + k},{21 + k}" for k in range(40)))
    assert run([*asked[:-4], "--log", str(tmp_path / "odd.csv"), "-o", str(out)]) == 2
    assert "--log-place" in capsys.readouterr().err


def test_what_is_odd_about_a_log_is_said_and_clock_times_are_read() -> None:
    """A line that cannot be read, and times of day instead of seconds: the same machine."""
    true = machine_of(Facts(plate=0.008, heater=1000.0))
    lines = log_of(true).decode().splitlines()
    clock = [lines[0].replace("time [s]", "time")] + [
        f"2026-11-28 {8 + int(float(t)) // 3600:02d}:{int(float(t)) // 60 % 60:02d}:{int(float(t)) % 60:02d},{rest}"
        for t, _, rest in (line.partition(",") for line in lines[1:])
    ]
    clock[40] = clock[40].rpartition(",")[0] + ",oops"
    found = begun(Facts(heater=1000.0), {"heater"}, "\n".join(clock).encode())
    assert said(found, "plate").low < 0.008 < said(found, "plate").high
    assert any(line.startswith("Odd about the log: ") for line in log_lines(found, METRIC))


def test_a_log_that_begins_warm_is_refused_and_not_bent_into_shape() -> None:
    warm = "time [s],bed sensor [°C]\n" + "\n".join(f"{10 * k},{min(70 + k, 110)}" for k in range(90))
    with pytest.raises(InputError, match="begins at 72 °C"):
        begun(Facts(), set(), warm.encode())
