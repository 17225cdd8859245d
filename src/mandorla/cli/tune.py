"""``mandorla tune``: the operating window, the smallest change and the cheapest safe settings."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from mandorla.cli.command import Call, Command, Output, Quantity
from mandorla.cli.output import as_json, as_text, quantity
from mandorla.core.errors import InputError
from mandorla.core.results.keys import EVALUATION, GEOMETRY, WINDOW
from mandorla.core.tune.messages import tune_sentence

if TYPE_CHECKING:
    from mandorla.core.results.types import Point


class PointOutput(Output):
    """One operating point."""

    bed: Quantity
    chamber: Quantity
    hold_margin: Quantity
    hold_probability: Quantity
    lift: Quantity
    crack_index: Quantity
    energy: Quantity


class TuneOutput(Output):
    """What ``mandorla tune --json`` prints."""

    status: str
    sentence: str
    present: PointOutput | None
    cheapest: PointOutput | None
    nearest: PointOutput | None
    bound_by: str
    almond_share: Quantity
    points: list[int]
    fit_error_ln_margin: Quantity


def _point(p: Point | None) -> dict[str, Any] | None:
    if p is None:
        return None
    return {
        "bed": quantity(p.bed, "K"), "chamber": quantity(p.chamber, "K"), "hold_margin": quantity(p.margin, "1"),
        "hold_probability": quantity(p.hold_probability, "1"), "lift": quantity(p.lift, "m"),
        "crack_index": quantity(p.crack, "1"), "energy": quantity(p.energy, "J"),
    }  # fmt: skip


def answer(call: Call) -> dict[str, Any]:
    """The operating window as one object. Raises InputError without a part."""
    if call.get(GEOMETRY) is None:
        raise InputError(f"“{call.options.project.name}” has no part to print.")
    w, e = call.get(WINDOW), call.get(EVALUATION)
    return {
        "status": w.status,
        "sentence": tune_sentence(w, e, call.units),
        "present": _point(w.present),
        "cheapest": _point(w.cheapest),
        "nearest": _point(w.nearest),
        "bound_by": w.binding,
        "almond_share": quantity(float(w.almond.mean()), "1"),
        "points": list(w.margin.shape),
        "fit_error_ln_margin": quantity(w.fit_error, "1"),
    }


def run(call: Call) -> int:
    """Print the window's answer."""
    found = answer(call)
    if call.json:
        as_json(found)
    else:
        as_text(found, call.units)
    return 0


COMMAND = Command(
    "tune", "the operating window, the smallest change and the cheapest safe settings", run, output=TuneOutput
)
