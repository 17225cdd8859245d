"""A printed part beside its simulation: measured corner lifts and a height map of the underside against what was predicted.

Corner lifts are what a feeler finds under the part on a flat table: heights over the lowest of the underside once its best plane is
taken out. A map is taken as heights of the underside as it stood on the plate, spread over the foot's box, front row first.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

import numpy as np
from scipy.interpolate import RegularGridInterpolator

from mandorla.core.errors import InputError
from mandorla.core.part.mesh import Floats
from mandorla.core.part.sections import Corner
from mandorla.core.warp.fe_result import FullRun, face_readings

USUAL: Final = 2.0  # factor to which lifts are known before trials: grip alone is not known better
_NOTHING: Final = 5e-5  # m, below which a lift is not told from a feeler's thinnest leaf


@dataclass(frozen=True, slots=True)
class CornerPair:
    """One corner: predicted and measured lift (m)."""

    name: str
    predicted: float
    measured: float


@dataclass(frozen=True, slots=True)
class Agreement:
    """How a measured part compares: ``corners``; ``factor`` measured over predicted and the ``scatter`` (a factor) about it, NaN
    with nothing to compare; for a map, ``map_factor``, what is left (rms, m) and the correlation of shapes."""

    corners: tuple[CornerPair, ...]
    factor: float
    scatter: float
    map_factor: float
    map_left: float
    map_alike: float

    @property
    def within(self) -> bool:
        """Whether the factor lies within what is not known beforehand."""
        factor = self.factor if np.isfinite(self.factor) else self.map_factor
        return bool(1.0 / USUAL <= factor <= USUAL)


def predicted_lifts(found: FullRun) -> dict[str, float]:
    """Lift (m) of each corner of the released part on a flat table, by name."""
    places, off = face_readings(found, found.released, "underside")
    up = -off  # outwards of the underside is down
    up = up - up.min()

    def at(c: Corner) -> float:
        return float(up[int(np.argmin(np.hypot(places[:, 0] - c.x, places[:, 1] - c.y)))])

    return {c.name: at(c) for c in found.corners}


def compare_part(found: FullRun, lifts: Mapping[str, float], heights: Floats | None = None) -> Agreement:
    """Compare a run with measured corner lifts (m, by the corner's name) and a map (rows, columns) m of the underside.

    Raises :class:`InputError` when a corner is not one of the part's, or nothing was measured.
    """
    predicted = predicted_lifts(found)
    strange = [name for name in lifts if name not in predicted]
    if strange:
        raise InputError(f"“{strange[0]}” is no corner of this part: {', '.join(predicted)}.")
    if not lifts and heights is None:
        raise InputError("Nothing was measured: enter corner lifts or open a height map of the underside.")
    pairs = tuple(CornerPair(name, predicted[name], value) for name, value in lifts.items())
    ratios = [np.log(p.measured / p.predicted) for p in pairs if min(p.measured, p.predicted) > _NOTHING]
    factor = float(np.exp(np.mean(ratios))) if ratios else float("nan")
    scatter = float(np.exp(np.std(ratios))) if len(ratios) > 1 else float("nan")
    slope, left, alike = _map_agreement(found, heights) if heights is not None else (float("nan"),) * 3
    return Agreement(pairs, factor, scatter, slope, left, alike)


def _map_agreement(found: FullRun, heights: Floats) -> tuple[float, float, float]:
    """Factor of the measured shape on the predicted one by least squares, what it leaves (rms, m), and their correlation."""
    places, off = face_readings(found, found.released, "underside")
    x = np.linspace(places[:, 0].min(), places[:, 0].max(), heights.shape[1])
    y = np.linspace(places[:, 1].min(), places[:, 1].max(), heights.shape[0])
    there = np.isfinite(heights)
    if there.sum() < 6:
        raise InputError("The map has fewer than six points.")
    filled = np.where(there, heights, np.nanmean(heights))
    measured = RegularGridInterpolator((y, x), filled)(places[:, [1, 0]])
    known = RegularGridInterpolator((y, x), there.astype(float))(places[:, [1, 0]]) > 0.99
    if known.sum() < 6:
        raise InputError("The map has fewer than six points on the foot.")
    plane = np.column_stack([np.ones(int(known.sum())), places[known, :2]])

    def level(values: Floats) -> Floats:
        c, *_ = np.linalg.lstsq(plane, values, rcond=None)
        return np.asarray(values - plane @ c)

    m, p = level(measured[known]), level(-off[known])
    size = float(p @ p)
    slope = float(m @ p) / size if size > 0.0 else float("nan")
    alike = float(m @ p) / max(float(np.sqrt((m @ m) * size)), 1e-30)
    return slope, float(np.sqrt(np.mean((m - slope * p) ** 2))), alike
