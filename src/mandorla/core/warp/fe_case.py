"""A project's part, process and temperatures as a case for the full simulation; how the plate is held, from the bed's layers."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, fields, replace
from typing import Final

import numpy as np

from mandorla.core.part.mesh import Floats, Mesh
from mandorla.core.part.print_time import RAFT_SOLID
from mandorla.core.part.process import Placement
from mandorla.core.part.sections import Corner
from mandorla.core.rig.bed import Bed
from mandorla.core.runtime import RunContext
from mandorla.core.warp.adhesion import adhesion_at, adhesion_of, temperature_factor
from mandorla.core.warp.cracks import BEADS, joint_energy
from mandorla.core.warp.estimate import Conditions, PartToPrint, body_of, bonded_demand, foundation_of, hotter_by_block
from mandorla.core.warp.fe_model import BOXES, Boxes, FeCase, Ground, Layers
from mandorla.core.warp.fe_result import FullRun
from mandorla.core.warp.fe_simulation import simulate
from mandorla.core.warp.first_layer import factors_at
from mandorla.core.warp.learned import NOTHING, Learned, magnet_of
from mandorla.core.warp.loose_plate import SheetHold
from mandorla.core.warp.multi_body import MOST_TOGETHER, Bodies, sort_out
from mandorla.core.warp.unknowns import Z90
from mandorla.core.warp.voxels import Voxels, edge_for

_CLIP_AT: Final = 0.8  # of the half width: where clips sit along the front and the rear edge
_BESIDE: Final = 0.012  # m from a part's foot to the clips beside it


@dataclass(frozen=True, slots=True)
class Foot:
    """Where a part stands: its ``middle`` from the bed's and the ``half`` sizes of its foot (m)."""

    middle: tuple[float, float]
    half: tuple[float, float]


def foot_of(part: PartToPrint, placement: Placement) -> Foot:
    """Where all bodies of a part stand."""
    x, y = part.whole.x_extent[0], part.whole.y_extent[0]
    middle = (placement.x + 0.5 * float(x.sum()), placement.y + 0.5 * float(y.sum()))
    return Foot(middle, (0.5 * float(np.ptp(x)), 0.5 * float(np.ptp(y))))


@dataclass(frozen=True, slots=True)
class AllBodies:
    """All bodies of a plate with what each is to print, their ``corners`` and the body that each corner is of; ``body`` is the one
    that sets how fine the boxes are."""

    bodies: tuple[Mesh, ...]
    parts: tuple[PartToPrint, ...]
    corners: tuple[Corner, ...]
    corner_of: tuple[int, ...]
    body: Mesh

    def boxes(self, mesh: Mesh, each: int) -> int:
        """Boxes of the whole ``mesh`` where ``body`` has ``each``."""
        return round(each * mesh.volume / self.body.volume)


def hold_of(bed: Bed, foot: Foot | None = None, learned: Learned = NOTHING) -> SheetHold | None:
    """The loose plate on top of a bed: what lies above the first joint that is not bonded, held by that joint; None: nothing is
    loose.

    A magnet pulls over the whole plate; clips hold it at four places of its front and rear edge, or beside a part's ``foot``,
    with a
    magnet or without; what only lies there is held by its weight, and counts as clipped, for no practitioner prints on glass that
    nothing holds. The plate has the outline of its lowest layer.
    """
    first = bed.loose_plate
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
    outline = bed.layers[first].outline
    half = (0.5 * bed.width, 0.5 * bed.depth) if outline is None else (0.5 * outline.width, 0.5 * outline.depth)
    centre = (0.0, 0.0) if outline is None else (outline.x, outline.y)
    known = magnet_of(learned)
    pull, reach = known.pull.typical if magnet else 0.0, known.pole_width.typical / (2.0 * np.pi)
    discs: tuple[tuple[float, float, float, float], ...] = ()
    if bed.magnets:
        pull, reach, discs = _single_magnets(bed, centre)
    return SheetHold(
        bed.layers[first].name, bending, stiffest.poisson, pull, _clips(bed.clips, pull > 0.0, half, centre, foot), half,
        stiffest.expansion, reach=reach, middle=centre, discs=discs,
    )  # fmt: skip


