"""The best settings over what may be chosen: bed and chamber everywhere, soak, fan, brim, nozzle, surface, hold-down, machine and
polymer where they are set free.

Every combination of what is chosen gets a coarse map of its own, on which the best points are looked for; what is offered was
evaluated as a whole. What maps know of energy and chance together is the front between both.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import product
from types import MappingProxyType
from typing import Any, Final, NamedTuple

import numpy as np
from scipy.special import ndtr, ndtri

from mandorla.core.errors import InputError
from mandorla.core.failure.state import State
from mandorla.core.materials.library_data import polymers
from mandorla.core.materials.plate_library import plate_surfaces
from mandorla.core.part.process import Process
from mandorla.core.rig.model import Rig
from mandorla.core.runtime import RunContext
from mandorla.core.tune.axes import Setup, axes_of
from mandorla.core.tune.levers import hold_downs
from mandorla.core.tune.operating_point import Evaluation
from mandorla.core.tune.window import Ground, compute_window, node_of
from mandorla.core.tune.window_map import RESERVE, Window

OBJECTIVES: Final = {
    "energy": "Least energy", "duration": "Done soonest", "cost": "Least cost of a good part", "chance": "Likeliest to hold",
}  # fmt: skip
FREE: Final = {
    "machine": "Machine", "hold_down": "Hold-down", "polymer": "Polymer", "surface": "Plate surface", "nozzle": "Nozzle",
    "brim": "Brim", "soak": "Soak", "fan": "Part fan",
}  # fmt: skip
MOST: Final = 60  # combinations that are tried at once
_SHARES: Final = (0.0, 0.02, 0.06, 0.15, 0.35)  # places in the order of a combination that are evaluated as a whole
_RESERVES: Final = (0.0, 0.3, 0.7, 1.2)  # standard deviations inside the almond that are tried one after another
_STEPS: Final = ((-1, 0), (0, -1), (1, 0), (0, 1), (-1, 1), (1, -1))  # of both axes, by which an optimum is refined
_REFINED: Final = 12  # evaluations that refining may take
_NEAREST: Final = 3  # combinations that are judged as a whole where nothing holds on the coarse maps
_ON_FRONT: Final = 24


class Option(NamedTuple):
    """One way to choose: its name (empty: as it is), and what it changes: settings and process by name, the machine (None: as it
    is), only its bed where ``only_bed`` is told."""

    name: str
    settings: Mapping[str, float] = MappingProxyType({})
    process: Mapping[str, Any] = MappingProxyType({})
    rig: Rig | None = None
    only_bed: bool = False

    def put(self, setup: Setup) -> Setup:
        """The setup with it."""
        rig = setup.rig if self.rig is None else self.rig
        if self.rig is not None and self.only_bed:
            rig = setup.rig.model_copy(update={"bed": self.rig.bed})
        process = _changed(setup.process, self.process) or setup.process
        return setup._replace(rig=rig, settings=setup.settings.model_copy(update=dict(self.settings)), process=process)


@dataclass(frozen=True, slots=True)
class Found:
    """A setup that was evaluated as a whole: what was chosen (``names``), value of the objective, chance that anything fails,
    energy at the plug (J), time until done (s), cost of a good part."""

    setup: Setup
    names: tuple[str, ...]
    value: float
    chance: float
    energy: float
    duration: float
    cost: float


class OnFront(NamedTuple):
    """A point of the front between energy (J) and chance, by the coarse maps."""

    energy: float
    chance: float
    setup: Setup
    names: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Search:
    """What a search found: the best of every combination that holds (``found``, the best first), the ``front`` from little energy
    to little chance, how many combinations and whole evaluations it took, the best ``chance`` seen."""

    found: tuple[Found, ...]
    front: tuple[OnFront, ...]
    combinations: int
    evaluations: int
    chance: float


def options_of(free: Sequence[str], setup: Setup, rigs: Mapping[str, Rig], *, from_file: bool) -> list[list[Option]]:
    """The ways to choose of everything that is free, as it is first.

    Raises
    ------
    InputError
        For a name that is unknown, or too many combinations.
    """
    unknown = [name for name in free if name not in FREE]
    if unknown:
        raise InputError(f"“{unknown[0]}” cannot be set free: {', '.join(FREE)}.")
    as_it_is = Option("")
    found = []
    for name in FREE:
        if name in free and not (from_file and name in ("brim", "nozzle")):
            found.append([as_it_is, *_OTHERS[name](setup, rigs)])
    count = math.prod(len(each) for each in found)
    if count > MOST:
        raise InputError(f"That makes {count} combinations; at most {MOST} are tried at once. Hold something.")
    return found


def _changed(process: Process, change: Mapping[str, Any]) -> Process | None:
    """A process with some fields changed; None where it refuses them."""
    if not change:
        return process
    try:
        return Process.model_validate(process.model_dump() | dict(change))
    except ValueError:
        return None


def _soaks(setup: Setup, _: Mapping[str, Rig]) -> Iterator[Option]:
    for minutes in (0, 20, 45):
        if abs(60.0 * minutes - setup.settings.soak_time) > 300.0:
            yield Option(f"soak {minutes} min", {"soak_time": 60.0 * minutes})


def _fans(setup: Setup, _: Mapping[str, Rig]) -> Iterator[Option]:
    for share in (0.0, 0.3, 0.6):
        if abs(share - setup.settings.fan) > 0.1 or (share == 0.0 < setup.settings.fan):
            yield Option(f"part fan {100 * share:.0f} %", {"fan": share})


def _process_options(setup: Setup, tries: Sequence[tuple[str, dict[str, Any]]]) -> Iterator[Option]:
    for name, change in tries:
        if _changed(setup.process, change) is not None:
            yield Option(name, process=change)


def _brims(setup: Setup, _: Mapping[str, Rig]) -> Iterator[Option]:
    wide = [w for w in (0.0, 0.004, 0.008) if abs(w - setup.process.brim) > 5e-4]
    yield from _process_options(setup, [(f"brim {1e3 * w:.0f} mm" if w else "no brim", {"brim": w}) for w in wide])


def _nozzles(setup: Setup, _: Mapping[str, Rig]) -> Iterator[Option]:
    p = setup.process
    tries = []
    for times in (2.0 / 3.0, 1.5):
        tries.append((f"nozzle {1e3 * times * p.nozzle:.1f} mm", {
            "nozzle": times * p.nozzle, "line_width": times * p.line_width, "layer_height": times * p.layer_height,
        }))  # fmt: skip
    yield from _process_options(setup, tries)


def _surfaces(setup: Setup, _: Mapping[str, Rig]) -> Iterator[Option]:
    p = setup.process
    tries = [
        (s.name, {"surface": s.key, "plate": "", "coating": "", "plate_state": "clean"})
        for s in plate_surfaces().values() if p.polymer in s.grip and s.key != p.surface_key
    ]  # fmt: skip
    yield from _process_options(setup, tries)


def _hold_downs(setup: Setup, _: Mapping[str, Rig]) -> Iterator[Option]:
    for name, rig in hold_downs(setup.rig):
        yield Option(name[0].lower() + name[1:], rig=rig, only_bed=True)


def _machines(_: Setup, rigs: Mapping[str, Rig]) -> Iterator[Option]:
    for name, rig in rigs.items():
        yield Option(name, rig=rig)


def _polymers(setup: Setup, _: Mapping[str, Rig]) -> Iterator[Option]:
    grips = setup.process.plate_surface().grip
    tries = [
        (other.name, {"polymer": key, "own": None, "nozzle_temperature": None, "nozzle_first": None})
        for key, other in polymers().items() if key in grips and key != setup.process.polymer
    ]  # fmt: skip
    yield from _process_options(setup, tries)


_OTHERS: Final[dict[str, Callable[[Setup, Mapping[str, Rig]], Iterator[Option]]]] = {
    "soak": _soaks, "fan": _fans, "brim": _brims, "nozzle": _nozzles, "surface": _surfaces, "hold_down": _hold_downs,
    "machine": _machines, "polymer": _polymers,
}  # fmt: skip


@dataclass(slots=True)
class _Counted:
    """Whole evaluations so far, by setup, so that none is made twice."""

    known: dict[str, tuple[Evaluation, Found]]
    run: RunContext
    count: int = 0


def search(
    ground: Ground, grounds: Callable[[Setup], Ground], options: Sequence[Sequence[Option]], objective: str,
    run: RunContext | None = None, reserve: float = 0.0,
) -> Search:  # fmt: skip
    """The best setup that holds within the accepted chance, over all combinations.

    Parameters
    ----------
    ground, grounds
        The present one; how another setup's is made.
    options
        Ways to choose, one list a thing that is free.
    objective
        One of ``OBJECTIVES``.
    reserve
        Standard deviations that are kept to every limit.

    Raises
    ------
    InputError
        For an unknown objective.
    Cancelled
        When asked to stop.
    """
    if objective not in OBJECTIVES:
        raise InputError(f"“{objective}” is no objective: {', '.join(OBJECTIVES)}.")
    run = run or RunContext()
    found: list[Found] = []
    cloud: list[OnFront] = []
    nearest: list[tuple[float, int, Ground, Window, tuple[str, ...]]] = []
    every, counted, least = list(product(*options)) or [()], 0, math.inf
    for k, chosen in enumerate(every):
        if any(o.only_bed for o in chosen) and any(o.rig is not None and not o.only_bed for o in chosen):
            continue  # how the present machine holds its plate is no choice of another one
        names = tuple(o.name for o in chosen if o.name)
        run.checkpoint(0.98 * k / len(every), ", ".join(names) or "as it is")
        setup = ground.setup
        for option in chosen:
            setup = option.put(setup)
        on = ground if setup == ground.setup else grounds(setup)
        e = on.evaluation
        if e.part is None or e.fit_problem:
            continue
        axes = axes_of(("", ""), setup, from_file=False)
        window = compute_window(on, axes, run.silent(), at_once=True)
        cloud += _cloud(window, on, names)
        best = min((f.value for f in found), default=math.inf)
        counter = _Counted({}, run.silent())
        own = _best(on, window, objective, names, best, reserve, counter)
        counted += counter.count
        least = min(least, e.judgement.anything)
        nearest.append((float(np.where(window.reachable, window.unlikely, np.inf).min()), k, on, window, names))
        if own is not None:
            found.append(own)
    if not found:  # coarse maps are rough: where nothing holds on them, what is likeliest to is judged as a whole
        for _, _, on, window, names in sorted(nearest, key=lambda n: n[:2])[:_NEAREST]:
            counter = _Counted({}, run.silent())
            likeliest = _likeliest(on, window, objective, names, counter)
            counted, least = counted + counter.count, min(least, likeliest.chance)
            cloud.append(OnFront(likeliest.energy, likeliest.chance, likeliest.setup, names))
            e = counter.known[_key(likeliest.setup)][0]
            if _holds(e, ground.criteria.risk) and likeliest.chance <= _kept(ground.criteria.risk, reserve):
                found.append(likeliest)
    found.sort(key=lambda f: f.value)
    run.checkpoint(1.0, "done")
    return Search(tuple(found), _front(cloud), len(every), counted, least)


def _field(window: Window, objective: str) -> np.ndarray[Any, np.dtype[np.float64]]:
    return {"energy": window.energy, "duration": window.duration, "cost": window.cost, "chance": -window.level}[
        objective
    ]


def _at(on: Ground, window: Window, x: float, y: float) -> Setup:
    """The setup at a place of a map, in steps that can be set."""
    setup = on.setup
    if window.heated and window.passive is not None:  # a set point below what the bed alone makes sets nothing
        alone = float(np.interp(x, window.x, window.passive))
        y = y if y > alone else min(window.present.y, alone)
    for axis, value in zip(window.axes, (x, y), strict=True):
        if not axis.given:
            setup = axis.put(setup, round((value - 273.15) / axis.step) * axis.step + 273.15)
    return setup


def _key(setup: Setup) -> str:
    return str((setup.settings, setup.process))


def _evaluated(
    on: Ground, setup: Setup, objective: str, names: tuple[str, ...], counter: _Counted
) -> tuple[Evaluation, Found]:
    counter.run.checkpoint(0.0, "optimum")
    key = _key(setup)
    if key not in counter.known:
        counter.count += 1
        e = on.evaluated(setup)
        figures, chance = node_of(e, on.criteria).figures, e.judgement.anything
        cost = figures["cost"] / max(1.0 - chance, 1e-3)
        value = {"energy": figures["energy"], "duration": figures["duration"], "cost": cost, "chance": chance}[
            objective
        ]
        counter.known[key] = e, Found(setup, names, value, chance, figures["energy"], figures["duration"], cost)
    return counter.known[key]


def _holds(e: Evaluation, risk: float) -> bool:
    return e.judgement.anything <= risk and e.judgement.whole is not State.FAILS


def _best(
    on: Ground,
    window: Window,
    objective: str,
    names: tuple[str, ...],
    to_beat: float,
    reserve: float,
    counter: _Counted,
) -> Found | None:
    """The best point of a map that holds when it is evaluated as a whole, refined by steps of its axes."""
    risk, field = on.criteria.risk, _field(window, objective)
    best: Found | None = None
    for more in _RESERVES:
        deep = np.minimum(window.part_level, window.all_level) >= reserve + more
        inside = deep & (window.machine_level >= RESERVE * more) & window.reachable
        places = np.argwhere(inside)
        order = places[np.argsort(field[inside])]
        for i, j in (
            order[n] for n in sorted({int(share * (len(order) - 1)) for share in _SHARES} if len(order) else ())
        ):
            if objective != "chance" and field[i, j] >= 1.02 * to_beat:
                return best
            e, found = _evaluated(
                on, _at(on, window, float(window.x[j]), float(window.y[i])), objective, names, counter
            )
            if _holds(e, risk) and e.judgement.anything <= _kept(risk, reserve):
                best = found
                break
        if best is not None:
            break
    if best is None:
        return None
    improved = True
    while improved and counter.count < _REFINED + len(_SHARES):
        improved = False
        for dx, dy in _STEPS:
            setup = _stepped(window, best.setup, (dx, dy))
            if setup == best.setup:
                continue
            e, found = _evaluated(on, setup, objective, names, counter)
            if (
                found.value < best.value - 1e-9 * abs(best.value)
                and _holds(e, risk)
                and e.judgement.anything <= _kept(risk, reserve)
            ):
                best, improved = found, True
                break
    return best


def _likeliest(on: Ground, window: Window, objective: str, names: tuple[str, ...], counter: _Counted) -> Found:
    """The place of a map that is likeliest to hold, judged as a whole and refined by steps of its axes."""
    i, j = np.unravel_index(np.argmin(np.where(window.reachable, window.unlikely, np.inf)), window.chance.shape)
    _, best = _evaluated(on, _at(on, window, float(window.x[j]), float(window.y[i])), objective, names, counter)
    for wide in (6.0, 1.0):
        improved = True
        while improved and counter.count < _REFINED:
            improved = False
            for dx, dy in _STEPS:
                setup = _stepped(window, best.setup, (wide * dx, wide * dy))
                _, found = _evaluated(on, setup, objective, names, counter)
                if found.chance < best.chance - 1e-3:
                    best, improved = found, True
                    break
    return best


def _stepped(window: Window, setup: Setup, steps: tuple[float, float]) -> Setup:
    """A setup so many steps of a map's axes away."""
    for axis, step in zip(window.axes, steps, strict=True):
        if step and not axis.given:
            setup = axis.put(setup, axis.value(setup) + step * axis.step)
    return setup


