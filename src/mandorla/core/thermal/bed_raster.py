"""The bed in plan: which part of each cell every layer covers, what lies bare, where heat enters, where brackets sit.

Everything is kept as fractions of cells, so that an outline need not follow the cells' borders. A layer that is smaller than
what lies above and below it leaves a closed air gap, which conducts as still air and radiates.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final, NamedTuple

import numpy as np
from numpy.typing import NDArray

from mandorla.core.rig.bed import Bed, Outline

Floats = NDArray[np.float64]

_SAMPLES: Final = 8  # points a cell side for curved outlines
GAP_CONDUCTIVITY: Final = 0.028  # W/m·K, still air at about 80 °C
GAP_RADIATION: Final = 4.5  # W/m²K between two dull faces at about 80 °C


class Lifted(NamedTuple):
    """A ``layer`` with the ``resistance`` (ny, nx) m²K/W of the air below it."""

    layer: int
    resistance: Floats


@dataclass(frozen=True, slots=True)
class Plan:
    """Cells in plan between borders ``ex`` (nx+1,), ``ey`` (ny+1,) m; all fractions per cell, shape (L, ny, nx).

    ``cover`` of the layer itself, ``gap`` closed air in its place, ``up`` and ``down`` bare faces; ``heat`` (ny, nx) the share of
    the heater's power (sum 1 over the whole bed); ``bracket`` (L, ny, nx) W/K to the frame;
    ``rim`` (ny, nx) m of the bed's edge. ``times`` is how many such pieces make
    the bed: 4 for a quarter. ``lifted`` is the loose plate's lowest layer with the resistance (ny, nx) m²K/W of the air below it,
    over that of its joint (None: it lies flat).
    """

    ex: Floats
    ey: Floats
    cover: Floats
    gap: Floats
    up: Floats
    down: Floats
    heat: Floats
    bracket: Floats
    rim: Floats
    times: int
    lifted: Lifted | None = None

    @property
    def centres(self) -> tuple[Floats, Floats]:
        """Middles of the cells, x (nx,) and y (ny,) in m."""
        return 0.5 * (self.ex[1:] + self.ex[:-1]), 0.5 * (self.ey[1:] + self.ey[:-1])

    @property
    def cell_area(self) -> float:
        """Area of a cell in m²."""
        return float((self.ex[1] - self.ex[0]) * (self.ey[1] - self.ey[0]))


def is_symmetric(bed: Bed, directed: bool = False) -> bool:
    """Whether a quarter of the bed stands for all of it; ``directed`` is a draft from one side."""
    outlines = [layer.outline for layer in bed.layers if layer.outline] + [z.outline for z in bed.heater.zones]
    centred = all(o.x == 0.0 and o.y == 0.0 for o in outlines)
    sensor_in_middle = bed.sensor.x == 0.0 and bed.sensor.y == 0.0
    uneven = bed.spots or bed.heater.power_map or bed.air_gap is not None
    return centred and sensor_in_middle and not (uneven or directed)


def in_plan(bed: Bed) -> Bed:
    """A bed without what its plan does not depend on, so that beds that differ only in that share one plan."""
    layers = tuple(x.model_copy(update={"own": None, "contact_resistance": 0.0, "thickness": 1e-3}) for x in bed.layers)
    return bed.model_copy(update={
        "layers": layers, "heater": bed.heater.model_copy(update={"power": 1.0}),
        "sensor": bed.sensor.model_copy(update={"bias": 0.0}),
    })  # fmt: skip


def _span(edges: Floats, middle: float, size: float) -> Floats:
    """Share of each cell between ``edges`` that a span covers."""
    low, high = middle - size / 2, middle + size / 2
    return np.clip((np.minimum(edges[1:], high) - np.maximum(edges[:-1], low)) / np.diff(edges), 0.0, 1.0)


def covered(outline: Outline, ex: Floats, ey: Floats) -> Floats:
    """Share (ny, nx) of each cell that an outline covers: exact for rectangles, by 8 x 8 points for round ones."""
    if outline.shape == "rectangle":
        return np.asarray(_span(ey, outline.y, outline.depth)[:, None] * _span(ex, outline.x, outline.width)[None, :])
    offsets = (np.arange(_SAMPLES) + 0.5) / _SAMPLES
    x = (ex[:-1, None] + offsets * np.diff(ex)[:, None]).ravel()
    y = (ey[:-1, None] + offsets * np.diff(ey)[:, None]).ravel()
    inside = ((x[None, :] - outline.x) / (outline.width / 2)) ** 2 + (
        (y[:, None] - outline.y) / (outline.depth / 2)
    ) ** 2 <= 1.0
    ny, nx = ey.size - 1, ex.size - 1
    return np.asarray(inside.reshape(ny, _SAMPLES, nx, _SAMPLES).mean(axis=(1, 3)))


def _heat(bed: Bed, ex: Floats, ey: Floats, carrier: Floats) -> Floats:
    """Share of the heater's power in each cell, not yet normalised."""
    heater = bed.heater
    if heater.zones:
        total = np.zeros((ey.size - 1, ex.size - 1))
        for zone in heater.zones:
            total += zone.share * covered(zone.outline, ex, ey) / zone.outline.area
        return total * (carrier > 0.0)
    heated = covered(Outline(width=heater.width, depth=heater.depth), ex, ey) * (carrier > 0.0)
    if heater.power_map:
        densities = np.array(heater.power_map)[::-1]  # rows come from the back
        rows, cols = densities.shape
        weighted = np.zeros_like(heated)
        for r in range(rows):
            for c in range(cols):
                patch = Outline.model_construct(  # finer than an outline that a person may enter
                    shape="rectangle",
                    width=heater.width / cols, depth=heater.depth / rows,
                    x=heater.width * ((c + 0.5) / cols - 0.5), y=heater.depth * ((r + 0.5) / rows - 0.5),
                )  # fmt: skip
                weighted += densities[r, c] * covered(patch, ex, ey)
        return weighted * (carrier > 0.0)
    return heated


