"""Steady state of the rig at its set points, with a band from what is not known about it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from mandorla.core.errors import SolverError
from mandorla.core.materials.library_data import bed_materials
from mandorla.core.rig.bed import Bed
from mandorla.core.rig.model import Rig
from mandorla.core.thermal import chain, control, kernels
from mandorla.core.thermal.network import LOWER, UPPER, WALLS, Surroundings, surroundings
from mandorla.core.thermal.stack import EVEN, Floats, Lateral, Stack, build_stack

# What is not known about an unverified rig, each taken as a 90 % range (docs/theory.md, "Bands").
SENSOR_UNKNOWN = 2.0  # K, bias and place of an unchecked thermistor
CONVECTION_UNKNOWN = 0.15  # of h, the scatter of the published correlations
_TOLERANCE = 1e-3  # K, change between iterations
_ITERATIONS = 80


@dataclass(frozen=True, slots=True)
class SteadyState:
    """Steady temperatures (K) and powers (W); ``cells`` (n,) from the print surface down.

    ``air`` is the upper air, ``lower_air`` that below the bed's level, ``sensed_air`` what the chamber's sensor shows, ``lumps``
    (15,) all of the chamber, ``plate`` the mean of the bed at the sensor's depth. ``flows`` (kernels.LEDGER,) W
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
    lumps: Floats
    flows: Floats
    power: float
    chamber_power: float
    reachable: bool
    chamber_held: bool
    iterations: int

    @property
    def panel_inside(self) -> Floats:
        """Inner faces (6,) of the panels in K, in the order of ``SIDES``."""
        return self.lumps[WALLS : WALLS + 6]

    @property
    def panel_flow(self) -> Floats:
        """Heat (6,) in W that each panel lets through."""
        return self.flows[kernels.E_PANELS :]


@dataclass(frozen=True, slots=True)
class Band:
    """A figure with its 90 % range, in the unit of the figure."""

    value: float
    low: float
    high: float


def cells_of(stack: Stack, s: Surroundings) -> chain.Cells:
    """The stack's cells over the whole bed, as the kernels read them."""
    n = stack.dx.size
    face = 2.0 * stack.k / stack.dx * s.area
    whole = np.full(n, np.inf)
    return chain.Cells(
        stack.capacity * s.area, stack.conductance * s.area, stack.source, stack.sensor, stack.lateral,
        np.stack([stack.up, stack.down, stack.dx, stack.bracket]), np.stack([face, face, whole, whole]),
    )  # fmt: skip


def regulator_of(rig: Rig) -> control.Regulator:
    """Regulation, heaters and sensors of a rig as the kernels read them."""
    bed, c, k = rig.bed, rig.chamber, rig.bed.control
    return control.Regulator(
        power_max=bed.heater.power * k.power_limit, resistance_coefficient=bed.heater.resistance_coefficient,
        chamber_max=c.heater_power if c.enclosed else 0.0, chamber_bias=c.sensor_bias, chamber_tau=c.sensor_time_constant,
        supply=rig.limits.supply_power, bias=bed.sensor.bias, tau=bed.sensor.time_constant, on_off=k.kind == "on-off",
        band=k.proportional_band, integral_time=k.integral_time, derivative_time=k.derivative_time, hysteresis=k.hysteresis,
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
    low, high = chamber_limits or (0.0, rig.chamber.heater_power)
    true_target = bed_set - (bed.sensor.bias if bias is None else bias)
    cells, lumps, top, bottom, power, chamber_power, count, flows = kernels.steady(
        true_target, chamber_set, stack.dx, cells_of(stack, s), s, regulator_of(rig), low, high, _TOLERANCE, _ITERATIONS
    )
    if count <= 0 or not np.all(np.isfinite(cells)):
        raise SolverError(f"steady state of “{rig.name}” did not converge in {_ITERATIONS} iterations")
    for array in (cells, lumps, flows):
        array.setflags(write=False)
    air = float(lumps[UPPER])
    mean = float(stack.sensor @ cells)
    at_sensor = mean + stack.lateral.per_watt * float(power) + stack.lateral.per_kelvin * (mean - air)
    shown = float(lumps[UPPER if s.sensor_upper else LOWER]) + rig.chamber.sensor_bias
    return SteadyState(
        surface=float(top),
        underside=float(bottom),
        air=float(lumps[UPPER]),
        lower_air=float(lumps[LOWER]),
        sensed_air=shown,
        wall=float(chain.mean_wall(lumps, s)),
        plate=mean,
        cells=cells,
        lumps=lumps,
        flows=flows,
        power=float(power),
        chamber_power=float(chamber_power),
        reachable=abs(at_sensor - true_target) < 0.5,
        chamber_held=abs(shown - chamber_set) < 0.5,
        iterations=int(count),
    )


def conductivity_variants(bed: Bed) -> Iterator[list[float]]:
    """Every layer's conductivity at its low and high end, one at a time: factors (L,)."""
    for index, layer in enumerate(bed.layers):
        ends = layer.conductivity_range()
        if 0.5 * (ends[1] - ends[0]) * layer.thickness / layer.properties().conductivity < 1e-6:
            continue  # less than 1e-6 m²K/W: no effect that could be read
        for end in ends:
            scale = [1.0] * len(bed.layers)
            scale[index] = end
            yield scale


def joint_variants(bed: Bed) -> Iterator[list[float]]:
    """Every joint at its low and high end, one at a time: factors (L,) on the contact resistances."""
    for index, layer in enumerate(bed.layers[:-1]):
        if layer.contact_resistance <= 0.0:
            continue
        for factor in layer.joint_range():
            scale = [1.0] * len(bed.layers)
            scale[index] = factor
            yield scale


def steady_bands(
    rig: Rig, bed_set: float, chamber_set: float, base: SteadyState, lateral: Lateral = EVEN
) -> dict[str, Band]:
    """90 % bands of ``surface``, ``air`` and ``power``: one unknown at a time, combined as root of the sum of squares."""

    def varied(**scales: Any) -> Stack:
        return replace(build_stack(rig.bed, **scales), lateral=lateral)

    stack = varied()
    s = surroundings(rig, stack.emissivity_top, stack.emissivity_bottom)
    top = rig.bed.layers[0]
    cases: list[SteadyState] = []
    for scale in conductivity_variants(rig.bed):
        cases.append(solve_steady(rig, bed_set, chamber_set, varied(k_scale=scale), s))
    for scale in joint_variants(rig.bed):
        cases.append(solve_steady(rig, bed_set, chamber_set, varied(joint_scale=scale), s))
    for factor in (1.0 - CONVECTION_UNKNOWN, 1.0 + CONVECTION_UNKNOWN):
        cases.append(solve_steady(rig, bed_set, chamber_set, stack, s._replace(convection=factor)))
    for shift in (-SENSOR_UNKNOWN, SENSOR_UNKNOWN):
        cases.append(solve_steady(rig, bed_set, chamber_set, stack, s, bias=rig.bed.sensor.bias + shift))
    if top.own is None:
        e = bed_materials()[top.material].emissivity
        for end in (e.low, e.high):
            around = surroundings(rig, end, stack.emissivity_bottom)
            cases.append(solve_steady(rig, bed_set, chamber_set, stack, around))
    bands = {}
    for name in ("surface", "air", "power"):
        value = getattr(base, name)
        changes = np.array([getattr(case, name) - value for case in cases])
        down = float(np.sqrt(np.sum(np.minimum(changes, 0.0) ** 2)))
        up = float(np.sqrt(np.sum(np.maximum(changes, 0.0) ** 2)))
        bands[name] = Band(value, value - down, value + up)
    return bands
