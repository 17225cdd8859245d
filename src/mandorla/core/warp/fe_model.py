"""What is simulated in full: a part as boxes with properties along its height, what it stands on, how finely it is cut."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, fields
from itertools import pairwise
from typing import Final, Literal

import numpy as np

from mandorla.core.part.mesh import Floats, Mesh
from mandorla.core.part.sections import Corner
from mandorla.core.warp.loose_plate import SheetHold
from mandorla.core.warp.multi_body import Bodies
from mandorla.core.warp.voxels import Voxels, edge_for, grid_of, voxelise

Resolution = Literal["draft", "standard", "fine"]
BOXES: Final[dict[str, int]] = {"draft": 3_000, "standard": 16_000, "fine": 64_000}
THICKEST: Final = 0.010  # m of a block
FEWEST: Final = 8  # blocks of a part


@dataclass(frozen=True, slots=True)
class Layers:
    """Properties along the height on a part's boxes, (nz,) or, of several bodies, (nz, ny, nx): moduli (Pa) of the gross section
    while printing and cold, free contractions of the fresh film, until the print's end, and of the cool-down, as strains of the
    modulus that is left; fracture energy of the ``joints`` between layers in J/m² of the gross section; the free contraction until
    the print's end as it is (``contracted``)."""

    printing: Floats
    cold: Floats
    fresh: Floats
    late: Floats
    cooling: Floats
    joints: Floats
    contracted: Floats

    def by_box(self) -> Layers:
        """The same with three axes, to go with boxes (nz, ny, nx)."""
        each = (getattr(self, f.name) for f in fields(self))
        return Layers(*(a[:, None, None] if a.ndim == 1 else a for a in each))


@dataclass(frozen=True, slots=True)
class Ground:
    """What the part stands on: grip strength Pa and energy J/m² as functions of place (x, y) m from the part's middle and of
    what the plate has over its mean (K) while printing, as constants once cold, ``stiffness`` N/m³, extra grip ``brim`` (m)
    around the foot, the plate's contraction in the cool-down, and the sheet it lies on (None: rigid). ``hotter`` gives what the
    plate has over its mean (K) while what lies between two shares of the part's height is printed (None: nothing)."""

    grip: Callable[[Floats, Floats, float], tuple[Floats, Floats]]
    cold_grip: tuple[float, float]
    stiffness: float
    brim: float
    plate_contraction: float
    sheet: SheetHold | None
    middle: tuple[float, float] = (0.0, 0.0)
    breakable: bool = True
    hotter: Callable[[float, float], float] | None = None


@dataclass(frozen=True, slots=True)
class FeCase:
    """A part to simulate: its ``mesh`` and its ``corners``, the properties along the height of its boxes (``layers_on``), the
    ``ground`` it stands on, Poisson's ratio, the modulus ``across`` layers over that along them, and, where there are several
    bodies, whose the boxes are (``apart``); joints below the height ``foot`` (m) are the foot's and no cracks."""

    mesh: Mesh
    corners: tuple[Corner, ...]
    layers_on: Callable[[Voxels], Layers]
    ground: Ground
    poisson: float
    across: float = 1.0
    apart: Callable[[Voxels], Bodies] | None = None
    foot: float = 0.0


@dataclass(frozen=True, slots=True)
class Boxes:
    """How finely a part is cut: its ``resolution``, or the boxes' ``edge`` (m) instead; ``thickest`` block (m); ``carve``
    changes the boxes before anything else."""

    resolution: Resolution = "standard"
    edge: float | None = None
    thickest: float = THICKEST
    carve: Callable[[Voxels], Voxels] | None = None

    def cut(self, mesh: Mesh) -> Voxels:
        """The boxes of a mesh."""
        voxels = voxelise(mesh, grid_of(mesh, self.edge or edge_for(mesh, BOXES[self.resolution])))
        return self.carve(voxels) if self.carve is not None else voxels


def nodal_area(flags: np.ndarray, cell: float) -> Floats:
    """Area (ny+1, nx+1) m² of boxes (ny, nx) shared out to their corners."""
    ny, nx = flags.shape
    found = np.zeros((ny + 1, nx + 1))
    for dy in (0, 1):
        for dx in (0, 1):
            found[dy : dy + ny, dx : dx + nx] += 0.25 * cell * flags
    return found


def box_blocks(solid: np.ndarray, dz: float, thickest: float = THICKEST, fewest: int = FEWEST) -> list[tuple[int, int]]:
    """Blocks as (first, end) layers of boxes: even numbers of layers where it can be, none across a jump of section by a fifth."""
    nz = solid.shape[0]
    area = solid.sum(axis=(1, 2)).astype(float)
    change = np.abs(np.diff(area)) / np.maximum(np.maximum(area[1:], area[:-1]), 1.0)
    cuts = [0, *(np.flatnonzero(change > 0.2) + 1).tolist(), nz]
    most = max(2, min(int(thickest / dz + 1e-6), nz // fewest)) // 2 * 2
    blocks = []
    for a, b in pairwise(cuts):
        at = a
        while at < b:
            step = min(most, b - at)
            blocks.append((at, at + step))
            at += step
    return blocks


def connected(solid: np.ndarray) -> np.ndarray:
    """Which boxes (n, ny, nx) hang together with the lowest layer, face to face."""
    from scipy.ndimage import label  # of this call only

    found, count = label(solid)
    if count == 1:
        return solid
    on_plate = np.unique(found[0])
    return np.isin(found, on_plate[on_plate > 0])
