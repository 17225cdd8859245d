"""How a full simulation reads the corners: their height by a plane, their margin over a window, traction averaged alike."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.part.mesh import Floats
from mandorla.core.part.sections import Corner
from mandorla.core.warp.cohesive import CohesiveGrip
from mandorla.core.warp.multi_body import Bodies
from mandorla.core.warp.voxels import Voxels

WINDOW: Final = 0.010  # m about a corner over which its traction is averaged


@dataclass(slots=True)
class CornerWatch:
    """The corners as they are looked at after every block: weights (ny+1, nx+1) for their height, the window around each with its
    share of the foot, and the least margin so far (corners,)."""

    weights: list[Floats]
    around: list[Floats]
    worst: Floats

    @classmethod
    def of(cls, voxels: Voxels, bodies: Bodies, foot: Floats, corners: tuple[Corner, ...]) -> CornerWatch:
        """Of a foot (ny+1, nx+1) m² with these corners."""
        x, y = voxels.x, voxels.y
        own_foot = [foot * (bodies.nodes == k) for k in bodies.corners]
        reach = max(WINDOW, 1.5 * max(voxels.size[:2]))
        return cls(
            [_corner_weights(x, y, own, c) for own, c in zip(own_foot, corners, strict=True)],
            [(_distance(x, y, c) <= reach) * own for own, c in zip(own_foot, corners, strict=True)],
            np.full(len(corners), np.inf),
        )

    def lift(self, height: Floats) -> Floats:
        """How far (corners,) m each has risen, from the heights (ny+1, nx+1) m of the foot; a corner is not pushed down."""
        return np.array([max(float((w * height).sum()), 0.0) for w in self.weights])

    def judge(self, grip: CohesiveGrip, traction: Floats) -> None:
        """Strength over mean traction around each corner, or what is left of the energy once a place there has let go."""
        for k, window in enumerate(self.around):
            total = max(float(window.sum()), 1e-12)
            mean, strength = float((traction * window).sum()) / total, float((grip.strength * window).sum()) / total
            held = 1.0 - float((grip.spent * window).sum()) / total
            gone = bool(((grip.damage > 0.99) & (window > 0.0)).any())
            self.worst[k] = min(self.worst[k], strength / max(mean, 1e-3 * strength), held if gone else np.inf)


def _distance(x: Floats, y: Floats, corner: Corner) -> Floats:
    return np.asarray(np.hypot(x[None, :] - corner.x, y[:, None] - corner.y))


def _corner_weights(x: Floats, y: Floats, foot: Floats, corner: Corner) -> Floats:
    """Weights (ny+1, nx+1) that give the height at a corner by the best plane through the foot within WINDOW of it.

    The corner's own node dips into the grip as deep as the boxes are small; the plane is what a feeler or a straightedge finds.
    """
    away = _distance(x, y, corner)
    near = (away <= max(WINDOW, 2.1 * max(float(x[1] - x[0]), float(y[1] - y[0])))) & (foot > 0.0)
    found = np.zeros_like(foot)
    if near.sum() < 4:
        found.ravel()[int(np.argmin(away + 1e3 * (foot <= 0.0)))] = 1.0
        return found
    xx, yy = np.meshgrid(x - corner.x, y - corner.y)
    a, w = np.column_stack([np.ones(int(near.sum())), xx[near], yy[near]]), foot[near]
    found[near] = np.linalg.lstsq((a * w[:, None]).T @ a, (a * w[:, None]).T, rcond=None)[0][0]
    return found


def averaged(values: Floats, area: Floats, voxels: Voxels, bodies: Bodies) -> Floats:
    """Mean (ny+1, nx+1) over a square window of WINDOW about each node within its body, weighted by area."""
    from scipy.ndimage import uniform_filter  # of this call only

    reach = [max(1, round(WINDOW / step) // 2 * 2 + 1) for step in (voxels.size[1], voxels.size[0])]
    found = np.zeros_like(values)
    for body, (rows, columns), _ in bodies.regions():
        window = (slice(rows.start, rows.stop + 1), slice(columns.start, columns.stop + 1))
        own = bodies.nodes[window] == body
        here = area[window] * own
        total = uniform_filter(here, reach, mode="constant")
        mean = uniform_filter(values[window] * here, reach, mode="constant") / np.maximum(total, 1e-15)
        found[window] = np.where(own, mean, found[window])
    return found
