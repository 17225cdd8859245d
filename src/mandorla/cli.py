"""The command line: the same figures as the window, without a display."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Sequence
from datetime import date
from pathlib import Path
from typing import Any

from mandorla import __version__
from mandorla.core.errors import InputError, MandorlaError
from mandorla.core.project.answers import (
    checks_answer,
    fault_answer,
    fit_answer,
    heatup_answer,
    tune_answer,
    verify_answer,
    warp_answer,
)
from mandorla.core.project.cautions import CHECK_CAUTION
from mandorla.core.project.full_warp import (
    agreement_answer,
    bond_too_strong,
    chances_answer,
    chances_of_bundle,
    compensated_part,
    compensation_answer,
    full_answer,
    measured_agreement,
    shape_levers,
    shapes_answer,
    simulate_bundle,
    why_answer,
    why_of,
)
from mandorla.core.project.paths import parse_at, set_value
from mandorla.core.project.plate_look import look_at_plate, plate_answer
from mandorla.core.project.session import PartGeometry, evaluate_bundle, geometry_of
from mandorla.core.project.store import Bundle, read_bundle, write_atomically, write_bundle
from mandorla.core.project.verifying import compare_sessions, fit_bundle
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.bow import thermal_bow
from mandorla.core.thermal.faults import FAULTS, run_fault
from mandorla.core.thermal.unknowns import curve_bands
from mandorla.core.tune.evaluate import Evaluation
from mandorla.core.tune.rig_checks import RigCheck, check_rig
from mandorla.core.tune.window import compute_window
from mandorla.core.units import METRIC, celsius, show, show_duration
from mandorla.core.warp.compensate import stl_bytes

COMMANDS = ("heatup", "check", "fault", "verify", "fit", "warp", "tune", "report")


def build_parser() -> argparse.ArgumentParser:
    """The parser of all commands."""
    parser = argparse.ArgumentParser(
        prog="mandorla",
        description="Thermal design, warp prediction and tuning for large or hot 3D-printed parts.",
        epilog="Without a command the window opens; --demo opens it with the demo project.",
    )
    parser.add_argument("--version", action="version", version=f"mandorla {__version__}")
    commands = parser.add_subparsers(dest="command", required=True)
    for name, text in (
        ("heatup", "how the rig warms, when it is ready, what it draws"),
        ("check", "checks of the rig with their reasons"),
        ("fault", "what happens when something breaks, and whether a fuse ends it in time"),
        ("verify", "measuring sessions against the prediction: figures, verdict, the likely wrong assumption"),
        ("fit", "the rig fitted to logs: what was learned, what cannot be told apart, what to measure next"),
        ("warp", "whether the part holds, where it lets go, how flat it is"),
        ("tune", "the operating window, the gentlest and the cheapest safe settings"),
        ("report", "write a PDF report"),
    ):
        sub = commands.add_parser(name, help=text)
        sub.add_argument("project", type=Path, metavar="PROJECT", help="a .mandorla file")
        sub.add_argument(
            "--set", dest="edits", action="append", default=[], metavar="PATH=VALUE",
            help="change a field first, e.g. settings.chamber=55degC; a bare number is SI",
        )  # fmt: skip
        if name == "fault":
            sub.add_argument("--fault", choices=sorted(FAULTS), default="relay-on", help="what breaks")
            sub.add_argument(
                "--start", choices=("holding", "cold"), default="holding", help="soaked, or just switched on"
            )
        if name in ("verify", "fit"):
            sub.add_argument("--session", default=None, help="one session by its name; all of them by default")
        if name == "fit":
            sub.add_argument(
                "logs", type=Path, nargs="*", metavar="LOG.csv", help="further logs, beginning when heating began"
            )
            sub.add_argument("--unknown", action="append", default=[], help="fit this unknown only; may be repeated")
            sub.add_argument(
                "--write", type=Path, default=None, metavar="FILE.mandorla", help="write the fitted project"
            )
        if name == "warp":
            sub.add_argument("--why", action="store_true", help="causes and levers, each by itself, ranked")
            sub.add_argument("--full", action="store_true", help="run the full simulation; takes seconds to minutes")
            sub.add_argument(
                "--chances", action="store_true", help="probability of each failure; with --full anchored by the run"
            )
            sub.add_argument("--shapes", action="store_true", help="rounded corners and relief slots, each run in full")
            sub.add_argument(
                "--compensate", type=Path, default=None, metavar="FILE.stl",
                help="write the part pre-deformed against its release, checked by a second run",
            )  # fmt: skip
            sub.add_argument(
                "--resolution", choices=("draft", "standard", "fine"), default="standard", help="of the full simulation"
            )
            sub.add_argument(
                "--bodies", choices=("all", "one"), default="all",
                help="all on the plate together, or the one that has most to hold (as where one was measured or is compensated)",
            )  # fmt: skip
        if name == "report":
            sub.add_argument("-o", "--output", type=Path, required=True, metavar="FILE.pdf")
        else:
            sub.add_argument("--json", action="store_true", help="print one JSON object, SI values with units")
    return parser


def with_edits(bundle: Bundle, edits: Sequence[str]) -> Bundle:
    """Apply ``PATH=VALUE`` edits. Raises :class:`InputError`."""
    project = bundle.project
    for edit in edits:
        path, sign, text = edit.partition("=")
        if not sign:
            raise InputError(f"--set {edit}: write PATH=VALUE.")
        project = set_value(project, path, parse_at(project, path, text, si=True))
    return Bundle(project, bundle.originals)


def _print_answer(answer: dict[str, Any], as_json: bool) -> None:
    if as_json:
        print(json.dumps(answer, indent=1, ensure_ascii=False))
        return
    print(answer["sentence"])
    for name, value in answer.items():
        if not isinstance(value, dict) or "unit" not in value or value.get("value") is None:
            continue
        print(f"  {name.replace('_', ' '):24s} {_readable(value)}")


def _print_sessions(answers: Sequence[dict[str, Any]], as_json: bool) -> None:
    if as_json:
        print(json.dumps({"sessions": list(answers)}, indent=1, ensure_ascii=False))
        return
    for answer in answers:
        print(f"{answer['session']}: {answer['verdict']}. {answer['sentence']}")
        for row in answer["rows"]:
            print(
                f"  {row['verdict']:9s} {row['what']:28s} {row['measured_text']:>24s}   predicted {row['predicted_text']}"
            )
        for text in answer["oddities"]:
            print(f"  mind: {text}")


def _print_checks(checks: Sequence[RigCheck], as_json: bool) -> None:
    if as_json:
        print(json.dumps(checks_answer(checks), indent=1, ensure_ascii=False))
        return
    for check in checks:
        print(f"{check.state.value:9s} {check.title}: {check.finding}")
    print(CHECK_CAUTION)


_KIND_OF_UNIT = {"K": "temperature", "W": "power", "J": "energy", "m": "length", "kg": "mass"}


def _readable(item: dict[str, Any]) -> str:
    if item["value"] is None:
        return "not known"
    value, unit = float(item["value"]), str(item["unit"])
    if unit == "s":
        return show_duration(value)
    if unit == "K" and value < celsius(-100.0):
        return f"{value:.1f} K"
    if unit in _KIND_OF_UNIT:
        text = show(value, _KIND_OF_UNIT[unit], METRIC)
        if "low" in item:
            text += f"  (90 %: {show(item['low'], _KIND_OF_UNIT[unit])} to {show(item['high'], _KIND_OF_UNIT[unit])})"
        return text
    return f"{value:.3g}"


def _progress(fraction: float, stage: str) -> None:
    if sys.stderr.isatty():
        print(
            f"\r{100 * fraction:3.0f} %  {stage:40s}", end="\n" if fraction >= 1.0 else "", file=sys.stderr, flush=True
        )


def warp_answers(
    bundle: Bundle, geometry: PartGeometry | None, e: Evaluation, options: argparse.Namespace
) -> dict[str, dict[str, Any]]:
    """What was asked of the full simulation, by name; empty when nothing was."""
    answers: dict[str, dict[str, Any]] = {}
    found = None
    if options.full or options.compensate is not None:
        source = bundle.project.part
        # a measured part and a compensated one are one body
        measured = source is not None and source.measured is not None
        together = options.bodies == "all" and options.compensate is None and not measured
        found = simulate_bundle(
            bundle, geometry, e, options.resolution, RunContext(report=_progress), together=together
        )
        answers["full"] = full_answer(found, bond_too_strong(bundle.project.process))
        if measured:
            answers["measured"] = agreement_answer(measured_agreement(bundle, found))
    if options.chances:
        look = look_at_plate(bundle, geometry, e) if found is None else None
        gap = None if look is None else look.gap
        answers["chances"] = chances_answer(chances_of_bundle(bundle, e, found, gap=gap))
    if options.shapes and geometry is not None:
        answers["shapes"] = shapes_answer(shape_levers(bundle, geometry, e, run=RunContext(report=_progress)))
    if options.compensate is not None and found is not None and geometry is not None:
        made, checked = compensated_part(bundle, geometry, e, found, run=RunContext(report=_progress))
        write_atomically(options.compensate, stl_bytes(made.mesh))
        answers["compensated"] = compensation_answer(made, checked)
    return answers


def _print_warp(answers: dict[str, dict[str, Any]], as_json: bool) -> int:
    if as_json:
        only = next(iter(answers.values())) if len(answers) == 1 else answers
        print(json.dumps(only, indent=1, ensure_ascii=False))
        return 0
    for name, answer in answers.items():
        _print_answer(answer, False)
        for note in answer.get("notes", ()):
            print(f"  mind: {note}")
        for f in answer.get("failures", ()):
            print(f"  {100 * f['probability']['value']:5.1f} %  {f['name']} ({f['criterion']})")
        for u in answer.get("unknowns", ()):
            print(f"  {100 * u['share']['value']:5.1f} %  of it by {u['name']}: {u['test']}")
        for s in answer.get("tried", ()):
            lifts = ", ".join(_readable(s[k]) for k in ("printed_lift", "released_flatness"))
            print(f"  {s['name']:56s} lift {lifts}   margin {s['hold_margin']['value']:.2f}   {s['stopped']}".rstrip())
        if name == "compensated":
            print("  written; look at the mesh before you print it: its walls are bent on purpose")
    return 0


def run(arguments: Sequence[str]) -> int:
    """Run one command; returns the process's exit status (0, or 2 for a refused input)."""
    options = build_parser().parse_args(arguments)
    try:
        bundle = with_edits(read_bundle(options.project), options.edits)
        if options.command == "fault":
            project = bundle.project
            result = run_fault(project.rig, project.settings, project.criteria, options.fault, options.start)
            _print_answer(fault_answer(result), options.json)
            return 0
        if options.command == "verify":
            _print_sessions(
                [verify_answer(c, bundle.project) for c in compare_sessions(bundle, options.session)], options.json
            )
            return 0
        if options.command == "fit":
            fit, used = fit_bundle(bundle, options.session, options.logs, options.unknown, date.today().isoformat())
            _print_answer(fit_answer(fit, used), options.json)
            if options.write is not None:
                write_bundle(
                    options.write, Bundle(bundle.project.model_copy(update={"rig": fit.rig}), bundle.originals)
                )
            return 0
        geometry = geometry_of(bundle)
        evaluation = evaluate_bundle(bundle, geometry)
        project = bundle.project
        if options.command == "heatup":
            heat = evaluation.heat
            sampled = curve_bands(project.rig, project.settings, project.criteria, heat)
            _print_answer(heatup_answer(evaluation, thermal_bow(project.rig, heat), project, sampled), options.json)
            return 0
        if options.command == "check":
            _print_checks(check_rig(project.rig, project.settings, project.criteria, evaluation.heat), options.json)
            return 0
        if options.command == "warp" and evaluation.part is None:
            raise InputError(f"“{options.project.name}” has no part to print.")
        if options.command == "warp" and options.why and geometry is not None:
            answer = why_answer(evaluation, *why_of(bundle, geometry, evaluation))
            _print_answer(answer, options.json)
            for row in () if options.json else answer["levers"]:
                margin, lift = row["hold_margin"]["value"], _readable(row["lift"])
                print(f"  {row['name']:56s} margin {margin:5.2f}   lift {lift:>9s}   {row['barred']}".rstrip())
            return 0
        if options.command == "warp":
            answers = warp_answers(bundle, geometry, evaluation, options)
            if answers:
                return _print_warp(answers, options.json)
            answer = warp_answer(evaluation)
            look = look_at_plate(bundle, geometry, evaluation)
            if look is not None:
                answer["plate"] = plate_answer(look, project.criteria.lift_limit)
                if not options.json:
                    answer["sentence"] += f" {answer['plate']['sentence']}"
            _print_answer(answer, options.json)
            return 0
        if evaluation.part is None or project.part is None or geometry is None:
            raise InputError(f"“{options.project.name}” has no part to print.")
        window = compute_window(project.rig, project.settings, project.criteria, evaluation, project.part.placement)
        if options.command == "tune":
            _print_answer(tune_answer(window, evaluation, project), options.json)
            return 0
        from mandorla.core.report.pdf import write_report  # the document library loads late: it takes a second

        write_report(options.output, bundle, geometry, evaluation, window)
        print(f"written: {options.output}")
    except MandorlaError as error:
        if getattr(options, "json", False):
            problems = [{"where": p.where, "value": p.value, "allowed": p.allowed} for p in error.problems]
            print(
                json.dumps(
                    {"status": "error", "code": error.code, "message": error.message, "problems": problems},
                    ensure_ascii=False,
                )
            )
        print(f"mandorla: {error}", file=sys.stderr)
        return 2
    return 0
