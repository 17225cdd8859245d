"""Why a part warps and what would help: every cause taken away and every lever pulled by itself, computed and ranked.

Causes are removed from the estimate one at a time, whether a machine could do it or not. Levers are changes a person can make;
each is a whole evaluation with heat-up, limits, time and energy.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from types import MappingProxyType
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.failure.grades import LEAST_LIFT
from mandorla.core.failure.messages import lift_in
from mandorla.core.failure.registry import Judgement, chance_of_any
from mandorla.core.failure.state import State
from mandorla.core.failure.ways.soft_feed import FEED_GOOD
from mandorla.core.materials.library_data import polymers
from mandorla.core.materials.plate_library import coatings, plate_surfaces
from mandorla.core.materials.values import Value
from mandorla.core.part.arrange import laid, sides_of
from mandorla.core.part.gcode import PrintFile
from mandorla.core.part.geometry import PartGeometry
from mandorla.core.part.plates import SIDES
from mandorla.core.part.process import Placement, Process
from mandorla.core.part.sections import Sections, slice_solid, turned_sections
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.advice import machine_changes
from mandorla.core.tune.operating_point import Evaluation, evaluate, prepare_part
from mandorla.core.tune.window_map import LOADS
from mandorla.core.units import METRIC, OFF, UnitPreferences, show
from mandorla.core.warp.condensed_plate import PlateLift
from mandorla.core.warp.estimate import Conditions, PartToPrint, estimate_warp, prepare
from mandorla.core.warp.learned import NOTHING, MagnetLearned, magnet_of
from mandorla.core.warp.on_plate import lifted_with_plate

_HOTTER: Final = 10.0  # K
_CHANGES: Final = 3.0  # K of plate or air while it prints that is a cause of its own
_NUDGE: Final = 2e-5  # m, a step by which a nozzle's height is set
_BRIM: Final = 0.008  # m
_RAFT: Final = 0.002  # m
_STRONGER: Final = 1.5  # of a magnet
_COARSER: Final = 1.5  # nozzle, line and layer


@dataclass(frozen=True, slots=True)
class Cause:
    """A cause taken away: its name, what it was taken for, margin and largest lift (m) without it."""

    name: str
    without: str
    margin: float
    lift: float

    def moved(self, off: Mapping[str, float]) -> Cause:
        """The same as full simulations are ``off`` the quick margins (ln, by key)."""
        margin = self.margin * math.exp(off.get("adhesion", 0.0))
        return replace(self, margin=margin, lift=max(self.lift * math.exp(-off.get("flatness", 0.0)), LEAST_LIFT))


class Pull(NamedTuple):
    """What a lever sets: the machine, the settings, the process and the shape with it, and a factor on its magnet's pull."""

    rig: Rig
    settings: Settings
    process: Process
    shape: Sections
    magnet: float = 1.0

    def changes(self, shape: Sections) -> Mapping[str, object] | None:
        """What a project of that ``shape`` is set to, by path; None where no field does: another standing, a stronger magnet."""
        if self.shape is not shape or self.magnet != 1.0:
            return None
        return {"rig": self.rig, "settings": self.settings, "process": self.process}


class Correction(NamedTuple):
    """What full simulations have found: by how much margins are ``off`` the quick ones (ln, by key), and the ``run``'s judgement
    where the very place was simulated: its spreads count then."""

    off: Mapping[str, float] = MappingProxyType({})
    run: Judgement | None = None

    def of(self, judgement: Judgement, *, drastic: bool = False) -> Judgement:
        """A quick judgement as full simulations correct it: of another polymer, or a part that stands otherwise, only what makes it
        worse counts."""
        if drastic:
            return judgement.moved({k: min(v, 0.0) for k, v in self.off.items()})
        return judgement.moved(self.off, self.run)


def correction_of(quick: Judgement, full: Judgement, off: Mapping[str, float] = MappingProxyType({})) -> Correction:
    """What a full simulation of the very place says of a ``quick`` judgement, and ``off`` what those near by say of the rest."""
    a, b = quick.assessed, full.assessed
    return Correction({**off, **{k: b[k].margin - a[k].margin for k in LOADS if k in a and k in b}}, full)


class Figures(NamedTuple):
    """Hold margin, lift (m) and crack index; NaN where one is not known."""

    margin: float
    lift: float
    crack: float


