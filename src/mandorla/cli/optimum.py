"""``mandorla optimum``: the best settings over what is set free, proved by a full simulation."""

from __future__ import annotations

import argparse
from collections.abc import Mapping
from typing import Any

from mandorla.cli.command import Call, Command, Output, Quantity, check_arguments
from mandorla.cli.output import as_json, finite, quantity
from mandorla.core.errors import InputError
from mandorla.core.failure.messages import probability_text
from mandorla.core.results.keys import EVALUATION, GEOMETRY, OPTIMUM
from mandorla.core.results.strategy_words import optimum_sentence
from mandorla.core.units import show


class SetupOutput(Output):
    """A setup: what was chosen, what it sets of settings and process as arguments, what of the machine it changes."""

    chosen: list[str]
    set: list[str]
    machine: list[str]
    probability_of_any: float | None
    energy: Quantity
    done_after: Quantity | None
    good_part: float | None


class OptimumOutput(Output):
    """What ``mandorla optimum --json`` prints."""

    sentence: str
    status: str
    best: SetupOutput | None
    proof: str
    others: list[SetupOutput]
    front: list[SetupOutput]
    combinations: int
    evaluations: int
    least_probability: float | None


def _arguments(parser: argparse.ArgumentParser) -> None:
    check_arguments(parser)
    parser.add_argument(
        "--free", default="", metavar="A,B", help="what may be chosen beside bed and chamber: soak, fan, brim, nozzle, surface, "
        "hold_down, machine, polymer",
    )  # fmt: skip
    parser.add_argument("--objective", default="energy", help="energy, duration, cost or chance (default: energy)")


def _arguments_of(changes: Mapping[str, Any]) -> tuple[list[str], list[str]]:
    """What can be set with ``--set``, and paths of the machine that are no single values."""
    plain = {path: v for path, v in changes.items() if isinstance(v, int | float | str)}
    return (
        [f"--set {path}={f'{v:.12g}' if isinstance(v, float) else v}" for path, v in plain.items()],
        [path for path in changes if path not in plain],
    )


def answer(call: Call) -> dict[str, Any]:
    """The search as one object. Raises InputError without a part, or for what cannot be set free."""
    if call.get(GEOMETRY) is None:
        raise InputError(f"“{call.options.project.name}” has no part to print.")
    free = tuple(name.strip() for name in call.options.free.split(",") if name.strip())
    found = call.get(OPTIMUM.of(free=free, objective=call.options.objective, check=call.check))
    p, e = call.project, call.get(EVALUATION)

    def setup(point: Any) -> dict[str, Any]:
        plain, machine = _arguments_of(found.changes_from(p.rig, p.settings, p.process, point))
        whole = hasattr(point, "duration")
        return {
            "chosen": list(point.names), "set": plain, "machine": machine, "probability_of_any": finite(point.chance),
            "energy": quantity(point.energy, "J"), "done_after": quantity(point.duration, "s") if whole else None,
            "good_part": finite(point.cost) if whole else None,
        }  # fmt: skip

    now = e.energy.total if e.energy is not None else float("nan")
    return {
        "sentence": optimum_sentence(found, p, now, call.units),
        "status": found.judgement.whole.value if found.judgement is not None else "fails",
        "best": setup(found.best) if found.best is not None else None, "proof": found.proof,
        "others": [setup(f) for f in found.others], "front": [setup(f) for f in found.front],
        "combinations": found.combinations, "evaluations": found.evaluations, "least_probability": finite(found.chance),
    }  # fmt: skip


def run(call: Call) -> int:
    """Print the optimum, then the front."""
    found = answer(call)
    if call.json:
        as_json(found)
    else:
        print(found["sentence"])
        if found["front"]:
            print("less energy against less risk, by the quick models' maps:")
        for point in found["front"]:
            energy = show(point["energy"]["value"], "energy", call.units)
            print(
                f"  {energy}, {probability_text(point['probability_of_any'])} that anything fails: "
                f"{' '.join((*point['chosen'], *point['set'])) or 'as it is'}"
            )
    return 0 if found["best"] is not None else 1


COMMAND = Command(
    "optimum", "the best settings over what is set free, proved by a full simulation", run, _arguments, OptimumOutput
)
