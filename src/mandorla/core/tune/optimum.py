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
_REFINED: Final = 12  # evaluations that looking for the likeliest may take
# combinations that may be the best are refined in rounds: by so many evaluations each, so many of them
_ROUNDS: Final = ((3, 5), (10, 2))
_MAY_BE_BEST: Final = 1.04  # of the best value so far, up to which one may
_WORTH_A_LOOK: Final = 1.02  # of the best value so far, up to which a map's promise is looked at
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
    """What a search found: of every combination that holds one that does (``found``, the best first, which are refined), the
    ``front`` from little energy to little chance, how many whole evaluations it took, the best ``chance`` seen."""

    found: tuple[Found, ...]
    front: tuple[OnFront, ...]
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


class Mapped(NamedTuple):
    """One combination: how many there were before it, its ground, its coarse map and what it is called."""

    number: int
    on: Ground
    window: Window
    names: tuple[str, ...]


def mapped(
    ground: Ground, grounds: Callable[[Setup], Ground], options: Sequence[Sequence[Option]], run: RunContext | None = None
) -> tuple[Mapped, ...]:  # fmt: skip
    """The coarse map of every combination in which there is a part that fits on the bed.

    Parameters
    ----------
    ground, grounds
        The present one; how another setup's is made.
    options
        Ways to choose, one list a thing that is free.

    Raises
    ------
    Cancelled
        When asked to stop.
    """
    run = run or RunContext()
    found = []
    every = list(product(*options)) or [()]
    for k, chosen in enumerate(every):
        if any(o.only_bed for o in chosen) and any(o.rig is not None and not o.only_bed for o in chosen):
            continue  # how the present machine holds its plate is no choice of another one
        names = tuple(o.name for o in chosen if o.name)
        run.checkpoint(0.5 * k / len(every), ", ".join(names) or "as it is")
        setup = ground.setup
        for option in chosen:
            setup = option.put(setup)
        on = ground if setup == ground.setup else grounds(setup)
        if on.evaluation.part is None or on.evaluation.fit_problem:
            continue
        axes = axes_of(("", ""), setup, from_file=False)
        found.append(Mapped(k, on, compute_window(on, axes, run.silent(), at_once=True), names))
    return tuple(found)


