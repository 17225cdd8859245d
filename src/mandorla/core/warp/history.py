"""Print history of temperature: a layer-wise column with births.

rho cp A dT/dt = d/dz(k A dT/dz) - h(z) P(z) (T - T_around(z)) for the printed polymer, every new block of layers landing at the
deposition temperature, the foot coupled to the plate's surface through a contact resistance. What the walls lose their heat to is
the chamber, near the plate its plume and its radiation as well: the first centimetres cool less. LayerBlocks are printed with
graded sub-steps inside their time. Where a block holds several layers, the heat that has come in one pulse has had more
time to leave than that of the layers would have had; the sum of the pulses on a half-space that loses heat at its surface
(Carslaw and Jaeger, 2nd ed., 14.2) gives the difference back.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final, NamedTuple

import numpy as np
from scipy.special import erfcx

from mandorla.core.compiled import compiled
from mandorla.core.materials.library_data import Polymer
from mandorla.core.part.mesh import Floats
from mandorla.core.part.print_time import RAFT_SOLID, PrintPlan
from mandorla.core.part.sections import Sections
from mandorla.core.thermal.correlations import STEFAN_BOLTZMANN, h_forced, h_mixed, h_vertical
from mandorla.core.warp.along_print import AlongPrint

CONTACT: Final = 1e-4  # m²K/W, printed foot on a plate surface
FAN_JET: Final = 3.0  # m/s along the part at full part-cooling fan
AWAY_FROM_JET: Final = 0.1  # of that reaches the sides of the part and the plate beside it
_PART_LENGTH: Final = 0.1  # m that a draft has flown over the part
_JET_LENGTH: Final = 0.03  # m, the fan's footprint on the part
_EMISSIVITY: Final = 0.9
_SUBSTEPS: Final = 6
FIRST_LAYERS: Final = 0.001  # m, over which the plate has its first layers' set point
_PULSES: Final = 25
# the air over a hot plate: its excess over the chamber's air just above the boundary layer as a share of the plate's excess, and
# the
# height over which that dies away; order of magnitude for a plume that mixes (0.3 to 0.7, 8 to 25 mm), less where a fan stirs it
PLUME: Final = 0.5
STIRRED: Final = 0.2
PLUME_HEIGHT: Final = 0.015
COLUMN: Final = 120  # blocks of the column: within 1 K of single layers up to 500 layers (docs/theory.md)


@dataclass(frozen=True, slots=True)
class LayerBlocks:
    """Groups of layers from the plate up, all arrays (n,): edges ``bottom`` and ``top`` m, polymer ``area`` m², ``perimeter``
    m, ``stiffness`` fraction, half lengths ``half_x``/``half_y`` m, ``time`` s to print, ``layers`` layers in the block."""

    bottom: Floats
    top: Floats
    area: Floats
    gross_area: Floats
    perimeter: Floats
    stiffness: Floats
    half_x: Floats
    half_y: Floats
    time: Floats
    layers: Floats


@dataclass(frozen=True, slots=True)
class History:
    """Temperatures (n,) in K by block: ``landing`` of the substrate when the next layer comes, ``end`` when the print ends;
    ``age`` s from a block's birth to the end of the print, ``duration`` s."""

    landing: Floats
    end: Floats
    age: Floats
    duration: float


