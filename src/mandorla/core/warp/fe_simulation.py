"""The full warp simulation: a part of boxes printed block by block on its grip, cooled on the plate and taken off.

Incremental equilibrium by total forces: every box is born free of stress, its lower nodes where they are and its upper ones at
their nominal place. A block's film force acts at its mid plane on what stands up to there (midpoint scheme). The grip is
cohesive; damage is found by secant steps between short solves. The plate may be rigid or a sheet that lifts with the part.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Final

import numpy as np

from mandorla.core.elastic.hexahedron import free_growth
from mandorla.core.elastic.multigrid import Carried, ElasticBody
from mandorla.core.errors import InputError, SolverError
from mandorla.core.part.mesh import Floats, Mesh
from mandorla.core.runtime import RunContext
from mandorla.core.warp.cohesive import CohesiveGrip
from mandorla.core.warp.cracks import broadness, delamination_energy, film_energy
from mandorla.core.warp.fe_corners import CornerWatch, averaged
from mandorla.core.warp.fe_model import (
    BOXES,
    FEWEST,
    Boxes,
    FeCase,
    Ground,
    Layers,
    Resolution,
    box_blocks,
    connected,
    nodal_area,
)
from mandorla.core.warp.fe_result import FullRun, PlateMap
from mandorla.core.warp.loose_plate import Sheet, SheetHold
from mandorla.core.warp.multi_body import Bodies
from mandorla.core.warp.voxels import Voxels, edge_for, grid_of, voxelise

LOOSE: Final = 0.95  # share let go from which a run is stopped
PLATE_LEFT: Final = (
    0.35  # of a magnet's pull: with less, the plate rocks on a corner and where it goes next is anybody's guess
)
_COOLING_STEPS: Final = 4
_FINE: Final = 2e-3  # residual of a solve over the step's load, at best and at worst
_ROUGH: Final = 2e-2
_AGREED: Final = 1e-2  # of the step's load: forces between grip and part that may still change when a step is done
_MOST_TURNS: Final = 40
_CRUMB: Final = 0.2
_HOTTER: Final = 0.2  # K that the plate has to change by for another grip
_WINDOW: Final = 0.020  # m, over which the energy of a delamination is averaged
_WEAK: Final = 1e-5  # of E times the edge: springs that keep a released part where it is
# found over the demo's parts: solves a block, how much longer each takes than the one that is timed, how time grows with boxes
# (finer blocks need fewer iterations a solve); bytes a node of the bounding box and a box of the part
_TURNS, _LONGER, _GROWS, _BYTES = 5.0, 1.2, 0.6, (280.0, 450.0)


@dataclass(slots=True)
class _Run:
    """The state of a simulation."""

    voxels: Voxels
    layers: Layers
    ground: Ground
    bodies: Bodies
    body: ElasticBody
    grip: CohesiveGrip
    sheet: Sheet | None
    u: Floats
    F: Floats
    anchor: Floats
    born: dict[int, Floats]
    standing: np.ndarray
    hotter: float = np.inf
    solves: int = 0
    load: float = 1e-9
    largest: float = 0.0
    done: float = 0.0

    def weigh(self, load: Floats) -> None:
        """Set what a step's errors are measured by: its load, or a share of the largest one so far where it is a mere crumb."""
        size = float(np.linalg.norm(load))
        self.largest = max(self.largest, size)
        self.load = max(size, _CRUMB * self.largest, 1e-9)

    def opening(self, top: int) -> Floats:
        """Opening (ny+1, nx+1, 3) m of the foot over the plate."""
        found: Floats = np.asarray(self.u[0] - self.anchor)
        if self.sheet is not None:
            found = found.copy()
            found[..., 2] -= self.sheet.under(self.sheet.w)
        return found

    def equilibrium(self, top: int, run: RunContext) -> None:
        """Solve until grip, plate and part agree on ``top`` layers."""
        body, grip, sheet = self.body, self.grip, self.sheet
        u, F = self.u[: top + 1], self.F[: top + 1]
        off = 1.0
        if self.plate_lost:
            return
        for turn in range(_MOST_TURNS):
            springs = grip.springs(self.opening(top))
            extra = None
            if sheet is None:
                body.hold(springs)
            else:
                normal = springs[..., 2].copy()
                sheet.settle(normal)
                carried = Carried(normal, sheet.seat_under(grip.area))
                body.hold(springs, carried)
                mask = body.springs[..., 2]

                def extra(foot: Floats, sheet: Sheet = sheet, normal: Floats = normal, mask: Floats = mask) -> Floats:
                    return normal * (foot - sheet.under(sheet.answer(foot))) - mask * foot

            right = F.copy()
            right[0] += springs * self.anchor
            body.solve(right, u, float(np.clip(0.2 * off, _FINE, _ROUGH)), scale=self.load, extra=extra)
            self.solves += 1
            if sheet is not None:
                sheet.w = sheet.answer(u[0, ..., 2])
            now = self.opening(top)
            grip.wear(now)
            size = float(np.linalg.norm((grip.springs(now) - springs) * now))
            if sheet is not None:
                size = float(np.hypot(size, np.linalg.norm((sheet.seat() - sheet.factored) * sheet.w)))
            run.checkpoint(self.done, f"layer of boxes {top} of {self.voxels.solid.shape[0]}")
            off = size / self.load
            if not np.isfinite(off):
                at = 1e3 * top * self.voxels.size[2]
                raise SolverError(
                    f"the full simulation found no equilibrium at a height of {at:.0f} mm; try another resolution"
                )
            if off < _AGREED and turn > 0:
                return
            if self.loosest > LOOSE or self.plate_lost:
                return

    @property
    def loosest(self) -> float:
        """Share of the foot of the body that is detached most."""
        owner, area = self.bodies.nodes.ravel(), self.grip.area.ravel()
        whole = np.bincount(owner, area, self.bodies.count)
        gone = np.bincount(owner, area * (self.grip.damage.ravel() > 0.99), self.bodies.count)
        return float((gone / np.maximum(whole, 1e-15)).max())

    @property
    def plate_lost(self) -> bool:
        """Whether the part has pulled the plate off its magnet."""
        return self.sheet is not None and self.sheet.kept < PLATE_LEFT


