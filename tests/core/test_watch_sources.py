"""Where a watch reads from, and what it writes: ports, files that grow, meters; records that outlive a kill; traces that never
grow."""

from __future__ import annotations

import json
import math
import os
import time
from pathlib import Path

import numpy as np
import pytest

from mandorla.cli import run
from mandorla.core.errors import InputError
from mandorla.core.measure.logs import decimated
from mandorla.core.measure.printer import LineServer, PrinterReader, parse_temperatures
from mandorla.core.project.store import write_bundle
from mandorla.core.run import sources
from mandorla.core.run.keeping import record_from, record_of
from mandorla.core.run.live import LiveRun
from mandorla.core.run.recorder import EVENTS, HEAD, KEPT, TRACE, Recorder, as_line, unfinished
from mandorla.core.run.served_machine import ServedMachine, as_answer
from mandorla.core.run.simulated_machine import Break, SimulatedMachine
from mandorla.core.run.sources import LogSource, MachineSource, SimulatedSource, WithMeter, machine_on
from mandorla.core.run.trace import SPANS, Trace
from mandorla.core.run.trace_point import TracePoint
from tests.core.bundles import small_bundle
from tests.core.test_watch import OPEN, watched


def machine(seed: int = 4, *breaks: Break) -> SimulatedMachine:
    return SimulatedMachine(watched(), seed, breaks)


# ---- the protocol
def test_an_answer_tells_what_the_machine_shows_and_is_asked_for() -> None:
    point = machine().advance(10.0)[-1]
    found = parse_temperatures(as_answer(point))
    assert found.bed == pytest.approx(point.bed, abs=0.006)
    assert found.bed_target == pytest.approx(point.bed_set, abs=0.006)
    assert found.chamber == pytest.approx(point.chamber, abs=0.006)
    assert found.nozzle == pytest.approx(point.nozzle, abs=0.006)
    assert found.nozzle_target == pytest.approx(273.15)
    assert found.bed_duty == pytest.approx(point.bed_duty, abs=0.5 / 127)
    with pytest.raises(InputError, match="sensor is likely open"):
        parse_temperatures("ok B:900.0 /60.0")


class Babbling(LineServer):
    """Answers with rubbish three times out of four."""

    def __init__(self) -> None:
        super().__init__("babbling machine")
        self.count = 0

    def answer(self, line: str) -> str:
        self.count += 1
        return "ok B:55.0 /60.0" if self.count % 4 == 0 else f"\x00echo:{line} \xff busy"


def test_rubbish_between_answers_is_passed_over_and_told() -> None:
    with Babbling() as served:
        source = MachineSource(served.path, every=0.01, timeout=0.5)
        points = [p for _ in range(12) for p in source.read()]
        source.close()
    assert points
    assert all(p.bed == pytest.approx(328.15) for p in points)


def test_one_port_has_one_reader() -> None:
    with (
        ServedMachine(machine(), 30.0) as served,
        PrinterReader(served.path),
        pytest.raises(InputError, match="another program uses it"),
    ):
        MachineSource(served.path)
    with pytest.raises(InputError, match="after the @"):
        machine_on("/dev/pts/3@fast")


class Silent(LineServer):
    """Never answers."""

    def __init__(self) -> None:
        super().__init__("silent machine")

    def answer(self, line: str) -> None:
        return None


def test_a_machine_that_does_not_answer_keeps_nobody_waiting() -> None:
    with Silent() as served:
        source = MachineSource(served.path, every=0.05, timeout=0.1)
        began = time.monotonic()
        assert source.read() == []
        assert source.read() == []
        assert time.monotonic() - began < 5.0
        assert "does not answer" in source.note
        source.close()


