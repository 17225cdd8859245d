"""Steady state of the rig at its set points, with a band from what is not known about it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from mandorla.core.errors import SolverError
from mandorla.core.materials.library_data import bed_materials
from mandorla.core.rig.model import Bed, Rig
from mandorla.core.thermal import kernels
from mandorla.core.thermal.network import AIR, WALL_IN, Surroundings, surroundings
from mandorla.core.thermal.stack import Floats, Stack, build_stack

# What is not known about an unverified rig, each taken as a 90 % range (docs/theory.md, "Bands").
SENSOR_UNKNOWN = 2.0  # K, bias and place of an unchecked thermistor
CONVECTION_UNKNOWN = 0.15  # of h, the scatter of the published correlations
JOINT_UNKNOWN = (0.5, 2.0)  # factor on every contact resistance
_TOLERANCE = 1e-3  # K, change between iterations
_ITERATIONS = 80


@dataclass(frozen=True, slots=True)
class SteadyState:
    """Steady temperatures (K) and powers (W); ``cells`` (n,) from the print surface down.

    ``reachable`` says whether the sensor meets its target within the power; ``iterations`` how it was found.
    """

    surface: float
    underside: float
    air: float
    wall: float
    cells: Floats
    power: float
    chamber_power: float
    reachable: bool
    chamber_held: bool
    iterations: int


@dataclass(frozen=True, slots=True)
class Band:
    """A figure with its 90 % range, in the unit of the figure."""

    value: float
    low: float
    high: float


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
    power_max = min(bed.heater.power, rig.limits.supply_power)
    T, top, bottom, power, chamber_power, count = kernels.steady(
        true_target, chamber_set, stack.dx, stack.k, stack.conductance, stack.source, stack.sensor, s,
        power_max, low, high, _TOLERANCE, _ITERATIONS,
    )  # fmt: skip
    if count <= 0 or not np.all(np.isfinite(T)):
        raise SolverError(f"steady state of “{rig.name}” did not converge in {_ITERATIONS} iterations")
    cells = T[: stack.dx.size].copy()
    cells.setflags(write=False)
    n = stack.dx.size
    at_sensor = float(stack.sensor @ cells)
    return SteadyState(
        surface=float(top),
        underside=float(bottom),
        air=float(T[n + AIR]),
        wall=float(T[n + WALL_IN]),
        cells=cells,
        power=float(power),
        chamber_power=float(chamber_power),
        reachable=abs(at_sensor - true_target) < 0.5,
        chamber_held=abs(float(T[n + AIR]) - chamber_set) < 0.5,
        iterations=int(count),
    )


def _conductivity_variants(bed: Bed) -> Iterator[list[float]]:
    """Every layer's conductivity at its low and high end, one at a time (library layers only)."""
    for index, layer in enumerate(bed.layers):
        if layer.own is not None:
            continue
        k = bed_materials()[layer.material].conductivity
        if k.relative_spread * layer.thickness / k.typical < 1e-6:
            continue  # less than 1e-6 m²K/W: no effect that could be read
        for end in (k.low, k.high):
            scale = [1.0] * len(bed.layers)
            scale[index] = end / k.typical
            yield scale


def steady_bands(rig: Rig, bed_set: float, chamber_set: float, base: SteadyState) -> dict[str, Band]:
    """90 % bands of ``surface``, ``air`` and ``power``: one unknown at a time, combined as root of the sum of squares."""
    stack = build_stack(rig.bed)
    s = surroundings(rig, stack.emissivity_top, stack.emissivity_bottom)
    top = rig.bed.layers[0]
    cases: list[SteadyState] = []
    for scale in _conductivity_variants(rig.bed):
        cases.append(solve_steady(rig, bed_set, chamber_set, build_stack(rig.bed, k_scale=scale), s))
    for factor in JOINT_UNKNOWN:
        cases.append(solve_steady(rig, bed_set, chamber_set, build_stack(rig.bed, joint_scale=factor), s))
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
