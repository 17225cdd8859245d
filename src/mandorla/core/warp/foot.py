"""The foot of a part and what acts on it: films' moment about the plate, softness, a nozzle that catches, what is to be noted."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

import numpy as np

from mandorla.core.warp.adhesion import OPENS, AdhesionAt
from mandorla.core.warp.condensed_plate import DEPTH
from mandorla.core.warp.history import History

if TYPE_CHECKING:
    from mandorla.core.warp.estimate import Conditions, LayerMechanics, PartToPrint

NOZZLE_FORCE: Final = 5.0  # N sideways when a nozzle catches on a curled edge; order of magnitude, 2 to 15
SOFT_ABOVE: Final = 8.0  # K above softening from which a layer counts as soft: just above, it is stiff for hours
ENDURES: Final = 0.4  # of the grip's strength that is left when it is pulled at every layer; an estimate, unchecked


def film_moment(part: PartToPrint, body: LayerMechanics) -> float:
    """Moment about the plate of the films' force along the part's longer side, as far up as it counts there, N m."""
    return moment_and_stiffness(part, body)[0]


def plate_pull(part: PartToPrint, body: LayerMechanics) -> float:
    """What acts on a loose plate: moment of the films over the root of the bending stiffness about the plate, N^(1/2).

    Peeling a held plate takes M²/(2 EI) (condensed_plate): it is this figure that a hold stands so many times.
    """
    moment, stiffness = moment_and_stiffness(part, body)
    return moment / float(np.sqrt(max(stiffness, 1e-12)))


def moment_and_stiffness(part: PartToPrint, body: LayerMechanics) -> tuple[float, float]:
    """Moment (N m) of the films about the plate, and bending stiffness (N m²) of what stands, along the longer side."""
    blocks = part.blocks
    middle, thickness = 0.5 * (blocks.bottom + blocks.top), blocks.top - blocks.bottom
    half = np.maximum(blocks.half_x, blocks.half_y)
    near = np.exp(-((middle / (2.0 * DEPTH * half)) ** 2)) * blocks.gross_area / (2.0 * half)
    moment = float((near * body.stress * thickness * middle).sum())
    return moment, float((near * body.stiff * (blocks.top**3 - blocks.bottom**3) / 3.0).sum())


def soft_heights(part: PartToPrint, history: History) -> tuple[float, float]:
    """Height (m) up to which the foot ends the print above softening, and from which layers land on soft polymer (NaN: none)."""
    blocks, soft = part.blocks, part.polymer.flow_temperature
    cold = np.flatnonzero(history.end < soft + SOFT_ABOVE)
    # the last layers are hot because they are fresh: the base ends at the first block that is not
    base = float(blocks.bottom[cold[0]]) if cold.size else float(blocks.top[-1])
    landing = np.flatnonzero(history.landing > soft)
    landing = landing[blocks.bottom[landing] >= base]
    return base, float(blocks.bottom[landing[0]]) if landing.size else float("nan")


def tips_margin(part: PartToPrint, grip: AdhesionAt) -> float:
    """Moment that the foot stands time and again over that of a catching nozzle and of the overhang's weight, at the part's top.

    Strength times the section modulus of the foot with what brim or raft add: a rigid foot on an elastic layer, its edge at the
    strength, of which ``ENDURES`` is left after thousands of layers.
    """
    reach, sections = part.process.reach, part.sections
    sides = sorted(2.0 * (float(half[0]) + reach) for half in (part.blocks.half_x, part.blocks.half_y))
    # bending over the short side; a hollow foot carries by its share of the area
    share = min(1.0, float(sections.area[0]) / (4.0 * float(part.blocks.half_x[0] * part.blocks.half_y[0])))
    stands = ENDURES * grip.strength * share * sides[1] * sides[0] ** 2 / 6.0
    weight = part.plan.solid_area * sections.dz * part.polymer.density.typical * 9.81
    away = np.hypot(
        sections.x_extent.mean(axis=1) - sections.x_extent[0].mean(),
        sections.y_extent.mean(axis=1) - sections.y_extent[0].mean(),
    )
    lean = float((weight * away).sum()) if weight.shape == away.shape else 0.0
    return stands / (NOZZLE_FORCE * sections.height + lean)


def foot_strain(part: PartToPrint, at: Conditions, body: LayerMechanics, free: float) -> float:
    """Strain by which the soft layers of the foot are pressed out until the print ends.

    Pressure over three times the viscosity (Trouton), which falls with temperature by the WLF law from the polymer's at the
    softening
    temperature. Pressed are they by the part's weight and by what the films press the middle down with while they pull the ends up,
    8 M/L² of a strip (Timoshenko), no further than the part would bend by itself (``free``, m).
    """
    p, blocks = part.polymer, part.blocks
    T = max(at.plate_rest, float(at.corner_plate.max()))
    soft, above = p.flow_temperature, T - p.flow_temperature
    if above <= 0.0:
        return 0.0
    viscosity = p.softening_viscosity.typical * 10.0 ** (-17.44 * above / (51.6 + above))
    cold = body.history.end < soft
    base = float(blocks.bottom[np.argmax(cold)]) if cold.any() else float(blocks.top[-1])
    base = max(base, part.process.layer_height)
    weight = (
        p.density.typical * 9.81 * float((blocks.area * (blocks.top - blocks.bottom)).sum()) / float(blocks.area[0])
    )
    length = 2.0 * float(max(blocks.half_x[0], blocks.half_y[0]))
    width = float(blocks.gross_area[0]) / length
    pull = 8.0 * film_moment(part, body) / (length**2 * width)
    time = body.history.duration / (3.0 * viscosity)
    return float(weight * time + min(pull * time, free / base))


def notes_of(
    part: PartToPrint, margin: float, soft_base: float, soft_landing: float, tips_from: float
) -> tuple[str, ...]:
    """What is to be noted beside the figures of an estimate."""
    notes = []
    if 1.0 < margin < OPENS:
        notes.append(
            f"below a hold margin of about {OPENS:g} the grip opens at the corners without failing, and the lift grows"
        )
    if soft_base > 0.0:
        notes.append(
            "the foot stays above its softening until the print ends: it eases the stress, and swells if it is much"
        )
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
