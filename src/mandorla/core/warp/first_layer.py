"""The gap of the first layer over the bed, and what it makes of the lines: too far, too near, the grip place by place."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

import numpy as np
from scipy.interpolate import RegularGridInterpolator

from mandorla.core.errors import InputError
from mandorla.core.measure.heights import HeightMap, place_name, without_holes
from mandorla.core.part.first_layer import FirstLayer
from mandorla.core.part.mesh import Floats
from mandorla.core.part.process import Placement, Process
from mandorla.core.part.sections import grid_inside
from mandorla.core.warp.bead import grip_factor, parts_at, piles_at

CELLS: Final = 41  # each way
_MAP_WITHIN: Final = 1e-5  # m, 90 % half width of a probed height
_BOW_WITHIN: Final = 0.35  # of the bow since the map, 90 % (stiffness and expansion of the plate's layers)
_Z90: Final = 1.645
_STEP: Final = 1e-5  # m, to which an offset is set
_SMALL: Final = 0.6  # of the bed, below which a map is not of it


@dataclass(frozen=True, slots=True)
class GapMap:
    """How much wider than in the middle of the bed the gap is, ``deviation`` (ny, nx) m over ``x`` (nx,), ``y`` (ny,) m from there;
    ``parts`` of it by cause; ``within`` m, 90 % half width."""

    x: Floats
    y: Floats
    deviation: Floats
    parts: Mapping[str, Floats]
    within: float

    def at(self, places: Floats) -> Floats:
        """Deviation (k,) m at places (k, 2) m from the bed's middle; beyond the map, as at its edge."""
        inside = np.clip(places, [self.x[0], self.y[0]], [self.x[-1], self.y[-1]])
        return np.asarray(RegularGridInterpolator((self.y, self.x), self.deviation)(inside[:, ::-1]))


def gap_map(
    first: FirstLayer, size: tuple[float, float], probed: HeightMap | None, bow_then: Floats, bow_now: Floats
) -> GapMap:
    """Put the gap together from its causes.

    Parameters
    ----------
    first
        What is known of nozzle, plate and seat.
    size
        Width and depth (m) of the bed.
    probed
        The height map that was taken, None without one.
    bow_then, bow_now
        Height maps (n, n) m of the bed's bow over the whole bed when the map was taken, and at the first layer.

    Raises
    ------
    InputError
        For a map of another bed: larger than this one, or far smaller.
    """
    width, depth = size
    x, y = np.linspace(-width / 2, width / 2, CELLS), np.linspace(-depth / 2, depth / 2, CELLS)
    xx, yy = np.meshgrid(x, y)
    flat = np.zeros((CELLS, CELLS))
    parts: dict[str, Floats] = {}
    if probed is not None:
        spans = float(np.ptp(probed.x)), float(np.ptp(probed.y))
        if spans[0] > 1.02 * width or spans[1] > 1.02 * depth or spans[0] < _SMALL * width or spans[1] < _SMALL * depth:
            raise InputError(
                f"The height map spans {1e3 * spans[0]:.0f} x {1e3 * spans[1]:.0f} mm, the bed "
                f"{1e3 * width:.0f} x {1e3 * depth:.0f} mm: it is of another bed, or its size is not right."
            )
        plate = _over(probed.x, probed.y, without_holes(probed.z), xx, yy)
        parts["plate"] = -(1.0 - first.compensated) * (plate - _middle(plate))
    n = bow_now.shape[0]
    ex, ey = np.linspace(-width / 2, width / 2, n), np.linspace(-depth / 2, depth / 2, n)
    change = _over(ex, ey, np.nan_to_num(bow_now - bow_then), xx, yy)
    parts["bow"] = -(change - _middle(change))
    if first.seat != "flat" and first.seat_height > 0.0:
        # a rigid plate rocks between both edges that meet at the raised corner: on average it leans along the diagonal
        sx, sy = (1.0 if "right" in first.seat else -1.0), (1.0 if "rear" in first.seat else -1.0)
        parts["seat"] = -first.seat_height * 0.5 * (sx * xx / width + sy * yy / depth)
    for array in parts.values():
        array.setflags(write=False)
    total = flat + np.sum(list(parts.values()), axis=0)
    total.setflags(write=False)
    known = _MAP_WITHIN if probed is not None else 0.0
    return GapMap(x, y, total, parts, math.hypot(known, _BOW_WITHIN * float(np.abs(parts["bow"]).max())))


