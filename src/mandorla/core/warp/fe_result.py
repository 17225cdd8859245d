"""What a full simulation found: the run's record, its words, and how flat any face of the part reads."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final, Literal, NamedTuple

import numpy as np

from mandorla.core.part.mesh import Floats
from mandorla.core.part.sections import Corner
from mandorla.core.warp.voxels import Voxels

NOTICED: Final = 2e-4  # m, gap under a plate that counts as lifted
BONDED: Final = 1.3  # margin by averaged traction from which nothing of the grip has opened
HOLDS_BEYOND: Final = (
    0.36  # of the load at which the grip begins to open, over that at which a corner comes off (docs/theory.md)
)
DETACHED: Final = 5e-3  # share of the foot that counts as detached
_BEGINS: Final = 0.1  # opening at which damage begins over that at which it ends, of the cohesive law
# s of a solve, of a turn of the solver (and for every node in it), of a node: docs/theory.md, section 8
_WORK: Final = (0.025, (0.0032, 6e-8), 1.6e-5)
FACES: Final[dict[str, tuple[int, int]]] = {
    "underside": (2, 0), "top": (2, 1), "left side": (0, 0), "right side": (0, 1), "front": (1, 0), "rear": (1, 1),
}  # fmt: skip
Face = Literal["underside", "top", "left side", "right side", "front", "rear"]


class PlateMap(NamedTuple):
    """A loose plate: lines ``x`` (nx,) and ``y`` (ny,) m from the bed's middle, its ``gap`` (ny, nx) m over its seat."""

    x: Floats
    y: Floats
    gap: Floats


def noticed_height(heights: Floats, gaps: Floats) -> float:
    """Height (m) from which a gap under a plate is noticed, inside the lump or step in which it passes ``NOTICED``; infinite where
    it does not.

    ``heights`` and ``gaps`` (m,) m are those at the ends of the lumps. In the first one the gap goes with the square of the height,
    as a held plate's does with the films' moment; in later ones in a straight line.
    """
    over = np.flatnonzero(gaps > NOTICED)
    if not over.size:
        return float("inf")
    k = int(over[0])
    if k == 0:
        return float(heights[0] * np.sqrt(NOTICED / gaps[0]))
    share = (NOTICED - gaps[k - 1]) / (gaps[k] - gaps[k - 1])
    return float(heights[k - 1] + share * (heights[k] - heights[k - 1]))


@dataclass(frozen=True, slots=True)
class FullRun:
    """Result of a full simulation.

    ``height`` (m,) m of the blocks' tops; by block: ``lift`` (m, corners) m of the corners, ``detached`` share of the foot,
    ``plate_lift`` m, ``margin`` (m, corners); ``growth`` the heights (top+1, ny+1, nx+1) m by which the nodes have moved up. After
    the cool-down: ``cold_detached``. Displacements (nz+1, ny+1, nx+1, 3) m in single precision when ``printed``, ``cooled`` and
    ``released``. ``damage`` and ``utilisation`` (ny+1, nx+1) of the foot at the print's end: 1 is detached; averaged traction over
    strength; ``plate`` is the loose plate at that moment (None: rigid). ``crack`` (nz-1,) index of a
    crack (1: it opens) at the boxes' layers. ``stopped`` says why a run ended early (empty: it did not); ``iterations`` of the
    solver, ``seconds``, ``notes``. ``owner`` (ny+1, nx+1) is the body of the foot's nodes where several are in one run.
    """

    voxels: Voxels
    resolution: str
    corners: tuple[Corner, ...]
    height: Floats
    lift: Floats
    detached: Floats
    plate_lift: Floats
    margin: Floats
    cold_detached: float
    printed: np.ndarray
    cooled: np.ndarray
    released: np.ndarray
    damage: Floats
    utilisation: Floats
    foot: Floats
    crack: Floats
    stopped: str
    iterations: int
    solves: int
    seconds: float
    notes: tuple[str, ...]
    growth: tuple[np.ndarray, ...] = ()
    plate: PlateMap | None = None
    layer_height: float = 0.0
    owner: np.ndarray | None = None

    @property
    def work(self) -> float:
        """Its work, as the seconds it took on the two cores that this was fitted on (sixteen runs, a sixth off in the root mean
        square): by solves, iterations and nodes alone, so that it is the same wherever and however often it is computed."""
        nodes = float(np.prod([n + 1 for n in self.voxels.solid.shape]))
        each_solve, each_turn, each_node = _WORK
        return each_solve * self.solves + self.iterations * (each_turn[0] + each_turn[1] * nodes) + each_node * nodes

    @property
    def bodies(self) -> int:
        """How many bodies are in the run."""
        return 1 if self.owner is None else int(self.owner.max()) + 1

    @property
    def plate_off(self) -> bool:
        """Whether the run ended because the plate came off."""
        return "plate" in self.stopped

    def undersides(self, which: np.ndarray) -> list[Floats]:
        """For every body the heights (k,) m of its foot's nodes above their best plane in a state of displacement."""
        foot = node_mask(self.voxels.solid[:1])[0]
        if self.owner is None:
            return [flatness(self.voxels, which, foot)]
        return [flatness(self.voxels, which, foot & (self.owner == k)) for k in np.unique(self.owner[foot])]

    @property
    def printed_lift(self) -> float:
        """Largest corner lift (m) at the end of the print."""
        return float(self.lift[-1].max())

    @property
    def hold_margin(self) -> float:
        """How many times the load the grip stands until a corner comes off: while it is bonded from the averaged traction, once it
        opens from the share of the fracture energy that is left at the worst place; below 1 where it has failed."""
        least = float(self.margin[-1].min())
        if float(self.detached.max()) > DETACHED:
            return max(min(least, 0.9), 0.0)
        if least < 1.0:
            return max(least, 0.0)
        if least >= BONDED:
            return least / HOLDS_BEYOND
        spent = float(_spent(self.damage[self.foot > 0.0]).max(initial=0.0))
        return 1.0 + (BONDED / HOLDS_BEYOND - 1.0) * (1.0 - spent)

    @property
    def corner_margins(self) -> Floats:
        """Hold margin at the print's end by corner (corners,): the worst has :attr:`hold_margin`, the others stand to it as their
        averaged tractions do."""
        last = np.maximum(self.margin[-1], 0.0)
        least = float(last.min())
        return np.asarray(last * (self.hold_margin / least) if least > 0.0 else last)

    @property
    def opens_from(self) -> float:
        """Height (m) from which the grip gives way at a corner; NaN where it does not."""
        gone = np.flatnonzero((self.margin.min(axis=1) < 1.0) | (self.detached > DETACHED))
        return float(self.height[gone[0]]) if gone.size else float("nan")

    def layer_of(self, height: float) -> int:
        """The layer at a height (m); nought where layers are not known."""
        return max(1, round(height / self.layer_height)) if self.layer_height > 0.0 else 0

    @property
    def released_lift(self) -> float:
        """Peak to valley (m) of the underside after release, as a straightedge would read; of several bodies the least flat."""
        return max(float(np.ptp(heights)) for heights in self.undersides(self.released))

    @property
    def weak_layer(self) -> float:
        """Height (m) of the joint between boxes with the largest crack index."""
        return float(self.voxels.z[1 + int(np.argmax(self.crack))]) if self.crack.size else float("nan")

    def corner_words(self, k: int) -> str:
        """A corner as it is called in a sentence."""
        return corner_words(self.corners[k])


