"""Shapes and cases of the benchmarks: plain bodies on a plate, each printed of some material at some temperatures.

``SEEN`` shapes are those that the quick estimate is calibrated on, ``UNSEEN`` those that judge it.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Final

import numpy as np
import trimesh

ROOT: Final = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT))

from mandorla.core.part.mesh import Mesh  # noqa: E402
from mandorla.core.part.process import Placement, Process  # noqa: E402
from mandorla.core.part.sections import slice_solid  # noqa: E402
from mandorla.core.project.samples import sample  # noqa: E402
from mandorla.core.rig.bed import Bed  # noqa: E402
from mandorla.core.tune.operating_point import prepare_part  # noqa: E402
from mandorla.core.units import celsius  # noqa: E402
from mandorla.core.warp.estimate import Conditions, PartToPrint, estimate_warp  # noqa: E402
from mandorla.core.warp.fe_case import PrintedPart, full_run  # noqa: E402
from mandorla.core.warp.fe_model import Boxes, Resolution  # noqa: E402
from mandorla.core.warp.fe_result import FullRun  # noqa: E402

Box = tuple[float, float, float]


def _boxes(*parts: tuple[Box, Box], without: Sequence[tuple[Box, Box]] = ()) -> Mesh:
    """Boxes of ``(size, middle of the underside)`` joined, others taken away."""

    def solid(size: Box, at: Box) -> trimesh.Trimesh:
        found = trimesh.creation.box(size)
        found.apply_translation((at[0], at[1], at[2] + 0.5 * size[2]))
        return found

    whole = trimesh.boolean.union([solid(*p) for p in parts], engine="manifold") if len(parts) > 1 else solid(*parts[0])
    if without:
        whole = trimesh.boolean.difference([whole, *(solid(*p) for p in without)], engine="manifold")
    return Mesh(np.array(whole.vertices), np.array(whole.faces), ())


def box(x: float, y: float, z: float) -> Mesh:
    """A solid box (m)."""
    return _boxes(((x, y, z), (0, 0, 0)))


def hollow(x: float, y: float, z: float, wall: float, floor: float = 0.0) -> Mesh:
    """Four walls, with a floor or without (m)."""
    inner = ((x - 2 * wall, y - 2 * wall, 2 * z), (0.0, 0.0, floor if floor > 0.0 else -0.5 * z))
    return _boxes(((x, y, z), (0, 0, 0)), without=[inner])


def disc(radius: float, height: float, hole: float = 0.0) -> Mesh:
    """A disc, or a ring (m)."""
    found = trimesh.creation.cylinder(radius, height, sections=48)
    if hole > 0.0:
        found = trimesh.boolean.difference(
            [found, trimesh.creation.cylinder(hole, 2 * height, sections=48)], engine="manifold"
        )
    found.apply_translation((0, 0, 0.5 * height))
    return Mesh(np.array(found.vertices), np.array(found.faces), ())


SEEN: Final[dict[str, Callable[[], Mesh]]] = {
    "bar": partial(box, 0.20, 0.03, 0.025),
    "block": partial(box, 0.12, 0.06, 0.02),
    "plate": partial(box, 0.15, 0.12, 0.010),
    "cube": partial(box, 0.06, 0.06, 0.05),
    "sheet": partial(box, 0.16, 0.10, 0.004),
    "tower": partial(box, 0.04, 0.04, 0.12),
    "frame": partial(hollow, 0.15, 0.10, 0.06, 0.004),
    "tray": partial(hollow, 0.18, 0.12, 0.03, 0.004, 0.004),
    "rim": partial(hollow, 0.10, 0.10, 0.02, 0.010),
    "bin": partial(hollow, 0.10, 0.08, 0.06, 0.004, 0.004),
}
UNSEEN: Final[dict[str, Callable[[], Mesh]]] = {
    "long bar": partial(box, 0.14, 0.02, 0.04),
    "slab": partial(box, 0.22, 0.14, 0.006),
    "cuboid": partial(box, 0.09, 0.09, 0.035),
    "angle": lambda: _boxes(((0.16, 0.03, 0.015), (0, -0.035, 0)), ((0.03, 0.10, 0.015), (-0.065, 0, 0))),
    "tee": lambda: _boxes(((0.18, 0.05, 0.008), (0, 0, 0)), ((0.18, 0.010, 0.05), (0, 0, 0))),
    "ring": partial(disc, 0.06, 0.025, 0.048),
    "column": partial(box, 0.03, 0.06, 0.10),
    "tall box": partial(hollow, 0.12, 0.12, 0.10, 0.005),
    "channel": lambda: _boxes(
        ((0.20, 0.06, 0.006), (0, 0, 0)), ((0.20, 0.006, 0.04), (0, -0.027, 0)), ((0.20, 0.006, 0.04), (0, 0.027, 0))
    ),
    "disc": partial(disc, 0.05, 0.015),
}
# polymer, surface, plate's surface in °C, chambers in °C
MATERIALS: Final = (
    ("pla", "polyetherimide_textured", 60.0, (20.0, 32.0)),
    ("petg", "polyetherimide_textured", 72.0, (22.0, 38.0)),
    ("abs", "polyetherimide_smooth", 100.0, (30.0, 55.0, 75.0)),
    ("pc", "polyetherimide_smooth", 115.0, (50.0, 85.0)),
    ("pa12", "glass_fibre_laminate", 90.0, (25.0, 60.0)),
    ("pp", "bare_glass+glue", 85.0, (25.0, 60.0)),
    ("pa6_gf", "glass_fibre_laminate", 90.0, (30.0, 70.0)),
    ("peek", "polyetherimide_smooth", 150.0, (90.0, 140.0)),
)


def under(surface: str) -> dict[str, str]:
    """What a process says of the plate, of ``surface`` or ``surface+coating``."""
    name, _, coating = surface.partition("+")
    return {"surface": name, "coating": coating}


@dataclass(frozen=True, slots=True)
class Case:
    """One shape of one material at one plate and chamber temperature (°C)."""

    shape: str
    polymer: str
    surface: str
    plate: float
    chamber: float
    fan: float = 0.2


def cases_of(shapes: Sequence[str], each: int | None = None) -> list[Case]:
    """All shapes in all materials and chambers; of each shape only ``each`` of them, another choice from shape to shape."""
    every = [(p, s, plate, chamber) for p, s, plate, chambers in MATERIALS for chamber in chambers]
    found = []
    for n, shape in enumerate(shapes):
        pick = every if each is None else [every[(n * 5 + k * 7) % len(every)] for k in range(each)]
        found += [Case(shape, *c) for c in pick]
    return found


def rigid_bed() -> Bed:
    """A bed whose plate cannot lift."""
    bed = sample("boathouse").project.rig.bed
    return bed.model_copy(update={"layers": tuple(x.model_copy(update={"bonded": True}) for x in bed.layers)})


def prepared(case: Case, mesh: Mesh, **more: float) -> tuple[PartToPrint, Conditions]:
    """The part and its temperatures, the same under the whole foot."""
    part = prepare_part(slice_solid(mesh), Process(polymer=case.polymer, **under(case.surface), **more))  # type: ignore[arg-type]
    hot = celsius(case.plate)
    corners = np.full(len(part.sections.corners), hot)
    return part, Conditions(hot, hot, corners, celsius(case.chamber), case.fan, celsius(min(case.chamber, 22.0)))


def run_full(case: Case, mesh: Mesh, part: PartToPrint, at: Conditions, bed: Bed, resolution: Resolution) -> FullRun:
    """The full simulation of a case on a bed."""
    hot = celsius(case.plate)
    return full_run(PrintedPart(part, at, mesh, bed, Placement(), lambda p: np.full(len(p), hot)), Boxes(resolution))


def compare(case: Case, resolution: Resolution = "standard") -> dict[str, float | str]:
    """Quick and full figures of a case on a rigid plate."""
    mesh = {**SEEN, **UNSEEN}[case.shape]()
    part, at = prepared(case, mesh)
    quick = estimate_warp(part, at, with_bands=False)
    full = run_full(case, mesh, part, at, rigid_bed(), resolution)
    s = part.sections
    return {
        "shape": case.shape, "polymer": case.polymer, "plate": case.plate, "chamber": case.chamber,
        "quick_margin": quick.margin, "full_margin": full.hold_margin,
        "quick_lift": quick.printed_lift, "full_lift": full.printed_lift,
        "quick_released": abs(quick.released_lift), "full_released": full.released_lift,
        "quick_crack": quick.crack_index, "full_crack": float(full.crack.max(initial=0.0)),
        "detached": float(full.detached[-1]), "stopped": full.stopped, "seconds": full.seconds,
        "height": s.height, "length": 2.0 * float(max(part.blocks.half_x[0], part.blocks.half_y[0])),
        "width": 2.0 * float(min(part.blocks.half_x[0], part.blocks.half_y[0])),
        "thick": float(2.0 * part.blocks.gross_area.mean() / part.blocks.perimeter.mean()),
        "foot": float(part.sections.area[0] / (4.0 * part.blocks.half_x[0] * part.blocks.half_y[0])), "hold": full.hold_margin,
    }  # fmt: skip


def compare_all(
    cases: Sequence[Case], resolution: Resolution = "standard", workers: int = 2
) -> list[dict[str, float | str]]:
    """All of them, in processes side by side, in order."""
    with ProcessPoolExecutor(workers) as pool:
        return list(pool.map(partial(compare, resolution=resolution), cases))
