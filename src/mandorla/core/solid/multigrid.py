"""Conjugate gradients with a geometric multigrid for a body of equal boxes that grows layer by layer on springs.

The operator is never assembled on the finest level; coarse levels are Galerkin ones in single precision and kept between solves:
only what new layers touch is built anew. Smoothing is a block-Jacobi Chebyshev polynomial of second order, the
same before and after the coarse correction, so that the preconditioner is symmetric (Adams et al. 2003).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.solid import levels as lv
from mandorla.core.solid.box_kernel import apply_boxes
from mandorla.core.solid.hexa import Floats, box_stiffness, largest_ratio, parity_blocks
from mandorla.core.solid.levels import Singles

_DENSE: Final = 260  # unknowns below which a level is solved directly
_LARGEST_STORED: Final = (
    4.2  # bound of the smoother's eigenvalues on coarse levels, found by power iteration: 3.2 to 4.0
)
Extra = Callable[[Floats, Floats], None]


@dataclass(slots=True)
class _Level:
    """One level: its elements' stored stiffness (None on the finest), work fields and springs."""

    shape: tuple[int, int, int]
    stored: Singles | None
    springs: Floats
    blocks: Floats
    inverse: Singles
    u: Singles
    r: Singles
    d: Singles
    out: Singles
    largest: float = 4.0
    factor: Floats | None = None
    rows: np.ndarray | None = None


def _fields(shape: tuple[int, int, int]) -> list[Singles]:
    nz, ny, nx = shape
    return [np.zeros((nz + 1, ny + 1, nx + 1, 3), dtype=np.float32) for _ in range(4)]


class Carried(NamedTuple):
    """A plate below the springs, at the foot's nodes (ny+1, nx+1): normal springs and the plate's seat, N/m."""

    normal: Floats
    seat: Floats


