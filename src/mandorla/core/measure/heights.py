"""Height maps cold, warm and soaked: tilt and bow, their differences, the feeler at three or four points."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final, NamedTuple

import numpy as np
from pydantic import ValidationError

from mandorla.core.errors import InputError, Problem
from mandorla.core.measure.models import Gap, StoredHeights
from mandorla.core.rig.air_gap import MOST, AirGap
from mandorla.core.thermal.stack import Floats

METRES: Final = {"mm": 1e-3, "µm": 1e-6, "in": 0.0254}
HIGHEST: Final = 0.02  # m, beyond which a height is no bed's
MOST_CELLS: Final = 4_000_000


_MOST: Final = 1e6  # of a figure of a map, in its own unit


def read_matrix(data: bytes, name: str) -> Floats:
    """A matrix (rows, columns) from CSV text: any usual delimiter, decimal comma, holes as empty cells, dashes or ``nan``.

    Lines of words before the figures are skipped. Raises :class:`InputError` with line and reason.
    """
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = data.decode("latin-1")
    lines = [line for line in text.splitlines() if line.strip()]
    if not lines:
        raise InputError(f"“{name}” is empty.")
    middle = "\n".join(lines[:40])
    delimiter = next((d for d in ("\t", ";") if d in middle), "," if "," in middle else " ")
    comma = delimiter in "\t; " and "," in middle
    rows: list[list[float]] = []
    try:
        read = list(csv.reader(io.StringIO("\n".join(lines)), delimiter=delimiter, skipinitialspace=True))
    except csv.Error as error:
        raise InputError(f"“{name}” is no CSV: {error}.") from None
    for number, row in enumerate(read, start=1):
        cells = [c.strip() for c in row]
        if cells and cells[-1] == "":
            cells = cells[:-1]  # a delimiter at the end of every line
        values = []
        for column, cell in enumerate(cells, start=1):
            if cell.lower() in ("", "nan", "-", "--", "null", "none"):
                values.append(math.nan)
                continue
            try:
                values.append(float(cell.replace(",", ".") if comma else cell))
                if not abs(values[-1]) < _MOST:
                    raise ValueError
            except ValueError:
                if not rows:
                    values = []
                    break
                raise InputError(
                    f"“{name}”, line {number}: “{cell[:30]}” is not a number.",
                    problems=(Problem(f"line {number}, column {column}", cell[:30], "a number or an empty cell"),),
                ) from None
        if not values:
            continue
        if rows and len(values) != len(rows[0]):
            raise InputError(
                f"“{name}”, line {number}: {len(values)} cells where the lines before have {len(rows[0])}."
            )
        rows.append(values)
    found = np.array(rows, dtype=np.float64)
    if found.ndim != 2 or min(found.shape) < 2:
        raise InputError(f"“{name}” holds no matrix of two rows and two columns or more.")
    if found.size > MOST_CELLS:
        raise InputError(f"“{name}” has {found.size} cells; {MOST_CELLS} are the most that are taken.")
    if not np.isfinite(found).any():
        raise InputError(f"“{name}” has holes only.")
    return found


class BestPlane(NamedTuple):
    """A plane through heights: ``middle`` m, ``along_x`` and ``along_y`` in m/m."""

    middle: float
    along_x: float
    along_y: float


@dataclass(frozen=True, slots=True)
class HeightMap:
    """Heights ``z`` (ny, nx) m over ``x`` (nx,), ``y`` (ny,) m from the bed's middle, front row first; NaN where not probed."""

    x: Floats
    y: Floats
    z: Floats

    def plane(self) -> BestPlane:
        """The best plane through what was probed."""
        xx, yy = np.meshgrid(self.x, self.y)
        there = np.isfinite(self.z)
        if there.sum() < 3:
            raise InputError("Fewer than three points were probed.")
        a = np.column_stack([np.ones(int(there.sum())), xx[there], yy[there]])
        c, *_ = np.linalg.lstsq(a, self.z[there], rcond=None)
        return BestPlane(float(c[0]), float(c[1]), float(c[2]))

    def without_plane(self) -> Floats:
        """Heights (ny, nx) above the best plane."""
        c = self.plane()
        return np.asarray(self.z - c[0] - c[1] * self.x[None, :] - c[2] * self.y[:, None])

    @property
    def tilt(self) -> tuple[float, float]:
        """Rise (m) from left to right and from front to rear over what was probed."""
        _, a, b = self.plane()
        return a * float(np.ptp(self.x)), b * float(np.ptp(self.y))

    @property
    def peak_to_valley(self) -> float:
        """Range (m) of what the best plane leaves."""
        left = self.without_plane()
        return float(np.nanmax(left) - np.nanmin(left))

    @property
    def bow(self) -> float:
        """Height (m) of the middle over the rim by a best dome: positive means up in the middle."""
        xx, yy = np.meshgrid(self.x, self.y)
        there = np.isfinite(self.z)
        rx, ry = max(np.abs(self.x).max(), 1e-6), max(np.abs(self.y).max(), 1e-6)
        u, v = xx[there] / rx, yy[there] / ry
        a = np.column_stack([np.ones(u.size), u, v, u**2, v**2, u * v])
        if u.size < 6:
            raise InputError("A bow needs six points or more.")
        c, *_ = np.linalg.lstsq(a, self.z[there], rcond=None)
        return float(-(c[3] + c[4]))


