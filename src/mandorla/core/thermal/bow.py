"""Thermal bow of the bed through the warm-up: classical laminate theory of what is bonded together.

Layers that are bonded form one plate; the group that holds the stiffest layer is the bed's plate, loose sheets follow it. With
the biaxial modulus E' = E/(1 - nu), mid-depth z and the expansion strain e = alpha (T - T_room) of each cell

    [A B; B D] [strain; curvature] = [N; M],   A, B, D = sum E' (1, z, z^2) dz,   N, M = sum E' e (1, z) dz

the curvature of a free plate follows (Jones, Mechanics of Composite Materials, 2nd ed., ch. 4; for two layers Timoshenko 1925). A
free plate bends to a spherical cap; what differences across the bed and mounts make of it is solved as a plate (bow_map).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Final

import numpy as np
from scipy.ndimage import zoom

from mandorla.core.materials.library_data import bed_materials
from mandorla.core.rig.bed import Bed
from mandorla.core.rig.model import Rig
from mandorla.core.thermal.bow_map import height_map
from mandorla.core.thermal.heatup import HeatUp
from mandorla.core.thermal.stack import Floats

SETTLED: Final = 5e-6  # m, change of the bow that a levelling or a height map does not notice


MAP_CELLS: Final = 20  # each way


@dataclass(frozen=True, slots=True)
class Bow:
    """Bow over time: ``time`` (m,) s, ``bow`` (m,) m from the corners to the middle, positive when the middle stands high.

    ``end`` m soaked with its 90 % range ``low`` to ``high`` from the spread of the library's stiffness and expansion; ``settled`` s
    from which it stays within ``SETTLED`` of its end; ``names`` of the layers that act as the plate.
    """

    time: Floats
    bow: Floats
    end: float
    low: float
    high: float
    settled: float
    names: tuple[str, ...]

    @property
    def largest(self) -> float:
        """The bow of largest size on the way (m)."""
        return float(self.bow[int(np.abs(self.bow).argmax())])

    def error_of_map(self, at: float) -> float:
        """What a height map taken at a time (s) is wrong by once the bed is soaked: change from middle to corners (m)."""
        return float(self.end - np.interp(at, self.time, self.bow))


def plate_group(bed: Bed) -> tuple[int, ...]:
    """Indices of the layers bonded into one plate with the stiffest layer (largest E t^3)."""
    stiffest = max(
        range(len(bed.layers)), key=lambda i: bed.layers[i].properties().modulus * bed.layers[i].thickness ** 3
    )
    first = last = stiffest
    while first > 0 and bed.layers[first - 1].bonded:
        first -= 1
    while last < len(bed.layers) - 1 and bed.layers[last].bonded:
        last += 1
    return tuple(range(first, last + 1))


def curvature(z: Floats, dz: Floats, modulus: Floats, strain: Floats) -> Floats:
    """Curvature (m,) in 1/m of a free laminate.

    Cells at depth ``z`` (n,) of thickness ``dz`` (n,), biaxial ``modulus`` (n,) Pa, free strains (m, n). Positive when the upper
    side is the longer one (z counts downwards): the middle stands high.
    """
    weight = modulus * dz
    # about the modulus-weighted middle, so that the coupling term vanishes; each cell bends about its own middle too
    middle = float(np.sum(weight * z) / np.sum(weight))
    arm = z - middle
    stiffness = float(np.sum(weight * (arm**2 + dz**2 / 12.0)))
    return np.asarray(-(strain @ (weight * arm)) / stiffness)


def flexural_rigidity(bed: Bed) -> float:
    """Bending stiffness D (N·m) of the bed: the bonded plate as one about its neutral plane, loose layers each for itself."""
    group = plate_group(bed)
    total = 0.0
    weights, arms, own = [], [], []
    depth = 0.0
    for i, layer in enumerate(bed.layers):
        p = layer.properties()
        plane = p.modulus / (1.0 - p.poisson**2)
        if i in group:
            weights.append(plane * layer.thickness)
            arms.append(depth + 0.5 * layer.thickness)
            own.append(plane * layer.thickness**3 / 12.0)
        else:
            total += plane * layer.thickness**3 / 12.0
        depth += layer.thickness
    w, z = np.array(weights), np.array(arms)
    middle = float((w * z).sum() / w.sum())
    return total + float((w * (z - middle) ** 2).sum()) + sum(own)


def reach_of(bed: Bed) -> float:
    """What a cap's curvature is multiplied with to give its height (m²): half the squared way from the middle to corner or rim."""
    if bed.shape == "round":
        return max(bed.width, bed.depth) ** 2 / 8.0
    return (bed.width**2 + bed.depth**2) / 8.0


def gradient_bow(bed: Bed, flux: float) -> float:
    """Bow (m, corners to middle) of the stiffest layer alone from a flux (W/m²) that enters one face and warms it evenly.

    The parabolic profile bends it by kappa = alpha q / (2 k), whatever its thickness (Boley and Weiner, Theory of Thermal
    Stresses, sec. 10.8); unlike layers come on top.
    """
    plate = max(bed.layers, key=lambda layer: layer.properties().modulus * layer.thickness**3).properties()
    return plate.expansion * flux / (2.0 * plate.conductivity) * reach_of(bed)


