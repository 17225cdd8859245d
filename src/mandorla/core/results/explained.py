"""Where a figure comes from: its inputs with their sources and ranges, what is least known behind it, what changes it."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Final

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.failure.chances import MORE_TESTS
from mandorla.core.failure.messages import lift_in
from mandorla.core.failure.registry import Assessment, Judgement, chance_of_any
from mandorla.core.materials.library_data import bed_materials
from mandorla.core.materials.values import Value
from mandorla.core.part.process import Placement
from mandorla.core.project.models import Project
from mandorla.core.project.paths import get_value, meaning_at
from mandorla.core.project.store import Bundle
from mandorla.core.quantity_field import meaning_of
from mandorla.core.results import keys
from mandorla.core.results.figures import WAY, FigureMeaning, meaning_of_figure
from mandorla.core.results.key import Key
from mandorla.core.results.registry import Have, computes
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Settings
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.heatup import heat_up
from mandorla.core.thermal.parameter_samples import covariance_of, rig_of, rig_unknowns, typical_sample
from mandorla.core.tune.operating_point import Evaluation, evaluate
from mandorla.core.units import KINDS, OFF
from mandorla.core.warp.adhesion import adhesion_of
from mandorla.core.warp.unknowns import MODEL, TESTS, Z90

_NAN: Final = float("nan")
MOST: Final = 3  # uncertainties and levers that a card lists
_TRACE: Final = 1e-9  # of a figure: what moves it less does not move it
STEPS: Final = {  # by how much a lever is pulled, SI
    "bed_first": 5.0, "bed_rest": 5.0, "chamber": 5.0, "soak_time": 600.0, "fan": 0.25,
}  # fmt: skip
ROOM_STEP: Final = 5.0  # K
_HEATER_TESTS: Final = "log a heat-up from cold with a probe on the plate, and fit the rig to it (Verify)"


@dataclass(frozen=True, slots=True)
class Moved:
    """Something that moves a figure: its ``name``, the figure at its low and at its high end (levers: before and after), the
    ``test`` that would tell (empty for levers), and by how much a lever is pulled (``step`` SI of its ``kind``; 0 for unknowns)."""

    name: str
    low: float
    high: float
    test: str = ""
    step: float = 0.0
    kind: str = ""

    @property
    def by(self) -> float:
        """How far apart both ends are."""
        return abs(self.high - self.low)


@dataclass(frozen=True, slots=True)
class InputRow:
    """An input: ``title``, SI ``value`` with its unit ``kind`` (or ``text``), 90 % range (NaN: not known), ``source``, and the
    ``path`` where it is edited (empty: the library's)."""

    title: str
    value: float
    kind: str
    source: str
    text: str = ""
    low: float = _NAN
    high: float = _NAN
    path: str = ""


@dataclass(frozen=True, slots=True)
class Card:
    """A figure explained: its ``meaning`` and ``value`` (SI; NaN where it is not one number), the model (``source``), its inputs,
    the three ``uncertain`` that move it most over their 90 % ranges, all else as it is, and the three ``levers`` with most effect;
    ``about`` is the title of the figure that these two speak of (empty: the figure itself)."""

    meaning: FigureMeaning
    value: float
    source: str
    inputs: tuple[InputRow, ...]
    uncertain: tuple[Moved, ...]
    levers: tuple[Moved, ...]
    kind: str
    about: str = ""


def _margin(way: str) -> Callable[[Evaluation, Judgement], float]:
    def read(_: Evaluation, judgement: Judgement) -> float:
        a = judgement.assessed.get(way)
        return math.exp(a.margin) if a is not None else _NAN

    return read


def _crack(_: Evaluation, judgement: Judgement) -> float:
    a = judgement.assessed.get("cracks")
    return math.exp(-a.margin) if a is not None else _NAN


def _until_ready(e: Evaluation) -> float:
    until = e.heat.ready_time if np.isfinite(e.heat.ready_time) else float(e.heat.time[-1])
    return e.heat.at(until, e.heat.energy)


# every figure that is read from an evaluation and its judgement, SI
READ: Final[Mapping[str, Callable[[Evaluation, Judgement], float]]] = {
    "surface": lambda e, _: e.heat.steady.surface,
    "offset": lambda e, _: e.heat.offset,
    "coldest": lambda e, _: e.coldest,
    "ready": lambda e, _: e.ready_time,
    "energy_ready": lambda e, _: _until_ready(e),
    "air": lambda e, _: e.heat.steady.air,
    "chamber_printing": lambda e, _: e.conditions.chamber if e.conditions is not None else _NAN,
    "power_hold": lambda e, _: e.heat.steady.power,
    "chamber_power": lambda e, _: e.heat.steady.chamber_power,
    "peak_power": lambda e, _: float((e.heat.power + e.heat.chamber_power).max()),
    "anything": lambda _, j: j.anything,
    "hold_margin": _margin("adhesion"),
    "lift": lambda e, j: lift_in(j, e.lift_limit),
    "crack_index": _crack,
    "plate_lift": _margin("loose_plate"),
    "energy": lambda e, _: e.energy.total if e.energy is not None else _NAN,
    "cost": lambda e, _: e.energy.cost if e.energy is not None else _NAN,
    "print_time": lambda e, _: e.part.plan.duration if e.part is not None else _NAN,
    "mass": lambda e, _: e.part.plan.mass if e.part is not None else _NAN,
    "even_foot": lambda e, _: e.even_foot,
}
_OF_PRINT: Final = {  # figure: way to fail, sign of its margin in the figure's logarithm
    "hold_margin": ("adhesion", 1.0), "lift": ("flatness", -1.0), "crack_index": ("cracks", -1.0),
    "plate_lift": ("loose_plate", 1.0),
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Sensitivities:
    """Every figure at both ends of each unknown of the rig, by figure; and with each setting moved a step, by the quick models,
    with what that adds to the margin of each way to fail, by lever."""

    unknowns: Mapping[str, tuple[Moved, ...]]
    levers: Mapping[str, tuple[Moved, ...]]
    added: Mapping[str, Mapping[str, float]]


@computes(keys.SENSITIVITIES)
def sensitivities(_: Key[Sensitivities], bundle: Bundle, have: Have, run: RunContext) -> Sensitivities:
    """The quick models evaluated at both ends of what is not known of the rig, and with each setting of the console moved."""
    project, e = bundle.project, have(keys.EVALUATION)
    rig, settings = project.rig, project.settings
    placement = project.part.placement if project.part is not None else None
    part = e.part if placement is not None else None

    def evaluated(other: Rig, at: Settings, *, bands: bool = False) -> Evaluation:
        # a chance needs what every unknown does, which an unknown's own ends do not
        heat = heat_up(other, at, project.criteria, with_bands=bands)
        return evaluate(other, at, project.criteria, part, placement or Placement(), with_bands=bands, heat=heat)

    def figures(found: Evaluation) -> dict[str, float]:
        return {name: read(found, found.judgement) for name, read in READ.items()}

    unknowns = rig_unknowns(rig)
    left = np.sqrt(np.clip(np.diag(covariance_of(rig, unknowns)), 0.0, None))
    by: dict[str, list[Moved]] = {name: [] for name in READ}
    count = 2 * len(unknowns) + len(STEPS) + 2
    done = 0
    for unknown, share in zip(unknowns, left, strict=True):
        ends = []
        for z in (-float(share), float(share)):
            draw = typical_sample(rig)
            unknown.apply(draw, z)
            ends.append(figures(evaluated(rig_of(rig, draw), settings)))
            done += 1
            run.checkpoint(done / count, "what is not known")
        for name in READ:
            by[name].append(Moved(unknown.name, ends[0][name], ends[1][name], _HEATER_TESTS))
    unmoved = evaluated(rig, settings, bands=True)
    base, levers = figures(unmoved), {name: list[Moved]() for name in READ}
    added: dict[str, dict[str, float]] = {}
    for lever, other, at in _pulled(rig, settings):
        pulled = evaluated(other, at, bands=True)
        then = figures(pulled)
        added[lever.name] = {
            k: a.margin - unmoved.judgement.assessed[k].margin
            for k, a in pulled.judgement.assessed.items()
            if k in unmoved.judgement.assessed
        }
        done += 1
        run.checkpoint(done / count, "what changes it")
        for name in READ:
            levers[name].append(replace(lever, low=base[name], high=then[name]))
    return Sensitivities({k: tuple(v) for k, v in by.items()}, {k: tuple(v) for k, v in levers.items()}, added)


def _pulled(rig: Rig, settings: Settings) -> Iterator[tuple[Moved, Rig, Settings]]:
    """Every setting of the console, and the room, a step up, or down where up leads beyond what the machine or the field takes."""
    most = {"chamber": rig.limits.chamber_max, "bed_first": rig.limits.bed_max, "bed_rest": rig.limits.bed_max}
    for name, by in STEPS.items():
        meaning, value = meaning_of(Settings.model_fields[name], name), getattr(settings, name)
        assert meaning is not None
        if (name == "chamber" and not rig.heats_chamber) or (name.startswith("bed") and value <= OFF):
            continue
        step = by if value + by <= most.get(name, meaning.high) else -by
        kind = "temperature_difference" if meaning.kind in ("temperature", "set_point") else meaning.kind
        at = settings.model_copy(update={name: value + step})
        yield Moved(meaning.title, _NAN, _NAN, step=step, kind=kind), rig, at
    warmer = rig.model_copy(update={"room_temperature": rig.room_temperature + ROOM_STEP})
    yield Moved("Room", _NAN, _NAN, step=ROOM_STEP, kind="temperature_difference"), warmer, settings


def moved_most(found: tuple[Moved, ...] | list[Moved]) -> tuple[Moved, ...]:
    """Those that move a figure most; what does not move it is left out, and so is what leads nowhere."""
    there = [m for m in found if math.isfinite(m.by) and m.by > _TRACE * max(1.0, abs(m.low))]
    return tuple(sorted(there, key=lambda m: -m.by)[:MOST])


def _test_of(name: str, source: str) -> str:
    plain = MODEL if name.startswith(MODEL) else name
    if plain == MODEL and source != "quick":
        return "run the full simulation once more, finer"
    return TESTS.get(plain) or MORE_TESTS.get(plain, "")


def _plain(name: str, source: str) -> str:
    """An unknown as it is said; the model's own error is that of the model that judges."""
    if name.startswith(MODEL):
        return MODEL if source == "quick" else "full simulation's own error"
    return name


def _of_margin(a: Assessment, sign: float, scale: float) -> tuple[Moved, ...]:
    """What each unknown of a margin does to the ratio ``scale`` * exp(sign * margin) at both ends of its 90 % range."""
    return tuple(
        Moved(
            _plain(name, a.source),
            scale * math.exp(sign * (a.margin - Z90 * by)), scale * math.exp(sign * (a.margin + Z90 * by)),
            _test_of(name, a.source),
        )
        for name, by in a.parts.items()
    )  # fmt: skip


def _of_chance(ways: Mapping[str, Assessment]) -> tuple[Moved, ...]:
    """The chance that any of several ways happens with one unknown at either end of its 90 % range and the others as they are."""
    names = sorted({name for a in ways.values() for name in a.parts})
    found = []
    for name in names:
        ends = []
        for z in (-Z90, Z90):
            held = {
                k: replace(
                    a, margin=a.margin + z * a.parts.get(name, 0.0),
                    parts={n: v for n, v in a.parts.items() if n != name} or ({"nothing": 1e-9} if a.parts else {}),
                )
                for k, a in ways.items()
            }  # fmt: skip
            ends.append(chance_of_any(held))
        source = next(a.source for a in ways.values() if name in a.parts)
        found.append(Moved(_plain(name, source), ends[0], ends[1], _test_of(name, source)))
    return tuple(found)


def _of_energy(project: Project, e: Evaluation, scale: float) -> tuple[Moved, ...]:
    use = e.energy
    if use is None:
        return ()
    names = {u.key: u.name for u in rig_unknowns(project.rig)} | dict(use.names)
    return tuple(
        Moved(
            names.get(key, key.replace("_", " ")), scale * (use.total + down), scale * (use.total + up),
            "a plug meter over the whole job (Verify, Energy)",
        )
        for key, (down, up) in use.effects.items()
    )  # fmt: skip


def uncertain_of(
    key: str, project: Project, e: Evaluation, judgement: Judgement, found: Sensitivities
) -> tuple[Moved, ...]:
    """What is not known behind a figure, and the figure at both ends of each."""
    if key in _OF_PRINT:
        way, sign = _OF_PRINT[key]
        a = judgement.assessed.get(way)
        return _of_margin(a, sign, e.lift_limit if key == "lift" else 1.0) if a is not None else ()
    if key == "anything":
        return _of_chance(judgement.counted)
    if key.startswith(WAY):
        a = judgement.assessed.get(key.removeprefix(WAY))
        return _of_chance({key: a}) if a is not None and a.parts else ()
    if key == "energy":
        return _of_energy(project, e, 1.0)
    if key == "cost" and e.energy is not None:
        return _of_energy(project, e, e.energy.price)
    return found.unknowns.get(key, ())


def levers_of(key: str, value: float, judgement: Judgement, found: Sensitivities) -> tuple[Moved, ...]:
    """The figure as it is and with each lever pulled; where a full simulation judges, the quick models' change is put upon it."""
    if key in _OF_PRINT:
        return tuple(
            replace(m, low=value, high=value * m.high / m.low)
            for m in found.levers.get(key, ())
            if m.low and math.isfinite(m.low)
        )
    quick = all(a.source == "quick" for a in judgement.counted.values() if a.parts)
    ways = judgement.counted if key == "anything" else {
        k: a for k, a in judgement.assessed.items() if key == WAY + k
    }  # fmt: skip
    if not ways or (key == "anything" and quick):
        return found.levers.get(key, ())
    return tuple(
        replace(m, low=value, high=chance_of_any({
            k: replace(a, margin=a.margin + found.added[m.name].get(k, 0.0)) for k, a in ways.items() if a.parts
        }))
        for m in found.levers["anything"]
    )  # fmt: skip


def _value_row(title: str, value: Value, kind: str) -> InputRow:
    return InputRow(title, value.typical, kind, value.source, low=value.low, high=value.high)


def _layers(project: Project) -> list[InputRow]:
    rows = []
    for i, layer in enumerate(project.rig.bed.layers):
        low, high = layer.conductivity_range()
        k = layer.properties().conductivity
        source = "your own figures" if layer.own is not None else bed_materials()[layer.material].conductivity.source
        rows.append(
            InputRow(f"{layer.name}: conductivity", k, "conductivity", source, low=k * low, high=k * high,
                     path=f"rig.bed.layers.{i}.thickness")
        )  # fmt: skip
    return rows


_POLYMER: Final = {
    "expansion": "expansion", "modulus": "stress", "stress_free_temperature": "temperature", "glass_transition": "temperature",
}  # fmt: skip


def _polymer(project: Project) -> list[InputRow]:
    p = project.process.material()
    words = {"stress_free_temperature": "no stress above", "glass_transition": "glass transition"}
    return [_value_row(f"{p.name}: {words.get(n, n)}", getattr(p, n), kind) for n, kind in _POLYMER.items()]


def _grip(project: Project) -> list[InputRow]:
    surface = project.process.on_top.surface
    grip = adhesion_of(surface, project.process.polymer)
    return [
        _value_row(f"Grip on {surface.name.lower()}: strength", grip.strength, "stress"),
        _value_row("Grip: best at", grip.peak_temperature, "temperature"),
    ]


_LIBRARY: Final[Mapping[str, Callable[[Project], list[InputRow]]]] = {
    "layers": _layers, "polymer": _polymer, "grip": _grip,
}  # fmt: skip


_NAMED: Final = {"process.polymer": "Polymer", "process.surface": "Plate surface"}


def _name_at(project: Project, path: str) -> str:
    process = project.process
    return process.material().name if path == "process.polymer" else process.on_top.surface.name


def _input(project: Project, path: str) -> list[InputRow]:
    if path.startswith("library:"):
        return _LIBRARY[path.removeprefix("library:")](project)
    if path.startswith("part.") and project.part is None:
        return []
    value, meaning = get_value(project, path), meaning_at(project, path)
    fitted = project.rig.fitted
    source = "the project"
    if path.startswith("rig.") and fitted is not None:
        source = f"the machine, fitted on {fitted.date}"
    elif path.startswith("rig."):
        source = "the machine as described"
    elif path.startswith("settings."):
        source = "the console"
    if path in _NAMED:
        return [InputRow(_NAMED[path], _NAN, "", source, text=_name_at(project, path), path=path)]
    if meaning is None:
        parent = get_value(project, path.rpartition(".")[0])
        title = type(parent).model_fields[path.rpartition(".")[2]].title or path.rpartition(".")[2]
        return [InputRow(title, _NAN, "", source, text=str(value), path=path)]
    return [InputRow(meaning.title, float(value), meaning.kind, source, path=path)]


@computes(keys.EXPLAINED)
def explained(key: Key[Card], bundle: Bundle, have: Have, run: RunContext) -> Card:
    """The card of a figure. Raises InputError for a key that is none."""
    project, e, found = bundle.project, have(keys.EVALUATION), have(keys.SENSITIVITIES)
    judgement = have(keys.JUDGEMENT.of(full=key["full"], bodies=key["bodies"]))
    meaning = meaning_of_figure(key["figure"])
    own = meaning.key if meaning.key in READ or meaning.key.startswith(WAY) else meaning.near
    about = "" if own == meaning.key else meaning_of_figure(own).title
    if meaning.key.startswith(WAY):
        way = meaning.key.removeprefix(WAY)
        if way not in judgement.found:
            raise InputError(f"“{way}” does not apply here; these do: {', '.join(judgement.found)}.")
        a = judgement.assessed.get(way)
        value, source = (a.probability, a.source) if a is not None else (_NAN, "")
        meaning = replace(meaning, title=f"Chance: {judgement.titles[way].lower()}", what=(
            f"{meaning.what} What follows: {a.consequence}." if a is not None else meaning.what
        ))  # fmt: skip
    else:
        value = READ[meaning.key](e, judgement) if meaning.key in READ else _NAN
        way = _OF_PRINT[own][0] if own in _OF_PRINT else ""
        by = [judgement.assessed[way]] if way in judgement.assessed else []
        by = list(judgement.counted.values()) if own == "anything" else by
        source = "full" if any(a.source == "full" for a in by) else "quick"
    # what a view is near to has a value of its own, too
    now = value if own == meaning.key else READ[own](e, judgement)
    kind = meaning_of_figure(own).kind
    assert kind in KINDS or kind in ("chance", "margin", "lift"), kind
    inputs = tuple(row for path in meaning.inputs for row in _input(project, path))
    return Card(
        meaning, value, source, inputs, moved_most(uncertain_of(own, project, e, judgement, found)),
        moved_most(levers_of(own, now, judgement, found)), kind, about,
    )  # fmt: skip
