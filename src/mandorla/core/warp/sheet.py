"""A thin plate that lies on the bed, held down by a magnet or by clips, and can be lifted by the part that stands on it.

Kirchhoff bending by finite differences of the curvature energy, free edges; below it a contact that presses only, and a magnet's
pull that falls off with the gap, or clips along two edges. The part sees it as a springy ground: its deflection is found by a
direct solve for any force of the part, so that the whole stays symmetric and positive.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Final

import numpy as np
from scipy.sparse import coo_array, csc_array, diags_array
from scipy.sparse.linalg import splu

from mandorla.core.part.mesh import Floats

SEAT: Final = 5e10  # N/m³, of the seat that the plate is pressed to (a magnet sheet or a bed's surface)
RANGE: Final = 4e-4  # m, gap at which a magnet's pull has gone to a quarter


@dataclass(frozen=True, slots=True)
class SheetHold:
    """How the plate is held: ``stiffness`` N m of bending (E t³/12(1 - nu²)), Poisson ratio, ``pull`` Pa of the magnet (nought
    without), ``clips`` places (k, 2) m from the bed's middle, ``half`` sizes (m) of the plate, its ``expansion`` 1/K."""

    name: str
    stiffness: float
    poisson: float
    pull: float
    clips: tuple[tuple[float, float], ...]
    half: tuple[float, float]
    expansion: float
    clip_stiffness: float = 2e5  # N/m, each


def bending_matrix(nx: int, ny: int, dx: float, dy: float, stiffness: float, poisson: float) -> csc_array:
    """Bending stiffness (n, n) of a free plate of nx x ny nodes, n = nx ny, in N/m: second differences of the deflection."""
    at = np.arange(nx * ny).reshape(ny, nx)

    def operator(shifts: list[tuple[np.ndarray, float]]) -> csc_array:
        rows = np.arange(shifts[0][0].size)
        return csc_array(
            coo_array(
                (
                    np.concatenate([np.full(rows.size, w) for _, w in shifts]),
                    (np.tile(rows, len(shifts)), np.concatenate([s.ravel() for s, _ in shifts])),
                ),
                shape=(rows.size, nx * ny),
            )
        )

    def second(axis: int, step: float, inside: bool) -> csc_array:
        a = at if axis == 1 else at.T
        if inside:
            a = a[1:-1]
        w = 1.0 / step**2
        return operator([(a[:, :-2], w), (a[:, 1:-1], -2.0 * w), (a[:, 2:], w)])

    xx, yy = second(1, dx, False), second(0, dy, False)
    inner = at[1:-1, 1:-1]
    wx, wy = 1.0 / dx**2, 1.0 / dy**2
    x_in = operator([(inner - 1, wx), (inner, -2.0 * wx), (inner + 1, wx)])
    y_in = operator([(inner - nx, wy), (inner, -2.0 * wy), (inner + nx, wy)])
    w = 1.0 / (dx * dy)
    xy = operator([(at[:-1, :-1], w), (at[:-1, 1:], -w), (at[1:, :-1], -w), (at[1:, 1:], w)])
    area, v = dx * dy, poisson
    both = x_in.T @ y_in
    return csc_array(stiffness * area * (xx.T @ xx + yy.T @ yy + v * (both + both.T) + 2.0 * (1.0 - v) * (xy.T @ xy)))


@dataclass(slots=True)
class Sheet:
    """The plate on a grid that holds the foot's nodes: ``w`` (n,) m, which of its nodes are the foot's in ``under`` (ny+1,
    nx+1)."""

    hold: SheetHold
    x: Floats
    y: Floats
    under: np.ndarray
    w: Floats = field(init=False)
    _bending: csc_array = field(init=False)
    _area: Floats = field(init=False)
    _clip: Floats = field(init=False)
    factored: Floats = field(init=False)
    _factor: object = None
    _springs: Floats | None = None

    @classmethod
    def around(cls, hold: SheetHold, x: Floats, y: Floats, middle: tuple[float, float], most: int = 14) -> Sheet:
        """A plate around foot nodes ``x``, ``y`` (m from the part's middle, which is at ``middle`` on the bed): to its edges, or
        for a magnet ``most`` cells beyond the foot, where it lies flat again."""
        lines, before = [], []
        for line, at, half in ((x, middle[0], hold.half[0]), (y, middle[1], hold.half[1])):
            step = float(line[1] - line[0])
            room = (int((line[0] + at + half + 1e-9) / step), int((half - line[-1] - at + 1e-9) / step))
            low, high = (max(0, r if hold.clips else min(r, most)) for r in room)
            lines.append(line[0] + step * np.arange(-low, line.size + high))
            before.append(low)
        nx = lines[0].size
        rows, columns = before[1] + np.arange(y.size), before[0] + np.arange(x.size)
        return cls(hold, lines[0] + middle[0], lines[1] + middle[1], rows[:, None] * nx + columns[None, :])

    def __post_init__(self) -> None:
        nx, ny = self.x.size, self.y.size
        dx, dy = float(self.x[1] - self.x[0]), float(self.y[1] - self.y[0])
        self.w = np.zeros(nx * ny)
        self._bending = bending_matrix(nx, ny, dx, dy, self.hold.stiffness, self.hold.poisson)
        share = [np.where((np.arange(n) == 0) | (np.arange(n) == n - 1), 0.5, 1.0) for n in (nx, ny)]
        self._area = dx * dy * np.outer(share[1], share[0]).ravel()
        self._clip = np.zeros(nx * ny)
        for cx, cy in self.hold.clips:
            self._clip[int(np.abs(self.y - cy).argmin()) * nx + int(np.abs(self.x - cx).argmin())] += (
                self.hold.clip_stiffness
            )

    def seat(self) -> Floats:
        """Secant stiffness (n,) N/m of what is below the plate: pressing, the magnet's preload and its pull, clips."""
        pull, w = self.hold.pull, self.w
        eased = pull / SEAT  # m, by which the seat springs back until the preload is gone
        with np.errstate(divide="ignore", invalid="ignore"):
            gap = np.maximum(w - eased, 0.0)
            force = pull / (1.0 + gap / RANGE) ** 2
            held = np.where(w <= eased, SEAT, force / np.maximum(w, 1e-12))
        if pull <= 0.0:
            held = np.where(w <= 0.0, SEAT, 0.0)
        return np.asarray(held * self._area + self._clip * (w > 0.0) + 1e-4 * self._area * SEAT * 1e-6)

    def settle(self, springs: Floats) -> None:
        """Take the foot's normal springs (ny+1, nx+1) N/m and the present seat, and factor anew."""
        self.factored = self.seat()
        total = self.factored.copy()
        np.add.at(total, self.under.ravel(), springs.ravel())
        self._springs = springs
        self._factor = splu(
            csc_array(self._bending + diags_array(total)), permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0
        )

    def answer(self, foot: Floats) -> Floats:
        """Deflection (n,) m for the foot's upward displacement (ny+1, nx+1) m."""
        assert self._springs is not None
        load = np.zeros(self.w.size)
        load[self.under.ravel()] = (self._springs * foot).ravel()
        return np.asarray(self._factor.solve(load))  # type: ignore[attr-defined]

    def below(self, w: Floats) -> Floats:
        """The part of a deflection (n,) that is under the foot, (ny+1, nx+1)."""
        return np.asarray(w[self.under])

    @property
    def lifted(self) -> float:
        """Largest gap (m) under the plate."""
        return float(max(0.0, self.w.max() - self.hold.pull / SEAT))
