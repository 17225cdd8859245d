"""Lateral spread of the surface temperature: a two-dimensional fin over the bed's outline.

The plate conducts in its plane with the sum of k t over the layers below the first poor joint; it loses heat through the
stack to the surface, where the local convection coefficient varies as the -1/4 power of the distance from the edge
(physics of a natural-convection boundary layer that starts at the edge), through the underside, the edges and the brackets.
The heater supplies its flux over its own zones, cut fractionally at cell borders. A quarter is solved where the bed is symmetric.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from scipy.linalg import cho_solve_banded, cholesky_banded
from scipy.ndimage import distance_transform_edt

from mandorla.core.compiled import compiled
from mandorla.core.rig.bed import Bed
from mandorla.core.rig.model import Rig
from mandorla.core.thermal.bed_raster import Plan, draft_shape, edge_shape, in_plan, is_symmetric, plan_of
from mandorla.core.thermal.correlations import h_forced, h_horizontal
from mandorla.core.thermal.lateral_decay_modes import (
    capacity_with,
    delays,
    evening_modes,
    followed,
    lateness,
    resistances,
)
from mandorla.core.thermal.network import (
    FRAME,
    TO_BOTTOM,
    TO_EDGE,
    TO_TOP,
    UPPER,
    WAYS,
    Outside,
    Surroundings,
    conductances,
    surroundings,
)
from mandorla.core.thermal.network_elimination import seen_by
from mandorla.core.thermal.network_run import NetworkRun
from mandorla.core.thermal.stack import EVEN, Floats, Lateral, Layering, Stack, build_stack, cut_layers, links
from mandorla.core.thermal.steady import SteadyState

QUADRANT = 24  # cells along each half side: spread within 0.05 K of 48 (docs/theory.md)


@compiled
def between_cells(x: Floats, y: Floats, values: Floats, points: Floats) -> Floats:
    """Values (ny, nx) on cell centres ``x`` (nx,), ``y`` (ny,) at points (m, 2), linear between them, those beyond the outermost
    as at them."""
    found = np.empty(points.shape[0])
    for k in range(found.size):
        px = min(max(points[k, 0], x[0]), x[x.size - 1])
        py = min(max(points[k, 1], y[0]), y[y.size - 1])
        i = min(max(int(np.searchsorted(x, px)) - 1, 0), x.size - 2)
        j = min(max(int(np.searchsorted(y, py)) - 1, 0), y.size - 2)
        u, v = (px - x[i]) / (x[i + 1] - x[i]), (py - y[j]) / (y[j + 1] - y[j])
        lower = (1.0 - u) * values[j, i] + u * values[j, i + 1]
        upper = (1.0 - u) * values[j + 1, i] + u * values[j + 1, i + 1]
        found[k] = (1.0 - v) * lower + v * upper
    return found


@dataclass(frozen=True, slots=True)
class LateralConduction:
    """Shape of the surface map: ``theta`` (ny, nx) = (T - T_ref)/(T_centre - T_ref), dimensionless, on cell centres.

    ``x`` (nx,), ``y`` (ny,) in m from the middle of the bed. The shape belongs to one state, but hardly changes with the
    temperatures, so it serves a whole window of settings. The one-dimensional stack is the mean of the bed: ``at_centre`` and
    ``at_sensor`` are what the plate has over it in the middle and at the sensor, ``local`` how much better the middle's surface
    follows its plate than the mean does (it loses less), ``through`` what of the plate's rise comes through to the surface.
    """

    x: Floats
    y: Floats
    theta: Floats
    at_centre: Lateral
    at_sensor: Lateral
    local: float
    through: float

    def at(self, points: Floats) -> Floats:
        """Shape factor at points (m, 2) in bed coordinates (middle is 0, 0)."""
        return between_cells(self.x, self.y, self.theta, np.ascontiguousarray(points, dtype=np.float64))

    def centred(self, state: SteadyState) -> SteadyState:
        """A one-dimensional steady state with its stack moved from the mean to the middle of the bed."""
        rise = state.plate - state.air
        excess = float(self.at_centre.per_watt.sum()) * state.power + float(self.at_centre.per_kelvin.sum()) * rise
        factor = 1.0 + excess / rise if abs(rise) > 0.1 else 1.0
        cells = state.air + factor * (state.cells - state.air)
        cells.setflags(write=False)
        return replace(
            state, surface=state.air + self.local * (state.surface - state.air + self.through * excess), cells=cells,
            underside=state.air + factor * (state.underside - state.air),
        )  # fmt: skip

    def moved(self, stack: Stack, time: Floats, run: NetworkRun) -> tuple[Floats, Floats]:
        """Surface (m,) and cells (m, n) in the middle of the bed in K, from a march and its times (m,) s.

        What the middle of the plate has over the mean reaches the other cells as late as they answer to their plate.
        """
        air = run.air
        rise = run.cells @ stack.sensor - air
        excess = run.lag_power @ self.at_centre.per_watt + run.lag_rise @ self.at_centre.per_kelvin
        local = 1.0 + (self.local - 1.0) * np.clip(rise / 20.0, 0.0, 1.0)
        excess = followed(excess, time, delays(stack))
        surface = air + local * (run.top - air + self.through * excess[:, 0])
        return surface, run.cells + excess

    def now(self, stack: Stack, run: NetworkRun) -> float:
        """Surface in the middle of the bed (K) at the end of a march, without what reaches it late (see :meth:`moved`)."""
        air = float(run.air[-1])
        rise = float(run.cells[-1] @ stack.sensor) - air
        excess = float(run.lag_power[-1] @ self.at_centre.per_watt + run.lag_rise[-1] @ self.at_centre.per_kelvin)
        local = 1.0 + (self.local - 1.0) * min(max(rise / 20.0, 0.0), 1.0)
        return air + local * (float(run.top[-1]) - air + self.through * excess)

    def surface(self, centre: float, reference: float) -> Floats:
        """The surface map (ny, nx) in K for a centre and a surrounding temperature in K."""
        return reference + (centre - reference) * self.theta


def fin_solver(
    x_edges: Floats, y_edges: Floats, sheet: Floats | float, loss: Floats, rim: Floats
) -> Callable[[Floats], Floats]:
    """A conducting sheet as finite volumes, factored: what it returns turns sources (ny, nx) W/m² into temperatures (ny, nx).

    ``x_edges`` (nx+1,), ``y_edges`` (ny+1,) m; ``sheet`` W/K, the sum of k times thickness, (ny, nx) or one for all; ``loss``
    (ny, nx) W/m²K to zero; ``rim`` (ny, nx) W/K lost to zero at the edge. Nothing passes the borders. Cells without sheet and
    without loss stay at zero.
    """
    dx, dy = np.diff(x_edges), np.diff(y_edges)
    conducts = np.broadcast_to(np.asarray(sheet, dtype=np.float64), (dy.size, dx.size))
    if dy.size < dx.size:  # the shorter way first: a narrow band
        turned = fin_solver(y_edges, x_edges, conducts.T, loss.T, rim.T)
        return lambda source: turned(source.T).T
    area = dy[:, None] * dx[None, :]
    ny, nx = area.shape
    diagonal = loss * area + rim
    diagonal = diagonal + (diagonal <= 0.0) * (conducts <= 0.0)
    with np.errstate(divide="ignore"):
        half_x, half_y = 0.5 * dx[None, :] / conducts, 0.5 * dy[:, None] / conducts
    along_x, along_y = np.zeros((ny, nx)), np.zeros((ny, nx))  # to the next cell in x and in y
    along_x[:, :-1] = dy[:, None] / (half_x[:, 1:] + half_x[:, :-1])
    along_y[:-1, :] = dx[None, :] / (half_y[1:, :] + half_y[:-1, :])
    diagonal = diagonal + along_x + along_y
    diagonal[:, 1:] += along_x[:, :-1]
    diagonal[1:, :] += along_y[:-1, :]
    band = np.zeros((nx + 1, ny * nx))  # the matrix's lower diagonals, symmetric and positive definite
    band[0] = diagonal.ravel()
    band[1] -= along_x.ravel()
    band[nx] -= along_y.ravel()
    factored = cholesky_banded(band, overwrite_ab=True, lower=True, check_finite=False)
    return lambda source: np.asarray(
        cho_solve_banded((factored, True), (source * area).ravel(), overwrite_b=True, check_finite=False).reshape(
            ny, nx
        )
    )


@dataclass(frozen=True, slots=True)
class Columns:
    """Resistances (ny, nx) in m²K/W from the plate's middle to the bare faces above and below in every column of the plan, and
    the sheet's conductance (ny, nx) in W/K."""

    above: Floats
    below: Floats
    sheet: Floats


