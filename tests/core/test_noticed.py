"""What a watch notices in time: computed for a machine, told in words, by the command and in its JSON."""

from __future__ import annotations

import json
import math
from pathlib import Path
from threading import Timer
from typing import Any

import pytest

import mandorla.core.results.run as results_of_run
from mandorla.cli import run as main
from mandorla.core.errors import Cancelled
from mandorla.core.project.store import Bundle, write_bundle
from mandorla.core.run import diagnosis
from mandorla.core.run import noticed as looking
from mandorla.core.run.alarm_words import noticed_sentence, noticed_text
from mandorla.core.run.disturbances import DISTURBANCES
from mandorla.core.run.noticed import PHASES, Noticed, noticed
from mandorla.core.run.simulated_machine import SimulatedMachine
from mandorla.core.run.watch import Watch
from mandorla.core.runtime import RunContext
from tests.core.bundles import small_bundle
from tests.core.test_watch import OPEN, watched

FOUND = (
    Noticed("relay-on", "heat", math.inf, False), Noticed("relay-on", "rest", 1.0, True),
    Noticed("draught", "heat", math.inf, False), Noticed("draught", "rest", 1.5, False),
    Noticed("supply-low", "rest", 0.125, False), Noticed("mat-loose", "rest", 0.006, True),
)  # fmt: skip


@pytest.fixture
def one_machine(monkeypatch: pytest.MonkeyPatch) -> None:
    """One machine instead of three, broken by a few things only."""
    monkeypatch.setattr(looking, "_SEEDS", (50_021,))
    kinds = [DISTURBANCES[k] for k in ("relay-on", "sensor-jump", "draught", "target-lowered")]
    monkeypatch.setattr(looking, "of_rig", lambda _: tuple(kinds))
    monkeypatch.setattr(looking, "PHASES", {k: PHASES[k] for k in ("heat", "soak")})
    monkeypatch.setattr(looking, "_SIZES", 4)


@pytest.mark.usefixtures("one_machine")
def test_sizes_are_those_that_a_watch_shows_in_time() -> None:
    """What is stated is shown and the next smaller size is not; what the machine tells itself is left out."""
    w = watched(OPEN)
    found = {(n.key, n.phase): n for n in noticed(w)}
    assert {phase for _, phase in found} == {"heat", "soak"}
    assert "target-lowered" not in {key for key, _ in found}
    assert found["relay-on", "soak"] == Noticed("relay-on", "soak", 1.0, True)
    assert found["sensor-jump", "soak"].size == pytest.approx(3.0)
    weak = found["draught", "soak"].size
    assert 0.7 <= weak <= 2.5 or math.isinf(weak)
    machine, watch = SimulatedMachine(w, 50_021), Watch(w)
    run = RunContext()
    assert looking._reach("soak", machine, watch, run)
    d = DISTURBANCES["draught"]
    sizes = looking._tried(d)
    now, alarms = machine.now, len(watch.alarms)
    for size in sizes:
        shown = looking._shown(d, float(size), machine, watch, run)
        assert shown == (size >= weak - 1e-9)
    assert (machine.now, len(watch.alarms)) == (now, alarms), "the machine that is looked at is broken on a copy"


@pytest.mark.usefixtures("one_machine")
def test_without_a_part_a_machine_only_warms_up() -> None:
    assert {n.phase for n in noticed(watched(OPEN, 0.0))} == {"heat"}


@pytest.mark.usefixtures("one_machine")
def test_it_stops_when_asked() -> None:
    run = RunContext()
    Timer(0.5, run.cancel).start()
    with pytest.raises(Cancelled):
        noticed(watched(OPEN), run)


def test_words_say_sizes_in_units_and_dangers_first() -> None:
    by = {(n.key, n.phase): noticed_text(n) for n in FOUND}
    assert by["relay-on", "heat"] == "no"
    assert by["relay-on", "rest"] == "always"
    assert by["draught", "heat"] == "not even 2.5 m/s"
    assert by["draught", "rest"] == "from 1.5 m/s"
    assert by["supply-low", "rest"] == "from 12 % missing"
    assert by["mat-loose", "rest"] == "from 0.006 m²K/W"
    said = noticed_sentence(FOUND)
    assert said.startswith(
        "Not noticed in time: relay stuck on while it warms up; draught on the bed while it warms up"
    )
    assert noticed_sentence(FOUND[1:2]).startswith("Everything that is tried is noticed")


def test_the_command_tells_it_and_writes_it_as_json(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(results_of_run, "noticed", lambda *_: FOUND)
    path = tmp_path / "small.mandorla"
    write_bundle(path, small_bundle())
    main(["run", str(path), "--no-check", "--noticed"])
    text = capsys.readouterr().out
    assert noticed_sentence(FOUND) in text
    assert "Draught on the bed, while it prints on: from 1.5 m/s" in text
    main(["run", str(path), "--no-check", "--noticed", "--json"])
    rows = json.loads(capsys.readouterr().out)["noticed"]
    assert [(r["key"], r["phase"]) for r in rows] == [(n.key, n.phase) for n in FOUND]
    assert rows[0]["size"] is None
    assert rows[3]["size"] == {"value": 1.5, "unit": "m/s"}
    assert rows[3]["within"] == {"value": 300.0, "unit": "s"}


def test_the_command_tells_it_without_a_part_and_beside_a_watch(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(results_of_run, "noticed", lambda *_: FOUND)
    path, log = tmp_path / "bare.mandorla", tmp_path / "log.csv"
    bundle = small_bundle()
    write_bundle(path, Bundle(bundle.project.model_copy(update={"part": None}), {}))
    assert main(["run", str(path), "--noticed"]) == 0
    assert noticed_sentence(FOUND) in capsys.readouterr().out
    assert main(["run", str(path), "--noticed", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert len(told["noticed"]) == len(FOUND)
    assert told["sentence"] == noticed_sentence(FOUND)
    log.write_text("time,bed\n" + "".join(f"{t},{20.0 + 0.1 * t}\n" for t in range(0, 60, 2)), encoding="utf-8")
    main(["run", str(path), "--noticed", "--watch", str(log)])
    assert noticed_sentence(FOUND) in capsys.readouterr().out
    main(["run", str(path), "--noticed", "--watch", str(log), "--json"])
    told = json.loads(capsys.readouterr().out)
    assert told["watched"]["readings"] == 30
    assert len(told["noticed"]) == len(FOUND)


@pytest.mark.usefixtures("one_machine")
def test_a_search_for_causes_is_stopped_between_two_of_them(monkeypatch: pytest.MonkeyPatch) -> None:
    """A stop that comes while causes are compared does not wait for the last of them."""
    run, compared = RunContext(), []
    gain = diagnosis._gain

    def counted(*args: Any) -> Any:
        compared.append(args[1].key)
        run.cancel()
        return gain(*args)

    monkeypatch.setattr(diagnosis, "_gain", counted)
    with pytest.raises(Cancelled):
        noticed(watched(OPEN), run)
    assert len(set(compared)) == 1
