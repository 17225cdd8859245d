"""Results of the stage Warp: full simulations, the loose plate, probabilities, causes and levers, other shapes, compensation."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Final, get_args

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.failure.registry import Judgement
from mandorla.core.measure.heights import METRES, read_matrix
from mandorla.core.part.arrange import bodies_of
from mandorla.core.part.geometry import PartGeometry
from mandorla.core.part.mesh import Floats, Mesh
from mandorla.core.part.sections import Sections, slice_solid
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.kept_runs import kept_entry, opened
from mandorla.core.results.key import Key
from mandorla.core.results.registry import Have, computes
from mandorla.core.runtime import RunContext
from mandorla.core.tune.levers import (
    Cause,
    Figures,
    Lever,
    causes_of,
    correction_of,
    figures_of,
    judged_from,
    levers_of,
    lying_otherwise,
    ranked,
)
from mandorla.core.tune.operating_point import (
    Evaluation,
    loose_plate_of,
    place_on_bed,
    plate_under,
    prepare_part,
    texture_of,
)
from mandorla.core.tune.worth import ByRun, by_run
from mandorla.core.units import METRIC, UnitPreferences, show
from mandorla.core.warp.batch import Batch, Placed, batch_of
from mandorla.core.warp.compensate import Checked, Compensation, check, compensate, deformed, stl_bytes
from mandorla.core.warp.condensed_plate import PlateLift
from mandorla.core.warp.estimate import Conditions, PartToPrint, body_of
from mandorla.core.warp.fe_case import AllBodies, PrintedPart, full_run, hold_of
from mandorla.core.warp.fe_model import Boxes, Resolution
from mandorla.core.warp.fe_result import FullRun
from mandorla.core.warp.fe_simulation import expected_seconds
from mandorla.core.warp.first_layer import factors_at
from mandorla.core.warp.learned import NOTHING
from mandorla.core.warp.measured_part import Agreement, compare_part
from mandorla.core.warp.multi_body import MOST_TOGETHER
from mandorla.core.warp.shape_variants import rounded, slotted
from mandorla.core.warp.voxels import Voxels

CHOICES: Final[tuple[Resolution, ...]] = get_args(Resolution)
Carve = Callable[[Voxels], Voxels]


@dataclass(frozen=True, slots=True)
class Printed:
    """A part that can be simulated: what was drawn, and its quick evaluation."""

    bundle: Bundle
    geometry: PartGeometry
    evaluation: Evaluation


@dataclass(frozen=True, slots=True)
class ExpectedTimes:
    """Seconds and bytes that a full simulation will take on this machine, by resolution; right to a factor of two or so."""

    seconds: Mapping[str, float]
    memory: Mapping[str, float]


@dataclass(frozen=True, slots=True)
class CausesAndLevers:
    """Causes and levers, each computed by itself, ranked; ``judgement`` is what they start from, ``limit`` the lift that is
    accepted (m)."""

    causes: tuple[Cause, ...]
    levers: tuple[Lever, ...]
    judgement: Judgement
    limit: float

    @property
    def now(self) -> Figures:
        """The figures as it is."""
        return figures_of(self.judgement, self.limit)

    def by_runs(self, known: ByRun) -> CausesAndLevers:
        """The same with the chances of full simulations that are known by now."""
        return replace(self, levers=ranked([by_run(v, known) for v in self.levers]))


@dataclass(frozen=True, slots=True)
class ShapeVariant:
    """A change of shape tried in the full simulation: highest corner printed, flatness after release (m), least margin, and the
    share of the foot that had let go; why the run stopped (empty: it did not), what it would have released to is then not known."""

    name: str
    printed: float
    released: float
    margin: float
    detached: float
    stopped: str = ""


@dataclass(frozen=True, slots=True)
class Compensated:
    """The pre-deformed part, what a second run says of it, and both shapes as STL: pre-deformed, and as it comes out as drawn."""

    made: Compensation
    checked: Checked

    def stl(self) -> bytes:
        """The pre-deformed part as binary STL."""
        return stl_bytes(self.made.mesh)


def _printed(bundle: Bundle, have: Have) -> Printed:
    geometry, e = have(keys.GEOMETRY), have(keys.EVALUATION)
    if geometry is None or e.part is None or e.conditions is None:
        raise InputError("There is no part: open one first.")
    return Printed(bundle, geometry, e)


def surface_under(e: Evaluation, places: Floats) -> Floats:
    """The plate's surface (k,) K at places (k, 2) m from the bed's middle while the rest is printed."""
    assert e.course is not None
    return plate_under(e.heat, e.course, places)


def simulate(
    on: Printed, resolution: Resolution, run: RunContext, *, together: bool = False, mesh: Mesh | None = None,
    carve: Carve | None = None, keep_shown: bool = False, magnet: float = 0.0,
) -> FullRun:  # fmt: skip
    """Run the full simulation of a part at its settings; ``mesh`` takes the part's place, ``carve`` changes its boxes.

    ``magnet`` is how many standard deviations the magnet's pull is away from typical.
    Of several bodies, all on the plate ``together``, or the one by itself that has most to hold; ``keep_shown`` shows the part as
    it grows through the run.

    Raises
    ------
    InputError
        Where the part does not stand on the bed.
    Cancelled
        When the run is asked to stop.
    """
    e, source = on.evaluation, on.bundle.project.part
    if e.fit_problem:
        raise InputError(e.fit_problem)
    assert source is not None
    assert e.part is not None
    assert e.conditions is not None
    placement = source.placement

    def plate_at(places: Floats) -> Floats:
        return surface_under(e, place_on_bed(places, placement))

    several = all_bodies(on) if together and on.geometry.sections.bodies > 1 else None
    whole = mesh or (on.geometry.body if several is None else on.geometry.mesh)
    printed = PrintedPart(e.part, e.conditions, whole, on.bundle.project.rig.bed, placement, plate_at, several, magnet)
    return full_run(printed, Boxes(resolution, carve=carve), run, run.show if keep_shown else None)


def all_bodies(on: Printed) -> AllBodies:
    """The bodies on the plate, numbered row by row from the front left, each with its own sections and print."""
    geometry = on.geometry
    known = on.evaluation.part
    learned, gaps = (NOTHING, None) if known is None else (known.learned, known.gaps)
    found = bodies_of(geometry.mesh)
    low = [b.vertices.min(axis=0) for b in found]
    order = sorted(range(len(found)), key=lambda k: (round(float(low[k][1]), 3), float(low[k][0])))
    alike: dict[tuple[float, ...], tuple[Sections, PartToPrint, Floats]] = {}
    bodies, parts, corners, corner_of = [], [], [], []
    for n, k in enumerate(order):
        body = found[k]
        key = (len(body.faces), *np.round(body.size, 6).tolist(), round(1e9 * body.volume, 3))
        if key not in alike:
            sections = slice_solid(body)
            part = prepare_part(
                replace(geometry.sections, body=sections), on.bundle.project.process, geometry.file, learned, gaps
            )
            alike[key] = sections, part, low[k]
        sections, part, at = alike[key]
        dx, dy = (float(v) for v in (low[k] - at)[:2])
        bodies.append(body)
        parts.append(part)
        corners += [replace(c, x=c.x + dx, y=c.y + dy, name=f"{c.name}, body {n + 1}") for c in sections.corners]
        corner_of += [n] * len(sections.corners)
    return AllBodies(tuple(bodies), tuple(parts), tuple(corners), tuple(corner_of), geometry.body)


@computes(keys.FULL_RUN)
def full(key: Key[FullRun], bundle: Bundle, have: Have, run: RunContext) -> FullRun:
    """The full simulation; the part as it grows is shown through the run. Raises InputError without a part."""
    return simulate(_printed(bundle, have), key["resolution"], run, together=key["bodies"] == "all", keep_shown=True)


@computes(keys.BATCH)
def batch(key: Key[Batch | None], bundle: Bundle, have: Have, run: RunContext) -> Batch | None:
    """Every copy on the plate with its chance; by the full run that is named, else quick. None with one body."""
    on, p = _printed(bundle, have), bundle.project
    if on.geometry.sections.bodies < 2:
        return None
    e, source = on.evaluation, p.part
    assert e.conditions is not None
    assert source is not None
    every = all_bodies(on)
    places = place_on_bed(np.array([[c.x, c.y] for c in every.corners]), source.placement)
    plate = surface_under(e, places)
    owner = np.array(every.corner_of)
    placed = []
    for n, part in enumerate(every.parts):
        own = owner == n
        contact = factors_at(part.process, texture_of(part), part.gaps, places[own])
        placed.append(Placed(part, places[own], plate[own], contact))
    judged = have(keys.JUDGEMENT.of(full=key["full"], bodies="all")).assessed["adhesion"]
    full = have(keys.FULL_RUN.of(resolution=key["full"], bodies="all")) if key["full"] else None
    by_run = None if full is None else np.array([full.corner_margins[owner == n].min() for n in range(len(placed))])
    return batch_of(placed, e.conditions, judged.margin, judged.spread, by_run)


@computes(keys.KEPT_RUN)
def kept(key: Key[FullRun], bundle: Bundle, have: Have, run: RunContext) -> FullRun:
    """A full run that the project file holds, of whatever state. Raises InputError where it is damaged or gone."""
    return opened(bundle, kept_entry(bundle.project, key["run"]))


@computes(keys.EXPECTED_TIMES)
def expected(key: Key[ExpectedTimes | None], bundle: Bundle, have: Have, run: RunContext) -> ExpectedTimes | None:
    """Time and memory of every resolution, by timing the solver on this part; None without one."""
    geometry = have(keys.GEOMETRY)
    if geometry is None:
        return None
    loose, together = hold_of(bundle.project.rig.bed), key["bodies"] == "all"
    found = {}
    for n, r in enumerate(CHOICES):
        run.checkpoint(n / len(CHOICES), "timing the solver on this part")
        if not together or geometry.sections.bodies == 1:
            found[r] = expected_seconds(geometry.body, r, loose)
        else:
            more = geometry.mesh.volume / geometry.body.volume
            found[r] = expected_seconds(geometry.mesh, r, loose, more, MOST_TOGETHER)
    return ExpectedTimes({r: t for r, (t, _) in found.items()}, {r: m for r, (_, m) in found.items()})


@computes(keys.CAUSES_AND_LEVERS)
def causes_and_levers(key: Key[CausesAndLevers], bundle: Bundle, have: Have, run: RunContext) -> CausesAndLevers:
    """Causes and levers of the part, ranked; their figures as a ``full`` run of the project corrects them, where one is told.

    Raises InputError without a part.
    """
    on, p, units = _printed(bundle, have), bundle.project, key["units"]
    e = on.evaluation
    assert p.part is not None
    assert e.part is not None
    assert e.conditions is not None
    if key["full"]:
        quick = have(keys.CAUSES_AND_LEVERS.of(units=units))
        full = have(keys.JUDGEMENT.of(full=key["full"], bodies=key["bodies"]))
        known = correction_of(e.judgement, full)
        causes = tuple(c.moved(known.off) for c in quick.causes)
        return CausesAndLevers(causes, judged_from(quick.levers, e.judgement, known), full, e.lift_limit)
    levers = levers_of(
        p.rig, p.settings, p.criteria, on.geometry.sections, p.process, p.part.placement, e, on.geometry.file, run, units,
        lying_otherwise(on.geometry, units),
    )  # fmt: skip
    placement = p.part.placement

    def plate(part: PartToPrint, at: Conditions) -> PlateLift | None:
        return loose_plate_of(p.rig, part, body_of(part, at), placement, p.criteria)

    return CausesAndLevers(causes_of(e.part, e.conditions, units, plate), levers, e.judgement, e.lift_limit)


@computes(keys.SHAPE_VARIANTS)
def shapes(key: Key[tuple[ShapeVariant, ...]], bundle: Bundle, have: Have, run: RunContext) -> tuple[ShapeVariant, ...]:
    """The part as drawn, with rounded corners and with relief slots, each run in full at draft resolution; as drawn comes first."""
    return shape_variants(_printed(bundle, have), key["units"], run)


def shape_variants(
    on: Printed, prefs: UnitPreferences = METRIC, run: RunContext | None = None
) -> tuple[ShapeVariant, ...]:
    """See :func:`shapes`. Raises :class:`Cancelled` when asked to stop."""
    run = run or RunContext()
    part = on.evaluation.part
    assert part is not None
    corners = part.sections.corners
    radius = 0.15 * float(min(on.geometry.body.size[:2]))
    tries: tuple[tuple[str, Carve | None], ...] = (
        ("As drawn", None),
        (f"Corners rounded by {show(radius, 'length', prefs, digits=0)}", lambda v: rounded(v, corners, radius)),
        ("Three relief slots in each long side, a quarter deep", slotted),
    )
    found = []
    for k, (name, carve) in enumerate(tries):

        def report(fraction: float, stage: str, k: int = k, name: str = name) -> None:
            run.checkpoint((k + fraction) / len(tries), f"{name}: {stage}")

        r = simulate(on, "draft", RunContext(report=report), carve=carve)
        released = float("nan") if r.stopped else r.released_lift
        found.append(ShapeVariant(name, r.printed_lift, released, r.hold_margin, float(r.detached[-1]), r.stopped))
    return tuple(found)


@computes(keys.COMPENSATION)
def compensation(key: Key[Compensated], bundle: Bundle, have: Have, run: RunContext) -> Compensated:
    """The part pre-deformed against a run's release, checked by a second run at the same resolution.

    Raises InputError when the run stopped early or holds several bodies.
    """
    on = _printed(bundle, have)
    found = have(keys.FULL_RUN.of(resolution=key["resolution"], bodies=key["bodies"]))
    if found.stopped:
        raise InputError("The part detached in the simulation: there is no released shape to compensate.")
    if found.owner is not None:
        raise InputError("Compensation is for one body: simulate the one that has most to hold by itself.")
    made = compensate(on.geometry.body, found, foot_flat=key["foot_flat"], run=run)
    checked, _ = check(made, found, lambda mesh: simulate(on, key["resolution"], run, mesh=mesh))
    return Compensated(made, checked)


def warped_stl(geometry: PartGeometry, found: FullRun) -> bytes:
    """The part as a run has it after release, as binary STL."""
    return stl_bytes(deformed(geometry.body, found, found.released))


@computes(keys.AGREEMENT)
def agreement(key: Key[Agreement], bundle: Bundle, have: Have, run: RunContext) -> Agreement:
    """The measured part beside a run. Raises InputError when nothing was measured."""
    source = bundle.project.part
    measured = source.measured if source is not None else None
    if measured is None:
        raise InputError("Nothing was measured: enter corner lifts or open a height map of the underside.")
    heights = None
    if measured.map:
        heights = read_matrix(bundle.originals[measured.map], measured.map) * METRES[measured.map_unit]
    found = have(keys.FULL_RUN.of(resolution=key["resolution"], bodies=key["bodies"]))
    # corners that all read nought beside a map were not entered
    entered = heights is None or any(c.lift > 0.0 for c in measured.corners)
    return compare_part(found, {c.name: c.lift for c in measured.corners} if entered else {}, heights)
