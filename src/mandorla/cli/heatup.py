"""``mandorla heatup``: how the rig warms, when it is ready, what it draws."""

from __future__ import annotations

from typing import Any

import numpy as np

from mandorla.cli.command import Band, Call, Command, Output, Quantity
from mandorla.cli.output import as_json, as_text, band, finite, quantity, readable
from mandorla.core.failure.messages import heat_up_sentence
from mandorla.core.failure.print_words import STARTS, log_ends, moments_of, print_sentence
from mandorla.core.results.keys import CURVE_BANDS, EVALUATION, HEAT_BALANCE, HEAT_UP, PLATE_FLATNESS


class Sampled(Output):
    """Ready time over sampled rigs."""

    low: float | None
    median: float | None
    high: float | None
    unit: str
    samples: int
    never: int


class UnknownEffect(Output):
    """What one unknown does to the soaked surface over its 90 % range."""

    name: str
    surface_low: float
    surface_high: float
    unit: str


class MomentOutput(Output):
    """One moment of the print."""

    what: str
    time: Quantity
    height: Quantity
    surface: Quantity
    air: Quantity
    room: Quantity


class PrintOutput(Output):
    """The machine while it prints; the times count from the first layer."""

    sentence: str
    begins: Quantity
    follows: Quantity
    surface_mean: Quantity
    air_mean: Quantity
    power_mean: Quantity
    chamber_power_mean: Quantity
    moments: list[MomentOutput]
    room_log: str


class HeatupOutput(Output):
    """What ``mandorla heatup --json`` prints."""

    status: str
    sentence: str
    surface: Band | Quantity
    chamber_air: Band | Quantity
    holding_power: Band | Quantity
    chamber_power: Quantity
    offset: Quantity
    ready_time: Band | Quantity
    ready_time_sampled: Sampled
    unknowns: list[UnknownEffect]
    lower_air: Quantity
    plate_ready_time: Quantity
    chamber_ready_time: Quantity
    frame_ready_time: Quantity
    energy_to_ready: Band | Quantity
    spread: Band
    peak_power: Quantity
    bow_soaked: Band
    bow_largest: Quantity
    bow_settled: Quantity
    where_the_heat_went: dict[str, Quantity]
    duty_to_hold: Quantity
    steady_off_the_bed: dict[str, Quantity]
    steady_out_of_the_chamber: dict[str, Quantity]
    from_the_bed: dict[str, Quantity]
    balance_closure: Quantity
    start: str
    while_printing: PrintOutput | None
    notes: list[str]


def _printing(call: Call) -> dict[str, Any] | None:
    """The march through the print; None without a part."""
    e = call.get(EVALUATION)
    course, part = e.course, e.part
    if course is None or part is None:
        return None
    return {
        "sentence": print_sentence(course, part, call.project.rig.chamber.enclosed, call.units),
        "begins": quantity(course.begins, "s"), "follows": quantity(course.follows, "s"),
        "surface_mean": quantity(course.mean(course.surface), "K"), "air_mean": quantity(course.mean(course.air), "K"),
        "power_mean": quantity(course.mean(course.power), "W"),
        "chamber_power_mean": quantity(course.mean(course.chamber_power), "W"),
        "moments": [
            {
                "what": m.what, "time": quantity(m.time, "s"), "height": quantity(m.height, "m"),
                "surface": quantity(m.surface, "K"), "air": quantity(m.air, "K"), "room": quantity(m.room, "K"),
            }
            for m in moments_of(course, part)
        ],
        "room_log": log_ends(course),
    }  # fmt: skip


def answer(call: Call) -> dict[str, Any]:
    """The heat-up as one object."""
    heat, sampled = call.get(HEAT_UP), call.get(CURVE_BANDS)
    bow, balance = call.get(PLATE_FLATNESS).bow, call.get(HEAT_BALANCE)
    bands = {k: band(b.value, b.low, b.high, "W" if k == "power" else "K") for k, b in heat.bands.items()}
    until = heat.ready_time if np.isfinite(heat.ready_time) else float(heat.time[-1])
    low, median, high = (finite(v) for v in sampled.ready)
    steady = heat.steady
    return {
        "status": heat.status,
        "sentence": heat_up_sentence(heat, call.units),
        "surface": bands.get("surface", quantity(steady.surface, "K")),
        "chamber_air": bands.get("air", quantity(steady.air, "K")),
        "holding_power": bands.get("power", quantity(steady.power, "W")),
        "chamber_power": quantity(steady.chamber_power, "W"),
        "offset": quantity(heat.offset, "K"),
        "ready_time": band(heat.ready_time, sampled.ready[0], sampled.ready[2], "s"),
        "ready_time_sampled": {
            "low": low, "median": median, "high": high, "unit": "s", "samples": sampled.samples, "never": sampled.never,
        },
        "unknowns": [
            {"name": name, "surface_low": a, "surface_high": b, "unit": "K"} for name, a, b in sampled.one_at_a_time
        ],
        "lower_air": quantity(steady.lower_air, "K"),
        "plate_ready_time": quantity(heat.plate_ready_time, "s"),
        "chamber_ready_time": quantity(heat.chamber_ready_time, "s"),
        "frame_ready_time": quantity(heat.frame_ready_time, "s"),
        "energy_to_ready": band(heat.at(until, heat.energy), sampled.energy[0], sampled.energy[2], "J"),
        "spread": band(sampled.spread.value, sampled.spread.low, sampled.spread.high, "K"),
        "peak_power": quantity(float((heat.power + heat.chamber_power).max()), "W"),
        "bow_soaked": band(bow.end, bow.low, bow.high, "m"),
        "bow_largest": quantity(bow.largest, "m"),
        "bow_settled": quantity(bow.settled, "s"),
        "where_the_heat_went": {k: quantity(float(v), "J") for k, v in heat.ledger.items()},
        "duty_to_hold": quantity(steady.power / call.project.rig.bed.heater.power, "1"),
        "steady_off_the_bed": {k: quantity(v, "W") for k, v in balance.from_bed.items()},
        "steady_out_of_the_chamber": {k: quantity(v, "W") for k, v in balance.from_chamber.items()},
        "from_the_bed": {k: quantity(float(v), "J") for k, v in heat.from_bed.items()},
        "balance_closure": quantity(heat.closure, "1"),
        "start": STARTS[call.project.rig.start.kind],
        "while_printing": _printing(call),
        "notes": list(heat.notes),
    }  # fmt: skip


def run(call: Call) -> int:
    """Print the heat-up."""
    found = answer(call)
    if call.json:
        as_json(found)
    else:
        as_text(found, call.units)
        there = found["while_printing"]
        if there is not None:
            print(there["sentence"])
            for m in there["moments"]:
                each = ", ".join(
                    f"{k} {readable(m[k], call.units)}" for k in ("time", "height", "surface", "air", "room")
                )
                print(f"  {m['what']:24s} {each}")
            if there["room_log"]:
                print(f"  note: {there['room_log']}")
    return 0


COMMAND = Command("heatup", "how the rig warms, when it is ready, what it draws", run, output=HeatupOutput)
