"""``mandorla cooldown``: plate, part and chamber after the last layer, when it may be touched and comes off."""

from __future__ import annotations

import math
from typing import Any

from mandorla.cli.command import Call, Command, Output, Quantity
from mandorla.cli.output import as_json, quantity
from mandorla.core.errors import InputError
from mandorla.core.results.keys import COOL_DOWN, GEOMETRY, PLATE_USE
from mandorla.core.run.messages import cool_sentence
from mandorla.core.run.touch import GRASPED, burns_at, touched


class CoolDownOutput(Output):
    """What ``mandorla cooldown --json`` prints; a time that is not reached within twelve hours is null."""

    sentence: str
    touch_below: Quantity
    may_be_held_after: Quantity | None
    comes_off_below: Quantity | None
    comes_off_after: Quantity | None
    fastest: Quantity
    time: list[float]
    surface: list[float]
    part: list[float]
    air: list[float]


def run(call: Call) -> int:
    """Print the cool-down. Raises InputError without a part."""
    if call.get(GEOMETRY) is None:
        raise InputError(f"“{call.options.project.name}” has no part to cool down.")
    cool, plate = call.get(COOL_DOWN), call.get(PLATE_USE.of(units=call.units))
    material = touched(call.project.rig.bed)
    touch = burns_at(material, GRASPED)
    sentence = cool_sentence(cool, plate.lets_go, plate.shears, material, call.units)
    if not call.json:
        print(sentence)
        return 0

    def after(temperature: float) -> dict[str, Any] | None:
        seconds = cool.below(cool.surface, temperature) if math.isfinite(temperature) else math.nan
        return quantity(seconds, "s") if math.isfinite(seconds) else None

    as_json({
        "sentence": sentence, "touch_below": quantity(touch, "K"), "may_be_held_after": after(touch),
        "comes_off_below": quantity(plate.lets_go, "K") if math.isfinite(plate.lets_go) else None,
        "comes_off_after": after(plate.lets_go), "fastest": quantity(cool.fastest, "K/s"),
        "time": [float(v) for v in cool.time[::3]], "surface": [float(v) for v in cool.surface[::3]],
        "part": [float(v) for v in cool.part[::3]], "air": [float(v) for v in cool.air[::3]],
    })  # fmt: skip
    return 0


COMMAND = Command(
    "cooldown",
    "after the last layer: when it may be touched, when the part comes off",
    run,
    lambda _: None,
    CoolDownOutput,
)
