"""``mandorla fault``: what happens when something breaks, and whether a fuse ends it in time."""

from __future__ import annotations

import argparse
import math
from typing import Any

from mandorla.cli.command import Call, Command, Output, Quantity
from mandorla.cli.output import as_json, as_text, quantity
from mandorla.core.failure.cautions import FAULT_CAUTION
from mandorla.core.failure.messages import fault_sentence, fault_state
from mandorla.core.results.keys import FAULT


class FaultEventRow(Output):
    """One event after a fault."""

    time: Quantity
    kind: str
    layer: str
    limit: Quantity


class FaultOutput(Output):
    """What ``mandorla fault --json`` prints."""

    status: str
    sentence: str
    fault: str
    start: str
    advice: str
    first_fuse_time: Quantity
    damaged: list[str]
    events: list[FaultEventRow]
    peak: dict[str, Quantity]
    rating: dict[str, Quantity]
    rise_first_minute: Quantity
    cautions: str


def _arguments(parser: argparse.ArgumentParser) -> None:
    from mandorla.core.results.choices import FAULTS  # loads the numerics: at this command only

    parser.add_argument("--fault", choices=sorted(FAULTS), default="relay-on", help="what breaks")
    parser.add_argument("--start", choices=("holding", "cold"), default="holding", help="soaked, or just switched on")


def answer(call: Call) -> dict[str, Any]:
    """The fault as one object."""
    found = call.get(FAULT.of(fault=call.options.fault, start=call.options.start))
    fuse = found.first_fuse
    return {
        "status": fault_state(found).value,
        "sentence": fault_sentence(found, call.units),
        "fault": found.fault.key,
        "start": found.start,
        "advice": found.fault.advice,
        "first_fuse_time": quantity(fuse.time if fuse is not None else math.nan, "s"),
        "damaged": list(found.damaged),
        "events": [
            {"time": quantity(e.time, "s"), "kind": e.kind, "layer": e.layer, "limit": quantity(e.limit, "K")}
            for e in found.events
        ],
        "peak": {name: quantity(float(T), "K") for name, T in zip(found.names, found.peak, strict=True)},
        "rating": {name: quantity(float(T), "K") for name, T in zip(found.names, found.ratings, strict=True)},
        "rise_first_minute": quantity(float((found.layers[:61].max(axis=1)[-1] - found.layers[0].max()) / 60.0), "K/s"),
        "cautions": FAULT_CAUTION,
    }


def run(call: Call) -> int:
    """Print what follows from the fault."""
    found = answer(call)
    if call.json:
        as_json(found)
    else:
        as_text(found, call.units)
    return 0


COMMAND = Command(
    "fault", "what happens when something breaks, and whether a fuse ends it in time", run, _arguments, FaultOutput
)
