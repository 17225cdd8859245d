"""How well the quick model agrees with the three-dimensional one over random rigs: soaked centre and ready time.

Usage: agreement.py [COUNT] ; prints the spread of both differences. Rigs are drawn as people build them (tests/core/rigs.py).
"""

from __future__ import annotations

import sys
import warnings
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from tests.core.rigs import make_rig, settings

from mandorla.core.rig.settings import Criteria
from mandorla.core.thermal.heatup import heat_up
from mandorla.core.thermal.surface_history import ready_time, surface_history


def draw(rng: np.random.Generator) -> tuple[object, object]:
    """A random rig and its settings."""
    width, depth = rng.uniform(0.18, 0.5, 2)
    rig = make_rig(
        width=width, depth=depth, power=rng.uniform(0.3, 1.0) * 1e4 * 0.81 * width * depth, enclosed=bool(rng.integers(2)),
        chamber_heater=float(rng.choice([0.0, 400.0])), room=rng.uniform(10.0, 30.0), plate=rng.uniform(0.004, 0.012),
        foam=rng.uniform(0.003, 0.02), air_changes=rng.uniform(1.0, 20.0), circulation=float(rng.choice([0.0, 0.5])),
    )  # fmt: skip
    return rig, settings(rng.uniform(60.0, 110.0), rng.uniform(30.0, 60.0))


def main() -> int:
    """Print the table."""
    warnings.simplefilter("ignore")
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    rng, criteria = np.random.default_rng(11), Criteria()
    centre, ready = [], []
    for _ in range(count):
        rig, use = draw(rng)
        quick = heat_up(rig, use, criteria, with_bands=False)
        if quick.status != "ready":
            continue
        end = float(min(quick.time[-1], quick.ready_time + 1500.0))
        solid = surface_history(rig, use, end, cells=14, every=60.0)
        centre.append(solid.centre[-1] - quick.at(end, quick.surface))
        found = ready_time(solid, use.bed_first, criteria)
        if np.isfinite(found):
            ready.append(found / quick.ready_time)
    print(f"{len(centre)} of {count} random rigs became ready")
    for name, values in (("soaked centre, 3-D minus quick, K", centre), ("ready time, 3-D over quick", ready)):
        v = np.array(values)
        print(f"{name:38s} median {np.median(v):7.3f}   5 % {np.percentile(v, 5):7.3f}   95 % {np.percentile(v, 95):7.3f}   "
              f"extremes {v.min():7.3f} {v.max():7.3f}")  # fmt: skip
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