@dataclass(frozen=True, slots=True)
class _BlockRecord:
    """What is noted when a block has been printed, as in :class:`FullRun`."""

    height: float
    lift: Floats
    detached: float
    plate_lift: float
    margin: Floats


@dataclass(slots=True)
class _Printing:
    """A simulation under way and what it has noted so far; ``traction`` and ``strength`` (ny+1, nx+1) Pa are the last block's."""

    state: _Run
    corners: CornerWatch
    case: FeCase
    resolution: Resolution
    began: float
    records: list[_BlockRecord] = field(default_factory=list)
    growth: list[np.ndarray] = field(default_factory=list)
    plate: PlateMap | None = None
    stopped: str = ""
    traction: Floats = field(default_factory=lambda: np.zeros(0))
    strength: Floats = field(default_factory=lambda: np.zeros(0))

    def note(self, top: int) -> None:
        """Look at the part once ``top`` layers of boxes stand."""
        state = self.state
        traction = state.grip.traction(state.opening(top))
        self.corners.judge(state.grip, traction)
        self.traction, self.strength = traction, state.grip.strength.copy()
        self.records.append(
            _BlockRecord(
                height=top * state.voxels.size[2],
                lift=self.corners.lift(state.u[0, ..., 2]),
                detached=state.grip.detached,
                plate_lift=state.sheet.lifted if state.sheet is not None else 0.0,
                margin=self.corners.worst.copy(),
            )
        )
        self.growth.append(state.u[: top + 1, ..., 2].astype(np.float32))
        if state.sheet is not None:
            self.plate = state.sheet.surface
        if state.loosest > LOOSE:
            self.stopped = "came loose"
        elif state.plate_lost:
            self.stopped = "pulled the plate off its magnet"

    def noted(self) -> FullRun:
        """The run as it stands."""
        now = self.state.u.astype(np.float32)
        return self.result(now, now, now, self.state.grip.detached, np.zeros(0))

    def result(
        self, printed: np.ndarray, cooled: np.ndarray, released: np.ndarray, cold: float, crack: Floats
    ) -> FullRun:
        """The run with its three states of displacement, the share let go once cold, and the crack index."""
        state, rows = self.state, self.records
        voxels, bodies, grip = state.voxels, state.bodies, state.grip
        foot = grip.area
        aloft = int((voxels.solid & ~connected(voxels.solid)).sum())
        share = np.where(foot > 0.0, averaged(self.traction, foot, voxels, bodies) / self.strength, 0.0)
        found = FullRun(
            voxels=voxels,
            resolution=self.resolution,
            corners=self.case.corners,
            height=np.array([r.height for r in rows]),
            lift=np.array([r.lift for r in rows]),
            detached=np.array([r.detached for r in rows]),
            plate_lift=np.array([r.plate_lift for r in rows]),
            margin=np.array([r.margin for r in rows]),
            cold_detached=cold,
            printed=printed,
            cooled=cooled,
            released=released,
            damage=grip.damage.copy(),
            utilisation=share,
            foot=foot,
            crack=crack,
            stopped=self.stopped,
            iterations=state.body.iterations,
            solves=state.solves,
            seconds=time.perf_counter() - self.began,
            notes=_notes(voxels, self.stopped, aloft, bodies.merged(voxels.solid)),
            growth=tuple(self.growth),
            plate=self.plate,
            owner=bodies.nodes if bodies.count > 1 else None,
        )
        for array in (found.height, found.lift, found.detached, found.plate_lift, found.margin, found.damage):
            array.setflags(write=False)
        for array in (printed, cooled, released, crack):
            array.setflags(write=False)
        return found