ORDER: Final = ("cold", "warm", "soaked", "levelled")  # in which the states of a bed follow each other


def pairs_of(states: Sequence[str]) -> tuple[tuple[int, int], ...]:
    """Which maps can be compared: (later, earlier) places of every two that follow each other, from the coldest one first."""
    ranks = [(ORDER.index(s), i) for i, s in enumerate(states)]
    pairs = [(i, j) for rank, i in ranks for other, j in ranks if (other, j) < (rank, i)]
    return tuple(sorted(pairs, key=lambda p: (ORDER.index(states[p[1]]), p[1], ORDER.index(states[p[0]]), p[0])))


def height_map(stored: StoredHeights, data: bytes) -> HeightMap:
    """A stored height map in m. Raises :class:`InputError` for heights that no bed has."""
    z = read_matrix(data, stored.file) * METRES[stored.unit]
    if stored.rear_first:
        z = z[::-1]
    extent = float(np.nanmax(z) - np.nanmin(z))
    if extent > HIGHEST:
        raise InputError(
            f"“{stored.file}”: heights differ by {1e3 * extent:.3g} mm, more than any bed; is the unit “{stored.unit}” right?"
        )
    ny, nx = z.shape
    return HeightMap(
        np.linspace(-stored.width / 2, stored.width / 2, nx), np.linspace(-stored.depth / 2, stored.depth / 2, ny), z
    )


def air_between(bed: HeightMap, plate: HeightMap, size: tuple[float, float], name: str) -> AirGap:
    """The air below a plate that lies on a bed, from the height maps of both, on the points of the coarser one.

    ``size`` (m) is the bed's. Raises :class:`InputError` where a map is of another bed, or the two share no points.
    """
    for what, found in (("bed", bed), ("plate", plate)):
        spans = (float(np.ptp(found.x)), float(np.ptp(found.y)))
        if spans[0] > 1.05 * size[0] or spans[1] > 1.05 * size[1]:
            raise InputError(
                f"The height map of the {what} spans {1e3 * spans[0]:.0f} × {1e3 * spans[1]:.0f} mm, more than the bed of "
                f"{1e3 * size[0]:.0f} × {1e3 * size[1]:.0f} mm: it is of another one."
            )
    width, depth = (min(float(np.ptp(getattr(m, axis))) for m in (bed, plate)) for axis in "xy")
    nx, ny = (min(MOST, *(getattr(m, axis).size for m in (bed, plate))) for axis in "xy")
    points = HeightMap(
        np.linspace(-width / 2, width / 2, nx), np.linspace(-depth / 2, depth / 2, ny), np.zeros((ny, nx))
    )
    # what nought less a map is, on these points
    below, above = (-difference(points, found).z for found in (bed, plate))
    open_ = without_holes(above - below)
    below = without_holes(below)
    kept = [tuple(tuple(float(v) for v in row) for row in np.round(z, 7)) for z in (below, below + open_)]
    try:
        return AirGap(name=name[:160], bed=kept[0], plate=kept[1], width=width, depth=depth)
    except ValidationError as error:
        raise InputError(str(error.errors()[0]["msg"]).removeprefix("Value error, ")) from None


