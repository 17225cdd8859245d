"""``mandorla report``: the report as PDF or as one HTML file."""

from __future__ import annotations

import argparse
from pathlib import Path

from mandorla.cli.command import Call, Command, check_arguments


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("-o", "--output", type=Path, required=True, metavar="FILE", help="ends with .pdf or .html")
    parser.add_argument("--title", default="", help="in place of the project's name")
    parser.add_argument("--logo", type=Path, metavar="FILE", help="a PNG or JPEG picture for its head")
    parser.add_argument("--notes", default="", help="a paragraph after the answers")
    parser.add_argument("--parts", type=Path, metavar="FOLDER", help="every table as CSV and every figure as SVG, too")
    check_arguments(parser)


def run(call: Call) -> int:
    """Write the report. Raises InputError without a part."""
    # the document library loads late: it takes a second
    from mandorla.core.report.sections import Wanted
    from mandorla.core.report.write import read_logo, write_report

    asked = call.options
    logo = read_logo(asked.logo) if asked.logo is not None else b""
    wanted = Wanted(asked.title[:200], logo, asked.notes[:20000])
    write_report(asked.output, call.results, call.units, call.check, wanted, asked.parts)
    print(f"written: {asked.output}")
    return 0


COMMAND = Command("report", "write a report, PDF or HTML", run, _arguments)
