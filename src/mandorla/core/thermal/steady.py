"""Steady state of the rig at its set points, with a band from what is not known about it."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.errors import SolverError
from mandorla.core.rig.consumers import Doing
from mandorla.core.rig.model import Rig
from mandorla.core.thermal import control, network_elimination, network_solver
from mandorla.core.thermal.ledger import Ledger
from mandorla.core.thermal.network import LOWER, UPPER, WALLS, OnPlate, Surroundings, surroundings, while_printing
from mandorla.core.thermal.parameter_samples import (
    RigUnknown,
    combined,
    covariance_of,
    rig_unknowns,
    sampled_rig,
    typical_sample,
    unevenness,
)
from mandorla.core.thermal.stack import EVEN, Floats, Lateral, Stack, build_stack

_TOLERANCE = 1e-3  # K, change between iterations
_ITERATIONS = 200
_KEPT: Final = 6  # machines whose ends of every unknown are kept, for their set points change more often than they do


@dataclass(frozen=True, slots=True)
class SteadyState:
    """Steady temperatures (K) and powers (W); ``cells`` (n,) from the print surface down.

    ``air`` is the upper air, ``lower_air`` that below the bed's level, ``sensed_air`` what the chamber's sensor shows, ``nodes``
    (15,) all of the chamber, ``plate`` the mean of the bed at the sensor's depth. ``flows`` W
    by way. ``reachable`` says whether the sensor meets its target within the power; ``iterations`` how it was found.
    """

    surface: float
    underside: float
    air: float
    lower_air: float
    sensed_air: float
    wall: float
    plate: float
    cells: Floats
    nodes: Floats
    flows: Ledger
    power: float
    chamber_power: float
    reachable: bool
    chamber_held: bool
    iterations: int

    @property
    def panel_inside(self) -> Floats:
        """Inner faces (6,) of the panels in K, in the order of ``SIDES``."""
        return self.nodes[WALLS : WALLS + 6]

    @property
    def panel_flow(self) -> Floats:
        """Heat (6,) in W that each panel lets through."""
        return self.flows.panels


def solve_printing(
    rig: Rig,
    bed_set: float,
    chamber_set: float,
    stack: Stack,
    over: OnPlate,
    chamber_limits: tuple[float, float] | None = None,
) -> SteadyState:
    """Steady state while it prints: ``over`` is what the print does to the machine (see :func:`solve_steady`)."""
    around = while_printing(surroundings(rig, stack.emissivity_top, stack.emissivity_bottom, Doing.PRINT), over)
    return solve_steady(rig, bed_set, chamber_set, stack, around, chamber_limits=chamber_limits)


@dataclass(frozen=True, slots=True)
class Band:
    """A figure with its 90 % range, in the unit of the figure."""

    value: float
    low: float
    high: float


def cells_of(stack: Stack, s: Surroundings) -> network_elimination.StackCells:
    """The stack's cells over the whole bed, as the kernels read them."""
    n = stack.dx.size
    face = 2.0 * stack.k / stack.dx * s.area
    whole = np.full(n, np.inf)
    return network_elimination.StackCells(
        stack.capacity * s.area, stack.conductance * s.area, stack.source, stack.sensor, stack.dx, stack.lateral,
        np.stack([stack.up, stack.down, stack.dx, stack.bracket]), np.stack([face, face, whole, whole]),
    )  # fmt: skip


def regulator_of(rig: Rig) -> control.Regulator:
    """Regulation, heaters and sensors of a rig as the kernels read them."""
    bed, c, k = rig.bed, rig.chamber, rig.bed.control
    supply = rig.limits.supply_power if rig.limits.shares else math.inf
    return control.Regulator(
        power_max=bed.heater.power * k.power_limit, resistance_coefficient=bed.heater.resistance_coefficient,
        chamber_max=c.heater_power if c.enclosed else 0.0, chamber_bias=c.sensor_bias, chamber_tau=c.sensor_time_constant,
        supply=supply, bias=bed.sensor.bias, tau=bed.sensor.time_constant, on_off=k.kind == "on-off",
        band=k.proportional_band, integral_time=k.integral_time, derivative_time=k.derivative_time, hysteresis=k.hysteresis,
        chamber_band=control.CHAMBER_BAND, chamber_integral=control.CHAMBER_INTEGRAL,
    )  # fmt: skip


