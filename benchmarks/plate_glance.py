"""The plate at a glance against a standard full simulation: the workshop's parts and blocks, polymers, chambers, copies.

Prints a row for every case, the share within a factor of 1.5 where either notices a gap, and the median time of a glance.
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

import numpy as np
from scipy.stats import spearmanr

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from tests.core.bodies import block

from mandorla.core.part.process import PartSource, Placement
from mandorla.core.project.samples import PARTS, sample, sample_part
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.units import celsius
from mandorla.core.warp.compensate import stl_bytes
from mandorla.core.warp.fe_result import NOTICED
from mandorla.core.warp.plate_lift_check import WITHIN

SHAPES = {
    "bar": (0.20, 0.03, 0.025),
    "block": (0.12, 0.06, 0.02),
    "plate": (0.15, 0.12, 0.010),
    "cube": (0.06, 0.06, 0.05),
}
PRINTS = (("pla", 60.0, 30.0), ("asa", 98.0, 35.0), ("asa", 98.0, 60.0), ("pc", 112.0, 60.0))


def cases() -> list[tuple[str, Bundle]]:
    """Name and project of every case."""
    base = sample("boathouse")
    found = [("winch cradle", base)]
    for key in PARTS:
        source, files = sample_part(key)
        found.append((source.name, Bundle(base.project.model_copy(update={"part": source}), files)))
    for name, size in SHAPES.items():
        data = stl_bytes(block(*size))
        for copies in (1, 2):
            source = PartSource(name=name, file="block.stl", placement=Placement(rows=copies, gap=0.02))
            for polymer, bed, chamber in PRINTS:
                p = base.project
                settings = p.settings.model_copy(
                    update={"bed_first": celsius(bed), "bed_rest": celsius(bed), "chamber": celsius(chamber)}
                )
                process = p.process.model_copy(update={"polymer": polymer})
                project = p.model_copy(update={"part": source, "settings": settings, "process": process})
                found.append((f"{name} x{copies} {polymer} {chamber:.0f}", Bundle(project, {"block.stl": data})))
    return found


def main() -> int:
    """Print the table."""
    pairs, seconds = [], []
    for name, bundle in cases():
        results = Results(bundle)
        e = results.get(keys.EVALUATION)
        began = time.perf_counter()
        look = results.get(keys.PLATE_LIFT)
        seconds.append(time.perf_counter() - began)
        if look is None:
            print(f"{name:24s} {e.fit_problem}")
            continue
        found = results.get(keys.FULL_RUN.of(resolution="standard", bodies="all"))
        gap, off = float(found.plate_lift.max()), "plate" in found.stopped
        pairs.append((look.gap, gap, look.off, off))
        print(
            f"{name:24s} glance {1e3 * look.gap:7.3f} mm {'off' if look.off else '':3s} {look.boxes:6d} boxes {seconds[-1]:5.2f} s "
            f"standard {1e3 * gap:7.3f} mm {'off' if off else '':3s} {found.seconds:5.1f} s", flush=True,
        )  # fmt: skip
    a, b, looked_off, went_off = (np.array(column) for column in zip(*pairs, strict=True))
    seen = (np.maximum(a, b) > NOTICED) & ~(looked_off & went_off)
    near = np.abs(np.log(a[seen] / b[seen])) <= np.log(WITHIN)
    print(f"rank correlation {spearmanr(a, b).statistic:.3f}; {len(pairs)} cases")
    print(f"gaps within a factor of {WITHIN:g}: {100 * near.mean():.0f} % of {seen.sum()} that are noticed and end")
    print(f"ln-standard deviation of those: {np.sqrt(np.mean(np.log(a[seen] / b[seen]) ** 2)):.3f}")
    print(f"off its seat or not: the same in {int(((a > NOTICED) == (b > NOTICED)).sum())} of {len(pairs)}")
    print(f"comes off altogether: the same in {int((looked_off == went_off).sum())}, of which {int(went_off.sum())} do")
    print(f"a glance takes {np.median(seconds):.2f} s (median), {max(seconds):.2f} s at most")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