def figures_of(judgement: Judgement, limit: float) -> Figures:
    """The figures of a judgement, of the ``limit`` (m) of lift that is accepted."""
    margin, crack = (
        judgement.assessed[k].margin if k in judgement.assessed else math.nan for k in ("adhesion", "cracks")
    )
    return Figures(math.exp(margin), lift_in(judgement, limit), math.exp(-crack))


@dataclass(frozen=True, slots=True)
class Lever:
    """A lever pulled: what, hold margin, lift (m), crack index (as its judgement has them), print time (s), energy (J), and why it
    is barred (empty: it is not); ``drastic`` is another polymer or another way to stand, which the part's use or its overhangs may
    not allow. ``chance`` that anything fails with it, and the failure that it ``moves`` most, by key (empty: none for the better).
    ``on_map``
    tells whether it only moves what the operating window's own axes are, and ``put`` what is set where it moves settings only;
    ``pull`` is all that it sets, ``changes`` the same by path (None: no field does); ``done`` s from switching on to the end of
    the print; ``limit`` is the lift that is accepted (m), ``judged`` the quick models' judgement with it, ``taught`` what its own
    full simulation says of them."""

    name: str
    margin: float
    lift: float
    crack: float
    duration: float
    energy: float
    barred: str
    drastic: bool = False
    chance: float = float("nan")
    moves: str = ""
    on_map: bool = False
    put: Settings | None = None
    pull: Pull | None = field(default=None, repr=False, compare=False)
    changes: Mapping[str, object] | None = field(default=None, repr=False, compare=False)
    done: float = float("nan")
    limit: float = float("nan")
    judged: Judgement | None = field(default=None, repr=False, compare=False)
    taught: Correction | None = field(default=None, repr=False, compare=False)

    @property
    def simulated(self) -> bool:
        """Whether the chance is a full simulation's."""
        return self.taught is not None

    def told(self, by: Judgement, chance: float) -> Lever:
        """The same with the figures of a judgement."""
        return replace(self, chance=chance, **figures_of(by, self.limit)._asdict())


def causes_of(
    part: PartToPrint, at: Conditions, prefs: UnitPreferences = METRIC,
    plate: Callable[[PartToPrint, Conditions], PlateLift | None] = lambda _, __: None,
) -> tuple[Cause, ...]:  # fmt: skip
    """Each cause taken away by itself, the largest gain of margin first; ``plate`` tells what a loose plate does under each."""
    warm = part.polymer.softening_temperature - FEED_GOOD
    found = []

    def add(name: str, without: str, other: PartToPrint, where: Conditions) -> None:
        w = lifted_with_plate(estimate_warp(other, where, with_bands=False), plate(other, where), other.learned)
        found.append(Cause(name, without, w.margin, w.largest_lift))

    middle = np.full_like(at.corner_plate, max(at.plate_rest, float(at.corner_plate.max())))
    add("Plate colder at the corners", "as warm as the middle", part, replace(at, corner_plate=middle))
    if warm > at.chamber:
        air = show(warm, "temperature", prefs, digits=0)
        add("Cold air", f"chamber at {air}", part, replace(at, chamber=warm))
    if at.fan > 0.0:
        add("Part fan", "fan off", part, replace(at, fan=0.0))
    if at.along is not None and max(float(np.ptp(at.along.plate)), float(np.ptp(at.along.air))) > _CHANGES:
        add("Temperatures that change", "plate and air as they are in the mean", part, replace(at, along=None))
    quick = replace(part.plan, layer_time=0.5 * part.plan.layer_time, duration=0.5 * part.plan.duration)
    add(
        "Long layer times",
        "layers in half the time",
        prepare(part.whole, quick, part.process, learned=part.learned, gaps=part.gaps),
        at,
    )
    soft = replace(part.plan, stiffness_fraction=0.5 * part.plan.stiffness_fraction)
    add(
        "Stiff section",
        "walls and infill half as stiff",
        prepare(part.whole, soft, part.process, learned=part.learned, gaps=part.gaps),
        at,
    )
    low = replace(part.polymer.expansion, typical=part.polymer.expansion.low)
    meek = replace(part, polymer=replace(part.polymer, expansion=low))
    add("Polymer that shrinks", "expansion at its low end", meek, at)
    key = part.polymer.key
    known = [s for s in plate_surfaces().values() if key in s.grip]
    best = max(known, key=lambda s: s.grip[key].strength.typical)
    if best.key != part.surface.key:
        process = part.process.model_copy(
            update={"surface": best.key, "plate": "", "coating": "", "plate_state": "clean"}
        )
        add("Weak surface", f"on {best.name}", replace(part, surface=best, process=process), at)
    found.sort(key=lambda c: -c.margin)
    return tuple(found)


