"""The command line: the same figures as the window, without a display. One module a command."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Final

from mandorla import __version__
from mandorla.cli import (
    check,
    cooldown,
    doctor,
    energy,
    explain,
    fault,
    fit,
    heatup,
    levers,
    log,
    new,
    optimum,
    report,
    run_sheet,
    strategies,
    sweep,
    tune,
    verify,
    warp,
)
from mandorla.cli.command import REFUSED, Call, Command, experience_for
from mandorla.cli.output import UNITS
from mandorla.core.errors import InputError, MandorlaError
from mandorla.core.project.paths import parse_at, set_value
from mandorla.core.project.store import Bundle, read_bundle
from mandorla.core.results.results import Results

COMMANDS: Final[dict[str, Command]] = {
    c.name: c
    for c in (
        heatup.COMMAND, check.COMMAND, fault.COMMAND, verify.COMMAND, fit.COMMAND, warp.COMMAND, tune.COMMAND, energy.COMMAND,
        levers.COMMAND, optimum.COMMAND, strategies.COMMAND, run_sheet.COMMAND, cooldown.COMMAND, report.COMMAND, sweep.COMMAND,
        log.COMMAND, new.COMMAND, explain.COMMAND, doctor.COMMAND,
    )
}  # fmt: skip


def build_parser() -> argparse.ArgumentParser:
    """The parser of all commands."""
    parser = argparse.ArgumentParser(
        prog="mandorla",
        description="Thermal design, warp prediction and tuning for large or hot 3D-printed parts.",
        epilog="Without a command the window opens (mandorla FILE: with a project or a mesh); --demo opens it with the "
        "demo project, --new-window beside one that is open. --portable FOLDER before everything else keeps preferences, "
        "logbook and recovery there.",
    )
    parser.add_argument("--version", action="version", version=f"mandorla {__version__}")
    commands = parser.add_subparsers(dest="command", required=True)
    for command in COMMANDS.values():
        sub = commands.add_parser(command.name, help=command.help)
        if command.plain is not None:
            command.arguments(sub)
            continue
        sub.add_argument("project", type=Path, metavar="PROJECT", help="a .mandorla file")
        sub.add_argument(
            "--set", dest="edits", action="append", default=[], metavar="PATH=VALUE",
            help="change a field first, e.g. settings.chamber=55degC; a bare number is SI",
        )  # fmt: skip
        sub.add_argument("--units", choices=sorted(UNITS), default="metric", help="of the text; JSON is SI always")
        sub.add_argument(
            "--logbook", type=Path, metavar="FILE", help="predict by this book's prints; else the workshop's own"
        )
        if command.output is not None:
            sub.add_argument("--json", action="store_true", help="print one JSON object, SI values with units")
        command.arguments(sub)
    return parser


def with_edits(bundle: Bundle, edits: Sequence[str]) -> Bundle:
    """Apply ``PATH=VALUE`` edits. Raises :class:`InputError`."""
    project = bundle.project
    for edit in edits:
        path, sign, text = edit.partition("=")
        if not sign:
            raise InputError(f"--set {edit}: write PATH=VALUE.")
        project = set_value(project, path, parse_at(project, path, text, si=True))
    edited = Bundle(project, bundle.originals)
    edited.check_originals()
    return edited


def run(arguments: Sequence[str]) -> int:
    """Run one command; returns the process's exit status: 0, 2 for a refused input, 1 and 3 as commands that judge say."""
    options = build_parser().parse_args(arguments)
    command = COMMANDS[options.command]
    try:
        if command.plain is not None:
            return command.plain(options)
        assert command.run is not None
        bundle = with_edits(read_bundle(options.project), options.edits)
        return command.run(Call(options, Results(bundle, None, experience_for(bundle, options))))
    except MandorlaError as error:
        if getattr(options, "json", False):
            problems = [{"where": p.where, "value": p.value, "allowed": p.allowed} for p in error.problems]
            answer = {"status": "error", "code": error.code, "message": error.message, "problems": problems}
            print(json.dumps(answer, ensure_ascii=False))
        print(f"mandorla: {error}", file=sys.stderr)
        return REFUSED