def _spent(damage: Floats) -> Floats:
    """Share of the fracture energy that bilinear damage has used up."""
    reached = _BEGINS / (1.0 - np.minimum(damage, 1.0) * (1.0 - _BEGINS))
    return np.asarray(np.clip((reached - _BEGINS) / (1.0 - _BEGINS), 0.0, 1.0))


def corner_words(corner: Corner) -> str:
    """A corner in a sentence; of several bodies its name holds whose it is, after a comma."""
    where, _, whose = corner.name.partition(", ")
    return f"{where} corner of {whose}" if whose else f"{where} corner"


def flatness(voxels: Voxels, u: np.ndarray, there: np.ndarray) -> Floats:
    """Heights (k,) m above their best plane of the foot's nodes ``there`` (ny+1, nx+1)."""
    x, y = np.meshgrid(voxels.x, voxels.y)
    w = u[0, ..., 2][there].astype(np.float64)
    a = np.column_stack([np.ones(w.size), x[there], y[there]])
    c, *_ = np.linalg.lstsq(a, w, rcond=None)
    return np.asarray(w - a @ c)


def node_mask(solid: np.ndarray) -> np.ndarray:
    """Which nodes (nz+1, ny+1, nx+1) belong to a solid box."""
    found = np.zeros(tuple(n + 1 for n in solid.shape), dtype=bool)
    for dz in (0, 1):
        for dy in (0, 1):
            for dx in (0, 1):
                nz, ny, nx = solid.shape
                found[dz : dz + nz, dy : dy + ny, dx : dx + nx] |= solid
    return found


def face_readings(found: FullRun, which: np.ndarray, face: Face) -> tuple[Floats, Floats]:
    """Places (k, 3) m of the nodes of an outer face and how far (k,) m they stand off their best plane, outwards positive.

    A face is what of the part's skin lies in its outermost plane on that side; as a straightedge reads it: peak to valley.
    """
    axis, side = FACES[face]
    v = found.voxels
    across = 2 - axis  # solid is (z, y, x)
    there = np.flatnonzero(v.solid.any(axis=tuple(i for i in range(3) if i != across)))
    if there.size == 0:
        return np.zeros((0, 3)), np.zeros(0)
    layer = int(there[-1] + 1 if side else there[0])
    boxes = np.take(v.solid, layer - 1 if side else layer, axis=across)
    nodes = np.zeros(tuple(n + 1 for n in boxes.shape), dtype=bool)
    for a in (0, 1):
        for b in (0, 1):
            nodes[a : a + boxes.shape[0], b : b + boxes.shape[1]] |= boxes
    lines = (v.x, v.y, v.z)
    first, second = (i for i in (2, 1, 0) if i != axis)  # in the order of the solid's axes
    p, q = (g[nodes] for g in np.meshgrid(lines[first], lines[second], indexing="ij"))
    off = np.take(which, layer, axis=across)[..., axis][nodes].astype(np.float64)
    plane = np.column_stack([np.ones(off.size), p, q])
    c, *_ = np.linalg.lstsq(plane, off, rcond=None)
    places = np.empty((off.size, 3))
    places[:, first], places[:, second], places[:, axis] = p, q, lines[axis][layer]
    return places, np.asarray((off - plane @ c) * (1.0 if side else -1.0))


def peak_to_valley(found: FullRun, which: np.ndarray, face: Face) -> float:
    """Peak to valley (m) of an outer face."""
    _, off = face_readings(found, which, face)
    return float(np.ptp(off)) if off.size else float("nan")
