"""A project's part, process and temperatures as a case for the full simulation; how the plate is held, from the bed's layers."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Final

import numpy as np

from mandorla.core.materials.library_data import joint_kinds
from mandorla.core.part.mesh import Floats, Mesh
from mandorla.core.part.print_time import RAFT_SOLID
from mandorla.core.part.process import Placement
from mandorla.core.rig.bed import Bed
from mandorla.core.runtime import RunContext
from mandorla.core.warp.estimate import Conditions, PartToPrint, body_of, bonded_demand, foundation_of
from mandorla.core.warp.full import Ground, Layers, Resolution, simulate
from mandorla.core.warp.full_result import FullRun
from mandorla.core.warp.grip import grip_at, grip_of, temperature_factor
from mandorla.core.warp.sheet import SheetHold
from mandorla.core.warp.voxels import Voxels

_CLIP_AT: Final = 0.8  # of the half width: where clips sit along the front and the rear edge
FIRST_ZONE: Final = 0.001  # m that is printed at the first layers' plate temperature


def hold_of(bed: Bed) -> SheetHold | None:
    """The loose plate on top of a bed: what lies above the first joint that is not bonded, held by that joint; None: nothing is
    loose.

    A magnet pulls over the whole plate; clips hold it at four places of its front and rear edge; what only lies there is held by
    its weight, and counts as clipped, for no practitioner prints on glass that nothing holds.
    """
    first = next((i for i, layer in enumerate(bed.layers[:-1]) if not layer.bonded), None)
    if first is None:
        return None
    z, bending, middle, total = 0.0, 0.0, 0.0, 0.0
    sheets = []
    for layer in bed.layers[: first + 1]:
        p = layer.properties()
        plane = p.modulus / (1.0 - p.poisson**2)
        sheets.append((plane, z, z + layer.thickness, p))
        middle += plane * layer.thickness * (z + 0.5 * layer.thickness)
        total += plane * layer.thickness
        z += layer.thickness
    neutral = middle / total
    for plane, low, high, _ in sheets:
        bending += plane * ((high - neutral) ** 3 - (low - neutral) ** 3) / 3.0
    stiffest = max(sheets, key=lambda s: s[0] * (s[2] - s[1]))[3]
    below, joint = bed.layers[first + 1], bed.layers[first].joint
    magnet = joint == "magnetic" or below.material == "magnet_sheet"
    half = (0.5 * bed.width, 0.5 * bed.depth)
    clips = () if magnet else tuple((sx * _CLIP_AT * half[0], sy * half[1]) for sx in (-1.0, 1.0) for sy in (-1.0, 1.0))
    name = bed.layers[first].name
    kind = joint_kinds()["magnetic"].pull
    pull = kind.typical if magnet and kind is not None else 0.0
    return SheetHold(name, bending, stiffest.poisson, pull, clips, half, stiffest.expansion)


def layers_of(part: PartToPrint, at: Conditions) -> Callable[[Voxels], Layers]:
    """Properties along the height of the boxes, from the same print history as the quick estimate's."""
    body = body_of(part, at)
    lumps, solid = part.lumps, part.lumps.area / part.lumps.gross_area
    strength = part.polymer.strength.typical * np.maximum(bonded_demand(part, at).healed, 0.02) * solid
    edges = np.concatenate([[0.0], lumps.top])
    thickness = np.diff(edges)

    def on(voxels: Voxels) -> Layers:
        z = voxels.z * (edges[-1] / voxels.z[-1])

        def mean(values: Floats) -> Floats:
            integral = np.concatenate([[0.0], np.cumsum(values * thickness)])
            return np.asarray(np.diff(np.interp(z, edges, integral)) / np.diff(z))

        return Layers(
            mean(body.E_print), mean(body.E_cold), mean(body.fresh), mean(body.late), mean(body.cooling), mean(strength)
        )

    return on


def brim_reach(part: PartToPrint, stiffness: float) -> float:
    """Width (m) of a brim whose grip helps the part's edge: a strip of one layer on the grip bends over a quarter wave of
    (4 EI/k)^(1/4) (Hetenyi 1946); what lies further out is not reached before the edge lets go."""
    process, E = part.process, part.polymer.modulus.typical
    thickness = max(process.raft * RAFT_SOLID, process.layer_height)
    wave = (E * thickness**3 / (3.0 * stiffness)) ** 0.25
    return float(min(process.reach, 0.5 * np.pi * wave))


def full_run(
    part: PartToPrint, at: Conditions, mesh: Mesh, bed: Bed, placement: Placement, plate_at: Callable[[Floats], Floats],
    resolution: Resolution = "standard", run: RunContext | None = None, seen: Callable[[FullRun], None] | None = None,
    *, edge: float | None = None, carve: Callable[[Voxels], Voxels] | None = None,
) -> FullRun:  # fmt: skip
    """Simulate a part in full. ``plate_at`` gives the plate's surface (K) at places (k, 2) m from the part's middle.

    Raises :class:`Cancelled` when asked to stop.
    """
    key, surface = part.process.polymer, part.surface
    grip = grip_of(surface, key)

    def grip_there(x: Floats, y: Floats) -> tuple[Floats, Floats]:
        T = plate_at(np.column_stack([x.ravel(), y.ravel()])).reshape(x.shape)
        factor = np.maximum(temperature_factor(T, grip), 1e-3)
        return grip.strength.typical * factor, grip.fracture_energy.typical * factor

    cold = grip_at(surface, key, at.room)
    sheet = hold_of(bed)
    hot = float(at.corner_plate.mean())
    carrier = sheet.expansion if sheet is not None else max(
        (layer.properties() for layer in bed.layers), key=lambda p: p.modulus
    ).expansion  # fmt: skip
    foundation = foundation_of(part)
    softest = grip.strength.typical**2 / (2.0 * grip.fracture_energy.typical)
    ground = Ground(
        grip_there, (cold.strength, cold.fracture_energy), foundation, brim_reach(part, softest),
        carrier * (hot - at.room), sheet, (placement.x, placement.y),
    )  # fmt: skip
    found = simulate(
        mesh, part.sections.corners, layers_of(part, at), ground, part.polymer.poisson.typical, resolution, run,
        across=part.polymer.across_layers.typical, edge=edge, seen=seen, carve=carve,
    )  # fmt: skip
    return replace(found, layer_height=part.process.layer_height)
