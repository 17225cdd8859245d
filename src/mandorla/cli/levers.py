"""``mandorla levers``: what each lever buys for energy and time, from the present settings, and which two work together."""

from __future__ import annotations

from typing import Any

from mandorla.cli.command import Call, Command, Output, Quantity, check_arguments
from mandorla.cli.output import as_json, finite, quantity
from mandorla.core.errors import InputError
from mandorla.core.failure.messages import probability_text
from mandorla.core.project.paths import arguments_to
from mandorla.core.results.keys import GEOMETRY, LEVER_WORTH
from mandorla.core.tune.messages import signed_energy, worth_sentence


class LeverOutput(Output):
    """A lever pulled by itself: more energy and time than now; what a kWh and an hour buy in chance (null: it costs none);
    whether the chance is its own full simulation's."""

    name: str
    probability_of_any: float | None
    simulated: bool
    more_energy: Quantity
    later: Quantity
    bought_per_kwh: float | None
    bought_per_hour: float | None
    moves: str
    set: list[str]


class PairOutput(Output):
    """Two levers at once, and by how much the chance is smaller than with the better of both alone."""

    names: list[str]
    probability_of_any: float | None
    simulated: bool
    more_energy: Quantity
    later: Quantity
    better_by: float
    set: list[str]


class LeversOutput(Output):
    """What ``mandorla levers --json`` prints."""

    sentence: str
    probability_of_any: float | None
    levers: list[LeverOutput]
    pairs: list[PairOutput]


def answer(call: Call) -> dict[str, Any]:
    """Levers and pairs as one object. Raises InputError without a part."""
    if call.get(GEOMETRY) is None:
        raise InputError(f"“{call.options.project.name}” has no part to print.")
    judgement, project = call.judgement(), call.project
    found = call.get(call.results.as_judged(LEVER_WORTH.of(units=call.units, simulated=call.check)))
    return {
        "sentence": worth_sentence(found.levers, found.pairs, found.judgement, call.units, judgement),
        "probability_of_any": finite(judgement.anything),
        "levers": [
            {
                "name": w.lever.name, "probability_of_any": finite(w.lever.chance), "simulated": w.lever.simulated,
                "more_energy": quantity(w.energy, "J"),
                "later": quantity(w.later, "s"), "bought_per_kwh": finite(w.per_kwh), "bought_per_hour": finite(w.per_hour),
                "moves": w.lever.moves, "set": list(arguments_to(project, w.lever.changes or {})),
            }
            for w in found.levers
        ],
        "pairs": [
            {
                "names": [p.first.name, p.second.name], "probability_of_any": finite(p.chance), "simulated": p.simulated,
                "more_energy": quantity(p.energy, "J"), "later": quantity(p.later, "s"), "better_by": p.better,
                "set": list(arguments_to(project, p.changes or {})),
            }
            for p in found.pairs
        ],
    }  # fmt: skip


def run(call: Call) -> int:
    """Print levers, what costs least first, then pairs."""
    found = answer(call)
    if call.json:
        as_json(found)
        return 0
    print(found["sentence"])
    for row in (*found["levers"], *found["pairs"]):
        name = row.get("name") or " and ".join(row["names"])
        energy = signed_energy(row["more_energy"]["value"], call.units)
        by = ", simulated" if row["simulated"] else ""
        print(f"  {probability_text(row['probability_of_any'])} that anything fails{by}, {energy}: {name}")
    return 0


COMMAND = Command(
    "levers",
    "what each lever buys for energy and time, and which two work together",
    run,
    check_arguments,
    LeversOutput,
)
