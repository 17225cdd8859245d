"""An emulator of the full simulation for the simulated workshop: twelve kinds of jobs, each as it is ordered and held fast (a brim,
and its loose sheet bonded to what is below: what Tune names first where nothing holds), some drafts of each at drawn settings and
drawn figures, kept in ``workshop_drafts.json``.

    .venv/bin/python benchmarks/workshop_emulator.py [--count 100] [--workers 2]

A margin of a print is the quick estimate's at its settings and figures (interpolated on a grid of settings, linear in the
unknowns), plus what the drafts say it is off by: linear in settings and unknowns, by ridge regression with a penalty that is chosen
by leaving one draft out. What is left over is printed.
"""

from __future__ import annotations

import argparse
import json
import math
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache
from multiprocessing import get_context
from pathlib import Path
from typing import Any, Final

import numpy as np
from stated_chances import at_settings

from mandorla.core.logbook.applied import grip_spread_of
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.results.warp import Printed, simulate
from mandorla.core.runtime import RunContext
from mandorla.core.tune.levers import hold_downs
from mandorla.core.tune.operating_point import Evaluation, judged_in_full
from mandorla.core.units import OFF
from mandorla.core.warp.unknowns import JOINTS, MAGNET, MOVED, moved

DRAFTS: Final = Path(__file__).with_name("workshop_drafts.json")
JOBS: Final[Mapping[str, tuple[str, str, str, float, float]]] = {
    "cradle, ABS": ("winch-cradle", "heated", "abs", 104.0, 60.0), "rack, PC": ("oar-rack", "heated", "pc", 120.0, 70.0),
    "channel, PA12": ("channel", "heated", "pa12", 95.0, 60.0), "disc, ABS": ("disc", "heated", "abs", 102.0, 60.0),
    "frame, ABS": ("hatch-frame", "heated", "abs", 102.0, 58.0), "angle, ABS": ("angle", "heated", "abs", 102.0, 60.0),
    "frame, PETG": ("hatch-frame", "passive", "petg", 80.0, 30.0), "rack, PETG": ("oar-rack", "passive", "petg", 80.0, 30.0),
    "disc, PETG": ("disc", "passive", "petg", 78.0, 30.0), "cuboid, PLA": ("cuboid", "open", "pla", 60.0, 25.0),
    "channel, PLA": ("channel", "open", "pla", 60.0, 25.0), "angle, PETG": ("angle", "open", "petg", 78.0, 25.0),
}  # fmt: skip
HELD: Final = ", held fast"  # after the name of a job
BRIM: Final = 0.008  # m
EVERY: Final = (*JOBS, *(job + HELD for job in JOBS))
WAYS: Final = ("adhesion", "flatness", "cracks", "loose_plate")
SPAN: Final = (15.0, 10.0)  # K about a job's plate and chamber
UNKNOWNS: Final = (*MOVED, JOINTS, MAGNET)
_GRID: Final = np.array([-1.0, 0.0, 1.0])
_MOST: Final = 4.0  # ln margin beyond which all are alike
_RIDGES: Final = (0.3, 1.0, 3.0, 10.0, 30.0)


def at(job: str, u: float, v: float) -> Bundle:
    """A job with its plate and chamber moved by shares of SPAN."""
    part, rig, polymer, bed, chamber = JOBS[job.removesuffix(HELD)]
    heated = rig == "heated"
    bundle = at_settings(part, rig, polymer, bed + SPAN[0] * u, chamber + (SPAN[1] * v if heated else 0.0))
    if not job.endswith(HELD):
        return bundle
    p = bundle.project
    changes = {"process": p.process.model_copy(update={"brim": BRIM}), "rig": hold_downs(p.rig)[-1][1]}
    return Bundle(p.model_copy(update=changes), bundle.originals)


def one_draft(task: tuple[str, int]) -> dict[str, Any]:
    """One draft of a job at drawn settings and figures."""
    job, seed = task
    rng = np.random.default_rng(seed)
    u, v = (float(x) for x in rng.uniform(-1.0, 1.0, 2))
    z = {name: float(x) for name, x in zip(UNKNOWNS, rng.standard_normal(len(UNKNOWNS)), strict=True)}
    return {"job": job, "seed": seed, "u": u, "v": v, "z": z, "margins": drafted(job, u, v, z)}


def drafted(job: str, u: float, v: float, z: Mapping[str, float]) -> dict[str, float]:
    """Margins of a draft at settings and figures, by way."""
    bundle = at(job, u, v)
    results, p = Results(bundle), bundle.project
    e: Evaluation = results.get(keys.EVALUATION)
    geometry = results.get(keys.GEOMETRY)
    assert geometry is not None
    assert e.part is not None
    assert e.conditions is not None
    part, conditions = moved(e.part, e.conditions, dict(z))
    there = Evaluation(**{f: getattr(e, f) for f in e.__slots__} | {"part": part, "conditions": conditions})
    run = simulate(Printed(bundle, geometry, there), "draft", RunContext(), together=True, magnet=z.get(MAGNET, 0.0))
    judged = judged_in_full(there, p.rig, p.settings, p.criteria, run).assessed
    return {k: float(judged[k].margin) for k in WAYS if k in judged and math.isfinite(judged[k].margin)}


@dataclass(frozen=True, slots=True)
class Node:
    """The quick estimate at one place of the grid: margins and parts by way, energy (J), plate and air (K)."""

    margins: dict[str, float]
    parts: dict[str, dict[str, float]]
    energy: float
    plate: float
    air: float
    courses: dict[str, tuple[tuple[float, ...], tuple[float, ...]]]