def _single_magnets(
    bed: Bed, centre: tuple[float, float]
) -> tuple[float, float, tuple[tuple[float, float, float, float], ...]]:
    """Magnets set into the bed: the hardest pull (Pa), the gap (m) over which it falls, and each as a disc of the plate.

    A disc magnetised along its axis pulls on iron until the gap comes to about a sixth of its diameter (half the pull there, by the
    image of a magnet as long as it is wide); an estimate, unchecked.
    """
    pressure = [m.force / (0.25 * np.pi * m.diameter**2) for m in bed.magnets]
    most = float(max(pressure))
    discs = tuple(
        (m.x - centre[0], m.y - centre[1], 0.5 * m.diameter, float(p / most))
        for m, p in zip(bed.magnets, pressure, strict=True)
    )
    return most, float(np.mean([m.diameter for m in bed.magnets])) / 6.0, discs


def pull_factor(z: float, learned: Learned = NOTHING) -> float:
    """Factor on a magnet's pull at ``z`` standard deviations of what is known of it."""
    pull = magnet_of(learned).pull
    return float((pull.high / pull.typical) ** (z / Z90) if z > 0.0 else (pull.low / pull.typical) ** (-z / Z90))


def _clips(
    kind: str, magnet: bool, half: tuple[float, float], centre: tuple[float, float], foot: Foot | None
) -> tuple[tuple[float, float], ...]:
    """Places (m) of clips, four of them; none where only a magnet holds."""
    beside = kind == "beside the part" and foot is not None
    if not beside and magnet and kind != "at the plate's edge":
        return ()
    middle, reach = centre, (_CLIP_AT * half[0], half[1])
    if beside and foot is not None:
        middle = foot.middle
        reach = (foot.half[0] * _CLIP_AT, foot.half[1] + _BESIDE)
    return tuple((middle[0] + sx * reach[0], middle[1] + sy * reach[1]) for sx in (-1.0, 1.0) for sy in (-1.0, 1.0))


def layers_of(part: PartToPrint, at: Conditions, layers: int | None = None) -> Callable[[Voxels], Layers]:
    """Properties along the height of the boxes, from the same print history as the quick estimate's.

    A body that ends below the others fills ``layers`` layers of boxes; above it stands what its last one has.
    """
    body = body_of(part, at)
    blocks, solid = part.blocks, part.blocks.area / part.blocks.gross_area
    joints = joint_energy(bonded_demand(part, body).healed, part.polymer) * solid
    edges = np.concatenate([[0.0], blocks.top])
    thickness = np.diff(edges)

    def on(voxels: Voxels) -> Layers:
        nz = voxels.solid.shape[0]
        top = voxels.z[nz if layers is None else layers]
        z = np.minimum(voxels.z, top) * (edges[-1] / top)

        def mean(values: Floats) -> Floats:
            integral = np.concatenate([[0.0], np.cumsum(values * thickness)])
            high = np.diff(z)
            with np.errstate(invalid="ignore"):
                found = np.diff(np.interp(z, edges, integral)) / high
            return np.asarray(np.where(high > 0.0, found, found[max(int((high > 0.0).sum()) - 1, 0)]))

        return Layers(
            mean(body.E_print), mean(body.E_cold), mean(body.fresh), mean(body.late), mean(body.cooling), mean(joints),
            mean(body.contracted),
        )  # fmt: skip

    return on


def layers_of_bodies(
    parts: Sequence[PartToPrint], at: Conditions, bodies: Callable[[Voxels], Bodies]
) -> Callable[[Voxels], Layers]:
    """The same of several bodies, each with a history of its own; equal ``parts`` may be one object."""

    def on(voxels: Voxels) -> Layers:
        columns = bodies(voxels).columns
        tops = [int(np.flatnonzero(voxels.solid[:, columns == k].any(axis=1))[-1]) + 1
                if (columns == k).any() and voxels.solid[:, columns == k].any() else 0 for k in range(len(parts))]  # fmt: skip
        kinds: dict[tuple[int, int], list[int]] = {}
        for k, part in enumerate(parts):
            if tops[k]:
                kinds.setdefault((id(part), tops[k]), []).append(k)
        found = [(layers_of(parts[of[0]], at, top)(voxels), of) for (_, top), of in kinds.items()]
        if len(found) == 1:
            return found[0][0]
        which = np.zeros(len(parts), dtype=np.int64)
        for n, (_, of) in enumerate(found):
            which[of] = n
        return Layers(
            *(np.stack([getattr(own, f.name) for own, _ in found], axis=1)[:, which[columns]] for f in fields(Layers))
        )

    return on


