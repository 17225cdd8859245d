"""``mandorla verify``: measuring sessions against the prediction, and what trials of film and magnet taught."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from mandorla.cli.command import Call, Command, Output, Quantity
from mandorla.cli.output import as_json, finite, quantity
from mandorla.core.errors import InputError
from mandorla.core.failure.messages import learned_sentence
from mandorla.core.measure.records import VERDICTS, record_text, row_text
from mandorla.core.results.keys import COMPARISON, LEARNED
from mandorla.core.results.verify import sessions_named

if TYPE_CHECKING:
    from mandorla.core.results.types import Comparison


class VerifyRow(Output):
    """One figure, measured and predicted (SI; kinds as in the field table)."""

    what: str
    kind: str
    measured: float
    expanded_95: float
    predicted: float
    low_90: float | None
    high_90: float | None
    limit: float
    verdict: str
    measured_text: str
    predicted_text: str


class SuspectRow(Output):
    """An assumption that would explain the misfit by itself."""

    name: str
    before: str
    after: str
    explains: float


class PlaceRow(Output):
    """A place on the bed with its common estimate."""

    place: str
    x: float
    y: float
    time: float
    value: float
    unit: str
    expanded_95: float
    consistent: bool
    left_out: list[str]


class SoakOutput(Output):
    """Whether the log is soaked."""

    settled: bool
    end: Quantity
    end_low: float
    end_high: float
    wait: Quantity
    wait_low: float
    wait_high: float


class PhaseRow(Output):
    """Energy of one phase."""

    name: str
    measured: Quantity
    predicted: Quantity


class EnergyOutput(Output):
    """A plug meter against the predicted power."""

    base: Quantity
    peak: Quantity
    steady: Quantity
    steady_predicted: Quantity
    phases: list[PhaseRow]


class SessionOutput(Output):
    """One session against the prediction."""

    status: str
    session: str
    key: str
    verdict: str
    sentence: str
    rows: list[VerifyRow]
    suspects: list[SuspectRow]
    places: list[PlaceRow]
    soak: SoakOutput | None
    energy: EnergyOutput | None
    oddities: list[str]
    record: str | None


class FindingRow(Output):
    """A figure before and after the trials, in SI with its kind."""

    what: str
    kind: str
    before: float
    before_low: float
    before_high: float
    after: float
    after_low: float
    after_high: float
    range_left: float


class LearnedOutput(Output):
    """What trials of film and magnet taught the predictions."""

    trials: int
    sentence: str
    findings: list[FindingRow]
    problems: list[str]


class VerifyOutput(Output):
    """What ``mandorla verify --json`` prints."""

    sessions: list[SessionOutput]
    learned: LearnedOutput | None


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--session", default=None, help="one session by its name or key; all of them by default")


def answer(call: Call, c: Comparison, key: str) -> dict[str, Any]:
    """One session as an object."""
    soak, energy = c.soak, c.energy
    records = [r for r in call.project.measurements.records if r.session == c.session]
    return {
        "status": c.state,
        "session": c.session,
        "key": key,
        "verdict": VERDICTS[c.state],
        "sentence": c.sentence,
        "rows": [
            {
                "what": r.what, "kind": r.kind, "measured": r.measured, "expanded_95": r.expanded, "predicted": r.predicted,
                "low_90": finite(r.low), "high_90": finite(r.high), "limit": r.limit, "verdict": r.state,
                "measured_text": row_text(r, call.units)[0], "predicted_text": row_text(r, call.units)[1],
            }
            for r in c.rows
        ],
        "suspects": [
            {"name": s.name, "before": s.before, "after": s.after, "explains": s.explained} for s in c.suspects
        ],
        "places": [
            {
                "place": s.place, "x": s.x, "y": s.y, "time": s.time, "value": s.estimate.value, "unit": "K",
                "expanded_95": s.estimate.expanded, "consistent": s.estimate.consistent,
                "left_out": [text for _, _, text in s.estimate.left_out],
            }
            for s in c.spots
        ],
        "soak": None if soak is None else {
            "settled": soak.settled, "end": quantity(soak.end, "K"), "end_low": soak.end_low, "end_high": soak.end_high,
            "wait": quantity(soak.wait, "s"), "wait_low": soak.wait_low, "wait_high": soak.wait_high,
        },
        "energy": None if energy is None else {
            "base": quantity(energy.base, "W"), "peak": quantity(energy.peak, "W"),
            "steady": quantity(energy.steady, "W"), "steady_predicted": quantity(energy.steady_predicted, "W"),
            "phases": [
                {"name": p.name, "measured": quantity(p.measured, "J"), "predicted": quantity(p.predicted, "J")}
                for p in energy.phases
            ],
        },
        "oddities": list(c.oddities),
        "record": record_text(records[-1], call.project.rig) if records else None,
    }  # fmt: skip


def taught(call: Call) -> dict[str, Any] | None:
    """What the project's trials taught; None without any."""
    if not call.project.measurements.trials:
        return None
    learned = call.get(LEARNED)
    return {
        "trials": learned.trials,
        "sentence": learned_sentence(learned),
        "findings": [
            {
                "what": f.what, "kind": f.kind,
                "before": f.before.typical, "before_low": f.before.low, "before_high": f.before.high,
                "after": f.after.typical, "after_low": f.after.low, "after_high": f.after.high, "range_left": f.left,
            }
            for f in learned.findings
        ],
        "problems": list(learned.problems),
    }  # fmt: skip


def run(call: Call) -> int:
    """Print every session, and what trials taught. Raises InputError when there is neither."""
    sessions, learned = sessions_named(call.bundle, call.options.session), taught(call)
    if not sessions and learned is None:
        raise InputError("The project holds no measuring session and no trial.")
    answers = [answer(call, call.get(COMPARISON.of(session=s.key, units=call.units)), s.key) for s in sessions]
    if call.json:
        as_json({"sessions": answers, "learned": learned})
        return 0
    for found in answers:
        print(f"{found['session']}: {found['verdict']}. {found['sentence']}")
        for row in found["rows"]:
            print(
                f"  {row['verdict']:9s} {row['what']:28s} {row['measured_text']:>24s}   predicted {row['predicted_text']}"
            )
        for text in found["oddities"]:
            print(f"  note: {text}")
    if learned is not None:
        print(f"Film, magnet, grip: {learned['sentence']}")
        for text in learned["problems"]:
            print(f"  note: {text}")
    return 0


COMMAND = Command(
    "verify", "measuring sessions against the prediction: figures, verdict, the likely wrong assumption", run, _arguments,
    VerifyOutput,
)  # fmt: skip
