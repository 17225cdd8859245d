"""A thin plate that lies on the bed, held down by a magnet or by clips, and can be lifted by the part that stands on it.

Kirchhoff bending by finite differences of the curvature energy, free edges; below it a contact that presses only, a magnet's pull
that falls with the gap as exp(-2 pi gap/width) of a pair of poles (Halbach 1980), so that the work pull times width/(2 pi) decides
whether the sheet comes off, and clips, alone or together with the magnet. The part sees it as a springy ground: its deflection is
found by a direct solve for any force of the part, so that the whole stays symmetric and positive.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Final

import numpy as np
from scipy.sparse import coo_array, csc_array, diags_array, kron
from scipy.sparse.linalg import splu

from mandorla.core.part.mesh import Floats
from mandorla.core.warp.fe_result import PlateMap

_RINGS, _TURN = 4, 12  # points that stand for a magnet, of equal area
SEAT: Final = 5e10  # N/m³, of the seat that the plate is pressed to (a magnet sheet or a bed's surface)
MOST_CELLS: Final = 44  # of the plate's grid along a side
_FAINT: Final = 50.0  # N/m³, so that a plate nothing holds does not float
REACH: Final = 4e-3 / (2.0 * np.pi)  # m, gap over which the pull of poles 4 mm a pair falls to 1/e


@dataclass(frozen=True, slots=True)
class SheetHold:
    """How the plate is held: ``stiffness`` N m of bending (E t³/12(1 - nu²)), Poisson ratio, ``pull`` Pa of the magnet (nought
    without), ``clips`` places (k, 2) m from the bed's middle, ``half`` sizes (m) of the plate, its ``expansion`` 1/K; ``reach``
    (m) is the gap over which the pull falls to 1/e, ``middle`` (m) the plate's from the bed's. ``discs`` are single magnets,
    (k, 4): place (m) from the plate's middle, radius (m) and share of ``pull``; without any it pulls everywhere alike."""

    name: str
    stiffness: float
    poisson: float
    pull: float
    clips: tuple[tuple[float, float], ...]
    half: tuple[float, float]
    expansion: float
    clip_stiffness: float = 2e5  # N/m, each
    reach: float = REACH
    middle: tuple[float, float] = (0.0, 0.0)
    discs: tuple[tuple[float, float, float, float], ...] = ()

    def points(self) -> tuple[Floats, Floats]:
        """Places (k, 2) m from the plate's middle that stand for the magnets, and the area (k,) m² times share of each:
        together they pull as the magnets do."""
        rings = (np.arange(_RINGS) + 0.5) / _RINGS
        turns = 2.0 * np.pi * (np.arange(_TURN) + 0.5) / _TURN
        unit = np.stack([np.outer(np.sqrt(rings), f(turns)).ravel() for f in (np.cos, np.sin)], axis=1)
        places = [np.array([x, y]) + r * unit for x, y, r, _ in self.discs]
        each = [np.full(len(unit), np.pi * r * r * share / len(unit)) for _, _, r, share in self.discs]
        return np.concatenate(places), np.concatenate(each)

    @property
    def keeper(self) -> str:
        """What holds it, in a word."""
        return ("magnet and clips" if self.clips else "magnet") if self.pull > 0.0 else "clips"


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
    """The whole plate on a grid of its own: ``w`` (n,) m; ``onto`` (m, n) interpolates it bilinearly at the foot's m nodes."""

    hold: SheetHold
    x: Floats
    y: Floats
    onto: csc_array
    foot: tuple[int, int]
    w: Floats = field(init=False)
    factored: Floats = field(init=False)
    _bending: csc_array = field(init=False)
    _area: Floats = field(init=False)
    _clip: Floats = field(init=False)
    _pull: Floats = field(init=False)
    _factor: object = None
    _springs: Floats = field(init=False)

    @classmethod
    def below(cls, hold: SheetHold, x: Floats, y: Floats, middle: tuple[float, float], most: int = MOST_CELLS) -> Sheet:
        """The plate below foot nodes ``x``, ``y`` (m from the part's middle, which is at ``middle`` on the bed), on a grid of at
        most ``most`` cells a side."""
        lines, shares = [], []
        for line, at, half in zip((x, y), np.subtract(middle, hold.middle), hold.half, strict=True):
            count = int(np.clip(round(2.0 * half / max(float(line[1] - line[0]), 2.0 * half / most)), 8, most))
            nodes = np.linspace(-half, half, count + 1)
            place = np.clip((line + at + half) / (nodes[1] - nodes[0]), 0.0, count - 1e-9)
            lower = place.astype(int)
            rows = np.repeat(np.arange(line.size), 2)
            columns = np.column_stack([lower, lower + 1]).ravel()
            weights = np.column_stack([1.0 - (place - lower), place - lower]).ravel()
            shares.append(csc_array(coo_array((weights, (rows, columns)), shape=(line.size, count + 1))))
            lines.append(nodes)
        return cls(hold, lines[0], lines[1], csc_array(kron(shares[1], shares[0])), (y.size, x.size))

    def __post_init__(self) -> None:
        nx, ny = self.x.size, self.y.size
        dx, dy = float(self.x[1] - self.x[0]), float(self.y[1] - self.y[0])
        self.w = np.zeros(nx * ny)
        self._bending = bending_matrix(nx, ny, dx, dy, self.hold.stiffness, self.hold.poisson)
        share = [np.where((np.arange(n) == 0) | (np.arange(n) == n - 1), 0.5, 1.0) for n in (nx, ny)]
        self._area = dx * dy * np.outer(share[1], share[0]).ravel()
        self._clip = np.zeros(nx * ny)
        for cx, cy in self.hold.clips:
            cx, cy = cx - self.hold.middle[0], cy - self.hold.middle[1]
            at = int(np.abs(self.y - cy).argmin()) * nx + int(np.abs(self.x - cx).argmin())
            self._clip[at] += self.hold.clip_stiffness
        self._pull = self._pulls()

    def _pulls(self) -> Floats:
        """The magnet's pull (n,) in Pa over the area of each node."""
        if not self.hold.discs:
            return np.full(self.w.size, self.hold.pull)
        places, area = self.hold.points()
        i = np.clip(np.rint((places[:, 0] - self.x[0]) / (self.x[1] - self.x[0])).astype(int), 0, self.x.size - 1)
        j = np.clip(np.rint((places[:, 1] - self.y[0]) / (self.y[1] - self.y[0])).astype(int), 0, self.y.size - 1)
        there = np.bincount(j * self.x.size + i, weights=area, minlength=self.w.size)
        return np.asarray(self.hold.pull * there / self._area)

    def seat(self) -> Floats:
        """Secant stiffness (n,) N/m of what is below the plate: pressing, the magnet's preload and its pull, clips."""
        pull, w = self._pull, self.w
        eased = pull / SEAT  # m, by which the seat springs back until the preload is gone
        gap = np.maximum(w - eased, 0.0)
        held = np.where(w <= eased, SEAT, pull * np.exp(-gap / self.hold.reach) / np.maximum(w, 1e-12))
        return np.asarray(np.maximum(held, _FAINT) * self._area + self._clip * (w > 0.0))

    def settle(self, springs: Floats) -> None:
        """Take the foot's normal springs (ny+1, nx+1) N/m and the present seat, and factor anew."""
        self.factored, self._springs = self.seat(), springs.ravel()
        total = self._bending + diags_array(self.factored) + self.onto.T @ diags_array(self._springs) @ self.onto
        self._factor = splu(csc_array(total), permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0)

    def answer(self, foot: Floats) -> Floats:
        """Deflection (n,) m for the foot's upward displacement (ny+1, nx+1) m."""
        load = self.onto.T @ (self._springs * foot.ravel())
        return np.asarray(self._factor.solve(load))  # type: ignore[attr-defined]

    def under(self, w: Floats) -> Floats:
        """A deflection (n,) at the foot's nodes, (ny+1, nx+1)."""
        return np.asarray((self.onto @ w).reshape(self.foot))

    def seat_under(self, area: Floats) -> Floats:
        """The seat's springs (ny+1, nx+1) N/m at the foot's nodes of an area (m²), for the preconditioner."""
        return self.under(self.factored / self._area) * area

    @property
    def surface(self) -> PlateMap:
        """The plate as it stands."""
        gap = np.maximum(self.w - self.hold.pull / SEAT, 0.0).reshape(self.y.size, self.x.size)
        return PlateMap(self.x, self.y, gap)

    @property
    def kept(self) -> float:
        """Share of the magnet's whole pull that is still there; 1 where clips hold."""
        if self.hold.pull <= 0.0:
            return 1.0
        gap, force = np.maximum(self.w - self._pull / SEAT, 0.0), self._area * self._pull
        return float((force * np.exp(-gap / self.hold.reach)).sum() / force.sum())

    @property
    def lifted(self) -> float:
        """Largest gap (m) under the plate."""
        return float(max(0.0, self.w.max() - self.hold.pull / SEAT))