def make_layer_blocks(sections: Sections, plan: PrintPlan, layer_height: float, most: int) -> LayerBlocks:
    """Group slabs into at most ``most`` blocks of nearly equal height that end where the section jumps by more than 20 %.

    Of more jumps than a third of ``most``, the largest ones are kept.
    """
    n = sections.z.size
    height = sections.height
    change = np.abs(np.diff(sections.area)) / np.maximum(np.maximum(sections.area[1:], sections.area[:-1]), 1e-12)
    jumps = np.flatnonzero(change > 0.2) + 1
    jumps = jumps[np.argsort(-change[jumps - 1], kind="stable")][: most // 3]
    even = max(1, min(most - jumps.size, int(np.ceil(height / layer_height))))
    cuts = np.unique(np.concatenate([np.round(np.linspace(0, n, even + 1)).astype(int), jumps]))
    count = np.diff(cuts)

    def mean(values: Floats) -> Floats:
        return np.asarray(np.add.reduceat(values, cuts[:-1]) / count)

    bottom, top = cuts[:-1] * sections.dz, cuts[1:] * sections.dz
    layers = (top - bottom) / layer_height
    return LayerBlocks(
        bottom=bottom,
        top=top,
        area=mean(plan.solid_area),
        gross_area=mean(sections.area),
        perimeter=mean(sections.perimeter),
        stiffness=mean(plan.stiffness_fraction),
        half_x=0.5 * mean(np.ptp(sections.x_extent, axis=1)),
        half_y=0.5 * mean(np.ptp(sections.y_extent, axis=1)),
        time=mean(plan.layer_time) * layers,
        layers=layers,
    )


class SurfaceLoss(NamedTuple):
    """Heat transfer of a surface in W/m²K: by ``convection`` and by ``radiation``."""

    convection: float
    radiation: float

    @property
    def total(self) -> float:
        """Both together."""
        return self.convection + self.radiation


@compiled
def side_loss(chamber: float, fan: float, draft: float = 0.0, shield: bool = False) -> SurfaceLoss:
    """Losses of the part's sides: natural convection, a tenth of the fan's jet, a draft (m/s); radiation.

    A shield keeps the draft off and puts a second layer of air and a second exchange of radiation in series with the first.
    """
    warm = chamber + 15.0
    natural = h_vertical(warm, chamber, 0.05)
    radiation = 4.0 * _EMISSIVITY * STEFAN_BOLTZMANN * (0.5 * (warm + chamber)) ** 3
    if shield:
        natural, radiation, draft = 0.5 * natural, 0.5 * radiation, 0.0
    jet = h_forced(warm, chamber, AWAY_FROM_JET * FAN_JET * fan, _JET_LENGTH)
    blown = max(jet, h_forced(warm, chamber, draft, _PART_LENGTH))
    return SurfaceLoss(h_mixed(natural, blown), radiation)


@compiled
def top_loss(chamber: float, fan: float, draft: float = 0.0, shield: bool = False) -> SurfaceLoss:
    """Losses of the layer being printed: natural convection, the fan's jet or a draft (m/s); radiation."""
    warm = chamber + 40.0
    natural = h_vertical(warm, chamber, 0.05)
    radiation = 4.0 * _EMISSIVITY * STEFAN_BOLTZMANN * (0.5 * (warm + chamber)) ** 3
    jet = h_forced(warm, chamber, FAN_JET * fan, _JET_LENGTH)
    blown = max(jet, 0.0 if shield else h_forced(warm, chamber, draft, _PART_LENGTH))
    return SurfaceLoss(h_mixed(natural, blown), radiation)


class BlockLosses(NamedTuple):
    """Losses (n,) in W/m²K while each block is printed: of its sides and of its top, by convection and by radiation."""

    side_convection: Floats
    side_radiation: Floats
    top_convection: Floats
    top_radiation: Floats


@compiled
def block_losses(chamber: Floats, fan: Floats, draft: Floats, shield: bool) -> BlockLosses:
    """The losses of blocks whose ``chamber`` (n,) K, ``fan`` (n,) 0-1 and ``draft`` (n,) m/s are their own."""
    n = chamber.size
    found = BlockLosses(np.empty(n), np.empty(n), np.empty(n), np.empty(n))
    for i in range(n):
        if i > 0 and chamber[i] == chamber[i - 1] and fan[i] == fan[i - 1] and draft[i] == draft[i - 1]:
            for values in found:
                values[i] = values[i - 1]
            continue
        side, top = side_loss(chamber[i], fan[i], draft[i], shield), top_loss(chamber[i], fan[i], draft[i], shield)
        found.side_convection[i], found.side_radiation[i] = side.convection, side.radiation
        found.top_convection[i], found.top_radiation[i] = top.convection, top.radiation
    return found


def plate_view(height: Floats, bare: float) -> Floats:
    """View factor of a vertical wall's strip at ``height`` (n,) m to a plate that goes on for ``bare`` (m) before it.

    An element on one of two perpendicular planes with a common edge that is long (Howell, A Catalog of Radiation Heat Transfer
    Configuration Factors, B-3): (1 - z/sqrt(z² + D²))/2.
    """
    return np.asarray(0.5 * (1.0 - height / np.sqrt(height**2 + bare**2)))


def plume(height: Floats, fan: Floats | float, draft: Floats | float, shield: bool) -> Floats:
    """Excess of the air at ``height`` (n,) m over the chamber's air, as a share of the plate's excess."""
    stirred = np.minimum(1.0, np.asarray(fan) + (0.0 if shield else np.asarray(draft) / 0.5))
    return np.asarray((PLUME + (STIRRED - PLUME) * stirred) * np.exp(-height / PLUME_HEIGHT))


@dataclass(frozen=True, slots=True)
class PrintClimate:
    """What a part is printed in: surface of the plate for the first millimetre (``plate_first``) and after it (``plate_rest``) and
    the ``chamber`` in K; the ``fan`` (0-1), which blows from the height ``fan_from`` (m) on; a ``draft`` (m/s), which always does
    unless a ``shield`` keeps it off; the thickness (m) of a ``raft`` between foot and plate; ``bare`` (m) of the plate that goes on
    beyond the part on either side, which its walls see. ``along`` the print plate and air depart from these, and a draft
    changes (None: they stay; ``plate_rest`` and ``chamber`` are what it departs from). The first layers land at
    ``deposited_first`` (K; None: as all)."""

    plate_first: float
    plate_rest: float
    chamber: float
    fan: float
    draft: float = 0.0
    shield: bool = False
    fan_from: float = 0.0
    raft: float = 0.0
    bare: float = 0.1
    along: AlongPrint | None = None
    deposited_first: float | None = None


class _ByBlock(NamedTuple):
    """The ``plate`` and the ``chamber`` in K and the ``draft`` in m/s while each block is printed, (n,)."""

    plate: Floats
    chamber: Floats
    draft: Floats


def _by_block(blocks: LayerBlocks, climate: PrintClimate) -> _ByBlock:
    along, one = climate.along, np.ones(blocks.bottom.size)
    if along is None:
        plate = np.where(blocks.bottom < FIRST_LAYERS - 1e-9, climate.plate_first, climate.plate_rest)
        return _ByBlock(plate, climate.chamber * one, climate.draft * one)
    return _ByBlock(
        climate.plate_rest + along.over(along.plate, blocks.time), climate.chamber + along.over(along.air, blocks.time),
        along.draft(blocks.time),
    )  # fmt: skip


class GrowingColumn(NamedTuple):
    """Blocks from the plate up, (n,): height ``dz`` m, polymer ``area`` and ``gross`` area m², ``perimeter`` m, ``time`` s to
    print. While each is printed: losses ``side`` and ``top`` in W/m²K of all that stands, the ``plate`` and the ``chamber`` in K.
    What sides and top lose their heat to lies between both: ``near`` and ``lid`` are the shares 0-1 of the plate that they
    feel. ``deposition`` is the temperature (K) that each lands at."""

    dz: Floats
    area: Floats
    gross: Floats
    perimeter: Floats
    time: Floats
    side: Floats
    top: Floats
    plate: Floats
    chamber: Floats
    near: Floats
    lid: Floats
    deposition: Floats


class ColumnBounds(NamedTuple):
    """What a column is made of and stands on: heat capacity J/m³K and conductivity W/mK of the polymer; the foot's ``contact``
    m²K/W."""

    density_heat: float
    conductivity: float
    contact: float


@compiled
def grow(column: GrowingColumn, bounds: ColumnBounds, substeps: int) -> tuple[Floats, Floats]:
    """Print block after block.

    Parameters
    ----------
    column, bounds
        The blocks, and what they grow from and into.
    substeps
        Graded steps within a block's time.

    Returns
    -------
    tuple of arrays (n,)
        The top temperature before the next block lands, and the profile at the end, in K.
    """
    dz, area, k = column.dz, column.area, bounds.conductivity
    n = dz.size
    T = column.chamber.copy()
    before = np.empty(n)
    ratio, rhs = np.empty(n), np.empty(n)
    # of each block: heat capacity J/K, what it has of sides m², and the way to the one below, or to the plate, in W/K
    stores, skin, down = bounds.density_heat * area * dz, column.perimeter * dz, np.empty(n)
    down[0] = area[0] / (bounds.contact + 0.5 * dz[0] / k)
    for i in range(1, n):
        down[i] = k * min(area[i - 1], area[i]) / (0.5 * (dz[i - 1] + dz[i]))
    grows = 2.0
    shares = np.empty(substeps)
    total = 0.0
    for q in range(substeps):
        shares[q] = grows**q
        total += shares[q]
    for j in range(n):
        T[j] = column.deposition[j]
        plate, chamber = column.plate[j], column.chamber[j]
        hotter = plate - chamber
        # open cells let the whole outline radiate and convect, not the polymer's own area only
        lid = 1.0 / (1.0 / (column.top[j] * column.gross[j]) + 0.5 * dz[j] / (k * area[j]))
        for q in range(substeps):
            per_second = total / (column.time[j] * shares[q])
            for i in range(j + 1):
                c, side = stores[i] * per_second, column.side[j] * skin[i]
                d = c + side + down[i]
                r = c * T[i] + side * (chamber + hotter * column.near[i])
                if i < j:
                    d += down[i + 1]
                else:
                    d += lid
                    r += lid * (chamber + hotter * column.lid[i])
                if i == 0:
                    r += down[0] * plate
                else:
                    d -= down[i] * ratio[i - 1]
                    r += down[i] * rhs[i - 1]
                inverse = 1.0 / d
                rhs[i] = r * inverse
                if i < j:
                    ratio[i] = down[i + 1] * inverse
            T[j] = rhs[j]
            for i in range(j - 1, -1, -1):
                T[i] = rhs[i] + ratio[i] * T[i + 1]
        before[j] = T[j]
    return before, T


def pulse_deficit(beta: Floats) -> Floats:
    """Sum over equal pulses minus the continuous supply, (n,), on a half-space that loses heat at its surface.

    ``beta`` (n,) is h/k times the square root of diffusivity times the time between pulses. Unit: one pulse's temperature
    rise times the thickness it is spread over, over the square root of diffusivity times that time. Without loss it is
    zeta(1/2)/sqrt(pi) = -0.824.
    """
    k = np.arange(1.0, _PULSES + 1.0)
    each = 1.0 / np.sqrt(np.pi * k) - beta[:, None] * erfcx(beta[:, None] * np.sqrt(k))
    end = _PULSES + 0.5
    left = erfcx(beta * np.sqrt(end))
    until = (1.0 - left) / beta
    # later pulses are their own mean but for the slope at the end over 24 (Euler and Maclaurin)
    slope = beta**2 / np.sqrt(np.pi * end) - 0.5 / np.sqrt(np.pi * end**3) - beta**3 * left
    return np.asarray(each.sum(axis=1) - until + slope / 24.0)


def print_history(blocks: LayerBlocks, polymer: Polymer, climate: PrintClimate, substeps: int = _SUBSTEPS) -> History:
    """Temperatures of a part's blocks through its print."""
    density_heat = polymer.density.typical * polymer.specific_heat.typical
    k = polymer.conductivity.typical
    there, shield = _by_block(blocks, climate), climate.shield
    fan = np.where(blocks.bottom >= climate.fan_from - 1e-9, climate.fan, 0.0)
    losses = block_losses(there.chamber, fan, there.draft, shield)
    h_side, h_top = losses.side_convection + losses.side_radiation, losses.top_convection + losses.top_radiation
    middle = 0.5 * (blocks.bottom + blocks.top)
    air = plume(middle, fan, there.draft, shield)
    near = (losses.side_convection * air + losses.side_radiation * plate_view(middle, climate.bare)) / h_side
    deposition = np.full(blocks.bottom.size, polymer.deposition_temperature.typical)
    if climate.deposited_first is not None:
        deposition[blocks.bottom < FIRST_LAYERS - 1e-9] = climate.deposited_first
    dz = blocks.top - blocks.bottom
    before, end = grow(
        GrowingColumn(
            dz, blocks.area, blocks.gross_area, blocks.perimeter, blocks.time, h_side, h_top, there.plate, there.chamber, near,
            losses.top_convection * air / h_top, deposition,
        ),
        ColumnBounds(density_heat, k, CONTACT + climate.raft / (RAFT_SOLID * k)),
        substeps,
    )  # fmt: skip
    root = np.sqrt(k / density_heat)
    layer_time = blocks.time / blocks.layers
    excess = np.zeros(dz.size)
    loss = h_top * blocks.gross_area / (k * blocks.area)
    for sign, time in ((1.0, layer_time), (-1.0, blocks.time)):
        excess += sign * pulse_deficit(loss * root * np.sqrt(time)) * np.sqrt(time)
    excess *= (deposition - before) * (dz / blocks.time) / root
    landing = np.minimum(before + np.where(blocks.layers > 1.0, excess, 0.0), deposition)
    clock = np.cumsum(blocks.time)
    age = clock[-1] - clock + 0.5 * blocks.time
    for array in (landing, end, age):
        array.setflags(write=False)
    return History(landing, end, age, float(clock[-1]))


def on_layer_blocks(history: History, column: LayerBlocks, blocks: LayerBlocks) -> History:
    """The history of a fine column as the means over the thickness of coarser blocks that end at the same height."""
    edges = np.concatenate([[0.0], column.top])
    thickness = np.diff(edges)

    def mean(values: Floats) -> Floats:
        integral = np.concatenate([[0.0], np.cumsum(values * thickness)])
        found = np.asarray(np.diff(np.interp(np.append(blocks.bottom, blocks.top[-1]), edges, integral)))
        found /= blocks.top - blocks.bottom
        found.setflags(write=False)
        return found

    return History(mean(history.landing), mean(history.end), mean(history.age), history.duration)