def search(
    combinations: Sequence[Mapped], objective: str, run: RunContext | None = None, reserve: float = 0.0
) -> Search:
    """The best setup that holds within the accepted chance, over all combinations.

    The most promising maps come first; what holds on the best of them is refined by steps of their axes.

    Parameters
    ----------
    combinations
        As they were mapped.
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
    first: list[tuple[Found, Mapped, _Counted]] = []
    counters = {m.number: _Counted({}, run.silent()) for m in combinations}
    for n, m in enumerate(sorted(combinations, key=lambda m: (_promise(m, objective, reserve), m.number))):
        run.checkpoint(0.5 + 0.3 * n / len(combinations), ", ".join(m.names) or "as it is")
        best = min((f.value for f, _, _ in first), default=math.inf)
        own = _first(m, objective, best, reserve, counters[m.number])
        if own is not None:
            first.append((own, m, counters[m.number]))
    first.sort(key=lambda f: (f[0].value, f[1].number))
    for most, count in _ROUNDS:  # those that may be the best get a few steps, the best of these more
        near = sum(f.value <= _MAY_BE_BEST * first[0][0].value for f, _, _ in first) if first else 0
        for n, (own, m, counter) in enumerate(first[: min(count, near)]):
            run.checkpoint(0.8 + 0.18 * n / count, ", ".join(m.names) or "as it is")
            first[n] = _refined(m, own, objective, reserve, counter, most), m, counter
        first.sort(key=lambda f: (f[0].value, f[1].number))
    found = [own for own, _, _ in first]
    least = min((m.on.evaluation.judgement.anything for m in combinations), default=math.inf)
    cloud = [point for m in combinations for point in _cloud(m.window, m.on, m.names)]
    if not found:  # coarse maps are rough: where nothing holds on them, what is likeliest to is judged as a whole
        for m in sorted(combinations, key=_unlikeliness)[:_NEAREST]:
            counter = counters[m.number]
            likeliest = _likeliest(m.on, m.window, objective, m.names, counter)
            least = min(least, likeliest.chance)
            cloud.append(OnFront(likeliest.energy, likeliest.chance, likeliest.setup, m.names))
            e = counter.known[_key(likeliest.setup)][0]
            risk = m.on.criteria.risk
            if _holds(e, risk) and likeliest.chance <= _kept(risk, reserve):
                found.append(likeliest)
    found.sort(key=lambda f: f.value)
    run.checkpoint(1.0, "done")
    return Search(tuple(found), _front(cloud), sum(c.count for c in counters.values()), least)


def _inside(m: Mapped, kept: float, more: float) -> np.ndarray[Any, np.dtype[np.bool_]]:
    """Where a map holds with ``kept`` and ``more`` standard deviations to every limit (``more`` of them to the machine's)."""
    deep = np.minimum(m.window.part_level, m.window.all_level) >= kept + more
    return np.asarray(deep & (m.window.machine_level >= RESERVE * more) & m.window.reachable)


def _promise(m: Mapped, objective: str, reserve: float) -> float:
    """The best value that a map promises; infinite where nothing on it holds."""
    inside = _inside(m, reserve, 0.0)
    return float(_field(m.window, objective)[inside].min()) if inside.any() else math.inf


def _unlikeliness(m: Mapped) -> tuple[float, int]:
    return float(np.where(m.window.reachable, m.window.unlikely, np.inf).min()), m.number


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


def _first(m: Mapped, objective: str, to_beat: float, reserve: float, counter: _Counted) -> Found | None:
    """The best point of a map that holds when it is evaluated as a whole; None where none does that promises to beat a value."""
    risk, field = m.on.criteria.risk, _field(m.window, objective)
    for more in _RESERVES:
        inside = _inside(m, reserve, more)
        places = np.argwhere(inside)
        order = places[np.argsort(field[inside])]
        for i, j in (
            order[n] for n in sorted({int(share * (len(order) - 1)) for share in _SHARES} if len(order) else ())
        ):
            if objective != "chance" and field[i, j] >= _WORTH_A_LOOK * to_beat:
                return None
            at = _at(m.on, m.window, float(m.window.x[j]), float(m.window.y[i]))
            e, found = _evaluated(m.on, at, objective, m.names, counter)
            if _holds(e, risk) and found.chance <= _kept(risk, reserve):
                return found
    return None


def _refined(m: Mapped, best: Found, objective: str, reserve: float, counter: _Counted, most: int) -> Found:
    """A point that holds, moved by steps of its map's axes, ever longer ones in a direction that goes well, as long as it gets
    better; within ``most`` evaluations."""
    risk, until = m.on.criteria.risk, counter.count + most
    improved = True
    while improved and counter.count < until:
        improved = False
        for dx, dy in _STEPS:
            wide = 1
            while wide and counter.count < until:
                setup = _stepped(m.window, best.setup, (wide * dx, wide * dy))
                if setup == best.setup:
                    break
                e, found = _evaluated(m.on, setup, objective, m.names, counter)
                better = found.value < best.value - 1e-9 * abs(best.value)
                if better and _holds(e, risk) and found.chance <= _kept(risk, reserve):
                    best, improved, wide = found, True, 2 * wide
                else:
                    wide //= 4
    return best


def _likeliest(on: Ground, window: Window, objective: str, names: tuple[str, ...], counter: _Counted) -> Found:
    """The place of a map that is likeliest to hold, judged as a whole and refined by steps of its axes."""
    until = counter.count + _REFINED
    i, j = np.unravel_index(np.argmin(np.where(window.reachable, window.unlikely, np.inf)), window.chance.shape)
    _, best = _evaluated(on, _at(on, window, float(window.x[j]), float(window.y[i])), objective, names, counter)
    for wide in (6.0, 1.0):
        improved = True
        while improved and counter.count < until:
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
