"""The full warp simulation of a project: from its evaluation to a run, in words, and as an answer of the command line."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any, cast

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.materials.library_data import joint_kinds
from mandorla.core.measure.heights import METRES, read_matrix
from mandorla.core.part.arrange import bodies_of, laid, sides_of
from mandorla.core.part.mesh import Floats, Mesh
from mandorla.core.part.process import Process
from mandorla.core.part.sections import Sections, slice_solid
from mandorla.core.project.answers import quantity
from mandorla.core.project.session import PartGeometry
from mandorla.core.project.store import Bundle
from mandorla.core.runtime import RunContext
from mandorla.core.tune.chances import Chances, chances_of, chances_sentence
from mandorla.core.tune.evaluate import Evaluation, place_on_bed, prepare_part
from mandorla.core.tune.levers import Cause, Lever, causes_of, largest_lift, levers_of, why_sentence
from mandorla.core.units import METRIC, UnitPreferences, show
from mandorla.core.warp.carve import rounded, slotted
from mandorla.core.warp.compensate import Checked, Compensation, check, compensate
from mandorla.core.warp.estimate import PartToPrint
from mandorla.core.warp.full import Resolution, expected_seconds
from mandorla.core.warp.full_case import Together, full_run, hold_of
from mandorla.core.warp.full_result import FullRun, corner_words
from mandorla.core.warp.measured import Agreement, agreement_sentence, compare_part
from mandorla.core.warp.together import MOST_TOGETHER
from mandorla.core.warp.voxels import Voxels


def simulate_bundle(
    bundle: Bundle, geometry: PartGeometry | None, e: Evaluation, resolution: Resolution = "standard",
    run: RunContext | None = None, show_part: Callable[[FullRun], None] | None = None, *,
    mesh: Mesh | None = None, carve: Callable[[Voxels], Voxels] | None = None, together: bool = False,
) -> FullRun:  # fmt: skip
    """Run the full simulation of a project's part at its settings; ``mesh`` takes the part's place, ``carve`` changes its boxes.

    Of several bodies, all on the plate ``together``, or the one by itself that has most to hold.

    Raises :class:`InputError` without a part, :class:`Cancelled`.
    """
    project = bundle.project
    if geometry is None or project.part is None or e.part is None or e.conditions is None:
        raise InputError("There is no part to simulate: open one first.")
    if e.fit_problem:
        raise InputError(e.fit_problem)
    placement = project.part.placement

    def plate_at(places: Floats) -> Floats:
        return np.asarray(
            e.rest.air + (e.rest.surface - e.rest.air) * e.heat.spread.at(place_on_bed(places, placement))
        )

    several = all_bodies(bundle, geometry) if together and geometry.sections.bodies > 1 else None
    return full_run(
        e.part, e.conditions, mesh or (geometry.body if several is None else geometry.mesh), project.rig.bed, placement, plate_at,
        resolution, run, show_part, carve=carve, together=several,
    )  # fmt: skip


def all_bodies(bundle: Bundle, geometry: PartGeometry) -> Together:
    """The bodies on the plate, numbered row by row from the front left, each with its own sections and print."""
    found = bodies_of(geometry.mesh)
    low = [b.vertices.min(axis=0) for b in found]
    order = sorted(range(len(found)), key=lambda k: (round(float(low[k][1]), 3), float(low[k][0])))
    known: dict[tuple[float, ...], tuple[Sections, PartToPrint, Floats]] = {}
    bodies, parts, corners, corner_of = [], [], [], []
    for n, k in enumerate(order):
        body = found[k]
        key = (len(body.faces), *np.round(body.size, 6).tolist(), round(1e9 * body.volume, 3))
        if key not in known:
            sections = slice_solid(body)
            part = prepare_part(replace(geometry.sections, body=sections), bundle.project.process, geometry.file)
            known[key] = sections, part, low[k]
        sections, part, at = known[key]
        dx, dy = (float(v) for v in (low[k] - at)[:2])
        bodies.append(body)
        parts.append(part)
        corners += [replace(c, x=c.x + dx, y=c.y + dy, name=f"{c.name}, body {n + 1}") for c in sections.corners]
        corner_of += [n] * len(sections.corners)
    return Together(tuple(bodies), tuple(parts), tuple(corners), tuple(corner_of), geometry.body)


def expected_of(
    bundle: Bundle, geometry: PartGeometry, resolution: Resolution, *, together: bool = False
) -> tuple[float, float]:
    """Seconds and bytes that a run will take, timed on this machine."""
    loose = hold_of(bundle.project.rig.bed)
    if not together or geometry.sections.bodies == 1:
        return expected_seconds(geometry.body, resolution, loose)
    more = geometry.mesh.volume / geometry.body.volume
    return expected_seconds(geometry.mesh, resolution, loose, more, MOST_TOGETHER)


def full_sentence(found: FullRun, prefs: UnitPreferences = METRIC, tears: bool = False) -> str:
    """What the full simulation says, first things first; ``tears`` as in :func:`release_words`."""
    corner = corner_words(found.corners[int(np.argmax(found.lift[-1]))])
    if found.stopped:
        height = show(float(found.height[-1]), "length", prefs)
        who = "The part" if found.owner is None else "The bodies together" if found.plate_off else "A body"
        return (
            f"{who} {found.stopped} at {height} of height: {found.fails_first(prefs) or 'the grip does not hold it'}."
        )
    lift = show(found.printed_lift, "length", prefs)
    released = show(found.released_lift, "length", prefs)
    first = found.fails_first(prefs)
    if first:
        text = f"{first[0].upper()}{first[1:]}; the {corner} stands {lift} high at the end of the print."
    else:
        text = f"Grip and plate hold: the {corner} rises {lift} by the end of the print."
    whose = "its underside is" if found.owner is None else f"the least flat of the {found.bodies} undersides is"
    text += f" Off the plate {whose} {released} off flat, as a straightedge would read."
    return text + f" {release_words(found, tears)}"


def release_words(found: FullRun, tears: bool = False) -> str:
    """What taking it off the plate needs; ``tears`` where the bond is known to be too strong for the surface."""
    if found.cold_detached > 0.5:
        return "Cooling peels it off by itself."
    if tears:
        return "Cold, it holds so hard that it will tear or chip the surface: put a release layer under it."
    return "When it has cooled, it needs a flex of the plate to come off."


def bond_too_strong(process: Process) -> bool:
    """Whether the polymer is known to tear or chip the plate's surface."""
    return process.polymer in process.plate().too_strong


