"""The quick warp estimate: will the part hold, lift, crack or soften at these settings, and how sure is that.

One call takes the surface temperature under the part and the chamber, builds the print history, runs the half-strip along
both directions, compares peel with grip at the coldest corner and the opening stress with the interlayer strength.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Final

import numpy as np
from scipy.special import ndtr

from mandorla.core.materials.library_data import PlateSurface, Polymer
from mandorla.core.materials.values import Value
from mandorla.core.part.mesh import Floats
from mandorla.core.part.print_time import INFILL_EXPONENT, RAFT_SOLID, PrintPlan, plan_of_body
from mandorla.core.part.process import Process
from mandorla.core.part.sections import Corner, Sections
from mandorla.core.warp.adhesion import LETS_GO, AdhesionAt, adhesion_at, adhesion_of
from mandorla.core.warp.cracks import CRACK_MODEL, STRENGTH_WITHIN, contact_temperature, healed_fraction, opening_stress
from mandorla.core.warp.history import (
    COLUMN,
    History,
    LayerBlocks,
    PrintClimate,
    make_layer_blocks,
    on_layer_blocks,
    print_history,
)
from mandorla.core.warp.relaxation import retained_modulus
from mandorla.core.warp.strip import StripBlocks, StripBond, StripBrim, StripRun, run_strip, strip_nodes

LAYER_BLOCKS: Final = (
    28  # margin within 1.5 %, lift within 4 % of 112 blocks on a bar, a plate and a cube (docs/theory.md)
)
_SHEAR_TO_NORMAL: Final = 0.5  # foundation stiffness in shear over that in tension
# Spread of the quick model against full simulations, as the standard deviation of ln(value).
MODEL_SPREAD: Final = 0.12
NOZZLE_FORCE: Final = 5.0  # N sideways when a nozzle catches on a curled edge; order of magnitude, 2 to 15
LIFT_SPREAD: Final = 0.32  # of the lift, root mean square over the same set
# ln of full over quick: constant, times ln(margin), times ln(height/length), times ln(margin)²; least squares over the 80 cases of
# benchmarks/quick_against_full.py
PRINTED_FIT: Final = (-0.604, -0.677, -0.266, -0.246)
RELEASED_FIT: Final = (0.167, -0.204, 0.0, 0.0)
_FITTED_MARGINS: Final = (0.3, 13.0)
_FITTED_SLENDER: Final = (0.06, 0.9)
PEEL_FLOOR: Final = 2e4  # Pa; below it a margin says nothing more than that there is no load
Z90: Final = 1.6448536269514722


@dataclass(frozen=True, slots=True)
class Conditions:
    """Temperatures (K) a part is printed at: surface under its middle for first layers and rest, surface at each corner
    (k,) while printing, chamber; ``fan`` 0-1, ``room`` K where it cools down, ``draft`` m/s over the part."""

    plate_first: float
    plate_rest: float
    corner_plate: Floats
    chamber: float
    fan: float
    room: float
    draft: float = 0.0


@dataclass(frozen=True, slots=True)
class PartToPrint:
    """Everything about a part that does not change with the thermal settings: ``blocks`` for the strips, ``column`` finer
    ones for the print history. Of several bodies, ``sections`` are of the one that has most to hold, ``whole`` of all."""

    sections: Sections
    plan: PrintPlan
    process: Process
    polymer: Polymer
    surface: PlateSurface
    blocks: LayerBlocks
    column: LayerBlocks
    whole: Sections

    @property
    def bonds_too_strongly(self) -> bool:
        """Whether the polymer is known to tear or chip the plate's surface."""
        return self.process.polymer in self.surface.too_strong


@dataclass(frozen=True, slots=True)
class CornerVerdict:
    """One corner: plate surface there (K), hold margin, corner lift at the end of the print (m)."""

    corner: Corner
    plate: float
    margin: float
    lift: float