@cache
def nodes(job: str) -> dict[tuple[float, float], Node]:
    """The quick estimate on the grid of settings."""
    found = {}
    for u in _GRID:
        for v in _GRID:
            entry = Results(at(job, float(u), float(v))).get(keys.PRINT_ENTRY)
            said = {w: entry.evidence[w] for w in WAYS if w in entry.evidence}
            found[float(u), float(v)] = Node(
                {w: p.margin for w, p in said.items()}, {w: p.parts for w, p in said.items()}, entry.energy_predicted,
                entry.plate_at or OFF, entry.air_at or OFF, {w: (p.heights, p.margins) for w, p in said.items()},
            )  # fmt: skip
    return found


def weights(u: float, v: float) -> dict[tuple[float, float], float]:
    """Bilinear weights of the grid's places."""

    def hat(x: float) -> np.ndarray:
        return np.maximum(0.0, 1.0 - np.abs(np.clip(x, -1.0, 1.0) - _GRID))

    wu, wv = hat(u), hat(v)
    return {
        (float(a), float(b)): float(wu[i] * wv[j])
        for i, a in enumerate(_GRID)
        for j, b in enumerate(_GRID)
        if wu[i] * wv[j] > 0.0
    }


def quick(job: str, u: float, v: float) -> tuple[dict[str, float], dict[str, dict[str, float]], float]:
    """Margins, parts and energy of the quick estimate at settings."""
    at_nodes, w = nodes(job), weights(u, v)
    ways = at_nodes[0.0, 0.0].margins
    margins = {k: sum(x * at_nodes[n].margins.get(k, _MOST) for n, x in w.items()) for k in ways}
    parts = {
        k: {
            name: sum(x * at_nodes[n].parts.get(k, {}).get(name, 0.0) for n, x in w.items())
            for name in at_nodes[0.0, 0.0].parts[k]
        }
        for k in ways
    }
    return margins, parts, sum(x * at_nodes[n].energy for n, x in w.items())


def features(u: float, v: float, z: Mapping[str, float]) -> np.ndarray:
    """What the drafts' departure from the quick estimate is linear in."""
    return np.array([1.0, u, v, *(z.get(name, 0.0) for name in UNKNOWNS)])


@cache
def departures() -> dict[tuple[str, str], tuple[np.ndarray, float]]:
    """Coefficients and the root mean square of what is left over (leaving one out), by job and way."""
    rows = json.loads(DRAFTS.read_text(encoding="utf-8"))
    found = {}
    for job in EVERY:
        own = [r for r in rows if r["job"] == job]
        for way in WAYS:
            told = [r for r in own if way in r["margins"]]
            if len(told) < 8:
                continue
            X = np.array([features(r["u"], r["v"], r["z"]) for r in told])
            y = []
            for r in told:
                margins, parts, _ = quick(job, r["u"], r["v"])
                said = margins.get(way, _MOST) + sum(a * r["z"].get(n, 0.0) for n, a in parts.get(way, {}).items())
                y.append(min(r["margins"][way], _MOST) - min(said, _MOST))
            best = (np.zeros(X.shape[1]), math.inf)
            penalty = np.diag([0.0, *([1.0] * (X.shape[1] - 1))])
            for ridge in _RIDGES:
                inverse = np.linalg.inv(X.T @ X + ridge * penalty)
                coefficients = inverse @ X.T @ np.array(y)
                hat = np.einsum("ij,jk,ik->i", X, inverse, X)
                left = (np.array(y) - X @ coefficients) / (1.0 - hat)
                rms = float(np.sqrt((left**2).mean()))
                if rms < best[1]:
                    best = (coefficients, rms)
            found[job, way] = best
    return found


def true_margin(job: str, way: str, u: float, v: float, z: Mapping[str, float]) -> float:
    """The emulated full simulation's margin at settings and hidden figures."""
    margins, parts, _ = quick(job, u, v)
    said = margins.get(way, _MOST) + sum(a * z.get(n, 0.0) for n, a in parts.get(way, {}).items())
    coefficients, _ = departures().get((job, way), (np.zeros(3 + len(UNKNOWNS)), 0.0))
    return min(said, _MOST) + float(coefficients @ features(u, v, z))


def spread_of_grip(job: str) -> float:
    """ln standard deviation of the library's grip on a job's surface."""
    return grip_spread_of(at(job, 0.0, 0.0).project.process)


def write(rows: list[dict[str, Any]]) -> None:
    """Keep drafts, one a line, to six digits."""

    def short(value: Any) -> Any:
        if isinstance(value, dict):
            return {k: short(v) for k, v in value.items()}
        return float(f"{value:.6g}") if isinstance(value, float) else value

    ordered = sorted(rows, key=lambda r: (r["seed"], r["job"]))
    DRAFTS.write_text("[\n" + ",\n".join(json.dumps(short(r)) for r in ordered) + "\n]\n", encoding="utf-8")


def main() -> int:
    """Make the drafts, and say how well the emulator stands for them."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=100, help="drafts of each kind, as ordered and held fast")
    parser.add_argument("--workers", type=int, default=2)
    options = parser.parse_args()
    there = json.loads(DRAFTS.read_text(encoding="utf-8")) if DRAFTS.exists() else []
    known = {(r["job"], r["seed"]) for r in there}
    tasks = [(job, 1000 * n + k) for k in range(options.count) for n, job in enumerate(EVERY)]
    tasks = [t for t in tasks if t not in known]
    with get_context("spawn").Pool(options.workers) as pool:
        for n, row in enumerate(pool.imap_unordered(one_draft, tasks), start=1):
            there.append(row)
            if n % 12 == 0 or n == len(tasks):
                write(there)
                print(f"{n} of {len(tasks)} drafts", flush=True)
    for (job, way), (_, rms) in departures().items():
        print(f"{job:24s} {way:12s} left over, leaving one out: {rms:.2f} ln")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