@dataclass(slots=True)
class Body:
    """A body of ``moduli`` (nz, ny, nx) Pa of boxes of ``size`` (m), of which ``active`` layers stand, on springs
    ``springs`` (ny+1, nx+1, 3) N/m below its lowest nodes."""

    size: tuple[float, float, float]
    moduli: Floats
    poisson: float
    across: float = 1.0
    active: int = 0
    iterations: int = 0
    smoothing: tuple[int, float, bool] = (2, 0.22, False)
    springs: Floats = field(init=False)
    _levels: list[_Level] = field(init=False)
    _blocks: Floats = field(init=False)
    _singles: Singles = field(init=False)
    _parts: Singles = field(init=False)
    _weights: Singles = field(init=False)
    _ke: Floats = field(init=False)
    _single_moduli: Singles = field(init=False)
    _largest: float = field(init=False)

    def __post_init__(self) -> None:
        self._ke = box_stiffness(self.size, self.poisson, self.across)
        self._blocks = parity_blocks(self.size, self.poisson, self.across).copy()
        self._singles = self._blocks.astype(np.float32)
        self._parts = lv.children_of(self._ke).astype(np.float32)
        self._weights = lv.child_weights().astype(np.float32)
        self._largest = largest_ratio(self._ke)
        self._single_moduli = self.moduli.astype(np.float32)
        _, ny, nx = self.moduli.shape
        self.springs = np.zeros((ny + 1, nx + 1, 3))
        self._levels = []
        shape = self.moduli.shape
        first = True
        while True:
            nz, ny, nx = shape
            stored = None if first else np.zeros((*shape, 24, 24), dtype=np.float32)
            inverse = np.zeros((nz + 1, ny + 1, nx + 1, 6), dtype=np.float32)
            ground, blocks = np.zeros((ny + 1, nx + 1, 3)), np.zeros((nz + 1, ny + 1, nx + 1, 3, 3), dtype=np.float32)
            u, r, d, out = _fields(shape)
            self._levels.append(_Level(shape, stored, ground, blocks, inverse, u, r, d, out))
            if (nz + 1) * (ny + 1) * (nx + 1) * 3 <= _DENSE or max(shape) == 1:
                break
            shape = ((nz + 1) // 2, (ny + 1) // 2, (nx + 1) // 2)
            first = False

    def stand(self, active: int, changed_from: int) -> None:
        """Let ``active`` layers of elements stand; their moduli have changed from layer ``changed_from`` on. ``hold`` must
        follow."""
        self.active = active
        self._single_moduli[changed_from:active] = self.moduli[changed_from:active]
        layers, first = active, changed_from
        for k in range(1, len(self._levels)):
            first //= 2
            level = self._levels[k]
            assert level.stored is not None
            if k == 1:
                lv.coarsen_moduli(self.moduli, self._parts, layers, first, level.stored)
            else:
                below = self._levels[k - 1].stored
                assert below is not None
                lv.coarsen_stored(below, self._weights, layers, first, level.stored)
            layers = (layers + 1) // 2
        first = changed_from
        for k, level in enumerate(self._levels):
            n, lowest = self._layers(k), max(first - 1, 0)
            level.blocks[lowest : n + 1] = 0.0
            start = max(lowest - 1, 0)
            if level.stored is None:
                lv.diagonal_of_moduli(self.moduli[:n], self._ke, start, lowest, level.blocks)
            else:
                lv.diagonal_of_stored(level.stored[:n], start, lowest, level.blocks)
            level.largest = self._largest if k == 0 else _LARGEST_STORED
            lv.invert_blocks(level.blocks[: n + 1], level.springs, level.inverse[: n + 1])
            first //= 2

    def _layers(self, k: int) -> int:
        layers = self.active
        for _ in range(k):
            layers = (layers + 1) // 2
        return layers

    def hold(self, springs: Floats, carried: Carried | None = None) -> None:
        """Set the springs (ny+1, nx+1, 3) N/m and bring the smoothers and the coarsest solver up to date.

        ``carried``: the normal springs stand on a plate; the smoothers see them in series with its seat. ``springs`` then
        holds the finest level's.
        """
        self.springs = springs
        fields = (springs,) if carried is None else (
            springs, *(np.repeat(a[..., None], 3, axis=2) for a in (carried.normal, carried.seat)),
        )  # fmt: skip
        for k, level in enumerate(self._levels):
            if k:
                finer, fields = fields, tuple(np.zeros((*level.springs.shape,)) for _ in fields)
                for a, b in zip(finer, fields, strict=True):
                    lv.coarsen_springs(a, b)
            level.springs[:] = fields[0]
            if carried is not None:
                normal, seat = (f[..., 2] for f in fields[1:])
                level.springs[..., 2] = normal * seat / np.maximum(normal + seat, 1e-30)
            lv.invert_blocks(level.blocks[:1], level.springs, level.inverse[:1])
        if carried is not None:
            self.springs = self._levels[0].springs.copy()
        last = self._levels[-1]
        self._factor(last, self._layers(len(self._levels) - 1))

    def _factor(self, level: _Level, n: int) -> None:
        """Factor the coarsest level densely."""
        _, ny, nx = level.shape
        nodes = np.arange((n + 1) * (ny + 1) * (nx + 1)).reshape(n + 1, ny + 1, nx + 1)
        A = np.zeros((3 * nodes.size, 3 * nodes.size))
        for z in range(n):
            for y in range(ny):
                for x in range(nx):
                    at = nodes[z : z + 2, y : y + 2, x : x + 2].ravel()
                    rows = (3 * at[:, None] + np.arange(3)).ravel()
                    if level.stored is None:
                        A[np.ix_(rows, rows)] += self.moduli[z, y, x] * self._ke
                    else:
                        A[np.ix_(rows, rows)] += level.stored[z, y, x]
        ground = (3 * nodes[0][..., None] + np.arange(3)).ravel()
        there = np.diag(A).copy()
        A[ground, ground] += np.where(there[ground] > 0.0, level.springs.ravel(), 0.0)
        rows = np.flatnonzero(there > 0.0)
        A = A[np.ix_(rows, rows)]
        # single precision leaves rigid motions on weak springs a little short of positive
        A[np.diag_indices_from(A)] *= 1.0 + 3e-6
        lv.factor_dense(A)
        level.factor, level.rows = A, rows

    # ---- the operator and its preconditioner
    def multiply(self, u: Floats, out: Floats) -> None:
        """Set ``out`` to the stiffness and the springs times ``u``, both (active+1, ny+1, nx+1, 3)."""
        out[:] = 0.0
        apply_boxes(u, self.moduli[: self.active], self._blocks, out)
        lv.add_springs(u, self.springs, out)

    def forces(self, u: Floats, moduli: Floats) -> Floats:
        """Forces (n+1, ny+1, nx+1, 3) of elements of ``moduli`` (n, ny, nx) for their nodes' displacements."""
        out = np.zeros_like(u)
        apply_boxes(u, np.ascontiguousarray(moduli), self._blocks, out)
        return out

    def stiffness_times(self, corners: Floats) -> Floats:
        """Forces (2, 2, 2, 3) N per Pa on an element's corners, in the order z, y, x, for their displacements."""
        return np.asarray((self._ke @ corners.ravel()).reshape(2, 2, 2, 3))

    def _apply(self, k: int, n: int, u: Singles, out: Singles) -> None:
        level = self._levels[k]
        out[:] = 0.0
        if level.stored is None:
            apply_boxes(u, self._single_moduli[:n], self._singles, out)
        else:
            lv.apply_stored(u, level.stored[:n], out)
        lv.add_springs(u, level.springs, out)

    def _cycle(self, k: int) -> Singles:
        """One V-cycle on the residual in ``r`` of level ``k``; returns the correction."""
        level, n = self._levels[k], self._layers(k)
        s = slice(0, n + 1)
        u, r, d, out, inverse = level.u[s], level.r[s], level.d[s], level.out[s], level.inverse[s]
        u[:] = 0.0
        if k == len(self._levels) - 1:
            assert level.rows is not None
            assert level.factor is not None
            lv.solve_dense(level.factor, level.rows, r, u)
            return u
        degree, low_share, twice = self.smoothing
        top, low = level.largest, low_share * level.largest
        middle, half = 0.5 * (top + low), 0.5 * (top - low)
        sigma = middle / half

        def smooth(last: bool) -> None:
            rho = 1.0 / sigma
            for step in range(degree):
                if step == 0:
                    lv.smooth_step(u, r, d, inverse, 0.0, 1.0 / middle)
                else:
                    rho, before = 1.0 / (2.0 * sigma - rho), rho
                    lv.smooth_step(u, r, d, inverse, rho * before, 2.0 * rho / half)
                if not (last and step == degree - 1):
                    self._apply(k, n, d, out)
                    np.subtract(r, out, out=r)

        smooth(False)
        below, m = self._levels[k + 1], self._layers(k + 1)
        lv.restrict(r, below.r[: m + 1])
        if twice and k < 2 and k + 2 < len(self._levels):
            kept = below.r[: m + 1].copy()
            first = self._cycle(k + 1).copy()
            self._apply(k + 1, m, first, below.out[: m + 1])
            below.r[: m + 1] = kept - below.out[: m + 1]
            correction = self._cycle(k + 1)
            correction += first
        else:
            correction = self._cycle(k + 1)
        lv.prolong(correction, inverse, d)
        self._apply(k, n, d, out)
        # the coarse body is stiffer than the fine one where it is thin: its correction is stretched to the least energy
        bend = lv.product(d, out)
        stretch = min(max(lv.product(d, r) / bend, 0.5), 4.0) if bend > 0.0 else 1.0
        lv.add_scaled(u, d, stretch)
        lv.add_scaled(r, out, -stretch)
        smooth(True)
        return u

    def solve(
        self,
        F: Floats,
        u: Floats,
        tolerance: float,
        *,
        scale: float | None = None,
        most: int = 300,
        extra: Extra | None = None,
    ) -> float:
        """Solve for ``u`` (active+1, ny+1, nx+1, 3) in place from its value; returns the residual over ``scale`` (F's norm).

        ``extra`` adds further forces of a displacement, such as those of the plate. Stops after ``most`` iterations.
        """
        n = self.active
        level = self._levels[0]
        out, there = np.empty_like(u), level.inverse[: n + 1, ..., :1] != 0.0
        self.multiply(u, out)
        if extra is not None:
            extra(u, out)
        r = np.where(there, F - out, 0.0)
        goal = tolerance * (float(np.linalg.norm(F)) if scale is None else scale)
        size = float(np.linalg.norm(r))
        stiff = float(self.moduli.max()) * max(self.size)
        p, kept, old = np.zeros_like(u), np.zeros_like(u), 1.0
        inverse = level.inverse[: n + 1]
        for count in range(most):
            if size <= goal or size == 0.0:
                break
            # single precision has its own range: the residual is brought to it
            lv.to_single(r, stiff / size, level.r[: n + 1])
            z = self._cycle(0)
            new = lv.product(r, z) * size / stiff
            # flexible: the preconditioner is not quite linear (Golub and Ye 1999)
            beta = (new - lv.product(kept, z) * size / stiff) / old if count else 0.0
            lv.turn_direction(p, z, size / stiff, max(beta, 0.0))
            old = new
            kept[:] = r
            self.multiply(p, out)
            if extra is not None:
                extra(p, out)
            size = float(np.sqrt(lv.advance_solution(u, r, p, out, new / lv.product(p, out), inverse)))
            self.iterations += 1
        return size / max(goal / tolerance, 1e-300)
