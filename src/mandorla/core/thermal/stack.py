"""The bed stack cut into finite-volume cells, from the print surface down."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Final, NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from mandorla.core.rig.bed import Bed
from mandorla.core.thermal.bed_raster import GAP_CONDUCTIVITY, GAP_RADIATION, Lifted, in_plan, is_symmetric, plan_of

Floats = NDArray[np.float64]

# Cells a layer: enough that the transient at the surface is within 0.05 K of a refined grid (docs/theory.md, "Grid and step").
_CELLS_PER_LAYER: Final = 2
_BIOT_CELL: Final = 0.006  # m of aluminium-like thickness per cell before another one is added
_MAX_CELLS: Final = 6
_THIN: Final = 0.0003  # m, of films that hold next to no heat


_PLAN_CELLS: Final = 40  # each way, for the mean shares of layers with outlines of their own


@dataclass(frozen=True, slots=True)
class Layering:
    """The stack cut through its thickness, arrays (n,): ``dx`` m, ``k`` W/m·K, ``rho_c`` J/m³K, ``layer`` index, ``depth`` m of the
    centres; ``joint`` (n-1,) m²K/W between neighbours."""

    dx: Floats
    k: Floats
    rho_c: Floats
    layer: NDArray[np.int64]
    depth: Floats
    joint: Floats


class Lateral(NamedTuple):
    """What a place of the plate has over the bed's mean, (MODES,) each: ``per_watt`` K/W of the heater's uneven power,
    ``per_kelvin`` K per K that the plate is above the air, following with the time constants ``lag`` (s); the power is first
    ``late`` (s) on its way from the heater to the plate."""

    per_watt: Floats
    per_kelvin: Floats
    lag: Floats
    late: float


MODES: Final = 5
EVEN: Final = Lateral(np.zeros(MODES), np.zeros(MODES), np.ones(MODES), 0.0)


@dataclass(frozen=True, slots=True)
class Stack:
    """Finite-volume cells of the stack, all arrays of shape (n,), read-only, per m² of the bed.

    ``dx`` m, ``k`` W/m·K, ``capacity`` J/m²K, ``conductance`` (n-1,) W/m²K between neighbours with the joints in it,
    ``layer`` index of the layer of each cell, ``source`` share of the heater's power deposited in each cell,
    ``sensor`` weights (n,) of the sensor's place, ``depth`` m of the centres below the print surface. ``up`` and ``down`` are the
    bare shares of each cell's faces, ``share`` what its layer covers of the bed, ``bracket`` W/K that brackets carry to the frame.
    ``lateral`` is what the place of the sensor has over the mean of the bed (spread.lateral_spread).
    """

    dx: Floats
    k: Floats
    capacity: Floats
    conductance: Floats
    layer: NDArray[np.int64]
    source: Floats
    sensor: Floats
    depth: Floats
    up: Floats
    down: Floats
    share: Floats
    bracket: Floats
    lateral: Lateral
    emissivity_top: float
    emissivity_bottom: float


def _frozen(values: ArrayLike) -> Floats:
    array = np.ascontiguousarray(values, dtype=np.float64)
    array.setflags(write=False)
    return array


def series_resistance(thickness: Floats, k: Floats, joints: Floats) -> float:
    """Thermal resistance (m²K/W) of layers in series with joints between them (composite wall, Incropera eq. 3.19)."""
    return float(np.sum(thickness / k) + np.sum(joints))


def cut_layers(
    bed: Bed, refine: int = 1, k_scale: Sequence[float] | None = None, joint_scale: Sequence[float] | float = 1.0, *,
    thrifty: bool = False,
) -> Layering:  # fmt: skip
    """Cut the bed's layers through the thickness (see :func:`build_stack` for the arguments)."""
    dx: list[float] = []
    k: list[float] = []
    rho_c: list[float] = []
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
        if thrifty:
            n = 1 if layer.thickness < _THIN else min(n, 4 if p.conductivity < 0.1 else 2)
        n *= refine
        scale = joint_scale if isinstance(joint_scale, int | float) else joint_scale[index]
        for j in range(n):
            dx.append(layer.thickness / n)
            k.append(p.conductivity * (k_scale[index] if k_scale is not None else 1.0))
            rho_c.append(p.density * p.specific_heat)
            layer_of.append(index)
            joint.append(layer.contact_resistance * scale if j == n - 1 else 0.0)
    dxa, owner = np.array(dx), np.array(layer_of)
    owner.setflags(write=False)
    depth = np.cumsum(dxa) - 0.5 * dxa
    return Layering(_frozen(dxa), _frozen(k), _frozen(rho_c), owner, _frozen(depth), _frozen(joint[:-1]))


def links(cut: Layering, cover: Floats, gap: Floats, lifted: Lifted | None = None) -> Floats:
    """Conductance (n-1, ...) in W/m²K of every column's own area between neighbours through the stack.

    ``cover`` and ``gap`` (L, ...) are what each layer and the closed air in its place cover of each column. A closed gap conducts
    as still air and radiates; where one of the two neighbours is missing nothing passes. ``lifted`` adds the air below a loose
    plate.
    """
    column = (-1, *(1 for _ in cover.shape[1:]))
    thickness = np.array([cut.dx[cut.layer == i].sum() for i in range(cover.shape[0])])
    k_gap = (GAP_CONDUCTIVITY + GAP_RADIATION * thickness)[cut.layer].reshape(column)
    solid, air = cover[cut.layer], gap[cut.layer]
    present = solid + air
    with np.errstate(divide="ignore", invalid="ignore"):
        # half a cell of the part that is there
        half = 0.5 * cut.dx.reshape(column) * present / (solid * cut.k.reshape(column) + air * k_gap)
        both = np.minimum(present[:-1], present[1:])
        joint = cut.joint.reshape(column) * np.where(both > 0.0, np.minimum(solid[:-1], solid[1:]) / both, 0.0)
        if lifted is not None:
            joint[int(np.flatnonzero(cut.layer == lifted.layer)[-1])] += lifted.resistance
        found = both / (half[:-1] + half[1:] + joint)
    return np.where(both > 0.0, found, 0.0)


