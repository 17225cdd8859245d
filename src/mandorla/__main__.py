"""Entry point: a command without a display, or the window."""

from __future__ import annotations

import os
import sys

HELPER_LOADS = ("mandorla.core.tune.window", "mandorla.core.measure.fit")


def main() -> int:
    """Start the command line or the window."""
    arguments = sys.argv[1:]
    if arguments[:1] == ["--portable"] and len(arguments) > 1:  # everything that is kept goes into this folder
        os.environ["MANDORLA_HOME"] = os.path.abspath(arguments[1])
        arguments = arguments[2:]
    from mandorla.cli import COMMANDS, build_parser, run  # light; the window's libraries load only when it opens
    from mandorla.core import second_core

    second_core.allow(*HELPER_LOADS)

    if arguments and (arguments[0] in COMMANDS or arguments[0] in ("-h", "--help", "--version")):
        try:
            return run(arguments)
        except BrokenPipeError:  # what reads the output has seen enough; nothing more may be written to it
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            return 0
    files = [a for a in arguments if a not in ("--demo", "--new-window")]
    if any(a.startswith("-") for a in files) or len(files) > 1:
        build_parser().error(f"unknown arguments: {' '.join(files)}")
    from mandorla.ui.application import start  # loads Qt

    return start(arguments)


if __name__ == "__main__":
    raise SystemExit(main())
