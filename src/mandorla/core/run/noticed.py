"""What a watch notices in time: the least size of every disturbance that machines like the project's show it, from phase to phase.

Some machines drawn about the project print as it plans and are broken at one moment of every phase, by ever smaller sizes. What
counts as noticed is what all of them show within the time that is asked for. The machines are simulated, by the thermal model that
the watch itself has.
"""

from __future__ import annotations

import copy
import math
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.run.disturbances import Disturbance, of_rig
from mandorla.core.run.plant import Watched
from mandorla.core.run.simulated_machine import Break, SimulatedMachine
from mandorla.core.run.watch import Watch
from mandorla.core.runtime import RunContext

PHASES: Final = {
    "heat": "warms up", "soak": "soaks", "nozzle": "heats its nozzle", "first": "lays first layers", "rest": "prints on",
}  # fmt: skip
_ORDER: Final = (*PHASES, "cool", "off")
_SEEDS: Final = (50_021, 50_022, 50_023)
_SIZES: Final = 6  # from the least to the greatest that is drawn, in equal ratios
_PIECE: Final = 10.0  # s between looks
_LATER: Final = 900.0  # s after the first layers, at which the rest is looked at
_STAGE: Final = "what a watch notices in time"
_LONGEST: Final = 6 * 3600.0  # s of warm-up after which a machine is given up


class Noticed(NamedTuple):
    """From which magnitude on (SI, see Disturbance.magnitude) a disturbance by its key is noticed in a phase: infinite where the
    greatest that is drawn is not; ``least`` where it is the least that was tried."""

    key: str
    phase: str
    size: float
    least: bool


def noticed(watched: Watched, run: RunContext | None = None) -> tuple[Noticed, ...]:
    """For every disturbance of the rig that the machine does not tell itself, and every phase that it goes through.

    Raises :class:`Cancelled` when asked to stop.
    """
    run = run or RunContext()
    quiet, kinds = run.silent(), [d for d in of_rig(watched.rig) if not d.told]
    found: dict[tuple[str, str], list[float]] = {}
    for n, seed in enumerate(_SEEDS):
        machine, watch = SimulatedMachine(watched, seed), Watch(watched)
        for phase in PHASES:
            if not _reach(phase, machine, watch, quiet):
                continue
            for k, d in enumerate(kinds):
                done = (n + (list(PHASES).index(phase) + k / len(kinds)) / len(PHASES)) / len(_SEEDS)
                run.checkpoint(done, f"a machine that {PHASES[phase]}")
                found.setdefault((d.key, phase), []).append(_least(d, n, machine, watch, quiet))
    sizes = {d.key: _tried(d) for d in kinds}
    return tuple(
        Noticed(key, phase, max(each), bool(max(each) == sizes[key][0])) for (key, phase), each in found.items()
    )


def _reach(phase: str, machine: SimulatedMachine, watch: Watch, run: RunContext) -> bool:
    """Bring a machine to the moment of a phase at which it is broken; whether there is one."""
    w = watch.watched
    if phase != "heat" and w.duration <= 0.0:  # it warms up and holds
        return False
    heat = w.heat
    half_way = int(np.argmax(heat.reading >= 0.5 * (heat.reading[0] + heat.set_point)))
    after = {
        "heat": float(heat.time[half_way]), "soak": 0.5 * w.settings.soak_time, "nozzle": 2.0 * _PIECE, "first": 0.5 * w.first,
        "rest": min(_LATER, 0.5 * max(w.duration - w.first, 0.0)),
    }[phase]  # fmt: skip
    while machine.phase != phase or machine.now - machine.phases[-1][0] < after - 1e-6:
        run.checkpoint(0.0, _STAGE)
        if machine.now > _LONGEST + w.duration or _ORDER.index(machine.phase) > _ORDER.index(phase):
            return False
        watch.take(machine.advance(_PIECE), machine.now, lambda: run.checkpoint(0.0, _STAGE))
    return True


def _tried(d: Disturbance) -> np.ndarray:
    low, high = sorted(d.magnitude(v) for v in d.drawn)
    return np.geomspace(low, high, _SIZES) if high > low * (1.0 + 1e-9) else np.array([high])


def _least(d: Disturbance, n: int, machine: SimulatedMachine, watch: Watch, run: RunContext) -> float:
    """The least magnitude that one machine shows in time; what is noticed is taken to be noticed when it is larger as well."""
    sizes = _tried(d)
    sign = -1.0 if n % 2 and min(d.drawn) > 0.0 and d.key.startswith("sensor-") else 1.0

    def shown(k: int) -> bool:
        return _shown(d, d.sized(float(sizes[k]), sign), machine, watch, run)

    if shown(0):
        return float(sizes[0])
    low, high = 0, sizes.size - 1
    if high == low or not shown(high):
        return math.inf
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if shown(middle) else (middle, high)
    return float(sizes[high])


def _shown(d: Disturbance, size: float, machine: SimulatedMachine, watch: Watch, run: RunContext) -> bool:
    """Whether a watch raises any alarm in time when a machine is broken now; both stay as they are."""
    kept = {id(v): v for v in (machine.watched, machine.watched.rig, machine.watched.heat)}
    run.checkpoint(0.0, _STAGE)
    machine, watch = copy.deepcopy((machine, watch), kept)
    run.checkpoint(0.0, _STAGE)
    begins = machine.now
    machine.add(Break(d.key, begins, size))
    while machine.now < begins + d.within - 1e-6:
        points = machine.advance(_PIECE)
        run.checkpoint(0.0, _STAGE)
        if any(a.time > begins for a in watch.take(points, machine.now, lambda: run.checkpoint(0.0, _STAGE))):
            return True
    return False
