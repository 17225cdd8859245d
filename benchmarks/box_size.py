"""How much the full simulation depends on its boxes: five shapes from standard to fine, opening grip, rigid plate.

Also prints seconds, boxes and iterations. Usage: box_size.py [--weak] ; with ``--weak`` three shapes of ABS in cold air on a weak
grip (2 MPa, 300 J/m²), from draft to fine.
"""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from shapes import Case, hollow, prepared, rigid_bed, run_full
from shapes import box as cuboid
from tests.core.bodies import block, box

from mandorla.core.materials.values import Value
from mandorla.core.part.mesh import Mesh
from mandorla.core.part.process import Placement, Process
from mandorla.core.part.sections import slice_solid
from mandorla.core.project.samples import sample
from mandorla.core.tune.operating_point import prepare_part
from mandorla.core.units import celsius
from mandorla.core.warp.estimate import Conditions
from mandorla.core.warp.fe_case import PrintedPart, full_run
from mandorla.core.warp.fe_model import Boxes
from mandorla.core.warp.fe_result import FullRun


def frame() -> Mesh:
    """A flat frame of 160 x 120 mm, 24 mm wide, 15 mm tall."""
    outer, inner = box(0.16, 0.12, 0.015), box(0.112, 0.072, 0.015)
    return Mesh(np.concatenate([outer[0], inner[0]]), np.concatenate([outer[1], inner[1][:, ::-1] + 8]), ())


SHAPES = {
    "bar": block(0.20, 0.03, 0.025), "block": block(0.12, 0.06, 0.02), "plate": block(0.15, 0.12, 0.010),
    "cube": block(0.06, 0.06, 0.05), "frame": frame(),
}  # fmt: skip


def simulated(mesh: Mesh, resolution: str) -> FullRun:
    """One run in ASA at a chamber of 40 °C."""
    bed = sample("boathouse").project.rig.bed
    bed = bed.model_copy(update={"layers": tuple(x.model_copy(update={"bonded": True}) for x in bed.layers)})
    part = prepare_part(slice_solid(mesh), Process(polymer="asa", surface="polyetherimide_textured"))
    hot = celsius(98.0)
    at = Conditions(hot, hot, np.full(len(part.sections.corners), hot), celsius(40.0), 0.2, celsius(22.0))
    return full_run(
        PrintedPart(part, at, mesh, bed, Placement(), lambda p: np.full(len(p), hot)),
        Boxes(resolution),  # type: ignore[arg-type]
    )


def weak_grip() -> None:
    """Print the lifts of three shapes that a weak grip lets go of, at each resolution."""
    shapes = {
        "block 200": cuboid(0.2, 0.06, 0.02), "tray": hollow(0.236, 0.084, 0.047, 0.003, 0.003),
        "block 100": cuboid(0.1, 0.06, 0.03),
    }  # fmt: skip
    for name, mesh in shapes.items():
        case = Case(name, "abs", "polyetherimide_smooth", 100.0, 30.0)
        part, at = prepared(case, mesh)
        grip = part.surface.grip["abs"]
        strength, energy = (Value(0.5 * v, v, 2.0 * v, "weak on purpose") for v in (2e6, 300.0))
        held = replace(grip, strength=strength, fracture_energy=energy)
        part = replace(part, surface=replace(part.surface, grip={**part.surface.grip, "abs": held}))
        runs = [run_full(case, mesh, part, at, rigid_bed(), r) for r in ("draft", "standard", "fine")]
        told = (f"{r.resolution} {1e3 * r.printed_lift:.2f} mm, let go {r.detached[-1]:.2f}" for r in runs)
        print(f"{name:10s} {'  '.join(told)}", flush=True)


def main() -> int:
    """Print the table."""
    if "--weak" in sys.argv:
        weak_grip()
        return 0
    for name, mesh in SHAPES.items():
        runs = [simulated(mesh, r) for r in ("standard", "fine")]
        for r in runs:
            print(
                f"{name:6s} {r.resolution:9s} {r.voxels.count:7d} boxes  lift {1e3 * r.printed_lift:6.3f} mm  released "
                f"{1e3 * r.released_lift:6.3f} mm  let go {r.detached[-1]:.3f}  margin {r.hold_margin:.3f}  "
                f"{r.iterations:5d} iterations {r.seconds:6.1f} s", flush=True,
            )  # fmt: skip
        a, b = runs
        lift, released = b.printed_lift / a.printed_lift - 1, b.released_lift / a.released_lift - 1
        gone, margin = b.detached[-1] - a.detached[-1], b.hold_margin / a.hold_margin - 1
        print(f"{name:6s} change  lift {lift:+.3f}  released {released:+.3f}  let go {gone:+.3f}  margin {margin:+.3f}")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