def columns_of(cut: Layering, plan: Plan, middle: int) -> Columns:
    """Walk from the cell ``middle`` up and down each column until nothing follows."""
    link = links(cut, plan.cover, plan.gap, plan.lifted)
    n, ny, nx = cut.dx.size, *plan.heat.shape

    def walk(cells: range, step: int) -> Floats:
        total, going = np.zeros((ny, nx)), np.ones((ny, nx), dtype=bool)
        last = 0.5 * cut.dx[middle] / cut.k[middle] * np.ones((ny, nx))
        for i in cells:
            g = link[i] if step > 0 else link[i - 1]
            going &= g > 0.0
            with np.errstate(divide="ignore"):
                total = np.where(going, total + 1.0 / g, total)
            last = np.where(going, 0.5 * cut.dx[i + step] / cut.k[i + step], last)
        return np.asarray(total + last)

    sheet = np.einsum("n,nij->ij", cut.k * cut.dx, plan.cover[cut.layer])
    return Columns(walk(range(middle, 0, -1), -1), walk(range(middle, n - 1), 1), sheet)


@lru_cache(maxsize=16)
def _plan_for(bed: Bed, cells: int, directed: bool) -> tuple[Plan, Floats]:
    quarter = is_symmetric(bed, directed)
    plan = plan_of(bed, cells if quarter else round(1.6 * cells), quarter=quarter)
    return plan, edge_shape(bed, plan)