def _middle(values: Floats) -> float:
    return float(values[CELLS // 2, CELLS // 2])


def _over(x: Floats, y: Floats, z: Floats, xx: Floats, yy: Floats) -> Floats:
    inside = np.stack([np.clip(yy, y[0], y[-1]), np.clip(xx, x[0], x[-1])], axis=-1)
    return np.asarray(RegularGridInterpolator((y, x), z)(inside))


@dataclass(frozen=True, slots=True)
class FirstLayerState:
    """The first layer under a part.

    Gaps in m: ``nominal``, the ``widest`` and the ``narrowest`` under the part with their places in words, beyond ``parts``
    lines part, below ``piles`` they pile up; ``within`` is a 90 % half width. ``best`` is the change of the nozzle's height
    that is right for both, ``allowed`` its range, empty (low above high) where no height is right everywhere. ``least_grip`` is
    the least grip under the part over the nominal one."""

    nominal: float
    widest: float
    widest_at: str
    narrowest: float
    narrowest_at: str
    parts: float
    piles: float
    within: float
    best: float
    allowed: tuple[float, float]
    least_grip: float

    @property
    def too_far(self) -> float:
        """Margin against lines that part, ln ratio of gaps."""
        return math.log(self.parts / max(self.widest, 1e-6))

    @property
    def too_near(self) -> float:
        """Margin against lines that pile up, ln ratio of gaps; far where there is always room."""
        return math.log(max(self.narrowest, 1e-6) / max(self.piles, 1e-6))

    def spread(self, gap: float) -> float:
        """One standard deviation of ln of a gap."""
        return self.within / _Z90 / max(gap, 1e-5)


def nominal_height(process: Process) -> float:
    """Height (m) of the first layer that is meant."""
    stated = process.first.height if process.first is not None else None
    return process.layer_height if stated is None else stated


def in_middle(process: Process) -> float:
    """Gap (m) in the middle of the bed, where the nozzle is homed."""
    first = process.first
    return nominal_height(process) + (0.0 if first is None else first.offset - first.growth)


def factors_at(process: Process, texture: float, gaps: GapMap | None, places: Floats) -> Floats:
    """Grip (k,) over the nominal one at places (k, 2) m from the bed's middle; 1 where nothing is known of the gap."""
    if gaps is None:
        return np.ones(len(places))
    return grip_factor(process.line_width, nominal_height(process), texture, in_middle(process) + gaps.at(places))


def first_layer_state(
    process: Process, texture: float, gaps: GapMap, outline: Floats, placement: Placement
) -> FirstLayerState:
    """What the gap makes of the first layer inside a convex ``outline`` (k, 2) m of the part's foot, on a ``texture`` (m deep)."""
    under = np.concatenate([grid_inside(outline), outline])
    height, places = nominal_height(process), under + np.array([placement.x, placement.y])
    gap, first = in_middle(process) + gaps.at(places), process.first or FirstLayer()
    widest, narrowest = int(gap.argmax()), int(gap.argmin())
    high, low = float(gap[widest]), float(gap[narrowest]) - first.tip_lower
    parts, piles = parts_at(process.line_width, height) + 0.5 * texture, piles_at(height, texture)
    floor = max(piles, 1e-6)
    # (high + d)(low + d) = parts * floor puts both margins at the same distance
    mean = 0.5 * (high + low)
    best = -mean + math.sqrt(max(mean * mean - high * low + parts * floor, 0.0))
    grip = grip_factor(process.line_width, height, texture, gap)
    return FirstLayerState(
        height, high, place_name(*places[widest]), low, place_name(*places[narrowest]), parts, piles,
        math.hypot(gaps.within, first.offset_within),
        round(best / _STEP) * _STEP, (piles - low, parts - high), float(grip.min()),
    )  # fmt: skip
