"""Lateral spread of the surface temperature: a two-dimensional fin over the bed's outline.

The plate conducts in its plane with the sum of k t over the layers below the first poor joint; it loses heat through the
stack to the surface, where the local convection coefficient varies as the -1/4 power of the distance from the edge
(physics of a natural-convection boundary layer that starts at the edge), and through the underside. The heater supplies a
uniform flux over its own rectangle, cut fractionally at cell borders. One quadrant is solved.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy.interpolate import RegularGridInterpolator
from scipy.sparse import coo_array, csc_array
from scipy.sparse.linalg import splu

from mandorla.core.rig.model import Rig
from mandorla.core.thermal.network import conductances, surroundings
from mandorla.core.thermal.stack import Floats, Stack, build_stack
from mandorla.core.thermal.steady import SteadyState

_QUADRANT = 24  # cells along each half side: spread within 0.05 K of 48 (docs/theory.md)


@dataclass(frozen=True, slots=True)
class Spread:
    """Shape of the surface map: ``theta`` (ny, nx) = (T - T_ref)/(T_centre - T_ref), dimensionless, on cell centres.

    ``x`` (nx,), ``y`` (ny,) in m from the middle of the bed. ``gain`` is what the centre's rise above the air is to that of the
    one-dimensional stack: the centre loses less than the mean. The shape belongs to one state, but hardly changes with the
    temperatures, so it serves a whole window of settings.
    """

    x: Floats
    y: Floats
    theta: Floats
    lookup: RegularGridInterpolator
    gain: float

    def at(self, points: Floats) -> Floats:
        """Shape factor at points (m, 2) in bed coordinates (middle is 0, 0)."""
        limits = np.array([self.x[-1], self.y[-1]])
        inside = np.clip(points, -limits, limits)
        return np.asarray(self.lookup(inside[:, ::-1]), dtype=np.float64)

    def centred(self, state: SteadyState) -> SteadyState:
        """A one-dimensional steady state with its surface moved from the mean to the centre."""
        return replace(state, surface=state.air + self.gain * (state.surface - state.air))

    def surface(self, centre: float, reference: float) -> Floats:
        """The surface map (ny, nx) in K for a centre and a surrounding temperature in K."""
        return reference + (centre - reference) * self.theta


def _covered(edges: Floats, half_width: float) -> Floats:
    """Share of each cell that lies below ``half_width``."""
    return np.clip((half_width - edges[:-1]) / np.diff(edges), 0.0, 1.0)


def fin_map(
    x_edges: Floats, y_edges: Floats, sheet: float, loss: Floats, sources: tuple[Floats, ...], rim: float
) -> list[Floats]:
    """Temperatures (ny, nx) of a conducting sheet, one for each source: finite volumes, sparse direct solve.

    ``x_edges`` (nx+1,), ``y_edges`` (ny+1,) m from the axes of symmetry; ``sheet`` W/K, the sum of k times thickness; ``loss``
    (ny, nx) W/m²K to zero; ``sources`` (ny, nx) W/m²; ``rim`` W/m·K lost to zero at the two outer edges.
    """
    dx, dy = np.diff(x_edges), np.diff(y_edges)
    area = dy[:, None] * dx[None, :]
    ny, nx = area.shape
    at = np.arange(ny * nx).reshape(ny, nx)
    diagonal = loss * area
    diagonal[:, -1] += rim * dy
    diagonal[-1, :] += rim * dx
    along_x = sheet * dy[:, None] / (0.5 * (dx[1:] + dx[:-1]))[None, :]
    along_y = sheet * dx[None, :] / (0.5 * (dy[1:] + dy[:-1]))[:, None]
    rows, cols, values = [at.ravel()], [at.ravel()], [diagonal.ravel()]
    for first, second, link in ((at[:, :-1], at[:, 1:], along_x), (at[:-1, :], at[1:, :], along_y)):
        a, b, g = first.ravel(), second.ravel(), link.ravel()
        rows += [a, b, a, b]
        cols += [a, b, b, a]
        values += [g, g, -g, -g]
    where = (np.concatenate(rows), np.concatenate(cols))
    matrix = csc_array(coo_array((np.concatenate(values), where), shape=(ny * nx, ny * nx)))
    rhs = np.column_stack([(source * area).ravel() for source in sources])
    solution = splu(matrix, permc_spec="MMD_AT_PLUS_A").solve(rhs)
    return [solution[:, i].reshape(ny, nx) for i in range(len(sources))]


def lateral_spread(rig: Rig, state: SteadyState, stack: Stack | None = None, cells: int = _QUADRANT) -> Spread:
    """Solve the fin equation of one quadrant at a steady state and return the shape of the surface map."""
    bed = rig.bed
    stack = stack or build_stack(bed)
    s = surroundings(rig, stack.emissivity_top, stack.emissivity_bottom)
    mean = float(np.mean(state.cells))
    g = conductances(
        state.surface, state.underside, mean, state.air, state.air, state.wall, state.wall, rig.room_temperature, s
    )
    plate = int(np.argmax(stack.k * stack.dx))
    index = np.flatnonzero(stack.layer == stack.layer[plate])
    middle = int(index[index.size // 2])
    joints = 1.0 / stack.conductance
    r_top = float(np.sum(joints[:middle])) + 0.5 * stack.dx[0] / stack.k[0]
    r_bottom = float(np.sum(joints[middle:])) + 0.5 * stack.dx[-1] / stack.k[-1]
    sheet = float(np.sum(stack.k * stack.dx))

    ex = np.linspace(0.0, bed.width / 2, cells + 1)
    ey = np.linspace(0.0, bed.depth / 2, cells + 1)
    cx, cy = 0.5 * (ex[1:] + ex[:-1]), 0.5 * (ey[1:] + ey[:-1])
    dx, dy = ex[1], ey[1]
    away = np.minimum(bed.width / 2 - cx[None, :], bed.depth / 2 - cy[:, None])
    local = away**-0.25
    local /= local.mean()
    h_air = g.top_air / s.area * local
    h_wall = g.top_wall / s.area
    h_top = h_air + h_wall
    T_top = (h_air * state.air + h_wall * state.wall) / h_top
    h_under = (g.bottom_air + g.bottom_wall) / s.area
    T_under = (g.bottom_air * state.air + g.bottom_wall * state.wall) / (g.bottom_air + g.bottom_wall)
    u_top = 1.0 / (r_top + 1.0 / h_top)
    u_bottom = 1.0 / (r_bottom + 1.0 / h_under)
    edge = (g.edge_air + g.edge_wall) * s.height / s.perimeter  # W/K per metre of rim
    T_edge = (g.edge_air * state.air + g.edge_wall * state.wall) / (g.edge_air + g.edge_wall)
    around = u_top * T_top + u_bottom * T_under
    around[:, -1] += edge * T_edge / dx
    around[-1, :] += edge * T_edge / dy
    heated = _covered(ey, bed.heater.depth / 2)[:, None] * _covered(ex, bed.heater.width / 2)[None, :]
    passive, active = fin_map(ex, ey, sheet, u_top + u_bottom, (around, heated), edge)
    wanted = float(state.cells[middle])  # the plate's middle, where the sensor sits in plan
    flux = (wanted - passive[0, 0]) / active[0, 0]
    plate_map = passive + flux * active
    surface = T_top + (plate_map - T_top) / (1.0 + r_top * h_top)
    reference = float(np.mean(T_top))
    quarter = (
        (surface - reference) / (surface[0, 0] - reference)
        if abs(surface[0, 0] - reference) > 0.1
        else (np.ones_like(surface))
    )
    full = np.block([[quarter[::-1, ::-1], quarter[::-1, :]], [quarter[:, ::-1], quarter]])
    x, y = np.concatenate([-cx[::-1], cx]), np.concatenate([-cy[::-1], cy])
    for array in (full, x, y):
        array.setflags(write=False)
    rise = state.surface - state.air
    gain = (float(surface[0, 0]) - state.air) / rise if abs(rise) > 0.1 else 1.0
    return Spread(x, y, full, RegularGridInterpolator((y, x), full), gain)