@dataclass(frozen=True, slots=True)
class WarpEstimate:
    """The quick estimate. Heights m, stresses Pa, lifts m; arrays by block (n,).

    ``margin`` is the least capacity over peel while printing (1 is the limit) and ``margin_spread`` its ln-standard deviation;
    ``hold_probability`` follows. ``shape_x`` and ``shape_y`` are distance from the middle and deflection after release (m).
    ``let_go_height`` is NaN while it holds. ``crack_index`` is opening stress over interlayer strength at ``crack_height``;
    ``soft_base`` is the height (m) up to which the foot is above the softening temperature when the print ends, ``soft_landing``
    the height from which layers land on polymer that is still above it (NaN: none do); ``tips_from`` the height (m) from which a
    nozzle that catches with ``NOZZLE_FORCE`` tips the part (NaN: it does not);
    ``contact`` (n,) K where layers meet.
    """

    height: Floats
    demand: Floats
    capacity: Floats
    landing: Floats
    end_temperature: Floats
    healed: Floats
    crack: Floats
    lift_by_height: Floats
    corners: tuple[CornerVerdict, ...]
    weakest: int
    margin: float
    margin_spread: float
    shares: Mapping[str, float]
    hold_probability: float
    let_go_height: float
    let_go_layer: int
    printed_lift: float
    released_lift: float
    lift_low: float
    lift_high: float
    released_low: float
    released_high: float
    crack_index: float
    crack_height: float
    crack_spread: float
    comes_off: bool
    soft_base: float
    soft_landing: float
    tips_from: float
    contact: Floats
    history: History
    shape_x: tuple[Floats, Floats]
    shape_y: tuple[Floats, Floats]
    notes: tuple[str, ...]

    @property
    def lift_spread(self) -> float:
        """ln-standard deviation of the lifts against full simulations."""
        return LIFT_SPREAD

    @property
    def largest_lift(self) -> float:
        """The larger of the lifts at the print's end and after release (m)."""
        return max(self.printed_lift, abs(self.released_lift))


def prepare(sections: Sections, plan: PrintPlan, process: Process, blocks: int = LAYER_BLOCKS) -> PartToPrint:
    """Bind a part, its print plan and its process. Raises InputError when the grip of the pair is not known.

    Of several bodies the one that has most to hold is bound, with the layer times of all.
    """
    polymer, surface = process.material(), process.plate()
    adhesion_of(surface, process.polymer)
    body, own = (sections, plan) if sections.body is None else (sections.body, plan_of_body(sections, plan))
    return PartToPrint(
        body, plan, process, polymer, surface, make_layer_blocks(body, own, process.layer_height, blocks),
        make_layer_blocks(body, own, process.layer_height, COLUMN), sections,
    )  # fmt: skip


def _foot_area(x: Floats, half_foot: float, width: float, brim: float, brim_width: float) -> Floats:
    """Contact area (n,) m² that belongs to each node."""
    borders = np.concatenate([[x[0]], 0.5 * (x[1:] + x[:-1]), [x[-1]]])
    on_part = np.clip(borders, 0.0, half_foot)
    area = np.diff(on_part) * width
    if brim > 0.0:
        on_brim = np.clip(borders, half_foot, half_foot + brim)
        area = area + np.diff(on_brim) * brim_width
    area[area < 1e-12] = 0.0
    return np.asarray(area)


@dataclass(frozen=True, slots=True)
class LayerMechanics:
    """Temperature-dependent state of the part shared by both strips."""

    history: History
    E_print: Floats
    E_cold: Floats
    fresh: Floats
    late: Floats
    cooling: Floats


