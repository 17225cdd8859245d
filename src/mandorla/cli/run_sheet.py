"""``mandorla run``: the run sheet with its clock times, printed or written as PDF, HTML, Markdown, calendar or values."""

from __future__ import annotations

import argparse
import math
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Final

from mandorla.cli.command import Call, Command, Output, Quantity, check_arguments, exit_status, judged_arguments
from mandorla.cli.output import as_json, quantity
from mandorla.cli.watching import WatchOutput, serve, watch
from mandorla.core.errors import InputError
from mandorla.core.input_file import bytes_of
from mandorla.core.project.atomic import write_atomically
from mandorla.core.results.keys import GEOMETRY, MASS_COURSE, NOTICED, PLANNED_TARGETS, PLUG_COURSE, RUN_SHEET, STAGGER
from mandorla.core.run.alarm_words import noticed_sentence, noticed_text
from mandorla.core.run.disturbances import DISTURBANCES
from mandorla.core.run.messages import others_lines, run_sentence, sliced_sentence, spool_lines
from mandorla.core.run.noticed import PHASES, Noticed
from mandorla.core.run.schedule import ClockTime, moment_text, schedule, with_others
from mandorla.core.run.sliced import Deviation, compare, corrected, ending, preamble
from mandorla.core.units import si_unit


class MomentOutput(Output):
    """A clock time with its range, ISO with the zone's offset."""

    low: str
    typical: str
    high: str


class StepOutput(Output):
    """A step of the run with when it ends."""

    key: str
    phase: str
    title: str
    what: str
    why: str
    gate: str
    caution: str
    who: str
    done: bool
    left_out: bool
    attended: bool
    nobody_there: bool
    begins: MomentOutput
    ends: MomentOutput


class SpoolOutput(Output):
    """A spool that runs out."""

    spool: str
    at: MomentOutput
    following: str
    nobody_there: bool


class FindingOutput(Output):
    """A line of the sliced file that is not as planned (0: the file as a whole)."""

    line: int
    what: str
    found: str
    planned: str
    instead: str
    blocks: bool


class CheaperOutput(Output):
    """A cheaper moment to switch on, and what it saves."""

    at: str
    saves: float


class NoticedOutput(Output):
    """From which magnitude on something that goes wrong is noticed in time in a phase; null where it is not."""

    key: str
    name: str
    phase: str
    within: Quantity
    size: Quantity | None


class RunOutput(Output):
    """What ``mandorla run --json`` prints; without a part nothing is planned, and only a watch is told."""

    status: str | None
    sentence: str
    switched_on: str | None
    printed: MomentOutput | None
    taken_off: MomentOutput | None
    together: list[str]
    cheaper: CheaperOutput | None
    steps: list[StepOutput]
    spools: list[SpoolOutput]
    missing: Quantity | None
    alone: Quantity | None
    sliced: list[FindingOutput]
    watched: WatchOutput | None
    noticed: list[NoticedOutput] | None


_NOTHING_PLANNED: Final[dict[str, Any]] = {
    "status": None, "switched_on": None, "printed": None, "taken_off": None, "steps": [], "spools": [], "missing": None,
    "alone": None, "sliced": [], "together": [], "cheaper": None,
    "noticed": None,
}  # fmt: skip


def _arguments(parser: argparse.ArgumentParser) -> None:
    judged_arguments(parser)
    check_arguments(parser)
    parser.add_argument(
        "--sheet", type=Path, action="append", default=[], metavar="FILE",
        help="write the sheet: .pdf, .html, .md, .ics (calendar), .csv or .json (values); more than once for several",
    )  # fmt: skip
    parser.add_argument(
        "--file", type=Path, metavar="FILE.gcode", help="the sliced file, held against the plan line by line"
    )
    parser.add_argument(
        "--corrected", type=Path, metavar="OUT.gcode", help="write a copy with the named lines put right"
    )
    parser.add_argument("--preamble", type=Path, metavar="OUT.gcode", help="write the commands before the first layer")
    parser.add_argument(
        "--watch", metavar="PORT|LOG.csv|simulated[:SEED]",
        help="watch a run instead: a machine on a serial port, a logger's file, the simulated machine; prints gates and alarms, "
        "status 1 where there was an alarm",
    )  # fmt: skip
    parser.add_argument(
        "--serve", type=float, metavar="SPEED",
        help="offer the simulated machine on a pseudo-terminal, so many times faster than the clock; its name is printed",
    )  # fmt: skip
    parser.add_argument("--meter", type=Path, metavar="LOG.csv", help="with --watch: a plug meter's file beside it")
    parser.add_argument("--follow", action="store_true", help="with --watch LOG: go on as the file grows, until Ctrl-C")
    parser.add_argument(
        "--fault", action="append", default=[], metavar="KEY@SECONDS[:SIZE]",
        help="with --watch simulated: what breaks, and when (door-open@3600)",
    )  # fmt: skip
    parser.add_argument(
        "--record", type=Path, metavar="FOLDER", help="with --watch: keep the trace in a folder of its own"
    )
    parser.add_argument(
        "--learn", type=Path, metavar="OUT.mandorla", help="with --watch: write the rig as the run taught it"
    )
    parser.add_argument(
        "--noticed", action="store_true",
        help="from which size on a watch would notice in time what goes wrong, phase by phase; takes one to four minutes",
    )  # fmt: skip
    parser.add_argument("--ending", type=Path, metavar="OUT.gcode", help="write the commands after the last layer")