def full_answer(found: FullRun, tears: bool = False) -> dict[str, Any]:
    """What ``mandorla warp --full --json`` prints; what would follow a run that stopped is null."""

    def known(value: float) -> float:
        return float("nan") if found.stopped else value

    return {
        "status": "stopped" if found.stopped else "complete",
        "sentence": full_sentence(found, tears=tears),
        "resolution": found.resolution,
        "boxes": found.voxels.count,
        "bodies": found.bodies,
        "box_edges": [quantity(s, "m") for s in found.voxels.size],
        "printed_lift": quantity(found.printed_lift, "m"),
        "released_flatness": quantity(known(found.released_lift), "m"),
        "hold_margin": quantity(float(found.margin[-1].min()), "1"),
        "detached_when_printed": quantity(float(found.detached[-1]), "1"),
        "detached_when_cold": quantity(known(found.cold_detached), "1"),
        "plate_lift": quantity(float(found.plate_lift.max()), "m"),
        "crack_index": quantity(known(float(found.crack.max(initial=0.0))), "1"),
        "crack_height": quantity(known(found.weak_layer), "m"),
        "corners": [
            {"name": c.name, "lift": quantity(float(v), "m"), "margin": quantity(float(m), "1")}
            for c, v, m in zip(found.corners, found.lift[-1], found.margin[-1], strict=True)
        ],
        "by_height": {
            "height": found.height.tolist(), "lift": found.lift.max(axis=1).tolist(), "detached": found.detached.tolist(),
            "plate_lift": found.plate_lift.tolist(), "unit": "m",
        },
        "seconds": quantity(found.seconds, "s"),
        "notes": list(found.notes),
    }  # fmt: skip


@dataclass(frozen=True, slots=True)
class ShapeLever:
    """A change of shape tried in the full simulation: highest corner printed, off flat after release (m), least margin, and the
    share of the foot that had let go; why the run stopped (empty: it did not), what it would have released to is then not known."""

    name: str
    printed: float
    released: float
    margin: float
    detached: float
    stopped: str = ""