def body_of(part: PartToPrint, at: Conditions) -> LayerMechanics:
    """Moduli and contractions along the height, from the print history."""
    polymer, blocks = part.polymer, part.blocks
    process = part.process
    climate = PrintClimate(
        at.plate_first,
        at.plate_rest,
        at.chamber,
        at.fan,
        at.draft,
        process.draft_shield,
        process.fan_from,
        process.raft,
    )
    layered = print_history(part.column, polymer, climate)
    history = on_layer_blocks(layered, part.column, blocks)
    stress_free = polymer.stress_free_temperature.typical
    alpha = polymer.expansion.typical
    solid = polymer.modulus.typical * blocks.stiffness
    hold = 0.5 * (history.landing + history.end)
    E_print = solid * retained_modulus(hold, history.age, polymer)
    fresh = alpha * np.maximum(stress_free - np.minimum(history.landing, stress_free), 0.0)
    at_end = np.minimum(history.end, stress_free)
    late = alpha * (np.minimum(history.landing, stress_free) - at_end)
    cooling = alpha * (at_end - at.room)
    return LayerMechanics(history, E_print, solid, fresh, late, cooling)


def _strip(part: PartToPrint, body: LayerMechanics, grip: AdhesionAt, along_x: bool, debond: bool) -> StripRun:
    blocks, process = part.blocks, part.process
    half = blocks.half_x if along_x else blocks.half_y
    across = blocks.half_y if along_x else blocks.half_x
    width = blocks.gross_area / (2.0 * half)
    half_foot = float(half[0])
    reach, thickness = process.reach, max(process.raft * RAFT_SOLID, process.layer_height)
    x = strip_nodes(half_foot, float(half.max()), reach)
    brim_width = 2.0 * (float(across[0]) + reach)
    foot = _foot_area(x, half_foot, float(width[0]), reach, brim_width)
    brim_EA = float(body.E_print[0] / blocks.stiffness[0]) * brim_width * thickness if reach > 0 else 0.0
    stack = StripBlocks(
        blocks.bottom, blocks.top, half, width, 2.0 * across, body.E_print, body.E_cold, body.fresh, body.late, body.cooling,
        part.polymer.poisson.typical,
    )  # fmt: skip
    bond = StripBond(grip.stiffness, _SHEAR_TO_NORMAL * grip.stiffness, grip.strength, grip.fracture_energy)
    return run_strip(x, foot, stack, bond, StripBrim(brim_EA, thickness), debond)


def _corner_factor(part: PartToPrint) -> float:
    """Corner over the sum of the strips while bonded: 0.78 + 0.21 (min(1, H/L) + min(1, H/W)), found against full runs."""
    H = part.sections.height
    L, W = 2.0 * float(part.blocks.half_x[0]), 2.0 * float(part.blocks.half_y[0])
    return 0.78 + 0.21 * (min(1.0, H / L) + min(1.0, H / W))


def towards_full(part: PartToPrint, margin: float, fit: tuple[float, float, float, float]) -> float:
    """Factor on a quick lift at a hold margin that takes it to the full simulation's, inside the range it was found for."""
    longest = 2.0 * float(max(part.blocks.half_x[0], part.blocks.half_y[0]))
    held = float(np.clip(margin, *_FITTED_MARGINS))
    slender = float(np.clip(part.sections.height / longest, *_FITTED_SLENDER))
    known = np.array([1.0, np.log(held), np.log(slender), np.log(held) ** 2])
    return float(np.exp(known @ np.array(fit)))


@dataclass(frozen=True, slots=True)
class Demand:
    """Bonded answer of a part at one state: peel and its capacity per unit grip factor, by block; crack index by interface."""

    peel: Floats
    kn: Floats
    body: LayerMechanics
    healed: Floats
    crack: Floats


def foundation_of(part: PartToPrint) -> float:
    """Stiffness (N/m³) of what the foot stands on: the grip's, in series with a raft's."""
    stiffness, raft = part.surface.stiffness.typical, part.process.raft
    if raft <= 0.0:
        return stiffness
    return float(1.0 / (1.0 / stiffness + raft / (part.polymer.modulus.typical * RAFT_SOLID**INFILL_EXPONENT)))