def brim_reach(part: PartToPrint, stiffness: float) -> float:
    """Width (m) of a brim whose grip helps the part's edge: a strip of one layer on the grip bends over a quarter wave of
    (4 EI/k)^(1/4) (Hetenyi 1946); what lies further out is not reached before the edge lets go."""
    process, E = part.process, part.polymer.modulus.typical
    thickness = max(process.raft * RAFT_SOLID, process.layer_height)
    wave = (E * thickness**3 / (3.0 * stiffness)) ** 0.25
    return float(min(process.reach, 0.5 * np.pi * wave))


@dataclass(frozen=True, slots=True)
class PrintedPart:
    """A part as it is printed: what it is (``part``, ``mesh``) and at which temperatures (``at``), on which ``bed``, where
    (``placement``); ``plate_at`` gives the plate's surface (K) at places (k, 2) m from the part's middle. ``together`` are all
    bodies of the plate, of which ``mesh`` is then the whole; ``magnet`` the pull in standard deviations from typical."""

    part: PartToPrint
    at: Conditions
    mesh: Mesh
    bed: Bed
    placement: Placement
    plate_at: Callable[[Floats], Floats]
    together: AllBodies | None = None
    magnet: float = 0.0


def ground_of(printed: PrintedPart) -> Ground:
    """What a part stands on: the grip place by place, hot and cold, its stiffness, the brim, and the plate."""
    part, at = printed.part, printed.at
    key, surface = part.process.polymer, part.surface
    grip = adhesion_of(surface, key)

    def grip_there(x: Floats, y: Floats, hotter: float) -> tuple[Floats, Floats]:
        T = printed.plate_at(np.column_stack([x.ravel(), y.ravel()])).reshape(x.shape) + hotter
        factor = np.maximum(temperature_factor(T, grip), 1e-3)
        if part.gaps is not None:
            there = np.column_stack([x.ravel() + printed.placement.x, y.ravel() + printed.placement.y])
            factor = factor * factors_at(part.process, surface.texture_depth.typical, part.gaps, there).reshape(x.shape)
        return grip.strength.typical * factor, grip.fracture_energy.typical * factor

    cold = adhesion_at(surface, key, at.room)
    sheet = hold_of(printed.bed, foot_of(part, printed.placement), part.learned)
    if sheet is not None and printed.magnet:
        sheet = replace(sheet, pull=sheet.pull * pull_factor(printed.magnet, part.learned))
    hot = float(at.corner_plate.mean())
    carrier = sheet.expansion if sheet is not None else max(
        (layer.properties() for layer in printed.bed.layers), key=lambda p: p.modulus
    ).expansion  # fmt: skip
    foundation = foundation_of(part)
    softest = grip.strength.typical**2 / (2.0 * grip.fracture_energy.typical)
    return Ground(
        grip_there, (cold.strength, cold.fracture_energy), foundation, brim_reach(part, softest),
        carrier * (hot - at.room), sheet, (printed.placement.x, printed.placement.y),
        hotter=None if at.along is None else hotter_between(part, at),
    )  # fmt: skip


def hotter_between(part: PartToPrint, at: Conditions) -> Callable[[float, float], float]:
    """What the plate has over its mean (K) while what lies between two shares of a part's height is printed."""
    blocks, hotter = part.blocks, hotter_by_block(part, at)
    edges = np.concatenate([[0.0], blocks.top]) / blocks.top[-1]
    integral = np.concatenate([[0.0], np.cumsum(hotter * np.diff(edges))])

    def between(low: float, high: float) -> float:
        return float(np.diff(np.interp((low, high), edges, integral))[0] / max(high - low, 1e-9))

    return between


def full_run(
    printed: PrintedPart,
    boxes: Boxes | None = None,
    run: RunContext | None = None,
    seen: Callable[[FullRun], None] | None = None,
) -> FullRun:
    """Simulate a part in full; see :func:`mandorla.core.warp.fe_simulation.simulate`."""
    part, mesh, together, boxes = printed.part, printed.mesh, printed.together, boxes or Boxes()
    corners, made, apart = part.sections.corners, layers_of(part, printed.at), None
    if together is not None:
        corners, apart = together.corners, sort_out(together.bodies, together.corner_of)
        made = layers_of_bodies(together.parts, printed.at, apart)
        edge = boxes.edge or edge_for(mesh, min(together.boxes(mesh, BOXES[boxes.resolution]), MOST_TOGETHER))
        boxes = replace(boxes, edge=edge)
    polymer = part.polymer
    case = FeCase(
        mesh,
        corners,
        made,
        ground_of(printed),
        polymer.poisson.typical,
        polymer.across_layers.typical,
        apart,
        BEADS * part.process.line_width,
    )
    return replace(simulate(case, boxes, run, seen), layer_height=part.process.layer_height)
