"""How well the quick model agrees with the three-dimensional one over random rigs: soaked centre and ready time.

Usage: agreement.py [COUNT] ; prints the spread of both differences. Rigs are drawn as people build them (tests/core/rigs.py).
"""

from __future__ import annotations

import sys
import warnings
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from tests.core.rigs import drawn_rig

from mandorla.core.rig.settings import Criteria
from mandorla.core.thermal.heatup import heat_up
from mandorla.core.thermal.surface_history import ready_time, surface_history


def main() -> int:
    """Print the table."""
    warnings.simplefilter("ignore")
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    rng, criteria = np.random.default_rng(11), Criteria()
    centre, ready = [], []
    for _ in range(count):
        rig, use = drawn_rig(rng)
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
    within = float(np.mean(np.abs(np.array(ready) - 1.0) <= 0.05))
    print(f"ready time within 5 % in {100 * within:.0f} % of them")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
