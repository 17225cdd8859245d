"""Writes what goes beside the program: the man page and the shells' completions, both from the parser of the command line.

Usage: make_files.py FOLDER; needs shtab.
"""

from __future__ import annotations

import argparse
import os
import sys
from datetime import UTC, datetime
from pathlib import Path

import shtab

from mandorla import __version__
from mandorla.cli import build_parser


def _plain(text: str) -> str:
    """Text as a man page takes it."""
    safe = text.replace("\\", "\\e").replace("-", "\\-")
    return "\n".join("\\&" + line if line.startswith((".", "'")) else line for line in safe.splitlines())


def man_page(parser: argparse.ArgumentParser) -> str:
    """The man page of all commands, dated by SOURCE_DATE_EPOCH where it is set."""
    fixed = os.environ.get("SOURCE_DATE_EPOCH", "")
    when = datetime.fromtimestamp(int(fixed), UTC) if fixed.isdigit() else datetime.now(UTC)
    lines = [
        f'.TH MANDORLA 1 "{when:%Y-%m-%d}" "Mandorla {__version__}" "User commands"',
        ".SH NAME", f"mandorla \\- {_plain((parser.description or '')[0].lower() + (parser.description or '')[1:].rstrip('.'))}",
        ".SH SYNOPSIS", ".B mandorla", "[FILE]", ".br", ".B mandorla", "COMMAND PROJECT [options]",
        ".SH DESCRIPTION", _plain(parser.epilog or ""), ".SH COMMANDS",
    ]  # fmt: skip
    commands = next(a for a in parser._actions if isinstance(a, argparse._SubParsersAction))
    helped = {choice.dest: choice.help or "" for choice in commands._choices_actions}
    for name, sub in commands.choices.items():
        lines += [".SS", _plain(name), _plain(helped.get(name, "")) + "."]
        for action in sub._actions:
            if isinstance(action, argparse._HelpAction | argparse._SubParsersAction):
                continue
            words = ", ".join(action.option_strings) or str(action.metavar or action.dest)
            if action.option_strings and action.nargs != 0:
                words += f" {action.metavar or action.dest.upper()}"
            lines += [".TP", f".B {_plain(words)}", _plain(action.help or "")]
    lines += [
        ".SH EXIT STATUS", "0 it holds, 1 it fails (or is marginal, with \\-\\-fail\\-on marginal), 2 refused, 3 not determined.",
        ".SH ENVIRONMENT", ".TP", ".B MANDORLA_HOME", "Keeps preferences, logbook and recovery copies there.",
    ]  # fmt: skip
    return "\n".join(line for line in lines if line) + "\n"


def main() -> int:
    """Write everything into a folder."""
    folder = Path(sys.argv[1])
    folder.mkdir(parents=True, exist_ok=True)
    parser = build_parser()
    (folder / "mandorla.1").write_text(man_page(parser), encoding="utf-8")
    for shell, name in (("bash", "mandorla.bash"), ("zsh", "_mandorla")):
        (folder / name).write_text(shtab.complete(parser, shell), encoding="utf-8")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