def simulate(
    case: FeCase, boxes: Boxes | None = None, run: RunContext | None = None, seen: Callable[[FullRun], None] | None = None
) -> FullRun:  # fmt: skip
    """Print, cool and release a part.

    Parameters
    ----------
    case
        The part and what it stands on.
    boxes
        How finely it is cut; at standard resolution by default.
    run
        Progress and cancelling.
    seen
        Called with what there is after every block.

    Returns
    -------
    FullRun
        The record of the run and its shapes.

    Raises
    ------
    InputError
        No part of it stands on the plate at this resolution.
    SolverError
        No equilibrium was found.
    Cancelled
        Asked to stop.
    """
    run, boxes = run or RunContext(), boxes or Boxes()
    began = time.perf_counter()
    voxels = boxes.cut(case.mesh)
    layers = case.layers_on(voxels).by_box()
    bodies = case.apart(voxels) if case.apart is not None else Bodies.one(voxels, len(case.corners))
    state = _prepare(case, voxels, layers, bodies)
    blocks = box_blocks(voxels.solid, voxels.size[2], boxes.thickest)
    corners = CornerWatch.of(voxels, bodies, state.grip.area, case.corners)
    printing = _Printing(state, corners, case, boxes.resolution, began)
    weight = np.cumsum([float(voxels.solid[a:b].sum()) * 0.5 * (a + b) for a, b in blocks])
    top = 0
    for n, (a, top) in enumerate(blocks):
        _print_block(state, a, top, run)
        printing.note(top)
        state.done = 0.85 * float(weight[n] / weight[-1])
        if seen is not None:
            seen(printing.noted())
        if printing.stopped:
            break
    _grow(state, -layers.late, layers.printing, top)
    state.equilibrium(top, run)
    printed = state.u.astype(np.float32)
    # what contracts until the end of the print is counted to the last block
    printing.records[-1] = replace(
        printing.records[-1], lift=corners.lift(state.u[0, ..., 2]), detached=state.grip.detached
    )
    crack = _cracks(state, layers, top, case.foot)
    state.done = 0.88
    _cool(state, top, run)
    cooled, cold = state.u.astype(np.float32), state.grip.detached
    run.checkpoint(0.96, "taking it off the plate")
    _release(state, top)
    run.checkpoint(1.0, "done")
    return printing.result(printed, cooled, state.u.astype(np.float32), cold, crack)


