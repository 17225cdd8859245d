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

from mandorla.core.materials.library_data import Polymer
from mandorla.core.materials.plate_library import PlateSurface
from mandorla.core.part.mesh import Floats
from mandorla.core.part.print_time import INFILL_EXPONENT, RAFT_SOLID, PrintPlan, plan_of_body
from mandorla.core.part.process import Process
from mandorla.core.part.sections import Corner, Sections
from mandorla.core.warp.adhesion import AdhesionAlong, AdhesionAt, adhesion_along, adhesion_of
from mandorla.core.warp.along_print import AlongPrint
from mandorla.core.warp.cohesive import SHEAR
from mandorla.core.warp.condensed_plate import PLATE_SPREAD, CondensedPlate, condensed
from mandorla.core.warp.coupons import place_key, surface_with
from mandorla.core.warp.cracks import (
    BEADS,
    CRACK_MODEL,
    FOOT_LAG,
    broadness,
    contact_temperature,
    delamination_energy,
    film_energy,
    healed_fraction,
    joint_energy,
)
from mandorla.core.warp.first_layer import GapMap
from mandorla.core.warp.foot import foot_strain, notes_of, plate_pull, soft_heights, tips_margin
from mandorla.core.warp.history import (
    COLUMN,
    History,
    LayerBlocks,
    PrintClimate,
    make_layer_blocks,
    on_layer_blocks,
    print_history,
)
from mandorla.core.warp.learned import NOTHING, Learned
from mandorla.core.warp.loose_plate import SheetHold
from mandorla.core.warp.relaxation import cooled_strain, cooling_strain, retained_modulus
from mandorla.core.warp.scaled_mechanics import body_from, demand_from
from mandorla.core.warp.strip import StripBlocks, StripBond, StripBrim, StripRun, run_strip, strip_nodes
from mandorla.core.warp.unknowns import CRYSTALS, JOINTS, MODEL, MOVED, PLATE, Z90, moved, recentred, recentred_grip

LAYER_BLOCKS: Final = (
    28  # margin within 1.5 %, lift within 4 % of 112 blocks on a bar, a plate and a cube (docs/theory.md)
)
FIGURES: Final = ("margin", "lift", "released", "crack", "pull")
# figures beyond which nothing is to be feared: how much farther they are says nothing
FAR: Final = 20.0  # hold margin
FLOORS: Final = (1e-3, 3e-5, 3e-5, 0.1, 1e-6)
_SHEAR_TO_NORMAL: Final = 0.5  # foundation stiffness in shear over that in tension
# ln-standard deviations of the quick model against full simulations (benchmarks/quick_against_full.py)
MODEL_SPREAD: Final = 0.30
LIFT_SPREAD: Final = 0.35
# ln of full over quick, least squares over the seen cases of benchmarks/quick_against_full.py; terms of shape are
# ln(height/length),
# ln(wall/width), ln(share of the outline that the foot covers). Hold margin: constant, shape, so that 1 is where the full
# simulation's
# grip fails. Lifts: constant, ln(margin), its square, shape. Cracks: constant, shape.
HOLD_FIT: Final = (1.514, 0.170, 0.325, -0.417)
PRINTED_FIT: Final = (-0.631, -0.213, -0.127, -0.089, -0.363, 0.668)
RELEASED_FIT: Final = (-0.159, -0.037, -0.101, -0.122, -0.243, 0.663)
CRACK_FIT: Final = (0.183, -0.063, 0.303, -0.196)
_FITTED_MARGINS: Final = (0.3, 17.0)
_FITTED_SLENDER: Final = (0.03, 3.0)
_FITTED_WALLS: Final = (0.03, 1.0)
_FITTED_FOOT: Final = (0.1, 1.0)
PEEL_FLOOR: Final = 2e4  # Pa; below it a margin says nothing more than that there is no load


@dataclass(frozen=True, slots=True)
class Conditions:
    """Temperatures (K) a part is printed at: surface under its middle for first layers and rest, surface at each corner
    (k,) while printing, chamber; ``fan`` 0-1, ``room`` K where it cools down, ``draft`` m/s over the part; ``bare`` m of plate
    beyond it on either side; ``corner_first`` (k,) grip over that in the first layer's nominal gap; ``plate_within`` and
    ``chamber_within`` K, 90 % half widths. ``along`` the print plate, air and draft depart from these (None: they stay)."""

    plate_first: float
    plate_rest: float
    corner_plate: Floats
    chamber: float
    fan: float
    room: float
    draft: float = 0.0
    bare: float = 0.1
    corner_first: Floats | None = None
    plate_within: float = 3.0
    chamber_within: float = 4.0
    along: AlongPrint | None = None


