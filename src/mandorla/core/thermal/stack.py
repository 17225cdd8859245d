"""The bed stack cut into finite-volume cells, from the print surface down."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np
from numpy.typing import ArrayLike, NDArray

from mandorla.core.rig.model import Bed

Floats = NDArray[np.float64]

# Cells a layer: enough that the transient at the surface is within 0.05 K of a refined grid (docs/theory.md, "Grid and step").
_CELLS_PER_LAYER: Final = 2
_BIOT_CELL: Final = 0.006  # m of aluminium-like thickness per cell before another one is added
_MAX_CELLS: Final = 6


@dataclass(frozen=True, slots=True)
class Stack:
    """Finite-volume cells of the stack, all arrays of shape (n,), read-only.

    ``dx`` m, ``k`` W/m·K, ``capacity`` J/m²K, ``conductance`` (n-1,) W/m²K between neighbours with the joints in it,
    ``layer`` index of the layer of each cell, ``source`` share of the heater's power deposited in each cell,
    ``sensor`` weights (n,) of the sensor's place, ``depth`` m of the centres below the print surface.
    """

    dx: Floats
    k: Floats
    capacity: Floats
    conductance: Floats
    layer: NDArray[np.int64]
    source: Floats
    sensor: Floats
    depth: Floats
    emissivity_top: float
    emissivity_bottom: float


def _frozen(values: ArrayLike) -> Floats:
    array = np.ascontiguousarray(values, dtype=np.float64)
    array.setflags(write=False)
    return array


def series_resistance(thickness: Floats, k: Floats, joints: Floats) -> float:
    """Thermal resistance (m²K/W) of layers in series with joints between them (composite wall, Incropera eq. 3.19)."""
    return float(np.sum(thickness / k) + np.sum(joints))


def build_stack(bed: Bed, refine: int = 1, k_scale: Sequence[float] | None = None, joint_scale: float = 1.0) -> Stack:
    """Cut the bed into cells.

    ``refine`` multiplies the number of cells of every layer; ``k_scale`` (one factor a layer) and ``joint_scale`` vary the
    conductivities and the joints within their uncertainty.
    """
    dx: list[float] = []
    k: list[float] = []
    capacity: list[float] = []
    layer_of: list[int] = []
    joint: list[float] = []
    for index, layer in enumerate(bed.layers):
        p = layer.properties()
        n = _CELLS_PER_LAYER
        if p.conductivity < 1.0:
            # poor conductors carry the steep gradients: more cells the thicker they are
            n = int(np.clip(2 + layer.thickness / 0.0015, 2, _MAX_CELLS))
        elif layer.thickness > _BIOT_CELL:
            n = 3
        n *= refine
        for j in range(n):
            dx.append(layer.thickness / n)
            k.append(p.conductivity * (k_scale[index] if k_scale is not None else 1.0))
            capacity.append(p.density * p.specific_heat * layer.thickness / n)
            layer_of.append(index)
            joint.append(layer.contact_resistance * joint_scale if j == n - 1 else 0.0)
    dxa, ka, owner = np.array(dx), np.array(k), np.array(layer_of)
    half = 0.5 * dxa / ka
    conductance = 1.0 / (half[:-1] + half[1:] + np.array(joint[:-1]))
    depth = np.cumsum(dxa) - 0.5 * dxa
    heated = owner == bed.layer_index(bed.heater.layer)
    owner.setflags(write=False)
    source = np.where(heated, dxa, 0.0) / dxa[heated].sum()
    return Stack(
        dx=_frozen(dxa),
        k=_frozen(ka),
        capacity=_frozen(capacity),
        conductance=_frozen(conductance),
        layer=owner,
        source=_frozen(source),
        sensor=_frozen(_sensor_weights(bed, dxa, owner)),
        depth=_frozen(depth),
        emissivity_top=bed.layers[0].properties().emissivity,
        emissivity_bottom=bed.layers[-1].properties().emissivity,
    )


def _sensor_weights(bed: Bed, dx: Floats, owner: NDArray[np.int64]) -> Floats:
    """Linear interpolation between the cell centres of the sensor's layer."""
    cells = np.flatnonzero(owner == bed.layer_index(bed.sensor.layer))
    thickness = dx[cells].sum()
    centres = np.cumsum(dx[cells]) - 0.5 * dx[cells]
    at = np.clip(bed.sensor.depth_fraction * thickness, centres[0], centres[-1])
    weights = np.zeros(dx.size)
    upper = int(np.clip(np.searchsorted(centres, at), 1, cells.size - 1))
    share = (at - centres[upper - 1]) / (centres[upper] - centres[upper - 1])
    weights[cells[upper - 1]] = 1.0 - share
    weights[cells[upper]] += share
    return weights
