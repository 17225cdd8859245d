"""What is not known about an unverified rig, and what it does to a heat-up: one unknown at a time, and sampled together.

Every unknown is a 90 % range on both sides of its typical value: library ranges of conductivities, joints and the emissivity on
top, the sensor's bias and place, the scatter of convection correlations, the leakage. A draw is a point in units of those ranges:
-1 the low end, +1 the high end; samples are normal with 1.645 standard deviations at the ends (Latin hypercube by quantiles).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Final

import numpy as np
from scipy.stats import norm, qmc

from mandorla.core.materials.library_data import bed_materials
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.runtime import RunContext
from mandorla.core.thermal import control, kernels
from mandorla.core.thermal.heatup import HeatUp, course_of, ready_since, run_network
from mandorla.core.thermal.network import surroundings
from mandorla.core.thermal.stack import Floats, build_stack
from mandorla.core.thermal.steady import CONVECTION_UNKNOWN, SENSOR_UNKNOWN

LEAKAGE_UNKNOWN: Final = 0.5  # of the stated leakage, either way: nobody measures it
SAMPLES: Final = 48
_SEED: Final = 5
_AT_NINETY: Final = 1.6448536269514722  # standard deviations at the ends of a 90 % range


@dataclass(slots=True)
class Draw:
    """One possible rig: factors on conductivities and joints (L,), on convection and leakage, shift of the bias (K), emissivity."""

    k: list[float]
    joint: list[float]
    convection: float
    leakage: float
    bias: float
    emissivity: float


@dataclass(frozen=True, slots=True)
class Unknown:
    """An unknown by name, and how a draw takes it at ``z`` (-1 low end, 1 high end)."""

    name: str
    apply: Callable[[Draw, float], None]


def _between(low: float, high: float, z: float) -> float:
    """A factor about 1 with the ends ``low`` and ``high`` at -1 and 1, geometric so that it stays positive."""
    return float((high if z > 0 else low) ** abs(z))


def unknowns_of(rig: Rig) -> tuple[Unknown, ...]:
    """All unknowns of a rig, in the order of its layers."""
    found: list[Unknown] = []

    def layer_k(i: int, low: float, high: float) -> Callable[[Draw, float], None]:
        return lambda d, z: d.k.__setitem__(i, _between(low, high, z))

    def layer_joint(i: int, low: float, high: float) -> Callable[[Draw, float], None]:
        return lambda d, z: d.joint.__setitem__(i, _between(low, high, z))

    def set_field(name: str, value: Callable[[float], float]) -> Callable[[Draw, float], None]:
        return lambda d, z: setattr(d, name, value(z))

    layers = rig.bed.layers
    for i, layer in enumerate(layers):
        ends = layer.conductivity_range()
        if 0.5 * (ends[1] - ends[0]) * layer.thickness / layer.properties().conductivity > 1e-6:
            found.append(Unknown(f"conductivity of {layer.name}", layer_k(i, *ends)))
        if i < len(layers) - 1 and layer.contact_resistance > 0.0:
            found.append(Unknown(f"joint below {layer.name}", layer_joint(i, *layer.joint_range())))
    found.append(Unknown("sensor, bias and place", set_field("bias", lambda z: SENSOR_UNKNOWN * z)))
    found.append(Unknown("convection", set_field("convection", lambda z: 1.0 + CONVECTION_UNKNOWN * z)))
    if layers[0].own is None:
        e = bed_materials()[layers[0].material].emissivity
        base = e.typical
        found.append(
            Unknown(
                f"emissivity of {layers[0].name}",
                set_field("emissivity", lambda z: min(1.0, base * _between(e.low / base, e.high / base, z))),
            )
        )
    if rig.chamber.enclosed and rig.chamber.air_changes > 0.0:
        ends = (1.0 - LEAKAGE_UNKNOWN, 1.0 + LEAKAGE_UNKNOWN)
        found.append(Unknown("leakage", set_field("leakage", lambda z: _between(*ends, z))))
    return tuple(found)


@dataclass(frozen=True, slots=True)
class CurveBands:
    """90 % bands of a heat-up on the times ``time`` (m,) s: lower and upper (2, m) of each curve by name, K and W.

    ``ready`` (s) low, median, high of the ready time; ``never`` the share of samples that are not ready in time. ``one_at_a_time``
    K of the surface at the end by unknown, low and high; ``by_sum`` its root-sum-of-squares band, to compare with the sampled one.
    """

    time: Floats
    curves: dict[str, Floats]
    ready: tuple[float, float, float]
    never: float
    one_at_a_time: tuple[tuple[str, float, float], ...]
    by_sum: tuple[float, float]
    samples: int


def _march(rig: Rig, settings: Settings, heat: HeatUp, draw: Draw, steps: Floats) -> dict[str, Floats]:
    """Curves (m+1,) of one draw."""
    stack = replace(build_stack(rig.bed, k_scale=draw.k, joint_scale=draw.joint), lateral=heat.stack.lateral)
    s = surroundings(rig, draw.emissivity, stack.emissivity_bottom)
    s = s._replace(convection=draw.convection, leak_flow=s.leak_flow * draw.leakage)
    bed = rig.bed
    sensor = bed.sensor.model_copy(update={"bias": bed.sensor.bias + draw.bias})
    other = rig.model_copy(update={"bed": bed.model_copy(update={"sensor": sensor})})
    start = rig.start_temperature
    record, cells, _ = run_network(
        other, course_of(rig, settings, steps), steps, stack, s, np.full(stack.dx.size, start), control.cold_state(start),
        kernels.nothing_broken(stack.dx.size),
    )  # fmt: skip
    surface, _ = heat.spread.moved(stack, record, cells)
    return {
        "surface": surface, "reading": record[:, kernels.READING], "air": record[:, kernels.AIR_T],
        "frame": record[:, kernels.FRAME_T], "power": record[:, kernels.POWER],
    }  # fmt: skip


def _typical(rig: Rig) -> Draw:
    count = len(rig.bed.layers)
    return Draw([1.0] * count, [1.0] * count, 1.0, 1.0, 0.0, rig.bed.layers[0].properties().emissivity)


def curve_bands(
    rig: Rig,
    settings: Settings,
    criteria: Criteria,
    heat: HeatUp,
    run: RunContext | None = None,
    samples: int = SAMPLES,
) -> CurveBands:
    """March the quick model through every unknown's ends and through a sample of all together.

    The grid's and the step's own error (below 0.1 K, docs/theory.md) is added to the bands of temperatures.
    """
    run = run or RunContext()
    unknowns = unknowns_of(rig)
    end = min(float(heat.time[-1]), heat.shown_until(settings.soak_time))
    steps = np.diff(heat.time[heat.time <= end + 1e-6])
    time = np.concatenate([[0.0], np.cumsum(steps)])
    rows: list[tuple[str, float, float]] = []
    total = 2 * len(unknowns) + samples
    for n, unknown in enumerate(unknowns):
        ends = []
        for z in (-1.0, 1.0):
            draw = _typical(rig)
            unknown.apply(draw, z)
            ends.append(float(_march(rig, settings, heat, draw, steps)["surface"][-1]))
        rows.append((unknown.name, ends[0], ends[1]))
        run.checkpoint(2.0 * (n + 1) / total, "one unknown at a time")
    points = qmc.LatinHypercube(len(unknowns), rng=np.random.default_rng(_SEED)).random(samples)
    at = norm.ppf(np.clip(points, 1e-6, 1 - 1e-6)) / _AT_NINETY
    kept: dict[str, list[Floats]] = {}
    ready = []
    for i in range(samples):
        draw = _typical(rig)
        for unknown, value in zip(unknowns, at[i], strict=True):
            unknown.apply(draw, float(value))
        curves = _march(rig, settings, heat, draw, steps)
        for name, curve in curves.items():
            kept.setdefault(name, []).append(curve)
        on_off = rig.bed.control.kind == "on-off"
        ready.append(
            ready_since(time, curves["reading"], curves["surface"], settings.bed_first, criteria, on_off=on_off)
        )
        run.checkpoint((2.0 * len(unknowns) + i + 1) / total, "all unknowns together")
    bands = {}
    for name, curve_list in kept.items():
        edges = np.quantile(np.stack(curve_list), [0.05, 0.95], axis=0)
        own = 0.0 if name == "power" else GRID_ERROR
        bands[name] = np.stack([edges[0] - own, edges[1] + own])
        bands[name].setflags(write=False)
    base = float(heat.at(end, heat.surface))
    down = float(np.sqrt(sum(min(0.0, min(a, b) - base) ** 2 for _, a, b in rows)))
    up = float(np.sqrt(sum(max(0.0, max(a, b) - base) ** 2 for _, a, b in rows)))
    times = np.array(ready)
    there = times[np.isfinite(times)]
    low, middle, high = (float(v) for v in np.quantile(there, [0.05, 0.5, 0.95])) if there.size else (np.nan,) * 3
    rows.sort(key=lambda row: -abs(row[2] - row[1]))
    return CurveBands(
        time, bands, (low, middle, high), 1.0 - there.size / samples, tuple(rows), (base - down, base + up), samples
    )


GRID_ERROR: Final = 0.1  # K, worst of grid and step together in the warm-up (tests/core/test_heatup.py)