@dataclass(frozen=True, slots=True)
class PartToPrint:
    """Everything about a part that does not change with the thermal settings: ``blocks`` for the strips, ``column`` finer
    ones for the print history. Of several bodies, ``sections`` are of the one that has most to hold, ``whole`` of all.
    ``learned`` is what trials have taught of polymer and magnet,
    ``gaps`` the gap of the first layer (None: nothing is known of it)."""

    sections: Sections
    plan: PrintPlan
    process: Process
    polymer: Polymer
    surface: PlateSurface
    blocks: LayerBlocks
    column: LayerBlocks
    whole: Sections
    learned: Learned = NOTHING
    gaps: GapMap | None = None

    def height_at(self, time: float) -> float:
        """Height (m) that the print has reached after a time (s)."""
        clock = np.concatenate([[0.0], np.cumsum(self.column.time)])
        return float(np.interp(time, clock, np.concatenate([[0.0], self.column.top])))

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

    ``margin`` is how many times the peel the grip stands at the weakest corner until the corner comes off (1 is the limit).
    ``spreads`` are changes of ln(margin, lift, released, crack, pull on the plate) by one standard deviation of each unknown, by
    figure and unknown, the models' own error among them; empty without bands. ``shape_x`` and ``shape_y`` are distance from the
    middle and deflection after release (m).
    ``let_go_height`` is NaN while it holds. ``crack_index`` is the square root of the energy a delamination sets free over the
    joint's at ``crack_height``;
    ``soft_base`` is the height (m) up to which the foot is above the softening temperature when the print ends, ``soft_landing``
    the height from which layers land on polymer that is still above it (NaN: none do); ``tips_from`` the height (m) from which a
    nozzle that catches with ``NOZZLE_FORCE`` tips the part (NaN: it does not);
    ``tips_margin`` is the moment that the foot stands over that at
    the top; ``foot_strain`` of the soft layers, ``softer`` that and ``soft_base`` with the plate hotter by a standard deviation;
    ``pull`` N^(1/2) is what acts on a loose plate (:func:`plate_pull`); ``contact`` (n,) K where layers meet.
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
    spreads: Mapping[str, Mapping[str, float]]
    let_go_height: float
    let_go_layer: int
    printed_lift: float
    released_lift: float
    crack_index: float
    crack_height: float
    comes_off: bool
    pull: float
    soft_base: float
    soft_landing: float
    tips_from: float
    tips_margin: float
    foot_strain: float
    softer: tuple[float, float]
    contact: Floats
    history: History
    shape_x: tuple[Floats, Floats]
    shape_y: tuple[Floats, Floats]
    notes: tuple[str, ...]

    def spread(self, figure: str) -> float:
        """ln-standard deviation of a figure: root of the sum of squares over the unknowns; nought without bands."""
        return float(np.sqrt(sum(v * v for v in self.spreads.get(figure, {}).values())))

    def band(self, figure: str, value: float) -> tuple[float, float]:
        """90 % range of a figure around its value."""
        factor = float(np.exp(Z90 * self.spread(figure)))
        return min(value / factor, value * factor), max(value / factor, value * factor)

    @property
    def hold_probability(self) -> float:
        """Chance that no corner comes off."""
        spread = self.spread("margin")
        return float(ndtr(np.log(max(self.margin, 1e-9)) / spread)) if spread > 0.0 else float(self.margin >= 1.0)

    @property
    def largest_lift(self) -> float:
        """The larger of the lifts at the print's end and after release (m)."""
        return max(self.printed_lift, abs(self.released_lift))


def known_surface(process: Process, learned: Learned) -> PlateSurface:
    """The plate's surface as it is, with what coupons and prints said of its grip."""
    surface, key = process.plate_surface(), process.polymer
    known = learned.grips.get(place_key(key, process.plate, process.side, process.surface_key, process.coating))
    surface = surface if known is None else surface_with(surface, process, known)
    if key not in surface.grip:
        return surface
    return replace(surface, grip={**surface.grip, key: recentred_grip(surface.grip[key], key, learned)})


