"""Air below a loose plate that does not lie flat: heights of the bed and of the plate on it, and what is done about it."""

from __future__ import annotations

from typing import Literal, Self

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from mandorla.core.model_base import Model
from mandorla.core.quantity_field import quantity

MOST = 25  # rows and columns that are kept
HIGHEST = 0.02  # m
_FOIL = 3e-5  # m that stays open where hollows are shimmed
Floats = NDArray[np.float64]
Rows = tuple[tuple[float, ...], ...]


class AirGap(Model):
    """Heights (m) of the ``bed`` without its plate and of the ``plate`` as it lies on it, rows from the front, over ``width`` and
    ``depth`` (m) about the bed's middle; both from any zero. ``remedy``: nothing, shims in the hollows, a rigid pane that rests on
    the bed's three highest places instead, or a plate that lies flat."""

    name: str = Field(default="", max_length=160, title="Height maps")
    bed: Rows = Field(min_length=2, max_length=MOST)
    plate: Rows = Field(min_length=2, max_length=MOST)
    width: float = quantity("large_length", 0.01, 3.0, "Spans, across")
    depth: float = quantity("large_length", 0.01, 3.0, "Spans, deep")
    remedy: Literal["none", "shims", "pane", "flat"] = Field(default="none", title="Done about it")

    @model_validator(mode="after")
    def _agree(self) -> Self:
        columns = {len(row) for row in (*self.bed, *self.plate)}
        if len(columns) != 1 or len(self.bed) != len(self.plate) or not 2 <= columns.pop() <= MOST:
            raise ValueError("both height maps need the same rows and columns, two each at least")
        if float(self.gap().max()) > HIGHEST:
            raise ValueError(
                f"the plate would stand more than {1e3 * HIGHEST:.0f} mm off the bed: are both maps of this bed?"
            )
        return self

    def gap(self) -> Floats:
        """Air (ny, nx) in m between bed and plate on the map's points, nought where they touch."""
        bed, plate = np.array(self.bed), np.array(self.plate)
        if self.remedy == "flat":
            return np.zeros_like(bed)
        if self.remedy == "pane":
            return np.asarray(resting_plane(bed) - bed)
        open_ = plate - bed
        open_ = open_ - open_.min()
        return np.minimum(open_, _FOIL) if self.remedy == "shims" else np.asarray(open_)

    def over(self, x: Floats, y: Floats) -> Floats:
        """Air (ny, nx) in m at places x (nx,) and y (ny,) m from the bed's middle; beyond the map as at its edge."""
        from scipy.interpolate import RegularGridInterpolator  # of this call only

        gap = self.gap()
        ys = np.linspace(-0.5 * self.depth, 0.5 * self.depth, gap.shape[0])
        xs = np.linspace(-0.5 * self.width, 0.5 * self.width, gap.shape[1])
        at = np.stack(np.meshgrid(np.clip(y, ys[0], ys[-1]), np.clip(x, xs[0], xs[-1]), indexing="ij"), axis=-1)
        return np.asarray(RegularGridInterpolator((ys, xs), gap)(at))


def resting_plane(heights: Floats) -> Floats:
    """The plane (ny, nx) that a rigid pane takes on a surface: it touches from above and hangs least over the middle.

    A linear program: the lowest height above the middle of all planes that lie nowhere below the surface.
    """
    from scipy.optimize import linprog  # of this call only

    ny, nx = heights.shape
    y, x = np.meshgrid(np.linspace(-1.0, 1.0, ny), np.linspace(-1.0, 1.0, nx), indexing="ij")
    points = np.column_stack([np.ones(x.size), x.ravel(), y.ravel()])
    scale = max(float(np.ptp(heights)), 1e-9)
    found = linprog(
        [1.0, 0.0, 0.0],
        A_ub=-points,
        b_ub=-(heights.ravel() - heights.min()) / scale,
        bounds=[(None, None)] * 3,
        method="highs",
    )
    if found.x is None:
        raise ValueError("no plane rests on these heights")
    plane = (points @ found.x).reshape(heights.shape) * scale + heights.min()
    return np.asarray(np.maximum(plane, heights))