def levers_of(
    rig: Rig, settings: Settings, criteria: Criteria, sections: Sections, process: Process, placement: Placement, base: Evaluation,
    file: PrintFile | None = None, run: RunContext | None = None, prefs: UnitPreferences = METRIC,
    otherwise: Sequence[tuple[str, Sections]] = (), simulated: Correction | None = None,
) -> tuple[Lever, ...]:  # fmt: skip
    """Every lever pulled by itself; those that are allowed first, the largest gain of margin first. ``otherwise`` are other ways
    in which the part can stand, by name; ``simulated`` moves the margins to where full simulations of ``base`` have found them.
    Raises :class:`Cancelled`."""
    run = run or RunContext()
    tries: list[tuple[str, Pull]] = []

    def settle(name: str, **change: float) -> None:
        tries.append((name, Pull(rig, settings.model_copy(update=change), process, sections)))

    def print_with(name: str, shape: Sections = sections, **change: object) -> None:
        try:
            other = Process.model_validate(process.model_dump() | change)
        except ValueError:
            return  # beyond what a field allows: no lever
        if other.polymer not in other.plate_surface().grip:
            return  # a plate that is not made for it
        tries.append((name, Pull(rig, settings, other, shape)))

    def degrees(kelvin: float) -> str:
        return show(kelvin, "temperature_difference", prefs, digits=0)

    heated = {name: v for name in ("bed_first", "bed_rest") if (v := getattr(settings, name)) > OFF}
    if heated:  # a bed that is off stays off
        settle(f"Bed {degrees(5.0)} warmer", **{name: v + 5.0 for name, v in heated.items()})
        settle(f"Bed {degrees(5.0)} cooler", **{name: v - 5.0 for name, v in heated.items()})
    if settings.bed_rest > OFF and not rig.limits.insists:
        settle("Bed off after the first layers", bed_rest=OFF)
    if rig.chamber.enclosed:
        settle(f"Chamber {degrees(10.0)} warmer", chamber=settings.chamber + 10.0)
    settle("Soak 20 min longer", soak_time=settings.soak_time + 1200.0)
    if settings.fan > 0.0:
        settle("Part fan off", fan=0.0)
    if file is None:
        if process.brim < _BRIM:
            print_with(f"Brim of {show(_BRIM, 'length', prefs, digits=0)}", brim=_BRIM)
        wide = _COARSER * process.nozzle
        print_with(
            f"Nozzle of {show(wide, 'length', prefs)}, lines and layers to match", nozzle=wide,
            line_width=_COARSER * process.line_width, layer_height=_COARSER * process.layer_height,
        )  # fmt: skip
        hotter = process.material().deposition_temperature
        if (
            process.nozzle_temperature is None
            or hotter.typical + _HOTTER <= polymers()[process.polymer].deposition_temperature.high
        ):
            print_with(f"Nozzle {degrees(_HOTTER)} hotter", nozzle_temperature=hotter.typical + _HOTTER)
        print_with("A third faster", speed=process.speed * 4.0 / 3.0)
        print_with("Half the infill", infill=0.5 * process.infill)
        if process.walls > 2:
            print_with("A wall less", walls=process.walls - 1)
        if not process.draft_shield:
            print_with("Draft shield around the part", draft_shield=True)
        if process.raft == 0.0:
            print_with(f"Raft of {show(_RAFT, 'length', prefs, digits=0)}", raft=_RAFT)
        print_with("Turned by 90°", turned_sections(sections, 90))
        for name, shape in otherwise:
            print_with(name, shape)
    if base.first is not None and process.first is not None and abs(base.first.best) > 0.5 * _NUDGE:
        way = "nearer" if base.first.best < 0.0 else "farther"
        first = process.first.model_copy(update={"offset": process.first.offset + base.first.best})
        name = f"Nozzle {show(abs(base.first.best), 'length', prefs)} {way} on the first layer"
        print_with(name, first=first.model_dump())
    for surface in plate_surfaces().values():
        if process.polymer in surface.grip and surface.key != process.surface_key:
            print_with(f"On {surface.name}", surface=surface.key, plate="", coating="", plate_state="clean")
    for plate in process.plates:
        for side in SIDES:
            if plate.side(side) is not None and (plate.key, side) != (process.plate, process.side):
                name = f"On {plate.name}, {side}" if plate.key != process.plate else f"{plate.name} turned over"
                print_with(name, plate=plate.key, side=side, coating="", plate_state="clean")
    if process.plate_state != "clean":
        print_with("The plate cleaned", plate_state="clean")
    for coat in coatings().values():
        if coat.key != process.coating:
            print_with(f"{coat.name} on the plate", coating=coat.key)
    if process.coating:
        print_with("No coating on the plate", coating="")
    under = process.plate_surface().grip
    for key, other in polymers().items():
        grip = under.get(key)
        if grip is None or key == process.polymer:
            continue
        # another polymer is printed at its own temperatures: the plate at its best grip, the air as warm as machine and feed allow
        bed = min(grip.peak_temperature.typical, rig.limits.bed_max)
        air = min(other.softening_temperature - FEED_GOOD, rig.limits.chamber_max, max(settings.chamber, 313.15))
        change = {"bed_first": bed, "bed_rest": bed, "chamber": air if rig.chamber.enclosed else settings.chamber}
        how = process.model_copy(update={"polymer": key, "own": None})
        name = f"In {other.name}, bed {show(bed, 'temperature', prefs, digits=0)}"
        tries.append((name, Pull(rig, settings.model_copy(update=change), how, sections)))
    tries += [(name, Pull(other, settings, process, sections)) for name, other in hold_downs(rig)]
    tries += [
        (f"{name[0].upper()}{name[1:]}", Pull(other, settings, process, sections))
        for name, other in machine_changes(rig)
    ]
    if base.plate is not None and base.plate.magnet:
        stronger = Pull(rig, settings, process, sections, _STRONGER)
        tries.append((f"A magnet that pulls {_STRONGER:g} times as hard", stronger))
    lying = [shape for _, shape in otherwise]
    found = []
    for k, (name, pull) in enumerate(tries):
        machine, put, how, shape, _ = pull
        e = pulled(pull, criteria, placement, base, file)
        assert e.warp is not None
        assert e.part is not None
        assert e.energy is not None
        barred = e.fit_problem
        if not barred and e.judgement.limit_state is State.FAILS and base.judgement.limit_state is not State.FAILS:
            barred = next((f"{c.name}: {c.reason}" for c in e.limits if c.state is State.FAILS), "beyond a limit")
        energy = e.energy.total
        drastic = how.polymer != process.polymer or any(shape is s for s in lying)
        found.append(
            Lever(
                name,
                *figures_of(e.judgement, e.lift_limit),
                e.part.plan.duration,
                energy,
                barred,
                drastic,
                on_map=how is process and shape is sections and machine is rig and _only_set_points(rig, settings, put),
                put=put if how is process and shape is sections and machine is rig and pull.magnet == 1.0 else None,
                pull=pull,
                changes=pull.changes(sections),
                done=sum(p.duration for p in e.energy.phases[:3]),
                limit=e.lift_limit,
                judged=e.judgement.figures,
            )
        )
        run.checkpoint((k + 1) / len(tries), name)
    return judged_from(found, base.judgement, simulated or Correction())


