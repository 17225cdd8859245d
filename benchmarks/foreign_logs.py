"""Machines begun from a heat-up log that is not of our own model: is what the log is said to say true, and does it forecast?

Usage: foreign_logs.py [--machines N] [--seed S]. A bed by other laws and other numbers (tests/foreign_machine.py) is heated and
logged as people log; a machine is begun from that log with its heater stated, and once with its plate stated instead. Asked: the
true figure lies in its 90 % band; and how long the bed takes to another set point (15 K off, within 1 K of it) is forecast better
than by what is usual for the kind. Written with the logs of no real machine: none is to be had here.
"""

from __future__ import annotations

import argparse
import math
import sys
from dataclasses import replace
from pathlib import Path

import numpy as np
from scipy.stats import binomtest

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from tests.foreign_machine import ForeignMachine, drawn, heated, log_of

from mandorla.core.errors import InputError
from mandorla.core.measure.log_guess import propose
from mandorla.core.measure.machine_from_log import machine_from_log
from mandorla.core.rig.archetypes import Facts, machine_of
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.thermal.heatup import heat_up

FURTHER = 15.0  # K
DAY = "2026-11-29"


def facts_of(m: ForeignMachine, **stated: float) -> Facts:
    """What a person knows of the machine at once."""
    facts: dict[str, object] = {"kind": m.kind, "width": m.side, "depth": m.side, "room": m.room, **stated}
    if m.top == "glass":
        facts["surface"] = "bare_glass"
    return Facts.model_validate(facts)


def true_time(m: ForeignMachine, bed: float) -> float:
    """Seconds until its sensor is first within a kelvin of a set point."""
    ran = heated(replace(m, bed=bed))
    return float(ran.time[int(np.argmax(ran.shown > bed - 1.0))])


def forecast(rig: Rig, m: ForeignMachine, bed: float) -> float:
    """The same, by a machine of ours in its room."""
    put = Settings(bed_first=bed, bed_rest=bed, chamber=m.room, soak_time=0.0)
    heat = heat_up(rig.model_copy(update={"room_temperature": m.room}), put, Criteria(), with_bands=False)
    warm = heat.reading > bed - 1.0
    return float(heat.time[int(np.argmax(warm))]) if warm.any() else math.nan


def main() -> int:
    """Print a row for every log, then the sums."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--machines", type=int, default=24)
    parser.add_argument("--seed", type=int, default=0, help="of the first machine")
    options = parser.parse_args()
    inside: dict[str, list[bool]] = {"heater": [], "plate": []}
    off: dict[str, list[float]] = {"log": [], "usual": []}
    for seed in range(options.seed, options.seed + options.machines):
        m = drawn(seed)
        data = log_of(m, seed)
        further = m.bed + (FURTHER if seed % 2 else -FURTHER)
        true = true_time(m, further)
        for given, asked in (("heater", "plate"), ("plate", "heater")):
            facts = facts_of(m, **{given: getattr(m, given)})
            try:
                begun = machine_from_log(facts, frozenset({given}), "heat.csv", data, propose(data, "heat.csv"), DAY)
            except InputError as error:
                print(f"{seed:3d} {m.kind:6s} {given} stated: refused: {error}")
                inside[asked].append(False)
                continue
            says = next(s for s in begun.says if s.key == asked)
            truth = getattr(m, asked)
            inside[asked].append(says.low <= truth <= says.high)
            times = {"log": forecast(begun.rig, m, further), "usual": forecast(machine_of(facts), m, further)}
            for key, time in times.items():
                off[key].append(math.log(time / true) if math.isfinite(time) else math.inf)
            unit = 1e3 if asked == "plate" else 1.0
            print(
                f"{seed:3d} {m.kind:6s} {given} stated: {asked} {unit * truth:6.4g} is told as {unit * says.value:6.4g} "
                f"({unit * says.low:.4g} to {unit * says.high:.4g}){'' if inside[asked][-1] else ', missed'}; to "
                f"{further - 273.15:.0f} °C {true:.0f} s, forecast {times['log']:.0f} s, usual for its kind {times['usual']:.0f} s",
                flush=True,
            )
    for key, found in inside.items():
        interval = binomtest(sum(found), len(found)).proportion_ci(method="wilson")
        print(f"{key}: true figure in its 90 % band in {sum(found)} of {len(found)} "
              f"({100 * interval.low:.0f} to {100 * interval.high:.0f} %)")  # fmt: skip
    for key, name in (("log", "begun from the log"), ("usual", "as is usual for the kind")):
        errors = np.abs(np.array(off[key]))
        print(f"time to another set point, {name}: median {100 * np.median(errors):.0f} % off, "
              f"90 % of them within {100 * np.quantile(errors, 0.9):.0f} %")  # fmt: skip
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