def bonded_demand(part: PartToPrint, at: Conditions) -> Demand:
    """Peel (n,) Pa while nothing lets go, and the crack index by block: the smooth part of the estimate."""
    body = body_of(part, at)
    grip = AdhesionAt(1.0, 0.5, foundation_of(part))  # capacity becomes sqrt(kn') with these
    runs = (_strip(part, body, grip, True, False), _strip(part, body, grip, False, False))
    peel = np.maximum(runs[0].peel, runs[1].peel)
    kn = np.minimum(runs[0].capacity, runs[1].capacity) ** 2
    blocks = part.blocks
    healed = healed_fraction(body.history.landing, blocks.time / blocks.layers, part.process.layer_height, part.polymer)
    strength = part.polymer.strength.typical * np.maximum(healed, 0.02)
    edges = np.concatenate([blocks.bottom, blocks.top[-1:]])
    crack = np.zeros(blocks.bottom.size)
    if blocks.bottom.size > 1:
        modulus, contraction = body.E_print / blocks.stiffness, body.fresh + np.maximum(body.late, 0.0)
        # the ends along either direction, whichever opens more
        opening = np.maximum(*(
            opening_stress(
                edges, modulus, blocks.gross_area / (2.0 * half) * blocks.stiffness, half, contraction, part.polymer.poisson.typical
            )
            for half in (blocks.half_x, blocks.half_y)
        ))  # fmt: skip
        # interlayer contact exists where there is polymer: the smaller solid share carries the load
        solid = blocks.area / blocks.gross_area
        crack[1:] = (
            opening * np.minimum(1.0, blocks.stiffness[1:] / solid[1:]) / np.minimum(strength[:-1], strength[1:])
        )
    return Demand(peel, kn, body, healed, crack)


def margins(demand: Demand, grip: AdhesionAt) -> Floats:
    """Capacity over peel by block (n,) for a grip."""
    capacity = np.maximum(grip.strength, np.sqrt(2.0 * demand.kn * grip.fracture_energy))
    return np.asarray(capacity / np.maximum(demand.peel, PEEL_FLOOR))


def _margin_spread(
    part: PartToPrint, at: Conditions, demand: Demand, corner_plate: float
) -> tuple[float, dict[str, float]]:
    """ln-standard deviation of the margin: each unknown's 90 % range as +-1.645 sigma, root of the sum of squares."""
    grip = adhesion_of(part.surface, part.process.polymer)
    base = float(margins(demand, adhesion_at(part.surface, part.process.polymer, corner_plate)).min())

    def change(polymer: Polymer, surface_shift: float = 0.0, chamber_shift: float = 0.0) -> float:
        moved = replace(
            at, plate_first=at.plate_first + surface_shift, plate_rest=at.plate_rest + surface_shift,
            chamber=at.chamber + chamber_shift,
        )  # fmt: skip
        other = bonded_demand(replace(part, polymer=polymer), moved)
        now = adhesion_at(part.surface, part.process.polymer, corner_plate + surface_shift)
        return float(abs(np.log(margins(other, now).min() / base)))

    p = part.polymer
    shares = {
        "grip on the plate": float(np.log(grip.strength.high / grip.strength.typical)) / Z90,
        "quick model": MODEL_SPREAD,
    }
    varied = {
        "thermal expansion": replace(p, expansion=_at_high(p.expansion)),
        "stiffness": replace(p, modulus=_at_high(p.modulus)),
        "stress-free temperature": replace(p, stress_free_temperature=_at_high(p.stress_free_temperature)),
        "stress relaxation": replace(p, relaxation_time=_at_high(p.relaxation_time)),
    }
    for name, polymer in varied.items():
        shares[name] = change(polymer) / Z90
    shares["plate temperature"] = change(p, surface_shift=-3.0) / Z90
    shares["chamber temperature"] = change(p, chamber_shift=-4.0) / Z90
    return float(np.sqrt(sum(v * v for v in shares.values()))), shares


def _at_high(value: Value) -> Value:
    return replace(value, typical=value.high)


