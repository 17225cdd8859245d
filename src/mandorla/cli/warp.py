"""``mandorla warp``: whether the part holds, where it detaches, how flat it is."""

from __future__ import annotations

import argparse
from datetime import date
from typing import TYPE_CHECKING, Any

from mandorla.cli.command import Call, Command, check_arguments, exit_status, judged_arguments
from mandorla.cli.output import as_json, as_text, figures, readable
from mandorla.cli.warp_answers import (
    agreement_answer,
    compensation_answer,
    full_answer,
    probability_answer,
    quick_answer,
    shapes_answer,
    why_answer,
)
from mandorla.cli.warp_output import WarpJson
from mandorla.core.errors import InputError
from mandorla.core.failure.messages import margin_text, probability_text
from mandorla.core.logbook.messages import counted
from mandorla.core.project.atomic import write_atomically
from mandorla.core.project.paths import set_value
from mandorla.core.project.store import Bundle, write_bundle
from mandorla.core.results import keys
from mandorla.core.results.kept_runs import check_room, encoded, entry_of
from mandorla.core.results.key import Key

if TYPE_CHECKING:
    from mandorla.core.results.types import FullRun


def _arguments(parser: argparse.ArgumentParser) -> None:
    add = parser.add_argument
    judged_arguments(parser)
    check_arguments(parser)
    add("--why", action="store_true", help="causes and levers, each by itself, ranked")
    add("--full", action="store_true", help="run the full simulation; takes seconds to minutes")
    add("--chances", action="store_true", help="probability of each failure; with --full anchored by the run")
    add("--shapes", action="store_true", help="rounded corners and relief slots, each run in full")
    add("--compensate", type=_path, default=None, metavar="FILE.stl",
        help="write the part pre-deformed against its release, checked by a second run")  # fmt: skip
    add("--keep", type=_path, default=None, metavar="FILE.mandorla",
        help="with --full: write the project with the run kept in it, where it is found again")  # fmt: skip
    add("--resolution", choices=("draft", "standard", "fine"), default="standard", help="of the full simulation")
    add("--bodies", choices=("all", "one"), default="all",
        help="all on the plate together, or the one that has most to hold (as for a measured or compensated one)")  # fmt: skip


def _path(text: str) -> Any:
    from pathlib import Path

    return Path(text)


def _keep(call: Call, key: Key[FullRun], found: FullRun, says: str) -> None:
    """Write the project with a run kept in it. Raises InputError where it keeps as many as it can."""
    if call.results.in_file(key) is not None:
        write_bundle(call.options.keep, call.bundle)
        return
    day = date.today().isoformat()
    run = entry_of(key, call.results.digest(key), day, call.project, says)
    project = set_value(call.project, "runs", (*call.project.runs, run))
    write_bundle(call.options.keep, Bundle(project, {**call.bundle.originals, run.file: encoded(found)}))


def _simulated(call: Call) -> dict[str, dict[str, Any]]:
    """What was asked of the full simulation, by name; empty when nothing was."""
    options, answers = call.options, {}
    source = call.project.part
    measured = source is not None and source.measured is not None
    # a measured part and a compensated one are one body
    bodies = "one" if measured or options.compensate is not None else options.bodies
    which = {"resolution": options.resolution, "bodies": bodies}
    full = options.full or options.compensate is not None
    if options.keep is not None and not full:
        raise InputError("--keep keeps a full run: it goes with --full.")
    if full:
        part = call.get(keys.EVALUATION).part
        assert part is not None
        key = keys.FULL_RUN.of(**which)
        kept = call.results.in_file(key)
        if options.keep is not None and kept is None:
            check_room(call.project)
        found = call.get(key)
        judged = call.get(keys.JUDGEMENT.of(full=options.resolution, bodies=bodies))
        day = "" if kept is None else kept.date
        answers["full"] = full_answer(found, judged, call.units, part.bonds_too_strongly, day)
        if options.keep is not None:
            _keep(call, key, found, answers["full"]["sentence"])
        if measured:
            answers["measured"] = agreement_answer(call.get(keys.AGREEMENT.of(**which)))
    if options.chances:
        named = keys.JUDGEMENT.of(full=options.resolution, bodies=bodies)
        judged = call.get(named) if full else call.judgement()
        by = named if full else call.results.judgement_key()
        copies = call.get(keys.BATCH.of(full=by["full"] if by["bodies"] == "all" else ""))
        answers["chances"] = probability_answer(judged, copies, call.project.process.linked)
    if options.shapes:
        answers["shapes"] = shapes_answer(call.get(keys.SHAPE_VARIANTS.of(units=call.units)), call.units)
    if options.compensate is not None:
        bent = call.get(keys.COMPENSATION.of(**which))
        write_atomically(options.compensate, bent.stl())
        answers["compensated"] = compensation_answer(bent, call.units)
    return answers