def plan_of(bed: Bed, cells: int, *, quarter: bool) -> Plan:
    """Cut the bed in plan; ``cells`` along each side, or along each half side of a quarter."""
    nx = ny = cells
    start = 0.0 if quarter else -0.5
    ex = np.linspace(start * bed.width, bed.width / 2, nx + 1)
    ey = np.linspace(start * bed.depth, bed.depth / 2, ny + 1)
    layers = len(bed.layers)
    cover = np.stack([covered(bed.outline_of(i), ex, ey) for i in range(layers)])
    bracket = np.zeros_like(cover)
    for spot in bed.spots:
        i = bed.layer_index(spot.layer)
        disc = covered(
            Outline.model_construct(shape="round", width=spot.diameter, depth=spot.diameter, x=spot.x, y=spot.y), ex, ey
        )
        if spot.kind == "hole":
            cover[i] = np.maximum(cover[i] - disc, 0.0)
        else:
            if disc.sum() == 0.0:  # smaller than a point of the sampling: all in its own cell
                disc[np.searchsorted(ey, spot.y) - 1, np.searchsorted(ex, spot.x) - 1] = 1.0
            bracket[i] += spot.conductance * disc / disc.sum()
    gap, up, down = np.zeros_like(cover), np.zeros_like(cover), np.zeros_like(cover)
    for i in range(layers):
        above = cover[:i].max(axis=0) if i else np.zeros(cover.shape[1:])
        below = cover[i + 1 :].max(axis=0) if i < layers - 1 else np.zeros(cover.shape[1:])
        gap[i] = np.maximum(np.minimum(above, below) - cover[i], 0.0)
        up[i] = np.maximum(cover[i] - above, 0.0)
        down[i] = np.maximum(cover[i] - below, 0.0)
    heat = _heat(bed, ex, ey, cover[bed.layer_index(bed.heater.layer)])
    heat /= heat.sum() * (4.0 if quarter else 1.0)
    return Plan(
        ex,
        ey,
        cover,
        gap,
        up,
        down,
        heat,
        bracket,
        _rim(bed, ex, ey, quarter),
        4 if quarter else 1,
        _lifted(bed, ex, ey),
    )


def _lifted(bed: Bed, ex: Floats, ey: Floats) -> Lifted | None:
    """The air below the loose plate as a resistance: it conducts as still air and radiates."""
    loose = bed.loose_plate
    if bed.air_gap is None or loose is None:
        return None
    air = bed.air_gap.over(0.5 * (ex[1:] + ex[:-1]), 0.5 * (ey[1:] + ey[:-1]))
    return Lifted(loose, air / (GAP_CONDUCTIVITY + GAP_RADIATION * air))


def _rim(bed: Bed, ex: Floats, ey: Floats, quarter: bool) -> Floats:
    """Length of edge (ny, nx) in m in each cell; a round bed's is shared out by the slope of its cover."""
    dx, dy = ex[1] - ex[0], ey[1] - ey[0]
    rim = np.zeros((ey.size - 1, ex.size - 1))
    if bed.shape == "rectangle":
        rim[:, -1] += dy
        rim[-1, :] += dx
        if not quarter:
            rim[:, 0] += dy
            rim[0, :] += dx
        return rim
    cover = covered(bed.outline, ex, ey)
    padded = np.pad(cover, 1, mode="edge")
    slope = np.hypot(
        (padded[1:-1, 2:] - padded[1:-1, :-2]) / (2 * dx), (padded[2:, 1:-1] - padded[:-2, 1:-1]) / (2 * dy)
    )
    slope *= cover > 0.0
    return np.asarray(slope * bed.perimeter / (slope.sum() * (4.0 if quarter else 1.0)))


def edge_shape(bed: Bed, plan: Plan) -> Floats:
    """Local natural convection (ny, nx) relative to its mean: it falls with the -1/4 power of the distance from the edge."""
    x, y = plan.centres
    if bed.shape == "rectangle":
        away = np.minimum(bed.width / 2 - np.abs(x[None, :]), bed.depth / 2 - np.abs(y[:, None]))
    else:
        out = np.hypot(x[None, :] / (bed.width / 2), y[:, None] / (bed.depth / 2))
        away = np.maximum((1.0 - out) * min(bed.width, bed.depth) / 2, 0.25 * float(plan.ex[1] - plan.ex[0]))
    return _relative(away**-0.25, bed, plan)


def draft_shape(bed: Bed, plan: Plan, side: str) -> Floats:
    """Local forced convection (ny, nx) relative to its mean: it falls with the -1/2 power of the way from the leading edge."""
    x, y = plan.centres
    across, along = bed.width / 2, bed.depth / 2
    way = {
        "left": x[None, :] + across,
        "right": across - x[None, :],
        "front": y[:, None] + along,
        "back": along - y[:, None],
    }
    run = np.broadcast_to(way[side], (y.size, x.size))
    return _relative(run**-0.5, bed, plan)


def _relative(shape: Floats, bed: Bed, plan: Plan) -> Floats:
    weight = covered(bed.outline, plan.ex, plan.ey)
    return np.asarray(shape / float((shape * weight).sum() / weight.sum()))
