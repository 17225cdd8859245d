"""Entry point: a command without a display, or the window."""

from __future__ import annotations

import sys


def main() -> int:
    """Start the command line or the window."""
    arguments = sys.argv[1:]
    from mandorla.cli import COMMANDS, build_parser, run  # light; the window's libraries load only when it opens

    if arguments and (arguments[0] in COMMANDS or arguments[0] in ("-h", "--help", "--version")):
        return run(arguments)
    if any(a.startswith("-") and a != "--demo" for a in arguments) or len(arguments) > 1:
        build_parser().error(f"unknown arguments: {' '.join(arguments)}")
    from mandorla.ui.application import start  # loads Qt

    return start(arguments)


if __name__ == "__main__":
    raise SystemExit(main())
