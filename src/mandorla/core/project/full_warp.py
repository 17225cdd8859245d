"""The full warp simulation of a project: from its evaluation to a run, in words, and as an answer of the command line."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.part.mesh import Floats, Mesh
from mandorla.core.project.answers import quantity
from mandorla.core.project.session import PartGeometry
from mandorla.core.project.store import Bundle
from mandorla.core.runtime import RunContext
from mandorla.core.tune.evaluate import Evaluation, place_on_bed
from mandorla.core.tune.levers import Cause, Lever, causes_of, largest_lift, levers_of, why_sentence
from mandorla.core.units import METRIC, UnitPreferences, show
from mandorla.core.warp.carve import rounded, slotted
from mandorla.core.warp.full import Resolution, expected_seconds
from mandorla.core.warp.full_case import full_run, hold_of
from mandorla.core.warp.full_result import FullRun
from mandorla.core.warp.voxels import Voxels


def simulate_bundle(
    bundle: Bundle, geometry: PartGeometry | None, e: Evaluation, resolution: Resolution = "standard",
    run: RunContext | None = None, show_part: Callable[[FullRun], None] | None = None, *,
    mesh: Mesh | None = None, carve: Callable[[Voxels], Voxels] | None = None,
) -> FullRun:  # fmt: skip
    """Run the full simulation of a project's part at its settings; ``mesh`` takes the part's place, ``carve`` changes its boxes.

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

    return full_run(
        e.part,
        e.conditions,
        mesh or geometry.body,
        project.rig.bed,
        placement,
        plate_at,
        resolution,
        run,
        show_part,
        carve=carve,
    )


def expected_of(bundle: Bundle, geometry: PartGeometry, resolution: Resolution) -> tuple[float, float]:
    """Seconds and bytes that a run will take, timed on this machine."""
    return expected_seconds(geometry.body, resolution, hold_of(bundle.project.rig.bed) is not None)


def full_sentence(found: FullRun, prefs: UnitPreferences = METRIC) -> str:
    """What the full simulation says, first things first."""
    corner = found.corners[int(np.argmax(found.lift[-1]))].name
    if found.stopped:
        height = show(float(found.height[-1]), "length", prefs)
        return f"The part {found.stopped} at {height} of height: {found.fails_first(prefs) or 'the grip does not hold it'}."
    lift = show(found.printed_lift, "length", prefs)
    released = show(found.released_lift, "length", prefs)
    first = found.fails_first(prefs)
    if first:
        text = f"{first[0].upper()}{first[1:]}; the {corner} corner stands {lift} high at the end of the print."
    else:
        text = f"Grip and plate hold: the {corner} corner rises {lift} by the end of the print."
    text += f" Off the plate its underside is {released} off flat, as a straightedge would read."
    return text + f" {release_words(found)}"


def release_words(found: FullRun) -> str:
    """What taking it off the plate needs."""
    if found.cold_detached > 0.5:
        return "Cooling peels it off by itself."
    return "When it has cooled, it needs a flex of the plate to come off."


def full_answer(found: FullRun) -> dict[str, Any]:
    """What ``mandorla warp --full --json`` prints."""
    return {
        "status": "stopped" if found.stopped else "complete",
        "sentence": full_sentence(found),
        "resolution": found.resolution,
        "boxes": found.voxels.count,
        "box_edges": [quantity(s, "m") for s in found.voxels.size],
        "printed_lift": quantity(found.printed_lift, "m"),
        "released_flatness": quantity(found.released_lift, "m"),
        "hold_margin": quantity(float(found.margin[-1].min()), "1"),
        "detached_when_printed": quantity(float(found.detached[-1]), "1"),
        "detached_when_cold": quantity(found.cold_detached, "1"),
        "plate_lift": quantity(float(found.plate_lift.max()), "m"),
        "crack_index": quantity(float(found.crack.max()), "1"),
        "crack_height": quantity(found.weak_layer, "m"),
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
    share of the foot that had let go."""

    name: str
    printed: float
    released: float
    margin: float
    detached: float


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
        found.append(ShapeLever(name, r.printed_lift, r.released_lift, margin, float(r.detached[-1])))
    return tuple(found)


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
        p.rig, p.settings, p.criteria, geometry.sections, p.process, p.part.placement, e, geometry.file, run, prefs
    )
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