def shape_levers(
    bundle: Bundle, geometry: PartGeometry, e: Evaluation, prefs: UnitPreferences = METRIC, run: RunContext | None = None,
) -> tuple[ShapeLever, ...]:  # fmt: skip
    """The part as drawn, with rounded corners and with relief slots, each run in full at draft resolution; as drawn comes first.

    Raises :class:`InputError` without a part, :class:`Cancelled`.
    """
    run = run or RunContext()
    assert e.part is not None
    corners = e.part.sections.corners
    radius = 0.15 * float(min(geometry.body.size[:2]))
    tries: tuple[tuple[str, Callable[[Voxels], Voxels] | None], ...] = (
        ("As drawn", None),
        (f"Corners rounded by {show(radius, 'length', prefs, digits=0)}", lambda v: rounded(v, corners, radius)),
        ("Three relief slots in each long side, a quarter deep", slotted),
    )
    found = []
    for k, (name, carve) in enumerate(tries):

        def report(fraction: float, stage: str, k: int = k, name: str = name) -> None:
            run.checkpoint((k + fraction) / len(tries), f"{name}: {stage}")

        r = simulate_bundle(bundle, geometry, e, "draft", RunContext(report=report), carve=carve)
        margin = float(r.margin[-1].min())
        released = float("nan") if r.stopped else r.released_lift
        found.append(ShapeLever(name, r.printed_lift, released, margin, float(r.detached[-1]), r.stopped))
    return tuple(found)


def chances_of_bundle(
    bundle: Bundle, e: Evaluation, full: FullRun | None = None, run: RunContext | None = None, gap: float | None = None
) -> Chances:
    """Probabilities of the failures of a project's part, anchored by a full run of the same state if there is one; else ``gap``
    (m) tells what the plate does at a glance.

    Raises :class:`InputError` without a part, :class:`Cancelled`.
    """
    if e.part is None or e.conditions is None:
        raise InputError("There is no part: open one first.")
    hold = hold_of(bundle.project.rig.bed)
    pull = joint_kinds()["magnetic"].pull if hold is not None and hold.pull > 0.0 else None
    return chances_of(e.part, e.conditions, e.heat, bundle.project.criteria, full, pull, run, gap)


def chances_answer(c: Chances) -> dict[str, Any]:
    """What ``mandorla warp --chances --json`` prints."""
    return {
        "status": "anchored by a full run" if c.anchored else "quick model by itself",
        "sentence": chances_sentence(c),
        "failures": [
            {"name": f.name, "probability": quantity(f.probability, "1"), "low": f.low, "high": f.high, "criterion": f.criterion}
            for f in (*c.failures, c.anything)
        ],
        "decides": c.decides,
        "range": list(c.range),
        "range_once_known": list(c.without),
        "ranges": {name: list(ends) for name, ends in c.ranges.items()},
        "unknowns": [{"name": u.name, "share": quantity(u.share, "1"), "test": u.test} for u in c.unknowns],
        "emulator_errors": dict(c.emulator),
        "draws": c.draws,
    }  # fmt: skip


def compensated_part(
    bundle: Bundle, geometry: PartGeometry, e: Evaluation, found: FullRun, *, foot_flat: bool = True, run: RunContext | None = None,
) -> tuple[Compensation, Checked]:  # fmt: skip
    """The part pre-deformed against a run's release, and what a second run of it at the same resolution says.

    Raises :class:`InputError` when the run stopped early, :class:`Cancelled`.
    """
    if found.stopped:
        raise InputError("The part came loose in the simulation: there is no released shape to compensate.")
    if found.owner is not None:
        raise InputError("Compensation is for one body: simulate the one that has most to hold by itself.")
    made = compensate(geometry.body, found, foot_flat=foot_flat)
    resolution = cast(Resolution, found.resolution)
    checked, _ = check(made, found, lambda mesh: simulate_bundle(bundle, geometry, e, resolution, run, mesh=mesh))
    return made, checked


def compensation_answer(made: Compensation, c: Checked) -> dict[str, Any]:
    """What ``mandorla warp --compensate --json`` prints."""
    return {
        "status": "checked",
        "sentence": compensation_sentence(made, c),
        "largest_shift": quantity(made.largest, "m"),
        "off_as_drawn_rms": quantity(c.plain_rms, "m"),
        "off_compensated_rms": quantity(c.rms, "m"),
        "off_as_drawn": quantity(c.plain_largest, "m"),
        "off_compensated": quantity(c.largest, "m"),
        "top_as_drawn": quantity(c.plain_top, "m"),
        "top_compensated": quantity(c.top, "m"),
    }