def directed_draft(rig: Rig) -> bool:
    """Whether air blows on the bed from one side."""
    return not rig.chamber.enclosed and rig.draft > 0.0 and rig.room.draft_from != "around"


def local_convection(rig: Rig, plan: Plan, natural: Floats, surface: float, air: float, s: Surroundings) -> Floats:
    """Convection on the top (ny, nx) relative to its mean, at a surface and an air temperature (K)."""
    if not directed_draft(rig):
        return natural
    forced = h_forced(surface, air, s.air_speed, s.flow_length) ** 3
    share = forced / (forced + h_horizontal(surface, air, s.length, True) ** 3)
    return np.asarray((1.0 - share) * natural + share * draft_shape(rig.bed, plan, rig.room.draft_from))


def unfolded(piece: Floats, times: int) -> Floats:
    """The whole bed's map from its piece (ny, nx): mirrored where it is a quarter."""
    if times == 1:
        return piece
    return np.asarray(np.block([[piece[::-1, ::-1], piece[::-1, :]], [piece[:, ::-1], piece]]))


def lateral_spread(
    rig: Rig, state: SteadyState, stack: Stack | None = None, cells: int = QUADRANT
) -> LateralConduction:
    """Solve the fin equation of the bed at a steady state and return the shape of the surface map."""
    bed = rig.bed
    stack = stack or build_stack(bed)
    s = surroundings(rig, stack.emissivity_top, stack.emissivity_bottom)
    g = conductances(
        state.surface,
        state.underside,
        float(np.mean(state.cells)),
        state.nodes,
        Outside(rig.room_temperature, 0.0, 0.0),
        s,
    )
    ways, seen = np.zeros(WAYS), np.zeros(WAYS)
    seen_by(g, ways, state.nodes, seen)
    plan, natural = _plan_for(in_plan(bed), cells, directed_draft(rig))
    cut = Layering(stack.dx, stack.k, np.empty(0), stack.layer, stack.depth, cut_layers(bed).joint)
    plate = int(np.argmax(stack.k * stack.dx))
    index = np.flatnonzero(stack.layer == stack.layer[plate])
    middle = int(index[index.size // 2])
    column = columns_of(cut, plan, middle)
    there = column.sheet > 0.0

    air_top = g.bed[TO_TOP, UPPER]
    h_air = air_top / s.area * local_convection(rig, plan, natural, state.surface, state.air, s)
    h_wall = (ways[TO_TOP] - air_top) / s.area
    T_wall = (ways[TO_TOP] * seen[TO_TOP] - air_top * state.nodes[UPPER]) / max(ways[TO_TOP] - air_top, 1e-12)
    h_top = h_air + h_wall
    T_top = (h_air * state.nodes[UPPER] + h_wall * T_wall) / h_top
    u_top = there / (column.above + 1.0 / h_top)
    u_bottom = there / (column.below + s.area / ways[TO_BOTTOM])
    h_edge = ways[TO_EDGE] / s.perimeter
    round_corner = 0.5 * np.pi * resistances(stack, middle)  # a quarter circle from the plate's face to the edge
    rim = float((h_edge * stack.dx / (1.0 + h_edge * round_corner)).sum()) * plan.rim
    around = u_top * T_top + u_bottom * seen[TO_BOTTOM] + rim * seen[TO_EDGE] / plan.cell_area
    brackets = plan.bracket.sum(axis=0)
    around = around + brackets * state.nodes[FRAME] / plan.cell_area
    flux = plan.heat / plan.cell_area
    even = column.sheet / column.sheet.sum() / (plan.cell_area * plan.times)
    respond = fin_solver(plan.ex, plan.ey, column.sheet, u_top + u_bottom, rim + brackets)
    passive, active, uneven = respond(around), respond(flux), respond(flux - even)
    x, y = plan.centres
    j, i = int(np.searchsorted(y, bed.sensor.y - 1e-9)), int(np.searchsorted(x, bed.sensor.x - 1e-9))
    j, i = min(j, y.size - 1), min(i, x.size - 1)
    power = (float(state.cells[middle]) - passive[j, i]) / active[
        j, i
    ]  # the plate is as warm there as in the 1-D stack
    plate_map = passive + power * active
    surface = T_top + (plate_map - T_top) / (1.0 + column.above * h_top)
    reference = float(np.mean(T_top))
    centre = surface[0, 0] if plan.times == 4 else _middle(surface)
    flat = abs(centre - reference) <= 0.1
    piece = np.ones_like(surface) if flat else (surface - reference) / (centre - reference)
    if not there.all():
        nearest = distance_transform_edt(~there, return_distances=False, return_indices=True)
        piece = piece[tuple(nearest)]
    full = unfolded(piece, plan.times)
    if plan.times == 4:
        x, y = np.concatenate([-x[::-1], x]), np.concatenate([-y[::-1], y])
    for array in (full, x, y):
        array.setflags(write=False)
    air = float(state.nodes[UPPER])
    share = column.sheet / column.sheet.sum()
    mean_plate, mean_uneven = float((share * plate_map).sum()), float((share * uneven).sum())
    if abs(mean_plate - air) < 0.1 or abs(float(state.cells[middle]) - air) < 0.1:
        return LateralConduction(x, y, full, EVEN, EVEN, 1.0, 1.0)
    uneven = (uneven - mean_uneven) * there
    losses = (plate_map - mean_plate) * there - power * uneven

    def even_out(source: Floats) -> Floats:
        answer = respond(source)
        return np.asarray((answer - float((share * answer).sum())) * there)

    sudden = (flux - even - float((share * (flux - even)).sum())) * there
    shapes, slowness = evening_modes(np.stack([uneven, losses]), sudden, even_out, plan.cell_area)
    lags = np.maximum(capacity_with(stack, state, plate) * slowness, 1e-3)
    by_power = np.tensordot(shapes, uneven) * plan.cell_area
    by_rise = np.tensordot(shapes, losses) * plan.cell_area / (mean_plate - air)

    late = lateness(stack, plate)

    def at(place: Callable[[Floats], float]) -> Lateral:
        there = np.array([place(shape) for shape in shapes])
        return Lateral(there * by_power, there * by_rise, lags, late)

    in_middle = (lambda m: float(m[0, 0])) if plan.times == 4 else _middle
    plate_centre = in_middle(plate_map)
    through = in_middle(1.0 / (1.0 + column.above * h_top))
    even = (
        (state.surface - air) / (float(state.cells[middle]) - air) * (mean_plate - air)
    )  # the mean's surface over the air
    local = (float(centre) - air) / (even + through * (plate_centre - mean_plate))
    return LateralConduction(x, y, full, at(in_middle), at(lambda m: float(m[j, i])), local, through)


def _middle(surface: Floats) -> float:
    """Mean of the four cells about the middle."""
    ny, nx = surface.shape
    return float(surface[(ny - 1) // 2 : ny // 2 + 1, (nx - 1) // 2 : nx // 2 + 1].mean())
