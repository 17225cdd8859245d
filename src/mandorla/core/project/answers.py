"""The answers of the command line as plain objects: SI values with their units, stable names, the status."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from mandorla.core.measure.compare import Comparison, record_text, row_text
from mandorla.core.measure.fit import RigFit
from mandorla.core.project.cautions import CHECK_CAUTION, FAULT_CAUTION
from mandorla.core.project.models import Project
from mandorla.core.thermal.bow import Bow
from mandorla.core.thermal.faults import FaultRun
from mandorla.core.thermal.heatup import from_bed, from_chamber
from mandorla.core.thermal.unknowns import CurveBands
from mandorla.core.tune.evaluate import Evaluation
from mandorla.core.tune.rig_checks import RigCheck
from mandorla.core.tune.sentences import (
    fault_sentence,
    fault_state,
    heat_up_sentence,
    limit_sentence,
    tune_sentence,
    warp_sentence,
)
from mandorla.core.tune.verdict import worst_of
from mandorla.core.tune.window import Point, Window


def quantity(value: float, unit: str) -> dict[str, Any]:
    """A number with its unit; None stands for what does not exist (never ready, nothing let go)."""
    return {"value": float(value) if math.isfinite(value) else None, "unit": unit}


def _finite(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None


def band(value: float, low: float, high: float, unit: str) -> dict[str, Any]:
    """A number with its 90 % range and unit."""
    return {**quantity(value, unit), "low": float(low), "high": float(high)}


def heatup_answer(e: Evaluation, bow: Bow, project: Project, sampled: CurveBands) -> dict[str, Any]:
    """What ``mandorla heatup --json`` prints; ``sampled`` are the bands of the curves."""
    heat = e.heat
    bands = {k: band(b.value, b.low, b.high, "W" if k == "power" else "K") for k, b in heat.bands.items()}
    until = heat.ready_time if math.isfinite(heat.ready_time) else float(heat.time[-1])
    flows = from_chamber(heat.steady.flows) if project.rig.chamber.enclosed else {}
    out = {k: quantity(v, "W") for k, v in flows.items()}
    return {
        "status": heat.status,
        "sentence": heat_up_sentence(heat),
        "surface": bands.get("surface", quantity(heat.steady.surface, "K")),
        "chamber_air": bands.get("air", quantity(heat.steady.air, "K")),
        "holding_power": bands.get("power", quantity(heat.steady.power, "W")),
        "chamber_power": quantity(heat.steady.chamber_power, "W"),
        "offset": quantity(heat.offset, "K"),
        "ready_time": quantity(heat.ready_time, "s"),
        "ready_time_sampled": {
            "low": _finite(sampled.ready[0]),
            "median": _finite(sampled.ready[1]),
            "high": _finite(sampled.ready[2]),
            "unit": "s",
            "samples": sampled.samples,
            "never": sampled.never,
        },
        "unknowns": [
            {"name": name, "surface_low": low, "surface_high": high, "unit": "K"}
            for name, low, high in sampled.one_at_a_time
        ],
        "lower_air": quantity(heat.steady.lower_air, "K"),
        "plate_ready_time": quantity(heat.plate_ready_time, "s"),
        "chamber_ready_time": quantity(heat.chamber_ready_time, "s"),
        "frame_ready_time": quantity(heat.frame_ready_time, "s"),
        "energy_to_ready": quantity(heat.at(until, heat.energy), "J"),
        "peak_power": quantity(float((heat.power + heat.chamber_power).max()), "W"),
        "bow_soaked": band(bow.end, bow.low, bow.high, "m"),
        "bow_largest": quantity(bow.largest, "m"),
        "bow_settled": quantity(bow.settled, "s"),
        "where_the_heat_went": {k: quantity(float(v), "J") for k, v in heat.ledger.items()},
        "duty_to_hold": quantity(heat.steady.power / project.rig.bed.heater.power, "1"),
        "steady_off_the_bed": {k: quantity(v, "W") for k, v in from_bed(heat.steady.flows).items()},
        "steady_out_of_the_chamber": out,
        "from_the_bed": {k: quantity(float(v), "J") for k, v in heat.from_bed.items()},
        "balance_closure": quantity(heat.closure, "1"),
        "notes": list(heat.notes),
    }


def warp_answer(e: Evaluation) -> dict[str, Any]:
    """What ``mandorla warp --json`` prints."""
    w = e.warp
    if w is None or e.energy is None or e.part is None:
        return {"status": "no part", "sentence": warp_sentence(e)}
    return {
        "status": e.state.value,
        "sentence": warp_sentence(e),
        "hold_margin": quantity(w.margin, "1"),
        "hold_margin_ln_spread": quantity(w.margin_spread, "1"),
        "hold_probability": quantity(w.hold_probability, "1"),
        "weakest_corner": w.corners[w.weakest].corner.name,
        "let_go_height": quantity(w.let_go_height, "m"),
        "let_go_layer": w.let_go_layer,
        "printed_lift": band(w.printed_lift, w.lift_low, w.lift_high, "m"),
        "released_lift": band(w.released_lift, w.released_low, w.released_high, "m"),
        "crack_index": quantity(w.crack_index, "1"),
        "crack_height": quantity(w.crack_height, "m"),
        "coldest_surface": quantity(e.coldest, "K"),
        "foot_on_even_zone": quantity(e.even_foot, "1"),
        "print_time": quantity(e.part.plan.duration, "s"),
        "mass": quantity(e.part.plan.mass, "kg"),
        "energy": quantity(e.energy.total, "J"),
        "cost": e.energy.cost,
        "limits": [
            {"name": c.name, "state": c.state.value, "value": c.value, "limit": c.limit,
             "unit": "W" if c.kind == "power" else "K", "reason": c.reason}
            for c in e.limits
        ],
        "limit_sentence": limit_sentence(e.limits),
        "fit_problem": e.fit_problem,
        "notes": list(w.notes),
    }  # fmt: skip


def fault_answer(run: FaultRun) -> dict[str, Any]:
    """What ``mandorla fault --json`` prints."""
    fuse = run.first_fuse
    return {
        "status": fault_state(run).value,
        "sentence": fault_sentence(run),
        "fault": run.fault.key,
        "start": run.start,
        "advice": run.fault.advice,
        "first_fuse_time": quantity(fuse.time if fuse is not None else math.nan, "s"),
        "damaged": list(run.damaged),
        "events": [
            {"time": quantity(e.time, "s"), "kind": e.kind, "layer": e.layer, "limit": quantity(e.limit, "K")}
            for e in run.events
        ],
        "peak": {name: quantity(float(T), "K") for name, T in zip(run.names, run.peak, strict=True)},
        "rating": {name: quantity(float(T), "K") for name, T in zip(run.names, run.ratings, strict=True)},
        "rise_first_minute": quantity(float((run.layers[:61].max(axis=1)[-1] - run.layers[0].max()) / 60.0), "K/s"),
        "cautions": FAULT_CAUTION,
    }


def checks_answer(checks: Sequence[RigCheck]) -> dict[str, Any]:
    """What ``mandorla check --json`` prints."""
    return {
        "status": worst_of(*(c.state for c in checks)).value,
        "checks": [
            {"key": c.key, "title": c.title, "state": c.state.value, "finding": c.finding, "reason": c.reason} for c in checks
        ],
        "cautions": CHECK_CAUTION,
    }  # fmt: skip


def _point(p: Point | None) -> dict[str, Any] | None:
    if p is None:
        return None
    return {
        "bed": quantity(p.bed, "K"), "chamber": quantity(p.chamber, "K"), "hold_margin": quantity(p.margin, "1"),
        "hold_probability": quantity(p.hold_probability, "1"), "lift": quantity(p.lift, "m"),
        "crack_index": quantity(p.crack, "1"), "energy": quantity(p.energy, "J"),
    }  # fmt: skip


def tune_answer(w: Window, e: Evaluation, project: Project) -> dict[str, Any]:
    """What ``mandorla tune --json`` prints."""
    return {
        "status": w.status,
        "sentence": tune_sentence(w, e, project.settings, project.criteria),
        "present": _point(w.present),
        "cheapest": _point(w.cheapest),
        "nearest": _point(w.nearest),
        "bound_by": w.binding,
        "almond_share": quantity(float(w.almond.mean()), "1"),
        "points": list(w.margin.shape),
        "fit_error_ln_margin": quantity(w.fit_error, "1"),
    }


def verify_answer(c: Comparison, project: Project) -> dict[str, Any]:
    """One session against the prediction."""
    soak = c.soak
    records = [r for r in project.measurements.records if r.session == c.session]
    return {
        "status": c.state,
        "session": c.session,
        "verdict": {"holds": "agrees", "marginal": "doubtful", "fails": "disagrees"}[c.state],
        "sentence": c.sentence,
        "rows": [
            {
                "what": r.what, "kind": r.kind, "measured": r.measured, "expanded_95": r.expanded, "predicted": r.predicted,
                "low_90": r.low if math.isfinite(r.low) else None,
                "high_90": r.high if math.isfinite(r.high) else None, "limit": r.limit, "verdict": r.state,
                "measured_text": row_text(r)[0],
                "predicted_text": row_text(r)[1],
            }
            for r in c.rows
        ],
        "suspects": [
            {"name": s.name, "before": s.before, "after": s.after, "explains": s.explained} for s in c.suspects
        ],
        "places": [
            {
                "place": s.place, "x": s.x, "y": s.y, "time": s.time, "value": s.estimate.value, "unit": "K",
                "expanded_95": s.estimate.expanded, "consistent": s.estimate.consistent,
                "left_out": [text for _, _, text in s.estimate.left_out],
            }
            for s in c.spots
        ],
        "soak": None if soak is None else {
            "settled": soak.settled, "end": quantity(soak.end, "K"), "end_low": soak.end_low, "end_high": soak.end_high,
            "wait": quantity(soak.wait, "s"), "wait_low": soak.wait_low, "wait_high": soak.wait_high,
        },
        "energy": None if c.energy is None else {
            "base": quantity(c.energy.base, "W"), "peak": quantity(c.energy.peak, "W"),
            "steady": quantity(c.energy.steady, "W"), "steady_predicted": quantity(c.energy.steady_predicted, "W"),
            "phases": [
                {"name": p.name, "measured": quantity(p.measured, "J"), "predicted": quantity(p.predicted, "J")}
                for p in c.energy.phases
            ],
        },
        "oddities": list(c.oddities),
        "record": record_text(records[-1], project.rig) if records else None,
    }  # fmt: skip


def fit_answer(fit: RigFit, used: Sequence[str]) -> dict[str, Any]:
    """A fit: what was learned about each unknown, and what was not."""
    best = sorted(fit.learned, key=lambda v: v.share)[:3]
    words = "; ".join(f"{v.name} {v.after} (was {v.before})" for v in best)
    return {
        "status": fit.status,
        "sentence": f"Fitted to {', '.join(used)}. Best known now: {words}.",
        "learned": [
            {"name": v.name, "before": v.before, "after": v.after, "z": v.z, "range_left": v.share, "at_bound": v.at_bound}
            for v in fit.learned
        ],
        "correlation": [[float(c) for c in row] for row in fit.correlation],
        "tied": [{"one": a, "other": b, "correlation": r} for a, b, r in fit.tied],
        "not_identifiable": list(fit.unlearned),
        "measure_next": [{"what": w, "helps": n, "range_left": left} for w, n, left in fit.advice],
        "series": [
            {"name": s.observation.name, "session": s.session, "rms_before": s.rms_before, "rms_after": s.rms_after,
             "offset": s.offset}
            for s in fit.series
        ],
        "birge": fit.birge,
    }  # fmt: skip