def _sliced(call: Call) -> tuple[Deviation, ...]:
    """The sliced file against the plan, and the corrected copy and blocks that are asked for. Raises InputError."""
    options = call.options
    found: tuple[Deviation, ...] = ()
    w = call.get(PLANNED_TARGETS)
    if options.file is not None:
        data = bytes_of(options.file)
        found = compare(data, w, call.units)
        if options.corrected is not None:
            write_atomically(options.corrected, corrected(data, found))
    elif options.corrected is not None:
        raise InputError("A corrected copy needs the file: name it with --file.")
    if options.preamble is not None:
        write_atomically(options.preamble, preamble(w, call.project.settings.soak_time).encode())
    if options.ending is not None:
        write_atomically(options.ending, ending(w, call.project.run_plan.ramp).encode())
    return found


def _noticed(n: Noticed) -> dict[str, Any]:
    d = DISTURBANCES[n.key]
    size = quantity(n.size, si_unit(d.kind)) if math.isfinite(n.size) else None
    return {"key": n.key, "name": d.name, "phase": n.phase, "within": quantity(d.within, "s"), "size": size}


def _tell(noticed: tuple[Noticed, ...] | None, call: Call) -> None:
    """Print what a watch would notice, where that was asked for and no JSON is."""
    if noticed is None or call.json:
        return
    print(noticed_sentence(noticed, call.units))
    for n in noticed:
        print(f"  {DISTURBANCES[n.key].name}, while it {PHASES[n.phase]}: {noticed_text(n, call.units)}")


def _moment(m: ClockTime) -> dict[str, str]:
    return {"low": m.low.isoformat(), "typical": m.typical.isoformat(), "high": m.high.isoformat()}


def run(call: Call) -> int:
    """Print or write the sheet, or watch a run. Raises InputError without a part, or where nothing can be watched."""
    if call.options.serve is not None:
        return serve(call)
    noticed = call.get(NOTICED) if call.options.noticed else None
    listed = None if noticed is None else [_noticed(n) for n in noticed]
    if call.options.watch is not None and not call.json:
        _tell(noticed, call)
        return watch(call)[0]
    if call.options.watch is not None and call.get(GEOMETRY) is None:
        status, alone = watch(call)
        as_json({**_NOTHING_PLANNED, "sentence": alone["sentence"], "watched": alone, "noticed": listed})
        return status
    if call.get(GEOMETRY) is None and noticed is not None:  # a machine is known, nothing is planned
        if call.json:
            as_json(
                {
                    **_NOTHING_PLANNED,
                    "sentence": noticed_sentence(noticed, call.units),
                    "watched": None,
                    "noticed": listed,
                }
            )
        _tell(noticed, call)
        return 0
    if call.get(GEOMETRY) is None:
        raise InputError(f"“{call.options.project.name}” has no part: a run sheet is made for one.")
    judgement, p = call.judgement(), call.project
    steps = call.get(RUN_SHEET.of(**dict(call.results.judgement_key().parameters), units=call.units))
    found = schedule(steps, p.run_plan, datetime.now(UTC), p.criteria.tariff, p.criteria.price, call.get(MASS_COURSE))
    found = with_others(
        found, call.get(STAGGER), call.get(PLUG_COURSE), p.criteria.tariff, p.criteria.price, p.run_plan
    )
    sentence, sliced = run_sentence(found, judgement, call.units), _sliced(call)
    status, watched = (0, None) if call.options.watch is None else watch(call)
    cheaper = found.together.cheaper
    if call.json:
        answer: dict[str, Any] = {
            "status": judgement.whole.value, "sentence": sentence, "switched_on": found.switched_on.isoformat(),
            "printed": _moment(found.printed), "taken_off": _moment(found.taken_off),
            "steps": [
                {
                    "key": s.step.key, "phase": s.step.phase, "title": s.step.title, "what": s.step.what, "why": s.step.why,
                    "gate": s.step.gate, "caution": s.step.caution, "who": s.step.who, "done": s.step.done,
                    "left_out": s.step.left_out, "attended": s.step.attended, "nobody_there": s.nobody,
                    "begins": _moment(s.begins), "ends": _moment(s.ends),
                }
                for s in found.planned
            ],
            "spools": [
                {"spool": c.spool, "at": _moment(c.at), "following": c.following, "nobody_there": c.nobody} for c in found.changes
            ],
            "missing": quantity(found.missing, "kg"), "alone": quantity(found.alone, "s"), "sliced": [f._asdict() for f in sliced],
            "watched": watched, "together": [at.isoformat() for at in found.together.starts],
            "cheaper": None if cheaper is None else {"at": cheaper.at.isoformat(), "saves": cheaper.saves},
            "noticed": listed,
        }  # fmt: skip
        as_json(answer)
    else:
        print(sentence)
        for s in found.planned:
            if not s.step.left_out:
                print(f"  {moment_text(s.ends, found.switched_on):>26s}  {s.step.title}: {s.step.gate or s.step.what}")
        for line in spool_lines(found):
            print(f"  {line}")
        for name, value, note in others_lines(found, call.units):
            print(f"  {name}: {value} ({note})")
        if call.options.file is not None:
            print(sliced_sentence(call.options.file.name, sliced))
        _tell(noticed, call)
        for f in sliced:
            print(f"  line {f.line}: {f.what}: {f.found}, planned {f.planned}")
    if call.options.sheet:
        from mandorla.core.report.run_sheet import write_sheet  # the document library loads late: it takes a second

        for path in call.options.sheet:
            write_sheet(path, p, found, call.units)
            if not call.json:
                print(f"written: {path}")
    if watched is not None:
        return status
    blocked = 1 if any(f.blocks for f in sliced) else 0
    return exit_status(judgement.whole, judgement.determined, call.options.fail_on) or blocked


COMMAND = Command("run", "the run sheet with its clock times, printed or written to files", run, _arguments, RunOutput)
