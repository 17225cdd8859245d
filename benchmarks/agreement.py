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

from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.thermal.heatup import HeatUp, drift, heat_up
from mandorla.core.thermal.surface_history import ready_time, surface_history


def look_closer(
    rig: Rig, use: Settings, criteria: Criteria, end: float, quick: HeatUp, found: float
) -> tuple[float, ...]:
    """Ready times (min) of the quick, the 3-D and the refined 3-D model, both models' drifts (K/min) at the earlier one, and
    between which ready times (min) the refined 3-D model moves when the limit of the drift is 20 % lower and higher."""
    fine = surface_history(rig, use, end, cells=28, every=60.0, dt=1.0, refine=2)
    at = min(found, quick.ready_time)
    curves = ((quick.time, quick.surface), (fine.time, fine.centre))
    drifts = (60.0 * abs(float(np.interp(at, time, drift(time, curve)))) for time, curve in curves)
    either = [criteria.model_copy(update={"ready_drift": factor * criteria.ready_drift}) for factor in (1.2, 0.8)]
    moved = (ready_time(fine, use.bed_first, other) / 60.0 for other in either)
    return (quick.ready_time / 60.0, found / 60.0, ready_time(fine, use.bed_first, criteria) / 60.0, *drifts, *moved)


def main() -> int:
    """Print the table."""
    warnings.simplefilter("ignore")
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    rng, criteria = np.random.default_rng(11), Criteria()
    centre, ready, missed = [], [], []
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
            if abs(ready[-1] - 1.0) > 0.05:
                missed.append(look_closer(rig, use, criteria, end, quick, found))
    print(f"{len(centre)} of {count} random rigs became ready")
    for name, values in (("soaked centre, 3-D minus quick, K", centre), ("ready time, 3-D over quick", ready)):
        v = np.array(values)
        print(f"{name:38s} median {np.median(v):7.3f}   5 % {np.percentile(v, 5):7.3f}   95 % {np.percentile(v, 95):7.3f}   "
              f"extremes {v.min():7.3f} {v.max():7.3f}")  # fmt: skip
    within = float(np.mean(np.abs(np.array(ready) - 1.0) <= 0.05))
    limit = 60 * criteria.ready_drift
    print(f"ready time within 5 % in {100 * within:.1f} % of them; of the others, with the limit at {limit:.2f} K/min:")
    print("  quick, min   3-D, min   3-D refined, min   drift at the earlier moment, quick and 3-D, K/min   "
          "3-D refined with the limit 20 % higher and lower, min")  # fmt: skip
    for row in missed:
        print("".join(f"{value:12.2f}" for value in row))
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