@dataclass(frozen=True, slots=True)
class _Shares:
    """Means of a plan over the bed: the unlike columns' cover and gap (L, q) with their shares (q,), covered and bare shares (L,)
    of each layer, brackets (L,) W/K, the air (q,) below a loose plate."""

    cover: Floats
    gap: Floats
    weight: Floats
    share: Floats
    up: Floats
    down: Floats
    bracket: Floats
    lifted: Lifted | None


@lru_cache(maxsize=32)
def _shares(bed: Bed) -> _Shares:
    plan = plan_of(bed, _PLAN_CELLS, quarter=is_symmetric(bed))
    layers = len(bed.layers)
    per_bed = plan.cell_area * plan.times / bed.area
    air = plan.lifted.resistance[None] if plan.lifted is not None else np.zeros((1, *plan.heat.shape))
    columns = np.concatenate([plan.cover, plan.gap, air]).reshape(2 * layers + 1, -1).round(9)
    unlike, count = np.unique(columns, axis=1, return_counts=True)
    lifted = None if plan.lifted is None else Lifted(plan.lifted.layer, unlike[-1])
    return _Shares(
        unlike[:layers], unlike[layers:-1], np.asarray(count * per_bed, dtype=np.float64), plan.cover.sum(axis=(1, 2)) * per_bed,
        plan.up.sum(axis=(1, 2)) * per_bed, plan.down.sum(axis=(1, 2)) * per_bed, plan.bracket.sum(axis=(1, 2)) * plan.times,
        lifted,
    )  # fmt: skip


def _is_plain(bed: Bed) -> bool:
    """Whether every layer covers the whole, rectangular bed."""
    return (
        bed.shape == "rectangle"
        and not bed.spots
        and bed.air_gap is None
        and all(layer.outline is None for layer in bed.layers)
    )


def build_stack(
    bed: Bed, refine: int = 1, k_scale: Sequence[float] | None = None, joint_scale: Sequence[float] | float = 1.0, *,
    thrifty: bool = False,
) -> Stack:  # fmt: skip
    """Cut the bed into cells.

    ``refine`` multiplies the number of cells of every layer; ``k_scale`` (one factor a layer) and ``joint_scale`` (one for all or
    one a layer) vary the conductivities and the joints within their uncertainty. ``thrifty`` takes one cell for films
    and two for most layers, as the three-dimensional solution does.

    What was cut before is not cut again: the same bed and its variants are asked for at every edit.
    """
    joints = joint_scale if isinstance(joint_scale, int | float) else tuple(joint_scale)
    return _built(bed, refine, None if k_scale is None else tuple(k_scale), joints, thrifty)


@lru_cache(maxsize=256)
def _built(
    bed: Bed, refine: int, k_scale: tuple[float, ...] | None, joint_scale: tuple[float, ...] | float, thrifty: bool
) -> Stack:
    """See :func:`build_stack`."""
    cut = cut_layers(bed, refine, k_scale, joint_scale, thrifty=thrifty)
    n = cut.dx.size
    up, down, share, bracket = np.zeros(n), np.zeros(n), np.ones(n), np.zeros(n)
    half = 0.5 * cut.dx / cut.k
    firsts = np.flatnonzero(np.diff(cut.layer, prepend=-1) > 0)
    lasts = np.flatnonzero(np.diff(cut.layer, append=cut.layer[-1] + 1) > 0)
    if _is_plain(bed):
        conductance = 1.0 / (half[:-1] + half[1:] + cut.joint)
        up[0] = down[-1] = 1.0
    else:
        mean = _shares(in_plan(bed))
        conductance = links(cut, mean.cover, mean.gap, mean.lifted) @ mean.weight
        share = mean.share[cut.layer]
        up[firsts], down[lasts], bracket[firsts] = mean.up, mean.down, mean.bracket
    heated = cut.layer == bed.layer_index(bed.heater.layer)
    return Stack(
        dx=cut.dx,
        k=cut.k,
        capacity=_frozen(cut.rho_c * cut.dx * share),
        conductance=_frozen(conductance),
        layer=cut.layer,
        source=_frozen(np.where(heated, cut.dx, 0.0) / cut.dx[heated].sum()),
        sensor=_frozen(_sensor_weights(bed, cut.dx, cut.layer)),
        depth=cut.depth,
        up=_frozen(up),
        down=_frozen(down),
        share=_frozen(share),
        bracket=_frozen(bracket),
        lateral=EVEN,
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
    if cells.size == 1:
        weights[cells[0]] = 1.0
        return weights
    upper = int(np.clip(np.searchsorted(centres, at), 1, cells.size - 1))
    share = (at - centres[upper - 1]) / (centres[upper] - centres[upper - 1])
    weights[cells[upper - 1]] = 1.0 - share
    weights[cells[upper]] += share
    return weights
