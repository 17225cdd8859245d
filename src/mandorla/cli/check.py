"""``mandorla check``: checks of the rig with their reasons."""

from __future__ import annotations

from mandorla.cli.command import Call, Command, Output, exit_status, judged_arguments
from mandorla.cli.output import as_json
from mandorla.core.failure.cautions import CHECK_CAUTION
from mandorla.core.failure.state import worst_of
from mandorla.core.results.keys import RIG_CHECKS


class CheckRow(Output):
    """One check."""

    key: str
    title: str
    state: str
    finding: str
    reason: str


class CheckOutput(Output):
    """What ``mandorla check --json`` prints."""

    status: str
    checks: list[CheckRow]
    cautions: str


def run(call: Call) -> int:
    """Print every check, the worst first."""
    checks = call.get(RIG_CHECKS.of(units=call.units))
    state = worst_of(*(c.state for c in checks))
    if call.json:
        rows = [
            {"key": c.key, "title": c.title, "state": c.state.value, "finding": c.finding, "reason": c.reason} for c in checks
        ]  # fmt: skip
        as_json({"status": state.value, "checks": rows, "cautions": CHECK_CAUTION})
    else:
        for check in checks:
            print(f"{check.state.value:9s} {check.title}: {check.finding}")
        print(CHECK_CAUTION)
    return exit_status(state, True, call.options.fail_on)


COMMAND = Command("check", "checks of the rig with their reasons", run, judged_arguments, CheckOutput)
