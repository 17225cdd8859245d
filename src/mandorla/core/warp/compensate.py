"""The part pre-deformed against what a full simulation says release will do to it, and what a second simulation makes of that."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Final

import numpy as np
from scipy.ndimage import distance_transform_edt, map_coordinates

from mandorla.core.part.mesh import Floats, Ints, Mesh
from mandorla.core.runtime import RunContext
from mandorla.core.warp.fe_result import FullRun, node_mask

MOST_TRIANGLES: Final = 400_000
BLEND: Final = 0.15  # of the height over which the foot's heights pass from drawn to pre-deformed


@dataclass(frozen=True, slots=True)
class Compensation:
    """A pre-deformed part: its ``mesh``, the drawn one with the same vertices (``drawn``), and the largest shift (m)."""

    mesh: Mesh
    drawn: Mesh
    largest: float


@dataclass(frozen=True, slots=True)
class Checked:
    """Distance of the released surface from the drawn one, best rigid motion taken out: rms and largest (m), ``plain`` as drawn and
    ``compensated``; ``top`` is the peak to valley (m) of what lies within a hair of the drawn part's top, in both."""

    plain_rms: float
    plain_largest: float
    rms: float
    largest: float
    plain_top: float
    top: float


def refined(mesh: Mesh, longest: float, run: RunContext | None = None) -> Mesh:
    """The same surface with no edge longer than ``longest`` (m), or ``MOST_TRIANGLES`` reached; edges are halved on both sides at
    once, so that it stays closed. Raises Cancelled when asked to stop."""
    vertices, faces = mesh.vertices, mesh.faces
    while len(faces) < MOST_TRIANGLES:
        if run is not None:
            run.checkpoint(0.5, "refining the surface")
        ends = np.sort(np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]]), axis=1)
        # an edge as one number sorts many times faster than as a pair
        packed, which = np.unique(ends[:, 0].astype(np.int64) * len(vertices) + ends[:, 1], return_inverse=True)
        edges = np.stack(np.divmod(packed, len(vertices)), axis=1)
        long = np.linalg.norm(vertices[edges[:, 0]] - vertices[edges[:, 1]], axis=1) > longest
        if not long.any():
            break
        number = np.cumsum(long) - 1 + len(vertices)
        middle = np.where(long, number, -1)[which.reshape(3, -1).T]  # (m, 3): of edges 01, 12, 20
        vertices = np.concatenate([vertices, 0.5 * (vertices[edges[long, 0]] + vertices[edges[long, 1]])])
        faces = _split(faces, middle)
    for array in (vertices, faces):
        array.setflags(write=False)
    return Mesh(vertices, faces, mesh.notes)


def _split(faces: Ints, middle: Ints) -> Ints:
    """Faces cut at the middles (m, 3) of their edges 01, 12, 20; -1 leaves an edge whole."""
    cut = middle >= 0
    count = cut.sum(axis=1)
    made = [faces[count == 0]]
    # turn every face so that a lone cut edge is its first, a lone whole edge its last
    first = np.where(count == 1, cut.argmax(axis=1), np.where(count == 2, (~cut).argmax(axis=1) + 1, 0)) % 3
    turn = (first[:, None] + np.arange(3)) % 3
    f, m = np.take_along_axis(faces, turn, axis=1), np.take_along_axis(middle, turn, axis=1)
    a, b, c = f.T
    p, q, r = m.T
    one, two, three = count == 1, count == 2, count == 3
    for some, triangles in (
        (one, ((a, p, c), (p, b, c))), (two, ((a, p, c), (p, q, c), (p, b, q))),
        (three, ((a, p, r), (p, b, q), (r, q, c), (p, q, r))),
    ):  # fmt: skip
        made += [np.stack([v[some] for v in t], axis=1) for t in triangles]
    return np.concatenate(made).astype(np.int64)


def displacement_at(found: FullRun, which: np.ndarray, points: Floats) -> Floats:
    """Displacement (k, 3) m at points (k, 3) of the part: trilinear between nodes; what is just outside the boxes takes the
    nearest node of the part. The best rigid motion is taken out."""
    v = found.voxels
    there = node_mask(v.solid)
    nearest = distance_transform_edt(~there, sampling=v.size[::-1], return_distances=False, return_indices=True)
    field = np.asarray(which, dtype=np.float64)[tuple(nearest)]
    origin = np.array([0.0, v.origin[1], v.origin[0]])
    places = ((points[:, ::-1] - origin) / np.array(v.size[::-1])).T
    u = np.stack([map_coordinates(field[..., i], places, order=1, mode="nearest") for i in range(3)], axis=1)
    z, y, x = np.nonzero(there)
    nodes = np.stack([v.x[x], v.y[y], v.z[z]], axis=1)
    return u - rigid_motion(nodes, np.asarray(which, dtype=np.float64)[there], points)


