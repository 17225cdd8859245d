"""``mandorla report``: the PDF report."""

from __future__ import annotations

import argparse
from pathlib import Path

from mandorla.cli.command import Call, Command, check_arguments


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("-o", "--output", type=Path, required=True, metavar="FILE.pdf")
    check_arguments(parser)


def run(call: Call) -> int:
    """Write the report. Raises InputError without a part."""
    from mandorla.core.report.pdf import write_report  # the document library loads late: it takes a second

    write_report(call.options.output, call.results, call.units, check=call.check)
    print(f"written: {call.options.output}")
    return 0


COMMAND = Command("report", "write a PDF report", run, _arguments)