def expected_seconds(
    mesh: Mesh, resolution: Resolution, sheet: SheetHold | None, bodies: float = 1.0, most: float = np.inf
) -> tuple[float, float]:
    """Seconds a run will take on this machine, and its memory in bytes: the real solver is timed on a coarse body of the same part
    that stands on its grip and is pulled by a film, and scaled by boxes; right to a factor of two or so, the more grip opens the
    longer. Of several ``bodies`` (how many times the volume of the one that sets the boxes) up to ``most`` boxes are taken."""
    grid = grid_of(mesh, edge_for(mesh, round(min(BOXES[resolution] * bodies, most))))
    coarse = voxelise(mesh, grid_of(mesh, edge_for(mesh, round(min(BOXES["draft"] * bodies, most)))))
    moduli = np.where(coarse.solid, 1e9, 0.0)
    body = ElasticBody(coarse.size, moduli, 0.36)
    body.stand(moduli.shape[0], 0)
    foot = nodal_area(coarse.solid[0], coarse.size[0] * coarse.size[1])
    body.hold(np.full((*foot.shape, 3), 1e11) * foot[..., None])
    F = np.zeros((*(n + 1 for n in moduli.shape), 3))
    middle = moduli.shape[0] // 2
    _film(1e4 * coarse.solid[middle - 1].astype(float), *coarse.size[:2], F[middle])
    scale = float(np.linalg.norm(F))
    times = []
    for _ in range(3):  # the first one may still compile or wait for the machine
        began = time.perf_counter()
        body.solve(F, np.zeros_like(F), _ROUGH, scale=scale)
        times.append(time.perf_counter() - began)
    each, settling = min(times), 0.0
    if sheet is not None:
        below = Sheet.below(sheet, coarse.x, coarse.y, (0.0, 0.0))
        began = time.perf_counter()
        below.settle(1e11 * foot)
        settling = time.perf_counter() - began
    finer = float(np.prod(grid)) / moduli.size
    solves = max(FEWEST, grid[2] // 2) * _TURNS + _COOLING_STEPS * _TURNS
    taken = _BYTES[0] * float(np.prod([n + 1 for n in grid])) + _BYTES[1] * float(coarse.solid.sum()) * finer
    return solves * _LONGER * (each * finer**_GROWS + settling), taken


def _prepare(case: FeCase, voxels: Voxels, layers: Layers, bodies: Bodies) -> _Run:
    ground = case.ground
    solid, (hx, hy, hz) = voxels.solid, voxels.size
    if not solid[0].any():
        raise InputError("At this resolution no part of it stands on the plate: take a finer one, or lay it on a face.")
    moduli = np.where(solid, layers.printing, 0.0)
    body = ElasticBody((hx, hy, hz), moduli, case.poisson, case.across)
    foot = nodal_area(solid[0], hx * hy)
    if ground.brim > 0.0:
        # grip of the brim next to the part, at the rim's nodes
        full = foot / (hx * hy)
        rim = (foot > 0.0) & (full < 0.999)
        foot = foot + np.where(rim, ground.brim * 0.5 * (hx + hy), 0.0)
    xx, yy = np.meshgrid(voxels.x, voxels.y)
    strength, energy = ground.grip(xx, yy, 0.0)
    grip = CohesiveGrip(foot, strength, energy, np.full_like(foot, ground.stiffness), ground.breakable)
    sheet = Sheet.below(ground.sheet, voxels.x, voxels.y, ground.middle) if ground.sheet is not None else None
    shape = (*(n + 1 for n in solid.shape), 3)
    return _Run(
        voxels,
        layers,
        ground,
        bodies,
        body,
        grip,
        sheet,
        np.zeros(shape),
        np.zeros(shape),
        np.zeros((*foot.shape, 3)),
        {},
        np.zeros(solid.shape, dtype=bool),
    )


def _birth(state: _Run, first: int, end: int) -> None:
    """Let boxes up to layer ``end`` stand, free of stress where they are; what hangs in the air waits until it is joined."""
    now = connected(state.voxels.solid[:end])
    new = now & ~state.standing[:end]
    layers = np.flatnonzero(new.any(axis=(1, 2)))
    lowest = int(min(first, layers[0])) if layers.size else first
    state.standing[:end] = now
    body = state.body
    body.moduli[:end] = np.where(now, state.layers.printing[:end], 0.0)
    body.stand(end, lowest)
    u = state.u[lowest : end + 1]
    state.F[lowest : end + 1] += body.forces(u, np.where(new[lowest:], body.moduli[lowest:end], 0.0), lowest)
    if first:
        state.born[first] = state.u[first].copy()


def _print_block(state: _Run, a: int, b: int, run: RunContext) -> None:
    n = b - a
    middle = a + (n + 1) // 2
    _birth(state, a, middle)
    _regrip(state, a, b)
    planes = [a + n // 2] if n % 2 == 0 else [a + (n - 1) // 2, a + (n + 1) // 2]
    voxels, layers = state.voxels, state.layers
    hx, hy, hz = voxels.size
    force = layers.printing[a:b] * layers.fresh[a:b] * hz / (1.0 - state.body.poisson)
    below = state.standing[middle - 1]
    N = (force * voxels.solid[a:b]).sum(axis=0) * below / len(planes)
    load = np.zeros_like(state.F[0])
    _film(N, hx, hy, load)
    for plane in planes:
        state.F[plane] += load
    state.weigh(load)
    state.equilibrium(middle, run)
    if middle < b:
        _birth(state, middle, b)


def _regrip(state: _Run, a: int, b: int) -> None:
    """The grip as the plate is while layers ``a`` to ``b`` of the boxes are printed."""
    hotter, z = state.ground.hotter, state.voxels.z
    if hotter is None:
        return
    now = hotter(float(z[a] / z[-1]), float(z[b] / z[-1]))
    if abs(now - state.hotter) > _HOTTER:
        state.hotter = now
        state.grip.renew(*state.ground.grip(*np.meshgrid(state.voxels.x, state.voxels.y), now))


def _film(N: Floats, hx: float, hy: float, load: Floats) -> None:
    """Add nodal forces (ny+1, nx+1, 3) of a film that pulls with N (ny, nx) N/m in both directions."""
    load[:-1, :-1, 0] += 0.5 * hy * N
    load[1:, :-1, 0] += 0.5 * hy * N
    load[:-1, 1:, 0] -= 0.5 * hy * N
    load[1:, 1:, 0] -= 0.5 * hy * N
    load[:-1, :-1, 1] += 0.5 * hx * N
    load[:-1, 1:, 1] += 0.5 * hx * N
    load[1:, :-1, 1] -= 0.5 * hx * N
    load[1:, 1:, 1] -= 0.5 * hx * N


def _grow(state: _Run, strain: Floats, moduli: Floats, top: int) -> None:
    """Add the forces of a free growth of all boxes, by box as the moduli."""
    forces = state.body.stiffness_times(free_growth(state.voxels.size))
    load = np.zeros_like(state.F)
    for k in range(top):
        e = np.where(state.standing[k], moduli[k] * strain[k], 0.0)
        for iz in (0, 1):
            for iy in (0, 1):
                for ix in (0, 1):
                    ny, nx = e.shape
                    load[k + iz, iy : iy + ny, ix : ix + nx] += e[..., None] * forces[iz, iy, ix]
    state.F += load
    state.weigh(load)


def _cool(state: _Run, top: int, run: RunContext) -> None:
    """Cool down on the plate by steps: cold moduli, the part's and the plate's contraction, the cold grip."""
    layers, ground, body = state.layers, state.ground, state.body
    u = state.u[: top + 1]
    before = body.forces(u, body.moduli[:top])
    body.moduli = np.where(state.standing, layers.cold, 0.0)
    body.stand(top, 0)
    # what stresses there are stay as they are
    state.F[: top + 1] += body.forces(u, body.moduli[:top]) - before
    hot = (state.grip.strength.copy(), state.grip.energy.copy())
    xx, yy = np.meshgrid(state.voxels.x, state.voxels.y)
    for step in range(1, _COOLING_STEPS + 1):
        share = step / _COOLING_STEPS
        _grow(state, -layers.cooling / _COOLING_STEPS, layers.cold, top)
        state.anchor[..., 0], state.anchor[..., 1] = (
            -share * ground.plate_contraction * xx,
            -share * ground.plate_contraction * yy,
        )
        state.grip.renew(*((1.0 - share) * h + share * c for h, c in zip(hot, ground.cold_grip, strict=True)))
        state.equilibrium(top, run)


def _release(state: _Run, top: int) -> None:
    """Take the grip away; weak springs keep the part where it is."""
    body = state.body
    there = state.grip.area > 0.0
    stiff = _WEAK * float(state.layers.cold.max()) * max(state.voxels.size)
    springs = np.where(there[..., None], stiff, 0.0) * np.ones(3)
    body.hold(springs)
    u, F = state.u[: top + 1], state.F[: top + 1].copy()
    F[0] += springs * u[0]
    body.solve(F, u, 1e-4, scale=float(np.linalg.norm(state.F)))
    state.solves += 1


def _cracks(state: _Run, layers: Layers, top: int, foot: float) -> Floats:
    """Square root of the energy a delamination sets free over the joint's (nz-1,) between layers of boxes (warp.cracks).

    By columns of boxes, each held back by what stands below in it and by what the grip under it was found to pass on, averaged over
    a window of 20 mm. Joints below ``foot`` (m) do not count.
    """
    from scipy.ndimage import distance_transform_edt, uniform_filter  # of this call only

    voxels = state.voxels
    found = np.zeros(max(voxels.solid.shape[0] - 1, 1))
    hx, hy, hz = voxels.size
    reach = [max(1, round(_WINDOW / s)) for s in (hy, hx)]
    edges = voxels.z[: top + 1]
    springs = state.grip.springs(state.opening(top))
    pulled = -springs[..., :2] * state.opening(top)[..., :2]
    for _, window, own in state.bodies.regions():
        rows, columns = window
        here = (slice(None, top), rows, columns)
        standing = state.standing[here] & own
        if not standing.any():
            continue
        moduli = _on_boxes(layers.printing, here, standing)
        strain = _on_boxes(layers.fresh + layers.late, here, standing)
        joints = _on_boxes(layers.joints, here, standing)
        contracted = _on_boxes(layers.contracted, here, standing)
        across = np.stack([2.0 * distance_transform_edt(np.pad(s, 1), sampling=(hy, hx))[1:-1, 1:-1] for s in standing])
        stored = film_energy(strain, moduli, state.body.poisson, broadness(across, edges[-1]), contracted)
        section = moduli.sum(axis=(1, 2)) * hx * hy
        feet = pulled[rows.start : rows.stop + 1, columns.start : columns.stop + 1]
        for axis in (0, 1):
            stands = np.flatnonzero(standing.any(axis=(0, 1) if axis == 0 else (0, 2)))
            length = float((stands[-1] - stands[0] + 1) * (hx, hy)[axis])
            # the films' force across the middle, and what the grip passes on of it
            force = float((moduli * np.abs(strain)).sum() * hx * hy * hz) / length
            along = np.cumsum(feet[..., axis].sum(axis=axis))
            share = min(1.0, float(np.abs(along).max()) / max(force, 1e-9))
            free = delamination_energy(edges, stored, section, length, share)
            for k in range(top - 1):
                there = standing[k] & standing[k + 1]
                if edges[k + 1] < foot or not there.any():
                    continue
                near = uniform_filter(there.astype(float), reach, mode="constant")
                mean = uniform_filter(free[k] * there, reach, mode="constant") / np.maximum(near, 1e-9)
                takes = np.minimum(joints[k], joints[k + 1])
                found[k] = max(found[k], float(np.sqrt((mean[there] / takes[there]).max())))
    found.setflags(write=False)
    return found


def _on_boxes(values: Floats, here: tuple[slice, slice, slice], standing: np.ndarray) -> Floats:
    """Values by layer of boxes, or by box, on a part of the grid; nought where nothing stands."""
    layers, rows, columns = here
    part = values[layers] if values.shape[1] == 1 else values[layers, rows, columns]
    return np.asarray(np.broadcast_to(part, standing.shape) * standing)


def _notes(voxels: Voxels, stopped: str, aloft: int, merged: bool) -> tuple[str, ...]:
    notes = []
    if merged:
        notes.append(
            f"bodies closer together than a box of {1e3 * max(voxels.size[:2]):.1f} mm hang together: take a finer resolution"
        )
    if aloft:
        notes.append(f"{aloft} boxes are unsupported at this resolution and are left out: take a finer one")
    if abs(voxels.missed) > 0.1:
        more = "more" if voxels.missed > 0 else "less"
        notes.append(
            f"the boxes hold {100 * abs(voxels.missed):.0f} % {more} volume than the part: take a finer resolution"
        )
    if voxels.rough > 0.25:
        notes.append(
            f"walls are thinner than the boxes of {1e3 * max(voxels.size):.1f} mm in {100 * voxels.rough:.0f} % of the part: "
            "stiffness is a guess there; take a finer resolution"
        )
    if stopped:
        notes.append(f"the part {stopped}: what would follow is not known")
    return tuple(notes)
