"""Changes of shape that a designer could make, tried on the boxes of a part: rounded corners, relief slots in its long sides."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from mandorla.core.part.sections import Corner
from mandorla.core.warp.voxels import Voxels


def _centres(v: Voxels) -> tuple[np.ndarray, np.ndarray]:
    x, y = 0.5 * (v.x[1:] + v.x[:-1]), 0.5 * (v.y[1:] + v.y[:-1])
    xx, yy = np.meshgrid(x, y)
    return xx, yy


def rounded(voxels: Voxels, corners: Sequence[Corner], radius: float) -> Voxels:
    """The part with its upright corners rounded by ``radius`` (m) all the way up.

    A corner's sides are taken along the axes, towards the middle of all corners; boxes whose middle lies beyond the arc go.
    """
    xx, yy = _centres(voxels)
    middle = np.mean([[c.x, c.y] for c in corners], axis=0)
    gone = np.zeros(xx.shape, dtype=bool)
    for c in corners:
        sx, sy = (1.0 if middle[0] > c.x else -1.0), (1.0 if middle[1] > c.y else -1.0)
        u, v = sx * (xx - c.x), sy * (yy - c.y)  # inwards from the corner
        gone |= (u < radius) & (v < radius) & (np.hypot(u - radius, v - radius) > radius)
    return _without(voxels, gone)


def slotted(voxels: Voxels, slots: int = 3, depth: float = 0.25) -> Voxels:
    """The part with ``slots`` evenly spaced slots, one box wide, in both of its long sides, ``depth`` of its width deep."""
    ny, nx = voxels.solid.shape[1:]
    along_x = nx * voxels.size[0] >= ny * voxels.size[1]
    count, width = (nx, ny) if along_x else (ny, nx)
    deep = max(1, round(depth * width))
    gone = np.zeros((ny, nx), dtype=bool)
    for k in range(1, slots + 1):
        at = round(k * count / (slots + 1))
        for inwards in (slice(0, deep), slice(width - deep, width)):
            if along_x:
                gone[inwards, at] = True
            else:
                gone[at, inwards] = True
    return _without(voxels, gone)


def _without(voxels: Voxels, gone: np.ndarray) -> Voxels:
    solid = voxels.solid & ~gone[None]
    solid.setflags(write=False)
    return replace(voxels, solid=solid)