def _comes_off(part: PartToPrint, at: Conditions, opened: tuple[StripRun, StripRun]) -> bool:
    """Whether the cool-down peels at least half of the foot off along one direction."""
    return bool(max(opened[0].detached[-1], opened[1].detached[-1]) > 0.5)


def estimate_warp(part: PartToPrint, at: Conditions, *, with_bands: bool = True) -> WarpEstimate:
    """The whole quick estimate at one state; ``with_bands`` adds the uncertainty of margin and lift."""
    demand = bonded_demand(part, at)
    key = part.process.polymer
    grips = [adhesion_at(part.surface, key, float(T)) for T in at.corner_plate]
    by_corner = [float(margins(demand, g).min()) for g in grips]
    weakest = int(np.argmin(by_corner))
    grip = grips[weakest]

    def lifts(factor: float) -> tuple[float, float, tuple[StripRun, StripRun]]:
        g = AdhesionAt(grip.strength * factor, grip.fracture_energy * factor, foundation_of(part))
        runs = (_strip(part, demand.body, g, True, True), _strip(part, demand.body, g, False, True))
        n = part.blocks.bottom.size
        scale = _corner_factor(part)
        printed = 0.9 * scale * max(0.0, float(runs[0].deflection[n - 1] + runs[1].deflection[n - 1]))
        released = 0.9 * float(runs[0].deflection[-1] + runs[1].deflection[-1])
        printed *= towards_full(part, by_corner[weakest] * factor, PRINTED_FIT)
        released *= towards_full(part, by_corner[weakest] * factor, RELEASED_FIT)
        return printed, released, runs

    printed, released, opened = lifts(1.0)
    spread, shares = _margin_spread(part, at, demand, float(at.corner_plate[weakest])) if with_bands else (0.0, {})
    margin = by_corner[weakest]
    low, high, released_low, released_high = printed, printed, released, released
    if with_bands:
        reach = np.exp(LIFT_SPREAD * Z90)
        stronger, released_strong, _ = lifts(float(np.exp(2.0 * Z90 * spread)))
        weaker, released_weak, _ = lifts(float(np.exp(-2.0 * Z90 * spread)))
        low, high = min(stronger, weaker, printed) / reach, max(stronger, weaker, printed) * reach
        ends = (released_strong, released_weak, released)
        released_low, released_high = (
            min(ends) - abs(min(ends)) * (1 - 1 / reach),
            max(ends) + abs(max(ends)) * (reach - 1),
        )
    capacity = np.maximum(grip.strength, np.sqrt(2.0 * demand.kn * grip.fracture_energy))
    failing = np.flatnonzero(capacity < demand.peel)
    blocks = part.blocks
    let_go = float(blocks.bottom[failing[0]]) if failing.size else float("nan")
    n = blocks.bottom.size
    lift_by_height = (
        0.9
        * _corner_factor(part)
        * towards_full(part, margin, PRINTED_FIT)
        * np.maximum(opened[0].deflection[:n] + opened[1].deflection[:n], 0.0)
    )
    weak_layer = int(np.argmax(demand.crack))
    soft_base, soft_landing = _soft_heights(part, demand.body.history)
    tips_from = _tips_from(part, grip)
    corners = tuple(
        CornerVerdict(c, float(T), m, printed * (1.0 if i == weakest else _share(by_corner[weakest], m)))
        for i, (c, T, m) in enumerate(zip(part.sections.corners, at.corner_plate, by_corner, strict=True))
    )
    height = 0.5 * (blocks.bottom + blocks.top)
    for array in (capacity, lift_by_height, height, demand.crack, demand.peel, demand.healed):
        array.setflags(write=False)
    return WarpEstimate(
        height=height, demand=demand.peel, capacity=capacity, landing=demand.body.history.landing,
        end_temperature=demand.body.history.end, healed=demand.healed, crack=demand.crack,
        lift_by_height=lift_by_height, corners=corners, weakest=weakest, margin=margin,
        margin_spread=spread, shares=shares,
        hold_probability=float(ndtr(np.log(margin) / spread)) if spread > 0 else float(margin >= 1.0),
        let_go_height=let_go,
        let_go_layer=part.plan.layer_at(let_go + 1e-9, part.process.layer_height) if failing.size else 0,
        printed_lift=printed, released_lift=released, lift_low=low, lift_high=high,
        released_low=released_low, released_high=released_high,
        crack_index=float(demand.crack[weak_layer]), crack_height=float(blocks.bottom[weak_layer]),
        crack_spread=float(np.hypot(np.log(STRENGTH_WITHIN) / Z90, CRACK_MODEL)), comes_off=_comes_off(part, at, opened),
        soft_base=soft_base, soft_landing=soft_landing, tips_from=tips_from,
        contact=contact_temperature(demand.body.history.landing, part.polymer.deposition_temperature.typical),
        history=demand.body.history,
        shape_x=(opened[0].x, opened[0].released),
        shape_y=(opened[1].x, opened[1].released),
        notes=_notes(part, margin, soft_base, soft_landing, tips_from),
    )  # fmt: skip