def judged_from(levers: Sequence[Lever], quick: Judgement, known: Correction) -> tuple[Lever, ...]:
    """Levers with the chances that they have from a ``quick`` judgement as full simulations correct it; those that are allowed
    first, the likeliest to hold first."""
    now, found = known.of(quick), []
    for v in levers:
        assert v.judged is not None
        there = known.of(v.judged, drastic=v.drastic)
        chance, moves = chance_with(now, there)
        found.append(replace(v.told(there, chance), moves=moves))
    return ranked(found)


def ranked(levers: Sequence[Lever]) -> tuple[Lever, ...]:
    """Levers in order: those that are allowed first, the likeliest to hold first."""

    def place(v: Lever) -> tuple[bool, bool, float, float]:
        return bool(v.barred), v.drastic, round(v.chance, 2) if np.isfinite(v.chance) else 1.0, -v.margin

    return tuple(sorted(levers, key=place))


def pulled(
    pull: Pull,
    criteria: Criteria,
    placement: Placement,
    base: Evaluation,
    file: PrintFile | None,
    *,
    with_bands: bool = False,
) -> Evaluation:
    """The evaluation with a lever pulled; what is known of polymer, plate and first layer as at ``base``."""
    learned, gaps = (NOTHING, None) if base.part is None else (base.part.learned, base.part.gaps)
    if pull.magnet != 1.0:
        known = magnet_of(learned)
        v, times = known.pull, pull.magnet
        stronger = Value(times * v.low, times * v.typical, times * v.high, v.source)
        learned = replace(learned, magnet=MagnetLearned(stronger, known.pole_width))
    part = prepare_part(pull.shape, pull.process, file, learned, gaps)
    return evaluate(pull.rig, pull.settings, criteria, part, placement, with_bands=with_bands)