def solve_steady(
    rig: Rig,
    bed_set: float,
    chamber_set: float,
    stack: Stack | None = None,
    around: Surroundings | None = None,
    *,
    bias: float | None = None,
    chamber_limits: tuple[float, float] | None = None,
) -> SteadyState:
    """Steady state with the sensor at ``bed_set`` and, where there is a chamber heater, its air at ``chamber_set`` (K).

    ``chamber_limits`` (W) replaces the range of the chamber heater, so that a chamber can be imposed that the rig does not
    have. Raises :class:`SolverError` when the fixed-point iteration does not converge.
    """
    bed = rig.bed
    stack = stack or build_stack(bed)
    s = around or surroundings(rig, stack.emissivity_top, stack.emissivity_bottom)
    limits = network_solver.HeaterLimits(*(chamber_limits or (0.0, rig.chamber.heater_power)))
    true_target = bed_set - (bed.sensor.bias if bias is None else bias)
    found = network_solver.steady(
        true_target, chamber_set, cells_of(stack, s), s, regulator_of(rig), limits, _TOLERANCE, _ITERATIONS
    )
    cells, nodes = found.cells, found.nodes
    if found.iterations <= 0 or not np.all(np.isfinite(cells)):
        raise SolverError(f"steady state of “{rig.name}” did not converge in {_ITERATIONS} iterations")
    for array in (cells, nodes, found.flows.panels):
        array.setflags(write=False)
    air = float(nodes[UPPER])
    mean = float(stack.sensor @ cells)
    at_sensor = (
        mean
        + float(stack.lateral.per_watt.sum()) * float(found.power)
        + float(stack.lateral.per_kelvin.sum()) * (mean - air)
    )
    shown = float(nodes[UPPER if s.sensor_upper else LOWER]) + rig.chamber.sensor_bias
    return SteadyState(
        surface=float(found.top),
        underside=float(found.bottom),
        air=float(nodes[UPPER]),
        lower_air=float(nodes[LOWER]),
        sensed_air=shown,
        wall=float(network_elimination.mean_wall(nodes, s)),
        plate=mean,
        cells=cells,
        nodes=nodes,
        flows=found.flows,
        power=float(found.power),
        chamber_power=float(found.chamber_power),
        reachable=abs(at_sensor - true_target) < 0.5,
        chamber_held=abs(shown - chamber_set) < 0.5,
        iterations=int(found.iterations),
    )


class SteadyBands(NamedTuple):
    """90 % ``bands`` of ``surface``, ``air`` and ``power``, and what both heaters' power changes by (W) at the low and the high
    end of each unknown, by its key."""

    bands: dict[str, Band]
    power_changes: dict[str, tuple[float, float]]


class _DrawnEnd(NamedTuple):
    """A machine with one unknown at an end of its range, as the kernels read it."""

    bias: float
    cells: network_elimination.StackCells
    surroundings: Surroundings
    regulator: control.Regulator


@lru_cache(maxsize=_KEPT)
def _drawn_ends(rig: Rig) -> tuple[tuple[RigUnknown, tuple[_DrawnEnd, _DrawnEnd]], ...]:
    """All unknowns of a rig, each with the machine at its low and at its high end."""

    def at(unknown: RigUnknown, z: float) -> _DrawnEnd:
        draw = typical_sample(rig)
        unknown.apply(draw, z)
        other, stack, s = sampled_rig(rig, draw)
        return _DrawnEnd(other.bed.sensor.bias, cells_of(stack, s), s, regulator_of(other))

    return tuple((unknown, (at(unknown, -1.0), at(unknown, 1.0))) for unknown in rig_unknowns(rig))


def steady_bands(
    rig: Rig, bed_set: float, chamber_set: float, base: SteadyState, lateral: Lateral = EVEN
) -> SteadyBands:
    """Bands of a steady state ``base``: one unknown at a time, combined (see parameter_samples.combined)."""
    of_power: dict[str, tuple[float, float]] = {}
    names = ("surface", "air", "power")
    changes: dict[str, list[tuple[float, float]]] = {name: [] for name in names}
    drawn = _drawn_ends(rig)
    for unknown, at_ends in drawn:
        ends = []
        for end in at_ends:
            found = network_solver.steady(
                bed_set - end.bias, chamber_set, end.cells._replace(lateral=lateral), end.surroundings, end.regulator,
                network_solver.HeaterLimits(0.0, rig.chamber.heater_power), _TOLERANCE, _ITERATIONS,
            )  # fmt: skip
            if found.iterations <= 0 or not np.all(np.isfinite(found.cells)):
                raise SolverError(
                    f"steady state of “{rig.name}” with another {unknown.name} did not converge in {_ITERATIONS} iterations"
                )
            ends.append((found.top, found.nodes[UPPER], found.power, found.power + found.chamber_power))
        for n, name in enumerate(names):
            value = getattr(base, name)
            changes[name].append((float(ends[0][n]) - value, float(ends[1][n]) - value))
        low, high = (float(end[3]) - base.power - base.chamber_power for end in ends)
        of_power[unknown.key] = (low, high)
    unknowns = [unknown for unknown, _ in drawn]
    covariance = covariance_of(rig, unknowns)
    bands = {}
    for name in names:
        value = getattr(base, name)
        down, up = combined(changes[name], covariance)
        if name == "air":
            place = unevenness(rig, value)
            down, up = float(np.hypot(down, place)), float(np.hypot(up, place))
        bands[name] = Band(value, value - down, value + up)
    return SteadyBands(bands, of_power)