def _kept(risk: float, reserve: float) -> float:
    """The chance that is accepted with a reserve in standard deviations."""
    return float(ndtr(ndtri(risk) - reserve))


def _cloud(window: Window, on: Ground, names: tuple[str, ...]) -> list[OnFront]:
    """Points of a map that are on its own front between energy and chance; limits of the machine are met."""
    allowed = window.machine_ok & window.reachable
    places = np.argwhere(allowed)
    order = places[np.argsort(window.energy[allowed], kind="stable")]
    found, least = [], math.inf
    for i, j in order:
        chance = float(window.chance[i, j])
        if chance < least - 0.004:
            least = chance
            found.append(OnFront(
                float(window.energy[i, j]), chance, _at(on, window, float(window.x[j]), float(window.y[i])), names
            ))  # fmt: skip
    return found


def _front(cloud: Sequence[OnFront]) -> tuple[OnFront, ...]:
    """What nothing else beats in both, thinned."""
    kept: list[OnFront] = []
    for point in sorted(cloud, key=lambda p: (p.energy, p.chance)):
        if not kept or point.chance < kept[-1].chance - 0.002:
            kept.append(point)
    if len(kept) <= _ON_FRONT:
        return tuple(kept)
    return tuple(kept[k] for k in np.unique(np.linspace(0, len(kept) - 1, _ON_FRONT).round().astype(int)))


def changes_of(before: Setup, after: Setup) -> dict[str, Any]:
    """What is to be set to go from one setup to another, by path."""
    found: dict[str, Any] = {}
    for part in ("rig", "settings", "process"):
        old, new = getattr(before, part), getattr(after, part)
        for name in type(old).model_fields:
            if getattr(old, name) != getattr(new, name):
                value = getattr(new, name)
                found[f"{part}.{name}"] = value.model_dump() if hasattr(value, "model_dump") else value
    return found