def compensation_sentence(made: Compensation, c: Checked, prefs: UnitPreferences = METRIC) -> str:
    """What compensating brings, in words."""
    before, after = (show(v, "length", prefs, digits=3) for v in (c.plain_rms, c.rms))
    top = ", ".join(show(v, "length", prefs, digits=3) for v in (c.plain_top, c.top))
    return (
        f"Pre-deformed by up to {show(made.largest, 'length', prefs)}, the released part is {after} off the drawing (rms) instead "
        f"of {before}, as a second simulation finds; its top reads {top} off flat, before and after."
    )


def measured_agreement(bundle: Bundle, found: FullRun) -> Agreement:
    """The project's measured part beside a run. Raises :class:`InputError` when nothing was measured."""
    source = bundle.project.part
    measured = source.measured if source is not None else None
    if measured is None:
        raise InputError("Nothing was measured: enter corner lifts or open a height map of the underside.")
    heights = None
    if measured.map:
        heights = read_matrix(bundle.originals[measured.map], measured.map) * METRES[measured.map_unit]
    # corners that all read nought beside a map were not entered
    entered = heights is None or any(c.lift > 0.0 for c in measured.corners)
    return compare_part(found, {c.name: c.lift for c in measured.corners} if entered else {}, heights)


def agreement_answer(a: Agreement) -> dict[str, Any]:
    """How a measured part compares, as JSON."""
    return {
        "status": "within what is not known" if a.within else "beyond what is not known",
        "sentence": agreement_sentence(a),
        "measured_over_predicted": quantity(a.factor, "1"),
        "scatter": quantity(a.scatter, "1"),
        "map_over_predicted": quantity(a.map_factor, "1"),
        "map_left_over": quantity(a.map_left, "m"),
        "map_correlation": quantity(a.map_alike, "1"),
        "corners": [
            {"name": c.name, "predicted": quantity(c.predicted, "m"), "measured": quantity(c.measured, "m")} for c in a.corners
        ],
    }  # fmt: skip


def shapes_answer(found: Sequence[ShapeLever]) -> dict[str, Any]:
    """What ``mandorla warp --shapes --json`` prints."""
    whole = [s for s in found if not s.stopped]
    best = min(whole, key=lambda s: s.released) if whole else None
    flattest = (
        f"Flattest off the plate: {best.name[0].lower()}{best.name[1:]}, {show(best.released, 'length')}."
        if best
        else ""
    )
    return {
        "status": "complete" if len(whole) == len(found) else "some stopped",
        "sentence": flattest or "No shape came to its end: each pulled the plate off or came loose.",
        "tried": [
            {"name": s.name, "printed_lift": quantity(s.printed, "m"), "released_flatness": quantity(s.released, "m"),
             "hold_margin": quantity(s.margin, "1"), "detached": quantity(s.detached, "1"), "stopped": s.stopped}
            for s in found
        ],
    }  # fmt: skip


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


def why_of(
    bundle: Bundle,
    geometry: PartGeometry,
    e: Evaluation,
    prefs: UnitPreferences = METRIC,
    run: RunContext | None = None,
) -> tuple[tuple[Cause, ...], tuple[Lever, ...]]:
    """Causes and levers of a project's part, ranked. Raises :class:`InputError` without a part, :class:`Cancelled`."""
    p = bundle.project
    if p.part is None or e.part is None or e.conditions is None:
        raise InputError("There is no part: open one first.")
    levers = levers_of(
        p.rig, p.settings, p.criteria, geometry.sections, p.process, p.part.placement, e, geometry.file, run, prefs,
        lying_otherwise(geometry, prefs),
    )  # fmt: skip
    return causes_of(e.part, e.conditions, prefs), levers


def why_answer(e: Evaluation, causes: Sequence[Cause], levers: Sequence[Lever]) -> dict[str, Any]:
    """What ``mandorla warp --why --json`` prints."""
    assert e.warp is not None
    return {
        "status": e.state.value,
        "sentence": why_sentence(e.warp, causes, levers),
        "hold_margin": quantity(e.warp.margin, "1"),
        "lift": quantity(largest_lift(e.warp), "m"),
        "causes": [
            {"name": c.name, "without": c.without, "hold_margin": quantity(c.margin, "1"), "lift": quantity(c.lift, "m")}
            for c in causes
        ],
        "levers": [
            {"name": v.name, "hold_margin": quantity(v.margin, "1"), "lift": quantity(v.lift, "m"),
             "crack_index": quantity(v.crack, "1"), "print_time": quantity(v.duration, "s"), "energy": quantity(v.energy, "J"),
             "barred": v.barred}
            for v in levers
        ],
    }  # fmt: skip