def test_a_port_that_vanishes_is_opened_again(tmp_path: Path) -> None:
    """A link stands for the port: the machine behind it goes away and comes back as another terminal."""
    link = tmp_path / "port"
    with ServedMachine(machine(), 30.0) as first:
        link.symlink_to(first.path)
        source = MachineSource(str(link), every=0.05, speed=30.0, timeout=0.2)
        got: list[TracePoint] = []
        until = time.monotonic() + 10.0
        while not got and time.monotonic() < until:
            got += source.read()
        assert got
    link.unlink()
    until = time.monotonic() + 10.0
    while not source.note and time.monotonic() < until:
        source.read()
    assert source.note
    with ServedMachine(machine(), 30.0) as second:
        link.symlink_to(second.path)
        got, until = [], time.monotonic() + 15.0
        while not got and time.monotonic() < until:
            got += source.read()
    source.close()
    assert got, "read on after it came back"


# ---- files that grow
def rows(points: list[TracePoint]) -> str:
    return "".join(as_line(p) + "\n" for p in points)


def test_a_log_that_grows_is_read_line_by_line(tmp_path: Path) -> None:
    path, made = tmp_path / "log.csv", machine()
    first, second = made.advance(60.0), made.advance(60.0)
    text = rows(second)
    path.write_text(HEAD + "\n" + rows(first) + text[:25], encoding="utf-8")  # the last line is half there
    source = LogSource(path)
    got = source.read()
    assert len(got) == len(first)
    assert got[5].bed == pytest.approx(first[5].bed, abs=0.006)
    assert got[5].bed_set == pytest.approx(first[5].bed_set, abs=0.006)
    assert got[5].bed_duty == pytest.approx(first[5].bed_duty, abs=0.0006)
    assert got[5].power == pytest.approx(first[5].power, abs=0.06)
    with path.open("a", encoding="utf-8") as file:
        file.write(text[25:])
    more = source.read()
    assert [round(p.time) for p in more] == [round(p.time) for p in second]
    assert not source.ended
    assert source.read() == []


def test_a_log_that_is_replaced_or_whose_clock_jumps_goes_on(tmp_path: Path) -> None:
    path, made = tmp_path / "log.csv", machine()
    path.write_text(HEAD + "\n" + rows(made.advance(60.0)), encoding="utf-8")
    source = LogSource(path)
    last = source.read()[-1].time
    path.unlink()
    path.write_text(HEAD + "\n" + rows(made.advance(60.0)), encoding="utf-8")
    got = source.read()
    assert "replaced" in source.note
    assert got[0].time > last
    far = made.advance(10.0)
    shifted = [TracePoint(p.time + 40 * 3600.0, p.bed, p.bed_set, p.bed_duty) for p in far]
    with path.open("a", encoding="utf-8") as file:
        file.write(rows(shifted))
    jumped = source.read()
    assert jumped[0].time - got[-1].time < 60.0
    assert "jumped" in source.note
    with path.open("a", encoding="utf-8") as file:
        file.write(rows(shifted[:2]))
    assert source.read() == []
    assert "back in time" in source.note


def test_what_is_no_log_is_refused_in_words(tmp_path: Path) -> None:
    with pytest.raises(InputError, match="cannot be read"):
        LogSource(tmp_path / "none.csv").read()
    other = tmp_path / "other.csv"
    other.write_text("seconds,room °C\n1,20\n2,20\n3,20\n4,20\n", encoding="utf-8")
    with pytest.raises(InputError, match="no column of the bed"):
        LogSource(other).read()


def test_a_plug_meters_file_stands_beside(tmp_path: Path) -> None:
    log, meter = tmp_path / "log.csv", tmp_path / "meter.csv"
    points = machine().advance(30.0)
    bare = [TracePoint(p.time, p.bed, p.bed_set, p.bed_duty) for p in points]
    log.write_text(HEAD + "\n" + rows(bare), encoding="utf-8")
    meter.write_text("seconds,power W\n0,410.0\n10,420.0\n20,430.0\n30,440.0\n", encoding="utf-8")
    got = WithMeter(LogSource(log), meter).read()
    assert got[-1].power == pytest.approx(440.0)