def _share(worst: float, margin: float) -> float:
    """Lift of a better held corner relative to the worst one: none when it holds while the worst lets go."""
    if margin >= 1.0 > worst:
        return 0.0
    return min(1.0, worst / margin)


def _soft_heights(part: PartToPrint, history: History) -> tuple[float, float]:
    """Height (m) up to which the foot ends the print above softening, and from which layers land on soft polymer (NaN: none)."""
    blocks, soft = part.blocks, part.polymer.softening_temperature
    cold = np.flatnonzero(history.end < soft)
    # the last layers are hot because they are fresh: the base ends at the first block that is not
    base = float(blocks.bottom[cold[0]]) if cold.size else float(blocks.top[-1])
    landing = np.flatnonzero(history.landing > soft)
    landing = landing[blocks.bottom[landing] >= base]
    return base, float(blocks.bottom[landing[0]]) if landing.size else float("nan")


def _tips_from(part: PartToPrint, grip: AdhesionAt) -> float:
    """Height (m) from which ``NOZZLE_FORCE`` sideways has the moment that the grip stands; NaN where the part is lower.

    Strength times the section modulus of the foot with what brim or raft add: a rigid foot on an elastic layer, its edge at the
    strength.
    """
    reach = part.process.reach
    sides = sorted(2.0 * (float(half[0]) + reach) for half in (part.blocks.half_x, part.blocks.half_y))
    # bending over the short side; a hollow foot carries by its share of the area
    share = min(1.0, float(part.sections.area[0]) / (4.0 * float(part.blocks.half_x[0] * part.blocks.half_y[0])))
    height = grip.strength * share * sides[1] * sides[0] ** 2 / 6.0 / NOZZLE_FORCE
    return height if height < part.sections.height else float("nan")


def _notes(
    part: PartToPrint, margin: float, soft_base: float, soft_landing: float, tips_from: float
) -> tuple[str, ...]:
    notes = []
    if 0.4 < margin < 1.0:
        notes.append(
            f"such parts detach in full simulations at a hold margin of about {LETS_GO:g}: between there and 1 the grip begins to "
            "give, and the full simulation decides"
        )
    if soft_base > 0.0:
        notes.append("the foot stays above its softening until the print ends and swells: cooler plate for the rest")
    if np.isfinite(soft_landing):
        notes.append(
            "layers land on polymer that is still soft and sag: longer layers, several parts at once, or some fan"
        )
    L = 2.0 * float(max(part.blocks.half_x[0], part.blocks.half_y[0]))
    if part.sections.height < 0.05 * L:
        notes.append("thin flat part: the quick estimate overstates what grip can hold back after release")
    if np.isfinite(tips_from):
        notes.append(
            f"tall on a small foot: a nozzle that catches with {NOZZLE_FORCE:.0f} N tips it late in the print; a brim or a broader "
            "foot, and no curled edges for it to catch on"
        )
    return tuple(notes)
