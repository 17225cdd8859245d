"""The condensed loose plate against full simulations: shapes seen and unseen, polymers of both classes, on a magnet sheet.

Usage: plate_lift.py [--resolution draft] ; prints a row for every case, rank, the share within a factor of 1.5 where the gap
is noticed, and in how many both agree that the accepted gap is passed.
"""

from __future__ import annotations

import argparse
import time
from concurrent.futures import ProcessPoolExecutor
from functools import partial

import numpy as np
from scipy.stats import binomtest, spearmanr
from shapes import MATERIALS, SEEN, UNSEEN, Case, prepared, run_full

from mandorla.core.project.samples import sample
from mandorla.core.warp.condensed_plate import plate_lift
from mandorla.core.warp.estimate import body_of, condensed_of
from mandorla.core.warp.fe_case import hold_of
from mandorla.core.warp.fe_result import NOTICED

LIMIT = 6e-4  # m of gap that is accepted
OTHERS = ("slab", "cuboid", "tall box", "channel", "disc")


def cases() -> list[Case]:
    """Every shape in every other material, at its colder chamber."""
    shapes = [*SEEN, *OTHERS]
    return [
        Case(shape, polymer, surface, plate, chambers[0])
        for n, shape in enumerate(shapes)
        for k, (polymer, surface, plate, chambers) in enumerate(MATERIALS)
        if (n + k) % 2 == 0
    ]


def compared(case: Case, resolution: str) -> tuple[Case, float, bool, float, bool, float, float]:
    """Full gap (m) and whether it came off, the same by the quick model, seconds of both."""
    mesh = {**SEEN, **UNSEEN}[case.shape]()
    part, at = prepared(case, mesh)
    bed = sample("boathouse").project.rig.bed
    hold = hold_of(bed)
    assert hold is not None
    full = run_full(case, mesh, part, at, bed, resolution)  # type: ignore[arg-type]
    plate_lift(condensed_of(part, body_of(part, at), hold, (0.0, 0.0)), LIMIT)
    began = time.perf_counter()
    quick = plate_lift(condensed_of(part, body_of(part, at), hold, (0.0, 0.0)), LIMIT)
    return (
        case,
        float(full.plate_lift.max()),
        full.plate_off,
        quick.gap,
        quick.off,
        full.seconds,
        time.perf_counter() - began,
    )


def main() -> int:
    """Print the table."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--resolution", default="draft")
    options = parser.parse_args()
    with ProcessPoolExecutor(2) as pool:
        rows = list(pool.map(partial(compared, resolution=options.resolution), cases()))
    for case, gap, off, quick, quick_off, slow, fast in rows:
        print(f"{case.shape:9s} {case.polymer:7s} full {1e3 * gap:7.3f} mm {'off' if off else '   '}  quick {1e3 * quick:7.3f} mm "
              f"{'off' if quick_off else '   '}  {slow:5.1f} s against {1e3 * fast:4.0f} ms")  # fmt: skip
    x = np.array([10.0 if off else gap for _, gap, off, *_ in rows])
    y = np.array([10.0 + q if off else q for _, _, _, q, off, *_ in rows])
    noticed = (x > NOTICED) & (x < 10.0) & (y < 10.0)
    near = np.abs(np.log(np.maximum(y, 1e-6) / np.maximum(x, 1e-6)))[noticed] <= np.log(1.5)
    ends = binomtest(int(near.sum()), near.size).proportion_ci(method="wilson")
    print(f"{len(rows)} cases: rank {spearmanr(x, y).statistic:.3f}; noticed gaps within 1.5 {100 * near.mean():.0f} % "
          f"({100 * ends.low:.0f} to {100 * ends.high:.0f}) of {near.size}; accepted or not alike in "
          f"{100 * np.mean((x > LIMIT) == (y > LIMIT)):.0f} %")  # fmt: skip
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
