"""``mandorla doctor``: what the installation has and lacks, and a bundle for a report without personal data."""

from __future__ import annotations

import argparse
from pathlib import Path

from mandorla.cli.command import Command, Output
from mandorla.cli.output import as_json
from mandorla.core.project.atomic import write_atomically


class DoctorRow(Output):
    """One check: ``good``, ``mind`` (it works, less well) or ``bad``; what can be done."""

    what: str
    verdict: str
    found: str
    remedy: str


class DoctorOutput(Output):
    """What ``mandorla doctor --json`` prints."""

    status: str
    checks: list[DoctorRow]


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--warm", action="store_true", help="compile the numerics now, so that nothing waits for them")
    parser.add_argument(
        "--bundle", type=Path, metavar="FILE.zip", help="write checks, log and crashes without names, for a report"
    )
    parser.add_argument("--json", action="store_true", help="print one JSON object")


def run(options: argparse.Namespace) -> int:
    """Examine; 0 where nothing is bad, else 1. Raises ProjectFileError where the bundle cannot be written."""
    from mandorla.core.installation.checks import examine, report_bundle  # loads the numerics

    rows = examine(compile_first=options.warm)
    status = "bad" if any(r.verdict == "bad" for r in rows) else "good"
    if options.json:
        as_json({"status": status, "checks": [r._asdict() for r in rows]})
    else:
        for r in rows:
            print(f"  {r.verdict:5s} {r.what:22s} {r.found}{f'; {r.remedy}' if r.remedy else ''}")
    if options.bundle is not None:
        write_atomically(options.bundle, report_bundle(rows))
        if not options.json:
            print(f"written: {options.bundle}")
    return 1 if status == "bad" else 0


COMMAND = Command("doctor", "what the installation has and lacks", None, _arguments, DoctorOutput, plain=run)