# ---- what is written
def test_every_reading_is_on_disk_at_once_and_a_cut_off_run_can_be_kept(tmp_path: Path) -> None:
    w = watched()
    source = SimulatedSource(SimulatedMachine(w, 4, [Break("door-open", 900.0, 1.0)]), math.inf, 1100.0)
    live = LiveRun(w, source, Recorder(tmp_path, {"project": "Test", "source": "simulated machine"}))
    while not source.ended:
        live.step()
        assert live.recorder is not None
        lines = (live.recorder.folder / TRACE).read_text(encoding="utf-8").splitlines()
        assert len(lines) == live.readings + 1
    folder = live.recorder.folder
    # killed here: nothing is closed, and the last line is cut off
    with (folder / TRACE).open("a", encoding="utf-8") as file:
        file.write("1234.0,5")
    with (folder / EVENTS).open("a", encoding="utf-8") as file:
        file.write('{"time": 12')
    assert unfinished(tmp_path, "Test") == [folder]
    assert unfinished(tmp_path, "Another") == []
    record, trace = record_from(folder, "run.csv")
    assert record.ended == "cut off"
    assert record.lasted == pytest.approx(source.now, abs=3.0)
    assert [a.cause for a in record.alarms] == ["door-open"]
    assert trace.endswith(b"\n")
    kept = record_of(live, "run.csv", "stopped by hand")
    assert [a.cause for a in kept.alarms] == ["door-open"]
    assert kept.lasted == pytest.approx(source.now)
    live.recorder.close()
    live.recorder.kept()
    assert (folder / KEPT).exists()
    assert unfinished(tmp_path, "Test") == []
    with pytest.raises(InputError, match="cannot be read"):
        record_from(tmp_path / "nothing", "run.csv")