def thermal_bow(rig: Rig, heat: HeatUp) -> Bow:
    """Bow of the bed during a heat-up, from the temperatures of its cells."""
    bed, stack = rig.bed, heat.stack
    group = plate_group(bed)
    cells = np.isin(stack.layer, group)
    owner, z, dz = stack.layer[cells], stack.depth[cells], stack.dx[cells]
    biaxial, alpha = _elastic(bed)
    rise = heat.cells[:, cells] - rig.room_temperature
    reach = reach_of(bed)
    bow = np.asarray(reach * curvature(z, dz, biaxial[owner], alpha[owner] * rise))

    def soaked(biaxial: Floats, alpha: Floats) -> float:
        strain = alpha[owner] * (heat.steady.cells[cells] - rig.room_temperature)
        return reach * float(curvature(z, dz, biaxial[owner], strain[None, :])[0])

    end = soaked(biaxial, alpha)
    changes = np.array([soaked(b, a) - end for b, a in _variants(bed, group, biaxial, alpha)] or [0.0])
    low = end - float(np.sqrt(np.sum(np.minimum(changes, 0.0) ** 2)))
    high = end + float(np.sqrt(np.sum(np.maximum(changes, 0.0) ** 2)))
    off = np.flatnonzero(np.abs(bow - end) > SETTLED)
    settled = 0.0 if off.size == 0 else float(heat.time[off[-1] + 1]) if off[-1] + 1 < bow.size else float("nan")
    bow.setflags(write=False)
    return Bow(heat.time, bow, end, low, high, settled, tuple(bed.layers[i].name for i in group))


def bow_map(rig: Rig, heat: HeatUp, at: float) -> Floats:
    """Height map (m) of the bed's plate at a time (s) of a heat-up, relative to its corners' mean, (21, 21);
    for a round bed relative to its rim, NaN outside.

    The free curvature is that of laminate theory in the middle of the bed, carried over the plan: what comes from unlike layers
    follows the surface map's rise above the cold start, what comes from the gradient through the plate follows it too, for the
    heat that passes is in proportion to the rise. The plate is solved on its mounts (bow_map.height_map).
    """
    bed = rig.bed
    bow = thermal_bow(rig, heat)
    reach = reach_of(bed)
    middle = float(np.interp(at, bow.time, bow.bow)) / reach
    surface = heat.spread.surface(heat.at(at, heat.surface), heat.at(at, heat.air))
    rise = surface - rig.start_temperature
    centre = heat.at(at, heat.surface) - rig.start_temperature
    share = rise / centre if abs(centre) > 0.5 else np.ones_like(rise)
    coarse = zoom(share, (MAP_CELLS / share.shape[0], MAP_CELLS / share.shape[1]), order=1)
    group = plate_group(bed)
    stiff = max(group, key=lambda i: bed.layers[i].properties().modulus * bed.layers[i].thickness ** 3)
    poisson = bed.layers[stiff].properties().poisson
    if bed.shape == "rectangle":
        return height_map(bed.width, bed.depth, middle * coarse, poisson, bed.mounts)
    # a disc is a cap whether it lies loose or on its rim: the free plate of its box, seen inside the rim
    heights = height_map(bed.width, bed.depth, middle * coarse, poisson, "free")
    x, y = np.meshgrid(np.linspace(-1, 1, heights.shape[1]), np.linspace(-1, 1, heights.shape[0]))
    out = np.hypot(x, y)
    rim = np.abs(out - 1.0) < 0.06
    return np.where(out <= 1.03, heights - heights[rim].mean(), np.nan)


def _elastic(bed: Bed) -> tuple[Floats, Floats]:
    """Biaxial modulus (L,) Pa and expansion (L,) 1/K of all layers."""
    properties = [layer.properties() for layer in bed.layers]
    return np.array([p.modulus / (1.0 - p.poisson) for p in properties]), np.array([p.expansion for p in properties])


def _variants(bed: Bed, group: tuple[int, ...], biaxial: Floats, alpha: Floats) -> Iterator[tuple[Floats, Floats]]:
    """Stiffness and expansion of every layer of the plate at their low and high ends, one at a time."""
    for i in group:
        layer = bed.layers[i]
        if layer.own is not None:
            for base in (biaxial, alpha):
                for end in layer.conductivity_range():
                    changed = base.copy()
                    changed[i] *= end
                    yield (changed, alpha) if base is biaxial else (biaxial, changed)
            continue
        material = bed_materials()[bed.layers[i].material]
        for value, base in ((material.modulus, biaxial), (material.expansion, alpha)):
            for end in (value.low, value.high):
                changed = base.copy()
                changed[i] *= end / value.typical
                yield (changed, alpha) if base is biaxial else (biaxial, changed)
