"""What ``mandorla warp`` says, as plain objects: SI values with their units, stable names, the status."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from mandorla.cli.command import judgement_answer
from mandorla.cli.energy import energy_band
from mandorla.cli.output import band, finite, quantity
from mandorla.core.failure.chances import batch_sentence, chances_sentence, deciding_unknowns, factor_range
from mandorla.core.failure.messages import limit_sentence
from mandorla.core.failure.words import full_headline, headline
from mandorla.core.project.models import Project
from mandorla.core.project.paths import arguments_to
from mandorla.core.tune.messages import why_sentence
from mandorla.core.units import UnitPreferences, show
from mandorla.core.warp.messages import agreement_sentence, compensation_sentence

if TYPE_CHECKING:
    from mandorla.core.results.types import (
        Agreement,
        Batch,
        CausesAndLevers,
        Compensated,
        Evaluation,
        FullRun,
        Judgement,
        PlateLift,
        ShapeVariant,
    )


def quick_answer(
    e: Evaluation, judgement: Judgement, units: UnitPreferences, full: FullRun | None = None
) -> dict[str, Any]:
    """What ``mandorla warp --json`` prints: the judgement, the quick figures and those of the full run that it is by."""
    w = e.warp
    assert w is not None
    assert e.energy is not None
    assert e.part is not None
    return {
        "status": judgement.whole.value,
        "sentence": headline(judgement, units),
        "hold_margin": quantity(w.margin, "1"),
        "hold_margin_ln_spread": quantity(w.spread("margin"), "1"),
        "learned_from_prints": e.part.learned.prints,
        "hold_probability": quantity(w.hold_probability, "1"),
        "weakest_corner": w.corners[w.weakest].corner.name,
        "let_go_height": quantity(w.let_go_height, "m"),
        "let_go_layer": w.let_go_layer,
        "printed_lift": band(w.printed_lift, *w.band("lift", w.printed_lift), "m"),
        "released_lift": band(w.released_lift, *w.band("released", w.released_lift), "m"),
        "crack_index": quantity(w.crack_index, "1"),
        "crack_height": quantity(w.crack_height, "m"),
        "coldest_surface": quantity(e.coldest, "K"),
        "foot_on_even_zone": quantity(e.even_foot, "1"),
        "print_time": quantity(e.part.plan.duration, "s"),
        "mass": quantity(e.part.plan.mass, "kg"),
        "energy": energy_band(e.energy),
        "cost": e.energy.cost,
        "limits": [
            {"name": c.name, "state": c.state.value, "value": c.value, "limit": c.limit,
             "unit": "W" if c.kind == "power" else "K", "reason": c.reason}
            for c in e.limits
        ],
        "limit_sentence": limit_sentence(e.limits, units),
        "fit_problem": e.fit_problem,
        "notes": list(w.notes),
        "plate": None if e.plate is None else plate_answer(e.plate),
        "full": None if full is None else full_figures(full),
        "judgement": judgement_answer(judgement, units),
    }  # fmt: skip


def _unless_stopped(found: FullRun, value: float) -> float:
    """A figure of what follows the print, not known where the run stopped before its end."""
    return float("nan") if found.stopped else value


def full_figures(found: FullRun) -> dict[str, Any]:
    """The figures of a full run that stand beside the quick ones; null is what would follow a run that stopped."""
    return {
        "resolution": found.resolution,
        "printed_lift": quantity(found.printed_lift, "m"),
        "released_flatness": quantity(_unless_stopped(found, found.released_lift), "m"),
        "hold_margin": quantity(found.hold_margin, "1"),
        "detached_when_printed": quantity(float(found.detached[-1]), "1"),
        "plate_lift": quantity(float(found.plate_lift.max()), "m"),
        "crack_index": quantity(_unless_stopped(found, float(found.crack.max(initial=0.0))), "1"),
    }


def plate_answer(plate: PlateLift) -> dict[str, Any]:
    """What a loose plate does by the quick model."""
    return {
        "gap": quantity(plate.gap, "m"), "stands": quantity(plate.stands, "1"), "noticed_from": quantity(plate.height, "m"),
        "comes_off": plate.off,
    }  # fmt: skip


def full_answer(
    found: FullRun, judgement: Judgement, units: UnitPreferences, tears: bool = False, kept: str = ""
) -> dict[str, Any]:
    """What ``mandorla warp --full --json`` prints; what would follow a run that stopped is null. ``kept`` is the day on which a run
    that comes from the project file was kept."""

    return {
        "status": judgement.whole.value,
        "sentence": full_headline(judgement, found, units, tears),
        **full_figures(found),
        "boxes": found.voxels.count,
        "bodies": found.bodies,
        "box_edges": [quantity(s, "m") for s in found.voxels.size],
        "detached_when_cold": quantity(_unless_stopped(found, found.cold_detached), "1"),
        "crack_height": quantity(_unless_stopped(found, found.weak_layer), "m"),
        "corners": [
            {"name": c.name, "lift": quantity(float(v), "m"), "margin": quantity(float(m), "1")}
            for c, v, m in zip(found.corners, found.lift[-1], found.corner_margins, strict=True)
        ],
        "by_height": {
            "height": found.height.tolist(), "lift": found.lift.max(axis=1).tolist(), "detached": found.detached.tolist(),
            "plate_lift": found.plate_lift.tolist(), "unit": "m",
        },
        "seconds": quantity(found.seconds, "s"),
        "kept": kept,
        "notes": list(found.notes),
        "judgement": judgement_answer(judgement, units),
    }  # fmt: skip


def copies_answer(b: Batch, linked: bool) -> dict[str, Any]:
    """Copies on the plate, as JSON."""
    return {
        "sentence": batch_sentence(b, linked),
        "lost_on_average": quantity(b.lost, "1"),
        "probability_of_any": quantity(b.any, "1"),
        "copies": [
            {"number": c.number, "x": quantity(c.x, "m"), "y": quantity(c.y, "m"), "plate": quantity(c.plate, "K"),
             "hold_margin": quantity(c.margin, "1"), "probability": quantity(c.chance, "1")}
            for c in b.copies
        ],
    }  # fmt: skip


def probability_answer(j: Judgement, batch: Batch | None = None, linked: bool = False) -> dict[str, Any]:
    """What ``mandorla warp --chances --json`` prints: the judgement's own chances, and what decides each; copies, where there
    are."""
    known = {k: a for k, a in j.counted.items() if a.parts}
    return {
        "status": j.whole.value,
        "sentence": chances_sentence(j),
        "failures": [
            {"key": k, "name": j.titles[k], "probability": quantity(a.probability, "1"), "ratio": list(factor_range(a)),
             "unknowns": [{"name": u.name, "share": quantity(u.share, "1"), "test": u.test} for u in deciding_unknowns(a)]}
            for k, a in known.items() if not a.checks
        ],
        "probability_of_any": quantity(j.anything, "1"),
        "copies": None if batch is None else copies_answer(batch, linked),
        "source": next((a.source for k, a in known.items() if k == "adhesion"), "quick"),
    }  # fmt: skip


def compensation_answer(found: Compensated, units: UnitPreferences) -> dict[str, Any]:
    """What ``mandorla warp --compensate --json`` prints."""
    made, c = found.made, found.checked
    return {
        "status": "checked",
        "sentence": compensation_sentence(made, c, units),
        "largest_shift": quantity(made.largest, "m"),
        "off_as_drawn_rms": quantity(c.plain_rms, "m"),
        "off_compensated_rms": quantity(c.rms, "m"),
        "off_as_drawn": quantity(c.plain_largest, "m"),
        "off_compensated": quantity(c.largest, "m"),
        "top_as_drawn": quantity(c.plain_top, "m"),
        "top_compensated": quantity(c.top, "m"),
    }


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


def shapes_answer(found: Sequence[ShapeVariant], units: UnitPreferences) -> dict[str, Any]:
    """What ``mandorla warp --shapes --json`` prints."""
    whole = [s for s in found if not s.stopped]
    best = min(whole, key=lambda s: s.released) if whole else None
    flattest = (
        f"Flattest off the plate: {best.name[0].lower()}{best.name[1:]}, {show(best.released, 'length', units)}."
        if best
        else ""
    )
    return {
        "status": "complete" if len(whole) == len(found) else "some stopped",
        "sentence": flattest or "No shape was completed: each pulled the plate off or detached.",
        "tried": [
            {"name": s.name, "printed_lift": quantity(s.printed, "m"), "released_flatness": quantity(s.released, "m"),
             "hold_margin": quantity(s.margin, "1"), "detached": quantity(s.detached, "1"), "stopped": s.stopped}
            for s in found
        ],
    }  # fmt: skip


def why_answer(found: CausesAndLevers, units: UnitPreferences, project: Project) -> dict[str, Any]:
    """What ``mandorla warp --why --json`` prints."""
    causes, levers, now = found.causes, found.levers, found.now
    return {
        "status": found.judgement.whole.value,
        "sentence": why_sentence(now.margin, found.judgement.anything, causes, levers, units),
        "hold_margin": quantity(now.margin, "1"),
        "lift": quantity(now.lift, "m"),
        "causes": [
            {"name": c.name, "without": c.without, "hold_margin": quantity(c.margin, "1"), "lift": quantity(c.lift, "m")}
            for c in causes
        ],
        "levers": [
            {"name": v.name, "hold_margin": quantity(v.margin, "1"), "lift": quantity(v.lift, "m"),
             "crack_index": quantity(v.crack, "1"), "print_time": quantity(v.duration, "s"), "energy": quantity(v.energy, "J"),
             "probability_of_any": finite(v.chance), "simulated": v.simulated, "moves": v.moves, "barred": v.barred,
             "set": list(arguments_to(project, v.changes or {}))}
            for v in levers
        ],
    }  # fmt: skip
