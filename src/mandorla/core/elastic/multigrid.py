"""Conjugate gradients with a geometric multigrid for a body of equal boxes that grows layer by layer on springs.

The operator is never assembled on the finest level; coarse levels are Galerkin ones in single precision and kept between solves:
only what new layers touch is built anew. Void takes neither time nor memory: boxes and nodes are numbered without it. Smoothing
is a block-Jacobi Chebyshev polynomial of second order, the same before and after the coarse correction, so that the
preconditioner is symmetric (Adams et al. 2003).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.elastic import levels as lv
from mandorla.core.elastic.box_kernel import LANES, apply_boxes, apply_stored
from mandorla.core.elastic.box_numbering import BoxNumbering, Table, children, coarser, stretches
from mandorla.core.elastic.hexahedron import Floats, box_stiffness, largest_ratio, parity_blocks
from mandorla.core.elastic.levels import Singles

_STIFFER: Final = (3e-6, 3e-5, 3e-4, 3e-3)  # of the coarsest level's diagonal, tried in turn
_FACTOR: Final = 2.0  # times the root of the largest diagonal element, beyond which a factor is none
_DENSE: Final = 260  # unknowns below which a level is solved directly
_LARGEST_STORED: Final = (
    4.2  # bound of the smoother's eigenvalues on coarse levels, found by power iteration: 3.2 to 4.0
)
_DEGREE: Final = 2  # of the smoothing polynomial
_LOW: Final = 0.22  # lower end of what it smooths, over the largest eigenvalue
_WALLS: Final = (
    1.4  # nodes over boxes above which a body is walls and its coarse levels are gone through twice (W-cycle)
)
Extra = Callable[[Floats], Floats]


@dataclass(slots=True)
class _Level:
    """One level: its elements' packed stiffness (None on the finest), work fields (n, 3) and springs of its lowest nodes (k, 3);
    how it lies under the next coarser one (``rows``) and over the next finer one (``inner``)."""

    cells: BoxNumbering
    stored: Singles | None
    inner: Table | None
    springs: Floats
    blocks: Singles
    inverse: Singles
    u: Singles
    r: Singles
    d: Singles
    out: Singles
    largest: float = 4.0
    rows: Table | None = None
    factor: Floats | None = None
    unknowns: np.ndarray | None = None


def _level(cells: BoxNumbering, finer: BoxNumbering | None) -> _Level:
    n, m = cells.places.size, -(-cells.boxes.size // LANES)
    stored = None if finer is None else np.zeros((m, 300, LANES), dtype=np.float32)
    inner = None if finer is None else children(finer, cells)
    blocks, inverse = np.zeros((n, 6), dtype=np.float32), np.zeros((n, 6), dtype=np.float32)
    u, r, d, out = (np.zeros((n, 3), dtype=np.float32) for _ in range(4))
    return _Level(cells, stored, inner, np.zeros((int(cells.node_ends[1]), 3)), blocks, inverse, u, r, d, out)


class Carried(NamedTuple):
    """A plate below the springs, at the foot's nodes (ny+1, nx+1): normal springs and the plate's seat, N/m."""

    normal: Floats
    seat: Floats


@dataclass(slots=True)
class ElasticBody:
    """A body of ``moduli`` (nz, ny, nx) Pa of boxes of ``size`` (m), of which ``active`` layers stand, on springs
    ``springs`` (ny+1, nx+1, 3) N/m below its lowest nodes.

    Where the moduli are nought at first there is never a box; they may come and go elsewhere. ``levels`` are the grids from the
    finest on; ``twice``: the coarse ones are gone through twice a cycle, as thin walls need it.
    """

    size: tuple[float, float, float]
    moduli: Floats
    poisson: float
    across: float = 1.0
    active: int = 0
    iterations: int = 0
    springs: Floats = field(init=False)
    levels: list[_Level] = field(init=False)
    _blocks: Floats = field(init=False)
    _singles: Singles = field(init=False)
    _negative: Singles = field(init=False)
    _parts: Singles = field(init=False)
    _weights: Singles = field(init=False)
    _ke: Floats = field(init=False)
    _standing: Floats = field(init=False)
    _single: Singles = field(init=False)
    _largest: float = field(init=False)
    twice: bool = field(init=False)

    def __post_init__(self) -> None:
        self._ke = box_stiffness(self.size, self.poisson, self.across)
        self._blocks = parity_blocks(self.size, self.poisson, self.across).copy()
        self._singles = self._blocks.astype(np.float32)
        self._negative = -self._singles
        self._parts = lv.children_of(self._ke).astype(np.float32)
        self._weights = lv.child_weights().astype(np.float32)
        self._largest = largest_ratio(self._ke)
        _, ny, nx = self.moduli.shape
        self.springs = np.zeros((ny + 1, nx + 1, 3))
        solid = self.moduli != 0.0
        cells = BoxNumbering.of(solid)
        self.twice = cells.places.size > _WALLS * cells.boxes.size
        self.levels = [_level(cells, None)]
        while 3 * cells.places.size > _DENSE and max(cells.shape) > 1:
            finer, solid = cells, coarser(solid)
            cells = BoxNumbering.of(solid)
            self.levels[-1].rows = stretches(finer, cells)
            self.levels.append(_level(cells, finer))
        self._standing = self.moduli.ravel()[self.levels[0].cells.boxes]
        self._single = self._standing.astype(np.float32)

    def stand(self, active: int, changed_from: int) -> None:
        """Let ``active`` layers of elements stand; their moduli have changed from layer ``changed_from`` on. ``hold`` must
        follow."""
        self.active = active
        cells = self.levels[0].cells
        new = slice(cells.box_ends[changed_from], cells.box_ends[active])
        self._standing[new] = self.moduli.ravel()[cells.boxes[new]]
        self._single[new] = self._standing[new]
        first = changed_from
        for k, level in enumerate(self.levels):
            cells = level.cells
            first, layers = (first // 2 if k else first), self._layers(k)
            ends = cells.box_ends
            if level.stored is not None:
                assert level.inner is not None
                below = self.levels[k - 1]
                count = below.cells.box_ends[self._layers(k - 1)]
                if below.stored is None:
                    lv.coarsen_moduli(
                        self._standing, self._parts, level.inner, ends[first], ends[layers], count, level.stored
                    )
                else:
                    lv.coarsen_stored(
                        below.stored, self._weights, lv.AT, level.inner, ends[first], ends[layers], count, level.stored
                    )
            lowest = max(first - 1, 0)
            start, nodes = ends[max(lowest - 1, 0)], cells.nodes[: ends[layers]]
            low, end = cells.node_ends[lowest], cells.node_ends[layers + 1]
            level.blocks[low:end] = 0.0
            if level.stored is None:
                lv.diagonal_of_moduli(self._standing, self._ke, nodes, start, low, level.blocks)
            else:
                lv.diagonal_of_stored(level.stored, lv.AT, nodes, start, low, level.blocks)
            level.largest = _LARGEST_STORED if k else self._largest
            lv.invert_blocks(level.blocks, level.springs, 0, end, level.inverse)

    def _layers(self, k: int) -> int:
        """Layers of elements of level ``k`` that stand."""
        layers = self.active
        for _ in range(k):
            layers = (layers + 1) // 2
        return layers

    def _nodes(self, k: int) -> int:
        """Nodes of level ``k`` up to what stands."""
        return int(self.levels[k].cells.node_ends[self._layers(k) + 1])

    def hold(self, springs: Floats, carried: Carried | None = None) -> None:
        """Set the springs (ny+1, nx+1, 3) N/m and bring the smoothers and the coarsest solver up to date.

        ``carried``: the normal springs stand on a plate; the smoothers see them in series with its seat. ``springs`` then
        holds the finest level's.
        """
        fields = (springs,) if carried is None else (
            springs, *(np.repeat(a[..., None], 3, axis=2) for a in (carried.normal, carried.seat)),
        )  # fmt: skip
        seen = springs
        for k, level in enumerate(self.levels):
            _, ny, nx = level.cells.shape
            if k:
                finer, fields = fields, tuple(np.zeros((ny + 1, nx + 1, 3)) for _ in fields)
                for a, b in zip(finer, fields, strict=True):
                    lv.coarsen_springs(a, b)
            seen = fields[0].copy()
            if carried is not None:
                normal, seat = (f[..., 2] for f in fields[1:])
                seen[..., 2] = normal * seat / np.maximum(normal + seat, 1e-30)
            count = level.springs.shape[0]
            level.springs[:] = seen.reshape(-1, 3)[level.cells.places[:count]]
            lv.invert_blocks(level.blocks, level.springs, 0, count, level.inverse)
            if k == 0:
                self.springs = seen
        self._factor()

    def _factor(self) -> None:
        """Factor the coarsest level densely."""
        k = len(self.levels) - 1
        level, n, layers = self.levels[k], self._nodes(k), self._layers(k)
        A = np.zeros((3 * n, 3 * n))
        for e in range(int(level.cells.box_ends[layers])):
            rows = (3 * level.cells.nodes[e][:, None] + np.arange(3)).ravel()
            own = (
                self._standing[e] * self._ke if level.stored is None else level.stored[e // LANES, :, e % LANES][lv.AT]
            )
            A[np.ix_(rows, rows)] += own
        there = np.diag(A).copy()
        ground = np.arange(level.springs.size)
        A[ground, ground] += np.where(there[ground] > 0.0, level.springs.ravel(), 0.0)
        unknowns = np.flatnonzero(there > 0.0)
        A = A[np.ix_(unknowns, unknowns)]
        # single precision leaves rigid motions on weak springs short of positive, the more the weaker they are; a stiffer diagonal
        # costs iterations and changes no result
        most = np.sqrt(A.diagonal().max(initial=0.0))
        for shift in _STIFFER:
            factor = A.copy()
            factor[np.diag_indices_from(A)] *= 1.0 + shift
            lv.factor_dense(factor)
            level.factor, level.unknowns = factor, unknowns
            if np.abs(np.tril(factor)).max(initial=0.0) <= _FACTOR * most:
                return  # no entry of a true factor is larger than the root of its diagonal element

    # ---- the operator and its preconditioner
    def multiply(self, u: Floats, out: Floats) -> None:
        """Set ``out`` to the stiffness and the springs times ``u``, both (active+1, ny+1, nx+1, 3)."""
        places = self.levels[0].cells.places[: self._nodes(0)]
        given = u.reshape(-1, 3)[places]
        found = np.empty_like(given)
        self._multiply(given, found)
        out[...] = 0.0
        out.reshape(-1, 3)[places] = found

    def _multiply(self, u: Floats, out: Floats) -> None:
        """The same between fields (n, 3) of the nodes that there are."""
        cells = self.levels[0].cells
        out[:] = 0.0
        apply_boxes(u, self._standing, self._blocks, cells.nodes[: cells.box_ends[self.active]], out)
        lv.add_springs(u, self.levels[0].springs, 1.0, out)

    def forces(self, u: Floats, moduli: Floats, first: int = 0) -> Floats:
        """Forces (n+1, ny+1, nx+1, 3) of elements of ``moduli`` (n, ny, nx), from layer ``first`` on, for their nodes'
        displacements."""
        cells, (n, ny, nx) = self.levels[0].cells, moduli.shape
        boxes = slice(cells.box_ends[first], cells.box_ends[first + n])
        start, end = cells.node_ends[first], cells.node_ends[first + n + 1]
        places = cells.places[start:end] - first * (ny + 1) * (nx + 1)
        given = u.reshape(-1, 3)[places]
        found = np.zeros_like(given)
        own = moduli.ravel()[cells.boxes[boxes] - first * ny * nx]
        apply_boxes(given, own, self._blocks, cells.nodes[boxes] - np.int32(start), found)
        out = np.zeros_like(u)
        out.reshape(-1, 3)[places] = found
        return out

    def stiffness_times(self, corners: Floats) -> Floats:
        """Forces (2, 2, 2, 3) N per Pa on an element's corners, in the order z, y, x, for their displacements."""
        return np.asarray((self._ke @ corners.ravel()).reshape(2, 2, 2, 3))

    def _add(self, k: int, u: Singles, sign: float, out: Singles) -> None:
        """Add ``sign`` times stiffness and springs of level ``k`` times ``u``."""
        level = self.levels[k]
        nodes = level.cells.nodes[: level.cells.box_ends[self._layers(k)]]
        if level.stored is None:
            apply_boxes(u, self._single, self._singles if sign > 0.0 else self._negative, nodes, out)
        else:
            apply_stored(u, level.stored, nodes, sign, out)
        lv.add_springs(u, level.springs, sign, out)

    def _cycle(self, k: int) -> Singles:
        """One V-cycle on the residual in ``r`` of level ``k``; returns the correction."""
        level, n = self.levels[k], self._nodes(k)
        u, r, d, out, inverse = level.u[:n], level.r[:n], level.d[:n], level.out[:n], level.inverse[:n]
        if k == len(self.levels) - 1:
            assert level.unknowns is not None
            assert level.factor is not None
            u[:] = 0.0
            lv.solve_dense(level.factor, level.unknowns, r, u)
            return u
        assert level.rows is not None
        top, low = level.largest, _LOW * level.largest
        middle, half = 0.5 * (top + low), 0.5 * (top - low)
        sigma = middle / half

        def smooth(last: bool) -> None:
            rho = 1.0 / sigma
            for step in range(_DEGREE):
                if step == 0:
                    lv.smooth_step(u, r, d, inverse, 0.0, 1.0 / middle, 1.0 if last else 0.0)
                else:
                    rho, before = 1.0 / (2.0 * sigma - rho), rho
                    lv.smooth_step(u, r, d, inverse, rho * before, 2.0 * rho / half, 1.0)
                if not (last and step == _DEGREE - 1):
                    self._add(k, d, -1.0, r)

        smooth(False)
        below = self.levels[k + 1].r[: self._nodes(k + 1)]
        lv.restrict(r, level.rows, below)
        if self.twice and k < 2 and k + 2 < len(self.levels):
            kept = below.copy()
            first = self._cycle(k + 1).copy()
            self._add(k + 1, first, -1.0, kept)
            below[:] = kept
            correction = self._cycle(k + 1)
            lv.add_scaled(correction, first, 1.0)
        else:
            correction = self._cycle(k + 1)
        lv.prolong(correction, level.rows, inverse, d)
        out[:] = 0.0
        self._add(k, d, 1.0, out)
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

        ``extra`` gives further normal forces (ny+1, nx+1) on the foot for its displacement, such as those of the plate. Stops
        after ``most`` iterations.
        """
        n, level = self._nodes(0), self.levels[0]
        places = level.cells.places[:n]
        foot = places[: level.springs.shape[0]]
        plane = np.zeros(self.springs.shape[:2])
        found, inverse = u.reshape(-1, 3)[places], level.inverse[:n]
        out = np.empty_like(found)

        def multiply(p: Floats) -> None:
            self._multiply(p, out)
            if extra is not None:
                plane.ravel()[foot] = p[: foot.size, 2]
                out[: foot.size, 2] += extra(plane).ravel()[foot]

        multiply(found)
        r = np.where(inverse[:, :1] != 0.0, F.reshape(-1, 3)[places] - out, 0.0)
        goal = tolerance * (float(np.linalg.norm(F)) if scale is None else scale)
        size = float(np.linalg.norm(r))
        stiff = float(self.moduli.max()) * max(self.size)
        p, kept, old = np.zeros_like(found), np.zeros_like(found), 1.0
        for count in range(most):
            if size <= goal or size == 0.0:
                break
            # single precision has its own range: the residual is brought to it
            lv.to_single(r, stiff / size, level.r[:n])
            z = self._cycle(0)
            new = lv.product(r, z) * size / stiff
            # flexible: the preconditioner is not quite linear (Golub and Ye 1999)
            beta = (new - lv.product(kept, z) * size / stiff) / old if count else 0.0
            lv.turn_direction(p, z, size / stiff, max(beta, 0.0))
            old = new
            kept[:] = r
            multiply(p)
            lv.advance_solution(found, r, p, out, new / lv.product(p, out), inverse)
            size = float(np.sqrt(lv.product(r, r)))
            self.iterations += 1
        u.reshape(-1, 3)[places] = found
        return size / max(goal / tolerance, 1e-300)