def test_a_full_disk_is_told_and_the_watch_goes_on(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    recorder = Recorder(tmp_path, {"project": "Test"})
    points = machine().advance(10.0)

    def full(_: int) -> None:
        raise OSError(28, os.strerror(28))

    monkeypatch.setattr(os, "fsync", full)
    recorder.write(points)
    assert "No space left" in recorder.trouble
    recorder.write(points)
    recorder.close()
    with pytest.raises(InputError, match="cannot be recorded"):
        Recorder(tmp_path / EVENTS / "below a file" if (tmp_path / EVENTS).touch() is None else tmp_path, {})


@pytest.mark.parametrize("n", [1900, 2399, 2400, 100_003])
def test_a_decimated_line_reaches_its_end(n: int) -> None:
    """Whatever is left over after whole pieces is shorter than one of them."""
    t = np.arange(n, dtype=float)
    x, y = decimated(t, np.sin(t / 50.0), 400)
    assert x.size <= 2 * 400 + 2
    assert n - x[-1] <= -(-n // 400)
    assert np.diff(x).min() > 0.0
    assert y.max() == pytest.approx(1.0, abs=1e-3)


def test_a_trace_keeps_every_extreme_and_never_grows() -> None:
    trace = Trace(2)
    n = 20 * SPANS
    time_ = np.arange(n, dtype=float)
    values = np.stack([np.sin(time_ / 500.0), np.full(n, np.nan)], axis=1)
    values[n // 3, 0] = 9.0
    for k in range(0, n, 512):
        trace.add(time_[k : k + 512], values[k : k + 512])
    assert trace.time.size <= SPANS
    x, y = trace.line(0)
    assert y.max() == 9.0
    assert y.min() == pytest.approx(-1.0, abs=1e-3)
    assert x[int(y.argmax())] == pytest.approx(n // 3, abs=trace.width)
    assert trace.line(1)[0].size == 0
    assert trace.last(0)[-1] == values[-1, 0]


# ---- the command line
def test_a_run_is_watched_from_the_command_line(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    project = tmp_path / "p.mandorla"
    write_bundle(project, small_bundle())
    call = ["run", str(project), "--no-check"]
    status = run(
        [*call, "--watch", "simulated:3", "--fault", "door-open@2400", "--record", str(tmp_path / "runs"), "--json"]
    )
    assert status == 1
    found = json.loads(capsys.readouterr().out)["watched"]
    assert [a["cause"] for a in found["alarms"]] == ["door-open"]
    assert {g["gate"]: g["passed"] is not None for g in found["gates"]}["ready"]
    trace = Path(found["record"]) / TRACE
    assert trace.read_text(encoding="utf-8").count("\n") == found["readings"] + 1
    # the same trace again, as a log
    assert run([*call, "--watch", str(trace)]) == 1
    said = capsys.readouterr().out
    assert "Door open" in said
    assert "Surface calm: ready" in said
    # a door stood open to the end: nothing is learned of the rig
    assert run([*call, "--watch", str(trace), "--learn", str(tmp_path / "learned.mandorla")]) == 2
    assert "something was broken" in capsys.readouterr().err


@pytest.mark.parametrize(
    ("extra", "words"),
    [
        (("--watch", "simulated:x"), "whole number"), (("--watch", "nowhere.csv"), "cannot be read"),
        (("--watch", "/dev/no-such-port"), "cannot be opened"), (("--watch", "simulated", "--fault", "flood@9"), "known are"),
        (("--watch", "simulated", "--fault", "door-open@soon"), "write it as"),
        (("--watch", "x.csv", "--fault", "door-open@9"), "Only"),
        (("--serve", "0"), "1 to 1000"),
    ],
)  # fmt: skip
def test_what_cannot_be_watched_is_refused(
    extra: tuple[str, ...], words: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    project = tmp_path / "p.mandorla"
    write_bundle(project, small_bundle())
    assert run(["run", str(project), "--no-check", *extra]) == 2
    assert words in capsys.readouterr().err


def test_a_run_on_a_terminal_goes_from_heat_to_alarm() -> None:
    """The whole way of a reading: machine, protocol, terminal, reader, filter, alarm, at ten times the clock."""
    w = watched(OPEN)
    made = SimulatedMachine(w, 4, hold=True)
    with ServedMachine(made, 10.0) as served:
        live = LiveRun(w, machine_on(f"{served.path}@10"))
        broken, until = False, time.monotonic() + 60.0
        while time.monotonic() < until and not live.alarms:
            live.step()
            if live.source.now > 150.0 and not broken:
                assert live.alarms == []
                served.breaks(Break("sensor-loose", 0.0, 0.3))
                broken = True
        live.source.close()
    # on a busy computer the times blur at ten times the clock: that it is the sensor is seen, how it failed may not be
    assert live.alarms[0].cause in ("sensor-loose", "sensor-jump")
    assert live.source.now - 150.0 < 120.0


def test_a_log_of_another_logger_is_read_by_what_its_columns_are_called(tmp_path: Path) -> None:
    path = tmp_path / "logger.csv"
    head = "moment;bed display °C;bed target °C;chamber air °C\n"
    lines = [
        f"2026-11-28 10:00:{s:02d};{25.0 + s / 10:.1f};90.0;{21.0 + s / 20:.1f}\n".replace(".", ",")
        for s in range(0, 60, 2)
    ]
    path.write_text(head + "".join(lines), encoding="utf-8")
    got = LogSource(path).read()
    assert len(got) == 30
    assert got[-1].bed == pytest.approx(273.15 + 30.8)
    assert got[-1].bed_set == pytest.approx(273.15 + 90.0)
    assert got[-1].chamber == pytest.approx(273.15 + 23.9)
    assert got[-1].time - got[0].time == pytest.approx(58.0)
    assert math.isnan(got[-1].bed_duty)


def test_a_sleep_of_the_computer_is_seen_and_counted_in_the_time(monkeypatch: pytest.MonkeyPatch) -> None:
    asleep = 0.0
    monkeypatch.setattr(sources, "_passed", lambda: time.monotonic() + asleep)
    with ServedMachine(machine(), 1.0) as served:
        live = LiveRun(watched(), MachineSource(served.path, every=0.05))
        for _ in range(4):
            live.step()
        before, asleep = live.source.now, 900.0
        live.step()
        assert live.source.now == pytest.approx(before + 900.0, abs=5.0)
        assert "slept for 15 min" in live.source.note
        for _ in range(4):
            live.step()
        assert live.alarms == []
        assert "slept" not in live.source.note
        live.source.close()