def _only_set_points(rig: Rig, settings: Settings, put: Settings) -> bool:
    """Whether two settings differ in nothing but what the operating window's axes are."""
    axes = {"bed_first", "bed_rest"} | ({"chamber"} if rig.heats_chamber else set())
    a, b = settings.model_dump(), put.model_dump()
    return all(name in axes for name in a if a[name] != b[name])


def chance_with(base: Judgement, other: Judgement) -> tuple[float, str]:
    """Chance that anything fails at another state whose unknowns act as at ``base``, and the failure it is better in by most."""
    ways, better = {}, {}
    for key, a in base.counted.items():
        now = other.counted.get(key)
        if now is None:
            if key in LOADS and a.spread > 0.0:  # it cannot happen any more
                better[key] = max(-a.z, 0.0) + 1.0
            continue
        # where a full simulation has judged the place, what is not known stands with it
        ways[key] = replace(a, margin=now.margin, state=now.state) if a.parts and not now.parts else now
        if a.parts and a.spread > 0.0 and key in LOADS:
            better[key] = (min(now.margin, 3.0) - min(a.margin, 3.0)) / a.spread
    best = max(better, key=lambda k: better[k]) if better else ""
    return chance_of_any(ways), best if best and better[best] > 0.05 else ""


def hold_downs(rig: Rig) -> list[tuple[str, Rig]]:
    """The machine with other ways to hold its loose plate down, by name."""
    bed, found = rig.bed, []
    first = next((i for i, layer in enumerate(bed.layers[:-1]) if not layer.bonded), None)
    if first is not None:

        def with_layers(change: dict[str, object]) -> Rig:
            layers = tuple(x.model_copy(update=change) if i == first else x for i, x in enumerate(bed.layers))
            return rig.model_copy(update={"bed": bed.model_copy(update={"layers": layers})})

        plate = bed.layers[first]
        for where in ("beside the part", "at the plate's edge"):
            if bed.clips != where:
                clipped = bed.model_copy(update={"clips": where})
                found.append((f"Clips {where}", rig.model_copy(update={"bed": clipped})))
        found.append((f"{plate.name} twice as thick", with_layers({"thickness": 2.0 * plate.thickness})))
        found.append((f"{plate.name} bonded to what is below", with_layers({"bonded": True})))
    return found


def lying_otherwise(
    geometry: PartGeometry, prefs: UnitPreferences = METRIC, most: int = 3
) -> list[tuple[str, Sections]]:
    """The sections of a single body laid on its other large faces, those of other heights only, with their names."""
    if geometry.sections.bodies > 1:
        return []
    found: list[tuple[str, Sections]] = []
    heights = [geometry.sections.height]
    for side in sides_of(geometry.mesh):
        turned = laid(geometry.mesh, side.normal)
        height = float(turned.size[2])
        if len(found) == most or min(abs(height - h) for h in heights) < 0.02 * height:
            continue
        heights.append(height)
        name = f"Lying on another face, {show(height, 'large_length', prefs)} tall, overhangs left aside"
        found.append((name, slice_solid(turned)))
    return found
