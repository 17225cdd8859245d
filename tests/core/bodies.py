"""Bodies of boxes for tests: dense matrices of small ones, blocks as meshes, simple layers and grounds."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from mandorla.core.elastic.multigrid import ElasticBody
from mandorla.core.part.mesh import Floats, Mesh
from mandorla.core.part.sections import Corner
from mandorla.core.warp.fe_model import Boxes, FeCase, Ground, Layers
from mandorla.core.warp.fe_result import FullRun
from mandorla.core.warp.fe_simulation import simulate
from mandorla.core.warp.loose_plate import SheetHold
from mandorla.core.warp.voxels import Voxels

_FACES = np.array([
    [0, 2, 1], [1, 2, 3], [4, 5, 6], [5, 7, 6], [0, 1, 4], [1, 5, 4],
    [2, 6, 3], [3, 6, 7], [0, 4, 2], [2, 4, 6], [1, 3, 5], [3, 7, 5],
])  # fmt: skip


def box(length: float, width: float, height: float, at: tuple[float, float] = (0.0, 0.0)) -> tuple[Floats, Floats]:
    """Vertices and faces of a box about a place."""
    v = [
        [at[0] + x, at[1] + y, z]
        for z in (0.0, height) for y in (-width / 2, width / 2) for x in (-length / 2, length / 2)
    ]  # fmt: skip
    return np.array(v), _FACES.copy()


def block(length: float, width: float, height: float) -> Mesh:
    """A box as a part."""
    v, f = box(length, width, height)
    return Mesh(v, f, ())


def corners(length: float, width: float) -> tuple[Corner, ...]:
    """The four corners of a block."""
    names = ("front-left", "front-right", "rear-right", "rear-left")
    signs = ((-1, -1), (1, -1), (1, 1), (-1, 1))
    return tuple(Corner(0.5 * sx * length, 0.5 * sy * width, n) for (sx, sy), n in zip(signs, names, strict=True))


def layers(
    modulus: float = 2e9, fresh: float = 1e-3, cooling: float = 1e-3, late: float = 0.0
) -> Callable[[Voxels], Layers]:
    """The same properties all the way up."""
    return lambda v: Layers(
        *(np.full(v.solid.shape[0], x) for x in (modulus, modulus, fresh, late, cooling, 3e7, fresh + late))
    )


def ground(
    strength: float = 2e6, energy: float = 300.0, stiffness: float = 2e11, sheet: SheetHold | None = None, *, breakable: bool = True
) -> Ground:  # fmt: skip
    """An even grip, half as strong once cold."""
    return Ground(
        lambda x, y, _: (np.full(x.shape, strength), np.full(x.shape, energy)), (0.5 * strength, 0.5 * energy), stiffness, 0.0, 0.0,
        sheet, (0.0, 0.0), breakable,
    )  # fmt: skip


def run_block(
    size: tuple[float, float, float], edge: float, on: Ground, made: Callable[[Voxels], Layers] | None = None
) -> FullRun:
    """Simulate a block."""
    return simulate(FeCase(block(*size), corners(*size[:2]), made or layers(), on, 0.36), Boxes(edge=edge))


def dense(body: ElasticBody) -> Floats:
    """The whole matrix (n, n) of a small body with its springs, column by column."""
    shape = (*(n + 1 for n in body.moduli.shape), 3)
    n = int(np.prod(shape))
    found = np.empty((n, n))
    for i in range(n):
        u = np.zeros(n)
        u[i] = 1.0
        out = np.empty(shape)
        body.multiply(u.reshape(shape), out)
        found[:, i] = out.ravel()
    return found


def standing(
    shape: tuple[int, int, int], size: tuple[float, float, float], poisson: float, modulus: float = 1e9
) -> ElasticBody:
    """A full body (nz, ny, nx) that stands on nothing yet."""
    body = ElasticBody(size, np.full(shape, modulus), poisson)
    body.stand(shape[0], 0)
    return body


def places(body: ElasticBody) -> Floats:
    """Node positions (nz+1, ny+1, nx+1, 3) m."""
    nz, ny, nx = body.moduli.shape
    z, y, x = np.meshgrid(
        *(np.arange(n + 1) * s for n, s in zip((nz, ny, nx), body.size[::-1], strict=True)), indexing="ij"
    )
    return np.stack([x, y, z], axis=-1)