def rigid_motion(nodes: Floats, u: Floats, points: Floats) -> Floats:
    """The small rigid motion that fits displacements ``u`` (n, 3) of ``nodes`` (n, 3) best, at ``points`` (k, 3)."""
    middle = nodes.mean(axis=0)
    x = nodes - middle
    # u = t + w × x: normal equations of the rotation, for the mean drops out
    inertia = (x**2).sum() * np.eye(3) - x.T @ x
    turn = np.linalg.solve(inertia, np.cross(x, u - u.mean(axis=0)).sum(axis=0))
    return np.asarray(u.mean(axis=0) + np.cross(turn, points - middle))


def compensate(mesh: Mesh, found: FullRun, *, foot_flat: bool = True, run: RunContext | None = None) -> Compensation:
    """The part with the predicted released displacement taken off every vertex.

    A flat foot keeps its heights (``foot_flat``): they pass to the pre-deformed ones over ``BLEND`` of the height, for a curved
    underside could only be printed on supports. What its own underside does is then not compensated.
    """
    fine = refined(mesh, 2.0 * max(found.voxels.size), run)
    shift = displacement_at(found, found.released, fine.vertices)
    if foot_flat:
        share = np.clip(fine.vertices[:, 2] / (BLEND * float(mesh.size[2])), 0.0, 1.0)
        shift[:, 2] *= share**2 * (3.0 - 2.0 * share)
    vertices = fine.vertices - shift
    vertices[:, 2] -= vertices[:, 2].min()
    vertices.setflags(write=False)
    return Compensation(Mesh(vertices, fine.faces, mesh.notes), fine, float(np.linalg.norm(shift, axis=1).max()))


def check(made: Compensation, plain: FullRun, simulate: Callable[[Mesh], FullRun]) -> tuple[Checked, FullRun]:
    """Simulate the pre-deformed part and compare where its released surface comes to lie with the drawing.

    ``simulate`` runs a mesh at the same state and resolution. Raises what it raises.
    """
    again = simulate(made.mesh)
    drawn = made.drawn.vertices
    before = displacement_at(plain, plain.released, drawn)
    after = made.mesh.vertices + displacement_at(again, again.released, made.mesh.vertices) - drawn
    after = after - rigid_motion(drawn, after, drawn)
    top = drawn[:, 2] > drawn[:, 2].max() - 1e-6

    def flat(off: Floats) -> float:
        if top.sum() < 4:
            return float("nan")
        plane = np.column_stack([np.ones(int(top.sum())), drawn[top, :2]])
        c, *_ = np.linalg.lstsq(plane, off[top, 2], rcond=None)
        return float(np.ptp(off[top, 2] - plane @ c))

    def rms(far: Floats) -> float:
        return float(np.sqrt(np.mean(far**2)))

    far_before, far_after = np.linalg.norm(before, axis=1), np.linalg.norm(after, axis=1)
    found = Checked(
        rms(far_before), float(far_before.max()), rms(far_after), float(far_after.max()), flat(before), flat(after)
    )
    return found, again


def deformed(mesh: Mesh, found: FullRun, which: np.ndarray) -> Mesh:
    """The part as a state of the run has it, without exaggeration."""
    fine = refined(mesh, 2.0 * max(found.voxels.size))
    vertices = fine.vertices + displacement_at(found, which, fine.vertices)
    vertices.setflags(write=False)
    return Mesh(vertices, fine.faces, mesh.notes)


def stl_bytes(mesh: Mesh) -> bytes:
    """A mesh as a binary STL file in millimetres."""
    t = 1e3 * mesh.triangles
    normal = np.cross(t[:, 1] - t[:, 0], t[:, 2] - t[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1), 1e-30)[:, None]
    record = np.zeros(len(t), dtype=[("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("attribute", "<u2")])
    record["normal"], record["corners"] = normal, t
    return b"Mandorla, millimetres".ljust(80) + len(t).to_bytes(4, "little") + record.tobytes()
