"""``mandorla run --watch``: readings of a machine, a log or the simulated machine against the plan; gates and alarms as they
come."""

from __future__ import annotations

import contextlib
import math
import sys
import time
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

from mandorla.cli.command import FAILS, HOLDS, Call, Output, Quantity
from mandorla.cli.output import quantity
from mandorla.core.errors import InputError
from mandorla.core.project.store import Bundle, write_bundle
from mandorla.core.results.keys import WATCH_START
from mandorla.core.run.alarm_words import (
    alarm_sentence,
    dangerous,
    seen_text,
    watch_sentence,
    words_of,
)
from mandorla.core.run.disturbances import DISTURBANCES
from mandorla.core.run.learned import learned_rig, lessons
from mandorla.core.run.live import GATES, LiveRun
from mandorla.core.run.recorder import Recorder
from mandorla.core.run.served_machine import ServedMachine
from mandorla.core.run.simulated_machine import Break, SimulatedMachine
from mandorla.core.run.sources import LogSource, SimulatedSource, Source, WithMeter, machine_on

if TYPE_CHECKING:
    from mandorla.core.results.types import WatchStart

SIMULATED = "simulated"
_COOLS = 3600.0  # s after its last layer, for which the simulated machine is watched


class AlarmOutput(Output):
    """An alarm: when, its likeliest cause by key, chance, other causes, words."""

    time: Quantity
    began: Quantity
    cause: str
    probability: float
    dangerous: bool
    others: dict[str, float]
    sentence: str


class GateOutput(Output):
    """A gate with when it was passed; null where it was not. ``before``: before the watch began, nobody knows when;
    ``told``: whether the machine tells what shows it."""

    gate: str
    title: str
    passed: Quantity | None
    before: bool
    told: bool


class LessonOutput(Output):
    """What was learned of an unknown of the rig, as text before and after, and the share of its range that is left."""

    key: str
    name: str
    before: str
    after: str
    share: float


class WatchOutput(Output):
    """A run that was watched."""

    source: str
    readings: int
    lasted: Quantity
    sentence: str
    part: Quantity | None
    gates: list[GateOutput]
    alarms: list[AlarmOutput]
    over: list[str]
    learned: list[LessonOutput]
    record: str | None


def source_of(call: Call, start: WatchStart) -> Source:
    """What is watched: a port, a log, or the simulated machine with what is to break. Raises :class:`InputError`."""
    options, what = call.options, str(call.options.watch)
    if what == SIMULATED or what.startswith(f"{SIMULATED}:"):
        seed = what.partition(":")[2] or "0"
        if not seed.isdigit():
            raise InputError(f"“{what}”: a seed is a whole number, as in simulated:7.")
        machine = SimulatedMachine(start.watched, int(seed), [_break(text) for text in options.fault])
        until = start.planned.median if math.isfinite(start.planned.median) else 3600.0
        until += 4.0 * start.watched.settings.soak_time + 1800.0 + start.watched.duration + _COOLS
        return SimulatedSource(machine, math.inf, until)
    if options.fault and options.serve is None:
        raise InputError("Only the simulated machine breaks on demand: --watch simulated.")
    path = Path(what)
    if what.startswith("/dev/") or path.is_char_device():
        found: Source = machine_on(what)
    else:
        found = LogSource(path, finished=not options.follow)
    return WithMeter(found, options.meter) if options.meter is not None else found


def serve(call: Call) -> int:
    """The simulated machine on a pseudo-terminal, until Ctrl-C; its name is printed."""
    start, speed = call.get(WATCH_START), call.options.serve
    if not 1.0 <= speed <= 1000.0:
        raise InputError("--serve takes how much faster its time runs: 1 to 1000.")
    machine = SimulatedMachine(start.watched, 0, [_break(text) for text in call.options.fault])
    with ServedMachine(machine, speed) as served:
        print(f"{served.path}@{speed:g}", flush=True)
        with contextlib.suppress(KeyboardInterrupt):
            while True:
                time.sleep(0.5)
    return HOLDS


def _break(text: str) -> Break:
    """``door-open@1200`` or ``door-open@1200:0.5``: what breaks, after how many s, its size."""
    key, _, rest = text.partition("@")
    at, _, size = rest.partition(":")
    d = DISTURBANCES.get(key)
    try:
        begins, own = float(at), float(size) if size else math.nan
    except ValueError:
        d = None
    if d is None or not math.isfinite(begins) or begins < 0.0:
        known = ", ".join(DISTURBANCES)
        raise InputError(f"“{text}”: write it as door-open@1200, seconds after switching on; known are {known}.")
    own = d.drawn[1] if math.isnan(own) else own
    return Break(key, 10.0 * round(begins / 10.0), own, begins + own if key == "power-cut" else math.inf)