def prepare(
    sections: Sections,
    plan: PrintPlan,
    process: Process,
    blocks: int = LAYER_BLOCKS,
    learned: Learned = NOTHING,
    gaps: GapMap | None = None,
) -> PartToPrint:
    """Bind a part, its print plan and its process. Raises InputError when the grip of the pair is not known.

    Of several bodies the one that has most to hold is bound, with the layer times of all.
    """
    polymer, surface = recentred(process.material(), learned), known_surface(process, learned)
    adhesion_of(surface, process.polymer)
    body, own = (sections, plan) if sections.body is None else (sections.body, plan_of_body(sections, plan))
    return PartToPrint(
        body, plan, process, polymer, surface, make_layer_blocks(body, own, process.layer_height, blocks),
        make_layer_blocks(body, own, process.layer_height, COLUMN), sections, learned, gaps,
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


LEAST_STRAIN: Final = 5e-5  # half a kelvin's contraction, so that what hardly contracts is not as stiff as steel


@dataclass(frozen=True, slots=True)
class LayerMechanics:
    """Temperature-dependent state of the part shared by both strips, by block (n,): moduli (Pa) of the gross section while printing
    and cold; contractions whose stress has not crept away, over the modulus that is left (``fresh`` until the next layer comes,
    ``late`` until the print ends) and over the cold one (``cooling``); the farthest that it contracts freely by the print's end
    (``contracted``)."""

    history: History
    E_print: Floats
    E_cold: Floats
    fresh: Floats
    late: Floats
    cooling: Floats
    contracted: Floats

    @property
    def stress(self) -> Floats:
        """Film stress (n,) of the gross section when the print ends, Pa."""
        return np.asarray(self.E_print * (self.fresh + np.maximum(self.late, 0.0)))

    @property
    def stiff(self) -> Floats:
        """Modulus (n,) with which layers bend along with a plate, Pa: what is left by relaxation while they were hot, and no less
        than their stress over what they contract, for nothing in them was stretched farther."""
        return np.maximum(self.E_print, self.stress / np.maximum(self.contracted, LEAST_STRAIN))


def history_of(part: PartToPrint, at: Conditions) -> History:
    """Temperatures of a part's blocks through its print."""
    process = part.process
    climate = PrintClimate(
        at.plate_first, at.plate_rest, at.chamber, at.fan, at.draft, process.draft_shield, process.fan_from, process.raft, at.bare,
        at.along, process.nozzle_first,
    )  # fmt: skip
    return on_layer_blocks(print_history(part.column, part.polymer, climate), part.column, part.blocks)


def body_of(part: PartToPrint, at: Conditions, history: History | None = None) -> LayerMechanics:
    """Moduli and contractions along the height, from the print ``history``, which is computed unless it is known."""
    polymer, blocks = part.polymer, part.blocks
    history = history or history_of(part, at)
    solid = polymer.modulus.typical * polymer.bead_factor.typical * blocks.stiffness
    left = retained_modulus(0.5 * (history.landing + history.end), history.age, polymer)
    fresh, late = cooled_strain(history.landing, history.end, blocks.time / blocks.layers, history.age, polymer)
    # as strains of the modulus that is left, so that modulus times strain is the stress
    fallen = np.maximum(polymer.stress_free_temperature.typical - np.minimum(history.landing, history.end), 0.0)
    return LayerMechanics(
        history, solid * left, solid, fresh / left, late / left, cooling_strain(history.end, at.room, polymer),
        polymer.expansion.typical * fallen,
    )  # fmt: skip


def _strip(part: PartToPrint, body: LayerMechanics, grip: AdhesionAlong, along_x: bool, debond: bool) -> StripRun:
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


def shape_terms(part: PartToPrint) -> Floats:
    """ln(height/length), ln(wall/width), ln(share of the outline that the foot covers), inside the ranges of the fits."""
    blocks = part.blocks
    long, wide = (2.0 * float(f(blocks.half_x[0], blocks.half_y[0])) for f in (max, min))
    wall = float(2.0 * blocks.gross_area.mean() / blocks.perimeter.mean())
    slender = np.clip(part.sections.height / long, *_FITTED_SLENDER)
    foot = float(part.sections.area[0]) / (long * wide)
    return np.asarray(np.log(np.array([slender, np.clip(wall / wide, *_FITTED_WALLS), np.clip(foot, *_FITTED_FOOT)])))


def towards_full(part: PartToPrint, margin: float, fit: tuple[float, ...]) -> float:
    """Factor on a quick lift at a hold margin that takes it to the full simulation's."""
    held = float(np.log(np.clip(margin, *_FITTED_MARGINS)))
    return float(np.exp(np.array([1.0, held, held * held, *shape_terms(part)]) @ np.array(fit)))


def shape_factor(part: PartToPrint, fit: tuple[float, ...]) -> float:
    """Factor on a quick figure by the part's shape that takes it to the full simulation's."""
    return float(np.exp(np.array([1.0, *shape_terms(part)]) @ np.array(fit)))


@dataclass(frozen=True, slots=True)
class Demand:
    """Bonded answer of a part at one state: peel and its capacity per unit grip factor, by block; healed share of the strength; the
    bonded strips along x and y."""

    peel: Floats
    kn: Floats
    body: LayerMechanics
    healed: Floats
    strips: tuple[StripRun, StripRun]


def foundation_of(part: PartToPrint) -> float:
    """Stiffness (N/m³) of what the foot stands on: the grip's, in series with a raft's."""
    stiffness, raft = part.surface.stiffness.typical, part.process.raft
    if raft <= 0.0:
        return stiffness
    return float(1.0 / (1.0 / stiffness + raft / (part.polymer.modulus.typical * RAFT_SOLID**INFILL_EXPONENT)))


def bonded_demand(part: PartToPrint, body: LayerMechanics) -> Demand:
    """Peel (n,) Pa while nothing lets go: the smooth part of the estimate."""
    one = np.ones(part.blocks.bottom.size)
    grip = AdhesionAlong(one, 0.5 * one, foundation_of(part))  # capacity becomes sqrt(kn') with these
    runs = (_strip(part, body, grip, True, False), _strip(part, body, grip, False, False))
    peel = np.maximum(runs[0].peel, runs[1].peel)
    # peel over the factor that its capacity has towards the full simulation
    kn = np.minimum(runs[0].capacity, runs[1].capacity) ** 2
    peel = peel / shape_factor(part, HOLD_FIT)
    healed = healed_fraction(
        body.history.landing, part.blocks.time / part.blocks.layers, part.process.layer_height, part.polymer
    )
    return Demand(peel, kn, body, healed, runs)


def condensed_of(
    part: PartToPrint, body: LayerMechanics, hold: SheetHold, middle: tuple[float, float]
) -> CondensedPlate:
    """A part on its loose plate as two beams; ``middle`` (m) is its foot's from the bed's."""
    blocks, nu = part.blocks, part.polymer.poisson.typical
    edges = np.concatenate([blocks.bottom, blocks.top[-1:]])
    c = float(broadness(2.0 * float(min(blocks.half_x[0], blocks.half_y[0])), float(blocks.top[-1])))
    plane = 1.0 / (1.0 - nu * nu * c)
    widths = (blocks.gross_area / (2.0 * blocks.half_x), blocks.gross_area / (2.0 * blocks.half_y))
    return condensed(
        hold,
        (blocks.half_x, blocks.half_y),
        edges,
        widths,
        body.stiff,
        body.stress,
        (plane, plane * (1.0 + nu * c)),
        middle,
    )


def crack_index(part: PartToPrint, demand: Demand, grip: AdhesionAt) -> Floats:
    """Square root of the energy set free over what the joint below each block takes, (n,): the larger of both directions; nought
    within two lines of the plate."""
    blocks, index, body = part.blocks, np.zeros(part.blocks.bottom.size), demand.body
    if index.size < 2:
        return index
    edges = np.concatenate([blocks.bottom, blocks.top[-1:]])
    thickness, solid = np.diff(edges), blocks.area / blocks.gross_area
    energy = joint_energy(demand.healed, part.polymer) * solid
    takes = np.minimum(energy[:-1], energy[1:])
    strain, nu = body.fresh + body.late, part.polymer.poisson.typical
    least = 2.0 * np.minimum(blocks.half_x, blocks.half_y)
    spread = broadness(np.minimum(4.0 * blocks.gross_area / blocks.perimeter, least), blocks.top[-1])
    stored = film_energy(strain, body.E_print, nu, spread, body.contracted)
    for half in (blocks.half_x, blocks.half_y):
        width, length = blocks.gross_area / (2.0 * half), 2.0 * float(half.max())
        pull = float((body.E_print * np.abs(strain) * width * thickness).sum())
        most = np.sqrt(SHEAR) * grip.strength * width[0] * half[0] / max(pull, 1e-9)
        foot = min(most, 1.0 / (1.0 + FOOT_LAG * float(blocks.top[-1]) / length))
        # of a section that widens upwards, a joint carries more than its own
        free = delamination_energy(edges, stored * width, body.E_print * width, length, foot) / width[1:]
        index[1:] = np.maximum(index[1:], np.sqrt(free / takes))
    index *= shape_factor(part, CRACK_FIT)
    index[blocks.bottom < BEADS * part.process.line_width] = 0.0
    return index


def hotter_by_block(part: PartToPrint, at: Conditions) -> Floats:
    """What the plate has over its mean (n,) K while each block is printed."""
    if at.along is None:
        return np.zeros(part.blocks.bottom.size)
    return at.along.over(at.along.plate, part.blocks.time)


def grip_along(part: PartToPrint, at: Conditions, T: float, contact: float) -> AdhesionAlong:
    """Grip block by block where the plate has ``T`` (K) in the mean."""
    return adhesion_along(part.surface, part.process.polymer, T + hotter_by_block(part, at), contact)


def margins(demand: Demand, grip: AdhesionAlong) -> Floats:
    """Capacity over peel by block (n,) for a grip."""
    capacity = np.maximum(grip.strength, np.sqrt(2.0 * demand.kn * grip.fracture_energy))
    return np.asarray(capacity / np.maximum(demand.peel, PEEL_FLOOR))


def _spreads(
    part: PartToPrint, at: Conditions, base: WarpEstimate, demand: Demand
) -> tuple[dict[str, dict[str, float]], WarpEstimate]:
    """Changes of ln(margin, lift, released, crack, pull) by one standard deviation of each unknown, and the models' own errors; and
    the estimate with the plate hotter by one."""

    def figures(w: WarpEstimate) -> Floats:
        values = (min(w.margin, FAR), w.printed_lift, abs(w.released_lift), w.crack_index, w.pull)
        return np.asarray(np.log(np.maximum(values, FLOORS)))

    own = np.array([MODEL_SPREAD, LIFT_SPREAD, LIFT_SPREAD, CRACK_MODEL, PLATE_SPREAD])
    found: dict[str, dict[str, float]] = {name: {} for name in FIGURES}
    hotter = base
    known = part.learned.polymers.get(part.process.polymer)
    tied = tuple(n for n in known.names if n not in MOVED) if known is not None else ()
    for unknown in (*MOVED, *tied):
        if unknown == CRYSTALS and part.polymer.crystal_plateau.typical <= 0.0:
            continue
        there, where = moved(part, at, {unknown: 1.0})
        same, body = None, None
        if where is at:  # nothing that is moved of a polymer changes how it cools down
            same = demand_from(there, part, demand)
            body = body_from(there, part, demand.body) if same is None else same.body
            body = body or body_of(there, where, base.history)
        other = estimate_warp(there, where, body, with_bands=False, demand=same)
        hotter = other if unknown == PLATE else hotter
        for name, change in zip(FIGURES, figures(other) - figures(base), strict=True):
            found[name][unknown] = float(change)
    joint = part.polymer.joint_energy
    if JOINTS not in tied:
        found["crack"][JOINTS] = -0.5 * float(np.log(joint.high / joint.typical)) / Z90
    for name, error in zip(FIGURES, own, strict=True):
        if f"{MODEL}, {name}" not in tied:
            found[name][f"{MODEL}, {name}"] = float(error)
    return found, hotter


def _comes_off(part: PartToPrint, at: Conditions, opened: tuple[StripRun, StripRun]) -> bool:
    """Whether the cool-down peels at least half of the foot off along one direction."""
    return bool(max(opened[0].detached[-1], opened[1].detached[-1]) > 0.5)


def _opened(part: PartToPrint, demand: Demand, grip: AdhesionAlong) -> tuple[StripRun, StripRun]:
    """The strips along x and y that may let go of a grip; the bonded ones where they never would."""
    along_x, along_y = (
        _strip(part, demand.body, foot_grip(part, grip), along == 0, True)
        if bonded.lets_go(grip.strength, grip.fracture_energy)
        else bonded
        for along, bonded in enumerate(demand.strips)
    )
    return along_x, along_y


def estimate_warp(
    part: PartToPrint,
    at: Conditions,
    body: LayerMechanics | None = None,
    *,
    with_bands: bool = True,
    demand: Demand | None = None,
) -> WarpEstimate:
    """The whole quick estimate at one state; ``with_bands`` adds what each unknown does to its figures. ``body`` is
    ``body_of(part, at)`` and ``demand`` its ``bonded_demand`` where they are known already."""
    demand = demand or bonded_demand(part, body or body_of(part, at))
    grips = [grip_along(part, at, float(T), float(f)) for T, f in zip(at.corner_plate, first_factors(at), strict=True)]
    by_corner = [float(margins(demand, g).min()) for g in grips]
    weakest = int(np.argmin(by_corner))
    grip = grips[weakest]

    opened = _opened(part, demand, grip)
    margin, n = by_corner[weakest], part.blocks.bottom.size
    bent = max(0.0, float(opened[0].deflection[n - 1] + opened[1].deflection[n - 1]))
    printed = 0.9 * _corner_factor(part) * bent * towards_full(part, margin, PRINTED_FIT)
    released = (
        0.9 * float(opened[0].deflection[-1] + opened[1].deflection[-1]) * towards_full(part, margin, RELEASED_FIT)
    )
    capacity = np.maximum(grip.strength, np.sqrt(2.0 * demand.kn * grip.fracture_energy))
    failing = np.flatnonzero(capacity < demand.peel)
    blocks = part.blocks
    let_go = float(blocks.bottom[failing[0]]) if failing.size else float("nan")
    lift_by_height = (
        0.9
        * _corner_factor(part)
        * towards_full(part, margin, PRINTED_FIT)
        * np.maximum(opened[0].deflection[:n] + opened[1].deflection[:n], 0.0)
    )
    crack = crack_index(part, demand, grip.last)
    weak_layer = int(np.argmax(crack))
    soft_base, soft_landing = soft_heights(part, demand.body.history)
    tips = tips_margin(part, grip.last)
    height_of_part = part.sections.height
    tips_from = tips * height_of_part if tips < 1.0 else float("nan")
    strain = foot_strain(part, at, demand.body, abs(released))
    corners = tuple(
        CornerVerdict(c, float(T), m, printed * (1.0 if i == weakest else _share(by_corner[weakest], m)))
        for i, (c, T, m) in enumerate(zip(part.sections.corners, at.corner_plate, by_corner, strict=True))
    )
    height = 0.5 * (blocks.bottom + blocks.top)
    for array in (capacity, lift_by_height, height, crack, demand.peel, demand.healed):
        array.setflags(write=False)
    found = WarpEstimate(
        height=height, demand=demand.peel, capacity=capacity, landing=demand.body.history.landing,
        end_temperature=demand.body.history.end, healed=demand.healed, crack=crack,
        lift_by_height=lift_by_height, corners=corners, weakest=weakest, margin=margin, spreads={},
        let_go_height=let_go,
        let_go_layer=part.plan.layer_at(let_go + 1e-9, part.process.layer_height) if failing.size else 0,
        printed_lift=printed, released_lift=released,
        crack_index=float(crack[weak_layer]), crack_height=float(blocks.bottom[weak_layer]),
        comes_off=_comes_off(part, at, opened), pull=plate_pull(part, demand.body),
        soft_base=soft_base, soft_landing=soft_landing, tips_from=tips_from, tips_margin=tips, foot_strain=strain,
        softer=(strain, soft_base),
        contact=contact_temperature(demand.body.history.landing, part.polymer.deposition_temperature.typical),
        history=demand.body.history,
        shape_x=(opened[0].x, opened[0].released),
        shape_y=(opened[1].x, opened[1].released),
        notes=notes_of(part, margin, soft_base, soft_landing, tips_from),
    )  # fmt: skip
    if not with_bands:
        return found
    spreads, hotter = _spreads(part, at, found, demand)
    return replace(found, spreads=spreads, softer=(hotter.foot_strain, hotter.soft_base))


def first_factors(at: Conditions) -> Floats:
    """Grip (k,) of each corner over that in the nominal gap; 1 where nothing is known of the gap."""
    return np.ones(at.corner_plate.size) if at.corner_first is None else at.corner_first


def foot_grip(part: PartToPrint, grip: AdhesionAlong) -> AdhesionAlong:
    """A grip with the stiffness of what the foot stands on."""
    return AdhesionAlong(grip.strength, grip.fracture_energy, foundation_of(part))


def _share(worst: float, margin: float) -> float:
    """Lift of a better held corner relative to the worst one: none when it holds while the worst lets go."""
    if margin >= 1.0 > worst:
        return 0.0
    return worst / margin if margin > worst else 1.0  # two that do not grip at all lift alike
