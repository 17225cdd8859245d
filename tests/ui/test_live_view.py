"""A run that is watched, through the real widgets: simulated machine, terminal, alarms, records; when it goes wrong."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from mandorla.core.project.store import Bundle
from mandorla.core.results.keys import WATCH_START
from mandorla.core.rig.bed import Control
from mandorla.core.run.recorder import Recorder
from mandorla.core.run.served_machine import ServedMachine
from mandorla.core.run.simulated_machine import Break, SimulatedMachine
from mandorla.ui.stages.run.live_view import LiveView, run_folder
from tests.core.bundles import small_bundle
from tests.core.rigs import make_rig, settings
from tests.core.solids import block, stl
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui


def quick_bundle() -> Bundle:
    """A machine that is hot within minutes, and a part that is printed within some more."""
    p = small_bundle().project
    rig = make_rig(chamber_heater=400.0, plate=0.003, power=900.0, width=0.2, depth=0.2)
    rig = rig.model_copy(update={"bed": rig.bed.model_copy(update={"control": Control()})})
    project = p.model_copy(update={"rig": rig, "settings": settings(70.0, 40.0, 65.0, soak=60.0)})
    return Bundle(project, {"block.stl": stl(block(40.0, 24.0, 4.0))})


@pytest.fixture
def live(open_window: Callable[..., Hands]) -> Iterator[Hands]:
    hands = open_window(quick_bundle())
    hands.stage("run")
    hands.view("live")
    hands.settled()
    yield hands
    view_of(hands).end("the test ends")


def view_of(hands: Hands) -> LiveView:
    view = hands.page.stage_page.view_of("live")
    assert isinstance(view, LiveView)
    return view


def wait(hands: Hands, what: Callable[[], bool], seconds: float = 90.0) -> None:
    hands.bot.waitUntil(what, timeout=round(1000 * seconds))


def stop(hands: Hands) -> None:
    """Stop and keep, and wait for the record."""
    before = len(hands.document.project.records)
    hands.click(view_of(hands).watch_button)
    wait(hands, lambda: len(hands.document.project.records) > before)
    hands.settled()


def test_a_run_with_a_relay_that_sticks_is_told_and_kept(live: Hands) -> None:
    view = view_of(live)
    assert "watch from the moment" in live.sentence
    view.speed = 300.0
    live.click(view.watch_button)
    wait(live, lambda: any(f.value.startswith("passed") for f in view.gates.figures if "Bed at" in f.caption))
    assert "As predicted so far" in live.sentence
    assert {name for name, *_ in view.curves.series if name} == {"bed", "chamber"}
    assert view.breaking.isVisibleTo(view)
    view.fault.setCurrentIndex(view.fault.findData("relay-on"))
    live.click(view.break_button)
    wait(live, lambda: bool(view.alarms.rows))
    assert view.alarms.rows[0][0] == "Relay stuck on"
    assert "Switch the machine off at the plug now" in live.sentence
    assert "Seen" in view.words.text()
    assert not view.learn_button.isVisibleTo(view), "a broken machine teaches nothing"
    stop(live)
    (record,) = live.document.project.records
    assert [a.cause for a in record.alarms] == ["relay-on"]
    assert record.ended == "stopped by hand"
    assert record.file in live.document.bundle.originals
    assert live.document.bundle.originals[record.file].startswith(b"seconds,bed")
    view.records.selectRow(0)
    live.type_into(view.record_note, "relay replaced")
    assert live.document.project.records[0].note == "relay replaced"
    live.click(live.window.undo_button)
    live.click(live.window.undo_button)
    assert live.document.project.records == ()


def test_a_whole_run_on_a_terminal_with_a_door_and_a_power_cut(live: Hands) -> None:
    """From switching on to the release, on a pseudo-terminal at fifteen times the clock."""
    view, start = view_of(live), live.document.results.value(WATCH_START)
    assert start is not None
    made = SimulatedMachine(start.watched, 7, sound=True)
    with ServedMachine(made, 15.0) as served:
        view.source.setEditText(f"{served.path}@15")
        live.click(view.watch_button)
        wait(live, lambda: view.live is not None and {"bed", "chamber"} <= set(view.live.passed))
        served.breaks(Break("door-open", 0.0, 1.0))
        wait(live, lambda: any("Door open" in row[0] for row in view.alarms.rows), 180.0)
        assert "Shut the door" in live.sentence
        served.breaks(Break("power-cut", 0.0, 1e4, made.now + 300.0))
        wait(live, lambda: any("Power cut" in row[0] for row in view.alarms.rows))
        wait(live, lambda: view.live is not None and "touch" in view.live.passed)
        wait(live, lambda: any(f.caption == "Plate may be held" and "passed" in f.value for f in view.gates.figures))
        stop(live)
    (record,) = live.document.project.records
    causes = [a.cause for a in record.alarms]
    assert "door-open" in causes
    assert "power-cut" in causes
    assert record.source == f"{served.path}"


def test_a_machine_that_is_found_at_work_is_said_to_be_and_shown_whole(live: Hands) -> None:
    """It was printing before anybody watched: the sentence says what is judged, gates that they were passed before."""
    view, start = view_of(live), live.document.results.value(WATCH_START)
    assert start is not None
    machine = SimulatedMachine(start.watched, 5)
    while not machine.printing:
        machine.advance(30.0)
    machine.advance(120.0)
    with ServedMachine(machine, 20.0) as served:
        view.source.setEditText(f"{served.path}@20")
        live.click(view.watch_button)
        wait(live, lambda: "warm already" in live.sentence)
        wait(live, lambda: any(f.value == "before the watch" for f in view.gates.figures))
        # gates are there with the first reading, a curve with the second
        wait(live, lambda: view.live is not None and view.live.trace.time.size > 20)
        view.refresh()
        low, high = view.curves.getViewBox().viewRange()[1]
        assert low < float(live.document.project.settings.chamber) - 273.15 + 5.0 < high, (
            "the chamber's curve is seen, too"
        )
        stop(live)
    assert live.document.project.records[-1].alarms == ()


def test_a_log_of_bed_and_duty_says_what_it_cannot_tell(live: Hands, tmp_path: Path) -> None:
    """Neither nozzle nor power: no first layer is waited for, and the empty chart says why it is."""
    view, log = view_of(live), tmp_path / "bed.csv"
    machine = SimulatedMachine(live.document.results.value(WATCH_START).watched, 3)  # type: ignore[union-attr]
    lines = [
        f"{r.time:.0f},{r.bed - 273.15:.2f},{max(r.bed_set - 273.15, 0.0):.1f},{100.0 * r.bed_duty:.1f}"
        for r in machine.advance(1500.0)
    ]
    log.write_text("seconds,bed °C,bed target °C,bed duty %\n" + "\n".join(lines) + "\n", encoding="utf-8")
    view.source.setEditText(str(log))
    live.click(view.watch_button)
    wait(live, lambda: "No target of the nozzle is told" in live.sentence)
    shown = {f.caption: f.value for f in view.gates.figures}
    assert shown["First layer begins"] == shown["Last layer laid"] == "not told"
    assert shown["Bed at its set point"].startswith("passed")
    assert view.power.is_empty
    assert "plug meter" in view.power._nothing.text()
    assert not view.alarms.rows


def test_what_was_looked_after_is_judged_again(live: Hands) -> None:
    view = view_of(live)
    view.speed = 300.0
    live.click(view.watch_button)
    wait(live, lambda: view.live is not None and view.live.source.now > 100.0)
    view.fault.setCurrentIndex(view.fault.findData("sensor-jump"))
    live.click(view.break_button)
    wait(live, lambda: bool(view.alarms.rows))
    live.click(view.mended_button)
    wait(live, lambda: not view.alarms.rows)
    assert view.live is not None
    assert view.live.watch.standing is None


def test_what_was_learned_is_taken_over_and_undone(live: Hands) -> None:
    view = view_of(live)
    view.speed = 300.0
    live.click(view.watch_button)
    wait(live, lambda: view.learn_button.isVisibleTo(view))
    before = live.document.project.rig
    live.click(view.learn_button)
    assert live.document.project.rig.fitted is not None
    assert "undo brings the old one back" in live.message
    stop(live)
    live.click(live.window.undo_button)  # the record
    live.click(live.window.undo_button)
    assert live.document.project.rig == before


def test_what_cannot_be_opened_is_said_and_a_run_that_was_cut_off_is_offered(live: Hands, tmp_path: Path) -> None:
    view = view_of(live)
    view.source.setEditText("/dev/no-such-port")
    live.click(view.watch_button)
    assert "cannot be opened" in live.sentence
    start = live.document.results.value(WATCH_START)
    assert start is not None
    recorder = Recorder(run_folder(), {"project": live.document.project.name, "source": "a port"})
    recorder.write(SimulatedMachine(start.watched, 3).advance(60.0))
    recorder.close()
    live.view("cool")
    live.view("live")
    live.settled()
    assert "cut off" in view.keep_button.text()
    live.click(view.keep_button)
    (record,) = live.document.project.records
    assert record.ended == "cut off"
    assert record.lasted == pytest.approx(60.0)
    assert not view.keep_button.isVisibleTo(view)


def test_a_power_cut_and_a_corner_that_lifts(live: Hands) -> None:
    live.view("mishap")
    live.settled()
    view = live.page.stage_page.view_of("mishap")
    assert "After a power cut" in live.sentence or "A power cut alone" in live.sentence
    assert len(view.table.rows) == 5
    joints = [float(cell.rstrip(" %")) for cell in view.table.rows[2][2:]]
    assert joints == sorted(joints, reverse=True)
    before = view.answer.text()
    assert before.startswith("State how far")
    live.type_into(live.field("run_plan.seen_lift"), "3 mm")
    live.settled()
    assert view.answer.text() != before
    assert view.answer.text().startswith("Stop")
