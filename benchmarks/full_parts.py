"""Full simulations of the workshop's parts, timed and beside what was told before: draft and standard, opening grip, loose sheet.

Usage: full_parts.py [draft] [standard] ; also the two cases that the targets name, grip opening on a rigid plate: a solid block of
48 thousand boxes with 20 blocks and a thin-walled box at 5 mm.
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from tests.core.bodies import block, box, corners, ground, layers

from mandorla.core.part.mesh import Mesh
from mandorla.core.project.samples import PARTS, sample, sample_part
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.warp.fe_model import Boxes, FeCase
from mandorla.core.warp.fe_result import FullRun
from mandorla.core.warp.fe_simulation import simulate


def line(name: str, told: float, found: FullRun, seconds: float) -> None:
    """One row."""
    print(
        f"{name:26s} {found.resolution:9s} {found.voxels.count:7d} boxes  told {told:6.1f} s  took {seconds:6.1f} s  "
        f"{found.solves:4d} solves {found.iterations:5d} iterations  let go {found.detached[-1]:.2f}  {found.stopped}", flush=True,
    )  # fmt: skip


def main() -> int:
    """Print the table."""
    base = sample("boathouse")
    cases = [("winch cradle", base)]
    for key in PARTS:
        source, files = sample_part(key)
        cases.append(
            (source.name, Bundle(base.project.model_copy(update={"part": source}), {**base.originals, **files}))
        )
    for name, bundle in cases:
        results = Results(bundle)
        results.get(keys.EVALUATION)
        expected = results.get(keys.EXPECTED_TIMES.of(bodies="one"))
        assert expected is not None
        for resolution in sys.argv[1:] or ["draft", "standard"]:
            told = expected.seconds[resolution]
            began = time.perf_counter()
            found = results.get(keys.FULL_RUN.of(resolution=resolution, bodies="one"))
            line(name, told, found, time.perf_counter() - began)
    held = ground(strength=1e9, energy=1e9, breakable=False)
    for edge in (0.005, 0.0025):
        began = time.perf_counter()
        solid = simulate(
            FeCase(block(0.30, 0.20, 0.10), corners(0.30, 0.20), layers(fresh=1.0e-3), held, 0.36),
            Boxes(edge=edge, thickest=0.005),
        )
        line("the same block, bonded", np.nan, solid, time.perf_counter() - began)
    on = ground(strength=1e6, energy=150.0)
    size = (0.30, 0.20, 0.10)
    began = time.perf_counter()
    solid = simulate(
        FeCase(block(*size), corners(*size[:2]), layers(fresh=1.0e-3), on, 0.36), Boxes(edge=0.005, thickest=0.005)
    )
    line("block 300 x 200 x 100", np.nan, solid, time.perf_counter() - began)
    outer, inner = box(0.30, 0.20, 0.20), box(0.29, 0.19, 0.195)
    walls = np.concatenate([outer[0], inner[0] + np.array([0.0, 0.0, 0.005])])
    thin = Mesh(walls, np.concatenate([outer[1], inner[1][:, ::-1] + 8]), ())
    began = time.perf_counter()
    shell = simulate(FeCase(thin, corners(0.30, 0.20), layers(fresh=1.0e-3), on, 0.36), Boxes(edge=0.005))
    line("box 300 x 200 x 200, 5 mm", np.nan, shell, time.perf_counter() - began)
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
