"""Are stated chances true: six parts, thirty full drafts each at sampled inputs, against what the judgement of one draft states.

Usage: stated_chances.py [--count N] [--workers N] ; inputs are drawn from the unknowns that the chances are computed with. Pooled
over the parts, the stated 90 % range of the likeliest failure's margin holds 85 to 95 % of the drafts; the count of each failure
lies in the 95 % binomial interval of the chance that was stated. Errors of the models themselves are in what is stated but not in
the drafts, whose ranges then hold more: a second line and the column *real* draw them, too, as a real part would have them.
"""

from __future__ import annotations

import argparse
from dataclasses import dataclass
from multiprocessing import get_context
from typing import Final

import numpy as np
from scipy.stats import binom, binomtest
from suggestions import Case, bundle_of

from mandorla.core.failure.registry import Assessment
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.results.warp import Printed, simulate
from mandorla.core.runtime import RunContext
from mandorla.core.tune.operating_point import Evaluation, judged_in_full
from mandorla.core.tune.window_map import LOADS
from mandorla.core.units import celsius
from mandorla.core.warp.unknowns import JOINTS, MAGNET, MOVED, Z90, moved

# part, rig, polymer; plate and chamber (°C) at which chances are neither nought nor one
CASES: Final = (
    ("winch-cradle", "heated", "abs", 104.0, 60.0), ("oar-rack", "heated", "pc", 125.0, 75.0),
    ("hatch-frame", "passive", "petg", 78.0, 30.0), ("cuboid", "open", "pla", 60.0, 30.0),
    ("channel", "heated", "pa12", 95.0, 65.0), ("disc", "heated", "abs", 105.0, 62.0),
)  # fmt: skip
FAR: Final = 2.9  # ln margin from which all are alike: far above


@dataclass(frozen=True, slots=True)
class Found:
    """What was stated of a case, and what its drafts said: margin, spread and chance by failure; margins by draft, and with the
    models' own errors drawn as well."""

    case: str
    likeliest: str
    stated: dict[str, tuple[float, float, float]]
    drafts: list[dict[str, float]]
    as_real: list[dict[str, float]]


def at_settings(part: str, rig: str, polymer: str, bed: float, chamber: float) -> Bundle:
    """A case as a project."""
    bundle = bundle_of(Case(part, rig, polymer))
    put = bundle.project.settings.model_copy(
        update={"bed_first": celsius(bed), "bed_rest": celsius(bed), "chamber": celsius(chamber)}
    )
    return Bundle(bundle.project.model_copy(update={"settings": put}), bundle.originals)


def loads(assessed: dict[str, Assessment]) -> dict[str, Assessment]:
    """The failures that a full simulation says something of; tipping is by the quick estimate alone."""
    return {k: a for k, a in assessed.items() if k in LOADS and k != "tipping" and a.parts}


def sampled(job: tuple[tuple[str, str, str, float, float], int]) -> Found:
    """One case: the judgement of its draft, and ``count`` drafts at drawn inputs."""
    case, count = job
    bundle = at_settings(*case)
    results, p = Results(bundle), bundle.project
    e: Evaluation = results.get(keys.EVALUATION)
    geometry = results.get(keys.GEOMETRY)
    assert geometry is not None
    assert e.part is not None
    assert e.conditions is not None
    stated = loads(results.get(keys.JUDGEMENT.of(full="draft", bodies="all")).assessed)
    rng, drafts, as_real = np.random.default_rng(21), [], []
    names = (*MOVED, JOINTS, MAGNET)
    own = sorted({n for a in stated.values() for n in a.parts if n not in names})
    errors = np.random.default_rng(22)
    for _ in range(count):
        z = dict(zip(names, (float(v) for v in rng.standard_normal(len(names))), strict=True))
        part, at = moved(e.part, e.conditions, z)
        there = Evaluation(**{f: getattr(e, f) for f in e.__slots__} | {"part": part, "conditions": at})
        run = simulate(Printed(bundle, geometry, there), "draft", RunContext(), together=True, magnet=z[MAGNET])
        judged = judged_in_full(there, p.rig, p.settings, p.criteria, run).assessed
        drafts.append({k: judged[k].margin for k in stated if k in judged})
        drawn = dict(zip(own, errors.standard_normal(len(own)), strict=True))
        as_real.append({
            k: m + sum(stated[k].parts.get(n, 0.0) * v for n, v in drawn.items()) for k, m in drafts[-1].items()
        })  # fmt: skip
    likeliest = max(stated, key=lambda k: min(stated[k].probability, 1.0 - stated[k].probability))
    figures = {k: (a.margin, a.spread, a.probability) for k, a in stated.items()}
    return Found(", ".join(case[:3]), likeliest, figures, drafts, as_real)


def held(read: np.ndarray, margin: float, spread: float) -> int:
    """How many margins the stated 90 % range holds."""
    low, high = margin - Z90 * spread, margin + Z90 * spread
    above = np.minimum(read, FAR) >= min(low, FAR) - 1e-9
    return int((above & (read <= max(high, 0.0) + (high > FAR) * 9)).sum())


def main() -> int:
    """Print a row for every failure of every case, then the sums."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--count", type=int, default=30)
    parser.add_argument("--workers", type=int, default=2)
    options = parser.parse_args()
    inside = total = agreed = counted = real = agreed_real = 0
    print(
        f"{'case':28s} {'failure':12s} {'stated':>7s} {'fails':>9s}  real  {'95 % of stated':>14s}  {'in the 90 % range':>18s}"
    )
    with get_context("spawn").Pool(options.workers, maxtasksperchild=2) as pool:
        for found in pool.imap(sampled, [(case, options.count) for case in CASES]):
            for key, (margin, spread, chance) in found.stated.items():
                read = np.array([d[key] for d in found.drafts if key in d])
                fails = int((read < 0.0).sum())
                low, high = (int(v) for v in binom.interval(0.95, read.size, chance))
                as_real = np.array([d[key] for d in found.as_real if key in d])
                failed_real = int((as_real < 0.0).sum())
                agreed_real += low <= failed_real <= high
                inside_here = held(read, margin, spread)
                agreed, counted = agreed + (low <= fails <= high), counted + 1
                mark = ""
                if key == found.likeliest:
                    inside, total, mark = inside + inside_here, total + read.size, " *"
                    real += held(as_real, margin, spread)
                print(f"{found.case:28s} {key:12s} {100 * chance:6.1f}% {fails:4d} of {read.size:2d}  {failed_real:4d}  "
                      f"{low:6d} to {high:3d}    {inside_here:8d} of {read.size:2d}{mark}", flush=True)  # fmt: skip
    interval = binomtest(inside, total).proportion_ci(method="wilson")
    print(f"* pooled: 90 % ranges hold {inside} of {total}, {100 * inside / total:.0f} % ({100 * interval.low:.0f} to "
          f"{100 * interval.high:.0f} % at 95 %); asked for 85 to 95 %")  # fmt: skip
    interval = binomtest(real, total).proportion_ci(method="wilson")
    print(f"  with the models' own errors drawn, too: {real} of {total}, {100 * real / total:.0f} % ({100 * interval.low:.0f} to "
          f"{100 * interval.high:.0f} % at 95 %)")  # fmt: skip
    print(
        f"counts inside the binomial interval of what was stated: {agreed} of {counted}; {agreed_real} with the models' own errors"
    )
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