def without_holes(z: Floats) -> Floats:
    """Heights with every hole as high as the nearest place that was probed."""
    holes = ~np.isfinite(z)
    if not holes.any():
        return z
    from scipy.ndimage import distance_transform_edt  # loads late: few maps have holes

    near = distance_transform_edt(holes, return_distances=False, return_indices=True)
    return np.asarray(z[tuple(near)])


def difference(later: HeightMap, earlier: HeightMap) -> HeightMap:
    """What changed (m) on the later map's points, the earlier one interpolated; only where both were probed."""
    xi = np.interp(later.x, earlier.x, np.arange(earlier.x.size), left=np.nan, right=np.nan)
    yi = np.interp(later.y, earlier.y, np.arange(earlier.y.size), left=np.nan, right=np.nan)
    inside_x, inside_y = np.isfinite(xi), np.isfinite(yi)
    i = np.clip(np.nan_to_num(xi).astype(int), 0, max(earlier.x.size - 2, 0))
    j = np.clip(np.nan_to_num(yi).astype(int), 0, max(earlier.y.size - 2, 0))
    fx, fy = np.nan_to_num(xi) - i, (np.nan_to_num(yi) - j)[:, None]
    e = earlier.z
    a = e[np.ix_(j, i)] * (1 - fx) + e[np.ix_(j, i + 1)] * fx
    b = e[np.ix_(j + 1, i)] * (1 - fx) + e[np.ix_(j + 1, i + 1)] * fx
    old = a * (1 - fy) + b * fy
    old[~inside_y, :] = np.nan
    old[:, ~inside_x] = np.nan
    found = later.z - old
    if not np.isfinite(found).any():
        raise InputError("The two height maps do not overlap.")
    return HeightMap(later.x, later.y, found)


@dataclass(frozen=True, slots=True)
class Feeler:
    """What a feeler at some points says: tilt per metre along x and y, twist (m) over the points, what to turn (place, m down)."""

    tilt_x: float
    tilt_y: float
    twist: float
    turns: tuple[tuple[str, float], ...]


def place_name(x: float, y: float) -> str:
    """A place on the bed in words."""
    side = "left" if x < 0 else "right"
    deep = "front" if y < 0 else "rear"
    return f"{deep}-{side}" if abs(x) > 1e-6 and abs(y) > 1e-6 else deep if abs(x) <= 1e-6 else side


def screw_words(rise: float, pitch: float, *, clockwise_raises: bool) -> str:
    """How far to turn a levelling screw for a rise (m, negative lowers) at a pitch (m a turn): in turns, to a sixteenth; empty
    where the pitch is not known or nothing is to be turned."""
    sixteenths = round(16.0 * abs(rise) / pitch) if pitch > 0.0 else 0
    if not sixteenths:
        return ""
    whole, part = divmod(sixteenths, 16)
    shown = {0: "", 2: "⅛", 4: "¼", 6: "⅜", 8: "½", 10: "⅝", 12: "¾", 14: "⅞"}
    fraction = shown.get(part, f"{part}/16")
    turns = " ".join(v for v in (str(whole) if whole else "", fraction) if v)
    way = "clockwise" if (rise > 0.0) is clockwise_raises else "anticlockwise"
    return f"{turns} turn{'s' if sixteenths > 16 else ''} {way}"


def judge_feeler(gaps: Sequence[Gap], wanted: float) -> Feeler:
    """Tilt from three points or more; with four also the twist that no levelling removes.

    A larger gap means a lower bed there; turns raise (positive) or lower each point to the ``wanted`` gap (m).
    """
    if len(gaps) < 3:
        raise InputError("Three points or more are needed to tell a tilt.")
    p = np.array([(g.x, g.y, g.gap) for g in gaps])
    a = np.column_stack([np.ones(len(gaps)), p[:, 0], p[:, 1]])
    if np.linalg.matrix_rank(a) < 3:
        raise InputError("The points lie on one line: a tilt across it cannot be told.")
    c, *_ = np.linalg.lstsq(a, p[:, 2], rcond=None)
    left = p[:, 2] - a @ c
    turns = tuple((place_name(g.x, g.y), float(g.gap - wanted)) for g in gaps)
    return Feeler(float(-c[1]), float(-c[2]), float(np.ptp(left)), turns)