def _print_simulated(answers: dict[str, dict[str, Any]], call: Call) -> None:
    if call.json:
        as_json(next(iter(answers.values())) if len(answers) == 1 else answers)
        return
    for name, answer in answers.items():
        as_text(answer, call.units)
        if answer.get("kept"):
            print(f"  from the project file, where it was kept on {answer['kept']}")
        for note in answer.get("notes", ()):
            print(f"  note: {note}")
        for f in answer.get("failures", ()):
            print(f"  {100 * f['probability']['value']:5.1f} %  {f['name']}")
            for u in f["unknowns"][:3]:
                print(f"           {100 * u['share']['value']:3.0f} % of its scatter by {u['name']}: {u['test']}")
        if answer.get("copies"):
            print(f"  {answer['copies']['sentence']}")
        for s in answer.get("tried", ()):
            lifts = ", ".join(readable(s[k], call.units) for k in ("printed_lift", "released_flatness"))
            print(
                f"  {s['name']:56s} lift {lifts}   margin {margin_text(s['hold_margin']['value'])}   {s['stopped']}".rstrip()
            )
        if name == "compensated":
            print("  written; check the mesh before you print it: its walls are bent on purpose")


def _why(call: Call) -> None:
    call.judgement()  # the settings are run in full first
    which = keys.LEVERS_IN_FULL if call.check else keys.CAUSES_AND_LEVERS
    found = call.get(call.results.as_judged(which.of(units=call.units)))
    answer = why_answer(found, call.units, call.project)
    if call.json:
        as_json(answer)
        return
    as_text(answer, call.units)
    for row in answer["levers"]:
        margin, lift = row["hold_margin"]["value"], readable(row["lift"], call.units)
        chance = row["probability_of_any"]
        fails = probability_text(chance) if chance is not None and not row["barred"] else "–"
        by = ", simulated" if row["simulated"] else ""
        text = f"fails {fails + by:>20s}   margin {margin_text(margin):>9s}   lift {lift:>9s}   {row['barred']}"
        print(f"  {row['name']:56s} {text}".rstrip())


def run(call: Call) -> int:
    """Print the quick estimate with its plate, or what was asked for. Raises InputError without a part."""
    if call.get(keys.EVALUATION).part is None:
        raise InputError(f"“{call.options.project.name}” has no part to print.")
    answers = {} if call.options.why else _simulated(call)
    judgement = call.judgement()
    if call.options.why:
        _why(call)
    elif answers:
        _print_simulated(answers, call)
    else:
        by = call.results.judgement_key()
        full = call.get(keys.FULL_RUN.of(resolution=by["full"], bodies=by["bodies"])) if by["full"] else None
        answer = quick_answer(call.get(keys.EVALUATION), judgement, call.units, full)
        if call.json:
            as_json(answer)
        else:
            print(answer["sentence"])
            if answer["learned_from_prints"]:
                print(f"From {counted(answer['learned_from_prints'])} of the workshop's logbook.")
            if full is not None:
                print(f"By the full simulation ({full.resolution}), which the judgement is by:")
                figures(answer["full"], call.units)
            print("By the quick estimate:")
            figures(answer, call.units)
            _print_ways(answer["judgement"])
    return exit_status(judgement.whole, judgement.determined, call.options.fail_on)


def _print_ways(judgement: dict[str, Any]) -> None:
    """Every way to fail that is not far away, likeliest first."""
    rows = [w for w in judgement["ways"] if w["state"] != "holds" or (w["probability"] or 0.0) > 0.01]
    for w in sorted(rows, key=lambda w: -(w["probability"] or 0.0)):
        chance = "" if w["probability"] is None else f"{100 * w['probability']:3.0f} %"
        print(f"  {w['state']:9s} {chance:5s} {w['title']}: {w['sentence']}")


COMMAND = Command("warp", "what fails first and with what chance, how flat the part is", run, _arguments, WarpJson)
