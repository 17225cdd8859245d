"""``mandorla strategies``: what different schools would do with this part on this machine, and the part on one's own machines."""

from __future__ import annotations

import math
from typing import Any

from mandorla.cli.command import Band, Call, Command, Output, Quantity, check_arguments
from mandorla.cli.energy import energy_band
from mandorla.cli.output import as_json, finite, quantity
from mandorla.core.failure.messages import lift_in, probability_text
from mandorla.core.results.keys import MACHINES, STRATEGIES
from mandorla.core.results.strategy_words import changes_text, machine_text, strategies_sentence
from mandorla.core.units import show


class StrategyOutput(Output):
    """A strategy at its best; null where it cannot be tried, which ``problem`` says."""

    key: str
    title: str
    reason: str
    problem: str
    status: str
    probability_of_any: float | None
    fails_first: str
    energy: Band | Quantity | None
    lift: Quantity | None
    set: list[str]
    proof: str
    tried: int


class MachineOutput(Output):
    """The part on a machine at the project's settings."""

    name: str
    status: str
    probability_of_any: float | None
    simulated: bool
    energy: Band | Quantity
    done_after: Quantity
    set: list[str]
    problem: str


class StrategiesOutput(Output):
    """What ``mandorla strategies --json`` prints."""

    sentence: str
    strategies: list[StrategyOutput]
    machines: list[MachineOutput]


def _text(value: object) -> str:
    return f"{value:.12g}" if isinstance(value, float) else str(value)


def answer(call: Call) -> dict[str, Any]:
    """Strategies and machines as one object. Raises InputError without a part."""
    found, project = call.get(STRATEGIES.of(check=call.check)), call.project
    rows = []
    for f in found:
        b = f.best
        lift = lift_in(b.judgement, project.criteria.lift_limit) if b is not None else math.nan
        rows.append({
            "key": f.strategy.key, "title": f.strategy.title, "reason": f.strategy.reason, "problem": f.problem,
            "status": b.judgement.whole.value if b is not None else "not computed",
            "probability_of_any": finite(b.judgement.anything) if b is not None else None,
            "fails_first": b.judgement.first if b is not None else "",
            "energy": energy_band(b.energy) if b is not None else None,
            "lift": quantity(lift, "m") if b is not None else None,
            "set": [f"--set {path}={_text(v)}" for path, v in b.changes.items()] if b is not None else [],
            "proof": b.proof if b is not None else "", "tried": len(f.tried),
        })  # fmt: skip
    machines = [
        {
            "name": m.name, "status": m.judgement.whole.value, "probability_of_any": finite(m.judgement.anything),
            "simulated": m.simulated, "energy": energy_band(m.energy), "done_after": quantity(m.duration, "s"),
            "set": list(m.change.settings.arguments(project.settings)) if m.change is not None else [], "problem": m.problem,
        }
        for m in (call.get(MACHINES.of(check=call.check)) if project.builds else ())
    ]  # fmt: skip
    return {
        "sentence": strategies_sentence(found, project.criteria.risk, call.units),
        "strategies": rows,
        "machines": machines,
    }


def run(call: Call) -> int:
    """Print every strategy with what it changes, then the machines."""
    if call.json:
        as_json(answer(call))
        return 0
    found, project, units = call.get(STRATEGIES.of(check=call.check)), call.project, call.units
    print(strategies_sentence(found, project.criteria.risk, units))
    for f in found:
        b = f.best
        if b is None:
            print(f"  {f.strategy.title}: {f.problem}")
            continue
        chance, energy = probability_text(b.judgement.anything), show(b.energy.total, "energy", units)
        print(
            f"  {f.strategy.title}: {chance} that anything fails, {energy}, {b.proof}; {changes_text(b.changes, project, units)}"
        )
    for m in call.get(MACHINES.of(check=call.check)) if project.builds else ():
        print(
            f"  on {m.name}: {probability_text(m.judgement.anything)} that anything fails{', simulated' if m.simulated else ''}; "
            f"{machine_text(m, project.settings, units)}"
        )
    return 0


COMMAND = Command(
    "strategies", "what different schools would do, each at its best; the part on one's own machines", run, check_arguments,
    StrategiesOutput,
)  # fmt: skip