def watch(call: Call) -> tuple[int, dict[str, object]]:
    """Watch until the source ends or Ctrl-C; the exit status and what ``--json`` prints. Raises :class:`InputError`."""
    start = call.get(WATCH_START)
    source = source_of(call, start)
    folder = call.options.record
    recorder = Recorder(folder, {"project": call.project.name, "source": source.name}) if folder is not None else None
    live = LiveRun(start.watched, source, recorder, start.planned)
    said: set[str] = set()
    simulated = isinstance(source, SimulatedSource)  # it is watched until its plate may be held
    try:
        while not source.ended and not (simulated and "touch" in live.passed):
            for alarm in live.step():
                _say(
                    call,
                    f"  {alarm.time:7.0f} s  "
                    f"{'DANGER: ' if dangerous(alarm) else ''}{alarm_sentence(alarm, call.units)} [{seen_text(alarm)}]",
                )
            for gate in live.gates():
                if math.isfinite(gate.passed) and gate.gate not in said:
                    said.add(gate.gate)
                    before = ", before the watch began" if gate.before else ""
                    _say(call, f"  {gate.passed:7.0f} s  {GATES[gate.gate]}{before}")
    except KeyboardInterrupt:
        pass
    finally:
        source.close()
        if recorder is not None:
            recorder.close()
    if live.readings == 0:
        raise InputError(f"“{source.name}” gave no reading. {source.note}".strip())
    gates = live.gates()
    sentence = watch_sentence(live.acting, gates, source.now, call.units, live.watch.tracker.finding)
    _say(call, sentence)
    if source.note:
        print(f"mandorla: {source.note}", file=sys.stderr)
    _write(call, live)
    for lesson in lessons(live.watch.tracker, call.units)[:6] if live.watch.teaches else ():
        _say(
            call,
            f"  learned: {lesson.name} {lesson.before} → {lesson.after}, {100 * lesson.share:.0f} % of its range is left",
        )
    return (FAILS if live.alarms else HOLDS), _output(call, live, sentence)


def _say(call: Call, text: str) -> None:
    if not call.json:
        print(text, flush=True)


def _write(call: Call, live: LiveRun) -> None:
    """The project with the rig as it was learned, where that is asked for."""
    out = call.options.learn
    if out is None:
        return
    tracker = live.watch.tracker
    rig = learned_rig(tracker, live.source.name[:60], date.today().isoformat()) if live.watch.teaches else None
    if rig is None:
        raise InputError("This run taught nothing of the rig: its trace is too short, or something was broken.")
    bundle = call.results.bundle
    write_bundle(out, Bundle(call.project.model_copy(update={"rig": rig}), bundle.originals))
    _say(call, f"written: {out}")


def _output(call: Call, live: LiveRun, sentence: str) -> dict[str, object]:
    return {
        "source": live.source.name, "readings": live.readings, "lasted": quantity(live.source.now, "s"), "sentence": sentence,
        "part": quantity(live.part, "K") if math.isfinite(live.part) else None,
        "gates": [
            {
                "gate": g.gate, "title": GATES[g.gate], "passed": quantity(g.passed, "s") if math.isfinite(g.passed) else None,
                "before": g.before,
                "told": g.told,
            }
            for g in live.gates()
        ],
        "alarms": [
            {
                "time": quantity(a.time, "s"), "began": quantity(a.began, "s"), "cause": a.cause,
                "probability": a.causes[0].probability if a.causes else 1.0, "dangerous": dangerous(a),
                "others": {c.key: c.probability for c in a.causes[1:4]}, "sentence": alarm_sentence(a, call.units),
            }
            for a in live.alarms
        ],
        "over": [f"{words_of(key)[0]}, {at:.0f} s" for at, key in live.watch.ended],
        "learned": [
            {"key": v.key, "name": v.name, "before": v.before, "after": v.after, "share": v.share}
            for v in (lessons(live.watch.tracker, call.units) if live.watch.teaches else ())
        ],
        "record": str(live.recorder.folder) if live.recorder is not None else None,
    }  # fmt: skip
